"""Near keys: keys of the sheet that no item of live has, and that nearly are one's. Whether they are taken is decided
elsewhere.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import replace
from functools import reduce
from operator import and_
from typing import TYPE_CHECKING

import polars as pl

from neat_delta.core.base.model.catalogue import MARK, Catalogue
from neat_delta.core.base.model.header import NearKey
from neat_delta.core.base.model.reasons import NEAR
from neat_delta.core.base.model.schemas import NEAR_KEYS, conform, empty
from neat_delta.core.base.support.series import constant, gathered, scattered, true_places
from neat_delta.core.compare.detect.damage.keys import damaged_keys, made_of
from neat_delta.core.sheets.match.keys import stripped

if TYPE_CHECKING:
    from neat_delta.core.sheets.match.keys import KeyIndex
    from neat_delta.core.sheets.match.rows import Matched

__all__ = ["near_keys", "near_reasons", "with_near_keys"]

HYPHENS = "[\u2010\u2011\u2012\u2013\u2014\u2015\u2212\ufe58\ufe63\uff0d]"
UNSEEN = "[\\s\u00ad\u200b\u200c\u200d\u2060\ufeff]"


def near_keys(matched: Matched) -> pl.DataFrame:
    """The new rows whose key nearly is one of live's, in the sheet's order: their places in `live` and `sheet`,
    `damage` (what a spreadsheet did to live's key, if that is what happened), and whether there is `only` this one way
    to take them. It is not the only one where a row is near to several items, where the item has a row with its own
    key, or rows with different keys are near to one item.

    Keys are near that differ only by case, spaces, hyphens that look alike or leading zeros; those that a spreadsheet
    made of a key of live; and numbers of articles without their check digit.
    """
    names = [f"{MARK}key {number}" for number in range(len(matched.key))]  # a key may be called live, or damage
    if not matched.new.len():
        return empty({**NEAR_KEYS, "only": pl.Boolean})
    met = matched.pairs["live"].unique().cast(pl.UInt32)
    free = matched.gone.cast(pl.UInt32)
    places = pl.concat([free, met]).sort()
    live = _keys_at(matched.keys["live"], places.alias("live"), names)
    if matched.keys["live"].key.shared == "all":  # the first stands for all; otherwise no key of these is there twice
        live = live.unique(names, keep="first", maintain_order=True)
    rows = _keys_at(matched.keys["sheet"], matched.new.cast(pl.UInt32).alias("sheet"), names)
    ours = rows.unique(names, keep="first", maintain_order=True)
    forms = [_form(pl.concat([live[name], ours[name]], rechunk=True)) for name in names]
    sides = [
        pl.DataFrame([side.alias(MARK), *parts])
        for side, parts in (
            (live["live"], (texts.head(live.height) for texts in forms)),
            (ours["sheet"], (texts.tail(ours.height) for texts in forms)),
        )
    ]
    met_forms = sides[0].join(sides[1], on=names, how="inner")
    near = pl.DataFrame({"live": met_forms[MARK], "sheet": met_forms[MARK + "_right"]})
    near = conform(near.hstack([_damage(matched, near)]), NEAR_KEYS)
    free_keys = live.join(free.to_frame("live"), on="live", how="semi", maintain_order="left")
    for more in (made_of, _without_check_digit):
        left = free_keys.join(near, on="live", how="anti", maintain_order="left")
        open_keys = ours.join(near, on="sheet", how="anti", maintain_order="left")
        if left.height and open_keys.height:
            near = pl.concat([near, conform(more(left, open_keys, names), NEAR_KEYS)])
    if not near.height:
        return empty({**NEAR_KEYS, "only": pl.Boolean})
    only = (pl.len().over("sheet") == 1) & (pl.len().over("live") == 1) & pl.col("live").is_in(free.implode())
    near = near.with_columns(only=only).rename({"sheet": MARK})
    near = near.join(ours.rename({"sheet": MARK}), on=MARK).join(rows, on=names)
    return near[["live", "sheet", "damage", "only"]].sort("sheet", "live")


def _keys_at(index: KeyIndex, places: pl.Series, names: list[str]) -> pl.DataFrame:
    """The keys at these places under these names, and the places."""
    keys = gathered(index.keys, places)
    return pl.DataFrame([*(column.alias(name) for column, name in zip(keys, names, strict=True)), places])


def _form(texts: pl.Series) -> pl.Series:
    """The texts in the form in which near ones are the same. Plain letters need none of what costs most."""
    text = pl.col("text")
    table = texts.to_frame("text")
    at = true_places(table.select(text.str.len_bytes() != text.str.len_chars()).to_series())
    if at.len():
        other = gathered(texts, at).str.normalize("NFKC")
        other = other.str.replace_all(UNSEEN, "").str.replace_all(HYPHENS, "-")
        table = scattered(texts, at, other).to_frame("text")
    seen = table.select(text.str.to_lowercase(), spaces=text.str.contains(r"\s").any())
    text = text.str.replace_all(UNSEEN, "") if seen["spaces"].any() else text
    bare = text.str.strip_chars_start("0")
    form = pl.when((bare == "") & (text != "")).then(pl.lit("0")).otherwise(bare)
    return seen.select(form.alias(texts.name)).to_series()


def _damage(matched: Matched, near: pl.DataFrame) -> pl.Series:
    """What a spreadsheet did to live's key, by the places in live and the sheet: null where a part of it differs in
    another way.
    """
    none = constant(None, near.height, pl.String).alias("damage")
    if not near.height:
        return none
    parts, sound = [], []
    for name in matched.key:
        before, raw = (gathered(matched.keys[side].keys[name], near[side]) for side in ("live", "sheet"))
        parts.append(damaged_keys(before, raw))
        sound.append((before == raw) | parts[-1].is_not_null())
    certain = reduce(and_, sound)
    return pl.select(pl.when(certain).then(pl.coalesce(parts)).alias("damage")).to_series()


def _without_check_digit(live: pl.DataFrame, sheet: pl.DataFrame, key: list[str]) -> pl.DataFrame:
    """The keys of the sheet that are one of live without its check digit (GTIN, of 8, 12 or 13 digits): the places of
    both.
    """
    form = f"^[0-9]{{{'}$|^[0-9]{'.join(str(length - 1) for length in GTIN)}}}$"
    ours = sheet.filter(pl.col(key[0]).str.contains(form)) if len(key) == 1 else sheet.clear()
    if not ours.height:
        return empty(NEAR_KEYS)
    from stdnum.ean import calc_check_digit

    completed = [bare + calc_check_digit(bare) for bare in ours[key[0]]]
    ours = ours.with_columns(pl.Series(key[0], completed, dtype=pl.String))
    met = ours.join(live, on=key, how="inner")
    return met.select("live", "sheet", damage=pl.lit(None, pl.String))


GTIN = (8, 12, 13)
"""How long the numbers of articles are (GS1 General Specifications)."""


def near_reasons(near: Iterable[NearKey]) -> dict[int, str]:
    """By row of the sheet, why a row is held whose key nearly is one of live's and was not taken for it.

    >>> near_reasons([NearKey(2, {"sku": "417"}, {"sku": "00417"}, taken=False)])
    {2: 'near: nearly 00417'}
    """
    return {
        near_key.row: NEAR + (near_key.why or f"nearly {_key_text(near_key.live_key)}")
        for near_key in near
        if not near_key.taken
    }


def _key_text(key: Mapping[str, str]) -> str:
    return " / ".join(text.strip() for text in key.values())


def with_near_keys(
    matched: Matched, live: Catalogue, sheet: Catalogue, near: pl.DataFrame, taken: pl.Series
) -> Matched:
    """The match with these near keys named, and those among its items that are `taken` and can `only` be taken so."""
    if not near.height:
        return matched
    pairs, gone, new = matched.pairs, matched.gone, matched.new
    near = near.with_columns(taken=near["only"] & taken)
    accepted = near.filter("taken").select(pairs.columns)
    if accepted.height:
        pairs = pl.concat([pairs, accepted.cast({name: pairs.schema[name] for name in pairs.columns})]).sort("live")
        gone = gone.filter(~gone.is_in(accepted["live"].implode()))
        new = new.filter(~new.is_in(accepted["sheet"].implode()))
    keys_of = {
        name: gathered(stripped(catalogue, matched.keys[name].key), near[name]).rows(named=True)
        for name, catalogue in (("live", live), ("sheet", sheet))
    }
    why = _doubts(matched, sheet, near, keys_of["live"])
    named: dict[int, NearKey] = {}
    facts = zip(sheet.row(near["sheet"]), keys_of["sheet"], keys_of["live"], near["taken"], near["damage"], strict=True)
    for row, key, live_key, is_taken, damage in facts:
        named.setdefault(row, NearKey(row, key, live_key, is_taken, damage, why.get(row)))
    nearly = near.filter(~pl.col("taken"))["live"].unique()
    return replace(matched, pairs=pairs, gone=gone, new=new, near=list(named.values()), nearly=nearly)


MOST_NAMED = 5
"""So many items or rows that come as near are named."""


def _doubts(matched: Matched, sheet: Catalogue, near: pl.DataFrame, live_keys: list[dict[str, str]]) -> dict[int, str]:
    """By row of the sheet, what else comes as near, where there is not only one way to take it."""
    if near["only"].all():
        return {}
    items: dict[int, list[int]] = {}
    rows: dict[int, list[int]] = {}
    texts_by_key = {}
    row_numbers = sheet.row(near["sheet"]).to_list()
    for place, row, key in zip(near["live"], row_numbers, live_keys, strict=True):
        items.setdefault(row, []).append(place)
        rows.setdefault(place, []).append(row)
        texts_by_key[place] = _key_text(key)
    doubtful = dict.fromkeys(row for row, only in zip(row_numbers, near["only"], strict=True) if not only)
    own = matched.pairs.filter(pl.col("live").is_in(near["live"].cast(matched.pairs.schema["live"]).implode()))
    own_rows = dict(zip(own["live"], sheet.row(own["sheet"]), strict=True))
    reasons = {}
    for row in doubtful:
        places = items[row]
        first_place = places[0]
        if len(places) > 1:
            reasons[row] = "nearly " + " and ".join(texts_by_key[place] for place in places[:MOST_NAMED])
        elif first_place in own_rows:
            reasons[row] = f"nearly {texts_by_key[first_place]}, which row {own_rows[first_place]:,} is for"
        else:
            others = [f"{other:,}" for other in rows[first_place] if other != row][:MOST_NAMED]
            reasons[row] = f"nearly {texts_by_key[first_place]}, and so is row {', '.join(others)}"
    return reasons
