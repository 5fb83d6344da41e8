"""Codes that say more than themselves: keys of other items, and numbers with a check digit."""

from __future__ import annotations

from typing import get_args

import polars as pl

from neat_delta.core.base.support.check_digits import Standard, has_check_digit

__all__ = ["check_digit", "links"]

FEW = 3
"""Of fewer cells nothing is concluded."""

RIGHT, NUMBERS = 0.95, 10
"""So large a share of so many codes and more has the right check digit by no accident: one in ten would."""


def links(texts: pl.Series, keys: pl.Series, separator: str | None) -> str | None:
    """How it was seen that every value of a column is the key of another item; None when it is not.

    `texts` and `keys` are the column and the key of all items, row by row, without outer white space.
    """
    own = pl.DataFrame({"value": texts, "own": keys}).filter(pl.col("value") != "")
    if separator is not None:
        own = own.with_columns(pl.col("value").str.split(separator)).explode("value")
        own = own.with_columns(pl.col("value").str.strip_chars()).filter(pl.col("value") != "")
    other = own.filter(pl.col("value") != pl.col("own"))
    if other.height < FEW or not own["value"].is_in(keys.implode()).all():
        return None
    return f"all {own.height:,} are keys of other items" if other.height == own.height else None


def check_digit(name: str, texts: pl.Series) -> tuple[Standard, str] | None:
    """The standard whose check digit the codes of a column have (GS1 General Specifications, 7.9; ISO 2108), and how
    that was seen; None when they have none.
    """
    values = texts.filter(texts != "").unique()
    if values.len() < NUMBERS or not values.head(NUMBERS).str.contains(r"^[0-9][0-9 -]{6,16}[0-9Xx]$").any():
        return None
    for standard in get_args(Standard):
        right = int(has_check_digit(values, standard).sum())
        if right >= values.len() * RIGHT and not (standard == "gtin" and "isbn" in name.lower()):
            return standard, f"{right:,} of {values.len():,} have the check digit of {standard.upper()}s"
    return None
