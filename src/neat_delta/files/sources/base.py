"""What every sort of address can do: open a file from a place on, say its state, list a folder; and put a file there.

Rule: a source says of a fault whether it may pass (`PassingError`, tried again), whether the file is another one by
now (`ChangedError`, begun anew), or whether only a person can mend it (FileError).
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import AbstractContextManager, nullcontext
from dataclasses import dataclass
from datetime import datetime
from typing import Protocol

from neat_delta.core.base.support.errors import FileError

__all__ = [
    "ChangedError",
    "FileState",
    "Opened",
    "PassingError",
    "Progress",
    "RemoteSource",
    "Target",
    "Terms",
    "UnreachableError",
    "needs_package",
]


@dataclass(frozen=True, slots=True)
class FileState:
    """What tells one state of a file from another, as far as its server says: bytes, when it was changed, its tag."""

    size: int | None = None
    modified: datetime | None = None
    tag: str | None = None


@dataclass(frozen=True, slots=True)
class Opened:
    """A file that is being sent: its `state`, the byte that the first chunk `start`s with, and the chunks; no chunks
    where it is `unchanged` since the state that was known.
    """

    state: FileState
    start: int
    chunks: Iterator[bytes]
    unchanged: bool = False


class RemoteSource(Protocol):
    """A sort of address. Paths are those of its server; every error is one of the three that the rule names."""

    def open(self, path: str, start: int, known: FileState | None) -> Opened:
        """A file from byte `start` on, where it is still in the state that is `known`, and otherwise all of it."""
        ...

    def stat(self, path: str) -> FileState:
        """The state of a file; FileNotFoundError where there is none."""
        ...

    def list(self, folder: str) -> list[tuple[str, FileState]]:
        """The files of a folder by their names."""
        ...

    def close(self) -> None:
        """Let go of the connection."""
        ...


class Target(RemoteSource, Protocol):
    """A sort of address that takes files, too."""

    def put(self, path: str, chunks: Iterator[bytes]) -> None:
        """Write a file of that name, over one that may be there."""
        ...

    def rename(self, path: str, name: str) -> None:
        """Give a file another name, in one step where the server can."""
        ...

    def remove(self, path: str) -> None:
        """Remove a file; nothing where there is none."""
        ...


Progress = Callable[[int, int | None], None]


def _silent(done: int, size: int | None) -> None:
    """Progress that nobody looks at."""


@dataclass(frozen=True, slots=True)
class Terms:
    """How files are fetched: so many seconds to connect and to wait for the next byte, so many attempts with waits that
    grow from `wait_seconds`, at most so many bytes. What `progress` gives for an address hears how many bytes there
    are, and of how many; `say` hears what a person has to know, `note` what is going on.
    """

    connect_seconds: float = 10
    read_seconds: float = 30
    attempts: int = 5
    most_bytes: int = 16 << 30
    wait_seconds: float = 1
    progress: Callable[[str], AbstractContextManager[Progress]] = lambda masked: nullcontext(_silent)
    say: Callable[[str], None] = lambda line: None
    note: Callable[[str], None] = lambda line: None


class PassingError(Exception):
    """What may pass: the next attempt begins where this one ended, after so many seconds if the server says so. Nothing
    was asked for yet where it is not `begun`.
    """

    def __init__(self, what: str, wait: float | None = None, *, begun: bool = True) -> None:
        super().__init__(what)
        self.what, self.wait, self.begun = what, wait, begun


class UnreachableError(FileError):
    """What might have passed did not: the other end cannot be had now."""


class ChangedError(Exception):
    """The file is another one than when it was begun."""


def needs_package(masked: str, extra: str, error: ImportError) -> FileError:
    """The error of an address whose package is not installed."""
    return FileError(
        f"{masked}: this sort of address needs a package that is not installed ({error.name or error}). Install it: "
        f"pip install 'neat-delta[{extra}]'"
    )
