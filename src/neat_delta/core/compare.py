"""Comparing: two catalogues in, change set out. What is held at this stage, and why, is decided here alone."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Literal

import polars as pl

from neat_delta.core.catalogue import Catalogue, stands_in_row
from neat_delta.core.changes import (
    FORMAT,
    ITEMS_SCHEMA,
    VERSION,
    ChangeSet,
    Counts,
    Header,
    cells_schema,
    held,
)
from neat_delta.core.kinds import TEXT, Kind, blank
from neat_delta.core.match import Matched, match

__all__ = ["EMPTIED", "GONE", "NEW", "Blanks", "compare"]

Blanks = Literal["hold", "clear", "keep"]
"""What a cell emptied in the sheet means: ask first (hold it), empty the field, or leave the field as it is."""

EMPTIED, NEW, GONE = "emptied", "new", "gone"
"""The reasons for which compare holds a change."""


def compare(
    live: Catalogue,
    sheet: Catalogue,
    *,
    key: Sequence[str] | None = None,
    blanks: Blanks = "hold",
    with_new: bool = False,
) -> ChangeSet:
    """What the sheet changes in live, keyed by item.

    `key` names the key fields (default: the heading that is plainly the SKU). An item missing in the sheet is
    `gone` and always held; an item that live lacks is `new` and held unless `with_new`; a cell emptied in
    the sheet is held, taken as said (`clear`) or dropped (`keep`), its text after being "".
    Raises CatalogueError when the two cannot be compared.
    """
    matched = match(live, sheet, key)
    differing = _differing(live, sheet, matched)
    emptied = differing.select(blank(pl.col("after"))).to_series()
    kept = int(emptied.sum()) if blanks == "keep" else 0
    reason = pl.lit(EMPTIED if blanks == "hold" else None, pl.String)
    differing = differing.with_columns(
        after=pl.when(emptied).then(pl.lit("")).otherwise("after"), held=pl.when(emptied).then(reason)
    )
    if kept:
        differing = differing.filter(~emptied)
    changed = matched.both.gather(differing["pair"].unique().sort())
    places = _items(changed, matched.gone, matched.new, None if with_new else NEW)
    cells = _cells(differing, matched, places, sheet)
    items = places.with_columns(stands_in_row(pl.col("live")), stands_in_row(pl.col("sheet")))
    keys = pl.concat(
        [
            live.cells.select(matched.key).gather(places["live"].drop_nulls()),
            sheet.cells.select(matched.key).gather(matched.new),
        ]
    )
    header = Header(
        format=FORMAT,
        version=VERSION,
        key=matched.key,
        fields=matched.fields,
        live=live.source,
        sheet=sheet.source,
        counts=Counts(
            same=matched.both.height - changed.height,
            changed=changed.height,
            new=matched.new.len(),
            gone=matched.gone.len(),
            set_aside_live=sum(row.file == "live" for row in matched.set_aside),
            set_aside_sheet=sum(row.file == "sheet" for row in matched.set_aside),
            cells=cells.height,
            held_cells=int(held(items, cells).sum()),
            blanks_kept=kept,
        ),
        ignored=matched.ignored,
        untouched=matched.untouched,
        set_aside=matched.set_aside,
    )
    return ChangeSet(header, keys, items, cells)


def _differing(live: Catalogue, sheet: Catalogue, matched: Matched) -> pl.DataFrame:
    """The cells that differ in value: `pair` (row of `matched.both`), `field`, `before`, `after`.

    First whole rows are compared, then the cells of those that differ, by 64 bits of hash: two texts that differ
    go unnoticed once in 18 million million million. Gathering hashes in the other file's order is many times
    cheaper than gathering texts; for a few rows the texts themselves are cheapest.
    """
    rows = _rows_that_differ(live.cells, sheet.cells, matched)
    in_live, in_sheet = matched.both["live"].gather(rows), matched.both["sheet"].gather(rows)
    one, other = live.cells.select(matched.fields), sheet.cells.select(matched.fields)
    if rows.len() > matched.both.height // 8:
        differs = pl.DataFrame(
            one[field].hash().gather(in_live) != other[field].hash().gather(in_sheet) for field in one.columns
        )
    else:
        before, after = _some(one, in_live), _some(other, in_sheet)
        differs = pl.DataFrame(before[field] != after[field] for field in one.columns)
    found = [pl.DataFrame(schema={"pair": pl.UInt32, "before": pl.String, "after": pl.String, "field": pl.String})]
    for field in matched.fields:
        cell = differs[field].arg_true()
        cells = pl.DataFrame(
            {
                "pair": rows.gather(cell),
                "before": one[field].gather(in_live.gather(cell)),
                "after": other[field].gather(in_sheet.gather(cell)),
            }
        )
        same = _kind_of(field).equal(pl.col("before"), pl.col("after"))
        found.append(cells.filter(~same).with_columns(field=pl.lit(field)))
    return pl.concat(found)


def _some(table: pl.DataFrame, places: pl.Series) -> pl.DataFrame:
    """A few rows of a table, in the order given. Taking them in the table's own order first is several times faster."""
    wanted = pl.repeat(False, table.height, eager=True).scatter(places, True)
    return table.filter(wanted).rechunk().gather(places.rank("ordinal").cast(pl.UInt32) - 1)


