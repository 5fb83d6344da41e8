"""An update as plain values: its tables, and the plan they belong to."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

import polars as pl

from neat_delta.core.base.model.catalogue import MARK

__all__ = ["ITEM", "Action", "Plan", "Table"]

ITEM = MARK + "item"
"""The column of `Plan.added` that has the items' numbers; no field is called so."""

Action = Literal["recode", "add", "change", "remove"]
"""What a table is imported for."""


@dataclass(frozen=True, slots=True)
class Table:
    """One update table: its key and fields in live's column order, null where nothing is said.

    Its cells: `changed` carry a change, `keys` name the item, `required` the importer wants in every row, and
    `carried` are live's own values, as a blank would empty them.
    """

    action: Action
    cells: pl.DataFrame
    changed: int
    required: int = 0
    carried: int = 0

    @property
    def keys(self) -> int:
        """How many cells name items."""
        cells = int(self.cells.select(pl.sum_horizontal(pl.all().count())).item()) if self.cells.width else 0
        return cells - self.changed - self.required - self.carried


@dataclass(frozen=True, slots=True)
class Plan:
    """What goes out, in import order, and what does not.

    `sent`      the change set's cells that the update tables carry, and those that retire an item;
    `set`       of these, the ones that are set in live's own items, a new code among them;
    `added`     the new items that are made: their number (`ITEM`), and every field of live with its text; where the
                importer makes an item anew for a new code, it is among them;
    `removed`   the items that go away;
    `held`      what this importer cannot take: number of the item, field (null for the whole item), reason;
    `one_way`   what the undo tables cannot take back: the same.
    """

    update: tuple[Table, ...]
    undo: tuple[Table, ...]
    sent: pl.DataFrame
    set: pl.DataFrame
    added: pl.DataFrame
    removed: pl.Series
    held: pl.DataFrame
    one_way: pl.DataFrame
