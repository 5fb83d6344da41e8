"""Numbers: integer, decimal and money, exact in any number of digits; 19.9 and 19.90 are equal.

The value is the number with a point, without sign for +, leading and trailing zeros: `19.9`, `-0.5`, `0`.
"""

from __future__ import annotations

import re
from collections.abc import Callable
from functools import lru_cache

import polars as pl

from neat_delta.core.base.kinds.base import Kind, map_texts
from neat_delta.core.base.model.layout import Notation
from neat_delta.core.base.model.store import Field
from neat_delta.core.base.support import sizes
from neat_delta.core.base.support.distinct import map_distinct
from neat_delta.core.base.support.series import gathered, not_null, scattered, true_places

__all__ = [
    "CURRENCY",
    "DECIMAL",
    "EXACT",
    "INTEGER",
    "MONEY",
    "NUMBER_KINDS",
    "amounts",
    "exact_decimals",
    "marks",
    "number_of",
]

ISO_4217 = (
    "AED AFN ALL AMD AOA ARS AUD AWG AZN BAM BBD BDT BGN BHD BIF BMD BND BOB BRL BSD BTN BWP BYN BZD CAD CDF CHF "
    "CLP CNY COP CRC CUP CVE CZK DJF DKK DOP DZD EGP ERN ETB EUR FJD FKP GBP GEL GHS GIP GMD GNF GTQ GYD HKD HNL "
    "HTG HUF IDR ILS INR IQD IRR ISK JMD JOD JPY KES KGS KHR KMF KPW KRW KWD KYD KZT LAK LBP LKR LRD LSL LYD MAD "
    "MDL MGA MKD MMK MNT MOP MRU MUR MVR MWK MXN MYR MZN NAD NGN NIO NOK NPR NZD OMR PAB PEN PGK PHP PKR PLN PYG "
    "QAR RON RSD RUB RWF SAR SBD SCR SDG SEK SGD SHP SLE SOS SRD SSP STN SVC SYP SZL THB TJS TMT TND TOP TRY TTD "
    "TWD TZS UAH UGX USD UYU UZS VED VES VND VUV WST XAF XCD XOF XPF YER ZAR ZMW"
)
"""The currencies in use (ISO 4217)."""

CURRENCY = rf"(?:\p{{Sc}}|{ISO_4217.replace(' ', '|')}|kr\.?|zł|Kč|Ft|lei|лв\.?|руб\.?|р\.)"
"""A currency's sign (Unicode's category Sc), its three letters (ISO 4217), or a common short form."""

SPACES = {" ": "[ \u00a0\u202f]", "\u00a0": "[ \u00a0\u202f]", "\u202f": "[ \u00a0\u202f]", "'": "['’]", "’": "['’]"}
"""The thousands marks that are written in several ways."""


def marks(field: Field, writing: Notation) -> tuple[str, str]:
    """A field's decimal mark and its thousands mark ("" for none): its own, or else the file's."""
    point = field.decimal_mark or writing.decimal_mark or "."
    thousands = field.thousands_mark if field.thousands_mark is not None else writing.thousands_mark or ""
    return point, "" if thousands == point else thousands


def number_of(text: pl.Expr, field: Field, writing: Notation) -> pl.Expr:
    """The value of a text without white space around it; null where it is no number."""
    point, thousands = marks(field, writing)
    group = SPACES.get(thousands, re.escape(thousands))
    integer_form = rf"[0-9]+|[0-9]{{1,3}}(?:{group}[0-9]{{3}})+" if thousands else r"[0-9]+"
    digits = text.str.replace("^−", "-")
    reads = digits.str.contains(rf"^[+-]?(?:(?:{integer_form})(?:{re.escape(point)}[0-9]+)?|{re.escape(point)}[0-9]+)$")
    if thousands:
        digits = digits.str.replace_all(group, "")
    if point != ".":
        digits = digits.str.replace(point, ".", literal=True)
    digits = digits.str.replace(r"^\+", "").str.replace(r"^(-?)0+", "$1")
    digits = digits.str.replace(r"(\.[0-9]*?)0+$", "$1").str.strip_chars_end(".")
    return pl.when(reads).then(digits.str.replace(r"^(-?)(\.|$)", "${1}0$2").replace("-0", "0"))


AS_IT_STANDS = r"^(?:0|-?(?:[1-9][0-9]*|[1-9][0-9]*\.[0-9]*[1-9]|0\.[0-9]*[1-9]))$"
"""A number that is written like its value, with a point."""

WITH_ZEROS = r"^(?:0|-?[1-9][0-9]*)\.[0-9]+$"
"""One that is, but for zeros at its end."""


