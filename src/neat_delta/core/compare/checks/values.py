"""The single values in cells: one of a choice or a measure, several of a list, the levels of a path as one."""

from __future__ import annotations

import re
from dataclasses import dataclass

import polars as pl

from neat_delta.core.base.kinds.list import BETWEEN
from neat_delta.core.base.model.store import Field
from neat_delta.core.base.support.series import filtered, gathered

__all__ = ["CHOSEN", "Values", "values_of"]

CHOSEN = ("choice", "list", "path")
"""The kinds whose values an importer makes anew when it does not know them."""


@dataclass(frozen=True, slots=True)
class Values:
    """The single values (`value`, and how it is `spelt`) in the cells of a field that live has in no item as they are,
    with their `item`; and those that `live` has (none, where there is no such cell).
    """

    changed: pl.DataFrame
    live: pl.DataFrame

    def new(self, by: str = "value") -> pl.DataFrame:
        """Those of the changed ones that live does not have, by their value or by how they are `spelt`."""
        if not self.changed.height:
            return self.changed
        return self.changed.join(self.live, on=by, how="anti", maintain_order="left")


def values_of(cells: pl.DataFrame, live: pl.Series, field: Field) -> Values:
    """The single values in cells (`item`, `after`) of a field, and in live's column.

    >>> cells = pl.DataFrame({"item": [0, 4], "after": ["wax", "wax, gift"]})
    >>> values_of(cells, pl.Series(["wax", "comb"]), Field("list")).new().select("item", "value").rows()
    [(4, 'gift')]
    """
    other = cells.join(live.to_frame("after"), on="after", how="anti", maintain_order="left")
    changed = _single(other["after"], field)
    changed = changed.hstack([gathered(other["item"], changed["at"])])
    return Values(changed, _single(live.unique(), field) if other.height else changed)


def _single(texts: pl.Series, field: Field) -> pl.DataFrame:
    """The single values in texts: `at` (the text), `value`, and how it is `spelt`; blank ones are none."""
    table = pl.DataFrame({"value": texts}).with_row_index("at")
    if field.kind == "list" or (field.kind == "path" and field.separator):
        table = table.with_columns(pl.col("value").str.split(field.separator or ",")).explode("value")
    value = spelt = pl.col("value").str.strip_chars()
    if field.kind == "path":
        mark = (field.levels or ">").strip()
        value = value.str.replace_all(rf"\s*{re.escape(mark)}\s*", BETWEEN)
    table = table.with_columns(value=value, spelt=spelt)
    return filtered(table, table["value"] != "")
