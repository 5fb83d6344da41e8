"""A column shifted by some rows: each cell holds what the row above or below it held."""

from __future__ import annotations

import polars as pl

from neat_delta.core.base.kinds.number import NUMBER_KINDS
from neat_delta.core.base.support.series import constant, gathered, scattered, true_places
from neat_delta.core.compare.detect.slips.base import Slip, SlipContext, gaps, runs

__all__ = ["shifted"]

LEAST = 10
"""So many changed cells must follow each other in this way, with five different values or more among them."""

FARTHEST = 3
"""Rows that a column is shifted by, at most."""

WITHIN = LEAST - FARTHEST
"""So many cells of the shortest run hold what another one of it held; the rest comes from beside it."""

STEPS = [*range(1, FARTHEST + 1), *range(-1, -FARTHEST - 1, -1)]

GAP = 6
"""Rows from one changed cell to the next, at most."""


def shifted(context: SlipContext) -> list[Slip]:
    """Columns in which, in the sheet's order or in live's, each changed cell of a run has its neighbour's value.

    Where numbers all differ from their own value before by the same step or two, it is a rise and no shift.
    """
    slips = []
    for name, cells in context.by_field(LEAST).items():
        present = None
        if cells.height * FARTHEST > context.live.height:
            present = _all(cells, name, context)
        elif cells.select(pl.col("theirs").hash().is_in(pl.col("ours").hash().implode()).sum()).item() < WITHIN:
            continue
        slip = next(
            (shift for order in ("place", "pair") if (shift := _in(cells, order, name, context, present))), None
        )
        if slip is not None:
            slips.append(slip)
    return slips


def _in(cells: pl.DataFrame, order: str, name: str, context: SlipContext, present: pl.Series | None) -> Slip | None:
    """The slip in this order of the cells; of very many, hashes of all that is `present` tell most cheaply of none."""
    dense = _dense(cells.select(order, theirs=pl.col("theirs").hash()).with_row_index().sort(order), order)
    if not dense.height:
        return None
    rows, here = (context.item_at if order == "place" else context.items), dense[order].cast(pl.Int64)
    steps = STEPS if present is None else _likely(dense["theirs"], here, gathered(present, rows))
    cells = cells[dense["index"]] if steps else cells
    best: tuple[int, pl.DataFrame] | None = None
    for step in steps:
        items = gathered(rows, _within(here - step, rows.len()))
        held = cells.hstack([context.had([name], items)[name].alias("neighbour")])
        hits = _hits(held, name, context)
        if hits.height and (best is None or hits.height > best[1].height):
            best = (step, hits)
    if best is None:
        return None
    step, hits = best
    how = f"{abs(step)} row{'s' * (abs(step) > 1)} {'down' if step > 0 else 'up'}"
    why = f"{hits.height:,} cells hold what stood {'above' if step > 0 else 'below'} them ({how})"
    return Slip("a column shifted by rows", [name], hits["number"].sort(), why)


def _within(places: pl.Series, end: int) -> pl.Series:
    return places.set(~places.is_between(0, end - 1), None)


def _all(cells: pl.DataFrame, name: str, context: SlipContext) -> pl.Series:
    """All that live has in this field, as hashes, by row."""
    here = gathered(context.items, cells["pair"])
    others = true_places(scattered(constant(True, context.live.height), here, False))
    hashes = scattered(constant(0, context.live.height, pl.UInt64), here, cells["ours"].hash())
    return scattered(hashes, others, context.had([name], others)[name].hash())


def _likely(sheet_hashes: pl.Series, here: pl.Series, had: pl.Series) -> list[int]:
    """The steps of which there may be a run that is long enough: of each, a glance at some of the cells sees two."""
    sheet_hashes, here = sheet_hashes.gather_every(LEAST // 2), here.gather_every(LEAST // 2)
    hits = {step: sheet_hashes == gathered(had, _within(here - step, had.len())) for step in STEPS}
    return [step for step in STEPS if runs(hits[step], 2)]


def _dense(cells: pl.DataFrame, order: str) -> pl.DataFrame:
    """The cells that change close to each other, enough of them for a shift; now and then two neighbours are equal."""
    near = gaps(cells[order]) <= GAP
    kept = [cells.slice(start, length + 1) for start, length in runs(near, LEAST - 1)]
    return pl.concat(kept) if kept else cells.clear()


def _hits(held: pl.DataFrame, name: str, context: SlipContext) -> pl.DataFrame:
    hits = held["theirs"] == held["neighbour"]
    hit_parts = [held.clear()]
    for start, length in runs(hits, LEAST):
        run = held.slice(start, length)
        if run["theirs"].n_unique() < 5:
            continue
        if context.kind(name) in NUMBER_KINDS and (run["new"] - run["old"]).n_unique() < 3:
            continue
        hit_parts.append(run)
    return pl.concat(hit_parts)
