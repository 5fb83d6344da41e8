"""The items that are not the same, and what is to be said of them whatever stands in them."""

from __future__ import annotations

from typing import TYPE_CHECKING

import polars as pl

from neat_delta.core.base.model.importer import NEW_CODE
from neat_delta.core.base.model.reasons import GONE, NEAR, NEW
from neat_delta.core.base.model.schemas import FINDINGS, NOT_SENT, conform, empty, stopping
from neat_delta.core.base.support.series import constant, filtered, gathered, not_null, scattered
from neat_delta.core.compare.detect.near_keys import near_reasons
from neat_delta.core.compare.rows import Placed
from neat_delta.core.sheets.rekey.moves import UNKNOWN

if TYPE_CHECKING:
    from neat_delta.core.compare.round import Round


__all__ = ["changed_items", "item_findings"]


def changed_items(cells: pl.DataFrame, round_: Round) -> pl.DataFrame:
    """The items that are not the same: `item` (live's rows, and after them the new ones), `verdict`, and their places
    in `live` and in the `sheet` (null where they are not there). New ones come last, in the sheet's order.
    """
    matched, height = round_.rows.matched, round_.aligned.live.height
    met = cells["item"].unique().sort()
    met = met.filter(met < height)
    recoded = constant(False, height)
    if round_.rows.codes.moves:
        coded = cells["item"].filter(cells["field"].is_in(matched.key))
        recoded = scattered(recoded, coded.filter(coded < height), True)
    verdict = constant("changed", met.len()).zip_with(~gathered(recoded, met), constant("recoded", met.len()))
    in_sheet = scattered(constant(None, height, pl.UInt32), matched.pairs["live"], matched.pairs["sheet"])
    columns = ("item", "verdict", "sheet", "live")
    known = pl.DataFrame(dict(zip(columns, (met, verdict, gathered(in_sheet, met).cast(pl.Int64), met), strict=True)))
    if round_.options.drops and not round_.listed_codes:
        gone = round_.leaving.cast(pl.Int64)
        gone = gone.filter(~gathered(scattered(constant(False, height), met, True), gone))
        absent = constant(None, gone.len(), pl.Int64)
        of_gone = (gone, constant("gone", gone.len(), pl.String), absent, gone)
        known = pl.concat([known, pl.DataFrame(dict(zip(columns, of_gone, strict=True)))]).sort("item")
    arriving = round_.arriving
    absent = constant(None, arriving.len(), pl.Int64)
    of_new = (
        arriving.cast(pl.Int64) + height,
        constant("new", arriving.len(), pl.String),
        gathered(matched.new, arriving).cast(pl.Int64),
        absent,
    )
    return pl.concat([known, pl.DataFrame(dict(zip(columns, of_new, strict=True)))])


def item_findings(cells: pl.DataFrame, places: pl.DataFrame, rows: Placed) -> pl.DataFrame:
    """What is to be said of the items whatever stands in them: new, gone, a code that cannot be, a key that nearly is
    another's.
    """
    coded = filtered(cells, not_null(cells["reason"]))
    items = places.hstack([pl.int_range(places.height, eager=True).alias("number")])
    tables = [("code", conform(coded, NOT_SENT))]
    for verdict in (NEW, GONE):
        number = items["number"].filter(items["verdict"] == verdict)
        tables.append((verdict, pl.DataFrame({"item": number, "reason": constant(verdict, number.len(), pl.String)})))
    tables += [
        ("code", _recoded_from_nothing(items, rows)),
        ("near", _nearly_there(items, rows)),
        ("near", _nearly_gone(items, rows)),
    ]
    return pl.concat([stopping(table, source) for source, table in tables if table.height] or [empty(FINDINGS)])


NO_REASONS = pl.DataFrame(schema={"item": pl.Int64, "reason": pl.String})
"""No item, and no reason."""


def _nearly_there(items: pl.DataFrame, rows: Placed) -> pl.DataFrame:
    """New items whose key nearly is one of live's: `item` and the `reason`."""
    reasons = near_reasons(rows.matched.near)
    if not reasons:
        return NO_REASONS
    new = filtered(items, items["verdict"] == "new")
    reason = rows.sheet.row(new["sheet"]).replace_strict(reasons, default=None, return_dtype=pl.String)
    return new.select(item="number", reason=reason).drop_nulls()


def _nearly_gone(items: pl.DataFrame, rows: Placed) -> pl.DataFrame:
    """Items that a whole sheet lacks but for a row whose key nearly is theirs: `item` and the `reason`."""
    if not rows.matched.nearly.len():
        return NO_REASONS
    nearly = pl.col("live").is_in(rows.matched.nearly.cast(pl.Int64).implode())
    gone = items.filter((pl.col("verdict") == "gone") & nearly)
    return gone.select(item="number", reason=pl.lit(NEAR + "a row nearly has its key"))


def _recoded_from_nothing(items: pl.DataFrame, rows: Placed) -> pl.DataFrame:
    """New items that yet have a new code beside their own, which live does not have: `item` and the `reason`."""
    if not rows.matched.new.len() or NEW_CODE not in rows.sheet.fields:
        return NO_REASONS
    new = filtered(items, items["verdict"] == "new")
    codes, own = (rows.sheet.at(name, new["sheet"]).str.strip_chars() for name in (NEW_CODE, rows.codes.field))
    return new.filter((codes != "") & (codes != own)).select(item="number", reason=pl.lit(f"code: {UNKNOWN}"))
