"""A decimal slip: a price, weight or the like ten, a hundred or a thousand times what it was, or that part of it."""

from __future__ import annotations

import polars as pl

from neat_delta.core.base.support.series import filtered
from neat_delta.core.compare.detect.slips.base import Slip, SlipContext

__all__ = ["decimal_slip"]

KINDS = ("decimal", "money")
"""Stock goes from 2 to 20 as a matter of course, so a few whole numbers are left alone."""

LEAST_WHOLE = 20
"""So many whole numbers of a field must go by one and the same power of ten, and four in five of all that change."""

WITHIN = 0.09
"""How far the power of ten may be missed, as a decimal logarithm: 0.81 to 1.23 times it, beyond the usual change."""

EXACTLY = 1e-9
"""Or the digits are live's, and only the mark moved."""

USUAL, FEW = 0.5, 5
"""The usual change is the median of those up to three times or down to a third, where there are so many."""


def decimal_slip(context: SlipContext) -> list[Slip]:
    """Cells whose number is ten, a hundred or a thousand times what the field's other changes lead to, or that part."""
    slips = []
    for name, cells in context.by_field(1).items():
        if context.kind(name) == "integer":
            slips += _whole_numbers(name, cells)
        if context.kind(name) not in KINDS:
            continue
        # Floating point is good enough here: it only sorts out what is far off.
        step = (pl.col("new").cast(pl.Float64) / pl.col("old").cast(pl.Float64)).log10().abs()
        if not cells.select((step > 1 - WITHIN - USUAL).any()).item():
            continue
        both = cells.lazy().select(before=pl.col("old").cast(pl.Float64), after=pl.col("new").cast(pl.Float64))
        table = both.with_columns(power=(pl.col("after") / pl.col("before")).log10()).collect(engine="in-memory")
        usual = table.filter(pl.col("power").abs() < USUAL)["power"]
        middle = float(usual.median() or 0) if usual.len() >= FEW else 0.0  # type: ignore[arg-type]
        beyond = pl.col("power") - middle
        off = table.lazy().select(
            ((pl.col("before") > 0) & (pl.col("after") > 0))
            & (_near_ten(beyond, WITHIN) | _near_ten(pl.col("power"), EXACTLY))
        )
        off_cells = filtered(cells, off.collect(engine="in-memory").to_series())
        if not off_cells.height:
            continue
        off_cells = off_cells.filter(~pl.col("theirs").is_in(_one_price(cells, off_cells).implode()))
        if off_cells.height:
            share = f"{off_cells.height:,} of {cells.height:,} changed cells"
            why = f"{share}: 10, 100 or 1,000 times what it was, or that part"
            slips.append(Slip("a decimal slip", [name], off_cells["number"], why))
    return slips


def _whole_numbers(name: str, cells: pl.DataFrame) -> list[Slip]:
    """A field of whole numbers that went to its tenfold as a whole, or to its tenth."""
    if cells.height < LEAST_WHOLE:
        return []
    for times in (10, 100, 1000):
        for up in (True, False):
            first, other = ("old", "new") if up else ("new", "old")
            hit = (cells[first] * times == cells[other]) & (cells["old"] != 0)
            off_cells = cells.filter(hit.fill_null(value=False))
            if (
                off_cells.height >= LEAST_WHOLE
                and off_cells.height * 5 >= cells.height * 4
                and off_cells["ours"].n_unique() >= 5
            ):
                why = (
                    f"{off_cells.height:,} of {cells.height:,} changed cells: {times:,} times what it was, or that part"
                )
                return [Slip("a decimal slip", [name], off_cells["number"], why)]
    return []


def _near_ten(power: pl.Expr, within: float) -> pl.Expr:
    """Whether a decimal logarithm is that of ten, a hundred or a thousand, up or down, give or take."""
    return power.abs().is_between(1 - within, 3 + within) & ((power - power.round()).abs() <= within)


def _one_price(cells: pl.DataFrame, off_cells: pl.DataFrame) -> pl.Series:
    """The found values that three or more cells get which had different ones: a clearance at 9.90 is no slip."""
    same_texts = cells.filter(pl.col("theirs").is_in(off_cells["theirs"].unique().implode()))
    return same_texts.group_by("theirs").agg(pl.col("ours").n_unique()).filter(pl.col("ours") >= 3)["theirs"]
