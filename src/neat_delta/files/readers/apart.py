"""Reading workbooks and Parquet in a process of its own, with limits: a small file made to do harm may ask for all
memory or all time, and a damaged one may end the process that reads it.
"""

from __future__ import annotations

import io
import subprocess
import sys
from collections.abc import Callable
from typing import Any

import msgspec
import polars as pl

from neat_delta.core.base.model.catalogue import Origin
from neat_delta.core.base.model.layout import Format, Layout
from neat_delta.core.base.support.errors import CatalogueError
from neat_delta.files.readers.delimited import Text
from neat_delta.files.whole import RUNNING, begin_reader

__all__ = ["APART", "read_apart"]

APART: tuple[Format, ...] = ("xlsx", "ods", "xls", "parquet")
"""The formats that are read in this way."""

FREE_MEMORY, MEMORY_TIMES = 1400 << 20, 150
"""So many bytes of memory reading may take in any case, and so many times the bytes of the file."""

FREE_SECONDS, SECONDS_PER_MB = 7, 12
"""So many seconds of one core, and so many more for each megabyte of the file."""


class _Request(msgspec.Struct, array_like=True):
    form: Format
    path: str
    layout: Layout


class _Read(msgspec.Struct, array_like=True):
    """What comes back before the cells: an error, or all else of a `Text`."""

    error: str | None
    unnamed: tuple[int, ...] = ()
    layout: Layout = Layout()
    notes: tuple[str, ...] = ()
    origin: Origin | None = None
    memory: str | None = None


def read_apart(
    data: bytes, path: str, form: Format, given: Layout, reader: subprocess.Popen[bytes] | None = None
) -> Text:
    """The table in a file's bytes, as the `reader` (default: one of its own) takes them apart; CatalogueError when it
    is none, is damaged, or takes more memory or time than its size allows for.
    """
    with reader or begin_reader() as child:
        try:
            head = msgspec.json.encode(_Request(form, path, given)) + b"\n"
            out, _ = child.communicate(head + data)
        except BaseException:
            child.kill()
            raise
        finally:
            RUNNING.remove(child)
    first, _, cells = out.partition(b"\n")
    if child.returncode or not first:
        raise CatalogueError(
            f"{path}: {_called(form)} cannot be read: it is damaged, or takes far more memory and time than its size "
            "allows for. Open it in a spreadsheet, delete what lies far from the table, and save it anew."
        )
    read = msgspec.json.decode(first, type=_Read)
    if read.error is not None:
        raise CatalogueError(read.error)
    table = pl.read_ipc(io.BytesIO(cells), use_pyarrow=False)
    return Text(table, read.unnamed, read.layout, read.notes, read.origin, memory=read.memory)


def _called(form: Format) -> str:
    return "the Parquet file" if form == "parquet" else "the workbook"


def read_here() -> None:
    """In the process of its own: read what standard input says, and give it to standard output."""
    source, target = sys.stdin.buffer, sys.stdout.buffer
    asked = source.readline()
    if not asked:
        return
    request = msgspec.json.decode(asked, type=_Request)
    data = source.read()
    _limit(len(data))
    try:
        text = _reader(request.form)(data, request.path, request.layout)
    except CatalogueError as error:
        target.write(msgspec.json.encode(_Read(str(error))) + b"\n")
        return
    read = _Read(None, text.unnamed, text.layout, text.notes, text.origin, text.memory)
    target.write(msgspec.json.encode(read) + b"\n")
    text.cells.write_ipc(target)


def _limit(size: int) -> None:
    """Bound this process's memory and time, where the system can."""
    try:
        import resource
    except ImportError:
        return
    memory = FREE_MEMORY + MEMORY_TIMES * size
    seconds = FREE_SECONDS + SECONDS_PER_MB * (size >> 20)
    for what, most in ((resource.RLIMIT_DATA, memory), (resource.RLIMIT_CPU, seconds), (resource.RLIMIT_CORE, 0)):
        try:
            resource.setrlimit(what, (most, most))
        except (OSError, ValueError):
            continue


def _reader(form: Format) -> Callable[[bytes, str, Layout], Text]:
    if form == "parquet":
        from neat_delta.files.readers.columns import read_columns

        return lambda data, path, _: read_columns(data, path)
    from neat_delta.files.readers.grid import to_text

    read: Any
    if form == "xlsx":
        from neat_delta.files.readers.xlsx import read_xlsx as read
    elif form == "ods":
        from neat_delta.files.readers.ods import read_ods as read
    else:
        from neat_delta.files.readers.xls import read_xls as read
    return lambda data, path, given: to_text(read(data, path, given.sheet_name), path, form, given)
