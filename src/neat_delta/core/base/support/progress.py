"""How far a long step is: said by what does the work to whoever shows it, if anybody does.

Rule: nothing that comes of the work depends on it.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from contextlib import contextmanager
from contextvars import ContextVar
from dataclasses import dataclass
from typing import Literal, TypeVar

__all__ = ["Progress", "Unit", "counting", "shown_by", "with_progress"]

Unit = Literal["bytes", "rows"]

ROWS_AT_ONCE = 1_000
"""After so many rows it is said how many there were."""


@dataclass(frozen=True, slots=True)
class Progress:
    """How much is `done` of a `total`, of what it is about: a file, say."""

    what: str
    unit: Unit
    done: int
    total: int


SHOW: ContextVar[Callable[[Progress], None] | None] = ContextVar("show", default=None)


@contextmanager
def shown_by(show: Callable[[Progress], None]) -> Iterator[None]:
    """What is done meanwhile is said to `show`."""
    before = SHOW.set(show)
    try:
        yield
    finally:
        SHOW.reset(before)


def counting(what: str, unit: Unit, total: int) -> Callable[[int], None]:
    """What is to be called, as the work goes on, with how much is done.

    >>> said = []
    >>> with shown_by(said.append):
    ...     count = counting("live.csv", "bytes", 30)
    ...     count(10)
    ...     count(30)
    >>> [progress.done for progress in said]
    [10, 30]
    """
    show = SHOW.get()

    def count(done: int) -> None:
        if show is not None:
            show(Progress(what, unit, done, total))

    return count


Row = TypeVar("Row")


def with_progress(rows: Iterable[Row], what: str, total: int) -> Iterator[Row]:
    """Rows as they come; it is said now and then how many there were."""
    count, number = counting(what, "rows", total), 0
    for number, row in enumerate(rows, 1):
        yield row
        if number % ROWS_AT_ONCE == 0:
            count(number)
    count(number)
