"""Tables of hashes that are joined: of very many rows some at a time, by their hashes, so that what a join takes of
memory is bounded.
"""

from __future__ import annotations

import polars as pl

from neat_delta.core.base.support import sizes

__all__ = ["met_by_hash"]


MOST_PARTS = 64
"""Each part goes through both tables once more."""


def met_by_hash(first: pl.DataFrame, other: pl.DataFrame, on: list[str]) -> pl.DataFrame:
    """The rows of two tables that have the same hashes (unsigned integers) in the columns `on`, side by side without
    these, in any order.

    >>> live = pl.DataFrame({"live": [0, 1], "hash": [7, 8]}, schema_overrides={"hash": pl.UInt64})
    >>> sheet = pl.DataFrame({"sheet": [0, 1], "hash": [8, 9]}, schema_overrides={"hash": pl.UInt64})
    >>> met_by_hash(live, sheet, ["hash"]).rows()
    [(1, 0)]
    """
    parts = min(MOST_PARTS, 1 + max(first.height, other.height) // sizes.ROWS_JOINED_AT_ONCE)
    few = max(first.height, other.height) < sizes.ROWS_JOINED_IN_MEMORY
    met = []
    for part in range(parts):
        sides = [
            table.lazy() if parts == 1 else table.lazy().filter(pl.col(on[0]) % parts == part)
            for table in (first, other)
        ]
        met.append(sides[0].join(sides[1], on=on).drop(on).collect(engine="in-memory" if few else "streaming"))
    return pl.concat(met)
