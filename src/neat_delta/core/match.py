"""Matching: which row of the sheet is which item of live. Nothing is guessed.

An item is known by its key, without outer white space; the order of rows and of columns means nothing.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import partial, reduce
from operator import and_, or_
from typing import Literal

import polars as pl

from neat_delta.core.beside import in_background
from neat_delta.core.catalogue import MARK, Catalogue, listed
from neat_delta.core.changes import NearKey, SetAside
from neat_delta.core.damage.keys import damaged_keys, made_of
from neat_delta.core.errors import CatalogueError
from neat_delta.core.headings import SKU_HEADINGS, plain_heading
from neat_delta.core.kinds import blank
from neat_delta.core.once import all_differ
from neat_delta.core.store import Key

__all__ = ["HARMLESS", "REPEATS", "SAME_ROW", "Matched", "find_key", "match", "match_places"]


@dataclass(frozen=True, slots=True)
class Matched:
    """The rows of live and sheet, each in exactly one place.

    `both`       one row a matched item: its place in live and in sheet (from 0), in live's order;
    `gone`       places in live of the items the sheet does not have;
    `new`        places in the sheet of the items live does not have, in the sheet's order;
    `set_aside`  the rows that match nothing for certain;
    `near`       keys of the sheet that nearly are keys of live; those that were taken are in `both`;
    `fields`     the fields that both have, without the key, in live's order.
    """

    key: list[str]
    both: pl.DataFrame
    gone: pl.Series
    new: pl.Series
    set_aside: list[SetAside]
    near: list[NearKey]
    fields: list[str]


def find_key(live: Catalogue, key: Sequence[str] = ()) -> list[str]:
    """The key fields: the ones named, or the one heading that is plainly the SKU. CatalogueError when there is none."""
    if len(set(key)) != len(key):
        raise CatalogueError(f"--key names the same field twice: {', '.join(key)}.")
    for name in key:
        if name not in live.fields:
            raise CatalogueError(
                f'{live.path}: there is no heading "{name}" for the key. It has: {listed(live.fields)}.'
            )
    if key:
        return list(key)
    found = plain_heading(live.fields, SKU_HEADINGS)
    if found is None:
        raise CatalogueError(
            f"{live.path}: no heading is plainly the SKU. Name the key with --key. It has: {listed(live.fields)}."
        )
    return [found]


def match(
    live: Catalogue, sheet: Catalogue, key: Key, *, accept_near: bool = False, repair: bool = False, bare: bool = False
) -> Matched:
    """Put every row of both in its place; the sheet's columns bear the names of live's fields.

    Rows without a key and rows whose key repeats, in either file, are set aside. A row whose key
    repeats in the other file is set aside too: nobody can say which of them is meant; but with `key.shared` "all", a
    row of the sheet is for every item of live that has its key. `accept_near` takes keys that differ only by case,
    spaces, hyphens that look alike or leading zeros, where no other key of either file comes as near; `repair` takes
    those that a spreadsheet made of a key of live.
    Raises CatalogueError when there is no item with a key, or, unless the sheet may be `bare`, no field in common.
    """
    there = set(sheet.fields)
    fields = [name for name in live.fields if name in there and name not in key.fields]
    if not fields and not bare:
        raise CatalogueError(
            f"{sheet.path} has no field of {live.path} but the key ({', '.join(key.fields)}), so there is "
            f"nothing to compare. Its headings are: {listed(sheet.fields)}."
        )
    keys = {name: _keys(one, key) for name, one in (("live", live), ("sheet", sheet))}
    shared = key.shared == "all"
    ours = in_background(partial(_unusable, keys["live"], "live", shared=shared))
    reasons = {"sheet": _unusable(keys["sheet"], "sheet", shared=False), "live": ours()}
    for catalogue, name in ((live, "live"), (sheet, "sheet")):
        if catalogue.cells.height and not reasons[name].has_nulls():
            raise CatalogueError(_no_item(catalogue, key.fields, reasons[name]))
    for name, other in (("live", "sheet"), ("sheet", "live")):
        repeated = keys[other].filter(reasons[other] == f"key repeats in {_THE[other]}").unique()
        if repeated.height:
            marked = repeated.with_columns(pl.lit(True).alias(MARK))
            hit = keys[name].join(marked, on=key.fields, how="left", maintain_order="left")[MARK]
            also = pl.when(hit).then(pl.lit(f"key repeats in {_THE[other]}"))
            reasons[name] = pl.select(pl.coalesce(reasons[name], also)).to_series()
    usable = {name: reasons[name].is_null().arg_true() for name in keys}
    both = _pairs(keys, usable)
    alone = {}
    for name, places in usable.items():
        taken = pl.repeat(False, keys[name].height, eager=True).scatter(both[name], True)
        alone[name] = places.filter(~taken.gather(places))
    totals = _totals(sheet.cells, key.fields, alone["sheet"])
    if totals.len():
        alone["sheet"] = alone["sheet"].filter(~alone["sheet"].is_in(totals.implode()))
        reasons["sheet"] = reasons["sheet"].scatter(totals, TOTAL_ROW)
    near = _near(keys, alone)
    near = near.with_columns(taken=pl.lit(accept_near) | (pl.lit(repair) & pl.col("damage").is_not_null()))
    accepted = near.filter("taken").select(both.columns)
    if accepted.height:
        both = pl.concat([both, accepted.cast({name: both.schema[name] for name in both.columns})]).sort("live")
        alone = {name: places.filter(~places.is_in(accepted[name].implode())) for name, places in alone.items()}
    return Matched(
        key=key.fields,
        both=both,
        gone=alone["live"],
        new=alone["sheet"],
        set_aside=_set_aside(live, key.fields, reasons["live"], "live")
        + _set_aside(sheet, key.fields, reasons["sheet"], "sheet"),
        near=[
            NearKey(row, ours, theirs, accepted, damage)
            for row, ours, theirs, accepted, damage in zip(
                sheet.row(near["sheet"]),
                sheet.cells.select(key.fields).gather(near["sheet"]).rows(named=True),
                live.cells.select(key.fields).gather(near["live"]).rows(named=True),
                near["taken"],
                near["damage"],
                strict=True,
            )
        ],
        fields=fields,
    )


def match_places(live: Catalogue, sheet: Catalogue, key: Key) -> pl.DataFrame:
    """Only the places in live and sheet of the items that both have for certain, in live's order; there may be none."""
    keys = {name: _keys(one, key) for name, one in (("live", live), ("sheet", sheet))}
    usable = {name: _unusable(keys[name], name, shared=False).is_null().arg_true() for name in keys}
    return _pairs(keys, usable)


