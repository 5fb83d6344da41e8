"""Dates that moved as no shop moves them: by the distance of two calendars' beginnings, or to another century."""

from __future__ import annotations

import polars as pl

from neat_delta.core.base.kinds import KINDS
from neat_delta.core.base.model.store import Field
from neat_delta.core.base.support.series import spread
from neat_delta.core.compare.detect.slips.base import Slip, SlipContext

__all__ = ["dates_moved", "years_far_off"]

CALENDARS = (1_462, 1_461)
"""Days from the first day of the calendar that spreadsheets count from 1900 on to that from 1904 on."""

LEAST = 3
"""So many dates must have moved by that, and four in five of all that change."""

YEARS = 10
"""A year is far off that is so many years beyond any of live's."""

GLANCE = 1_000
"""Cells of live that are looked at for its years."""


def dates_moved(context: SlipContext) -> list[Slip]:
    """Fields whose dates moved by the distance of the two calendars."""
    slips = []
    for name, cells, before, after in _dates(context, LEAST):
        step = (after - before).abs()
        hit = step.is_in(CALENDARS).fill_null(value=False)
        if hit.sum() >= LEAST and hit.sum() * 5 >= cells.height * 4:
            why = f"{hit.sum():,} dates moved by 1,462 days, the distance of the calendars of 1900 and 1904"
            slips.append(Slip("dates of another calendar", [name], cells.filter(hit)["number"], why))
    return slips


def years_far_off(context: SlipContext) -> list[Slip]:
    """Dates in years that live does not come near: 0026, 2062."""
    slips = []
    for name, cells, before, after in _dates(context, 1):
        far = ((after - before).abs() > YEARS * 365).fill_null(value=True) & after.is_not_null()
        if not far.any():
            continue
        column = context.live.column(name)
        sample = pl.concat([spread(column, GLANCE), cells["before"].fill_null("")])
        sample_days = _days(sample, context.settings.get(name, Field()), context)
        least, most = sample_days.min(), sample_days.max()
        if least is None or most is None:
            continue
        hit = far & ((after < least - YEARS * 365) | (after > most + YEARS * 365))  # type: ignore[operator]
        if hit.any():
            why = f"{hit.sum():,} dates are more than {YEARS} years before or after all of live's"
            slips.append(Slip("a year far off", [name], cells.filter(hit)["number"], why))
    return slips


def _dates(context: SlipContext, least: int) -> list[tuple[str, pl.DataFrame, pl.Series, pl.Series]]:
    """The fields of dates with so many changed cells, these cells, and their days before and after."""
    parts = []
    for name, cells in context.by_field(least).items():
        field = context.settings.get(name, Field())
        if field.kind == "date":
            before, after = (_days(cells[side].fill_null(""), field, context) for side in ("before", "after"))
            parts.append((name, cells, before, after))
    return parts


def _days(texts: pl.Series, field: Field, context: SlipContext) -> pl.Series:
    """Dates as numbers of days, null where they cannot be read."""
    iso = KINDS["date"].read(texts, field, context.writing).str.slice(0, 10)
    return iso.str.to_date("%Y-%m-%d", strict=False).cast(pl.Int32)
