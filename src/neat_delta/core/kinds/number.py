"""Numbers: integer, decimal and money, exact in any number of digits; 19.9 and 19.90 are equal.

The value is the number with a point, without sign for +, leading and trailing zeros: `19.9`, `-0.5`, `0`.
"""

from __future__ import annotations

import re
from decimal import Decimal

import polars as pl

from neat_delta.core.kinds.base import Kind, each, only
from neat_delta.core.layout import Writing
from neat_delta.core.store import Field

__all__ = ["CURRENCY", "DECIMAL", "INTEGER", "MONEY", "NUMBER_KINDS", "numbers"]

CURRENCY = r"(?:\p{Sc}|[A-Z]{3}|kr\.?|zł|Kč|Ft|lei|лв\.?|руб\.?|р\.)"
"""A currency's sign (Unicode's category Sc), its three letters (ISO 4217), or a common short form."""

SPACES = {" ": "[ \u00a0\u202f]", "\u00a0": "[ \u00a0\u202f]", "\u202f": "[ \u00a0\u202f]", "'": "['’]", "’": "['’]"}
"""The thousands marks that are written in several ways."""


def _number(texts: pl.Series, writing: Writing) -> pl.Series:
    point, thousands = writing.decimal_mark or ".", writing.thousands_mark or ""
    group = SPACES.get(thousands, re.escape(thousands))
    whole = rf"\d+|\d{{1,3}}(?:{group}\d{{3}})+" if thousands else r"\d+"
    pattern = rf"^[+-]?(?:(?:{whole})(?:{re.escape(point)}\d+)?|{re.escape(point)}\d+)$"
    found = texts.str.replace("^−", "-")
    found = only(found, found.str.contains(pattern))
    if thousands:
        found = found.str.replace_all(group, "")
    if point != ".":
        found = found.str.replace(point, ".", literal=True)
    found = found.str.replace(r"^\+", "").str.replace(r"^(-?)0+", "$1")
    found = found.str.replace(r"(\.[0-9]*?)0+$", "$1").str.strip_chars_end(".")
    return found.str.replace(r"^(-?)(\.|$)", "${1}0$2").replace("-0", "0")


def _read_decimal(texts: pl.Series, field: Field, writing: Writing) -> pl.Series:
    del field
    return _number(texts.str.strip_chars(), writing)


def _read_integer(texts: pl.Series, field: Field, writing: Writing) -> pl.Series:
    found = _read_decimal(texts, field, writing)
    return only(found, ~found.str.contains(".", literal=True))


def _read_money(texts: pl.Series, field: Field, writing: Writing) -> pl.Series:
    bare = texts.str.strip_chars().str.replace(rf"^([+−-]?)\s*{CURRENCY}\s*", "$1").str.replace(rf"\s*{CURRENCY}$", "")
    return _read_decimal(bare, field, writing)


def _write(values: pl.Series, texts: pl.Series, field: Field, writing: Writing) -> pl.Series:
    """With the store's decimals and marks; as it was typed, where the store says nothing of decimals and can read
    it.
    """
    places, point, thousands = field.decimals, writing.decimal_mark or ".", writing.thousands_mark or ""

    def written(value: str) -> str:
        number = Decimal(value)
        most = max(places or 0, -int(number.as_tuple().exponent))
        text = f"{number:,.{most}f}" if thousands else f"{number:.{most}f}"
        return text.translate({ord(","): thousands, ord("."): point})

    plain = each(values, written)
    if places is not None:
        return plain
    readable = _read_decimal(texts, field, writing) == values
    return plain.zip_with(~readable.fill_null(value=False), texts)


INTEGER = Kind("integer", _read_integer, _write, article="an")
DECIMAL = Kind("decimal", _read_decimal, _write)
MONEY = Kind("money", _read_money, _write, article="")

NUMBER_KINDS = ("integer", "decimal", "money")

PLAIN_NUMBER = r"^[+-]?(0|[1-9][0-9]{0,10})(\.[0-9]{1,6})?$"
"""Digits with a point, as most exports write them. A leading zero or 12 and more digits make it a code."""

EXACT = pl.Decimal(38, 6)


def numbers(texts: pl.Series) -> pl.Series | None:
    """The texts as exact decimals (null where blank), or None when any of them is something else than a number."""
    filled = texts.fill_null("").str.strip_chars()
    if not (filled.str.contains(PLAIN_NUMBER) | (filled == "")).all() or not (filled != "").any():
        return None
    return filled.replace("", None).cast(EXACT)
