"""Rows that are missing as if a filter had been on, and rows that were pasted twice."""

from __future__ import annotations

from collections.abc import Sequence

import polars as pl

from neat_delta.core.base.model.catalogue import Catalogue
from neat_delta.core.base.support.series import gathered
from neat_delta.core.sheets.match.rows import Matched

__all__ = ["missing", "pasted_twice"]

LEAST = 20
"""So many items must be there, and so many missing, and one in ten of live at least on each side."""

FEW = 3
"""What is there, or what is missing, must have at most so many values in the field that was filtered by."""


def missing(live: Catalogue, sheet: Catalogue, matched: Matched, fields: Sequence[str]) -> str | None:
    """Why the items that the sheet lacks look as if a filter had been on, or as if its end had been cut off; None where
    they do not.
    """
    gone, here = matched.gone, matched.pairs["live"]
    origin = sheet.origin
    if origin is not None:
        lost = origin.cut - sheet.height
        if lost >= LEAST and lost * 10 >= origin.cut:
            return f"{lost:,} of the {origin.cut:,} rows that were cut did not come back, as if a filter had been on"
        return None
    if min(gone.len(), here.len()) < max(LEAST, live.height // 10):
        return None
    if here.max() < gone.min():  # type: ignore[operator]
        return f"the last {gone.len():,} items of live are missing, as if the file had been cut off"
    for name in fields:
        column = live.column(name)
        gone_values, ours = gathered(column, gone).unique(), gathered(column, here).unique()
        if min(gone_values.len(), ours.len()) > FEW or gone_values.is_in(ours.implode()).any():
            continue
        few, which = (ours, "there") if ours.len() <= gone_values.len() else (gone_values, "missing")
        words = " or ".join(f'"{value}"' if value.strip() else "blank" for value in few.sort())
        return f"all that are {which} have {name} {words[:120]}, and no other has: as if a filter had been on"
    return None


def pasted_twice(sheet: Catalogue, key: Sequence[str], repeated: pl.Series) -> pl.Series:
    """Of the rows (by place) whose key repeats, those that are the same as one before them in every cell."""
    if not repeated.len():
        return repeated
    rows = sheet.rows(repeated)
    again = rows.select(~pl.struct(pl.all()).is_first_distinct()).to_series()
    # Where one of the rows with a key differs, nobody can say which is meant.
    alike = rows.select(pl.struct(pl.all()).n_unique().over(list(key)) == 1).to_series()
    return repeated.filter(again & alike)
