"""Keys that a spreadsheet changed: which key of live it made one of the sheet's keys of, where that is certain."""

from __future__ import annotations

import polars as pl

from neat_delta.core.base.model.store import Field
from neat_delta.core.compare.detect.damage import DAMAGES, damaged

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
    return _damaged(pl.DataFrame({"before": live, "raw": sheet}))


def _damaged(pairs: pl.DataFrame) -> pl.Series:
    """What was done to each key (`raw`) that was made of live's beside it (`before`)."""
    names = damaged(pairs.with_columns(field=pl.lit("key")), KEY)
    return names.set(names.is_in(OF_ANOTHER).fill_null(value=False), None)


OF_ANOTHER = [name for name, damage in DAMAGES.items() if not damage.of_live]
"""The damages of which nothing says that they were made of live's value."""


def made_of(live: pl.DataFrame, sheet: pl.DataFrame, key: list[str]) -> pl.DataFrame:
    """The keys of the sheet that a spreadsheet made of one of live, in one of the fields of the `key`: the places of
    both (the columns `live` and `sheet`), and the `damage`. Both tables have the key's fields and their places.
    """
    parts = [pl.DataFrame(schema={"live": pl.UInt32, "sheet": pl.UInt32, "damage": pl.String})]
    for name in key:
        others = [field for field in key if field != name]
        odd = sheet.filter(pl.col(name).str.contains(MANGLED))
        if not odd.height or _pairs(live, odd, others) > MOST_PAIRS:
            continue
        ours, odd = live.rename({name: "before"}), odd.rename({name: "raw"})
        pairs = ours.join(odd, on=others, how="inner") if others else ours.join(odd, how="cross")
        pairs = pairs.with_columns(damage=_damaged(pairs)).filter(pl.col("damage").is_not_null())
        parts.append(pairs.select(pl.col("live", "sheet").cast(pl.UInt32), "damage"))
    return pl.concat(parts).unique(["live", "sheet"], keep="first").sort("sheet", "live")


def _pairs(live: pl.DataFrame, odd: pl.DataFrame, others: list[str]) -> int:
    """How many pairs of keys there are to look at that are the same in the other fields."""
    if not others:
        return live.height * odd.height
    times = live.group_by(others).len("times").join(odd.group_by(others).len("odd"), on=others)
    return int(times.select((pl.col("times") * pl.col("odd")).sum()).item())
