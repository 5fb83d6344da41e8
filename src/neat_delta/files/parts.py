"""A file that is read part by part, as it was when it was opened: what changes meanwhile is an error."""

from __future__ import annotations

import os
import stat
import weakref
from functools import lru_cache
from pathlib import Path

from blake3 import blake3

from neat_delta.core.base.support import sizes
from neat_delta.files.inputs import remember
from neat_delta.files.sources import AGES
from neat_delta.files.whole import changed_meanwhile, stamp, unreadable

__all__ = ["Parts", "open_parts"]

FILES_KEPT_OPEN = 8
"""So many files of others stay open: one piece after another is asked for."""


class _Opened:
    """A file that is open, and its state as it was opened; it is closed when nobody has use for it any more."""

    def __init__(self, handle: int, state: os.stat_result) -> None:
        self.handle, self.state = handle, stamp(state)
        weakref.finalize(self, os.close, handle)


class Parts:
    """The bytes of a plain file, from any place to any other. It stays open, so that another file of its name is no
    matter. In another process it is opened by its place, when it is first read there.
    """

    def __init__(self, path: str, place: str, state: tuple[int, ...], opened: _Opened | None = None) -> None:
        self.path, self.size = path, state[2]
        self._place, self._state, self._opened = place, state, opened

    def __reduce__(self) -> tuple[type[Parts], tuple[str, str, tuple[int, ...]]]:
        return Parts, (self.path, self._place, self._state)

    def part(self, start: int, end: int) -> bytes:
        """The bytes from `start` up to `end`, or to the end of the file. FileError where they cannot be read, or were
        changed.
        """
        pieces, at, end = [], start, min(end, self.size)
        opened = self._opened or _opened_again(self.path, self._place, self._state)
        try:
            while at < end and (piece := os.pread(opened.handle, end - at, at)):
                pieces.append(piece)
                at += len(piece)
            changed = at < end or stamp(os.fstat(opened.handle)) != opened.state
        except OSError as error:
            raise unreadable(self.path, error) from None
        if changed:
            raise changed_meanwhile(self.path)
        return pieces[0] if len(pieces) == 1 else b"".join(pieces)

    def digest(self) -> str:
        """The BLAKE3 digest of all of it, in hexadecimal."""
        hasher = blake3(max_threads=blake3.AUTO)
        for start in range(0, self.size, sizes.BYTES_OF_A_PIECE):
            hasher.update(self.part(start, start + sizes.BYTES_OF_A_PIECE))
        return hasher.hexdigest()


def open_parts(path: str) -> Parts | None:
    """A file to be read part by part; None where it is short, no plain file, or cannot be opened, and where its age is
    asked for: then it is read as a whole.

    >>> open_parts("nowhere.csv") is None
    True
    """
    if path == "-" or AGES or not hasattr(os, "pread"):
        return None
    try:
        if not Path(path).is_file():  # a pipe gives what it has once, to whom opens it first
            return None
        handle = os.open(path, os.O_RDONLY | getattr(os, "O_NONBLOCK", 0) | getattr(os, "O_CLOEXEC", 0))
    except (OSError, ValueError):
        return None
    state = os.fstat(handle)
    if not stat.S_ISREG(state.st_mode) or state.st_size <= sizes.BYTES_INDEXED:
        os.close(handle)
        return None
    remember(path, state)
    return Parts(path, os.path.realpath(path), stamp(state), _Opened(handle, state))


@lru_cache(maxsize=FILES_KEPT_OPEN)
def _opened_again(path: str, place: str, state: tuple[int, ...]) -> _Opened:
    """The same file, opened by another process. FileError where it cannot be opened there, or is another one by its
    size and time; the number of a file may be another on each machine that shares it.
    """
    try:
        handle = os.open(place, os.O_RDONLY | getattr(os, "O_CLOEXEC", 0))
        opened = _Opened(handle, os.fstat(handle))
    except OSError as error:
        raise unreadable(path, error) from None
    if opened.state[2:] != state[2:]:
        raise changed_meanwhile(path)
    return opened
