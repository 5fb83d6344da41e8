"""The update tables: the smallest tables that an importer turns a change set into, and those that take it back."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import polars as pl

from neat_delta.core.catalogue import MARK, Catalogue
from neat_delta.core.changes import ChangeSet
from neat_delta.core.importer import Importer
from neat_delta.core.kinds import blank

__all__ = ["CANNOT_EMPTY", "CANNOT_REMOVE", "CANNOT_TELL_APART", "Plan", "Table", "plan"]

CANNOT_EMPTY = "the importer skips blanks, so it cannot empty a field"
CANNOT_REMOVE = "the importer cannot remove an item"
CANNOT_TELL_APART = "items with the same key had different values before"


@dataclass(frozen=True, slots=True)
class Table:
    """One update table: its key and changed fields in live's column order, "" where nothing is sent.

    `changed` counts the cells that carry a change; the key cells come on top.
    """

    cells: pl.DataFrame
    changed: int


@dataclass(frozen=True, slots=True)
class Plan:
    """What goes out, in import order, and what does not.

    `sent`      the change set's cells that the update tables carry;
    `held`      its cells that this importer cannot take, with the reason;
    `one_way`   what the undo tables cannot take back: number of the item, field (null for the whole item), reason.
    """

    update: tuple[Table, ...]
    undo: tuple[Table, ...]
    sent: pl.DataFrame
    held: pl.DataFrame
    one_way: pl.DataFrame


def plan(changes: ChangeSet, live: Catalogue, importer: Importer) -> Plan:
    """The update and undo tables of a change set for an importer, in live's order of fields.

    Where several items share a key, one row is for all of them.
    """
    order = live.fields
    sent = changes.sent()
    new = changes.items["verdict"].gather(sent["item"]) == "new"
    skips = importer.blanks == "skip"
    cannot = sent.select(blank(pl.col("after")) & skips).to_series()
    held = sent.filter(cannot).with_columns(held=pl.lit(CANNOT_EMPTY))
    sent, new = sent.filter(~cannot), new.filter(~cannot)

    # A new item without any field but its key still has a row of its own.
    added = changes.items.with_row_index("item").filter((pl.col("verdict") == "new") & pl.col("held").is_null())["item"]
    back = sent.filter(~new).with_columns(after="before", before="after")
    stays = back.select(blank(pl.col("after")) & skips).to_series()
    one_way = pl.concat(
        [
            back.filter(stays).select("item", pl.col("field").cast(pl.String), reason=pl.lit(CANNOT_EMPTY)),
            pl.DataFrame({"item": added.cast(pl.Int64)}).with_columns(
                field=pl.lit(None, pl.String), reason=pl.lit(CANNOT_REMOVE)
            ),
        ]
    )
    back = back.filter(~stays)
    if changes.header.shared:
        uniform = _uniform(changes, live, back)
        lost = back.filter(~uniform).select("item", pl.col("field").cast(pl.String), reason=pl.lit(CANNOT_TELL_APART))
        one_way, back = pl.concat([one_way, lost]), _once(changes, back.filter(uniform))
    whole, sent, new = sent, *_of_rows(changes, sent, new)
    if skips:
        rows = pl.concat([sent["item"], added.cast(pl.Int64)]).unique().sort()
        update = [_table(changes, sent, rows, order)] if rows.len() else []
        undo = [_table(changes, back, back["item"].unique().sort(), order)] if back.height else []
    else:
        update = [_table(changes, sent.filter(new), added.cast(pl.Int64), order)] if added.len() else []
        update += _grouped(changes, sent.filter(~new), order)
        undo = _grouped(changes, back, order)
    return Plan(tuple(update), tuple(undo), whole, held, one_way)


def _of_rows(changes: ChangeSet, sent: pl.DataFrame, new: pl.Series) -> tuple[pl.DataFrame, pl.Series]:
    """The cells to send, and whether they are a new item's, with the cells of items that share a key only once."""
    if not changes.header.shared:
        return sent, new
    both = _once(changes, sent.with_columns(new.alias(MARK)))
    return both.drop(MARK), both[MARK]


def _first(changes: ChangeSet) -> pl.Series:
    """Per item the first item that has its key."""
    first = pl.col(MARK).first().over(changes.keys.columns)
    return changes.keys.with_row_index(MARK).select(first.cast(pl.Int64)).to_series()


def _once(changes: ChangeSet, cells: pl.DataFrame) -> pl.DataFrame:
    first = cells.with_columns(item=_first(changes).gather(cells["item"]))
    return first.unique(["item", "field"], keep="first", maintain_order=True).sort("item", "field")


def _uniform(changes: ChangeSet, live: Catalogue, back: pl.DataFrame) -> pl.Series:
    """Per cell whether all of live's items with its key change in that field, and had the same text before."""
    key = changes.keys.columns
    twins = changes.keys.join(
        live.cells.group_by(key).agg(pl.len().alias(MARK)), on=key, how="left", maintain_order="left"
    )
    cells = back.with_columns(
        first=_first(changes).gather(back["item"]), twins=twins[MARK].gather(back["item"]).cast(pl.UInt32)
    )
    group = ["first", "field"]
    alike = (pl.len().over(group) == pl.col("twins")) & (pl.col("after").n_unique().over(group) == 1)
    return cells.select(alike).to_series()


def _grouped(changes: ChangeSet, cells: pl.DataFrame, order: Sequence[str]) -> list[Table]:
    """One table for each set of fields that change together, so that no unchanged cell has to be filled in."""
    together = cells.group_by("item", maintain_order=True).agg(pl.col("field").to_physical().alias("fields"))
    groups = together.group_by("fields").agg(pl.col("item")).with_columns(pl.col("fields").cast(pl.List(pl.Int64)))
    tables = []
    for _, items in sorted(groups.iter_rows()):
        rows = pl.Series("item", items, pl.Int64).sort()
        tables.append(_table(changes, cells.filter(pl.col("item").is_in(rows.implode())), rows, order))
    return tables


def _table(changes: ChangeSet, cells: pl.DataFrame, rows: pl.Series, order: Sequence[str]) -> Table:
    """The given items as rows, the fields of the given cells as columns."""
    columns = {field: changes.keys[field].gather(rows) for field in changes.keys.columns}
    place = cells.join(pl.DataFrame({"item": rows}).with_row_index("row"), on="item", how="left", maintain_order="left")
    for (field,), some in place.group_by("field"):
        columns[str(field)] = pl.repeat("", rows.len(), eager=True).scatter(some["row"], some["after"])
    return Table(pl.DataFrame({field: columns[field] for field in order if field in columns}), cells.height)
