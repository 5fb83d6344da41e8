"""The base: the older export that a sheet was cut from. Which row of it each item of live and of the sheet was, and how
its own headings, codes and writing become live's. Nothing here compares a value.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING

import polars as pl

from neat_delta.core.base.model.columns import ColumnMapping, ColumnOptions
from neat_delta.core.base.model.header import LikelyCode
from neat_delta.core.base.model.importer import NEW_CODE
from neat_delta.core.base.model.store import Store, continued
from neat_delta.core.base.support.errors import CatalogueError
from neat_delta.core.base.support.series import constant, filtered, gathered, not_null, scattered, true_places
from neat_delta.core.sheets.match.columns import match_columns
from neat_delta.core.sheets.match.keys import KeyIndex, stripped
from neat_delta.core.sheets.match.likely import likely_codes
from neat_delta.core.sheets.match.prepare import ANY_COLUMNS, AlignedInputs, align_inputs, prepare_columns
from neat_delta.core.sheets.match.rows import Matched

if TYPE_CHECKING:
    from neat_delta.core.base.model.catalogue import Catalogue
    from neat_delta.core.base.model.store import Key

__all__ = [
    "Based",
    "KeyRows",
    "align_base",
    "base_rows",
    "followed_codes",
    "key_rows",
    "with_codes_followed",
    "without_followed",
]


@dataclass(frozen=True, slots=True)
class Based:
    """The sheet matched with its base, and where each of those rows stands in the match with live.

    `base` has a row for each item of live that the sheet has, live's own of those that it lacked, and every field that
    is compared, live's texts of those that it lacked. `matched` are its rows and the sheet's, where "live" is the base.
    `pair` says of each of its pairs which pair of the match with live that is, `new` which new row (the other is null);
    `arrived` which were not in the base; `new_rows` of its new rows which they are. `at` has the place in the base of
    each of live's rows (null: it lacks it), and `two_way` the fields that it lacks. `store` are the rows of the base
    and of live ("sheet" there) of the sheet's items that both have, and `store_pair` the pairs of the match with live.
    `own_rows` is how many rows the base itself has.
    """

    base: Catalogue
    matched: Matched
    pair: pl.Series
    new: pl.Series
    arrived: pl.Series
    new_rows: pl.Series
    at: pl.Series
    two_way: list[str]
    store: Matched
    store_pair: pl.Series
    own_rows: int


def align_base(base: Catalogue, aligned: AlignedInputs, columns: ColumnOptions = ANY_COLUMNS) -> Catalogue:
    """The base under the names of live's fields, one row an item; only the fields that live has.

    CatalogueError when it lacks the key, or is not what the sheet was cut from as the sheet says of itself.
    """
    origin, live, key = aligned.sheet.origin, aligned.live, aligned.key
    if origin is not None and origin.blake3 != base.digest():
        raise CatalogueError(
            f"{base.path}: {aligned.sheet.path} was not cut from this. It says it was cut from {origin.path}, a file "
            f"with the BLAKE3 digest {origin.blake3[:16]}…; name that one with ‹base›."
        )
    shop = aligned.store or Store()
    headings = columns.mapping.headings if columns.mapping else {}
    mapping = ColumnMapping({heading: name for heading, name in headings.items() if heading in base.fields})
    own = {name: heading for name, heading in aligned.headings.items() if heading in base.fields}
    matches = match_columns(
        base.fields, live.fields, field_settings=shop.fields, mapping=mapping, key=key.fields, path=base.path
    )
    names = {match.field: match.heading for match in matches if match.field is not None} | own
    for name in key.fields:
        if name not in names:
            raise CatalogueError(f'{base.path}: no heading stands for "{name}", which is the key in {live.path}.')
    kept = base.narrowed(list(names.values()))
    return prepare_columns(kept, names, key.fields, continued(shop))


@dataclass(frozen=True, slots=True)
class KeyRows:
    """The keys of live and of the base; per row of live which row of the base has its key, and may have it (null:
    none); and which rows of the base may be an item: their key is not blank, and nobody else's unless items share keys.
    """

    live: KeyIndex
    base: KeyIndex
    at: pl.Series
    usable: pl.Series


def key_rows(base: Catalogue, live: Catalogue, key: Key) -> KeyRows:
    """Match the rows of live with those of the base."""
    ours, theirs = KeyIndex.of(live, key), KeyIndex.of(base, key)
    repeated = theirs.repeated
    usable = ~theirs.blank
    if key.shared != "all":
        usable &= ~repeated
    if key.shared == "all" and (repeated.any() or ours.repeated.any()):
        at = _usable(ours.align(theirs), usable)
        return KeyRows(ours, theirs, at.set(~_as_often(ours, theirs), None), usable)
    if ours.keys.equals(theirs.keys):  # most exports have the same items in the same order
        row_numbers = pl.int_range(live.height, dtype=pl.UInt32, eager=True)
        return KeyRows(ours, theirs, _usable(row_numbers, usable), usable)
    rows = true_places(~ours.blank & ~ours.repeated).cast(pl.UInt32)
    met = ours.pairs(theirs, rows, true_places(usable).cast(pl.UInt32))
    at = scattered(constant(None, live.height, pl.UInt32), met["row"], met["other"])
    return KeyRows(ours, theirs, at, usable)


def followed_codes(base: Catalogue, aligned: AlignedInputs, codes: Catalogue | None, rows: KeyRows) -> list[LikelyCode]:
    """The code changes that the store made since the base, of items that the sheet has: as the list of `codes` says, or
    as an item that is gone since and one that is new are likely one.
    """
    live, sheet, key = aligned.live, aligned.sheet, aligned.key
    leaving = true_places(scattered(rows.usable, rows.at.drop_nulls(), False))
    if not leaving.len():
        return []
    leaving = leaving.filter(~gathered(rows.base.repeated, leaving))
    keys = {"base": rows.base, "live": rows.live, "sheet": KeyIndex.of(sheet, key)}
    leaving = leaving.filter(keys["sheet"].lookup(base.select(key.fields)[leaving]).is_not_null())
    if not leaving.len():
        return []
    arrived = rows.at.is_null() & ~keys["live"].blank & ~keys["live"].repeated
    coming = true_places(arrived)
    coming = coming.filter(keys["sheet"].lookup(live.select(key.fields)[coming]).is_null())
    shop, pairs = aligned.store or Store(), list[LikelyCode]()
    field = shop.importer.code_change.field or key.fields[0]
    if codes is not None:
        codes_named = align_inputs(live, codes, columns=ColumnOptions(key.fields), listed_codes=True).sheet
        old = gathered(stripped(base, key), leaving)
        at = KeyIndex.of(codes_named, key).lookup(old)
        new = old.with_columns(codes_named.at(NEW_CODE, at).str.strip_chars().alias(field))
        at_new = keys["live"].lookup(new)
        for place in true_places(not_null(at_new)):
            codes_pair = (old.row(place, named=True), new.row(place, named=True))
            pairs.append(LikelyCode(*codes_pair, live.row(gathered(at_new, [place]))[0], 0, 0, None))
        leaving = leaving.filter(at_new.is_null())
    new_places = coming.cast(pl.UInt32)
    taken = KeyIndex.of(pl.DataFrame([pair.new for pair in pairs], schema=dict.fromkeys(key.fields, pl.String)), key)
    new_places = new_places.filter(taken.lookup(live.rows(new_places)).is_null())
    fields = [name for name in live.fields if name in set(base.fields) and name not in key.fields]
    matched = Matched(
        key.fields, {"live": keys["base"]}, pl.DataFrame(), leaving.cast(pl.UInt32), new_places, [], [], fields
    )
    likely = likely_codes(base, live, matched, shop.fields, key.name, field)
    return pairs + [pair for pair in likely if pair.fields >= LEAST]


LEAST = 5
"""By so many fields at least that have a text must it show that two codes are one item, before that is acted upon."""


def with_codes_followed(catalogue: Catalogue, codes: Sequence[LikelyCode], key: Key) -> Catalogue:
    """The catalogue with its items under the codes that the store has given them since."""
    olds = pl.DataFrame([likely.old for likely in codes], schema=dict.fromkeys(key.fields, pl.String))
    at = KeyIndex.of(olds, key).lookup(catalogue)
    rows = true_places(not_null(at))
    cells = catalogue.cells
    for name in key.fields:
        new = gathered(pl.Series([likely.new[name] for likely in codes], dtype=pl.String), gathered(at, rows))
        cells = cells.with_columns(scattered(cells[name].rechunk(), rows, new).alias(name))
    return replace(catalogue, table=cells)


def without_followed(codes: Catalogue, followed: Sequence[LikelyCode], aligned: AlignedInputs) -> Catalogue | None:
    """The list of codes without those that the store has given already; None where none is left."""
    codes_named = align_inputs(aligned.live, codes, columns=ColumnOptions(aligned.key.fields), listed_codes=True).sheet
    olds = pl.DataFrame([likely.old for likely in followed], schema=dict.fromkeys(aligned.key.fields, pl.String))
    stays = KeyIndex.of(olds, aligned.key).lookup(codes_named).is_null()
    return replace(codes, table=codes.cells.filter(stays)) if stays.any() else None


def base_rows(base: Catalogue, live: Catalogue, sheet: Catalogue, matched: Matched, key: Key, by_key: KeyRows) -> Based:
    """Match the rows of the sheet, which are `matched` with live, with the base, of which live's keys are rows
    `by_key`. A key that repeats in the base is none of its items, unless items share keys.
    """
    index, usable, at = by_key.base, by_key.usable, by_key.at
    of_pairs = gathered(at, matched.pairs["live"])
    of_new = pl.Series([], dtype=pl.UInt32)
    if matched.new.len():
        of_new = _usable(index.lookup(gathered(sheet.select(key.fields), matched.new)), usable)
    lacking = of_pairs.is_null()
    extra = matched.pairs["live"].filter(lacking)
    own = pl.int_range(extra.len(), dtype=pl.UInt32, eager=True) + base.height
    of_pairs = scattered(of_pairs.cast(pl.UInt32), true_places(lacking), own)
    new_places = pl.int_range(matched.new.len(), dtype=pl.UInt32, eager=True)
    left = not_null(of_new)
    many, none = matched.pairs.height, pl.lit(None, pl.UInt32)
    met = pl.concat(
        [
            pl.select(
                live=of_pairs,
                sheet=matched.pairs["sheet"],
                pair=pl.int_range(many, dtype=pl.UInt32, eager=True),
                new=constant(None, many, pl.UInt32),
                arrived=lacking,
            ),
            pl.DataFrame({"live": of_new.cast(pl.UInt32), "sheet": matched.new, "new": new_places})
            .filter(left)
            .select("live", "sheet", none.alias("pair"), "new", arrived=pl.lit(value=False)),
        ]
    )
    if not met["live"].is_sorted():
        met = met.sort("live", maintain_order=True)
    rows = Matched(
        key=matched.key,
        keys={"live": index, "sheet": matched.keys["sheet"]},
        pairs=met[["live", "sheet"]],
        gone=pl.Series([], dtype=pl.UInt32),
        new=matched.new.filter(~left),
        set_aside=[],
        near=[],
        fields=matched.fields,
    )
    base_fields = set(base.fields)
    two_way = [name for name in matched.fields if name not in base_fields]
    completed = _completed(base, live, sheet, met, matched, extra, two_way)
    both = met.filter(pl.col("pair").is_not_null() & ~pl.col("arrived"))
    between = both.select("live", sheet=gathered(matched.pairs["live"], both["pair"]))
    named = [name for name in matched.fields if name in base_fields]
    store = Matched(matched.key, {}, between, rows.gone, rows.gone, [], [], named)
    return Based(
        completed, rows, met["pair"], met["new"], met["arrived"], new_places.filter(~left), at, two_way, store,
        both["pair"], base.height,
    )  # fmt: skip


def _usable(places: pl.Series, usable: pl.Series) -> pl.Series:
    return places.set(~gathered(usable, places).fill_null(value=False), None)


def _as_often(keys: KeyIndex, other: KeyIndex) -> pl.Series:
    """Per row of an index whether another has its key as often."""
    names = keys.key.fields
    often = other.keys.group_by(names).len("often")
    counted = keys.keys.with_columns(pl.len().over(names).alias("len")).join(
        often, on=names, how="left", maintain_order="left"
    )
    return (counted["len"] == counted["often"]).fill_null(value=False)


def _completed(
    base: Catalogue,
    live: Catalogue,
    sheet: Catalogue,
    met: pl.DataFrame,
    matched: Matched,
    extra: pl.Series,
    two_way: Sequence[str],
) -> Catalogue:
    """The base with live's rows for the items that it lacks, and with live's texts in the fields that it lacks."""
    names = [*matched.key, *matched.fields]
    if not extra.len() and not two_way:
        return base.narrowed(names)
    cells = base.select([name for name in names if name not in two_way])
    if extra.len():
        cells = pl.concat([cells, gathered(live.select(cells.columns), extra)]).rechunk()
    for name in two_way:
        pairs = filtered(met, not_null(met["pair"]))
        texts = live.at(name, gathered(matched.pairs["live"], pairs["pair"]))
        column = scattered(constant("", cells.height, pl.String), pairs["live"], texts)
        left = filtered(met, ~not_null(met["pair"]))
        cells = cells.with_columns(scattered(column, left["live"], sheet.at(name, left["sheet"])).alias(name))
    return replace(base, table=cells.select(names))
