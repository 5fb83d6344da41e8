"""Which items the rows of a list are, by any fields: the store's key stays what items are known by.

Rule: a row that fits several items is set aside, and so are rows that say different things of one item, unless the
list's description says otherwise.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal

import polars as pl

from neat_delta.core.base.kinds.number import amounts
from neat_delta.core.base.model.catalogue import MARK, Catalogue, listed
from neat_delta.core.base.model.header import NearKey, SetAside
from neat_delta.core.base.model.layout import Notation
from neat_delta.core.base.model.lists import ListMapping
from neat_delta.core.base.model.store import Field, Key
from neat_delta.core.base.support.errors import CatalogueError
from neat_delta.core.base.support.series import gathered, scattered, true_places
from neat_delta.core.compare.decide.policy import Policy
from neat_delta.core.compare.decide.rows import keys_taken
from neat_delta.core.compare.detect.near_keys import near_keys, with_near_keys
from neat_delta.core.compare.lists.aside import rows_aside
from neat_delta.core.sheets.match.keys import KeyIndex
from neat_delta.core.sheets.match.rows import SAME_ROW, TOTAL_ROW, Matched, row_reasons, total_rows

__all__ = ["ListMatch", "match_list"]


@dataclass(frozen=True, slots=True)
class ListMatch:
    """The rows of a list in their places: `pairs` (places in `live` and in the `list`; several of live's for a row that
    goes to all), the places of the rows that fit none (`new`), those set aside, keys that nearly are one's, how many
    rows stand in `pairs` once more, and the places in live of the items that rows nearly are (`nearly`).
    """

    pairs: pl.DataFrame
    new: pl.Series
    set_aside: list[SetAside]
    near: list[NearKey]
    copied: int
    nearly: pl.Series


def match_list(
    live: Catalogue,
    sheet: Catalogue,
    by: Key,
    key: Key,
    mapping: ListMapping,
    policy: Policy,
    *,
    settings: dict[str, Field] | None = None,
    writing: Notation | None = None,
) -> ListMatch:
    """Find the items of a list's rows by the fields `by`, under which both have columns; items are named by their
    `key`. The `policy` says which keys that nearly are one's are taken.

    >>> from neat_delta import as_catalogue
    >>> live = as_catalogue({"sku": ["QA-1", "QA-2", "QA-3"], "barcode": ["29001", "29002", "29002"]})
    >>> found = match_list(live, as_catalogue({"barcode": ["29001", "29002", "29009"]}), Key(["barcode"]), Key(["sku"]),
    ...     ListMapping(), Policy())
    >>> found.pairs.rows(), found.new.to_list(), [row.reason for row in found.set_aside]
    ([(0, 0)], [2], ['fits several items: QA-2, QA-3'])
    """
    _must_be_preference(sheet, mapping.prefer)
    keys = {"live": KeyIndex.of(live, by), "sheet": KeyIndex.of(sheet, by)}
    reasons = row_reasons(sheet, keys["sheet"].blank)
    usable = {"live": true_places(~keys["live"].blank), "sheet": true_places(reasons.is_null())}
    if key.shared == "all":  # one row is for all that share the store's key, for which the first stands
        first = KeyIndex.of(live, key).lookup(live) == pl.int_range(live.height, eager=True)
        usable["live"] = usable["live"].filter(gathered(first, usable["live"]).fill_null(value=False))
    pairs = _joined(keys, usable)
    taken = {name: pairs[name].unique() for name in ("live", "sheet")}
    rest = {name: usable[name].filter(~usable[name].is_in(taken[name].implode())) for name in usable}
    alone = Matched(by.fields, keys, pairs, rest["live"], rest["sheet"], [], [], [])
    nearly = near_keys(alone)
    alone = with_near_keys(alone, live, sheet, nearly, keys_taken(nearly, lambda: keys["sheet"], policy))
    pairs, new = alone.pairs, alone.new
    several = pairs.filter(pl.col("live").count().over("sheet") > 1)
    copied = 0
    if several.height and mapping.fits_several == "aside":
        named = live.cells.select(pl.concat_str(pl.col(key.fields).str.strip_chars(), separator=" / ")).to_series()
        groups = several.with_columns(gathered(named, several["live"]).alias("key")).group_by("sheet").agg("key")
        at = groups["sheet"]
        why_aside = [f"fits several items: {listed(names, 5)}" for names in groups["key"]]
        reasons = scattered(reasons, at, pl.Series(why_aside, dtype=pl.String))
        pairs = pairs.filter(~pl.col("sheet").is_in(at.implode()))
    pairs, reasons = _one_row_each(sheet, pairs, reasons, mapping, settings or {}, writing or Notation())
    if mapping.fits_several == "all":
        copied = pairs.height - pairs["sheet"].n_unique()
    totals = total_rows(sheet.cells, by.fields, new)
    if totals.len():
        new, reasons = new.filter(~new.is_in(totals.implode())), scattered(reasons, totals, TOTAL_ROW)
    new, reasons = _distinct_new(keys["sheet"], sheet, new, reasons)
    at = true_places(reasons.is_not_null())
    aside = rows_aside(sheet.cells, by.fields, at, sheet.row(at), gathered(reasons, at))
    return ListMatch(pairs.sort("sheet", "live"), new, aside, alone.near, copied, alone.nearly)


def _joined(keys: dict[str, KeyIndex], usable: dict[str, pl.Series]) -> pl.DataFrame:
    """All pairs of rows with the same key."""
    sides = [
        gathered(keys[name].keys, usable[name]).with_columns(usable[name].cast(pl.UInt32).alias(MARK + name))
        for name in usable
    ]
    met = sides[0].join(sides[1], on=keys["live"].key.fields, how="inner")
    return met.select(live=MARK + "live", sheet=MARK + "sheet").sort("sheet", "live")


def _one_row_each(
    sheet: Catalogue,
    pairs: pl.DataFrame,
    reasons: pl.Series,
    mapping: ListMapping,
    settings: dict[str, Field],
    writing: Notation,
) -> tuple[pl.DataFrame, pl.Series]:
    """Of several rows for one item: the same ones count once; of others one is preferred, or all are set aside."""
    crowded = pairs.filter(pl.col("sheet").count().over("live") > 1)
    if not crowded.height:
        return pairs, reasons
    texts = sheet.cells.select(pl.all().str.strip_chars())
    alike = texts.select(pl.struct(pl.all()).rank("dense").alias("alike")).to_series()
    crowded = crowded.with_columns(alike=gathered(alike, crowded["sheet"])).sort("live", "sheet")
    keep: Literal["first", "last"] = "last" if mapping.prefer == "last" else "first"
    different = crowded.unique(["live", "alike"], keep=keep, maintain_order=True)
    same = crowded.join(different, on=["live", "sheet"], how="anti")
    reasons = scattered(reasons, same["sheet"], SAME_ROW)
    left_out = [same[["live", "sheet"]]]
    contradicting = different.filter(pl.len().over("live") > 1).sort("live", "sheet")
    rank = _ranks(sheet, mapping.prefer, settings, writing) if contradicting.height else None
    if rank is not None:
        by = contradicting.with_columns(rank=gathered(rank, contradicting["sheet"]))
        best = (
            by.sort("live", "rank", "sheet")
            .group_by("live", maintain_order=True)
            .agg(pl.col("sheet").first().alias("best"))
        )
        others = by.join(best, on="live").filter(pl.col("sheet") != pl.col("best"))
        rows = sheet.row(others["best"].cast(pl.Int64))
        why_aside = pl.select(pl.format("not preferred: row {} is for the same item", rows)).to_series()
        reasons = scattered(reasons, others["sheet"], why_aside)
        left_out.append(others[["live", "sheet"]])
    elif contradicting.height:
        reasons = _set_side_by_side(sheet, texts, contradicting, reasons)
        left_out.append(contradicting[["live", "sheet"]])
    return pairs.join(pl.concat(left_out), on=["live", "sheet"], how="anti", maintain_order="left"), reasons


MOST_DETAILED = 1_000
"""Of so many items it is said in what their rows differ."""


def _set_side_by_side(sheet: Catalogue, texts: pl.DataFrame, rows: pl.DataFrame, reasons: pl.Series) -> pl.Series:
    """The reasons with those of rows that say different things of one item (`live`)."""
    groups = rows.group_by("live", maintain_order=True).agg("sheet")["sheet"].to_list()
    at, why_aside = list[int](), list[str]()
    for number, places in enumerate(groups):
        row_numbers = sheet.row(pl.Series(places, dtype=pl.Int64)).to_list()
        detailed = number < MOST_DETAILED
        reason = _side_by_side(gathered(texts, places), row_numbers) if detailed else _for_one_item(row_numbers)
        at += places
        why_aside += [reason] * len(places)
    return scattered(reasons, at, pl.Series(why_aside, dtype=pl.String))


def _for_one_item(row_numbers: Sequence[int]) -> str:
    return f"rows {', '.join(f'{number:,}' for number in row_numbers)} are for one item"


def _side_by_side(rows: pl.DataFrame, row_numbers: Sequence[int]) -> str:
    """Where rows differ that are for one item."""
    differing = [name for name in rows.columns if rows[name].n_unique() > 1]
    parts = [f"{name} {' / '.join(text or '(blank)' for text in rows[name])}" for name in differing]
    return f"{_for_one_item(row_numbers)}: {listed(parts, 3)}"


def _must_be_preference(sheet: Catalogue, prefer: str | None) -> None:
    """CatalogueError when what is to be preferred says nothing."""
    how, _, name = (prefer or "first").partition(":")
    if not (how in {"first", "last"} and not name) and not (how in {"lowest", "highest"} and name in sheet.fields):
        raise CatalogueError(
            f'{sheet.path}: ‹prefer› is "{prefer}", and is to be first, last, lowest:FIELD or highest:FIELD; '
            f"there are: {listed(sheet.fields)}."
        )


def _ranks(sheet: Catalogue, prefer: str | None, settings: dict[str, Field], writing: Notation) -> pl.Series | None:
    """For each row how it is preferred, the least first (None: nothing is said)."""
    if prefer is None:
        return None
    how, _, name = prefer.partition(":")
    if not name:
        order = pl.int_range(sheet.height, eager=True)
        return order if how == "first" else -order
    values = amounts(sheet.column(name).fill_null(""), settings.get(name, Field("decimal")), writing)
    rank = (values if how == "lowest" else -values).rank("dense").cast(pl.Int64)
    return rank.fill_null((rank.max() or 0) + 1)  # type: ignore[operator] # what is no number comes last


def _distinct_new(index: KeyIndex, sheet: Catalogue, new: pl.Series, reasons: pl.Series) -> tuple[pl.Series, pl.Series]:
    """New rows of which none says the same key twice: the same row counts once, others are set aside."""
    keys = gathered(index.keys, new)
    group = keys.select(pl.struct(pl.all()).rank("dense").alias("live")).to_series()
    pairs = pl.DataFrame({"live": group, "sheet": new.cast(pl.UInt32)})
    pairs, reasons = _one_row_each(sheet, pairs, reasons, ListMapping(), {}, Notation())
    return pairs["sheet"].sort(), reasons
