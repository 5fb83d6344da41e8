"""Keys that a spreadsheet changed: which key of live it made one of the sheet's keys of, where that is certain."""

from __future__ import annotations

from collections.abc import Mapping

import polars as pl

from neat_delta.core.detect.damage import damaged
from neat_delta.core.model.store import Field

__all__ = ["damaged_keys", "made_of"]

MOST_PAIRS = 400_000
"""With more pairs than this to look at, keys are left as they are."""

MANGLED = (
    r"(?i)^[0-9]([.,][0-9]+)?e\+?[0-9]+$|^[0-9]+[.,]0+$|^['=]|\p{L}{3}"
    r"|^[0-9]{1,4}[./-][0-9]{1,2}([./-][0-9]{2,4})?$|^[0-9]{5}$|0{3,}$"
)
"""What keys look like that a spreadsheet changed."""

KEY = {"key": Field(kind="code")}


def damaged_keys(live: pl.Series, sheet: pl.Series) -> pl.Series:
    """What a spreadsheet did to each key of the sheet, if it was made of live's key beside it; else null."""
    return damaged(pl.DataFrame({"before": live, "raw": sheet}).with_columns(field=pl.lit("key")), KEY)


def made_of(keys: Mapping[str, pl.Series]) -> pl.DataFrame:
    """The keys of the sheet that a spreadsheet made of one key of live, and of no other: the places of both among these
    keys, and the `damage`.
    """
    odd = keys["sheet"].str.contains(MANGLED).arg_true()
    if not odd.len() or odd.len() * keys["live"].len() > MOST_PAIRS:
        return pl.DataFrame(schema={"live": pl.UInt32, "sheet": pl.UInt32, "damage": pl.String})
    ours = pl.DataFrame({"before": keys["live"]}).with_row_index("live")
    sheet_keys = pl.DataFrame({"raw": keys["sheet"].gather(odd), "sheet": odd.cast(pl.UInt32)})
    pairs = ours.join(sheet_keys, how="cross").with_columns(field=pl.lit("key"))
    pairs = pairs.with_columns(damage=damaged(pairs, KEY)).filter(pl.col("damage").is_not_null())
    alone = pl.col("live").is_unique() & pl.col("sheet").is_unique()
    return pairs.filter(alone).select("live", "sheet", "damage").sort("sheet")
