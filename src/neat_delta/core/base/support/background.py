"""Working on two things at once: Polars does its steps outside of Python's lock, and many of them on one core."""

from __future__ import annotations

from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from typing import TypeVar

from neat_delta.core.base.support import sizes

__all__ = ["submit"]

Result = TypeVar("Result")


def submit(work: Callable[[], Result], rows: int | None = None) -> Callable[[], Result]:
    """Start some work on another thread; calling what comes back waits for its result. Work on so few `rows` that a
    thread costs more is done right away, and so is work on so many that its memory counts.

    >>> submit(lambda: 9 + 1, rows=2)()
    10
    """
    if rows is not None and not sizes.ROWS_WORTH_A_THREAD <= rows <= sizes.ROWS_JOINED_AT_ONCE:
        result = work()
        return lambda: result
    pool = ThreadPoolExecutor(1)
    running = pool.submit(work)
    pool.shutdown(wait=False)
    return running.result
