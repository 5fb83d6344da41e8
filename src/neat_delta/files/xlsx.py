"""Workbooks in Office Open XML (.xlsx, .xlsm; ISO/IEC 29500): values by calamine, and what it passes over by a look
at the XML.

It passes over errors, number formats that show leading zeros, formulas that were never computed, and all that hides or
merges cells.
"""

from __future__ import annotations

import io
import re
import zipfile
import zlib
from collections.abc import Sequence
from functools import partial
from html import unescape
from posixpath import join, normpath

from neat_delta.core.model.catalogue import listed
from neat_delta.core.support.background import submit
from neat_delta.core.support.errors import CatalogueError
from neat_delta.files.grid import ORIGIN, Grid, Value
from neat_delta.files.packed import must_be_bounded

__all__ = [
    "MOST_CELLS",
    "calamine_rows",
    "choose_sheet",
    "column_number",
    "opened",
    "read_xlsx",
    "wanted_sheets",
    "zeros",
]

MOST_CELLS = 60_000_000
"""A sheet with cells so far apart that it covers more than this is not read."""

CELL = rb"<(?:\w+:)?c\s(?=[^>]*\br=\"([A-Z]+)([0-9]+)\")"
VALUE = rb"[^>]*>(?:(?!</?(?:\w+:)?(?:v|c)\b).)*<(?:\w+:)?v[^>]*>([^<]*)<"

FORMULA_MARKS = (b"<f>", b"<f ", b"<f/", b":f>", b":f ", b":f/")
FORMULA = rb"<(?:\w+:)?f\b(?:[^>]*/>|[^>]*>[^<]*</(?:\w+:)?f>)"


def read_xlsx(data: bytes, path: str, wanted: str | None) -> Grid:
    """One sheet of a workbook, the first or the one that is wanted. CatalogueError when it cannot be read."""
    archive = opened(data, path)
    damaged = CatalogueError(f"{path}: the workbook is damaged. Open it in a spreadsheet and save it again.")
    try:
        parts = _sheets(archive)
    except (KeyError, ValueError, zipfile.BadZipFile, zlib.error, EOFError, OSError, NotImplementedError):
        raise damaged from None
    name = choose_sheet([name for name, _ in parts], wanted, path)
    part, style_part = dict(parts)[name], "xl/styles.xml"
    names = wanted_sheets(name, [one for one, _ in parts])
    wanted_parts = {one: dict(parts)[one] for one in names}
    kept = must_be_bounded(archive, len(data), path, (*wanted_parts.values(), style_part))
    for one, its_part in wanted_parts.items():
        if its_part not in kept:
            raise damaged
        _must_be_dense(kept[its_part], path, one)
    xml, styles = kept[part], kept.get(style_part, b"")
    rows = submit(partial(calamine_rows, data, path, names))  # it leaves the interpreter alone meanwhile
    grid = Grid([], name, [other for other, _ in parts if other not in names])
    _odd_cells(grid, xml, _padded_styles(styles))
    _hidden_and_merged(grid, xml)
    grid.rows, *origin = rows()
    grid.origin = origin[0] if origin else ()
    return grid


def _odd_cells(grid: Grid, xml: bytes, padded: dict[int, int]) -> None:
    """The cells whose text is not that of their value, and the formulas without one."""
    if padded:
        marks = b"|".join(str(one).encode() for one in padded)
        for column, row, style, text in re.findall(
            CELL + rb"(?=[^>]*\bs=\"(" + marks + rb")\")(?![^>]*\bt=\"(?!n\"))" + VALUE, xml, re.DOTALL
        ):
            grid.shown[int(row) - 1, column_number(column)] = zeros(text.decode(), padded[int(style)])
    if b't="e"' in xml:
        for column, row, text in re.findall(CELL + rb"(?=[^>]*\bt=\"e\")" + VALUE, xml, re.DOTALL):
            grid.shown[int(row) - 1, column_number(column)] = unescape(text.decode())
    if any(mark in xml for mark in FORMULA_MARKS):
        for column, row in re.findall(
            CELL
            + rb"(?![^>]*\bt=\"str\")[^>]*>"
            + FORMULA
            + rb"(?:<(?:\w+:)?v\s*/>|<(?:\w+:)?v></(?:\w+:)?v>)?</(?:\w+:)?c>",
            xml,
        ):
            grid.uncomputed.append((int(row) - 1, column_number(column)))  # of text, "" is a value, too


def _hidden_and_merged(grid: Grid, xml: bytes) -> None:
    if b'hidden="' in xml:
        grid.hidden_rows = len(re.findall(rb"<(?:\w+:)?row\s[^>]*\bhidden=\"(?:1|true)\"", xml))
        for column in re.findall(rb"<(?:\w+:)?col\s[^>]*\bhidden=\"(?:1|true)\"[^>]*>", xml):
            ends = [re.search(rb'\b%s="([0-9]+)"' % end, column) for end in (b"min", b"max")]
            first, last = (int(found[1]) for found in ends if found)
            grid.hidden_columns += range(first - 1, min(last, first + 63))
    grid.filtered = b"filterColumn" in xml
    if b"mergeCell" in xml:
        merged = re.findall(rb"<(?:\w+:)?mergeCell\s[^>]*\bref=\"([A-Z0-9:]+)\"", xml)
        grid.merged = [one.decode() for one in merged]