def _rows_that_differ(live: pl.DataFrame, sheet: pl.DataFrame, matched: Matched) -> pl.Series:
    """The rows of `matched.both` in which the text of any common field differs."""
    one, other = (table.select(matched.fields).hash_rows() for table in (live, sheet))
    return (one.gather(matched.both["live"]) != other.gather(matched.both["sheet"])).arg_true()


def _kind_of(field: str) -> Kind:
    """The kind of a field: all of them are text as yet."""
    del field
    return TEXT


def _items(changed: pl.DataFrame, gone: pl.Series, new: pl.Series, reason_new: str | None) -> pl.DataFrame:
    """The items that are not the same, with their places in the files; new ones last, in the sheet's order."""

    def some(verdict: str, reason: str | None, **places: pl.Series) -> pl.DataFrame:
        table = pl.DataFrame(places).with_columns(verdict=pl.lit(verdict), held=pl.lit(reason, pl.String))
        missing = [pl.lit(None).alias(name) for name in ITEMS_SCHEMA if name not in table.columns]
        return table.with_columns(missing).select(list(ITEMS_SCHEMA)).cast(ITEMS_SCHEMA)  # type: ignore[arg-type]

    of_live = pl.concat(
        [some("changed", None, live=changed["live"], sheet=changed["sheet"]), some("gone", GONE, live=gone)]
    )
    return pl.concat([of_live.sort("live"), some("new", reason_new, sheet=new)])


def _cells(differing: pl.DataFrame, matched: Matched, places: pl.DataFrame, sheet: Catalogue) -> pl.DataFrame:
    """The changed cells by item and field: those that differ, and those of new items that hold something."""
    number = places.with_row_index("item")
    old = differing.with_columns(live=matched.both["live"].gather(differing["pair"]).cast(pl.Int64))
    old = old.join(number.select("item", "live"), on="live", how="left")
    new = number.filter(pl.col("verdict") == "new")["item"]
    columns = ((field, sheet.cells[field].gather(matched.new)) for field in matched.fields)
    fresh = pl.concat(
        pl.DataFrame({"item": new, "after": after}).with_columns(field=pl.lit(field)) for field, after in columns
    )
    fresh = fresh.filter(~blank(pl.col("after")))
    absent = [pl.lit(None, pl.String).alias(name) for name in ("before", "held")]
    schema = cells_schema(matched.fields)
    tables = [table.select(list(schema)).cast(schema) for table in (old, fresh.with_columns(absent))]  # type: ignore[arg-type]
    return pl.concat(tables).sort("item", "field")
