"""Which cells differ in their text, of two catalogues whose rows are matched. Nothing here knows a kind."""

from __future__ import annotations

from typing import TYPE_CHECKING

import polars as pl

from neat_delta.core.base.model.catalogue import Catalogue, rows_that_may_differ
from neat_delta.core.base.model.schemas import TEXTS, conform, empty
from neat_delta.core.base.support import sizes
from neat_delta.core.base.support.series import constant, gathered, in_lines, scattered, true_places

if TYPE_CHECKING:
    from neat_delta.core.sheets.match.rows import Matched

__all__ = ["differing_texts", "texts_of_pairs"]


def differing_texts(live: Catalogue, sheet: Catalogue, matched: Matched) -> pl.DataFrame:
    """The cells whose text differs, by field in live's order: `field`, `pair` (row of `matched.pairs`), `before`,
    `after`. Then those of new items, in which `pair` and `before` are null and `new` is the place in `matched.new`.
    """
    fields = matched.fields
    return pl.concat([texts_of_pairs(live, sheet, matched.pairs, fields), *_of_new(sheet, matched.new, fields)])


def texts_of_pairs(live: Catalogue, sheet: Catalogue, pairs: pl.DataFrame, fields: list[str]) -> pl.DataFrame:
    """The cells of these fields whose text differs, of items side by side (`pairs`: their places in `live` and in
    `sheet`), by field: `field`, `pair`, `before`, `after`.

    First whole rows are compared, then the cells of those that differ, by 64 bits of hash: two texts that differ
    go unnoticed once in 18 million million million. Gathering hashes in the other file's order is many times
    cheaper than gathering texts; for a few rows the texts themselves are cheapest. A field that differs in many rows,
    as a glance shows, is no part of those whole rows. Of two files that are written alike, only those rows are read
    whose bytes differ.
    """
    if not fields:
        return empty(TEXTS)
    by_bytes = _records_that_differ(live, sheet, pairs, fields)
    if by_bytes is not None:
        return pl.concat([empty(TEXTS), *_of_rows(live, sheet, pairs, by_bytes, fields)])
    if pairs.height * len(fields) <= sizes.CELLS_COMPARED_AT_ONCE:
        return _of_few_rows(live, sheet, pairs, fields)
    often = _often(live, sheet, pairs, fields)
    seldom = [field for field in fields if field not in often]
    rows = _rows_that_differ(live, sheet, pairs, seldom, also=often)
    if rows.len() * sizes.ROWS_READ_APART <= pairs.height:
        parts = _of_rows(live, sheet, pairs, rows, seldom)
    else:
        parts, cells = [], gathered(pairs, rows)
        first, other = live.select(seldom), sheet.select(seldom)
        for field in seldom:
            differs = gathered(first[field].hash(), cells["live"]) != gathered(other[field].hash(), cells["sheet"])
            parts.append(_of_pairs(first[field], other[field], pairs, gathered(rows, true_places(differs))))
    for field in often:
        pair = _rows_that_differ(live, sheet, pairs, [field])
        parts.append(_of_pairs(live.column(field), sheet.column(field), pairs, pair))
    by_field = {part["field"][0]: part for part in parts if part.height}
    return pl.concat([empty(TEXTS), *(by_field[field] for field in fields if field in by_field)])


def _records_that_differ(live: Catalogue, sheet: Catalogue, pairs: pl.DataFrame, fields: list[str]) -> pl.Series | None:
    """The items (rows of `pairs`) that are written otherwise in the two files; None where these do not tell, or where
    they are so many that all cells are compared sooner.
    """
    differ = rows_that_may_differ(live, sheet, fields, pairs["live"], pairs["sheet"])
    rows = None if differ is None else true_places(differ)
    return None if rows is None or rows.len() * sizes.ROWS_READ_APART > pairs.height else rows


