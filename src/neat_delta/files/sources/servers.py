"""Servers that keep files in folders: what FTP, SFTP, S3 and all that fsspec opens have in common."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Iterator
from contextlib import AbstractContextManager

from neat_delta.core.base.support.errors import FileError
from neat_delta.files.sources.address import Address
from neat_delta.files.sources.base import ChangedError, FileState, Opened

__all__ = ["BYTES_AT_ONCE", "FileServer", "why"]

BYTES_AT_ONCE = 1 << 20


class FileServer(ABC):
    """A server of files in folders. What it gives is the file as it was when it was begun: it is looked at before and
    after, as such a server says nothing when a file is being written.
    """

    def __init__(self, where: Address) -> None:
        self.where = where

    def open(self, path: str, start: int, known: FileState | None) -> Opened:
        """The file from `start` on where it is as it was, and otherwise all of it."""
        with self.faults():
            try:
                state = self.stat(path)
            except FileNotFoundError:
                raise FileError(f"{self.where.masked}: there is no such file there. Check the address.") from None
        start = start if state == known else 0
        return Opened(state, start, self._steady(path, start, state))

    def _steady(self, path: str, start: int, state: FileState) -> Iterator[bytes]:
        with self.faults():
            done = start
            for chunk in self.read(path, start):
                done += len(chunk)
                if state.size is not None and done > state.size:
                    raise ChangedError  # or it would be read for as long as it grows
                yield chunk
            try:
                after = self.stat(path)
            except FileNotFoundError:
                raise ChangedError from None
        if after != state:
            raise ChangedError

    @abstractmethod
    def faults(self) -> AbstractContextManager[None]:
        """Errors of the connection as ours: PassingError or FileError. FileNotFoundError passes."""

    @abstractmethod
    def read(self, path: str, start: int) -> Iterator[bytes]:
        """The bytes of a file from `start` on."""

    @abstractmethod
    def stat(self, path: str) -> FileState:
        """The state of a file; FileNotFoundError where there is none."""

    def wrong_password(self) -> FileError:
        """The error of a server that does not let us in."""
        who = f'"{self.where.user}"' if self.where.user else "who asks"
        return FileError(
            f"{self.where.masked}: the server does not let {who} in. Check the user and the password, which are read "
            "from the environment, .netrc or the file of credentials (`neat-delta help addresses`)."
        )


def why(error: Exception) -> str:
    """What an error of a connection says, in few words.

    >>> why(EOFError()), why(OSError(111, "Connection refused"))
    ('it hung up', 'Connection refused')
    """
    return getattr(error, "strerror", None) or str(error) or "it hung up"
