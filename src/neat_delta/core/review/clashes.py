"""Clashes: the cells that the sheet and the store both changed since the base, as there is to choose between."""

from __future__ import annotations

from typing import TYPE_CHECKING

import polars as pl

from neat_delta.core.base.kinds.number import NUMBER_KINDS
from neat_delta.core.base.model.reasons import CHANGED_TOO, LEFT_STORE, NEW_TOO, STILL_CHANGED
from neat_delta.core.base.model.store import Field
from neat_delta.core.base.support.series import constant, scattered, true_places
from neat_delta.core.compare.diff.clashes import carried_over

if TYPE_CHECKING:
    from neat_delta.core.base.model.changeset import ChangeSet

__all__ = ["clash_count", "clashing_cells", "clashing_items"]

SCHEMA = {
    "item": pl.Int64,
    "field": pl.String,
    "base": pl.String,
    "sheet": pl.String,
    "store": pl.String,
    "both": pl.String,
}


CLASHES = pl.col("held").is_in([CHANGED_TOO, NEW_TOO])


def clash_count(changes: ChangeSet) -> int:
    """How many cells are held as they clash."""
    return int(changes.cells.select(CLASHES.fill_null(value=False).sum()).item()) if changes.header.base else 0


def clashing_items(changes: ChangeSet) -> pl.DataFrame:
    """The items that are held as one side changed and the other gave them up: their number (`item`), why (`held`)."""
    items = changes.items.select(pl.int_range(pl.len(), dtype=pl.Int64).alias("item"), "held")
    return items.filter(pl.col("held").is_in([LEFT_STORE, STILL_CHANGED]))


def clashing_cells(changes: ChangeSet, most: int | None = None) -> pl.DataFrame:
    """The cells that are held as they clash, or the first so many: number of the `item`, `field`, the texts in `base`
    (null: it had none), in the `sheet` and in the `store`; and of numbers `both`, the store's with the sheet's
    difference (null: none).
    """
    if changes.header.base is None:
        return pl.DataFrame(schema=SCHEMA)
    cells = changes.cells.filter(CLASHES)
    cells = cells if most is None else cells.head(most)
    table = cells.select("item", pl.col("field").cast(pl.String), "base", sheet="after", store="before")
    both = constant(None, table.height, pl.String)
    for name in table["field"].unique(maintain_order=True):
        field = changes.header.settings.get(name, Field())
        # An importer cannot tell items apart that share a key: no sum is for all of them.
        if field.kind in NUMBER_KINDS and not changes.header.shared:
            at = true_places((table["field"] == name) & table["base"].is_not_null())
            cells_there = table[at]
            carried = carried_over(
                cells_there["base"], cells_there["store"], cells_there["sheet"], field, changes.header.writing
            )
            both = scattered(both, at, carried)
    return table.with_columns(both=both)
