"""Whether a change set and the catalogue it names belong together."""

from __future__ import annotations

from typing import TYPE_CHECKING

import polars as pl

from neat_delta.core.base.support.errors import ChangeSetError
from neat_delta.core.base.support.series import filtered, gathered, not_null

if TYPE_CHECKING:
    from neat_delta.core.base.model.catalogue import Catalogue
    from neat_delta.core.base.model.changeset import ChangeSet

__all__ = ["check_against"]


def check_against(live: Catalogue, changes: ChangeSet, name: str, *, all_fields: bool = True) -> None:
    """Hold a change set against the live catalogue it names; ChangeSetError (naming it `name`) where they disagree.
    Without `all_fields`, the catalogue has only those that change, and some others.
    """
    key = changes.header.key
    fields = changes.header.fields if all_fields else changes.cells["field"].unique().cast(pl.String).to_list()
    for field in (*key, *fields):
        if field not in live.fields:
            raise ChangeSetError(f'{name}: its field "{field}" is not in {changes.header.live.path}. Compare again.')
    in_live = changes.items.with_columns(changes.keys.select(pl.struct(key).alias("key"))).with_row_index("item")
    in_live = filtered(in_live, not_null(in_live["live"]))
    place = live.place(in_live["live"])
    if place.has_nulls():
        raise ChangeSetError(
            f"{name}: an item names a row that {changes.header.live.path} does not have. Compare again."
        )
    stands = live.rows(place, key).select(pl.struct(key)).to_series()
    _agree(stands == in_live["key"], in_live["item"], changes, name, "its key")
    places = live.place(changes.items["live"])
    known = filtered(changes.cells, not_null(changes.cells["before"]))
    for (field,), cells in known.group_by("field", maintain_order=True):
        before = live.at(str(field), gathered(places, cells["item"]))
        _agree(before == cells["before"], cells["item"], changes, name, f'"{field}" before the change')


def _agree(same: pl.Series, item: pl.Series, changes: ChangeSet, name: str, what: str) -> None:
    if not same.all():
        key = changes.keys.row(item.filter(~same)[0])
        raise ChangeSetError(
            f"{name}, {', '.join(key)}: {what} is not what stands in {changes.header.live.path}. "
            "The change set was edited by hand; compare again."
        )
