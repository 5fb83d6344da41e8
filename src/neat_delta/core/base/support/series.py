"""Columns made without a question to the engine, which costs as much as hundreds of cells; and the only place that
puts values into a column.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any, TypeVar

import polars as pl

from neat_delta.core.base.support import sizes

__all__ = [
    "constant",
    "filtered",
    "gathered",
    "in_lines",
    "in_one_piece",
    "in_order",
    "not_null",
    "numbered",
    "row_hashes",
    "scattered",
    "spread",
    "true_places",
    "with_series",
]

Rows = TypeVar("Rows", pl.Series, pl.DataFrame)


def constant(value: Any, length: int, dtype: pl.DataType | type[pl.DataType] | None = None) -> pl.Series:  # noqa: ANN401
    """A column of one value, so many times.

    >>> constant("held", 2).to_list(), constant(None, 1, pl.String).dtype
    (['held', 'held'], String)
    """
    return pl.Series([value], dtype=dtype).new_from_index(0, length)


def gathered(rows: Rows, places: pl.Series | Sequence[int]) -> Rows:
    """The rows of a column, or of a table, at these places (none of them negative); null where the place is.

    >>> gathered(pl.Series(["9.90", "20.00"]), pl.Series([1, None, 1])).to_list()
    ['20.00', None, '20.00']
    """
    at = places.cast(pl.UInt32) if isinstance(places, pl.Series) else pl.Series(places, dtype=pl.UInt32)
    return rows if len(rows) == at.len() >= sizes.ROWS_IN_ORDER and in_order(at) else rows[at]


def in_order(places: pl.Series) -> bool:
    """Whether places are those of all rows there are, in order.

    >>> in_order(pl.Series([0, 1, 2])), in_order(pl.Series([0, 2, 1])), in_order(pl.Series([0, None, 2]))
    (True, False, False)
    """
    if not places.len() or places.null_count() or places[0] != 0 or places[-1] != places.len() - 1:
        return False
    return bool((places == pl.int_range(places.len(), dtype=pl.UInt32, eager=True)).all())


def filtered(table: pl.DataFrame, kept: pl.Series) -> pl.DataFrame:
    """The rows of a table for which a column of truth values is true.

    >>> prices = pl.DataFrame({"sku": ["QA-1", "QA-2"], "price": ["9.90", None]})
    >>> filtered(prices, prices["price"] == "9.90").rows()
    [('QA-1', '9.90')]
    """
    return gathered(table, true_places(kept))  # which gives the table itself where all are kept


def row_hashes(table: pl.DataFrame) -> pl.Series:
    """64 bits of hash of each row of a table, by its texts in the order of its columns: whatever these are called, and
    whatever rows stand beside it.

    >>> (row_hashes(pl.DataFrame({"sku": ["QA-1", "QA-2"]})) == row_hashes(pl.DataFrame({"code": ["QA-1"]}))).to_list()
    [True, False]
    """
    return table.to_series().hash() if table.width == 1 else table.hash_rows()


def not_null(column: pl.Series) -> pl.Series:
    """Per row of a column whether it has something; most have it in all rows, or in none.

    >>> not_null(pl.Series(["9.90", None])).to_list()
    [True, False]
    """
    nulls = column.null_count()
    return column.is_not_null() if 0 < nulls < column.len() else constant(not nulls, column.len())


def spread(rows: Rows, many: int) -> Rows:
    """So many rows of a column, or of a table, evenly spread over it, or up to twice as many; all where it has no more.

    >>> spread(pl.Series(range(9)), 4).to_list(), spread(pl.Series([1, 2]), 4).to_list()
    ([0, 2, 4, 6, 8], [1, 2])
    """
    return rows if len(rows) < 2 * many else rows.gather_every(len(rows) // many)


def in_lines(table: pl.DataFrame, rows: pl.Series) -> pl.DataFrame:
    """A line for each cell of a table, column by column, whatever these are called: what `rows` has for its row, the
    name of its column (`field`), its value (`text`).

    >>> prices = pl.DataFrame({"field": ["9.90"], "text": ["20.00"]})
    >>> in_lines(prices, pl.Series("item", [7])).rows(named=True)[1]
    {'item': 7, 'field': 'text', 'text': '20.00'}
    """
    row, field, text = (f"\0{name}" for name in ("row", "field", "text"))  # no heading holds a zero character
    numbered = table.clone().insert_column(0, rows.alias(row))
    lines = numbered.unpivot(index=row, variable_name=field, value_name=text)
    lines.columns = [rows.name, "field", "text"]
    return lines


def in_one_piece(table: pl.DataFrame) -> pl.DataFrame:
    """A table whose columns have one chunk each, made column by column, so that no more than one is there twice.

    >>> in_one_piece(pl.concat([pl.DataFrame({"sku": ["QA-1"]}), pl.DataFrame({"sku": ["QA-2"]})])).n_chunks()
    1
    """
    columns = []
    for name in table.columns:
        columns.append(table[name].rechunk())
        table = table.drop(name)
    return pl.DataFrame(columns)


def true_places(column: pl.Series) -> pl.Series:
    """The places at which a column of truth values is true.

    >>> true_places(pl.Series([True, None, False, True])).to_list()
    [0, 3]
    """
    return pl.int_range(column.len(), dtype=pl.UInt32, eager=True).filter(column)


def numbered(lengths: Sequence[int]) -> pl.Series:
    """Of columns of these lengths that are laid together, for each row the number of the column that it is of.

    >>> numbered([2, 0, 1]).to_list()
    [0, 0, 2]
    """
    return pl.concat([constant(number, length, pl.UInt32) for number, length in enumerate(lengths)], rechunk=True)


def with_series(table: pl.DataFrame, columns: Mapping[str, pl.Series]) -> pl.DataFrame:
    """A table with these columns in place of its own, or after them.

    >>> prices = pl.DataFrame({"sku": ["QA-1"], "price": ["9.90"]})
    >>> with_series(prices, {"price": pl.Series(["10.50"])}).rows()
    [('QA-1', '10.50')]
    """
    return pl.DataFrame(table.to_dict() | dict(columns))


def scattered(column: pl.Series, places: Any, values: Any) -> pl.Series:  # noqa: ANN401
    """A column with these values (or one, for all) at these places. Polars' own `scatter` changes the column itself,
    and with it what others have of it.

    >>> prices = pl.Series(["9.90", "20.00"])
    >>> scattered(prices, [0], "10.50").to_list(), prices.to_list()
    (['10.50', '20.00'], ['9.90', '20.00'])
    """
    return column.clone().scatter(places, values)
