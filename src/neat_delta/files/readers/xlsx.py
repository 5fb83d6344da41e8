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

from neat_delta.core.base.model.catalogue import listed
from neat_delta.core.base.support.background import submit
from neat_delta.core.base.support.errors import CatalogueError
from neat_delta.files.readers.grid import ORIGIN, Grid, Value
from neat_delta.files.readers.packed import must_be_bounded
from neat_delta.files.readers.sheetxml import padded_styles, sheet_parts, sheet_xml

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


def read_xlsx(data: bytes, path: str, wanted: str | None) -> Grid:
    """One sheet of a workbook, the first or the one that is wanted. CatalogueError when it cannot be read."""
    archive = opened(data, path)
    damaged = CatalogueError(f"{path}: the workbook is damaged. Open it in a spreadsheet and save it again.")
    try:
        parts = sheet_parts(archive.read("xl/workbook.xml"), archive.read("xl/_rels/workbook.xml.rels"))
    except (KeyError, ValueError, zipfile.BadZipFile, zlib.error, EOFError, OSError, NotImplementedError):
        raise damaged from None
    name = choose_sheet([name for name, _ in parts], wanted, path)
    part, style_part = dict(parts)[name], "xl/styles.xml"
    names = wanted_sheets(name, [part_name for part_name, _ in parts])
    wanted_parts = {sheet_name: dict(parts)[sheet_name] for sheet_name in names}
    kept = must_be_bounded(archive, len(data), path, (*wanted_parts.values(), style_part))
    for sheet_name, its_part in wanted_parts.items():
        if its_part not in kept:
            raise damaged
        _must_be_dense(kept[its_part], path, sheet_name)
    xml, styles = kept[part], kept.get(style_part, b"")
    rows = submit(partial(calamine_rows, data, path, names))  # it leaves the interpreter alone meanwhile
    grid = Grid([], name, [other for other, _ in parts if other not in names])
    _what_values_hide(grid, xml, padded_styles(styles) if styles else {}, damaged)
    grid.rows, *origin = rows()
    grid.origin = origin[0] if origin else ()
    return grid


SHOWS_MORE = (b't="e"', b"t='e'", b"hidden=", b"mergeCell", b"filterColumn")
FORMULAS = {b"<f": (b"<f>", b"<f ", b"<f/"), b":f": (b":f>", b":f ", b":f/")}
"""What stands in the XML of a sheet that its values alone do not show; few have any of it. A formula by how it begins,
which is looked for first.
"""


def _what_values_hide(grid: Grid, xml: bytes, padded: dict[str, int], damaged: CatalogueError) -> None:
    """The cells whose text is not that of their value, the formulas without one, and what is hidden or merged."""
    formulas = (mark for begin, marks in FORMULAS.items() if begin in xml for mark in marks)
    if not padded and not any(mark in xml for mark in (*SHOWS_MORE, *formulas)):
        return

    def wanted(style: str, kind: str, formula: bool) -> bool:
        return kind == "e" or formula or (kind == "n" and style in padded)

    try:
        sheet = sheet_xml(xml, wanted)
    except ValueError:
        raise damaged from None
    for cell in sheet.cells:
        place = _place(cell.reference)
        if place is None:
            continue
        if cell.kind == "e" and cell.value is not None:
            grid.displayed[place] = cell.value
        elif cell.kind == "n" and cell.style in padded and cell.value is not None:
            grid.displayed[place] = zeros(cell.value, padded[cell.style])
        if cell.formula and not cell.value and cell.kind != "str":  # of text, "" is a value, too
            grid.uncomputed.append(place)
    grid.hidden_rows, grid.filtered, grid.merged = sheet.hidden_rows, sheet.filtered, sheet.merged
    grid.hidden_columns += sheet.hidden_columns


def _place(reference: str) -> tuple[int, int] | None:
    """The row and column (from 0) of a reference such as B7."""
    parts = re.fullmatch("([A-Z]+)([0-9]+)", reference)
    return (int(parts[2]) - 1, column_number(parts[1].encode())) if parts else None


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
        raise CatalogueError(f"{path}: the workbook has no sheet with cells. Save the table again.")
    if wanted is None:
        return names[0]
    if wanted not in names:
        raise CatalogueError(f'{path}: there is no sheet "{wanted}". It has: {listed(names)}.')
    return wanted


def wanted_sheets(name: str, names: Sequence[str]) -> list[str]:
    """The sheet to read, and the one after it that says where a working sheet was cut from, if there is one."""
    return [name, *(sheet_name for sheet_name in names if sheet_name == ORIGIN and sheet_name != name)]


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
