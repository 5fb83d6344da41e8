"""A folder through which processes hand each other tables: as Arrow files, which are read where they lie.

Rule: what stands there is of use to nobody else, and is gone at the end.
"""

from __future__ import annotations

import glob
import os
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from dataclasses import dataclass
from pathlib import Path
from platform import node
from shutil import rmtree
from tempfile import gettempdir, mkdtemp
from typing import Any
from uuid import uuid4

import polars as pl

from neat_delta.core.base.support import sizes
from neat_delta.core.base.support.errors import OutputError
from neat_delta.files.whole import UNFINISHED, AnyPath, unreadable

__all__ = ["Scratch", "remove", "scratch_at", "scratch_folder", "scratch_in", "taken"]


FOLDERS: list[str] = []
"""Where the command at work lays tables; the last counts."""


@contextmanager
def scratch_at(folder: AnyPath) -> Iterator[None]:
    """While it lasts, what processes hand each other lies in this folder, which all of them reach.

    >>> with scratch_at("/srv/shared"):
    ...     scratch_folder()
    '/srv/shared'
    """
    FOLDERS.append(os.fspath(folder))
    try:
        yield
    finally:
        FOLDERS.pop()


def scratch_folder() -> str | None:
    """The folder that was named for it; None where none was."""
    return FOLDERS[-1] if FOLDERS else None


@dataclass(frozen=True, slots=True)
class _Kept:
    """A table, or some bytes (`is_text`), in a file of a scratch folder."""

    path: str
    is_text: bool


@dataclass(frozen=True, slots=True)
class Scratch:
    """A scratch folder, which all processes reach by its path."""

    folder: str

    def put(self, value: Any) -> Any:  # noqa: ANN401 - what is handed on, whatever it is
        """The value to be handed on for a table, for bytes, or for a tuple with such in it: they lie in the folder from
        now on. What is short, or anything else, is its own. OutputError where the folder takes no more.
        """
        if not isinstance(value, pl.DataFrame | bytes):
            return _each(value, self.put)
        size = len(value) if isinstance(value, bytes) else value.estimated_size()
        return value if size < sizes.BYTES_WORTH_A_FILE else self._kept(value)

    def _kept(self, value: pl.DataFrame | bytes) -> _Kept:
        path = Path(self.folder) / uuid4().hex
        try:
            if isinstance(value, bytes):
                path.write_bytes(value)
            else:
                value.write_ipc(path, compat_level=pl.CompatLevel.newest())
        except (OSError, pl.exceptions.PolarsError) as error:
            raise OutputError(
                f"{self.folder}: there is no room for what processes hand each other ({error}). Say with ‹scratch› "
                "where there is."
            ) from None
        return _Kept(str(path), isinstance(value, bytes))


@contextmanager
def scratch_in(folder: str | None) -> Iterator[Scratch]:
    """A scratch folder in another one (None: where the system has its temporary files), for as long as it is used. What
    a program that was killed left there on this machine goes. OutputError where none can be made.
    """
    parent = folder or gettempdir()
    _remove_left_over(parent)
    try:
        own = mkdtemp(prefix=f"{_prefix()}{os.getpid()}-", dir=parent)
    except OSError as error:
        raise OutputError(
            f"{parent}: no scratch folder can be made there ({error.strerror}). Say with ‹scratch› another one."
        ) from None
    UNFINISHED.add(own)
    try:
        yield Scratch(own)
    finally:
        rmtree(own, ignore_errors=True)
        UNFINISHED.discard(own)


def _prefix() -> str:
    return f"neat-delta-scratch-{node()}-"


def _remove_left_over(parent: str) -> None:
    """Remove the scratch folders of programs of this machine that are not there any more."""
    import psutil

    for other in Path(parent).glob(f"{glob.escape(_prefix())}*"):
        number = other.name.removeprefix(_prefix()).partition("-")[0]
        if number.isdigit() and not psutil.pid_exists(int(number)):
            rmtree(other, ignore_errors=True)


def taken(value: Any) -> Any:  # noqa: ANN401 - what was handed on, whatever it was
    """The value that was handed on. FileError where something of it is not to be had."""
    if not isinstance(value, _Kept):
        return _each(value, taken)
    try:
        return Path(value.path).read_bytes() if value.is_text else pl.read_ipc(value.path)
    except OSError as error:
        raise unreadable(value.path, error) from None


def remove(value: Any) -> None:  # noqa: ANN401 - what was handed on, whatever it was
    """Let go of what was handed on. Who has taken it keeps it."""
    if isinstance(value, _Kept):
        with suppress(OSError):
            Path(value.path).unlink()
    _each(value, remove)


def _each(value: Any, work: Any) -> Any:  # noqa: ANN401
    """A tuple, or a named one, with each of its values worked on; anything else as it is."""
    if not isinstance(value, tuple):
        return value
    values = [work(part) for part in value]
    return type(value)(*values) if hasattr(value, "_fields") else tuple(values)
