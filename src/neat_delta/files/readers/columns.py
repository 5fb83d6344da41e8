"""Apache Parquet: its columns as texts. Decimals and whole numbers keep their digits, dates and durations are ISO 8601,
lists are JSON.
"""

from __future__ import annotations

import io

import msgspec
import polars as pl
from polars.exceptions import PanicException, PolarsError

from neat_delta.core.base.model.layout import Layout
from neat_delta.core.base.support.errors import CatalogueError
from neat_delta.files.readers.delimited import Text
from neat_delta.files.readers.grid import number
from neat_delta.files.readers.headings import must_be_headings, unnamed_columns

__all__ = ["read_columns"]


def read_columns(data: bytes, path: str) -> Text:
    """The table in a file's bytes; CatalogueError when it is none."""
    try:
        table = pl.read_parquet(io.BytesIO(data))
    except (PolarsError, PanicException, OSError, ValueError):
        raise CatalogueError(f"{path}: the Parquet file cannot be read; it is damaged. Export it again.") from None
    if not table.height or not table.width:
        raise CatalogueError(f"{path}: there are no rows in it. Export it again.")
    must_be_headings(table.columns, path)
    unnamed = unnamed_columns(table.columns)
    cells = {name: _texts(table[name]) for name in table.columns if name.strip()}
    return Text(pl.DataFrame(cells), unnamed, Layout(format="parquet"), ())


def _texts(column: pl.Series) -> pl.Series:
    kind = column.dtype
    if kind == pl.Datetime:
        texts = column.dt.strftime("%Y-%m-%dT%H:%M:%S").str.strip_suffix("T00:00:00")
    elif kind.is_float():
        texts = pl.Series([None if value is None else number(value) for value in column], dtype=pl.String)
    elif kind.is_nested() or kind == pl.Binary:
        plain = (None if value is None else msgspec.json.encode(value).decode() for value in column.to_list())
        texts = pl.Series(list(plain), dtype=pl.String)
    elif kind == pl.Duration:
        texts = column.dt.to_string("iso")
    else:
        texts = column.cast(pl.String)
    return texts.fill_null("")
