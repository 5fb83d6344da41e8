"""JSON (RFC 8259): an array of objects, or one object a line. An object has only the fields it says something of."""

from __future__ import annotations

from pathlib import Path

import msgspec
import polars as pl

from neat_delta.core.base.model.layout import Layout
from neat_delta.core.base.support.series import constant
from neat_delta.files.writers.forms.base import UpdateFormat, UpdateLayout, of_rows

__all__ = ["JSON", "JSON_LINES", "any_text"]

Row = dict[str, str | None]


def _rows(cells: pl.DataFrame) -> list[Row]:
    return [{name: text for name, text in row.items() if text is not None} for row in cells.iter_rows(named=True)]


def _write(cells: pl.DataFrame, shape: UpdateLayout) -> bytes:
    del shape
    return b"[\n" + b",\n".join(map(msgspec.json.encode, _rows(cells))) + b"\n]\n"


def _read(path: Path, shape: UpdateLayout) -> pl.DataFrame:
    del shape
    return of_rows(msgspec.json.decode(path.read_bytes(), type=list[Row]))


def _write_lines(cells: pl.DataFrame, shape: UpdateLayout) -> bytes:
    del shape
    return msgspec.json.Encoder().encode_lines(_rows(cells))


def _read_lines(path: Path, shape: UpdateLayout) -> pl.DataFrame:
    del shape
    return of_rows(msgspec.json.Decoder(Row).decode_lines(path.read_bytes()))


def any_text(texts: pl.Series, layout: Layout) -> pl.Series:
    """JSON holds every text."""
    del layout
    return constant(True, texts.len())


JSON = UpdateFormat(lambda _: ".json", _write, _read, any_text)
JSON_LINES = UpdateFormat(lambda _: ".jsonl", _write_lines, _read_lines, any_text)
