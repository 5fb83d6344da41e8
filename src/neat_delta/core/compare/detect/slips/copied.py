"""Values copied where others belong: a column over another, a row over others, and keys that were sorted without their
rows.
"""

from __future__ import annotations

from collections.abc import Mapping

import polars as pl

from neat_delta.core.base.support.series import constant, gathered, in_lines, spread
from neat_delta.core.compare.detect.slips.base import Slip, SlipContext, keys

__all__ = ["column_over_another", "keys_sorted_alone", "row_over_others"]

LEAST_COPIED, DISTINCT = 8, 5
"""So many cells of a field must hold what another field of their item holds, of so many different values."""

LEAST_ROWS, LEAST_FIELDS = 3, 3
"""So many items must have become the same in all their fields, and so many fields must have changed in each."""

LEAST_KEYS = 8
"""So many rows must be another item's of live, whole, and half of all that change."""


def column_over_another(context: SlipContext) -> list[Slip]:
    """Fields of which nine in ten changed cells hold what another field of the same item holds in the sheet."""
    fields = {
        name: cells
        for name, cells in context.by_field(LEAST_COPIED).items()
        if spread(cells["typed"], 100).n_unique() >= DISTINCT
    }
    slips = []
    for name, likely in _likely_sources(context, fields).items() if fields else ():
        cells = fields[name]
        for other in likely:
            hit = keys(context.sheet.at(other, cells["place"]).to_frame())[other] == cells["typed"]
            copied_cells = cells.filter(hit & (cells["typed"] != ""))
            if copied_cells.height >= LEAST_COPIED and copied_cells.height * 10 >= cells.height * 9:
                why = f'{copied_cells.height:,} of {cells.height:,} changed cells hold what stands under "{other}"'
                slips.append(Slip("a column copied over another", [name], copied_cells["number"], why))
                break
    return slips


LOOKED_AT = 16
"""So many cells of a field are looked at first. Where nine in ten are copied, fewer than half of these are not once in
a hundred thousand fields.
"""


def _likely_sources(context: SlipContext, fields: Mapping[str, pl.DataFrame]) -> dict[str, list[str]]:
    """Of each field the others that hold what half of its first few cells hold, in their order. All fields are asked
    about together, as one question of the engine costs as much as hundreds of cells.
    """
    spread = {name: range(0, cells.height, max(1, cells.height // LOOKED_AT)) for name, cells in fields.items()}
    sizes = {name: min(len(places), LOOKED_AT) for name, places in spread.items()}
    asked = pl.concat([gathered(cells[["place", "typed"]], spread[name][:LOOKED_AT]) for name, cells in fields.items()])
    asked = asked.hstack([pl.concat([constant(name, size) for name, size in sizes.items()]).alias("of")])
    wanted = asked.filter(pl.col("typed") != "").select("of", "place", value=pl.col("typed").hash())
    columns, places = set(context.sheet.fields), wanted["place"].unique()
    names = [name for name in context.columns if name in columns]
    if not names:
        return {}
    held = keys(context.sheet.rows(places, names)).select(pl.all().hash())
    held = in_lines(held, places).rename({"field": "other", "text": "value"})
    met = wanted.join(held, on=["place", "value"])
    counted = met.filter(pl.col("of") != pl.col("other")).group_by("of", "other").len()
    likely = {(of, other) for of, other, times in counted.iter_rows() if times * 2 >= sizes[of]}
    copied = {of for of, _ in likely}
    return {of: [other for other in names if (of, other) in likely] for of in fields if of in copied}


def row_over_others(context: SlipContext) -> list[Slip]:
    """Items that became the same in every field, where several of these changed."""
    if len(context.by_field(LEAST_ROWS)) < LEAST_FIELDS:
        return []
    cells = _all(context)
    rows = cells.group_by("place", maintain_order=True).len().filter(pl.col("len") >= LEAST_FIELDS)
    if rows.height < LEAST_ROWS:
        return []
    now = context.sheet.rows(rows["place"], _fields(context))
    rows = rows.with_columns(content=now.hash_rows())
    alike = rows.filter(pl.len().over("content") >= LEAST_ROWS)
    if not alike.height:
        return []
    copied_cells = cells.filter(pl.col("place").is_in(alike["place"].implode()))
    fields = [name for name in context.parts if name in set(copied_cells["field"])]
    why = f"{alike.height:,} items became the same in every field"
    return [Slip("a row pasted over others", fields, copied_cells["number"].sort(), why)]


def keys_sorted_alone(context: SlipContext) -> list[Slip]:
    """Rows that are, whole, those of other items: the keys moved, and nothing else."""
    fields, sizes = _fields(context), [part.height for part in context.parts.values()]
    most = max(sizes, default=0)
    if not fields or most < LEAST_KEYS or sum(sizes) < most * min(LEAST_FIELDS, len(fields)):
        return []
    cells = _all(context)
    rows = cells.group_by("place", maintain_order=True).agg(pl.len(), pl.col("pair").first())
    if rows.height < LEAST_KEYS or cells.height < rows.height * min(LEAST_FIELDS, len(fields)):
        return []
    now = keys(context.sheet.rows(rows["place"], fields)).hash_rows()
    was = keys(context.live.select(fields)).hash_rows()
    at = gathered(context.items, rows["pair"])
    other_keys = rows.filter(now.is_in(was.implode()) & (now != gathered(was, at)))
    if other_keys.height < LEAST_KEYS or other_keys.height * 2 < rows.height:
        return []
    # Rows that were edited besides are no other item's any more; as many of their cells changed.
    alike = rows.filter(pl.col("len") * 2 >= other_keys["len"].median())
    touched = pl.concat([other_keys["place"], alike["place"]]).unique()
    moved_cells = cells.filter(pl.col("place").is_in(touched.implode()))
    why = f"{other_keys.height:,} rows are those of other items, whole: only their keys moved"
    names = [name for name in context.parts if name in set(moved_cells["field"])]
    return [Slip("keys sorted on their own", names, moved_cells["number"].sort(), why)]


def _fields(context: SlipContext) -> list[str]:
    columns = set(context.live.fields)
    return [name for name in context.columns if name in columns and name in context.settings]


def _all(context: SlipContext) -> pl.DataFrame:
    parts = [cells[["number", "pair", "place", "field"]] for cells in context.parts.values()]
    empty = pl.DataFrame(schema={"number": pl.UInt32, "pair": pl.UInt32, "place": pl.Int64, "field": pl.String})
    return pl.concat(parts, how="vertical_relaxed") if parts else empty
