"""The base of a delimited working sheet: what it was cut with, in a `.base` file beside it (docs/formats/base.md)."""

from __future__ import annotations

import os
from collections.abc import Sequence
from contextlib import suppress
from dataclasses import replace
from glob import escape
from pathlib import Path, PurePath
from typing import TYPE_CHECKING

import msgspec
import polars as pl
from blake3 import blake3

from neat_delta.core.base.model.catalogue import Catalogue, Origin
from neat_delta.core.base.support.errors import CatalogueError, FileError
from neat_delta.files.memory import as_memory, packed, unpacked
from neat_delta.files.reading import read
from neat_delta.files.whole import AnyPath, Loaded, read_whole

if TYPE_CHECKING:
    from neat_delta.core.base.model.layout import Layout

__all__ = ["ENDING", "base_bytes", "base_file_of", "base_path", "read_base", "with_base", "with_base_file"]

ENDING = ".base"
FORMAT, VERSION = "neat-delta base", 1


class _Base(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """A `.base` file: where the sheet was cut from, the digest of the packed cells, and these."""

    format: str
    version: int
    origin: Origin
    blake3: str
    cells: str


def base_path(sheet: str) -> str:
    """Where the base of a delimited sheet stands: beside it, under its name.

    >>> base_path("sheets/wax.csv")
    'sheets/wax.csv.base'
    """
    return sheet + ENDING


def base_bytes(cells: pl.DataFrame, origin: Origin) -> bytes:
    """The bytes of a `.base` file of the cells that a sheet was cut with.

    >>> from neat_delta.core.base.model.catalogue import Origin
    >>> base_bytes(pl.DataFrame({"sku": ["QA-1"]}), Origin("live.csv", "0" * 64, 1, 1, 1))[:32]
    b'{"format":"neat-delta base","ver'
    """
    text = packed(cells)
    return msgspec.json.encode(_Base(FORMAT, VERSION, origin, blake3(text.encode()).hexdigest(), text)) + b"\n"


def read_base(
    source: AnyPath | Loaded, layout: Layout | None = None, like: Catalogue | None = None, *, deferred: bool = False
) -> Catalogue:
    """Read a base: an older export (`like` and `deferred` as in `files.reading.read`), or the `.base` file of a working
    sheet. CatalogueError for what is neither.

    >>> from pathlib import Path
    >>> from tempfile import mkdtemp
    >>> path = Path(mkdtemp()) / "wax.base"
    >>> _ = path.write_bytes(base_bytes(pl.DataFrame({"sku": ["QA-1"]}), Origin("live.csv", "0" * 64, 9, 1, 1)))
    >>> read_base(str(path)).cells.rows()
    [('QA-1',)]
    """
    source = source if isinstance(source, Loaded) else os.fspath(source)
    path = source if isinstance(source, str) else source.path
    if not path.lower().endswith(ENDING):
        return read(source, layout, like=like, deferred=deferred)
    return _opened(read_whole(path), path)[0]


def _opened(data: bytes, path: str) -> tuple[Catalogue, Origin]:
    """What a `.base` file has, and where its sheet was cut from."""
    try:
        base = msgspec.json.decode(data, type=_Base)
        if (base.format, base.version) == (FORMAT, VERSION) and blake3(base.cells.encode()).hexdigest() == base.blake3:
            return as_memory(unpacked(base.cells), base.origin), base.origin
    except (msgspec.MsgspecError, ValueError):
        pass
    raise CatalogueError(
        f"{path}: this is no base that `neat-delta sheet` wrote, or it is damaged. Name the export that the sheet was "
        "cut from with ‹base›."
    )


def with_base_file(sheet: Catalogue, live: Catalogue, *, needed: bool = True) -> Catalogue:
    """The sheet with what it remembers, if a `.base` file of its name stands beside it that was made for its columns;
    where it was saved with another ending, the only one of its name without that. If none does, and a base is `needed`,
    a note names the one in its folder that may be its own, where `live` has moved on since.

    CatalogueError when that file is damaged and is `needed`, as no other base was named.
    """
    if sheet.memory is not None or sheet.origin is not None:
        return sheet
    place = base_file_of(sheet.path)
    if place is not None:
        return with_base(sheet, read_whole(place), place, needed=needed)
    likely = _likely_base(sheet, live) if needed else None
    if likely is None:
        return sheet
    note = (
        f"{PurePath(likely).name} in its folder remembers a sheet with these columns and items, and live has moved on "
        f"since. If this is that one under another name, say ‹base› {likely}: else it changes back what others changed"
    )
    return replace(sheet, notes=(*sheet.notes, note))


MOST_BASES = 20
"""In a folder with more `.base` files nobody looks which one may be a sheet's."""


def _likely_base(sheet: Catalogue, live: Catalogue) -> str | None:
    """The `.base` file in a sheet's folder that has its columns and most of its items, and was cut from another export
    than live, if just one has.
    """
    folder = Path(sheet.path).parent
    places = sorted(folder.glob(f"*{ENDING}")) if Path(sheet.path).is_file() else []
    likely = list[str]()
    for place in places if len(places) <= MOST_BASES else ():
        with suppress(CatalogueError, FileError):
            base, origin = _opened(read_whole(str(place)), str(place))
            if origin.blake3 != live.digest() and _of_one_cut(base.fields, sheet.fields):
                known = sheet.column(base.fields[0]).is_in(base.column(base.fields[0]).implode()).sum()
                likely += [str(place)] if known * 2 > sheet.height else []
    return likely[0] if len(likely) == 1 else None


def base_file_of(sheet: str) -> str | None:
    """The `.base` file of a sheet, if one stands beside it: under its name, or, where it was saved with another ending,
    the only one of its name without that.
    """
    path, place = Path(sheet), base_path(sheet)
    if Path(place).is_file():
        return place
    others = sorted(path.parent.glob(f"{escape(path.stem)}.*{ENDING}"))
    return str(others[0]) if len(others) == 1 else None


def with_base(sheet: Catalogue, content: bytes, place: str, *, needed: bool = True) -> Catalogue:
    """The sheet with what a `.base` file, read from `place`, has of it, if that was made for its columns.

    CatalogueError when it is damaged and is `needed`.
    """
    try:
        base, origin = _opened(content, place)
    except CatalogueError:
        if needed:
            raise
        return replace(sheet, notes=(*sheet.notes, f"{PurePath(place).name} beside it is damaged, and is left out"))
    if not _of_one_cut(base.fields, sheet.fields):
        note = f"{PurePath(place).name} beside it was made for other columns, and is left out"
        return replace(sheet, notes=(*sheet.notes, note))
    return replace(sheet, origin=origin, memory=base)


def _of_one_cut(fields: Sequence[str], headings: Sequence[str]) -> bool:
    """Whether a sheet with these headings can be the one that was cut with these fields: it has its key and others."""
    return fields[0] in headings and len({*fields} & {*headings}) * 2 > len(fields)
