"""Deciding: what becomes of each finding, and so which cells and items are held. The only writer of `held`."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from dataclasses import replace
from typing import TYPE_CHECKING

import msgspec
import polars as pl

from neat_delta.core.base.model.accept import ACCEPTED_SOURCES, Accept
from neat_delta.core.base.model.changeset import ChangeSet, held
from neat_delta.core.base.model.schemas import stopping
from neat_delta.core.base.support.distinct import all_differ
from neat_delta.core.base.support.series import constant, filtered, gathered, not_null, scattered, with_series
from neat_delta.core.sheets.match.keys import KeyIndex

if TYPE_CHECKING:
    from neat_delta.core.compare.decide.policy import Policy

__all__ = ["accepted", "as_findings", "decide", "with_decisions"]

CELL_ORDER = (
    "sheet",
    "check",
    "list",
    "rule",
    "damage",
    "slip",
    "clash",
    "emptied",
    "code",
    "held",
    "follows",
    "sign-off",
)
"""Of several findings that hold one cell, the first in this order names the reason; of two of one source the first."""

ITEM_ORDER = (
    "sheet",
    "list",
    "rule",
    "code",
    "clash",
    "held",
    "near",
    "new",
    "gone",
    "check",
    "incomplete",
    "sign-off",
)
"""Likewise of those that hold a whole item."""

DAMAGED_KEY = "damaged key"
"""The rule of a near key that a spreadsheet made of live's."""

Index = Callable[[], KeyIndex]
"""The keys of the items that findings number; made only where a policy names an item."""


def accepted(findings: pl.DataFrame, index: Index, accept: Sequence[Accept]) -> pl.Series:
    """Per finding whether it is let through: by its source (one of `ACCEPTED_SOURCES`) or its check, and by its field
    or by a part of its item's key.
    """
    through = constant(False, findings.height)
    for acceptance in accept:
        column = "source" if acceptance.check in ACCEPTED_SOURCES else "rule"
        this = findings[column] == acceptance.check
        if acceptance.which is not None:
            at = (findings["field"] == acceptance.which).fill_null(value=False)
            key = gathered(index().naming([acceptance.which]), findings["item"]).fill_null(value=False)
            this &= at | key
        through |= this
    return through


def decide(findings: pl.DataFrame, index: Index, policy: Policy, exceptions: Sequence[Accept] = ()) -> pl.DataFrame:
    """What becomes of each finding: `done` is `accepted` (let through), `repaired` (live's own value is put back),
    `kept` (the cell, or the item, is left as live has it), `added` (the difference is added to live's value), `held`,
    or `noted` (nothing is held for it).

    `index` has the keys of the items, by their numbers in `findings`; `exceptions` are let through with what the policy
    accepts. `mendable` says of an emptied cell that a blank may mean "as it is", as no word was typed that empties it;
    and of a near key that there is only one way to take it.
    """
    if not findings.height:
        return findings.with_columns(done=pl.lit(None, pl.String))
    source, mend = pl.col("source"), pl.col("mendable").fill_null(value=False)
    through = pl.lit(accepted(findings, index, [*policy.accept, *exceptions]))
    through |= (source == "new") & policy.with_new | (source == "gone") & policy.with_gone
    meant = {name: policy.blanks_of(name) for name in _fields_of(findings, "emptied")}
    blanks = pl.col("field").replace_strict(meant, default="hold", return_dtype=pl.String)
    emptied, clash, near = (source == is_source for is_source in ("emptied", "clash", "near"))
    taken = near & mend & (pl.lit(policy.near_keys) | ((pl.col("rule") == DAMAGED_KEY) & policy.repair))
    chosen = {name: policy.clash_of(name) for name in _fields_of(findings, "clash")}
    choice = pl.col("field").replace_strict(chosen, default=policy.clash_of(None), return_dtype=pl.String)
    done = (
        pl.when((emptied & (blanks == "keep") & mend & ~through) | (clash & (choice == "live")))
        .then(pl.lit("kept"))
        .when(clash & mend & (choice == "add"))
        .then(pl.lit("added"))
        .when(taken)
        .then(pl.lit("repaired"))
        .when(through | (emptied & (blanks != "hold")) | (clash & (choice == "sheet")))
        .then(pl.lit("accepted"))
        .when(mend & policy.repair & ~emptied & ~clash & ~near)
        .then(pl.lit("repaired"))
        .when(pl.col("level") == "stop")
        .then(pl.lit("held"))
        .otherwise(pl.lit("noted"))
    )
    return findings.with_columns(done=done)


