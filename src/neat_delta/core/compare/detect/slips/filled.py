"""Cells filled down: a series (19.90, 20.90, 21.90; Item 1, Item 2) or one value dragged over many items."""

from __future__ import annotations

import polars as pl

from neat_delta.core.base.kinds import KINDS
from neat_delta.core.base.kinds.number import NUMBER_KINDS
from neat_delta.core.base.model.layout import Notation
from neat_delta.core.base.model.store import Field
from neat_delta.core.base.support.series import constant, gathered, scattered, true_places
from neat_delta.core.compare.detect.slips.base import Slip, SlipContext, gaps, runs

__all__ = ["dragged", "series"]

LEAST_SERIES = 8
"""So many changed cells must follow each other by the same step, where live's did not."""

LEAST_DRAGGED = 10
"""So many changed cells must have one value, where six in ten had one of their own."""

GAP = 3
"""Rows from one cell of a run to the next, at most: now and then live had the very value."""

SET_AT_WILL = ("flag", "choice", "list", "path", "date")
"""The kinds of which many items have one value as a matter of course."""


def series(context: SlipContext) -> list[Slip]:
    """Runs of cells whose numbers, or the last numbers in their texts, go up or down by one step."""
    slips = []
    for name, cells in context.by_field(LEAST_SERIES).items():
        settings = context.settings.get(name, Field())
        if not runs(gaps(cells["place"]) <= GAP, LEAST_SERIES - 2):
            continue
        gap = cells["place"].cast(pl.Int64).diff()
        long_enough = runs(_goes_on(cells, "after", gap, settings, context.writing) & (gap <= GAP), LEAST_SERIES - 2)
        if not long_enough:
            continue
        went_on = _goes_on(cells, "before", gap, settings, context.writing).fill_null(value=False).cum_sum().to_list()
        spans = []
        for start, length in long_enough:  # the first two cells of a series have none before them to go on from
            if (went_on[start + length - 1] - went_on[start - 1]) * 2 < length:
                spans.append(cells["number"].slice(start - 2, length + 2))
        if spans:
            cell_numbers = pl.concat(spans).unique().sort()
            example = ", ".join(cells.filter(pl.col("number").is_in(cell_numbers.implode()))["after"].head(3))
            why = f"{cell_numbers.len():,} cells go on by one step ({example[:60]}), and live's do not"
            slips.append(Slip("a series filled down", [name], cell_numbers, why))
    return slips


def _goes_on(cells: pl.DataFrame, side: str, gap: pl.Series, settings: Field, writing: Notation) -> pl.Series:
    """Per cell whether the step to it from the one before, by row, is the step to that one, and no standing still; and
    whether the two are alike but for their number.
    """
    texts = cells[side]
    if settings.kind in NUMBER_KINDS:
        values = cells["new" if side == "after" else "old"]
        rest = constant("", texts.len())
    elif settings.kind == "date":
        iso = KINDS["date"].read(texts, settings, writing).str.slice(0, 10)
        values = iso.str.to_date("%Y-%m-%d", strict=False).cast(pl.Int32).cast(pl.Decimal(38, 6))
        rest = constant("", texts.len())
    else:
        parts = texts.str.extract_groups(r"^(?s)(.*?)([0-9]{1,15})([^0-9]*)$").struct.unnest()
        parts.columns = ["head", "number", "tail"]
        values = parts["number"].cast(pl.Decimal(38, 6), strict=False)
        rest = parts.select(pl.concat_str("head", pl.lit("\x1f"), "tail")).to_series()
    step, far = values.diff(), true_places(gap != 1)
    # A step over a gap counts by row; it must come out even.
    step = scattered(step, far, (gathered(step, far) / gathered(gap, far)).round(6)) if far.len() else step
    step_, rest_ = pl.col("step"), pl.col("rest")
    goes_on = (step_ == step_.shift(1)) & (step_ != 0) & (rest_ == rest_.shift(1)).fill_null(value=False)
    return pl.DataFrame({"step": step, "rest": rest}).select(goes_on).to_series()


def dragged(context: SlipContext) -> list[Slip]:
    """Runs of cells that all got one value, which was different from item to item before."""
    slips = []
    for name, cells in context.by_field(LEAST_DRAGGED).items():
        if context.kind(name) in SET_AT_WILL:
            continue
        if not runs(gaps(cells["place"]) <= GAP, LEAST_DRAGGED - 1):
            continue
        gap = cells["place"].cast(pl.Int64).diff()
        blank_or_nothing = cells["theirs"].is_in(["", "0"]) | (cells["ours"] == "")
        same = (cells["theirs"] == cells["theirs"].shift(1)) & (gap <= GAP) & ~blank_or_nothing
        spans = []
        for start, length in runs(same, LEAST_DRAGGED - 1):
            run = cells.slice(start - 1, length + 1)
            different = run["ours"].n_unique()
            if different >= 5 and different * 10 >= run.height * 6:
                spans.append(run["number"])
        if spans:
            cell_numbers = pl.concat(spans).unique().sort()
            why = f"{cell_numbers.len():,} cells one under the other got one value, and each had its own"
            slips.append(Slip("one value over many items", [name], cell_numbers, why))
    return slips
