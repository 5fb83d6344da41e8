"""Workbooks: one sheet, every cell a text."""

from __future__ import annotations

import datetime as dt
import io
from pathlib import Path

import polars as pl

from neat_delta.core.base.model.layout import Layout
from neat_delta.files.reading import read
from neat_delta.files.writers.forms.base import UpdateFormat, UpdateLayout

__all__ = ["XLSX"]

LONGEST = 32_767


def _write(cells: pl.DataFrame, shape: UpdateLayout) -> bytes:
    import xlsxwriter

    del shape
    content = io.BytesIO()
    book = xlsxwriter.Workbook(content, {"in_memory": True})
    book.set_properties({"created": dt.datetime(2000, 1, 1)})
    page, text = book.add_worksheet("items"), book.add_format({"num_format": "@"})
    for column, name in enumerate(cells.columns):
        page.write_string(0, column, name)
        for row, value in enumerate(cells[name], 1):
            if value:
                page.write_string(row, column, value, text)
    book.close()
    return content.getvalue()


def _read(path: Path, shape: UpdateLayout) -> pl.DataFrame:
    del shape
    return read(str(path), Layout(format="xlsx", header_line=1)).cells


def _hold(texts: pl.Series, layout: Layout) -> pl.Series:
    del layout
    return ~texts.str.contains(r"[\x00-\x08\x0b-\x1f\ufffe\uffff]|_x[0-9A-Fa-f]{4}_") & (
        texts.str.len_chars() <= LONGEST
    )


XLSX = UpdateFormat(lambda _: ".xlsx", _write, _read, _hold)