_THE = {"live": "live", "sheet": "the sheet"}


def _keys(catalogue: Catalogue, key: Key) -> pl.DataFrame:
    """The key columns as they are compared."""
    keys = pl.col(key.fields).str.strip_chars()
    return catalogue.cells.select(keys.str.to_lowercase() if key.ignore_case else keys).rechunk()


def _unusable(keys: pl.DataFrame, name: str, *, shared: bool) -> pl.Series:
    """Per row, why its key cannot be used within its own file, or null."""
    missing = reduce(or_, (blank(pl.col(field)) for field in keys.columns))
    repeats = pl.lit(False) if shared or all_differ(keys) else pl.struct(keys.columns).is_duplicated()
    reason = pl.when(missing).then(pl.lit("no key")).when(repeats).then(pl.lit(f"key repeats in {_THE[name]}"))
    return keys.lazy().select(reason.alias("reason")).collect().to_series().rechunk()


def _pairs(keys: dict[str, pl.DataFrame], usable: dict[str, pl.Series]) -> pl.DataFrame:
    """The places in live and sheet of the items that both have, in live's order.

    Joining on a hash of the key is twice as fast as on its text. Of the candidates, those stay whose keys are the same.
    """
    one, other = (
        pl.DataFrame({name: usable[name], "hash": keys[name].hash_rows().gather(usable[name])}) for name in keys
    )
    # A row of live fits one of the sheet at most, so that its order is all there is to keep; sorting is cheapest.
    found = one.lazy().join(other.lazy(), on="hash").sort("live").collect().rechunk()
    live, sheet = (keys[name].gather(found[name]) for name in keys)
    return found.select("live", "sheet").filter(reduce(and_, (live[field] == sheet[field] for field in live.columns)))


HYPHENS = "[\u2010\u2011\u2012\u2013\u2014\u2015\u2212\ufe58\ufe63\uff0d]"
UNSEEN = "[\\s\u00ad\u200b\u200c\u200d\u2060\ufeff]"


