"""How one cell is said to an importer: as a value, as its mark for nothing, as a difference, by marks of a list."""

from __future__ import annotations

from collections.abc import Callable
from decimal import Decimal, InvalidOperation

import polars as pl

from neat_delta.core.base.kinds import blank
from neat_delta.core.base.support.series import gathered, scattered, true_places
from neat_delta.core.updates.plan.base import PlanContext

__all__ = ["as_file_texts", "unwritable_cells"]

Way = Callable[[PlanContext, str, str, str], str | None]


def as_file_texts(context: PlanContext, cells: pl.DataFrame) -> pl.DataFrame:
    """The cells, with what the file says in `said`."""
    mark = pl.lit(None if context.clears or context.patches else context.importer.empties, pl.String)
    emptied = pl.when(blank(pl.col("after"))).then(mark)
    cells = cells.with_columns(said=pl.coalesce(emptied, "after"))
    texts = cells["said"]
    for names, way in ((set(context.importer.adjusted), _difference), (context.marked, _marks)):
        hit = true_places(cells["field"].is_in(list(names)))
        if hit.len():
            texts = scattered(texts, hit, pl.Series(_each(context, gathered(cells, hit), way), dtype=pl.String))
    return cells.with_columns(said=texts)


def unwritable_cells(context: PlanContext, cells: pl.DataFrame, *, as_difference: bool) -> pl.Series:
    """The places of the cells that no difference can say (or, otherwise, no marks)."""
    names, way = (set(context.importer.adjusted), _difference) if as_difference else (context.marked, _marks)
    hit = true_places(cells["field"].is_in(list(names)))
    return hit.filter(pl.Series([text is None for text in _each(context, gathered(cells, hit), way)], dtype=pl.Boolean))


def _each(context: PlanContext, cells: pl.DataFrame, way: Way) -> list[str | None]:
    return [way(context, *row) for row in cells[["field", "before", "after"]].iter_rows()]


def _difference(context: PlanContext, field: str, before: str, after: str) -> str | None:
    """`+5`, where before and five give exactly the text after; None where they do not."""
    del field
    mark = context.changes.header.writing.decimal_mark or "."
    try:
        old, new = (Decimal(text.strip().replace(mark, ".") or "0") for text in (before, after))
        step = new - old
        exact = f"{old + step:f}".replace(".", mark) == after and step.is_finite()
    except InvalidOperation:
        return None
    return f"{step:+f}".replace(".", mark) if exact else None


def _marks(context: PlanContext, field: str, before: str, after: str) -> str | None:
    """`+new,-old`, where that gives the list after; None where it does not."""
    settings, importer = context.changes.header.settings[field], context.importer
    between = (settings.separator or ",").strip() or " "
    old, new = ([value.strip() for value in text.split(between) if value.strip()] for text in (before, after))
    gone, come = [value for value in old if value not in new], [value for value in new if value not in old]
    becomes = [value for value in old if value not in gone] + come
    same = becomes == new if settings.ordered else sorted(becomes) == sorted(new)
    if not same or not (gone or come) or len(set(new)) < len(new) or len(set(old)) < len(old):
        return None
    return between.join([*(importer.adds + value for value in come), *(importer.takes_away + value for value in gone)])
