"""Tables of hashes that are joined: of very many rows some at a time, by their hashes, so that what a join takes of
memory is bounded.
"""

from __future__ import annotations

import polars as pl

from neat_delta.core.base.support import sizes

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
    parts = parts_of(max(first.height, other.height))
    few = max(first.height, other.height) < sizes.ROWS_JOINED_IN_MEMORY
    met = []
    for part in range(parts):
        sides = [
            table.lazy() if parts == 1 else table.lazy().filter(pl.col(on[0]) % parts == part)
            for table in (first, other)
        ]
        met.append(sides[0].join(sides[1], on=on).drop(on).collect(engine="in-memory" if few else "streaming"))
    return pl.concat(met)
