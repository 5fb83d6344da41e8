"""A change set made of what is wanted of single items, against another catalogue than the one they were compared in."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from typing import get_args

import msgspec
import polars as pl

from neat_delta.core.model.catalogue import Catalogue
from neat_delta.core.model.changeset import ChangeSet, Counts
from neat_delta.core.model.choices import Verdict
from neat_delta.core.model.importer import Removal
from neat_delta.core.model.schemas import ITEMS_SCHEMA, cells_schema
from neat_delta.core.outcome.located import Located
from neat_delta.core.prove.proof import with_cells, without

__all__ = ["Wanted", "applied", "change_set_of"]

Wanted = tuple[str, dict[str, str]]
"""What is to become of an item: its verdict, and its fields' texts; a new code makes of `changed` recoded."""


def change_set_of(changes: ChangeSet, located: Located, after: Catalogue, wanted: Mapping[int, Wanted]) -> ChangeSet:
    """A change set against the catalogue `after` that makes of these items of another what is wanted."""
    fields, places = changes.header.fields, located.places
    placed = sorted((places[item], item) for item, (verdict, _) in wanted.items() if verdict != "new")
    order = [item for _, item in placed] + sorted(item for item, (verdict, _) in wanted.items() if verdict == "new")
    items, rows = [], []
    for number, item in enumerate(order):
        verdict, cells = wanted[item]
        place = places[item] if verdict != "new" else None
        row = None if place is None else int(after.row(pl.Series([place]))[0])
        sheet = None if verdict == "gone" else changes.items["sheet"][item] or number + 2
        if verdict == "changed" and cells.keys() & {*changes.header.key}:
            verdict = "recoded"
        items.append((verdict, row, sheet, None))
        for name in fields:
            if name in cells:
                rows.append(
                    (number, name, None if place is None else after.cells[name][place], cells[name], None, None)
                )
    table = pl.DataFrame(items, schema=ITEMS_SCHEMA, orient="row")
    counted = {verdict: int((table["verdict"] == verdict).sum()) for verdict in get_args(Verdict)}
    counts = Counts(
        same=after.cells.height - sum(counted.values()) + counted["new"],
        set_aside_live=0,
        set_aside_sheet=0,
        cells=len(rows),
        held_cells=0,
        blanks_kept=0,
        written_differently=0,
        **counted,
    )
    header = msgspec.structs.replace(
        changes.header, live=after.source, counts=counts, findings=[], near=[], set_aside=[], base=None,
        remembered=False, two_way=[], meanwhile={}, followed=[], lost=[],
    )  # fmt: skip
    cells_table = pl.DataFrame(rows, schema=cells_schema(fields), orient="row")
    keys = located.keys.gather(pl.Series(order, dtype=pl.Int64))
    return ChangeSet(header, keys, table, cells_table)


def applied(changes: ChangeSet, live: Catalogue, removal: Removal) -> Catalogue:
    """Live as it is once every change that is not held has landed."""
    places = live.place(changes.items["live"])
    sent = changes.sent()
    cells = with_cells(live.cells, places, sent)
    items = changes.items.with_row_index("item").filter(pl.col("held").is_null())
    gone = places.gather(items.filter(pl.col("verdict") == "gone")["item"])
    if removal.how == "value":
        name = str(removal.heading)
        cells = cells.with_columns(cells[name].clone().scatter(gone, str(removal.value)).alias(name))
    else:
        cells = without(cells, gone)
    new = items.filter(pl.col("verdict") == "new")["item"]
    rows = {name: dict.fromkeys(live.fields, "") | changes.keys.row(name, named=True) for name in new}
    for item, field, text in sent.filter(pl.col("before").is_null()).select("item", "field", "after").iter_rows():
        rows[item][field] = text
    added = pl.DataFrame(list(rows.values()), schema=cells.schema, orient="row")
    return replace(live, cells=pl.concat([cells, added]), numbers=None)
