"""How Polars is told to split delimited text into cells."""

from __future__ import annotations

from collections.abc import Sequence

import polars as pl

from neat_delta.files.readers.dialect import Dialect

__all__ = ["scan", "split"]


def scan(source: bytes, names: Sequence[str], dialect: Dialect) -> pl.LazyFrame:
    """Delimited text as a table of texts, its header a row like any other; to be read in memory."""
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


def split(source: bytes, names: Sequence[str], dialect: Dialect, wanted: Sequence[str] | None = None) -> pl.DataFrame:
    r"""Delimited text as a table of texts, its header a row like any other: all of its columns, or those `wanted`.

    >>> split(b'sku,name\nQA-1,"Jar, small"\n', ["a", "b"], Dialect(",", "\n", '"', ""), ["b"])["b"].to_list()
    ['name', 'Jar, small']
    """
    table = scan(source, names, dialect)
    # Polars' other engine reads large texts as fast, and takes twice as long to begin.
    return (table if wanted is None else table.select(wanted)).collect(engine="in-memory")
