"""Matching: which row of the sheet is which item of live. Nothing is guessed.

An item is known by its key, without outer white space; the order of rows and of columns means nothing.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from functools import partial
from typing import TYPE_CHECKING, Literal

import polars as pl

from neat_delta.core.base.kinds import blank
from neat_delta.core.base.model.catalogue import Catalogue, listed
from neat_delta.core.base.model.header import NearKey, SetAside
from neat_delta.core.base.support.background import submit
from neat_delta.core.base.support.errors import CatalogueError
from neat_delta.core.base.support.series import constant, gathered, not_null, scattered, true_places
from neat_delta.core.sheets.match.keys import KeyIndex

if TYPE_CHECKING:
    from neat_delta.core.base.model.store import Key

__all__ = [
    "HARMLESS",
    "NOT_TAKEN",
    "REPEATS",
    "SAME_ROW",
    "Matched",
    "match_places",
    "match_rows",
    "row_reasons",
    "total_rows",
]


@dataclass(frozen=True, slots=True)
class Matched:
    """The rows of live and sheet, each in exactly one place.

    `pairs`       one row a matched item: its place in live and in sheet (from 0), in live's order;
    `gone`       places in live of the items the sheet does not have;
    `new`        places in the sheet of the items live does not have, in the sheet's order;
    `set_aside`  the rows that match nothing for certain;
    `near`       keys of the sheet that nearly are keys of live (`detect.near_keys`); those that were taken are in
                 `pairs`;
    `keys`       the keys of "live" and "sheet";
    `fields`     the fields that both have, without the key, in live's order;
    `nearly`     places in live of the items whose key nearly is one of the sheet's that was not taken for it.
    """

    key: list[str]
    keys: Mapping[str, KeyIndex]
    pairs: pl.DataFrame
    gone: pl.Series
    new: pl.Series
    set_aside: list[SetAside]
    near: list[NearKey]
    fields: list[str]
    nearly: pl.Series = field(default_factory=partial(pl.Series, dtype=pl.UInt32))


def match_rows(live: Catalogue, sheet: Catalogue, key: Key, *, bare: bool = False) -> Matched:
    """Put every row of both in its place; the sheet's columns bear the names of live's fields.

    Rows without a key and rows whose key repeats, in either file, are set aside. A row whose key
    repeats in the other file is set aside too: nobody can say which of them is meant; but with `key.shared` "all", a
    row of the sheet is for every item of live that has its key.
    Raises CatalogueError when there is no item with a key, or, unless the sheet may be `bare`, no field in common.
    """
    sheet_fields = set(sheet.fields)
    fields = [name for name in live.fields if name in sheet_fields and name not in key.fields]
    if not fields and not bare:
        raise CatalogueError(
            f"{sheet.path} has no field of {live.path} but the key ({', '.join(key.fields)}), so there is "
            f"nothing to compare. Its headings are: {listed(sheet.fields)}."
        )
    keys = {name: KeyIndex.of(side, key) for name, side in (("live", live), ("sheet", sheet))}
    live_reasons = submit(partial(_unusable, keys["live"], "live", shared=key.shared == "all"), live.height)
    reasons = {"sheet": _unusable(keys["sheet"], "sheet", shared=False), "live": live_reasons()}
    for catalogue, name in ((live, "live"), (sheet, "sheet")):
        if catalogue.height and not reasons[name].has_nulls():
            raise CatalogueError(_no_item(catalogue, key.fields, reasons[name]))
    for name, other in (("live", "sheet"), ("sheet", "live")):
        repeated = true_places(reasons[other] == f"key repeats in {_THE[other]}")
        if repeated.len():
            hit = KeyIndex(gathered(keys[other].keys, repeated), key).lookup(keys[name].keys).is_not_null()
            also = pl.when(hit).then(_reason(f"key repeats in {_THE[other]}"))
            reasons[name] = pl.select(pl.coalesce(reasons[name], also)).to_series()
    usable = {name: true_places(reasons[name].is_null()) for name in keys}
    pairs = _pairs(keys, usable)
    alone = {}
    for name, places in usable.items():
        taken = scattered(constant(False, keys[name].keys.height), pairs[name], True)
        alone[name] = places.filter(~gathered(taken, places))
    totals = total_rows(sheet.select(key.fields), key.fields, alone["sheet"])
    if totals.len():
        alone["sheet"] = alone["sheet"].filter(~alone["sheet"].is_in(totals.implode()))
        reasons["sheet"] = scattered(reasons["sheet"], totals, constant(TOTAL_ROW, totals.len(), REASONS))
    return Matched(
        key=key.fields,
        keys=keys,
        pairs=pairs,
        gone=alone["live"],
        new=alone["sheet"],
        set_aside=_set_aside(live, key.fields, reasons["live"], "live")
        + _set_aside(sheet, key.fields, reasons["sheet"], "sheet"),
        near=[],
        fields=fields,
    )


def match_places(live: Catalogue, sheet: Catalogue, key: Key) -> pl.DataFrame:
    """Only the places in live and sheet of the items that both have for certain, in live's order; there may be none."""
    keys = {name: KeyIndex.of(side, key) for name, side in (("live", live), ("sheet", sheet))}
    usable = {name: true_places(_unusable(keys[name], name, shared=False).is_null()) for name in keys}
    return _pairs(keys, usable)


