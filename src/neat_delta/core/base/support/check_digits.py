"""Which codes have the check digit of their standard. Plain GTINs, and ISBNs of 13 digits, are reckoned with by whole
columns; others, such as what is written with spaces or hyphens, one by one.
"""

from __future__ import annotations

from functools import reduce
from operator import add
from typing import Literal

import polars as pl

from neat_delta.core.base.support.series import gathered, scattered, true_places

__all__ = ["Standard", "has_check_digit"]

Standard = Literal["gtin", "isbn"]

PLAIN: dict[Standard, str] = {"gtin": r"^(?:[0-9]{8}|[0-9]{12,14})$", "isbn": r"^[0-9]{13}$"}

CODE = pl.col("code").cast(pl.UInt64, strict=False)
CHECKSUM = reduce(add, ((CODE // 10**place % 10) * (3 if place % 2 else 1) for place in range(14)))
"""Every second digit counts three times, from the one before the check digit on (GS1 General Specifications, 7.9)."""

OF_BOOKS = pl.col("code").str.contains("^97[89]")
"""How ISBNs of 13 digits begin (ISO 2108)."""


def has_check_digit(codes: pl.Series, standard: Standard) -> pl.Series:
    """Per code whether it is a GTIN or an ISBN by its length and its check digit; white space around it and hyphens
    within do not count.

    >>> has_check_digit(pl.Series(["2000000000008", "2000000000009", "200-0000 000008"]), "gtin").to_list()
    [True, False, True]
    """
    right = (CHECKSUM % 10 == 0) if standard == "gtin" else OF_BOOKS & (CHECKSUM % 10 == 0)
    plain = pl.col("code").str.contains(PLAIN[standard])
    seen = codes.to_frame("code").select(plain=plain, right=plain & right)
    odd = true_places(~seen["plain"])
    if not odd.len():
        return seen["right"].alias(codes.name)
    return scattered(seen["right"], odd, _one_by_one(gathered(codes, odd), standard)).alias(codes.name)


def _one_by_one(codes: pl.Series, standard: Standard) -> pl.Series:
    """By the package of standard numbers, each different code once."""
    from stdnum import ean, isbn

    valid = ean.is_valid if standard == "gtin" else isbn.is_valid
    right = {code: valid(code) for code in codes.unique()}
    return pl.Series(codes.name, [right[code] for code in codes], dtype=pl.Boolean)
