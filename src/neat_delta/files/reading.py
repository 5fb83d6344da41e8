"""Reading any file as a catalogue: what it is, is decided by its content; its name only matters for what is said."""

from __future__ import annotations

import os
import re
from collections.abc import Callable, Collection
from contextlib import suppress
from functools import partial
from pathlib import PurePath

import msgspec

from neat_delta.core.base.model.catalogue import Catalogue
from neat_delta.core.base.model.layout import Format, Layout
from neat_delta.core.base.support import sizes
from neat_delta.core.base.support.errors import CatalogueError, FileError, NeatDeltaError
from neat_delta.files import footprint
from neat_delta.files.memory import as_memory, unpacked
from neat_delta.files.readers.delimited import Text, read_text
from neat_delta.files.readers.encoding import Known, known_of
from neat_delta.files.readers.magic import binary_format
from neat_delta.files.readers.packed import Packing, unpack
from neat_delta.files.sources.address import is_address
from neat_delta.files.whole import AnyPath, Loaded, load

__all__ = ["read", "read_later"]

ENDINGS: dict[str, tuple[str, ...]] = {
    "delimited": (".csv", ".tsv", ".txt", ".tab"),
    "xlsx": (".xlsx", ".xlsm"),
    "ods": (".ods",),
    "xls": (".xls",),
    "json": (".json",),
    "json lines": (".jsonl", ".ndjson", ".json"),
    "parquet": (".parquet",),
}
"""How files of a format are called; one that is called otherwise is read as what it is, with a note."""

PAGE = re.compile(rb"\s*(\xef\xbb\xbf)?\s*<(!doctype html|html|head|body)\b", re.IGNORECASE)
"""What a web page begins with."""

PACKED = (".gz", ".zip", ".zst", ".zstd")


def read(
    file: AnyPath | Loaded,
    layout: Layout | None = None,
    only: Collection[str] | None = None,
    like: Catalogue | None = None,
    *,
    deferred: bool = False,
) -> Catalogue:
    """The catalogue in a file: delimited text, a workbook, JSON, JSON Lines or Parquet, packed or not.

    `file` is a path (`-` for standard input) or an address, or the file loaded ahead. What the `layout` leaves open is
    found out; that of the catalogue says what was. FileError when it cannot be read, CatalogueError when it is no
    table; it says what is wrong, and where. `only` these headings are read of delimited text that is known to be
    regular.
    A text whose encoding nothing tells is read so that its words are those of the catalogue `like` it, where they are.
    If reading may be `deferred`, the cells of a long delimited text are read when they are asked for: for what looks at
    few columns, or at the rows that the catalogue like it lacks.

    >>> from importlib.resources import files
    >>> path = str(files("neat_delta.demo").joinpath("live.csv"))
    >>> read(path).cells.height
    418
    """
    file = file if isinstance(file, Loaded) else os.fspath(file)
    layout = layout or Layout()
    if isinstance(file, str):
        later = _read_by_parts(file, layout, only, like) if deferred or only is not None else None
        if later is not None:
            return later
        file = load(file, layout.query)
    data: bytes = file.data
    form, packing = binary_format(data), None
    if form is None:
        data, packing = unpack(data, file.path)
        form = binary_format(data) or _format(data, layout, file.path)
    words_of_live = None if like is None else lambda: known_of(like.cells)
    _must_fit(form, len(data), file.path)
    text = _read(form, data, file, layout, only, words_of_live)
    return _catalogue(text, file.path, file.digest, form, packing)


def read_later(file: AnyPath | Loaded, layout: Layout, before: Catalogue, key: Collection[str]) -> Catalogue:
    r"""A later export of the store that the catalogue `before` is one of. What the `layout` leaves open is as it was
    before; or, where a field of the `key` (by their headings) is not there then, found out as of any file. Raises what
    `read` does.

    >>> from pathlib import Path
    >>> from tempfile import mkdtemp
    >>> from neat_delta.core.base.model.catalogue import as_catalogue
    >>> after = Path(mkdtemp()) / "after.txt"
    >>> _ = after.write_text("sku;price\nQA-1;9.90\n", encoding="utf-16")
    >>> read_later(after, Layout(), as_catalogue({"sku": ["QA-1"], "price": ["9.90"]}, "live"), ["sku"]).fields
    ['sku', 'price']
    """
    file = file if isinstance(file, Loaded) else os.fspath(file)
    if isinstance(file, str) and (file == "-" or is_address(file)):
        file = load(file, layout.query)  # not to be asked for twice
    try:
        first: Catalogue | NeatDeltaError = _read_as_before(file, layout, before)
    except (FileError, CatalogueError) as error:
        first = error
    if isinstance(first, NeatDeltaError) or not {*key} <= {*first.fields}:
        with suppress(FileError, CatalogueError):
            other = read(file, layout, like=before, deferred=before.is_deferred)
            if {*key} <= {*other.fields}:
                return other
    if isinstance(first, NeatDeltaError):
        raise first
    return first