def _fields_of(findings: pl.DataFrame, source: str) -> Iterable[str]:
    """The fields in the cells of which a source finds something."""
    fields = findings["field"].filter(findings["source"] == source)
    return dict.fromkeys(name for name in fields.to_list() if name is not None)


def with_decisions(changes: ChangeSet, decided: pl.DataFrame) -> ChangeSet:
    """The change set with that held for which a finding says `held`, and nothing else; what is held is counted anew.

    Of items that share a key, what must not go to one goes to none, as an importer cannot tell them apart.
    """
    holding = filtered(decided, decided["done"] == "held")[["item", "field", "source", "reason"]]
    cells = _held(changes.cells, constant(None, changes.cells.height, pl.String))
    if not holding.height:
        return _counted(changes, _held(changes.items, constant(None, changes.items.height, pl.String)), cells)
    of_cells = filtered(holding, not_null(holding["field"]))
    if of_cells.height:
        first = _first(of_cells, CELL_ORDER, ["item", "field"])
        reasons = first.select("item", pl.col("field").cast(cells.schema["field"]), "reason")
        met = cells.join(reasons, on=["item", "field"], how="left", maintain_order="left")
        cells = _held(cells, met["reason"])
        if changes.header.shared:
            cells = _held(cells, _of_twins(changes, cells))
    of_items = filtered(holding, ~not_null(holding["field"]))
    every = filtered(of_items, ~not_null(of_items["item"]))["reason"]
    reason = constant(every[0] if every.len() else None, changes.items.height, pl.String)
    first = _first(filtered(of_items, not_null(of_items["item"])), ITEM_ORDER, ["item"])
    return _counted(changes, _held(changes.items, scattered(reason, first["item"], first["reason"])), cells)


def _held(rows: pl.DataFrame, reasons: pl.Series) -> pl.DataFrame:
    """Cells, or items, that are held for these reasons."""
    return with_series(rows, {"held": reasons})


def _counted(changes: ChangeSet, items: pl.DataFrame, cells: pl.DataFrame) -> ChangeSet:
    """The change set with these items and cells; what is held of them is counted."""
    counts = msgspec.structs.replace(changes.header.counts, held_cells=int(held(items, cells).sum()))
    return replace(changes, header=msgspec.structs.replace(changes.header, counts=counts), items=items, cells=cells)


def _first(holding: pl.DataFrame, order: Sequence[str], by: list[str]) -> pl.DataFrame:
    """Of the findings that hold one thing, the one that names the reason."""
    if all_differ(holding.select(by)):
        return holding
    rank = pl.col("source").replace_strict({name: place for place, name in enumerate(order)}, return_dtype=pl.UInt8)
    return holding.sort(rank, maintain_order=True).unique(by, keep="first", maintain_order=True)


def _of_twins(changes: ChangeSet, cells: pl.DataFrame) -> pl.Series:
    """Per cell why it, or the same field of an item with the same key, is held."""
    keys = KeyIndex.of(changes.keys, changes.header.compared_by).keys
    group = gathered(keys.select(pl.struct(pl.all()).rank("dense").alias("key")).to_series(), cells["item"])
    reason = pl.col("held").filter(pl.col("held").is_not_null()).first().over("key", "field")
    return cells.with_columns(key=group).select(reason).to_series()


def as_findings(changes: ChangeSet) -> pl.DataFrame:
    """What is held already in a change set that was read, as findings that hold it."""
    items = changes.items.select(pl.int_range(pl.len()).alias("item"), reason="held")
    cells = changes.cells.select("item", pl.col("field").cast(pl.String), reason="held")
    both = pl.concat([items, cells], how="diagonal").filter(pl.col("reason").is_not_null())
    return stopping(both, "held")
