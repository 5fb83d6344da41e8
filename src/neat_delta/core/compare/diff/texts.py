"""Which cells differ in their text, of two catalogues whose rows are matched. Nothing here knows a kind."""

from __future__ import annotations

import polars as pl

from neat_delta.core.base.model.catalogue import MARK, Catalogue
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
    cheaper than gathering texts; for a few rows the texts themselves are cheapest. From a column in many chunks they
    are gathered many times more slowly. A field that differs in most rows, as a glance shows, is no part of those
    whole rows.
    """
    if not matched.fields:
        return empty(TEXTS)
    first, other = live.cells.select(matched.fields), sheet.cells.select(matched.fields)
    if matched.pairs.height * len(matched.fields) <= sizes.CELLS_COMPARED_AT_ONCE:
        return conform(_of_few_rows(first, other, matched), TEXTS)
    often = _often(first, other, matched.pairs)
    seldom = [field for field in matched.fields if field not in often]
    rows = _rows_that_differ(first.select(seldom), other.select(seldom), matched.pairs)
    in_live, in_sheet = gathered(matched.pairs["live"], rows), gathered(matched.pairs["sheet"], rows)
    differs = {}
    if rows.len() > matched.pairs.height // 8:
        for field in seldom:
            differs[field] = gathered(first[field].hash(), in_live) != gathered(other[field].hash(), in_sheet)
    else:
        ours, sheet_rows = _some(first.select(seldom), in_live), _some(other.select(seldom), in_sheet)
        differs = {field: ours[field] != sheet_rows[field] for field in seldom}
    parts = [empty(TEXTS)]
    for field in matched.fields:
        if field in often:
            pair = _rows_that_differ(first.select(field), other.select(field), matched.pairs)
        else:
            pair = gathered(rows, true_places(differs[field]))
        if pair.len():
            cells = gathered(matched.pairs, pair)
            texts = {
                "before": gathered(first[field].rechunk(), cells["live"]),
                "after": gathered(other[field].rechunk(), cells["sheet"]),
            }
            parts.append(_of_field({"pair": pair} | texts, field))
    for field in matched.fields if matched.new.len() else ():
        places = pl.int_range(matched.new.len(), dtype=pl.UInt32, eager=True)
        parts.append(_of_field({"new": places, "after": gathered(other[field], matched.new)}, field))
    return pl.concat(parts)


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
