"""Working on two things at once: Polars does its steps outside of Python's lock, and many of them on one core."""

from __future__ import annotations

from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from typing import TypeVar

__all__ = ["submit"]

Result = TypeVar("Result")


def submit(work: Callable[[], Result]) -> Callable[[], Result]:
    """Start some work on another thread; calling what comes back waits for its result."""
    pool = ThreadPoolExecutor(1)
    running = pool.submit(work)
    pool.shutdown(wait=False)
    return running.result