def _near(keys: dict[str, pl.DataFrame], alone: dict[str, pl.Series]) -> pl.DataFrame:
    """The places of the items that are alone and nearly have the same key, where each is the only one that does.

    `damage` says what a spreadsheet did to live's key, if that is what happened.
    """
    schema = {"live": pl.UInt32, "sheet": pl.UInt32, "damage": pl.String}
    if not all(places.len() for places in alone.values()):
        return pl.DataFrame(schema=schema)
    form = (
        pl.all()
        .str.normalize("NFKC")
        .str.to_lowercase()
        .str.replace_all(UNSEEN, "")
        .str.replace_all(HYPHENS, "-")
        .str.replace("^0+(.)", "$1")
    )
    forms = []
    for name, places in alone.items():
        table = keys[name].gather(places).select(form)
        table = table.with_columns(places.cast(pl.UInt32).alias(MARK + name))
        forms.append(table.filter(pl.struct(keys[name].columns).is_unique()))
    found = forms[0].join(forms[1], on=keys["live"].columns, how="inner", maintain_order="right")
    near = found.select(pl.col(MARK + name).alias(name) for name in alone)
    if len(keys["live"].columns) > 1:
        return near.with_columns(damage=pl.lit(None, pl.String))
    texts = {name: keys[name].to_series().gather(near[name]) for name in alone}
    near = near.with_columns(damage=damaged_keys(texts["live"], texts["sheet"]))
    rest = {name: places.filter(~places.is_in(near[name].implode())) for name, places in alone.items()}
    pairs = made_of({name: keys[name].to_series().gather(places) for name, places in rest.items()})
    more = {name: rest[name].gather(pairs[name]).cast(pl.UInt32) for name in alone}
    return pl.concat([near, pl.DataFrame(more).with_columns(damage=pairs["damage"])]).sort("sheet")


def _totals(cells: pl.DataFrame, key: list[str], places: pl.Series) -> pl.Series:
    """Those of the rows that no item of live has whose key is a word for a total."""
    said = cells.select(key).gather(places).select(pl.any_horizontal(pl.all().str.contains(TOTAL))).to_series()
    return places.filter(said)


def _set_aside(
    catalogue: Catalogue, key: list[str], reasons: pl.Series, name: Literal["live", "sheet"]
) -> list[SetAside]:
    """The rows of one file that were set aside, in its order."""
    places = reasons.is_not_null().arg_true()
    rows = catalogue.cells.gather(places)
    empty = rows.select(pl.all_horizontal(blank(pl.all()))).to_series()
    total = rows.select(pl.any_horizontal(pl.all().str.contains(TOTAL))).to_series()
    keys = rows.select(key).rows(named=True)
    return [
        SetAside(
            name,
            row,
            found,
            BLANK_ROW if nothing else TOTAL_ROW if sums and reason == "no key" else reason,
        )
        for row, found, nothing, sums, reason in zip(
            catalogue.row(places), keys, empty, total, reasons.gather(places), strict=True
        )
    ]


BLANK_ROW, TOTAL_ROW, SAME_ROW = "blank row", "total", "the same row again"
HARMLESS = (BLANK_ROW, TOTAL_ROW, SAME_ROW)
"""The reasons for setting a row aside that mean nothing is wrong."""

REPEATS = "key repeats in the sheet"
"""The reason for which rows of the sheet are set aside that have one key."""

TOTAL = (
    r"(?i)^\s*(?:grand |sub-?)?(?:totals?|totale|totaal|sum|summe|somme|gesamt|zwischensumme|suma|razem|"
    r"celkem|összesen|итого|всего|сумма)\b[^\p{L}]*$"
)
"""How the line under a table is called that adds it up."""


def _no_item(catalogue: Catalogue, key: list[str], reasons: pl.Series) -> str:
    """Why a whole file has no item that can be matched."""
    named = ", ".join(key)
    if (reasons == "no key").all():
        return f"{catalogue.path}: the key ({named}) is blank in all {catalogue.cells.height:,} rows."
    return (
        f"{catalogue.path}: no row has a key of its own: all {catalogue.cells.height:,} rows lack the key "
        f"({named}) or share it with another row. Name the fields that tell items apart with --key."
    )
