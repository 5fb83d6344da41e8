"""Undoing: what takes the sent changes back, against the catalogue as it is now."""

from __future__ import annotations

from dataclasses import replace

import msgspec
import polars as pl

from neat_delta.core.model.catalogue import Catalogue
from neat_delta.core.model.changeset import ChangeSet
from neat_delta.core.model.importer import Removal
from neat_delta.core.outcome.confirm import NEVER, Landing, confirm
from neat_delta.core.outcome.wanted import Wanted, applied, change_set_of

__all__ = ["revert"]


def revert(
    changes: ChangeSet, live: Catalogue, now: Catalogue | None = None, removal: Removal = NEVER
) -> tuple[ChangeSet, Catalogue, list[Landing]]:
    """What takes the sent changes back, as a change set against the catalogue as it is `now` (None: with every change
    landed), that catalogue, and what is left alone, since it does not stand as we set it: somebody changed it since.

    What stands as it was before needs nothing. A new item is removed only if it stands just as it was sent; one that
    was removed comes back as live had it.
    """
    key = changes.header.key
    retires = str(removal.heading) if removal.how == "value" else None
    after = now if now is not None else applied(changes, live, removal)
    result = confirm(changes, live, after, removal)
    other = {(item, one.field) for item, one in zip(result.items, result.trouble, strict=True)}
    left = [one for one in result.trouble if one.outcome == "differently"]
    located = result.located
    there, places = located.places, located.live_rows
    wanted: dict[int, Wanted] = {}
    sent = changes.sent().with_columns(pl.col("field").cast(pl.String))
    not_known = pl.col("field").is_in(changes.header.unseen) & pl.col("before").is_not_null()
    for (item,), cells in sent.filter(~not_known).group_by("item", maintain_order=True):
        number = int(str(item))
        stands = [
            (field, before)
            for field, before in cells.select("field", "before").iter_rows()
            if (number, field) not in other
        ]
        if changes.items["verdict"][number] in {"changed", "recoded"}:
            if stands:
                wanted[number] = ("changed", dict(stands))
        elif len(stands) == cells.height:
            wanted[number] = ("gone", {})
    items = changes.items.with_row_index("item").filter((pl.col("verdict") == "gone") & pl.col("held").is_null())
    for number in items["item"]:
        if retires is not None and there[number] is not None:
            if after.cells[retires][there[number]] == removal.value:
                wanted[number] = ("changed", {retires: live.cells[retires][places[number]]})
        elif there[number] is None:
            row = live.cells.row(places[number], named=True)
            wanted[number] = ("new", {name: text for name, text in row.items() if name not in key and text.strip()})
    codes = {*key} & {*changes.header.fields}
    fields = [name for name in live.fields if name in after.fields and (name not in key or name in codes)]
    header = msgspec.structs.replace(changes.header, fields=fields)
    return change_set_of(replace(changes, header=header), located, after, wanted), after, left
