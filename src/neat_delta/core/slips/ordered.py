"""A column sorted on its own: the same values as before, on other items."""

from __future__ import annotations

import polars as pl

from neat_delta.core.kinds.number import NUMBER_KINDS
from neat_delta.core.slips.base import Round, Slip

__all__ = ["sorted_alone"]

LEAST = 12
"""So many cells must change."""

DISTINCT = 5
"""With fewer different values the same ones may stand there by chance; then the column must be in order, too."""


def sorted_alone(round_: Round) -> list[Slip]:
    """Columns of which the values after are the values before, to one in twenty and far beyond chance.

    Chance: n values drawn anew miss about half the sum, over the different values, of 0.8 times the root of twice
    their count (the mean difference of two counts). A fifth of that is the bound. And as many must go down as up, to
    one in ten: a rise of all prices by one step hits the next price's place every time.
    """
    slips = []
    for name, cells in round_.by_field(LEAST).items():
        many, values = cells.height, cells["ours"].hash()
        distinct = values.n_unique() >= DISTINCT
        if distinct and not _both_ways(cells, round_.kind(name)):
            continue
        before = values.alias("value").value_counts(name="before")
        after = cells["theirs"].hash().alias("value").value_counts(name="after")
        shared = before.join(after, on="value").select(pl.min_horizontal("before", "after").sum()).item()
        missed = many - shared
        if distinct:
            chance = float(before.select((pl.col("before") * 2).sqrt().sum() * 0.4).item())
            if missed > max(1, many // 20) or missed > chance / 5:
                continue
        elif missed or many < 20 or not _in_order(round_, name):
            continue
        why = f"{shared:,} of {many:,} changed cells hold a value that another of them held before"
        slips.append(Slip("a column sorted on its own", [name], cells["number"], why))
    return slips


def _both_ways(cells: pl.DataFrame, kind: str) -> bool:
    """Whether values go up as well as down, each in one of ten cells at least."""
    before, after = (cells[side] for side in (("old", "new") if kind in NUMBER_KINDS else ("ours", "theirs")))
    up, down = (after > before).sum(), (after < before).sum()
    return min(up, down) * 10 >= cells.height


def _in_order(round_: Round, name: str) -> bool:
    """Whether the whole column of the sheet goes up all the way, or down."""
    column = round_.sheet[name].str.strip_chars().str.to_lowercase()
    filled = column.filter(column != "")
    return filled.is_sorted() or filled.is_sorted(descending=True)