def _of(texts: pl.Series, bare: pl.Expr, field: Field, writing: Notation, form: Form) -> pl.Series:
    """The values of the texts in a form, as they are read from what is `bare` of all that is no number. Most numbers
    are written like their value, and one look at them is several times cheaper than putting every one of them into that
    form.
    """
    point, thousands = marks(field, writing)
    value = form(number_of(bare, field, writing)).alias("value")
    table = texts.alias("text").to_frame()
    if thousands == "." or point == ",":
        return table.select(value).to_series()
    text = pl.col("text")
    zeros = text.str.strip_chars_end("0").str.strip_chars_end(".")
    plain = pl.when(text.str.contains(AS_IT_STANDS)).then(text).when(text.str.contains(WITH_ZEROS)).then(zeros)
    values = table.select(form(plain).alias("value")).to_series()
    if values.null_count() == texts.null_count():
        return values
    rest = true_places(values.is_null() & not_null(texts))
    return scattered(values, rest, gathered(table, rest).select(value).to_series())


Form = Callable[[pl.Expr], pl.Expr]
TEXT = pl.col("text").str.strip_chars()


def _as_text(value: pl.Expr) -> pl.Expr:
    return value


def _read_decimal(texts: pl.Series, field: Field, writing: Notation, form: Form = _as_text) -> pl.Series:
    return _of(texts, TEXT, field, writing, form)


def _read_integer(texts: pl.Series, field: Field, writing: Notation, form: Form = _as_text) -> pl.Series:
    def without_point(value: pl.Expr) -> pl.Expr:
        return form(pl.when(~value.str.contains(".", literal=True)).then(value))

    return _of(texts, TEXT, field, writing, without_point)


def _read_money(texts: pl.Series, field: Field, writing: Notation, form: Form = _as_text) -> pl.Series:
    bare = TEXT.str.replace(rf"^([+−-]?)\s*{CURRENCY}\s*", "$1").str.replace(rf"\s*{CURRENCY}$", "")
    return _of(texts, bare, field, writing, form)


def _write(values: pl.Series, texts: pl.Series, field: Field, writing: Notation) -> pl.Series:
    """With the store's decimals and marks; as it was typed, where the store says nothing of decimals and can read
    it. A currency is left to whoever knows how live writes it.
    """
    plain = values
    if field.decimals:
        parts = values.str.split_exact(".", 1).struct.unnest()
        decimals = pl.col("field_1").fill_null("").str.pad_end(field.decimals, "0")
        plain = parts.select(pl.concat_str("field_0", pl.lit("."), decimals)).to_series()
    point, thousands = marks(field, writing)
    if thousands:
        plain = map_texts(plain, _grouped)
    if (point, thousands) != (".", ""):
        plain = plain.str.replace_many({",": thousands, ".": point})
    if field.decimals is not None:
        return plain
    readable = _read_decimal(texts, field, writing) == values
    return plain.zip_with(~readable.fill_null(value=False), texts)


def _grouped(text: str) -> str:
    """A number with commas between its thousands."""
    sign, digits, rest = re.fullmatch(r"(-?)([0-9]+)(.*)", text).groups()  # type: ignore[union-attr]
    return f"{sign}{int(digits):,}{rest}"


INTEGER = Kind("integer", _read_integer, _write, article="an")
DECIMAL = Kind("decimal", _read_decimal, _write)
MONEY = Kind("money", _read_money, _write, article="")

NUMBER_KINDS = ("integer", "decimal", "money")

PLAIN_NUMBER = r"^[+-]?(0|[1-9][0-9]{0,10})(\.[0-9]{1,6})?$"
"""Digits with a point, as most exports write them. A leading zero or 12 and more digits make it a code."""

EXACT = pl.Decimal(38, 6)


LONGEST = 24
"""Numbers of more digits are not reckoned with: a per cent of them would not fit."""


def amounts(texts: pl.Series, field: Field, writing: Notation) -> pl.Series:
    """The cells of a field as exact decimals, read as its kind reads them, or as money where it is no kind of number;
    null where they are blank, no number, or too long.
    """
    if texts.len() > sizes.CELLS_REMEMBERED:
        return map_distinct(
            texts.to_frame(), lambda table: _exact(table.to_series(), field, writing).to_frame()
        ).to_series()
    return _exact_few(tuple(texts), field.kind, marks(field, writing), writing).alias(texts.name)


@lru_cache(maxsize=256)
def _exact_few(texts: tuple[str | None, ...], kind: str, own: tuple[str, str], writing: Notation) -> pl.Series:
    field = Field(kind, decimal_mark=own[0], thousands_mark=own[1])  # type: ignore[arg-type]
    return _exact(pl.Series(texts, dtype=pl.String), field, writing)


def _exact(texts: pl.Series, field: Field, writing: Notation) -> pl.Series:
    read = {"integer": _read_integer, "decimal": _read_decimal}.get(field.kind, _read_money)
    return read(texts, field, writing, _as_exact)


def _as_exact(value: pl.Expr) -> pl.Expr:
    return pl.when(value.str.len_chars() <= LONGEST).then(value).cast(EXACT, strict=False)


def exact_decimals(texts: pl.Series) -> pl.Series | None:
    """The texts as exact decimals (null where blank), or None when any of them is something else than a number."""
    filled = texts.fill_null("").str.strip_chars()
    if not (filled.str.contains(PLAIN_NUMBER) | (filled == "")).all() or not (filled != "").any():
        return None
    return filled.replace("", None).cast(EXACT)