_THE = {"live": "live", "sheet": "the sheet"}


def _unusable(keys: KeyIndex, name: str, *, shared: bool) -> pl.Series:
    """Per row, why its key cannot be used within its own file, or null."""
    repeats = constant(False, keys.keys.height) if shared else keys.repeated
    reason = pl.when(keys.blank).then(_reason(NO_KEY)).when(repeats).then(_reason(f"key repeats in {_THE[name]}"))
    return pl.select(reason.alias("reason")).to_series().rechunk()


def _pairs(keys: Mapping[str, KeyIndex], usable: Mapping[str, pl.Series]) -> pl.DataFrame:
    """The places in live and sheet of the items that both have, in live's order."""
    met = keys["live"].pairs(keys["sheet"], usable["live"], usable["sheet"])
    return met.select(live="row", sheet="other")


def total_rows(cells: pl.DataFrame, key: list[str], places: pl.Series) -> pl.Series:
    """Those of the rows that no item of live has whose key is a word for a total."""
    if not places.len():
        return places
    totals = gathered(cells.select(key), places).select(pl.any_horizontal(pl.all().str.contains(TOTAL))).to_series()
    return places.filter(totals)


def row_reasons(catalogue: Catalogue, keyless: pl.Series) -> pl.Series:
    """Per row why it is for no item: it has no key, is blank, or adds up the rows above (null: it may be for one)."""
    at = true_places(keyless)
    none = constant(None, keyless.len(), pl.String)
    return scattered(none, at, _why_no_key(catalogue.rows(at))) if at.len() else none


def _why_no_key(rows: pl.DataFrame) -> pl.Series:
    """Per row without a key why it has none, as far as that is plain."""
    empty, total = pl.all_horizontal(blank(pl.all())), pl.any_horizontal(pl.all().str.contains(TOTAL))
    reason = pl.when(empty).then(pl.lit(BLANK_ROW)).when(total).then(pl.lit(TOTAL_ROW)).otherwise(pl.lit("no key"))
    return rows.select(reason.alias("reason")).to_series()


def _set_aside(
    catalogue: Catalogue, key: list[str], reasons: pl.Series, name: Literal["live", "sheet"]
) -> list[SetAside]:
    """The rows of one file that were set aside, in its order."""
    if reasons.null_count() == reasons.len():
        return []
    places = true_places(not_null(reasons))
    rows = catalogue.rows(places)
    keyless = _why_no_key(rows)
    keys = rows.select(key).rows(named=True)
    return [
        SetAside(
            name,
            row,
            key_texts,
            why if reason == NO_KEY else reason,
        )
        for row, key_texts, why, reason in zip(
            catalogue.row(places), keys, keyless, gathered(reasons, places), strict=True
        )
    ]


BLANK_ROW, TOTAL_ROW, SAME_ROW = "blank row", "total", "the same row again"
NOT_TAKEN = "not taken, as the mapping says"
"""The reason for which a row of a list is set aside that its description does not want."""

HARMLESS = (BLANK_ROW, TOTAL_ROW, SAME_ROW, NOT_TAKEN)
"""The reasons for setting a row aside that mean nothing is wrong."""

REPEATS = "key repeats in the sheet"
"""The reason for which rows of the sheet are set aside that have one key."""

NO_KEY = "no key"
REASONS = pl.Enum([NO_KEY, "key repeats in live", REPEATS, TOTAL_ROW])
"""Why rows cannot be used, as a column: most have no reason, and a byte says so."""


def _reason(reason: str) -> pl.Expr:
    return pl.lit(reason, dtype=REASONS)


TOTAL = (
    r"(?i)^\s*(?:grand |sub-?)?(?:totals?|totale|totaal|sum|summe|somme|gesamt|zwischensumme|suma|razem|"
    r"celkem|összesen|итого|всего|сумма)\b[^\p{L}]*$"
)
"""How the line under a table is called that adds it up."""


def _no_item(catalogue: Catalogue, key: list[str], reasons: pl.Series) -> str:
    """Why a whole file has no item that can be matched."""
    named = ", ".join(key)
    if (reasons == "no key").all():
        return f"{catalogue.path}: the key ({named}) is blank in all {catalogue.height:,} rows."
    return (
        f"{catalogue.path}: no row has a key of its own: all {catalogue.height:,} rows lack the key "
        f"({named}) or share it with another row. Name the fields that tell items apart with ‹key›."
    )
