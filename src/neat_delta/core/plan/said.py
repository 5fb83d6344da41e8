"""How one cell is said to an importer: as a value, as its mark for nothing, as a difference, by marks of a list."""

from __future__ import annotations

from collections.abc import Callable
from decimal import Decimal, InvalidOperation

import polars as pl

from neat_delta.core.kinds import blank
from neat_delta.core.plan.base import Ways

__all__ = ["told", "unsayable"]

Way = Callable[[Ways, str, str, str], str | None]


def told(ways: Ways, cells: pl.DataFrame) -> pl.DataFrame:
    """The cells, with what the file says in `said`."""
    mark = pl.lit(None if ways.clears or ways.patches else ways.importer.empties, pl.String)
    emptied = pl.when(blank(pl.col("after"))).then(mark)
    cells = cells.with_columns(said=pl.coalesce(emptied, "after"))
    said = cells["said"]
    for names, way in ((set(ways.importer.adjusted), _difference), (ways.marked, _marks)):
        hit = cells["field"].is_in(list(names)).arg_true()
        if hit.len():
            said = said.scatter(hit, pl.Series(_each(ways, cells.gather(hit), way), dtype=pl.String))
    return cells.with_columns(said=said)


def unsayable(ways: Ways, cells: pl.DataFrame, *, as_difference: bool) -> pl.Series:
    """The places of the cells that no difference can say (or, otherwise, no marks)."""
    names, way = (set(ways.importer.adjusted), _difference) if as_difference else (ways.marked, _marks)
    hit = cells["field"].is_in(list(names)).arg_true()
    return hit.filter(pl.Series([text is None for text in _each(ways, cells.gather(hit), way)], dtype=pl.Boolean))


def _each(ways: Ways, cells: pl.DataFrame, way: Way) -> list[str | None]:
    return [way(ways, *row) for row in cells.select("field", "before", "after").iter_rows()]


def _difference(ways: Ways, field: str, before: str, after: str) -> str | None:
    """`+5`, where before and five give exactly the text after; None where they do not."""
    del field
    mark = ways.changes.header.writing.decimal_mark or "."
    try:
        old, new = (Decimal(text.strip().replace(mark, ".") or "0") for text in (before, after))
        step = new - old
        exact = f"{old + step:f}".replace(".", mark) == after and step.is_finite()
    except InvalidOperation:
        return None
    return f"{step:+f}".replace(".", mark) if exact else None


def _marks(ways: Ways, field: str, before: str, after: str) -> str | None:
    """`+new,-old`, where that gives the list after; None where it does not."""
    settings, importer = ways.changes.header.settings[field], ways.importer
    between = (settings.separator or ",").strip() or " "
    old, new = ([one.strip() for one in text.split(between) if one.strip()] for text in (before, after))
    gone, come = [one for one in old if one not in new], [one for one in new if one not in old]
    becomes = [one for one in old if one not in gone] + come
    same = becomes == new if settings.ordered else sorted(becomes) == sorted(new)
    if not same or not (gone or come) or len(set(new)) < len(new) or len(set(old)) < len(old):
        return None
    return between.join([*(importer.adds + one for one in come), *(importer.takes_away + one for one in gone)])
