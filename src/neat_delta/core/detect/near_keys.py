"""Near keys: keys of the sheet that no item of live has, and that nearly are one's. Whether they are taken is decided
elsewhere.
"""

from __future__ import annotations

from dataclasses import replace
from typing import TYPE_CHECKING

import polars as pl

from neat_delta.core.detect.damage.keys import damaged_keys, made_of
from neat_delta.core.model.catalogue import MARK, Catalogue
from neat_delta.core.model.changeset import NearKey

if TYPE_CHECKING:
    from neat_delta.core.match.rows import Matched

__all__ = ["near_keys", "with_near_keys"]

HYPHENS = "[\u2010\u2011\u2012\u2013\u2014\u2015\u2212\ufe58\ufe63\uff0d]"
UNSEEN = "[\\s\u00ad\u200b\u200c\u200d\u2060\ufeff]"


def near_keys(matched: Matched) -> pl.DataFrame:
    """The items that only one file has and that nearly have the same key, each the only one that does: their places in
    `live` and `sheet`, and `damage`: what a spreadsheet did to live's key, if that is what happened.

    Keys are near that differ only by case, spaces, hyphens that look alike or leading zeros; those that a spreadsheet
    made of a key of live; and numbers of articles without their check digit.
    """
    alone = {"live": matched.gone, "sheet": matched.new}
    keys = {name: index.keys for name, index in matched.keys.items()}
    if not all(places.len() for places in alone.values()):
        return pl.DataFrame(schema={"live": pl.UInt32, "sheet": pl.UInt32, "damage": pl.String})
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
    pairs = forms[0].join(forms[1], on=keys["live"].columns, how="inner", maintain_order="right")
    near = pairs.select(pl.col(MARK + name).alias(name) for name in alone)
    if len(keys["live"].columns) > 1:
        return near.with_columns(damage=pl.lit(None, pl.String))
    texts = {name: keys[name].to_series().gather(near[name]) for name in alone}
    near = near.with_columns(damage=damaged_keys(texts["live"], texts["sheet"]))
    rest = {name: places.filter(~places.is_in(near[name].implode())) for name, places in alone.items()}
    pairs = made_of({name: keys[name].to_series().gather(places) for name, places in rest.items()})
    more = {name: rest[name].gather(pairs[name]).cast(pl.UInt32) for name in alone}
    near = pl.concat([near, pl.DataFrame(more).with_columns(damage=pairs["damage"])])
    rest = {name: places.filter(~places.is_in(near[name].implode())) for name, places in alone.items()}
    bare = _without_check_digit({name: keys[name].to_series().gather(places) for name, places in rest.items()})
    more = {name: rest[name].gather(bare[name]).cast(pl.UInt32) for name in alone}
    return pl.concat([near, pl.DataFrame(more).with_columns(damage=pl.lit(None, pl.String))]).sort("sheet")


def _without_check_digit(keys: dict[str, pl.Series]) -> pl.DataFrame:
    """The keys of the sheet that are one of live without its check digit (GTIN, of 8, 12 or 13 digits), and of no
    other: the places of both among these keys.
    """
    form = f"^[0-9]{{{'}$|^[0-9]{'.join(str(length - 1) for length in GTIN)}}}$"
    ours = pl.DataFrame({"key": keys["sheet"]}).with_row_index("sheet").filter(pl.col("key").str.contains(form))
    if not ours.height:
        return pl.DataFrame(schema={"live": pl.UInt32, "sheet": pl.UInt32})
    from stdnum.ean import calc_check_digit

    whole = [bare + calc_check_digit(bare) for bare in ours["key"]]
    ours = ours.with_columns(key=pl.Series(whole, dtype=pl.String))
    met = ours.join(pl.DataFrame({"key": keys["live"]}).with_row_index("live"), on="key", how="inner")
    return met.filter(pl.col("live").is_unique() & pl.col("sheet").is_unique()).select("live", "sheet")


GTIN = (8, 12, 13)
"""How long the numbers of articles are (GS1 General Specifications)."""


def with_near_keys(
    matched: Matched, live: Catalogue, sheet: Catalogue, near: pl.DataFrame, taken: pl.Series
) -> Matched:
    """The match with these near keys named, and those among its items that are `taken`."""
    pairs, gone, new = matched.pairs, matched.gone, matched.new
    accepted = near.filter(taken).select(pairs.columns)
    if accepted.height:
        pairs = pl.concat([pairs, accepted.cast({name: pairs.schema[name] for name in pairs.columns})]).sort("live")
        gone = gone.filter(~gone.is_in(accepted["live"].implode()))
        new = new.filter(~new.is_in(accepted["sheet"].implode()))
    named = [
        NearKey(row, sheet_key, live_key, accepted, damage)
        for row, sheet_key, live_key, accepted, damage in zip(
            sheet.row(near["sheet"]),
            sheet.cells.select(matched.key).gather(near["sheet"]).rows(named=True),
            live.cells.select(matched.key).gather(near["live"]).rows(named=True),
            taken,
            near["damage"],
            strict=True,
        )
    ]
    return replace(matched, pairs=pairs, gone=gone, new=new, near=named)
