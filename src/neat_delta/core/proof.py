"""The proof: what the update files really do to live, against what they were meant to do."""

from __future__ import annotations

from collections.abc import Iterable

import polars as pl

from neat_delta.core.catalogue import Catalogue
from neat_delta.core.changes import ChangeSet
from neat_delta.core.errors import ChangeSetError, ProofError
from neat_delta.core.importer import Importer
from neat_delta.core.replay import replay
from neat_delta.core.update import Plan

__all__ = ["check_against", "prove", "target"]


def check_against(live: Catalogue, changes: ChangeSet, name: str) -> None:
    """Hold a change set against the live catalogue it names; ChangeSetError (naming it `name`) where they disagree."""
    key = changes.header.key
    for field in (*key, *changes.header.fields):
        if field not in live.fields:
            raise ChangeSetError(f'{name}: its field "{field}" is not in {changes.header.live.path}. Compare again.')
    known = changes.items.with_columns(changes.keys.select(pl.struct(key).alias("key"))).with_row_index("item")
    known = known.filter(pl.col("live").is_not_null())
    place = live.place(known["live"])
    if place.has_nulls():
        raise ChangeSetError(
            f"{name}: an item names a row that {changes.header.live.path} does not have. Compare again."
        )
    stands = live.cells.select(pl.struct(key)).to_series().gather(place)
    _agree(stands == known["key"], known["item"], changes, name, "its key")
    places = live.place(changes.items["live"])
    for (field,), cells in changes.cells.filter(pl.col("before").is_not_null()).group_by("field", maintain_order=True):
        before = live.cells[str(field)].gather(places.gather(cells["item"]))
        _agree(before == cells["before"], cells["item"], changes, name, f'"{field}" before the change')


def _agree(same: pl.Series, item: pl.Series, changes: ChangeSet, name: str, what: str) -> None:
    if not same.all():
        key = changes.keys.row(item.filter(~same)[0])
        raise ChangeSetError(
            f"{name}, {', '.join(key)}: {what} is not what stands in {changes.header.live.path}. "
            "The change set was edited by hand; compare again."
        )


def target(live: Catalogue, changes: ChangeSet, sent: pl.DataFrame) -> pl.DataFrame:
    """What live is to become: the sent cells at their value after, new items at the end, all else as it is."""
    items = changes.items.with_columns(place=live.place(changes.items["live"])).with_row_index("item")
    added = items.filter((pl.col("verdict") == "new") & pl.col("held").is_null())["item"].cast(pl.Int64)
    empty = {field: pl.repeat("", added.len(), eager=True) for field in live.fields}
    empty |= {field: changes.keys[field].gather(added) for field in changes.keys.columns}
    wanted = pl.concat([live.cells, pl.DataFrame(empty, schema=live.cells.schema)])
    place = pl.concat(
        [
            items.filter(pl.col("place").is_not_null()).select(pl.col("item").cast(pl.Int64), "place"),
            pl.DataFrame({"item": added}).select("item", place=pl.int_range(pl.len()) + live.cells.height),
        ]
    )
    cells = sent.join(place, on="item", how="left")
    for (field,), some in cells.group_by("field", maintain_order=True):
        wanted = wanted.with_columns(wanted[str(field)].clone().scatter(some["place"], some["after"]).alias(str(field)))
    return wanted


def prove(
    live: Catalogue,
    changes: ChangeSet,
    plan: Plan,
    update: Iterable[pl.DataFrame],
    undo: Iterable[pl.DataFrame],
    importer: Importer,
) -> None:
    """Replay the tables as they were written; ProofError unless they do exactly what the plan says.

    The update tables, in order, turn live into the target with no other cell touched; the undo
    tables turn that into live again, but for what the plan lists as one way.
    """
    key = changes.header.key
    after = live.cells
    for table in update:
        after = replay(after, table, key, importer, shared=changes.header.shared)
    _same(after, target(live, changes, plan.sent), key, "the update files", "the target")
    for table in undo:
        after = replay(after, table, key, importer, shared=changes.header.shared)
    stays = plan.one_way.join(
        changes.cells.select("item", pl.col("field").cast(pl.String), "after"), on=["item", "field"]
    )
    new = plan.sent.filter(changes.items["verdict"].gather(plan.sent["item"]) == "new")
    left = pl.concat(
        [stays.select("item", "field", "after"), new.select("item", pl.col("field").cast(pl.String), "after")]
    )
    _same(after, target(live, changes, left), key, "the undo files", "live")


def _same(found: pl.DataFrame, wanted: pl.DataFrame, key: list[str], files: str, what: str) -> None:
    if found.columns != wanted.columns or found.height != wanted.height:
        raise ProofError(f"replaying {files} gives {found.height:,} items where {what} has {wanted.height:,}.")
    for field in wanted.columns:
        differs = (found[field] != wanted[field]).arg_true()
        if differs.len():
            item = ", ".join(wanted.select(key).row(differs[0]))
            raise ProofError(
                f"replaying {files} does not give {what}: {item}, {field}: "
                f"{found[field][differs[0]]!r} where {wanted[field][differs[0]]!r} is wanted."
            )
