"""How Polars is told to split delimited text into cells."""

from __future__ import annotations

from collections.abc import Sequence

import polars as pl

from neat_delta.files.readers.dialect import Dialect

__all__ = ["split"]


def split(source: bytes, names: Sequence[str], dialect: Dialect) -> pl.LazyFrame:
    """Delimited text as a table of texts, its header a row like any other."""
    return pl.scan_csv(
        source,
        glob=False,
        has_header=False,  # else Polars pairs columns with the schema by name, and reads quotes in headings otherwise
        schema=dict.fromkeys(names, pl.String),
        empty_string_is_null=False,
        separator=dialect.separator,
        quote_char=dialect.quote or None,
        eol_char="\r" if dialect.end == "\r" else "\n",
    )
