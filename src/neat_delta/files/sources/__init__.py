"""Files that are elsewhere: one file a sort of address, behind one small protocol (open, stat, list, and put).

Nothing of it is loaded before an address is given; so the terms of the command at work stand here, as what makes them.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import contextmanager

TYPE_CHECKING = False
if TYPE_CHECKING:
    from neat_delta.files.sources.base import Terms

__all__ = ["AGES", "TERMS", "fetching", "not_older_than"]

AGES: list[float] = []
"""How many seconds old a catalogue, sheet or list may be at most; the last counts, and where there is none, any age
does.
"""

TERMS: list[Callable[[], Terms]] = []
"""What gives the terms on which files are fetched; the last counts."""


@contextmanager
def fetching(terms: Callable[[], Terms]) -> Iterator[None]:
    """While it lasts, files are fetched on these terms, whichever thread asks."""
    TERMS.append(terms)
    try:
        yield
    finally:
        TERMS.remove(terms)


@contextmanager
def not_older_than(seconds: float) -> Iterator[None]:
    """While it lasts, a catalogue, sheet or list that is older is refused, wherever it is."""
    AGES.append(seconds)
    try:
        yield
    finally:
        AGES.remove(seconds)
