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
        cells = gathered(pairs, by_bytes)
        ours, theirs = live.rows(cells["live"], fields), sheet.rows(cells["sheet"], fields)
        return pl.concat([empty(TEXTS), *_of_rows(ours, theirs, by_bytes), *_of_new(sheet, matched)])
    first, other = live.select(fields), sheet.select(fields)
    if pairs.height * len(fields) <= sizes.CELLS_COMPARED_AT_ONCE:
        return conform(_of_few_rows(first, other, matched), TEXTS)
    often = _often(first, other, pairs)
    seldom = [field for field in fields if field not in often]
    rows = _rows_that_differ(first.select(seldom), other.select(seldom), pairs)
    in_live, in_sheet = gathered(pairs["live"], rows), gathered(pairs["sheet"], rows)
    if rows.len() <= pairs.height // 8:
        parts = _of_rows(_some(first.select(seldom), in_live), _some(other.select(seldom), in_sheet), rows)
    else:
        parts = []
        for field in seldom:
            differs = gathered(first[field].hash(), in_live) != gathered(other[field].hash(), in_sheet)
            parts.append(_of_pairs(first, other, pairs, gathered(rows, true_places(differs)), field))
    for field in often:
        pair = _rows_that_differ(first.select(field), other.select(field), pairs)
        parts.append(_of_pairs(first, other, pairs, pair, field))
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


def _of_rows(ours: pl.DataFrame, theirs: pl.DataFrame, rows: pl.Series) -> list[pl.DataFrame]:
    """The cells that differ, of some items side by side; `rows` are these items' pairs."""
    parts = []
    for field in ours.columns:
        differ = true_places(ours[field] != theirs[field])
        if differ.len():
            texts = {"before": gathered(ours[field], differ), "after": gathered(theirs[field], differ)}
            parts.append(_of_field({"pair": gathered(rows, differ)} | texts, field))
    return parts


def _of_pairs(
    live: pl.DataFrame, sheet: pl.DataFrame, pairs: pl.DataFrame, differing: pl.Series, field: str
) -> pl.DataFrame:
    """The cells of a field in these pairs. From a column in many chunks they are gathered many times more slowly."""
    if not differing.len():
        return empty(TEXTS)
    cells = gathered(pairs, differing)
    before, after = gathered(live[field].rechunk(), cells["live"]), gathered(sheet[field].rechunk(), cells["sheet"])
    return _of_field({"pair": differing, "before": before, "after": after}, field)


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


def _some(table: pl.DataFrame, places: pl.Series) -> pl.DataFrame:
    """A few rows of a table, in the order given. Taking them in the table's own order first is several times faster."""
    wanted = scattered(constant(False, table.height), places, True)
    return gathered(table.filter(wanted).rechunk(), places.rank("dense").cast(pl.UInt32) - 1)


def _often(live: pl.DataFrame, sheet: pl.DataFrame, pairs: pl.DataFrame) -> list[str]:
    """The fields whose text differs in most items, as a glance at some of very many shows."""
    if pairs.height < sizes.ITEMS_AT_A_GLANCE * 10:
        return []
    sample = pairs.gather_every(pairs.height // sizes.ITEMS_AT_A_GLANCE)
    ours, sheet_sample = gathered(live, sample["live"]), gathered(sheet, sample["sheet"])
    return [field for field in live.columns if (ours[field] != sheet_sample[field]).mean() > 0.5]  # type: ignore[operator]


def _rows_that_differ(live: pl.DataFrame, sheet: pl.DataFrame, pairs: pl.DataFrame) -> pl.Series:
    """The items (rows of `pairs`) in which the text of any of these fields differs."""
    if not live.width:
        return pl.Series([], dtype=pl.UInt32)
    first, other = (table.to_series().hash() if table.width == 1 else table.hash_rows() for table in (live, sheet))
    return true_places(gathered(first, pairs["live"]) != gathered(other, pairs["sheet"]))
