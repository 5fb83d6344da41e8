"""Values that moved to another field of the same item: two columns swapped, cells shifted sideways."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from itertools import combinations

import polars as pl

from neat_delta.core.base.support.series import filtered, gathered, in_lines, spread
from neat_delta.core.compare.detect.slips.base import Slip, SlipContext, keys

__all__ = ["sideways", "swapped"]

LEAST_SWAPPED = 8
"""So many items must have the values of both fields exchanged, and half of all that change in them."""

LEAST_SIDEWAYS = 3
"""So many cells of one row must hold what stood as many columns beside them, in three rows at least."""

FARTHEST = 3
"""Columns that cells are shifted by, at most."""

GLANCE = 1_000
"""Cells of a field that are looked at first: half of all must have moved."""


FEW_FIELDS = 12
"""Among so many fields every two are looked at; among more, those of which some items show it."""

CELLS_GLANCED_AT = 500_000
"""Cells of items of very many fields in which it is looked for what stood beside others."""

SOME, FEW, MOST_PAIRS = 64, 16, 200
"""So many items of very many fields are looked at, so many of each field that changes in hardly any of these, and so
many pairs of fields that look most like it.
"""


def swapped(context: SlipContext) -> list[Slip]:
    """Two columns whose values stand in each other's place."""
    by_field = context.by_field(LEAST_SWAPPED)
    few = len(by_field) <= FEW_FIELDS
    seen: dict[tuple[str, str], bool] = {}

    def any_came(name: str, other: str) -> bool:
        """Whether some cells of a field, at a glance, hold what another field of their items held."""
        if (name, other) not in seen:
            cells = spread(by_field[name], GLANCE)
            others = [field for field in by_field if field != name] if few else [other]
            seen.update(
                {(name, field): came for field, came in _came(cells, others, context).max().row(0, named=True).items()}
            )
        return seen[name, other]

    slips = []
    for first, other in combinations(by_field, 2) if few else _likely(by_field):
        sides = (by_field[first], other), (by_field[other], first)
        most, least = sorted((cells.height for cells, _ in sides), reverse=True)
        if least * 2 < most or not (any_came(first, other) and any_came(other, first)):
            continue
        hits = [cells.filter(_came(cells, [name], context)[name]) for cells, name in sides]
        both = hits[0].join(hits[1], on="pair", how="semi")
        if both.height < LEAST_SWAPPED or both.height * 2 < most:
            continue
        cell_numbers = pl.concat([cells["number"] for cells in hits]).unique().sort()
        why = f"in {both.height:,} items each has what the other had"
        slips.append(Slip("two columns swapped", [first, other], cell_numbers, why))
    return slips


def _likely(by_field: Mapping[str, pl.DataFrame]) -> list[tuple[str, str]]:
    """The pairs of fields of which, in some items, each has what the other had; those first in which most have.

    A text that stands in many fields of an item says nothing of any two.
    """
    cells = pl.concat(
        pl.DataFrame({"pair": part["pair"], "typed": part["typed"].hash(), "ours": part["ours"].hash()}).with_columns(
            field=pl.lit(place, pl.UInt32), blank=part["typed"] == ""
        )
        for place, part in enumerate(by_field.values())
    )
    items = spread(cells["pair"].unique().sort(), SOME)
    looked_at = cells.filter(pl.col("pair").is_in(items.implode()))["field"].value_counts()
    often = set(looked_at.filter(pl.col("count") >= LEAST_SWAPPED)["field"])
    seldom = [part["pair"] for place, part in enumerate(by_field.values()) if place not in often]
    items = pl.concat([items, *(spread(pairs, FEW) for pairs in seldom)]).unique()
    cells = cells.filter(pl.col("pair").is_in(items.implode()) & ~pl.col("blank"))
    cells = cells.filter(pl.len().over("pair", "ours") <= FEW_FIELDS, pl.len().over("pair", "typed") <= FEW_FIELDS)
    came = cells.select("pair", "field", text="typed").join(
        cells.select("pair", text="ours", other="field"), on=["pair", "text"], how="inner"
    )
    came = came.filter(pl.col("field") != pl.col("other"))
    both = came.join(
        came.select("pair", field="other", other="field").unique(), on=["pair", "field", "other"], how="semi"
    )
    counted = both.filter(pl.col("field") < pl.col("other")).group_by("field", "other").len()
    names = list(by_field)
    best = (
        counted.sort("len", "field", "other", descending=[True, False, False]).head(MOST_PAIRS).sort("field", "other")
    )
    return [(names[first], names[other]) for first, other in best[["field", "other"]].iter_rows()]


