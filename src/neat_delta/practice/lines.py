"""What an update file says, line by line: its bytes read by the store's own reader, in each form that an importer may
take. Nothing here knows how such a file is written.
"""

from __future__ import annotations

import csv
import io
import json
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from typing import Any
from xml.etree import ElementTree

import python_calamine

from neat_delta.core.base.model.importer import FormName
from neat_delta.core.base.model.layout import LINE_ENDS, Layout
from neat_delta.core.base.support.errors import FileError

__all__ = ["ImportTable", "Line", "as_text", "read_lines"]


@dataclass(slots=True)
class Line:
    """One row of an update file: its number (as a spreadsheet counts; of other forms, counted from 1), and what it says
    under each heading; a heading that it says nothing of is not there, and of a patch None empties a field. `gone` says
    that a patch takes the item away, `code` the one that it moves it to.
    """

    number: int
    says: dict[str, str | None]
    gone: bool = False
    code: str | None = None


@dataclass(frozen=True, slots=True)
class ImportTable:
    """A file's headings, in their order (of objects: all that come up), and its lines."""

    headings: list[str]
    lines: list[Line] = field(default_factory=list)


def read_lines(data: bytes, form: FormName, layout: Layout, key: Sequence[str], name: str) -> ImportTable:
    r"""The lines of a file of this form; FileError (naming it `name`) when it is none.

    >>> read_lines(b"sku,price\nQA-1,9.90\n", "delimited", Layout(separator=","), ["sku"], "update-1.csv").lines
    [Line(number=2, says={'sku': 'QA-1', 'price': '9.90'}, gone=False, code=None)]
    """
    try:
        return READERS[form](data, layout, key)
    except (
        UnicodeError,
        csv.Error,
        RecursionError,
        ValueError,
        KeyError,
        TypeError,
        AttributeError,
        SyntaxError,
    ) as error:
        raise FileError(f"{name}: it is not {NAMES[form]} ({error}). Nothing of it was imported.") from None
    except python_calamine.CalamineError as error:
        raise FileError(f"{name}: it is no workbook ({error}). Nothing of it was imported.") from None


NAMES: dict[FormName, str] = {
    "delimited": "delimited text in the store's layout",
    "xlsx": "a workbook",
    "json": "a JSON array of objects",
    "json lines": "JSON Lines",
    "xml": "XML of plain rows",
    "merge patch": "a JSON Merge Patch (RFC 7396)",
    "json patch": "a JSON Patch (RFC 6902)",
}


def _delimited(data: bytes, layout: Layout, key: Sequence[str]) -> ImportTable:
    del key
    text = data.decode(layout.encoding or "utf-8").removeprefix("\ufeff")
    if layout.line_end == "CR":
        text = _ends_as_lf(text, layout)
    quote = '"' if layout.quote is None else layout.quote
    rows = csv.reader(
        io.StringIO(text, newline=""),
        delimiter=layout.separator or ",",
        quotechar=quote or None,
        quoting=csv.QUOTE_MINIMAL if quote else csv.QUOTE_NONE,
        escapechar=layout.escape or None,
        doublequote=not layout.escape,
        strict=True,
    )
    return _table(list(rows))


def _ends_as_lf(text: str, layout: Layout) -> str:
    """Text with lines that end in CR alone, which Python's reader takes for part of a cell."""
    quote, out, inside = '"' if layout.quote is None else layout.quote, [], False
    for letter in text:
        inside ^= bool(quote) and letter == quote
        out.append("\n" if letter == LINE_ENDS["CR"] and not inside else letter)
    return "".join(out)


def _xlsx(data: bytes, layout: Layout, key: Sequence[str]) -> ImportTable:
    del layout, key
    book = python_calamine.CalamineWorkbook.from_filelike(io.BytesIO(data))
    rows = book.get_sheet_by_index(0).to_python(skip_empty_area=False)
    return _table([[str(cell) for cell in row] for row in rows])


