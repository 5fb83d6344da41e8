"""A change set made of what is wanted of single items, against another catalogue than the one they were compared in."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from typing import get_args

import msgspec
import polars as pl

from neat_delta.core.model.after import with_cells, without
from neat_delta.core.model.catalogue import Catalogue
from neat_delta.core.model.changeset import ChangeSet
from neat_delta.core.model.choices import Verdict
from neat_delta.core.model.header import Counts
from neat_delta.core.model.importer import Removal
from neat_delta.core.model.schemas import ITEMS_SCHEMA, cells_schema, conform
from neat_delta.core.outcome.located import Located
from neat_delta.core.support.series import filtered, gathered, not_null, scattered

__all__ = ["Wanted", "applied", "change_set_of"]

Wanted = tuple[str, dict[str, str]]
"""What is to become of an item: its verdict, and its fields' texts; a new code makes of `changed` recoded."""


def change_set_of(changes: ChangeSet, located: Located, after: Catalogue, wanted: Mapping[int, Wanted]) -> ChangeSet:
    """A change set against the catalogue `after` that makes of these items of another what is wanted."""
    fields, key, places = changes.header.fields, {*changes.header.key}, located.places.to_list()
    placed = sorted((places[item], item) for item, (verdict, _) in wanted.items() if verdict != "new")
    order = [item for _, item in placed] + sorted(item for item, (verdict, _) in wanted.items() if verdict == "new")
    place = pl.Series([places[item] if wanted[item][0] != "new" else None for item in order], dtype=pl.Int64)
    named = pl.Series(
        ["recoded" if verdict == "changed" and cells.keys() & key else verdict for verdict, cells in
         (wanted[item] for item in order)],
        dtype=pl.String,
    )  # fmt: skip
    number = pl.int_range(len(order), dtype=pl.Int64, eager=True)
    sheet = gathered(changes.items["sheet"], pl.Series(order, dtype=pl.Int64)).set(named == "gone", None)
    sheet = sheet.zip_with(sheet.is_not_null() & (sheet != 0) | (named == "gone"), number + 2)
    table = conform(pl.DataFrame({"verdict": named, "live": after.row(place), "sheet": sheet}), ITEMS_SCHEMA)
    rank = {name: at for at, name in enumerate(fields)}
    meant = [
        (number, name, cells[name])
        for number, item in enumerate(order)
        for cells in (wanted[item][1],)
        for name in sorted(cells.keys() & rank.keys(), key=rank.__getitem__)
    ]
    schema = {"item": pl.Int64, "field": pl.String, "after": pl.String}
    cells_table = pl.DataFrame(meant, schema=schema, orient="row")
    before = after.texts(cells_table["field"], gathered(place, cells_table["item"]))
    cells_table = conform(cells_table.with_columns(before=before), cells_schema(fields))
    counted = {verdict: int((table["verdict"] == verdict).sum()) for verdict in get_args(Verdict)}
    counts = Counts(
        same=after.cells.height - sum(counted.values()) + counted["new"],
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
    keys = gathered(located.keys, pl.Series(order, dtype=pl.Int64))
    return ChangeSet(header, keys, table, cells_table)


def applied(changes: ChangeSet, live: Catalogue, removal: Removal) -> Catalogue:
    """Live as it is once every change that is not held has landed."""
    places = live.place(changes.items["live"])
    sent = changes.sent()
    cells = with_cells(live.cells, places, sent)
    items = changes.items.with_row_index("item").filter(pl.col("held").is_null())
    gone = gathered(places, filtered(items, items["verdict"] == "gone")["item"])
    if removal.how == "value":
        name = str(removal.heading)
        cells = cells.with_columns(scattered(cells[name], gone, str(removal.value)).alias(name))
    else:
        cells = without(cells, gone)
    new = filtered(items, items["verdict"] == "new")["item"]
    rows = {name: dict.fromkeys(live.fields, "") | changes.keys.row(name, named=True) for name in new}
    for item, field, text in filtered(sent, ~not_null(sent["before"]))[["item", "field", "after"]].iter_rows():
        rows[item][field] = text
    added = pl.DataFrame(list(rows.values()), schema=cells.schema, orient="row")
    return replace(live, cells=pl.concat([cells, added]), numbers=None)