def _of_rows(
    live: Catalogue, sheet: Catalogue, pairs: pl.DataFrame, rows: pl.Series, fields: list[str]
) -> list[pl.DataFrame]:
    """The cells of these fields that differ, by field, of some items (rows of `pairs`), so many at a time."""
    parts = dict[str, list[pl.DataFrame]]()
    for start in range(0, rows.len(), sizes.ROWS_COMPARED_AT_ONCE):
        some = rows.slice(start, sizes.ROWS_COMPARED_AT_ONCE)
        cells = gathered(pairs, some)
        ours, theirs = _some(live, fields, cells["live"]), _some(sheet, fields, cells["sheet"])
        for field in fields:
            differ = true_places(ours[field] != theirs[field])
            if differ.len():
                texts = {"before": gathered(ours[field], differ), "after": gathered(theirs[field], differ)}
                parts.setdefault(field, []).append(_of_field({"pair": gathered(some, differ)} | texts, field))
    return [pl.concat(parts[field]) for field in fields if field in parts]


def _of_pairs(live: pl.Series, sheet: pl.Series, pairs: pl.DataFrame, differing: pl.Series) -> pl.DataFrame:
    """The cells of a field in these pairs. From a column in many chunks they are gathered many times more slowly."""
    if not differing.len():
        return empty(TEXTS)
    cells = gathered(pairs, differing)
    before, after = gathered(live.rechunk(), cells["live"]), gathered(sheet.rechunk(), cells["sheet"])
    return _of_field({"pair": differing, "before": before, "after": after}, live.name)


def _of_new(sheet: Catalogue, new: pl.Series, fields: list[str]) -> list[pl.DataFrame]:
    """The cells of new items, at these places."""
    if not new.len() or not fields:
        return []
    places = pl.int_range(new.len(), dtype=pl.UInt32, eager=True).alias("new")
    return [conform(in_lines(sheet.rows(new, fields), places).rename({"text": "after"}), TEXTS)]


def _of_few_rows(live: Catalogue, sheet: Catalogue, pairs: pl.DataFrame, fields: list[str]) -> pl.DataFrame:
    """`texts_of_pairs` of tables with few cells, of which most may be columns."""
    rows = pl.int_range(pairs.height, dtype=pl.UInt32, eager=True).alias("pair")
    before, after = (
        in_lines(gathered(catalogue.select(fields), pairs[side]), rows)
        for catalogue, side in ((live, "live"), (sheet, "sheet"))
    )
    differ = true_places(before["text"] != after["text"])
    sides = {"field": before["field"], "pair": before["pair"], "before": before["text"], "after": after["text"]}
    return conform(pl.DataFrame({name: gathered(texts, differ) for name, texts in sides.items()}), TEXTS)


def _of_field(columns: dict[str, pl.Series], field: str) -> pl.DataFrame:
    return conform(pl.DataFrame(columns).with_columns(field=pl.lit(field)), TEXTS)


def _some(catalogue: Catalogue, fields: list[str], places: pl.Series) -> pl.DataFrame:
    """A few rows, in the order given. Taking them in the table's own order first is several times faster."""
    if catalogue.is_deferred:
        return catalogue.rows(places, fields)
    table, wanted = catalogue.select(fields), scattered(constant(False, catalogue.height), places, True)
    return gathered(table.filter(wanted).rechunk(), places.rank("dense").cast(pl.UInt32) - 1)


def _often(live: Catalogue, sheet: Catalogue, pairs: pl.DataFrame, fields: list[str]) -> list[str]:
    """The fields whose text differs in so many items that few are left in which others do, as a glance at some of very
    many shows.
    """
    if pairs.height < sizes.ITEMS_AT_A_GLANCE * 10:
        return []
    sample = pairs.gather_every(pairs.height // sizes.ITEMS_AT_A_GLANCE)
    ours, theirs = live.rows(sample["live"], fields), sheet.rows(sample["sheet"], fields)
    return [field for field in fields if (ours[field] != theirs[field]).mean() > 1 / (4 * sizes.ROWS_READ_APART)]  # type: ignore[operator]


def _rows_that_differ(
    live: Catalogue, sheet: Catalogue, pairs: pl.DataFrame, fields: list[str], also: list[str] | None = None
) -> pl.Series:
    """The items (rows of `pairs`) in which the text of any of these fields differs; `also` these are asked for next."""
    if not fields:
        return pl.Series([], dtype=pl.UInt32)
    ours, theirs = live.row_hashes(fields, also or []), sheet.row_hashes(fields, also or [])
    return true_places(gathered(ours, pairs["live"]) != gathered(theirs, pairs["sheet"]))
