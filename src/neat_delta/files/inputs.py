"""What the command at work has read, so that it is never written over: by device and inode, through links."""

from __future__ import annotations

import contextlib
import os
from collections.abc import Iterable, Iterator
from contextlib import contextmanager
from pathlib import Path

from neat_delta.core.base.support.errors import OutputError

__all__ = ["inputs_kept", "must_not_be_input", "remember"]

KEPT: list[dict[tuple[int, int], str]] = []
"""The files that the command at work has read, by device and inode; nothing where nobody asked (`inputs_kept`)."""


@contextmanager
def inputs_kept() -> Iterator[None]:
    """A command: nothing that it reads, by whatever name or link, is written over while it lasts.

    A library's caller says itself what to write; a command's words may name one file twice.
    """
    before = list(KEPT)
    KEPT[:] = [{}]
    try:
        yield
    finally:
        KEPT[:] = before


def remember(path: str, state: os.stat_result) -> None:
    """Remember that a file was read, if somebody asked for that."""
    for inputs in KEPT:
        inputs[state.st_dev, state.st_ino] = path


def must_not_be_input(path: str, among: Iterable[str] = (), *, replaced: bool = False) -> None:
    """OutputError when an output is a file that was read, or one of these, through whatever link; or a folder that is
    to be `replaced` and has such a file in it.
    """
    place = Path(os.path.realpath(path))
    inputs = {state: name for kept in KEPT for state, name in kept.items()}
    for name in among:
        with contextlib.suppress(OSError):
            state = Path(name).stat()
            inputs[state.st_dev, state.st_ino] = name
    try:
        files = [place, *(place.iterdir() if replaced and place.is_dir() else ())]
        states = [(file, file.stat()) for file in files if file.exists()]
    except OSError:  # then it cannot be written, either
        return
    for file, state in states:
        if (state.st_dev, state.st_ino) in inputs:
            inside = "" if file == place else f" {file.name} in it is one, too."
            name = inputs[state.st_dev, state.st_ino]
            same = "" if name == path or inside else f" (it is {name})"
            raise OutputError(
                f"{path}: this is an input{same}, and inputs are never modified.{inside} Name another file to write."
            )
