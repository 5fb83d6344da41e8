"""Columns made without a question to the engine, which costs as much as hundreds of cells."""

from __future__ import annotations

from typing import Any

import polars as pl

__all__ = ["constant"]


def constant(value: Any, length: int, dtype: pl.DataType | type[pl.DataType] | None = None) -> pl.Series:  # noqa: ANN401
    """A column of one value, so many times.

    >>> constant("held", 2).to_list(), constant(None, 1, pl.String).dtype
    (['held', 'held'], String)
    """
    return pl.Series([value], dtype=dtype).new_from_index(0, length)
