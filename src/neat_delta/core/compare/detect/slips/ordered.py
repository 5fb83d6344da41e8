"""A column sorted on its own: the same values as before, on other items."""

from __future__ import annotations

from bisect import bisect_right
from collections import Counter
from collections.abc import Sequence
from typing import Any

import polars as pl

from neat_delta.core.base.kinds.number import NUMBER_KINDS
from neat_delta.core.compare.detect.slips.base import Slip, SlipContext, gaps, runs

__all__ = ["sorted_alone", "sorted_block"]

LEAST = 12
"""So many cells must change."""

DISTINCT = 5
"""With fewer different values the same ones may stand there by chance; then the column must be in order, too."""


def sorted_alone(context: SlipContext) -> list[Slip]:
    """Columns of which the values after are the values before, to one in twenty and far beyond chance.

    Chance: n values drawn anew miss about half the sum, over the different values, of 0.8 times the root of twice
    their count (the mean difference of two counts). A fifth of that is the bound. And as many must go down as up, to
    one in ten: a rise of all prices by one step hits the next price's place every time.
    """
    slips = []
    for name, cells in context.by_field(LEAST).items():
        height, values = cells.height, cells["ours"].hash()
        distinct = values.n_unique() >= DISTINCT
        if distinct and not _both_ways(cells, context.kind(name)):
            continue
        before = values.alias("value").value_counts(name="before")
        after = cells["theirs"].hash().alias("value").value_counts(name="after")
        shared = before.join(after, on="value").select(pl.min_horizontal("before", "after").sum()).item()
        missed = height - shared
        if distinct:
            chance = float(before.select((pl.col("before") * 2).sqrt().sum() * 0.4).item())
            if missed > max(1, height // 20) or missed > chance / 5:
                continue
        elif missed or height < 20 or not _in_order(context, name):
            continue
        why = f"{shared:,} of {height:,} changed cells hold a value that another of them held before"
        slips.append(Slip("a column sorted on its own", [name], cells["number"], why))
    return slips


def _both_ways(cells: pl.DataFrame, kind: str) -> bool:
    """Whether values go up as well as down, each in one of ten cells at least."""
    before, after = (cells[side] for side in (("old", "new") if kind in NUMBER_KINDS else ("ours", "theirs")))
    up, down = (after > before).sum(), (after < before).sum()
    return min(up, down) * 10 >= cells.height


def _in_order(context: SlipContext, name: str) -> bool:
    """Whether the whole column of the sheet goes up all the way, or down."""
    column = context.sheet.column(name).str.strip_chars().str.to_lowercase()
    filled = column.filter(column != "")
    return filled.is_sorted() or filled.is_sorted(descending=True)


LEAST_BLOCK, GAP = 6, 4
"""So many cells that follow each other must hold each other's values and now be in order; rows from one to the next, at
most.
"""


def sorted_block(context: SlipContext) -> list[Slip]:
    """Runs of cells, one under the other, that hold the values that stood there before, and now in order."""
    slips = []
    for name, cells in context.by_field(LEAST_BLOCK).items():
        if cells.height * 2 > context.sheet.height and cells.height > MANY:
            continue  # so many in order are a column's, and looked for there
        spans = []
        for start, length in runs(gaps(cells["place"]) <= GAP, LEAST_BLOCK - 1):
            run = cells.slice(start, length + 1)
            spans += [part["number"] for part in _in_order_again(run, context.kind(name))]
        if spans:
            cell_numbers = pl.concat(spans).sort()
            why = f"{cell_numbers.len():,} cells one under the other hold each other's values, now in order"
            slips.append(Slip("some rows of a column sorted", [name], cell_numbers, why))
    return slips


MANY, LONGEST_BLOCK = 5_000, 60
"""Of more changed cells, a column that mostly changes is not looked at; and a block has so many cells at most."""


def _in_order_again(run: pl.DataFrame, kind: str) -> list[pl.DataFrame]:
    """The longest parts of a run whose values are a permutation of what was there, in order, and were not before.

    Of values that are numbered at random, those of a part have the same sum before and after where they are a
    permutation of each other; so the places where the sums up to there differ by the same are all where one can end.
    """
    sides = ("old", "new") if kind in NUMBER_KINDS else ("ours", "theirs")
    was, now = run["ours"].to_list(), run["theirs"].to_list()
    differences = [0]
    for ours, other in zip(was, now, strict=True):
        differences.append(differences[-1] + hash(other) - hash(ours))
    ends: dict[int, list[int]] = {}
    for place, difference in enumerate(differences):
        ends.setdefault(difference, []).append(place)
    before, after = ({way: _order_ends(run[side].to_list(), way) for way in (1, -1)} for side in sides)
    parts, start = [], 0
    while start + LEAST_BLOCK <= run.height:
        in_order, possible = 0, ends[differences[start]]
        for way in (1, -1):
            last = min(after[way][start], start + LONGEST_BLOCK)
            for stop in reversed(possible[bisect_right(possible, start) : bisect_right(possible, last)]):
                if stop - start < max(LEAST_BLOCK, in_order):
                    break
                mixed = before[way][start] < stop
                if (
                    mixed
                    and len(set(now[start:stop])) >= DISTINCT
                    and Counter(was[start:stop]) == Counter(now[start:stop])
                ):
                    in_order = stop - start
                    break
        if in_order:
            parts.append(run.slice(start, in_order))
        start += in_order or 1
    return parts


def _order_ends(values: Sequence[Any], way: int) -> list[int]:
    """For each place the one before which the values that begin there stop being in order: up (1) or down (-1)."""
    ends = [len(values)] * len(values)
    for place in range(len(values) - 2, -1, -1):
        ends[place] = ends[place + 1] if _goes(values[place], values[place + 1], way) else place + 1
    return ends


def _goes(ours: Any, other: Any, way: int) -> bool:  # noqa: ANN401 - texts, or numbers
    """Whether the step from one value to the next is not against the way: up (1) or down (-1)."""
    if ours is None or other is None:
        return False
    return bool(ours <= other if way > 0 else ours >= other)
