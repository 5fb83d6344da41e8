"""Who works on the pieces of a file and on the parts of a table: threads of this process, unless other processes were
engaged for it.

Rule: who works decides how long it takes, and nothing that comes of it.
"""

from __future__ import annotations

from collections import deque
from collections.abc import Callable, Generator, Iterable, Iterator
from concurrent.futures import Future, ThreadPoolExecutor
from contextlib import contextmanager
from typing import Protocol, TypeVar

import polars as pl

from neat_delta.core.base.support.background import submit

__all__ = ["THREADS", "Workers", "engaged", "engaging"]

Piece = TypeVar("Piece")
Result = TypeVar("Result")


class Workers(Protocol):
    """Who works on pieces. Those that are `elsewhere` are other processes, which run the same program and reach the
    same files: what they are to do is a function of a module, or one with some arguments given, and comes to the same
    whoever does it, and however often.
    """

    @property
    def count(self) -> int:
        """How many pieces they work on at once."""
        ...

    @property
    def elsewhere(self) -> bool:
        """Whether they have nothing of this process at hand, and read files themselves."""
        ...

    def submit(self, work: Callable[[], Result]) -> Callable[[], Result]:
        """Begin with some work; calling what comes back waits for its result, and raises what the work raised."""
        ...

    def map(
        self, work: Callable[[Piece], Result], pieces: Iterable[Piece], name: Callable[[Piece], str] | None = None
    ) -> Generator[Result]:
        """What becomes of each piece, in the order of the pieces, of which no more are under way than keeps all at
        work. Raises what the work raises, and WorkersError, with the `name` of a piece, where workers cannot do it.
        """
        ...


class _Threads:
    """Threads of this process: Polars and NumPy do their steps outside of Python's lock."""

    elsewhere = False

    @property
    def count(self) -> int:
        """As many as the engine has."""
        return pl.thread_pool_size()

    def submit(self, work: Callable[[], Result]) -> Callable[[], Result]:
        """Begin with some work on another thread."""
        return submit(work)

    def map(
        self, work: Callable[[Piece], Result], pieces: Iterable[Piece], name: Callable[[Piece], str] | None = None
    ) -> Generator[Result]:
        """What becomes of each piece, in order."""
        del name
        running = deque[Future[Result]]()
        with ThreadPoolExecutor(self.count) as pool:
            for piece in pieces:
                running.append(pool.submit(work, piece))
                if len(running) > self.count:
                    yield running.popleft().result()
            while running:
                yield running.popleft().result()


THREADS: Workers = _Threads()
ENGAGED: list[Workers] = [THREADS]
"""Who works for the command at work; the last counts."""


def engaged() -> Workers:
    """Who works on pieces now.

    >>> list(engaged().map(len, ["QA-1001", "QA-2"]))
    [7, 4]
    """
    return ENGAGED[-1]


@contextmanager
def engaging(workers: Workers) -> Iterator[None]:
    """While it lasts, these workers do what can be done in pieces.

    >>> with engaging(THREADS):
    ...     engaged().elsewhere
    False
    """
    ENGAGED.append(workers)
    try:
        yield
    finally:
        ENGAGED.remove(workers)