def _table(rows: list[list[str]]) -> ImportTable:
    if not rows:
        raise ValueError("it is empty")
    headings, lines = rows[0], []
    if len(set(headings)) < len(headings):
        raise ValueError("a heading stands there twice")
    for number, row in enumerate(rows[1:], 2):
        if len(row) > len(headings):
            raise ValueError(f"row {number} has {len(row)} cells where the headings are {len(headings)}")
        cells = row + [""] * (len(headings) - len(row))
        if len(headings) == 1 or any(cells):  # a blank line is none
            lines.append(Line(number, dict(zip(headings, cells, strict=True))))
    return ImportTable(headings, lines)


def _objects(rows: Sequence[Any]) -> ImportTable:
    lines = [Line(number, {name: as_text(value) for name, value in row.items()}) for number, row in enumerate(rows, 1)]
    return ImportTable(list(dict.fromkeys(name for line in lines for name in line.says)), lines)


def as_text(value: Any) -> str:  # noqa: ANN401 - any JSON value
    """A JSON value as the text of a cell; null is a blank one."""
    return value if isinstance(value, str) else "" if value is None else json.dumps(value)


def _json(data: bytes, layout: Layout, key: Sequence[str]) -> ImportTable:
    del layout, key
    rows = json.loads(data)
    if not isinstance(rows, list):
        raise ValueError("it is no array")
    return _objects(rows)


def _json_lines(data: bytes, layout: Layout, key: Sequence[str]) -> ImportTable:
    del layout, key
    return _objects([json.loads(line) for line in data.split(b"\n") if line.strip()])


def _xml(data: bytes, layout: Layout, key: Sequence[str]) -> ImportTable:
    del layout, key
    if b"<!DOCTYPE" in data or b"<!ENTITY" in data:  # no entities of a stranger's
        raise ValueError("it has a document type, which plain rows need not")
    return _objects([{cell.attrib["name"]: cell.text or "" for cell in item} for item in ElementTree.fromstring(data)])


def _merge_patch(data: bytes, layout: Layout, key: Sequence[str]) -> ImportTable:
    del layout

    def items(inner: dict[str, Any], keys: tuple[str, ...]) -> Iterator[tuple[tuple[str, ...], Any]]:
        for member, value in inner.items():
            if len(keys) + 1 < len(key) and value is not None:
                yield from items(value, (*keys, member))
            else:
                yield (*keys, member), value

    lines = []
    for number, (keys, value) in enumerate(items(json.loads(data), ()), 1):
        says: dict[str, str | None] = dict(zip(key, keys, strict=True))
        fields = (
            {} if value is None else {name: None if text is None else as_text(text) for name, text in value.items()}
        )
        lines.append(Line(number, says | fields, gone=value is None))
    return ImportTable(list(dict.fromkeys(name for line in lines for name in line.says)), lines)


def _json_patch(data: bytes, layout: Layout, key: Sequence[str]) -> ImportTable:
    """Each step is a line of its own, but for those of one item that follow each other."""
    del layout
    lines: dict[tuple[str, ...], Line] = {}
    for step in json.loads(data):
        parts = _parts(step["from"] if step["op"] == "move" else step["path"])
        keys, rest = tuple(parts[: len(key)]), parts[len(key) :]
        line = lines.setdefault(keys, Line(len(lines) + 1, dict(zip(key, keys, strict=True))))
        if step["op"] == "move":
            line.code = _parts(step["path"])[0]
        elif step["op"] == "remove":
            line.gone = line.gone or not rest
            line.says |= {rest[0]: None} if rest else {}
        elif step["op"] in {"add", "replace"}:
            line.says |= (
                {rest[0]: as_text(step["value"])} if rest else {n: as_text(v) for n, v in step["value"].items()}
            )
        else:
            raise ValueError(f"the store does not know the step {step['op']!r}")
    return ImportTable(list(dict.fromkeys(name for line in lines.values() for name in line.says)), list(lines.values()))


def _parts(pointer: str) -> list[str]:
    """The parts of a JSON Pointer (RFC 6901)."""
    return [part.replace("~1", "/").replace("~0", "~") for part in pointer.split("/")[1:]]


READERS = {
    "delimited": _delimited,
    "xlsx": _xlsx,
    "json": _json,
    "json lines": _json_lines,
    "xml": _xml,
    "merge patch": _merge_patch,
    "json patch": _json_patch,
}
