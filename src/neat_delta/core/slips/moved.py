"""Values that moved to another field of the same item: two columns swapped, cells shifted sideways."""

from __future__ import annotations

from collections.abc import Sequence
from itertools import combinations

import polars as pl

from neat_delta.core.slips.base import Round, Slip

__all__ = ["sideways", "swapped"]

LEAST_SWAPPED = 8
"""So many items must have the values of both fields exchanged, and half of all that change in them."""

LEAST_SIDEWAYS = 3
"""So many cells of one row must hold what stood as many columns beside them, in three rows at least."""

FARTHEST = 3
"""Columns that cells are shifted by, at most."""

GLANCE = 1_000
"""Cells of a field that are looked at first: half of all must have moved."""


def swapped(round_: Round) -> list[Slip]:
    """Two columns whose values stand in each other's place."""
    by_field = round_.by_field(LEAST_SWAPPED)
    slips = []
    for one, other in combinations(by_field, 2):
        sides = (by_field[one], other), (by_field[other], one)
        most, least = sorted((cells.height for cells, _ in sides), reverse=True)
        if least * 2 < most or not all(
            _came(cells.gather_every(max(1, cells.height // GLANCE)), [name], round_)[name].any()
            for cells, name in sides
        ):
            continue
        hits = [cells.filter(_came(cells, [name], round_)[name]) for cells, name in sides]
        both = hits[0].join(hits[1], on="pair", how="semi")
        if both.height < LEAST_SWAPPED or both.height * 2 < most:
            continue
        found = pl.concat([cells["number"] for cells in hits]).unique().sort()
        why = f"in {both.height:,} items each has what the other had"
        slips.append(Slip("two columns swapped", [one, other], found, why))
    return slips


def _came(cells: pl.DataFrame, names: Sequence[str], round_: Round) -> pl.DataFrame:
    """Whether each cell holds what each of these other fields of its item held."""
    had = round_.had(names, round_.items.gather(cells["pair"]))
    held = pl.lit(cells["typed"])
    return had.select(((pl.col(name) == held) & (held != "")).fill_null(value=False) for name in names)


def sideways(round_: Round) -> list[Slip]:
    """Rows in which values stand some columns beside their own."""
    names = {column: name for name, column in round_.columns.items() if name in round_.live.columns}
    by_field = round_.by_field(1)
    if len(by_field) < LEAST_SIDEWAYS:
        return []
    counted = pl.concat([cells["pair"] for cells in by_field.values()]).value_counts()
    likely = counted.filter(pl.col("count") >= LEAST_SIDEWAYS)["pair"]
    if likely.len() < LEAST_SIDEWAYS:
        return []
    found: dict[int, list[pl.DataFrame]] = {step: [] for step in range(-FARTHEST, FARTHEST + 1) if step}
    for name, cells in by_field.items():
        some = cells.filter(pl.col("pair").is_in(likely.implode())) if likely.len() < counted.height else cells
        beside = {step: names[at] for step in found if (at := round_.columns[name] - step) in names}
        came = _came(some, list(beside.values()), round_)
        for step, other in beside.items():
            found[step].append(some.filter(came[other]).select("pair", "field"))
    for step in sorted(found, key=abs):
        hits = pl.concat(found[step]) if found[step] else pl.DataFrame({"pair": [], "field": []})
        rows = hits.group_by("pair").len()
        if rows.filter(pl.col("len") >= LEAST_SIDEWAYS).height < LEAST_SIDEWAYS:
            continue
        # Where some rows are sure, those with a single such cell are of the same slip.
        touched = [name for name in by_field if name in set(hits["field"])]
        of_them = [by_field[name].filter(pl.col("pair").is_in(rows["pair"].implode())) for name in touched]
        why = f"in {rows.height:,} rows cells hold what stood {abs(step)} column{'s' * (abs(step) > 1)} beside them"
        return [Slip("cells shifted sideways", touched, pl.concat(of_them)["number"].sort(), why)]
    return []
