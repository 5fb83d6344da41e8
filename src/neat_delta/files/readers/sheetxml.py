"""The XML of Office Open XML (ISO/IEC 29500), read by a parser: a workbook's sheets and number formats, and of a sheet
what its values alone do not show.

A document type declaration, which none of these parts may have, ends the reading: what it could make of a few bytes has
no bounds.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from posixpath import join, normpath
from xml.parsers import expat

__all__ = ["CellXml", "SheetXml", "padded_styles", "sheet_parts", "sheet_xml"]

Attributes = dict[str, str]
Element = tuple[str, Attributes]


def _parse(data: bytes, start: Callable[[str, Attributes], None], end: Callable[[str], None] | None = None,
           text: Callable[[str], None] | None = None) -> None:  # fmt: skip
    """Read a part; names come without their prefix. ValueError when it is no well-formed XML."""
    parser = expat.ParserCreate()
    parser.buffer_text = True
    parser.StartElementHandler = lambda name, attributes: start(name.rpartition(":")[2], attributes)
    if end is not None:
        parser.EndElementHandler = lambda name: end(name.rpartition(":")[2])
    parser.CharacterDataHandler = text

    def refuse(*_: object) -> None:
        raise ValueError("a document type declaration")

    parser.StartDoctypeDeclHandler = refuse
    try:
        parser.Parse(data, True)
    except expat.ExpatError as error:
        raise ValueError(str(error)) from None


def _elements(data: bytes) -> list[Element]:
    elements: list[Element] = []
    _parse(data, lambda name, attributes: elements.append((name, attributes)))
    return elements


def _local(attributes: Attributes, name: str) -> str | None:
    """An attribute that has a prefix: `r:id`, under any name of it."""
    return next((text for attribute, text in attributes.items() if attribute.endswith(f":{name}")), None)


def sheet_parts(book: bytes, relations: bytes) -> list[tuple[str, str]]:
    """The sheets with cells, in their order: name and part. ValueError when either is no XML.

    >>> book = b'<workbook xmlns:r="r"><sheets><sheet name="Prices" r:id="rId1"/></sheets></workbook>'
    >>> relations = b'<x><Relationship Id="rId1" Type="t/worksheet" Target="worksheets/sheet1.xml"/></x>'
    >>> sheet_parts(book, relations)
    [('Prices', 'xl/worksheets/sheet1.xml')]
    """
    targets = {}
    for name, attributes in _elements(relations):
        if (
            name == "Relationship"
            and "/worksheet" in attributes.get("Type", "")
            and "Id" in attributes
            and "Target" in attributes
        ):
            target = attributes["Target"]
            targets[attributes["Id"]] = (
                target[1:] if target.startswith("/") else normpath(join("xl", target)).lstrip("/")
            )
    named = [
        (attributes.get("name"), _local(attributes, "id")) for name, attributes in _elements(book) if name == "sheet"
    ]
    return [(name, targets[relation]) for name, relation in named if name is not None and relation in targets]


def padded_styles(styles: bytes) -> dict[str, int]:
    """The cell styles (as a cell names them) whose number format shows leading zeros (`00000`), with the number of
    places. None where the part is no XML: then nobody knows.
    """
    formats: dict[str, int] = {}
    padded: dict[str, int] = {}
    within, place = False, 0

    def start(name: str, attributes: Attributes) -> None:
        nonlocal within, place
        if name == "numFmt":
            code, _, _ = attributes.get("formatCode", "").partition(";")
            if len(code) > 1 and set(code) == {"0"}:
                formats[attributes.get("numFmtId", "")] = len(code)
        elif name == "cellXfs":
            within = True
        elif name == "xf" and within:
            if attributes.get("numFmtId") in formats:
                padded[str(place)] = formats[attributes["numFmtId"]]
            place += 1

    def end(name: str) -> None:
        nonlocal within
        within = within and name != "cellXfs"

    try:
        _parse(styles, start, end)
    except ValueError:
        return padded
    return padded


@dataclass(frozen=True, slots=True)
class CellXml:
    """A cell that its value alone does not show: its reference (`B7`), its style, its type, its value as it is written
    (None: it has none), and whether it has a formula.
    """

    reference: str
    style: str
    kind: str
    value: str | None
    formula: bool


@dataclass(slots=True)
class SheetXml:
    """What a sheet hides and merges: how many rows are hidden, which columns (from 0), whether rows are filtered, the
    ranges that are merged; and its cells that were asked for.
    """

    cells: list[CellXml] = field(default_factory=list)
    hidden_rows: int = 0
    hidden_columns: list[int] = field(default_factory=list)
    filtered: bool = False
    merged: list[str] = field(default_factory=list)


MOST_HIDDEN = 64
"""Of a run of hidden columns so many are named."""

TRUE = {"1", "true"}


def sheet_xml(data: bytes, wanted: Callable[[str, str, bool], bool]) -> SheetXml:
    """A sheet's XML. `wanted` says of a cell's style, type and whether it has a formula if it is to be given.

    ValueError when it is no well-formed XML.
    """
    sheet = SheetXml()
    cell: Attributes | None = None
    formula = False
    inside = ""
    texts: list[str] | None = None

    def start(name: str, attributes: Attributes) -> None:
        nonlocal cell, formula, texts, inside
        if name == "c":
            cell, formula, texts = attributes, False, None
        elif name == "v" and cell is not None:
            texts, inside = [], "v"
        elif name == "f" and cell is not None:
            formula = True
        elif name == "row":
            sheet.hidden_rows += attributes.get("hidden") in TRUE
        elif name == "col" and attributes.get("hidden") in TRUE:
            first, last = int(attributes.get("min", "1")), int(attributes.get("max", "1"))
            sheet.hidden_columns += range(first - 1, min(last, first - 1 + MOST_HIDDEN))
        elif name == "mergeCell" and "ref" in attributes:
            sheet.merged.append(attributes["ref"])
        elif name == "filterColumn":
            sheet.filtered = True

    def end(name: str) -> None:
        nonlocal cell, inside
        if name == "v":
            inside = ""
        elif name == "c" and cell is not None:
            style, kind = cell.get("s", ""), cell.get("t", "n")
            if "r" in cell and wanted(style, kind, formula):
                value = None if texts is None else "".join(texts)
                sheet.cells.append(CellXml(cell["r"], style, kind, value, formula))
            cell = None

    def text(part: str) -> None:
        if inside and texts is not None:
            texts.append(part)

    _parse(data, start, end, text)
    return sheet