def opened(data: bytes, path: str) -> zipfile.ZipFile:
    """A workbook's archive; CatalogueError when it is cut short or damaged."""
    try:
        return zipfile.ZipFile(io.BytesIO(data))
    except (zipfile.BadZipFile, ValueError, OSError, NotImplementedError):
        raise CatalogueError(
            f"{path}: the workbook is cut short or damaged. Copy it again, or open it in a spreadsheet and "
            "save it anew."
        ) from None


def choose_sheet(names: list[str], wanted: str | None, path: str) -> str:
    """The sheet to read; CatalogueError when there is none of the wanted name, or none at all."""
    if not names:
        raise CatalogueError(f"{path}: the workbook has no sheet with cells.")
    if wanted is None:
        return names[0]
    if wanted not in names:
        raise CatalogueError(f'{path}: there is no sheet "{wanted}". It has: {listed(names)}.')
    return wanted


def wanted_sheets(name: str, names: Sequence[str]) -> list[str]:
    """The sheet to read, and the one after it that says where a working sheet was cut from, if there is one."""
    return [name, *(one for one in names if one == ORIGIN and one != name)]


def calamine_rows(data: bytes, path: str, names: Sequence[str]) -> list[Sequence[Sequence[Value]]]:
    """The cells of these sheets by calamine, from the first row and column on."""
    from python_calamine import CalamineError, CalamineWorkbook, PasswordError

    try:
        workbook = CalamineWorkbook.from_filelike(io.BytesIO(data))
        return [workbook.get_sheet_by_name(name).to_python(skip_empty_area=False) for name in names]
    except PasswordError:
        raise CatalogueError(f"{path}: the workbook is locked with a password. Save it without one.") from None
    except BaseException as error:  # a panic in calamine is no Exception
        if not isinstance(error, (CalamineError, ValueError, OSError)) and type(error).__name__ != "PanicException":
            raise
        raise CatalogueError(
            f"{path}: the workbook cannot be read ({str(error)[:80]}). Open it in a spreadsheet and save it again."
        ) from None


def zeros(text: str, places: int) -> str:
    """A whole number with leading zeros up to so many places, as its format shows it."""
    try:
        value = float(text)
    except ValueError:
        return text
    if value < 0 or value != int(value) or value >= 1e15:
        return text
    return str(int(value)).zfill(places)


def column_number(letters: bytes) -> int:
    """The column of these letters, from 0."""
    number = 0
    for letter in letters:
        number = number * 26 + letter - 64
    return number - 1


def _sheets(archive: zipfile.ZipFile) -> list[tuple[str, str]]:
    """The sheets with cells, in their order: name and part."""
    book = archive.read("xl/workbook.xml")
    relations = archive.read("xl/_rels/workbook.xml.rels")
    targets = {}
    for relation in re.findall(rb"<(?:\w+:)?Relationship\s[^>]*>", relations):
        if b"/worksheet" in relation:
            found = [re.search(rb'\b%s="([^"]*)"' % name, relation) for name in (b"Id", b"Target")]
            if all(found):
                one, target = (unescape(match[1].decode()) for match in found if match)
                targets[one] = normpath(join("xl", target)).lstrip("/") if not target.startswith("/") else target[1:]
    sheets = []
    for sheet in re.findall(rb"<(?:\w+:)?sheet\s[^>]*>", book):
        name, relation_id = re.search(rb'\bname="([^"]*)"', sheet), re.search(rb'\b\w+:id="([^"]*)"', sheet)
        if name and relation_id and relation_id[1].decode() in targets:
            sheets.append((unescape(name[1].decode()), targets[relation_id[1].decode()]))
    return sheets


def _padded_styles(styles: bytes) -> dict[int, int]:
    """The cell styles whose number format shows leading zeros (`00000`), with the number of places."""
    formats = {}
    for one in re.findall(rb"<(?:\w+:)?numFmt\s[^>]*>", styles):
        number, code = re.search(rb'\bnumFmtId="([0-9]+)"', one), re.search(rb'\bformatCode="([^"]*)"', one)
        if number and code and re.fullmatch("0{2,}(?:;.*)?", unescape(code[1].decode())):
            formats[number[1]] = len(unescape(code[1].decode()).partition(";")[0])
    within = re.search(rb"<(?:\w+:)?cellXfs\b.*?</(?:\w+:)?cellXfs>", styles, re.DOTALL)
    found = {}
    for place, one in enumerate(re.findall(rb"<(?:\w+:)?xf\s[^>]*>", within[0] if within else b"")):
        number = re.search(rb'\bnumFmtId="([0-9]+)"', one)
        if number and number[1] in formats:
            found[place] = formats[number[1]]
    return found


def _must_be_dense(xml: bytes, path: str, name: str) -> None:
    """Calamine lays a sheet out whole: two cells at its far ends would take all memory."""
    last = xml.rfind(b"<row ") if b"<row " in xml else xml.rfind(b":row ")
    number = re.search(rb'\br="([0-9]+)"', xml[last : last + 400]) if last >= 0 else None
    rows = int(number[1]) if number else 1
    columns = 702
    if rows * 16_384 > MOST_CELLS and re.search(rb' r="[A-Z]{3}[0-9]', xml):
        cells = re.findall(rb"<(?:\w+:)?c\s[^>]*\br=\"([A-Z]{3})[0-9]+\"[^>]*(?<!/)>", xml)
        columns = max(map(column_number, set(cells)), default=701) + 1
    if columns > 702 and rows * columns > MOST_CELLS:
        raise CatalogueError(
            f'{path}: the sheet "{name}" reaches over {rows:,} rows and {columns:,} columns. Delete '
            "the cells far from the table."
        )