def _read_as_before(file: str | Loaded, layout: Layout, before: Catalogue) -> Catalogue:
    """A file laid out as the catalogue before it. A quote or an escape that this had no need of is found out, and an
    encoding that a file tells by itself is its own.
    """
    wanted = layout.over(before.layout.of_reading)
    now = read(file, wanted, like=before, deferred=before.is_deferred)
    own, was = now.layout.encoding, before.layout.encoding
    guessed = own is not None and was is not None and not own.startswith("utf-") and not was.startswith("utf-")
    if layout.encoding is None and own != was and guessed:
        return read(file, msgspec.structs.replace(wanted, encoding=was), like=before, deferred=before.is_deferred)
    return now


TIMES_IN_MEMORY: dict[Format, int] = {"xlsx": 40, "ods": 40, "parquet": 40, "json": 7, "json lines": 7}
"""How many times its size a file takes of memory, about, that can only be read as a whole."""


def _must_fit(form: Format, size: int, path: str) -> None:
    """CatalogueError, before it is read, where a file would take more memory than is free."""
    needed = TIMES_IN_MEMORY.get(form, 0) * size
    if needed > sizes.BYTES_ANY_MACHINE_HAS and needed > (free := footprint.memory_free()):
        raise CatalogueError(
            f"{path}: it can only be read as a whole, which takes some {needed / 1e9:,.1f} GB of memory, and "
            f"{free / 1e9:,.1f} GB are free. Save it as delimited text (CSV), which is read a few columns at a time, "
            "or close other programs."
        )


def _read_by_parts(path: str, layout: Layout, only: Collection[str] | None, like: Catalogue | None) -> Catalogue | None:
    """A long delimited text whose cells are read when they are asked for, or of which `only` these columns are read;
    None where it has to be read as a whole.
    """
    from neat_delta.files.parts import open_parts

    parts = open_parts(path)
    if parts is None:
        return None
    try:
        is_text = _format(parts.part(0, GLANCE_BYTES), layout, path) == "delimited"
    except CatalogueError:
        is_text = False
    if not is_text:
        return None
    from neat_delta.files.readers.deferred import read_columns_of, read_deferred

    read = read_deferred(parts, layout, like) if only is None else read_columns_of(parts, layout, only)
    return None if read is None else _catalogue(read[0], path, partial(str, read[1]), "delimited", None)


GLANCE_BYTES = 4096
"""So many bytes tell whether a file is JSON, or a web page."""


def _catalogue(text: Text, path: str, digest: Callable[[], str], form: Format, packing: Packing | None) -> Catalogue:
    """What was read of a file, with a note where it is called otherwise than what it is."""
    notes = list(text.notes)
    name = PurePath(path).name.lower()
    bare = PurePath(name).stem if packing and name.endswith(PACKED) else name
    ending = PurePath(bare).suffix
    if ending and ending not in ENDINGS[form] and any(ending in endings for endings in ENDINGS.values()):
        what = "delimited text" if form == "delimited" else Layout(format=form)
        notes.insert(0, f"it is called {ending}, and is read as what it is: {what}")
    memory = None
    if text.memory is not None and text.origin is not None:
        memory = as_memory(unpacked(text.memory), text.origin)
    as_read = Layout(**{name: getattr(text.layout, name) for name in Layout.__struct_fields__} | {"packing": packing})
    return Catalogue(
        text.table,
        path,
        digest,
        text.unnamed,
        as_read,
        tuple(notes),
        first=(1 if as_read.header_line is None else as_read.header_line) + 1,
        origin=text.origin,
        regular=text.regular,
        guessed=text.guessed,
        memory=memory,
    )


def _read(
    form: Format,
    data: bytes,
    file: Loaded,
    given: Layout,
    only: Collection[str] | None,
    words_of_live: Callable[[], Known] | None,
) -> Text:
    if form == "delimited":
        return read_text(data, file.path, given, only, words_of_live)
    if form in {"json", "json lines"}:
        from neat_delta.files.readers.objects import read_objects

        return read_objects(data, file.path, given)
    from neat_delta.files.readers.apart import read_apart

    return read_apart(data, file.path, form, given, file.reader)


def _format(data: bytes, given: Layout, path: str) -> Format:
    """Which text the bytes are."""
    if given.format in {"delimited", "json", "json lines"}:
        return given.format
    from neat_delta.files.readers.objects import is_json

    if PAGE.match(data):
        raise CatalogueError(
            f"{path}: this is a web page (HTML), perhaps one to log in, and no table. Download the export itself."
        )
    return "json" if is_json(data[:GLANCE_BYTES]) else "delimited"
