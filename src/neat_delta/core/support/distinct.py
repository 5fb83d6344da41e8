"""Working on the different rows of a table only, where most rows are like another: prices, stocks and choices are."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import polars as pl

__all__ = ["Alike", "alike", "all_differ", "once"]

MANY, SOME, SELDOM = 50_000, 10_000, 4
"""Of so many rows or more, so many are looked at. It pays to look for those that are alike if no more than one in four
is the first of its sort.
"""


@dataclass(frozen=True, slots=True)
class Alike:
    """The different rows of a table; and for each row which of them it is, or None if it pays to take them all."""

    different: pl.DataFrame
    which: pl.Series | None

    def each(self, found: pl.DataFrame) -> pl.DataFrame:
        """For each row of the table what was found of the row that it is like."""
        return found if self.which is None else found[self.which]


def alike(table: pl.DataFrame) -> Alike:
    """The different rows of a table, where most rows repeat another.

    Of n rows drawn from all, about n²/2d repeat another if d are different in all (the birthday problem), so a few tell
    whether they do.
    """
    if table.height < MANY:
        return Alike(table, None)
    rows = table.hash_rows()
    some = rows.gather_every(table.height // SOME)
    repeated = some.len() - some.n_unique()
    if repeated * 2 * table.height < some.len() ** 2 * SELDOM:
        return Alike(table, None)
    numbers = pl.DataFrame({"hash": rows.unique()}).with_row_index()
    which = pl.DataFrame({"hash": rows}).join(numbers, on="hash", how="left", maintain_order="left")["index"]
    at = pl.repeat(0, numbers.height, dtype=pl.UInt32, eager=True)
    different = table[at.scatter(which, pl.int_range(table.height, dtype=pl.UInt32, eager=True))]
    if not different[which].equals(table):  # two rows have one hash
        return Alike(table, None)
    return Alike(different, which)


def all_differ(table: pl.DataFrame) -> bool:
    """Whether no row of a table is like another. Counting hashes is many times cheaper than looking at texts, and where
    all hashes differ all rows do.
    """
    return table.hash_rows().n_unique() == table.height or not table.is_duplicated().any()


def once(table: pl.DataFrame, work: Callable[[pl.DataFrame], pl.DataFrame]) -> pl.DataFrame:
    """What `work` makes of the rows of a table, where it pays of each different one once; it must give one row for
    each, whatever the others are.
    """
    rows = alike(table)
    return rows.each(work(rows.different))
