"""The one state after: what a field of some items, or a whole catalogue, is once cells are changed."""

from __future__ import annotations

from typing import TYPE_CHECKING

import polars as pl

from neat_delta.core.support.series import constant, filtered, gathered, not_null, scattered

if TYPE_CHECKING:
    from collections.abc import Iterable

__all__ = ["field_after", "with_cells", "without"]


def field_after(texts: pl.Series, cells: pl.DataFrame, items: pl.Series | None = None) -> pl.Series:
    """A field of some items, once its cells (`item`, `after`) are changed; `texts` has it as it is, one text an item.

    `items` are the items' numbers, of which cells of others are left out; where they are not said, the items are
    counted from 0. Of two cells of one item the last counts.

    >>> cells = pl.DataFrame({"item": [4, 7], "after": ["10.50", "8.00"]})
    >>> field_after(pl.Series(["9.90", "20.00"]), cells, pl.Series([3, 4])).to_list()
    ['9.90', '10.50']
    """
    if items is None:
        return scattered(texts, cells["item"], cells["after"])
    if not cells.height:
        return texts
    at = pl.DataFrame([items.alias("item")]).with_row_index("at")
    met = cells.join(at, on="item", how="inner", maintain_order="left")
    return scattered(texts, met["at"], met["after"])


def with_cells(table: pl.DataFrame, places: pl.Series, cells: pl.DataFrame) -> pl.DataFrame:
    """A catalogue with these cells (`item`, `field`, `before`, `after`) of its items at their text after, but for those
    of new items, which have no `before`. `places` are the items' places in it, by their numbers.
    """
    in_live = filtered(cells, not_null(cells["before"]))
    return table.with_columns(_columns_after(table, places, in_live))


def _columns_after(table: pl.DataFrame, places: pl.Series, cells: pl.DataFrame) -> Iterable[pl.Series]:
    for (field,), of_field in cells.group_by("field", maintain_order=True):
        at = of_field.select(gathered(places, of_field["item"]).alias("item"), "after")
        yield field_after(table[str(field)], at).alias(str(field))


def without(table: pl.DataFrame, places: pl.Series) -> pl.DataFrame:
    """A catalogue without the items at these places."""
    return table.filter(~scattered(constant(False, table.height), places, True)) if places.len() else table
