"""Delimited text, in any dialect."""

from __future__ import annotations

from pathlib import Path

import polars as pl

from neat_delta.core.base.model.layout import Layout
from neat_delta.core.base.support.series import gathered, scattered, true_places
from neat_delta.files.readers.delimited import read_text
from neat_delta.files.writers.delimited import write_delimited
from neat_delta.files.writers.forms.base import UpdateFormat, UpdateLayout

__all__ = ["DELIMITED"]


def _write(cells: pl.DataFrame, shape: UpdateLayout) -> bytes:
    return write_delimited(cells.select(pl.all().fill_null("")), shape.layout, shape.name)


def _read(path: Path, shape: UpdateLayout) -> pl.DataFrame:
    return read_text(path.read_bytes(), path.name, shape.layout).cells


def _hold(texts: pl.Series, layout: Layout) -> pl.Series:
    fits = ~texts.str.contains("\0", literal=True)
    if layout.quote == "":
        fits &= ~texts.str.contains_any([layout.separator or ",", "\n", "\r"])
    if layout.encoding is not None and not layout.encoding.startswith("utf"):
        odd = true_places(texts.str.len_bytes() != texts.str.len_chars())
        wrong = pl.Series([_cannot(text, layout.encoding) for text in gathered(texts, odd)], dtype=pl.Boolean)
        fits = scattered(fits, odd.filter(wrong), False)
    return fits


def _cannot(text: str, encoding: str) -> bool:
    try:
        text.encode(encoding)
    except UnicodeEncodeError:
        return True
    return False


def _ending(layout: Layout) -> str:
    """As the media types name them: text/csv (RFC 4180), text/tab-separated-values (IANA)."""
    return ".tsv" if layout.separator == "\t" else ".csv"


DELIMITED = UpdateFormat(_ending, _write, _read, _hold)
