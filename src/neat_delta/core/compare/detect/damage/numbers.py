"""Numbers that came back with another mark, sign or place than they went out with."""

from __future__ import annotations

import re
from decimal import Decimal

import polars as pl

from neat_delta.core.base.kinds.number import CURRENCY
from neat_delta.core.compare.detect.damage.base import AFTER, BEFORE, NUMBERS, Damage, significant_digits

__all__ = ["NUMBER_DAMAGES"]

PLAIN = re.compile(r"([+−-]?)(\d[\d.,'’ \u00a0\u202f]*)")


def _amounts(text: str) -> set[Decimal]:
    """All that a text of digits and marks can mean: the last mark is a decimal mark, or none is."""
    plain = PLAIN.fullmatch(text.strip())
    if plain is None:
        return set()
    sign = "-" if plain[1] in {"-", "−"} else ""
    digits = re.sub(r"\D", "", plain[2])
    last = re.search(r"[.,](\d+)$", plain[2])
    values = {Decimal(sign + digits)}
    if last is not None:
        values = {Decimal(f"{sign}{digits[: -len(last[1])] or '0'}.{last[1]}")}
        groups = re.fullmatch(r"\d{1,3}(?:[., '’\u00a0\u202f]\d{3})+", plain[2])
        values |= {Decimal(sign + digits)} if groups else set()
    return values


def _same(before: str, after: str) -> bool:
    """Whether the two can mean one number."""
    return bool(_amounts(before) & _amounts(after))


def _share(before: str, after: str) -> bool:
    """Whether a percentage is the number."""
    ours = _amounts(before)
    shares = _amounts(after.rstrip("% \u00a0\u202f"))
    return any(amount == other / 100 for amount in ours for other in shares)


def _binary(before: str, after: str) -> bool:
    """Whether a long number is live's as a computer's binary fractions have it."""
    ours, after_numbers = _amounts(before), _amounts(after)
    return any(
        0 < abs(amount - other) <= max(abs(amount), Decimal(1)) * Decimal("1e-12")
        for amount in ours
        for other in after_numbers
    )


def _bare(text: pl.Expr) -> pl.Expr:
    return text.str.replace_all(r"[.,'’ \u00a0\u202f]", "").str.replace("^(-?)0+(.)", "$1$2")


NUMBER_DAMAGES = (
    Damage(
        "decimal mark lost",
        "the same digits without the mark: 13.610 was read as 13610",
        NUMBERS,
        AFTER.str.contains("^-?[0-9]+$") & BEFORE.str.contains("[.,][0-9]{2,}$") & (_bare(BEFORE) == AFTER),
        certain=False,
        certain_where=BEFORE.str.contains("[.,][0-9]{3}$"),  # which is a thousands mark in another language
    ),
    Damage(
        "another decimal mark",
        "the same number with point and comma in each other's place",
        NUMBERS,
        (significant_digits(BEFORE) == significant_digits(AFTER))
        & BEFORE.str.contains(pl.col("mark"), literal=True)
        & ~AFTER.str.contains(pl.col("mark"), literal=True)
        & AFTER.str.contains(r"^[+−-]?[0-9][0-9.,'’ \u00a0\u202f]*[.,]"),
        _same,
    ),
    Damage(
        "per cent",
        "the same number as a percentage",
        NUMBERS,
        AFTER.str.ends_with("%") & ~BEFORE.str.ends_with("%"),
        _share,
    ),
    Damage(
        "a per cent sign",
        "live's number has none",
        NUMBERS,
        AFTER.str.contains(r"^[+−-]?[0-9][0-9.,]*\s*%$") & ~BEFORE.str.contains("%", literal=True),
        certain=False,
    ),
    Damage(
        "currency sign",
        "the same number with a currency",
        NUMBERS,
        (AFTER.str.replace(rf"^{CURRENCY}\s*", "").str.replace(rf"\s*{CURRENCY}$", "") == BEFORE) & (AFTER != BEFORE),
        certain=False,
    ),
    Damage(
        "binary rounding",
        "live's number as binary fractions have it: 19.9 as 19.899999999999999",
        NUMBERS,
        (significant_digits(BEFORE).str.len_bytes() < 15) & (significant_digits(AFTER).str.len_bytes() >= 15),
        _binary,
    ),
)
