"""A change set made of what is wanted of single items, against another catalogue than the one they were compared in."""

from __future__ import annotations

from collections.abc import Mapping
from typing import get_args

import msgspec
import polars as pl

from neat_delta.core.model.catalogue import Catalogue
from neat_delta.core.model.changeset import ChangeSet, Counts, Verdict
from neat_delta.core.model.schemas import ITEMS_SCHEMA, cells_schema
from neat_delta.core.outcome.located import Located

__all__ = ["Wanted", "change_set_of"]

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
