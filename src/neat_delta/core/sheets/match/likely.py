"""Likely code changes: items that are gone and new ones that agree in nearly everything. Nothing of it is taken."""

from __future__ import annotations

from collections.abc import Mapping
from typing import TYPE_CHECKING

import polars as pl

from neat_delta.core.base.infer.headings import NAME_HEADINGS, plain_heading
from neat_delta.core.base.kinds import blank
from neat_delta.core.base.model.header import LikelyCode
from neat_delta.core.base.model.store import Field
from neat_delta.core.base.support.series import constant, gathered
from neat_delta.core.sheets.match.keys import stripped

if TYPE_CHECKING:
    from neat_delta.core.base.model.catalogue import Catalogue
    from neat_delta.core.sheets.match.rows import Matched

__all__ = ["likely_codes"]

AGREE, ALIKE = 80, 80
"""So many of the fields, in per cent, must have the same text, and so alike must the names be."""

TELLING, RARE = 4, 20
"""Two items are looked at if they agree in the name or in one of the so many fields that tell the new ones apart best,
and if no more than so many items that are gone have that text.
"""

MOST = 20_000
"""Of more new items than that nothing is said: another key was meant, most likely, and the pairs would be too many."""


def likely_codes(
    live: Catalogue, sheet: Catalogue, matched: Matched, fields: Mapping[str, Field], name: str | None, code: str
) -> list[LikelyCode]:
    """The pairs of a gone and a new item that may be one under another code (`code` is the field of the key in which
    they differ), each the best of all for both, in the sheet's order.

    They must not differ in a field that tells items apart for certain: one that is unique or has a check digit.
    `name` is the field by which a person knows the item; its texts are held against each other by their words.
    """
    if not matched.gone.len() or not 0 < matched.new.len() <= MOST:
        return []
    name = name if name in matched.fields else plain_heading(matched.fields, NAME_HEADINGS)
    rest = [field for field in matched.fields if field != name and not fields.get(field, Field()).moving]
    new_rows = sheet.rows(matched.new, matched.fields)
    pairs = _candidates(live, new_rows, matched.gone, rest, name)
    for part in matched.key:
        if part != code:
            new = gathered(sheet.at(part, matched.new), pairs["new"]).str.strip_chars()
            pairs = pairs.filter(live.at(part, pairs["old"]).str.strip_chars() == new)
    if not pairs.height or not rest:
        return []
    agree = filled = constant(0, pairs.height, pl.Int64)
    may = constant(True, pairs.height)
    old_rows = live.rows(pairs["old"], rest).select(pl.all().str.strip_chars())
    paired_rows = gathered(new_rows.select(rest), pairs["new"]).select(pl.all().str.strip_chars())
    for field in rest:
        old, new = old_rows[field], paired_rows[field]
        filled_pair = (old != "") | (new != "")
        filled, agree = filled + filled_pair, agree + (filled_pair & (old == new))
        settings = fields.get(field, Field())
        if settings.unique or settings.check_digit:
            may &= (old == new) | (old == "") | (new == "")
    alike = _alike(live, new_rows, pairs, name)
    scored = pairs.with_columns(
        agree=agree, fields=filled, alike=alike, score=agree * 100 / filled + alike.fill_null(0)
    )
    near = (pl.col("agree") * 100 >= pl.col("fields") * AGREE) & (pl.col("fields") > 1)
    scored = scored.filter(pl.Series(may)).filter(near & (pl.col("alike").fill_null(100) >= ALIKE))
    for side in ("old", "new"):
        best = pl.col("score") == pl.col("score").max().over(side)
        scored = scored.filter(best & (best.sum().over(side) == 1))
    scored = scored.sort("new")
    key = matched.keys["live"].key
    olds = gathered(stripped(live, key), scored["old"]).rows(named=True)
    places = gathered(matched.new, scored["new"])
    news = gathered(stripped(sheet, key), places).rows(named=True)
    rows = scored[["agree", "fields", "alike"]].rows()
    return [
        LikelyCode(old, new, row, *evidence)
        for old, new, row, evidence in zip(olds, news, sheet.row(places), rows, strict=True)
    ]


def _candidates(
    live: Catalogue, new_rows: pl.DataFrame, gone: pl.Series, rest: list[str], name: str | None
) -> pl.DataFrame:
    """The pairs to look at: `old`, a place in live, and `new`, one among the new items."""
    telling = sorted(rest, key=lambda field: -new_rows[field].n_unique())[:TELLING]
    candidates = [pl.LazyFrame(schema={"old": pl.UInt32, "new": pl.UInt32})]
    for field in [*telling, *([name] if name else [])]:
        new = pl.DataFrame({"text": new_rows[field]}).with_row_index("new").lazy().filter(~blank(pl.col("text")))
        old = pl.DataFrame({"text": live.at(field, gone), "old": gone.cast(pl.UInt32)}).lazy()
        old = old.filter(pl.len().over("text") <= RARE)
        candidates.append(old.join(new, on="text").select("old", "new"))
    return pl.concat(candidates).unique().sort("new", "old").collect(engine="in-memory")


def _alike(live: Catalogue, new_rows: pl.DataFrame, pairs: pl.DataFrame, name: str | None) -> pl.Series:
    """How alike the names are, in per cent; null where there are none."""
    if name is None or not pairs.height:
        return constant(None, pairs.height, pl.Int64)
    from rapidfuzz.fuzz import token_sort_ratio

    olds, news = live.at(name, pairs["old"]), gathered(new_rows[name], pairs["new"])
    return pl.Series(
        [int(token_sort_ratio(old.casefold(), new.casefold())) for old, new in zip(olds, news, strict=True)],
        dtype=pl.Int64,
    )
