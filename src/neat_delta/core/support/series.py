"""Columns made without a question to the engine, which costs as much as hundreds of cells; and the only place that
puts values into a column.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import polars as pl

__all__ = ["constant", "numbered", "scattered"]


def constant(value: Any, length: int, dtype: pl.DataType | type[pl.DataType] | None = None) -> pl.Series:  # noqa: ANN401
    """A column of one value, so many times.

    >>> constant("held", 2).to_list(), constant(None, 1, pl.String).dtype
    (['held', 'held'], String)
    """
    return pl.Series([value], dtype=dtype).new_from_index(0, length)


def numbered(lengths: Sequence[int]) -> pl.Series:
    """Of columns of these lengths that are laid together, for each row the number of the column that it is of.

    >>> numbered([2, 0, 1]).to_list()
    [0, 0, 2]
    """
    return pl.concat([constant(number, length, pl.UInt32) for number, length in enumerate(lengths)], rechunk=True)


def scattered(column: pl.Series, places: Any, values: Any) -> pl.Series:  # noqa: ANN401
    """A column with these values (or one, for all) at these places. Polars' own `scatter` changes the column itself,
    and with it what others have of it.

    >>> prices = pl.Series(["9.90", "20.00"])
    >>> scattered(prices, [0], "10.50").to_list(), prices.to_list()
    (['10.50', '20.00'], ['9.90', '20.00'])
    """
    return column.clone().scatter(places, values)
