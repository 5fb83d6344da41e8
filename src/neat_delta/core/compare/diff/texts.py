"""Which cells differ in their text, of two catalogues whose rows are matched. Nothing here knows a kind."""

from __future__ import annotations

import polars as pl

from neat_delta.core.base.model.catalogue import MARK, Catalogue, rows_that_may_differ
from neat_delta.core.base.model.schemas import TEXTS, conform, empty
from neat_delta.core.base.support import sizes
from neat_delta.core.base.support.series import constant, gathered, scattered, true_places
from neat_delta.core.sheets.match.rows import Matched

__all__ = ["differing_texts"]


def differing_texts(live: Catalogue, sheet: Catalogue, matched: Matched) -> pl.DataFrame:
    """The cells whose text differs, by field in live's order: `field`, `pair` (row of `matched.pairs`), `before`,
    `after`.

    Then those of new items, in which `pair` and `before` are null and `new` is the place in `matched.new`.
    First whole rows are compared, then the cells of those that differ, by 64 bits of hash: two texts that differ
    go unnoticed once in 18 million million million. Gathering hashes in the other file's order is many times
    cheaper than gathering texts; for a few rows the texts themselves are cheapest. A field that differs in most rows,
    as a glance shows, is no part of those whole rows. Of two files that are written alike, only those rows are read
    whose bytes differ.
    """
    fields, pairs = matched.fields, matched.pairs
    if not fields:
        return empty(TEXTS)
    by_bytes = _records_that_differ(live, sheet, matched)
    if by_bytes is not None:
        return pl.concat([empty(TEXTS), *_of_rows(live, sheet, pairs, by_bytes, fields), *_of_new(sheet, matched)])
    if pairs.height * len(fields) <= sizes.CELLS_COMPARED_AT_ONCE:
        return conform(_of_few_rows(live.select(fields), sheet.select(fields), matched), TEXTS)
    often = _often(live, sheet, matched)
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
    return pl.concat(
        [empty(TEXTS), *(by_field[field] for field in fields if field in by_field), *_of_new(sheet, matched)]
    )


def _records_that_differ(live: Catalogue, sheet: Catalogue, matched: Matched) -> pl.Series | None:
    """The items (rows of `matched.pairs`) that are written otherwise in the two files; None where these do not tell, or
    where they are so many that all cells are compared sooner.
    """
    pairs = matched.pairs
    differ = rows_that_may_differ(live, sheet, matched.fields, pairs["live"], pairs["sheet"])
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


def _of_new(sheet: Catalogue, matched: Matched) -> list[pl.DataFrame]:
    """The cells of new items."""
    if not matched.new.len():
        return []
    places = pl.int_range(matched.new.len(), dtype=pl.UInt32, eager=True)
    cells = sheet.rows(matched.new, matched.fields)
    return [_of_field({"new": places, "after": cells[field]}, field) for field in matched.fields]


def _of_few_rows(live: pl.DataFrame, sheet: pl.DataFrame, matched: Matched) -> pl.DataFrame:
    """`_texts_that_differ` of tables with few cells, of which most may be columns."""
    fields = matched.fields
    rows = pl.int_range(matched.pairs.height, dtype=pl.UInt32, eager=True).alias(MARK)
    ours, sheet_rows = (
        gathered(table, matched.pairs[side]).insert_column(0, rows)
        for table, side in ((live, "live"), (sheet, "sheet"))
    )
    name, text = MARK + "field", MARK + "text"
    before, after = (
        side.unpivot(index=MARK, on=fields, variable_name=name, value_name=text) for side in (ours, sheet_rows)
    )
    differ = true_places(before[text] != after[text])
    sides = {"field": before[name], "pair": before[MARK], "before": before[text], "after": after[text]}
    changed = conform(pl.DataFrame({side_name: gathered(texts, differ) for side_name, texts in sides.items()}), TEXTS)
    if not matched.new.len():
        return changed
    places = pl.int_range(matched.new.len(), dtype=pl.UInt32, eager=True).alias(MARK)
    new = gathered(sheet, matched.new).insert_column(0, places)
    arriving = new.unpivot(index=MARK, on=fields, variable_name=name, value_name=text)
    texts = pl.DataFrame({"field": arriving[name], "new": arriving[MARK], "after": arriving[text]})
    return pl.concat([changed, conform(texts, TEXTS)])


def _of_field(columns: dict[str, pl.Series], field: str) -> pl.DataFrame:
    return conform(pl.DataFrame(columns).with_columns(field=pl.lit(field)), TEXTS)


def _some(catalogue: Catalogue, fields: list[str], places: pl.Series) -> pl.DataFrame:
    """A few rows, in the order given. Taking them in the table's own order first is several times faster."""
    if catalogue.is_deferred:
        return catalogue.rows(places, fields)
    table, wanted = catalogue.select(fields), scattered(constant(False, catalogue.height), places, True)
    return gathered(table.filter(wanted).rechunk(), places.rank("dense").cast(pl.UInt32) - 1)


def _often(live: Catalogue, sheet: Catalogue, matched: Matched) -> list[str]:
    """The fields whose text differs in most items, as a glance at some of very many shows."""
    fields, pairs = matched.fields, matched.pairs
    if pairs.height < sizes.ITEMS_AT_A_GLANCE * 10:
        return []
    sample = pairs.gather_every(pairs.height // sizes.ITEMS_AT_A_GLANCE)
    ours, theirs = live.rows(sample["live"], fields), sheet.rows(sample["sheet"], fields)
    return [field for field in fields if (ours[field] != theirs[field]).mean() > 0.5]  # type: ignore[operator]


def _rows_that_differ(
    live: Catalogue, sheet: Catalogue, pairs: pl.DataFrame, fields: list[str], also: list[str] | None = None
) -> pl.Series:
    """The items (rows of `pairs`) in which the text of any of these fields differs; `also` these are asked for next."""
    if not fields:
        return pl.Series([], dtype=pl.UInt32)
    ours, theirs = live.row_hashes(fields, also or []), sheet.row_hashes(fields, also or [])
    return true_places(gathered(ours, pairs["live"]) != gathered(theirs, pairs["sheet"]))
