"""Matching: which heading of the sheet is which field of live, and which row is which item. Nothing is guessed.

An item is known by its key, a field by its heading; the order of rows and of columns means nothing.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import reduce
from operator import and_, or_
from typing import Literal

import polars as pl

from neat_delta.core.catalogue import FIRST_ROW, MARK, Catalogue
from neat_delta.core.changes import SetAside
from neat_delta.core.errors import CatalogueError
from neat_delta.core.kinds import blank

__all__ = ["Matched", "find_key", "match", "plain_heading"]

SKU_HEADINGS = (
    "sku",
    "skucode",
    "skunumber",
    "productsku",
    "itemsku",
    "variantsku",
    "itemnumber",
    "itemno",
    "itemcode",
    "articlenumber",
    "articleno",
    "artno",
    "productcode",
    "productnumber",
    "stockcode",
)
"""Headings that plainly mean the code an item is known by, without case, spaces and marks; the plainest first."""


@dataclass(frozen=True, slots=True)
class Matched:
    """The rows of live and sheet, each in exactly one place.

    `both`       one row a matched item: its place in live and in sheet (from 0), in live's order;
    `gone`       places in live of the items the sheet does not have;
    `new`        places in the sheet of the items live does not have, in the sheet's order;
    `set_aside`  the rows that match nothing for certain;
    `fields`     the fields that both have, without the key, in live's order;
    `ignored`    headings of the sheet that live does not have; `untouched` fields of live that the sheet lacks.
    """

    key: list[str]
    both: pl.DataFrame
    gone: pl.Series
    new: pl.Series
    set_aside: list[SetAside]
    fields: list[str]
    ignored: list[str]
    untouched: list[str]


def find_key(live: Catalogue, sheet: Catalogue, key: Sequence[str] | None = None) -> list[str]:
    """The key fields: the ones named, or the one heading that is plainly the SKU. CatalogueError when there is none."""
    live_path, sheet_path = live.path, sheet.path
    if key:
        if len(set(key)) != len(key):
            raise CatalogueError(f"--key names the same field twice: {', '.join(key)}.")
        for catalogue in (live, sheet):
            for name in key:
                if name not in catalogue.fields:
                    raise CatalogueError(
                        f'{catalogue.path}: there is no heading "{name}" for the key. '
                        f"It has: {_listed(catalogue.fields)}."
                    )
        return list(key)
    found = plain_heading(live.fields, SKU_HEADINGS)
    if found is None:
        raise CatalogueError(
            f"{live_path}: no heading is plainly the SKU. Name the key with --key. It has: {_listed(live.fields)}."
        )
    if found not in sheet.fields:
        raise CatalogueError(
            f'{sheet_path}: there is no heading "{found}", which is the key in {live_path}. '
            f"It has: {_listed(sheet.fields)}."
        )
    return [found]


def plain_heading(fields: Sequence[str], wanted: Sequence[str]) -> str | None:
    """The field whose heading, without case, spaces and marks, is the first of `wanted` that any field has."""
    plain = {"".join(c for c in name.casefold() if c.isalnum()): name for name in reversed(fields)}
    return next((plain[heading] for heading in wanted if heading in plain), None)


def match(live: Catalogue, sheet: Catalogue, key: Sequence[str] | None = None) -> Matched:
    """Put every row of both in its place.

    Rows without a key and rows whose key repeats, in either file, are set aside. A row whose key
    repeats in the other file is set aside too: nobody can say which of them is meant.
    Raises CatalogueError when there is no key, no item with a key, or no field in common.
    """
    key = find_key(live, sheet, key)
    fields = [name for name in live.fields if name in set(sheet.fields) and name not in key]
    if not fields:
        raise CatalogueError(
            f"{sheet.path} has no field of {live.path} but the key ({', '.join(key)}), so there is "
            f"nothing to compare. Its headings are: {_listed(sheet.fields)}."
        )
    keys = {"live": live.cells.select(key).rechunk(), "sheet": sheet.cells.select(key).rechunk()}
    reasons = {name: _unusable(keys[name], name) for name in keys}
    for catalogue, name in ((live, "live"), (sheet, "sheet")):
        if catalogue.cells.height and not reasons[name].has_nulls():
            raise CatalogueError(_no_item(catalogue, key, reasons[name]))
    for name, other in (("live", "sheet"), ("sheet", "live")):
        repeated = keys[other].filter(reasons[other] == f"key repeats in {_THE[other]}").unique()
        if repeated.height:
            marked = repeated.with_columns(pl.lit(True).alias(MARK))
            hit = keys[name].join(marked, on=key, how="left", maintain_order="left")[MARK]
            also = pl.when(hit).then(pl.lit(f"key repeats in {_THE[other]}"))
            reasons[name] = pl.select(pl.coalesce(reasons[name], also)).to_series()
    usable = {name: reasons[name].is_null().arg_true() for name in keys}
    both = _pairs(keys, usable)
    alone = {}
    for name, places in usable.items():
        taken = pl.repeat(False, keys[name].height, eager=True).scatter(both[name], True)
        alone[name] = places.filter(~taken.gather(places))
    return Matched(
        key=key,
        both=both,
        gone=alone["live"],
        new=alone["sheet"],
        set_aside=_set_aside(live, key, reasons["live"], "live") + _set_aside(sheet, key, reasons["sheet"], "sheet"),
        fields=fields,
        ignored=[name for name in sheet.fields if name not in set(live.fields)],
        untouched=[name for name in live.fields if name not in set(sheet.fields)],
    )


_THE = {"live": "live", "sheet": "the sheet"}


def _unusable(keys: pl.DataFrame, name: str) -> pl.Series:
    """Per row, why its key cannot be used within its own file, or null."""
    missing = reduce(or_, (blank(pl.col(field)) for field in keys.columns))
    # Counting hashes is much cheaper than looking for repeats among texts, and all different hashes mean none.
    unique = keys.hash_rows().n_unique() == keys.height
    repeats = pl.lit(False) if unique else pl.struct(keys.columns).is_duplicated()
    reason = pl.when(missing).then(pl.lit("no key")).when(repeats).then(pl.lit(f"key repeats in {_THE[name]}"))
    return keys.select(reason.alias("reason")).to_series()


def _pairs(keys: dict[str, pl.DataFrame], usable: dict[str, pl.Series]) -> pl.DataFrame:
    """The places in live and sheet of the items that both have, in live's order.

    Joining on a hash of the key is twice as fast as on its text. Of the candidates, those stay whose keys are the same.
    """
    one, other = (
        pl.DataFrame({name: usable[name], "hash": keys[name].hash_rows().gather(usable[name])}) for name in keys
    )
    found = one.join(other, on="hash", how="inner", maintain_order="left")
    live, sheet = (keys[name].gather(found[name]) for name in keys)
    return found.select("live", "sheet").filter(reduce(and_, (live[field] == sheet[field] for field in live.columns)))


def _set_aside(
    catalogue: Catalogue, key: list[str], reasons: pl.Series, name: Literal["live", "sheet"]
) -> list[SetAside]:
    """The rows of one file that were set aside, in its order."""
    places = reasons.is_not_null().arg_true()
    rows = catalogue.cells.gather(places)
    empty = rows.select(pl.all_horizontal(blank(pl.all()))).to_series()
    keys = rows.select(key).rows(named=True)
    return [
        SetAside(name, place + FIRST_ROW, found, "blank row" if nothing else reason)
        for place, found, nothing, reason in zip(places, keys, empty, reasons.gather(places), strict=True)
    ]


def _no_item(catalogue: Catalogue, key: list[str], reasons: pl.Series) -> str:
    """Why a whole file has no item that can be matched."""
    named = ", ".join(key)
    if (reasons == "no key").all():
        return f"{catalogue.path}: the key ({named}) is blank in all {catalogue.cells.height:,} rows."
    return (
        f"{catalogue.path}: no row has a key of its own: all {catalogue.cells.height:,} rows lack the key "
        f"({named}) or share it with another row. Name the fields that tell items apart with --key."
    )


def _listed(fields: Sequence[str]) -> str:
    """Headings for an error, the first dozen."""
    more = f" and {len(fields) - 12} more" if len(fields) > 12 else ""
    return ", ".join(fields[:12]) + more
