"""Working on the different rows of a table only, where most rows are like another: prices, stocks and choices are."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import polars as pl

from neat_delta.core.base.support import sizes
from neat_delta.core.base.support.joins import parts_of
from neat_delta.core.base.support.series import constant, scattered

__all__ = ["Distinct", "all_differ", "deduplicate", "map_distinct"]


@dataclass(frozen=True, slots=True)
class Distinct:
    """The different rows of a table; and for each row which of them it is, or None if it pays to take them all."""

    rows: pl.DataFrame
    which: pl.Series | None

    def expand(self, results: pl.DataFrame) -> pl.DataFrame:
        """Results for each different row (as many rows) as results for each row of the table."""
        return results if self.which is None else results[self.which]


def deduplicate(table: pl.DataFrame) -> Distinct:
    """The different rows of a table, where most rows repeat another.

    Of n rows drawn from all, about n²/2d repeat another if d are different in all (the birthday problem), so a few tell
    whether they do.

    >>> deduplicate(pl.DataFrame({"price": ["9.90", "9.90"]})).rows.height  # of few rows, all are taken
    2
    """
    if table.height < sizes.ROWS_DEDUPLICATED:
        return Distinct(table, None)
    rows = table.hash_rows()
    sample = rows.gather_every(table.height // sizes.ROWS_SAMPLED)
    repeated = sample.len() - sample.n_unique()
    if repeated * 2 * table.height < sample.len() ** 2 * sizes.ROWS_OF_A_SORT:
        return Distinct(table, None)
    groups = pl.DataFrame({"hash": rows.unique()}).with_row_index()
    which = pl.DataFrame({"hash": rows}).join(groups, on="hash", how="left", maintain_order="left")["index"]
    at = constant(0, groups.height, pl.UInt32)
    different = table[scattered(at, which, pl.int_range(table.height, dtype=pl.UInt32, eager=True))]
    if not different[which].equals(table):  # two rows have one hash
        return Distinct(table, None)
    return Distinct(different, which)


def all_differ(table: pl.DataFrame) -> bool:
    """Whether no row of a table is like another. Counting hashes is many times cheaper than looking at texts, and where
    all hashes differ all rows do.
    """
    return _distinct_hashes(table.hash_rows()) == table.height or not table.is_duplicated().any()


def _distinct_hashes(hashes: pl.Series) -> int:
    """How many different hashes there are; of very many some at a time, by their values."""
    parts = parts_of(hashes.len())
    return sum((hashes.filter(hashes % parts == part) if parts > 1 else hashes).n_unique() for part in range(parts))


def map_distinct(table: pl.DataFrame, work: Callable[[pl.DataFrame], pl.DataFrame]) -> pl.DataFrame:
    """What `work` makes of the rows of a table, where it pays of each different one only; it must give one row for
    each, whatever the others are.
    """
    distinct = deduplicate(table)
    return distinct.expand(work(distinct.rows))
