"""A column shifted by some rows: each cell holds what the row above or below it held."""

from __future__ import annotations

import polars as pl

from neat_delta.core.kinds.number import NUMBER_KINDS
from neat_delta.core.slips.base import Round, Slip, runs

__all__ = ["shifted"]

LEAST = 10
"""So many changed cells must follow each other in this way, with five different values or more among them."""

FARTHEST = 3
"""Rows that a column is shifted by, at most."""

STEPS = (*range(1, FARTHEST + 1), *range(-1, -FARTHEST - 1, -1))

GAP = 6
"""Rows from one changed cell to the next, at most."""


def shifted(round_: Round) -> list[Slip]:
    """Columns in which, in the sheet's order or in live's, each changed cell of a run has its neighbour's value.

    Where numbers all differ from their own value before by the same step or two, it is a rise and no shift.
    """
    slips = []
    for name, cells in round_.by_field(LEAST).items():
        if cells["theirs"].hash().is_in(cells["ours"].hash().implode()).sum() < LEAST:
            continue
        many = cells.height * FARTHEST > round_.live.height
        there = round_.had([name], pl.int_range(round_.live.height, eager=True))[name].hash() if many else None
        slip = next((found for order in ("place", "pair") if (found := _in(cells, order, name, round_, there))), None)
        if slip is not None:
            slips.append(slip)
    return slips


def _in(cells: pl.DataFrame, order: str, name: str, round_: Round, there: pl.Series | None) -> Slip | None:
    """The slip in this order of the cells; of very many, hashes of all that is `there` tell most cheaply of none."""
    some = _dense(cells.select(order, theirs=pl.col("theirs").hash()).with_row_index().sort(order), order)
    rows, here = (round_.item_at if order == "place" else round_.items), some[order].cast(pl.Int64)
    beside = {step: _within(here - step, rows.len()) for step in STEPS}
    if there is not None:
        had = there.gather(rows)
        beside = {step: at for step, at in beside.items() if _long(some["theirs"] == had.gather(at))}
    cells = cells[some["index"]] if beside else cells
    best: tuple[int, pl.DataFrame] | None = None
    for step, at in beside.items():
        held = cells.with_columns(neighbour=round_.had([name], rows.gather(at))[name])
        found = _hits(held, name, round_)
        if found.height and (best is None or found.height > best[1].height):
            best = (step, found)
    if best is None:
        return None
    step, found = best
    how = f"{abs(step)} row{'s' * (abs(step) > 1)} {'down' if step > 0 else 'up'}"
    why = f"{found.height:,} cells hold what stood {'above' if step > 0 else 'below'} them ({how})"
    return Slip("a column shifted by rows", [name], found["number"].sort(), why)


def _within(places: pl.Series, end: int) -> pl.Series:
    return places.set(~places.is_between(0, end - 1), None)


def _long(hits: pl.Series) -> bool:
    """Whether any run of hits is long enough."""
    return bool((runs(hits)["length"] >= LEAST).any())


def _dense(cells: pl.DataFrame, order: str) -> pl.DataFrame:
    """The cells that change close to each other, enough of them for a shift; now and then two neighbours are equal."""
    near = (cells[order].cast(pl.Int64).diff() <= GAP).fill_null(value=False)
    long = runs(near).filter(pl.col("length") >= LEAST - 1)
    kept = [cells.slice(start - 1, length + 1) for start, length in long.iter_rows()]
    return pl.concat(kept) if kept else cells.clear()


def _hits(held: pl.DataFrame, name: str, round_: Round) -> pl.DataFrame:
    hits = held["theirs"] == held["neighbour"]
    found = [held.clear()]
    for start, length in runs(hits).filter(pl.col("length") >= LEAST).iter_rows():
        run = held.slice(start, length)
        if run["theirs"].n_unique() < 5:
            continue
        if round_.kind(name) in NUMBER_KINDS and (run["new"] - run["old"]).n_unique() < 3:
            continue
        found.append(run)
    return pl.concat(found)
