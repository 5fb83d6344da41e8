"""A change set made of what is wanted of single items, against another catalogue than the one they were compared in."""

from __future__ import annotations

from typing import get_args

import msgspec
import polars as pl

from neat_delta.core.base.model.catalogue import Catalogue
from neat_delta.core.base.model.changeset import ChangeSet
from neat_delta.core.base.model.choices import Verdict
from neat_delta.core.base.model.header import Counts
from neat_delta.core.base.model.schemas import ITEMS_SCHEMA, cells_schema, conform
from neat_delta.core.base.support.series import constant, filtered, gathered, scattered
from neat_delta.core.outcomes.located import Located

__all__ = ["change_set_of"]


def change_set_of(
    changes: ChangeSet, located: Located, after: Catalogue, items: pl.DataFrame, cells: pl.DataFrame
) -> ChangeSet:
    """A change set against the catalogue `after` that makes of these items of another (`item`, `verdict`: a new code
    makes of `changed` recoded) and of their cells (`item`, `field`, `after`) what is wanted.
    """
    fields, key = changes.header.fields, changes.header.key
    recoded = filtered(cells, cells["field"].is_in(key))["item"]
    named = items["verdict"].set((items["verdict"] == "changed") & items["item"].is_in(recoded.implode()), "recoded")
    place = gathered(located.places, items["item"])
    place = place.set(named == "new", None).cast(pl.Int64)
    wanted = pl.DataFrame({"item": items["item"].cast(pl.Int64), "verdict": named, "place": place})
    wanted = wanted.sort("place", "item", nulls_last=True)
    order, named, place = wanted["item"], wanted["verdict"], wanted["place"]
    number = pl.int_range(order.len(), dtype=pl.Int64, eager=True)
    sheet = gathered(changes.items["sheet"], order).set(named == "gone", None)
    sheet = sheet.zip_with(sheet.is_not_null() & (sheet != 0) | (named == "gone"), number + 2)
    table = conform(pl.DataFrame({"verdict": named, "live": after.row(place), "sheet": sheet}), ITEMS_SCHEMA)
    at = scattered(constant(None, changes.items.height, pl.Int64), order, number)
    meant = filtered(cells, cells["field"].is_in(fields))
    meant = meant.select(item=gathered(at, meant["item"]), field=pl.col("field").cast(pl.Enum(fields)), after="after")
    meant = meant.sort("item", "field").with_columns(pl.col("field").cast(pl.String))
    before = after.texts(meant["field"], gathered(place, meant["item"]))
    cells_table = conform(meant.with_columns(before=before), cells_schema(fields))
    counted = {verdict: int((table["verdict"] == verdict).sum()) for verdict in get_args(Verdict)}
    counts = Counts(
        same=after.height - sum(counted.values()) + counted["new"],
        set_aside_live=0,
        set_aside_sheet=0,
        cells=cells_table.height,
        held_cells=0,
        blanks_kept=0,
        written_differently=0,
        **counted,
    )
    header = msgspec.structs.replace(
        changes.header, live=after.source, counts=counts, findings=[], near=[], set_aside=[], base=None,
        remembered=False, two_way=[], meanwhile={}, followed=[], lost=[],
    )  # fmt: skip
    keys = gathered(located.keys, order)
    return ChangeSet(header, keys, table, cells_table)