def _came(cells: pl.DataFrame, names: Sequence[str], context: SlipContext) -> pl.DataFrame:
    """Whether each cell holds what each of these other fields of its item held."""
    had = context.had(names, gathered(context.items, cells["pair"]))
    held = pl.lit(cells["typed"])
    return had.select(((pl.col(name) == held) & (held != "")).fill_null(value=False) for name in names)


def _any_beside(
    by_field: Mapping[str, pl.DataFrame], items: pl.Series, names: Mapping[int, str], context: SlipContext
) -> bool:
    """Whether, in rows enough, two changed cells hold what stood as many columns beside them. Of so many items that are
    spread over all it is looked for in every column, of the others in the cells that changed: of three cells that took
    each other's place by one column, two at least hold what stood in one of them. `names` are live's fields by column.
    """
    cells = pl.concat(
        part.select(
            "pair", typed=pl.col("typed").hash(), ours=pl.col("ours").hash(), blank=pl.col("typed") == ""
        ).with_columns(column=pl.lit(context.columns[name], pl.Int64))
        for name, part in by_field.items()
    )
    cells = cells.filter(pl.col("pair").is_in(items.implode()))
    sample = spread(items.sort(), max(SOME, CELLS_GLANCED_AT // len(names)))
    texts = keys(context.live.rows(gathered(context.items, sample), list(names.values()))).select(pl.all().hash())
    texts.columns = [str(column) for column in names]
    stood = in_lines(texts, sample).rename({"field": "column", "text": "had"})
    others = cells.filter(~pl.col("pair").is_in(sample.implode())).select("pair", "column", had="ours")
    had = pl.concat([stood.with_columns(pl.col("column").cast(pl.Int64)), others])
    for step in (step for step in range(-FARTHEST, FARTHEST + 1) if step):
        beside = filtered(cells, ~cells["blank"]).select("pair", "typed", column=pl.col("column") - step)
        hits = beside.join(had, on=["pair", "column"], how="inner").filter(pl.col("typed") == pl.col("had"))
        if hits.group_by("pair").len().filter(pl.col("len") >= LEAST_SIDEWAYS - 1).height >= LEAST_SIDEWAYS:
            return True
    return False


def sideways(context: SlipContext) -> list[Slip]:
    """Rows in which values stand some columns beside their own."""
    columns = set(context.live.fields)
    names = {column: name for name, column in context.columns.items() if name in columns}
    by_field = context.by_field(1)
    if len(by_field) < LEAST_SIDEWAYS:
        return []
    counted = pl.concat([cells["pair"] for cells in by_field.values()]).value_counts()
    likely = filtered(counted, counted["count"] >= LEAST_SIDEWAYS)["pair"]
    if likely.len() < LEAST_SIDEWAYS:
        return []
    if len(by_field) > FEW_FIELDS and not _any_beside(by_field, likely, names, context):
        return []
    hits_by_step: dict[int, list[pl.DataFrame]] = {step: [] for step in range(-FARTHEST, FARTHEST + 1) if step}
    for name, cells in by_field.items():
        likely_cells = cells.filter(pl.col("pair").is_in(likely.implode())) if likely.len() < counted.height else cells
        beside = {step: names[at] for step in hits_by_step if (at := context.columns[name] - step) in names}
        came = _came(likely_cells, list(beside.values()), context)
        for step, other in beside.items():
            hits_by_step[step].append(likely_cells.filter(came[other])[["pair", "field"]])
    for step in sorted(hits_by_step, key=abs):
        hits = pl.concat(hits_by_step[step]) if hits_by_step[step] else pl.DataFrame({"pair": [], "field": []})
        rows = hits.group_by("pair").len()
        if filtered(rows, rows["len"] >= LEAST_SIDEWAYS).height < LEAST_SIDEWAYS:
            continue
        # Where some rows are sure, those with a single such cell are of the same slip.
        touched = [name for name in by_field if name in set(hits["field"])]
        of_them = [by_field[name].filter(pl.col("pair").is_in(rows["pair"].implode())) for name in touched]
        why = f"in {rows.height:,} rows cells hold what stood {abs(step)} column{'s' * (abs(step) > 1)} beside them"
        return [Slip("cells shifted sideways", touched, pl.concat(of_them)["number"].sort(), why)]
    return []
