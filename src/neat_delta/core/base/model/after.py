"""The one state after: what a field of some items, or a whole catalogue, is once a change set, or a part of it, has
landed.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import TYPE_CHECKING

import polars as pl

from neat_delta.core.base.model.update import ITEM
from neat_delta.core.base.support.series import constant, filtered, gathered, not_null, scattered

if TYPE_CHECKING:
    from collections.abc import Iterable

    from neat_delta.core.base.model.catalogue import Catalogue
    from neat_delta.core.base.model.changeset import ChangeSet
    from neat_delta.core.base.model.importer import Removal

__all__ = [
    "CELL",
    "Requested",
    "applied",
    "catalogue_after",
    "field_after",
    "requested",
    "retiring_cells",
    "reverse",
    "rows_in_live",
    "with_cells",
    "without",
]

CELL = ["item", "field", "before", "after"]


@dataclass(frozen=True, slots=True)
class Requested:
    """All of a change set that is not held: the `cells` of known items (`CELL`; those by which items are retired, too),
    the items that are `added`, in full, after their numbers (`ITEM`), and the numbers of those `removed`.
    """

    cells: pl.DataFrame
    added: pl.DataFrame
    removed: pl.Series


def requested(changes: ChangeSet, live: Catalogue, removal: Removal) -> Requested:
    """What a change set asks for, where an item goes away as `removal` says."""
    items = changes.items.with_row_index("item").filter(pl.col("held").is_null())
    sent = changes.sent().with_columns(pl.col("field").cast(pl.String))
    cells, places = filtered(sent, not_null(sent["before"])).select(CELL), live.place(changes.items["live"])
    gone = filtered(items, items["verdict"] == "gone")["item"].cast(pl.Int64)
    if removal.how == "value":
        cells = pl.concat([cells, retiring_cells(live, places, gone, removal)])
        gone = gone.clear()
    new = filtered(items, items["verdict"] == "new")["item"].cast(pl.Int64)
    blank_rows = {name: constant("", new.len()) for name in live.fields}
    blank_rows |= {name: gathered(changes.keys[name], new) for name in changes.keys.columns}
    added = pl.DataFrame(blank_rows)
    at = scattered(constant(None, changes.items.height, pl.Int64), new, pl.int_range(new.len(), eager=True))
    added = added.with_columns(_columns_after(added, at, filtered(sent, ~not_null(sent["before"]))))
    return Requested(cells, pl.DataFrame([new.alias(ITEM), *added]), gone)


def retiring_cells(live: Catalogue, places: pl.Series, items: pl.Series, removal: Removal) -> pl.DataFrame:
    """The cells (`CELL`) by which these items are retired; `places` has the items' rows in live."""
    name, value = str(removal.heading), str(removal.value)
    now = live.at(name, gathered(places, items))
    cells = pl.DataFrame({"item": items, "before": now}).with_columns(field=pl.lit(name), after=pl.lit(value))
    return cells.select(CELL).filter(pl.col("before") != value)


def applied(changes: ChangeSet, live: Catalogue, removal: Removal) -> Catalogue:
    """Live as it is once every change that is not held has landed."""
    sent = requested(changes, live, removal)
    places = live.place(changes.items["live"])
    return replace(live, table=catalogue_after(live, places, sent.cells, sent.removed, sent.added), row_numbers=None)


def reverse(sent: Requested, live: Catalogue, places: pl.Series) -> Requested:
    """The way back from what was asked for: each cell to its text before, what was added removed, and what was removed
    as live had it; `places` has the items' rows in live.
    """
    cells = sent.cells.select("item", "field", before="after", after="before")
    return Requested(cells, rows_in_live(live, places, sent.removed), sent.added[ITEM])


def rows_in_live(live: Catalogue, places: pl.Series, items: pl.Series) -> pl.DataFrame:
    """These items as live has them, after their numbers (`ITEM`)."""
    return pl.DataFrame([items.alias(ITEM), *live.rows(gathered(places, items))])


def catalogue_after(
    live: Catalogue, places: pl.Series, cells: pl.DataFrame, removed: pl.Series, added: pl.DataFrame
) -> pl.DataFrame:
    """Live with these cells (`CELL`) changed, without the items that are removed (their numbers; `places` has their
    rows), and with those that are added at its end.
    """
    after = without(with_cells(live.cells, places, cells), gathered(places, removed))
    return pl.concat([after, added.select(live.fields)]) if added.height else after


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
