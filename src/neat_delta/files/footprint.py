"""How much memory the tables of a command may take: what it was told (`memory_at_most`), or half of what is free.

Rule: this decides how files are read, and nothing that comes of it.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path

from neat_delta.core.base.support import sizes

__all__ = ["fits", "memory_allowed", "memory_at_most", "memory_free", "release_memory", "size_of"]

LIMITS: list[int] = []
"""How many bytes the command at work may take; the last counts."""

UNITS = {"": 1, "B": 1, "KB": 10**3, "MB": 10**6, "GB": 10**9, "TB": 10**12, "KIB": 2**10, "MIB": 2**20, "GIB": 2**30}
SIZE = re.compile(r"(\d+(?:\.\d+)?)\s*([KMGT]?B|[KMG]IB|)", re.IGNORECASE)

CGROUPS = (
    ("/sys/fs/cgroup", "memory.max", "memory.current", "inactive_file"),
    ("/sys/fs/cgroup/memory", "memory.limit_in_bytes", "memory.usage_in_bytes", "total_inactive_file"),
)
"""Where it stands what the system lets the group of a process have, what that takes by now, and how much of it are
files that were read and can go at any time (in memory.stat): of the second version of groups, and of the first.
"""


def size_of(text: str) -> int:
    """How many bytes a size is, in units of thousands (KB, MB, GB, TB) or of 1,024 (KiB, MiB, GiB). ValueError where it
    is none.

    >>> size_of("2GB"), size_of("1.5 GiB"), size_of("800mb")
    (2000000000, 1610612736, 800000000)
    """
    parsed = SIZE.fullmatch(text.strip())
    size = 0 if parsed is None else int(float(parsed[1]) * UNITS[parsed[2].upper()])
    if not size:
        raise ValueError(f"{text!r} is no size; write it like 2GB or 800MB")
    return size


@contextmanager
def memory_at_most(size: int | str) -> Iterator[None]:
    """While it lasts, delimited files that take more memory as a whole than a number of bytes, or a size such as
    "2GB", are read a few columns at a time. ValueError where it is no size.

    >>> with memory_at_most("2GB"):
    ...     memory_allowed()
    2000000000
    """
    most = size_of(size) if isinstance(size, str) else size
    LIMITS.append(most)
    try:
        yield
    finally:
        LIMITS.remove(most)


def memory_allowed() -> int:
    """How many bytes of memory tables may take: as told, or half of what the machine, or the group of the process, has
    free.
    """
    return LIMITS[-1] if LIMITS else memory_free() // 2


def memory_free() -> int:
    """How many bytes of memory the machine, or the group of the process, has free."""
    import psutil

    free = [psutil.virtual_memory().available]
    for folder, *names, cached in CGROUPS:
        with suppress(OSError, ValueError):  # there is no such group, or it has no limit ("max")
            limit, taken = (int((Path(folder) / name).read_text()) for name in names)
            lines = dict(line.split() for line in (Path(folder) / "memory.stat").read_text().splitlines())
            free.append(limit - taken + int(lines.get(cached, 0)))
    return max(0, min(free))


def release_memory() -> None:
    """Give the system back what was freed and the C library keeps for later, where that can (glibc's `malloc_trim`)."""
    import ctypes

    with suppress(OSError, AttributeError, TypeError):  # another C library, or none to be had
        ctypes.CDLL(None).malloc_trim(0)


def fits(needed: int) -> bool:
    """Whether so many bytes are no more than tables may take. Of a few nobody is asked."""
    return (not LIMITS and needed <= sizes.BYTES_ANY_MACHINE_HAS) or needed <= memory_allowed()
