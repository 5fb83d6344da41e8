"""Workbooks of old (.xls, BIFF), by xlrd, which also tells formats, errors and what is hidden."""

from __future__ import annotations

import datetime as dt
import io
import re
from typing import TYPE_CHECKING, Any, Literal

from neat_delta.core.base.model.catalogue import column_letter
from neat_delta.core.base.support.errors import CatalogueError
from neat_delta.files.readers.grid import Grid, Value
from neat_delta.files.readers.xlsx import choose_sheet, wanted_sheets, zeros

if TYPE_CHECKING:
    import xlrd

__all__ = ["read_xls"]

ENCRYPTED = "EncryptedPackage".encode("utf-16-le")


def read_xls(data: bytes, path: str, wanted: str | None) -> Grid:
    """One sheet of a workbook, the first or the one that is wanted. CatalogueError when it cannot be read."""
    import xlrd

    if ENCRYPTED in data:
        raise CatalogueError(f"{path}: the workbook is locked with a password. Save it without one.")
    try:
        book = xlrd.open_workbook(
            file_contents=data, formatting_info=True, on_demand=True, logfile=io.StringIO(), ragged_rows=True
        )
        return _grid(book, choose_sheet(book.sheet_names(), wanted, path))
    except CatalogueError:
        raise
    except Exception as error:  # on damaged files xlrd raises whatever the bytes lead to
        if isinstance(error, xlrd.biffh.XLRDError) and "encrypt" in str(error).lower():
            raise CatalogueError(f"{path}: the workbook is locked with a password. Save it without one.") from None
        raise CatalogueError(
            f"{path}: the workbook is damaged, or no workbook. Open it in a spreadsheet and save it again."
        ) from None


def _grid(book: xlrd.book.Book, name: str) -> Grid:
    import xlrd

    sheet = book.sheet_by_name(name)
    names = wanted_sheets(name, book.sheet_names())
    grid = Grid([], name, [other for other in book.sheet_names() if other not in names])
    if len(names) > 1:
        origin = book.sheet_by_name(names[1])
        grid.origin = [origin.row_values(row) for row in range(origin.nrows)]
    padded = {}
    for number, style in enumerate(book.xf_list):
        form = book.format_map.get(style.format_key)
        if form is not None and re.fullmatch("0{2,}(?:;.*)?", form.format_str):
            padded[number] = len(form.format_str.partition(";")[0])

    def value(row: int, column: int, kind: int, held: Any) -> Value:  # noqa: ANN401 - whatever stands there
        if kind == xlrd.XL_CELL_DATE:
            return _date(held, book.datemode)
        if kind == xlrd.XL_CELL_ERROR:
            grid.displayed[row, column] = xlrd.error_text_from_code.get(held, "#VALUE!")
            return ""
        if kind == xlrd.XL_CELL_NUMBER and sheet.cell_xf_index(row, column) in padded:
            grid.displayed[row, column] = zeros(repr(held), padded[sheet.cell_xf_index(row, column)])
        return bool(held) if kind == xlrd.XL_CELL_BOOLEAN else held

    grid.rows = [
        [
            value(row, column, kind, held)
            for column, (kind, held) in enumerate(zip(sheet.row_types(row), sheet.row_values(row), strict=True))
        ]
        for row in range(sheet.nrows)
    ]
    grid.hidden_rows = sum(bool(info.hidden) for row, info in sheet.rowinfo_map.items() if row < sheet.nrows)
    grid.hidden_columns = [
        column for column, info in sorted(sheet.colinfo_map.items()) if info.hidden and column < sheet.ncols
    ]
    grid.filtered = bool(getattr(sheet, "has_autofilter", False)) and bool(grid.hidden_rows)
    for top, bottom, left, right in sheet.merged_cells:
        grid.merged.append(f"{column_letter(left + 1)}{top + 1}:{column_letter(right)}{bottom}")
    return grid


def _date(value: float, mode: Literal[0, 1]) -> Value:
    import xlrd

    try:
        moment = xlrd.xldate_as_datetime(value, mode)
    except (xlrd.XLDateError, OverflowError, ValueError):
        return value
    return moment.time() if 0 <= value < 1 else moment if isinstance(moment, dt.datetime) else value
