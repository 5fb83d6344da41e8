"""Tables of hashes that are joined: of very many rows some at a time, by their hashes, so that what a join takes of
memory is bounded.
"""

from __future__ import annotations

from collections.abc import Sequence
from functools import partial
from typing import Literal

import polars as pl

from neat_delta.core.base.support import sizes
from neat_delta.core.base.support.workers import engaged

__all__ = ["met_by_hash", "parts_of"]


MOST_PARTS = 64
"""Each part goes through both tables once more."""


def parts_of(rows: int) -> int:
    """In how many parts so many rows are worked on, for the memory it takes.

    >>> parts_of(1_000_000), parts_of(10_000_000)
    (1, 3)
    """
    return min(MOST_PARTS, 1 + rows // sizes.ROWS_JOINED_AT_ONCE)


def met_by_hash(first: pl.DataFrame, other: pl.DataFrame, on: list[str]) -> pl.DataFrame:
    """The rows of two tables that have the same hashes (unsigned integers) in the columns `on`, side by side without
    these, in any order.

    >>> live = pl.DataFrame({"live": [0, 1], "hash": [7, 8]}, schema_overrides={"hash": pl.UInt64})
    >>> sheet = pl.DataFrame({"sheet": [0, 1], "hash": [8, 9]}, schema_overrides={"hash": pl.UInt64})
    >>> met_by_hash(live, sheet, ["hash"]).rows()
    [(1, 0)]
    """
    rows, workers = max(first.height, other.height), engaged()
    if rows < sizes.ROWS_JOINED_IN_MEMORY:
        return _met((first, other), on, "in-memory")
    if workers.elsewhere:
        parts = min(MOST_PARTS, 1 + rows // sizes.ROWS_JOINED_BY_A_WORKER)
        tables = (tuple(side.collect() for side in _sides(first, other, on[0], part, parts)) for part in range(parts))
        return pl.concat(workers.map(partial(_met, on=on), tables))
    parts = parts_of(rows)
    return pl.concat([_met(_sides(first, other, on[0], part, parts), on) for part in range(parts)])


def _sides(
    first: pl.DataFrame, other: pl.DataFrame, column: str, part: int, parts: int
) -> tuple[pl.LazyFrame, pl.LazyFrame]:
    """The rows of two tables whose hashes fall into one part of so many."""
    if parts == 1:
        return first.lazy(), other.lazy()
    is_in_part = pl.col(column) % parts == part
    return first.lazy().filter(is_in_part), other.lazy().filter(is_in_part)


def _met(
    sides: Sequence[pl.DataFrame | pl.LazyFrame], on: list[str], engine: Literal["in-memory", "streaming"] = "streaming"
) -> pl.DataFrame:
    first, other = (side.lazy() for side in sides)
    return first.join(other, on=on).drop(on).collect(engine=engine)
