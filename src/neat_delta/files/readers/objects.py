"""JSON (RFC 8259) as an array of objects, and JSON Lines: an object is a row, its names are the headings.

A string gives its text, a number its digits as they stand, null and a missing name a blank; an array or an object
stays the JSON that it is.
"""

from __future__ import annotations

import msgspec
import polars as pl

from neat_delta.core.base.model.layout import Layout
from neat_delta.core.base.support.errors import CatalogueError
from neat_delta.files.malformed import plain_error
from neat_delta.files.readers.delimited import Text
from neat_delta.files.readers.encoding import codec, decoded, of_head
from neat_delta.files.readers.headings import must_be_headings, unnamed_columns

__all__ = ["is_json", "read_objects"]

Objects = list[dict[str, msgspec.Raw]]


def is_json(head: bytes) -> bool:
    """Whether a file that starts so is JSON, by its first two marks."""
    encoding, bom = of_head(head)
    start = head[len(bom) :].decode(encoding, "ignore").split(None, 1)
    text = "".join(start)[:64].replace(" ", "")
    return text.startswith(("[{", "[]", '{"', "{}", "[\n"))


def read_objects(data: bytes, path: str, given: Layout | None = None) -> Text:
    """The table in a file's bytes; CatalogueError with the line where it is none."""
    encoding, bom = of_head(data[:4096])
    if given is not None and given.encoding:
        encoding = codec(given.encoding)
    text = decoded(data, encoding, path).encode()  # says where it is not in that encoding
    try:
        if text.lstrip()[:1] == b"[":
            rows, form = msgspec.json.decode(text, type=Objects), "json"
        else:
            rows, form = _lines(text, path), "json lines"
    except (msgspec.MsgspecError, RecursionError) as error:
        raise CatalogueError(f"{path}: it is no array of objects ({plain_error(error)}). Export it again.") from None
    names: dict[str, None] = {}
    for row in rows:
        names.update(dict.fromkeys(row))
    if not names:
        raise CatalogueError(f"{path}: there is no object with a name in it. Export it again.")
    must_be_headings([*names], path)
    blank = msgspec.Raw(b"null")
    try:
        columns = {
            name: pl.Series([_text(row.get(name, blank)) for row in rows], dtype=pl.String)
            for name in names
            if name.strip()
        }
    except (msgspec.MsgspecError, RecursionError, UnicodeError) as error:
        raise CatalogueError(f"{path}: a value cannot be read ({plain_error(error)}). Export it again.") from None
    unnamed = unnamed_columns([*names])
    return Text(pl.DataFrame(columns), unnamed, Layout(encoding=encoding, bom=bool(bom), format=form), ())  # type: ignore[arg-type]


def _lines(data: bytes, path: str) -> Objects:
    decoder = msgspec.json.Decoder(dict[str, msgspec.Raw])
    rows = []
    for number, line in enumerate(data.split(b"\n"), 1):
        if line.strip():
            try:
                rows.append(decoder.decode(line))
            except (msgspec.MsgspecError, RecursionError) as error:
                raise CatalogueError(
                    f"{path}, line {number:,}: it is no JSON object ({plain_error(error)}). Look at that line."
                ) from None
    return rows


def _text(value: msgspec.Raw) -> str:
    raw = bytes(value)
    if raw[:1] == b'"':
        return msgspec.json.decode(raw, type=str)
    return "" if raw == b"null" else raw.decode()
