"""Working on the different rows of a table only, where most rows are like another: prices, stocks and choices are."""

from __future__ import annotations

from collections.abc import Callable

import polars as pl

__all__ = ["once"]

MANY, SOME, SELDOM = 50_000, 10_000, 4
"""Of so many rows or more, so many are looked at; it pays if no more than one in four of all is the first of its like."""


def once(table: pl.DataFrame, work: Callable[[pl.DataFrame], pl.DataFrame]) -> pl.DataFrame:
    """What `work` makes of the rows of a table, in their order; it must give one row for each, whatever the others are.

    Where rows repeat, each different row is worked on once. Of n rows drawn from all, about n²/2d repeat another if d
    are different in all (the birthday problem), so a few tell whether to look for them.
    """
    if table.height < MANY:
        return work(table)
    rows = table.hash_rows()
    some = rows.gather_every(table.height // SOME)
    repeated = some.len() - some.n_unique()
    if repeated * 2 * table.height < some.len() ** 2 * SELDOM:
        return work(table)
    numbers = pl.DataFrame({"hash": rows.unique()}).with_row_index()
    like = pl.DataFrame({"hash": rows}).join(numbers, on="hash", how="left", maintain_order="left")["index"]
    at = pl.repeat(0, numbers.height, dtype=pl.UInt32, eager=True)
    different = table[at.scatter(like, pl.int_range(table.height, dtype=pl.UInt32, eager=True))]
    if not different[like].equals(table):  # two rows have one hash
        return work(table)
    return work(different)[like]
