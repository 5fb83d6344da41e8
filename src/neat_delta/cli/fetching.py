"""What is said while files are fetched and delivered: a bar on a terminal, and a line for what came."""

from __future__ import annotations

import sys
from collections.abc import Iterator
from contextlib import contextmanager

import click

from neat_delta.cli.common import WORKING, detail
from neat_delta.files.sources.base import Progress, Terms

__all__ = ["terms"]


def terms() -> Terms:
    """How files are fetched for a command: with a bar on standard error where that is a terminal. What a person has to
    know is said there in any case, and what is going on where it is a terminal, or all is to be said.
    """
    if detail() == "waiting":
        return Terms(say=_say)
    if sys.stderr.isatty():
        return Terms(say=_say, note=_say, progress=_bar)
    return Terms(say=_say, note=_say) if detail() == "all" else Terms(say=_say)


def _say(line: str) -> None:
    click.echo(line, err=True)


@contextmanager
def _bar(masked: str) -> Iterator[Progress]:
    """A bar with the bytes, the rate and the time left."""
    from rich.console import Console
    from rich.progress import BarColumn, DownloadColumn, Progress, TextColumn, TimeRemainingColumn, TransferSpeedColumn

    for end in WORKING:
        end()
    columns = (TextColumn("{task.description}", markup=False), BarColumn(), DownloadColumn(), TransferSpeedColumn())
    with Progress(*columns, TimeRemainingColumn(), console=Console(stderr=True), transient=True) as bars:
        bar = bars.add_task(masked.rpartition("/")[2], total=None)

        def progress(done: int, size: int | None) -> None:
            bars.update(bar, completed=done, total=size)

        yield progress
