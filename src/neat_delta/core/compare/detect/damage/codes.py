"""Codes that a spreadsheet took for numbers: `00417`, `5901234123457`, `12E3`."""

from __future__ import annotations

import re
from decimal import ROUND_HALF_UP, Decimal, InvalidOperation

import polars as pl

from neat_delta.core.base.kinds.base import EXACT
from neat_delta.core.compare.detect.damage.base import AFTER, ANY, BEFORE, CODES, NUMBERS, TEXTS, Damage

__all__ = ["CODE_DAMAGES"]

DIGITS = BEFORE.str.contains("^[0-9]+$")
BARE = pl.when(BEFORE.str.contains("^0+$")).then(pl.lit("0")).otherwise(BEFORE.str.strip_chars_start("0"))
"""Live's digits without the zeros that lead them."""

POWER = re.compile(r"([+-]?\d+)(?:[.,](\d+))?[eE]\+?(\d{1,3})")
SHOWN = r"^[0-9]([.,][0-9]+)?[eE]\+[0-9]{1,3}$"
"""A power of ten as programs show it; people leave the plus out."""


def _scientific(before: str, after: str) -> bool:
    """Whether `after` is `before` as a number with a power of ten, rounded to the digits it shows."""
    power = POWER.fullmatch(after)
    if power is None:
        return False
    value = Decimal(f"{power[1]}.{power[2] or 0}E{power[3]}")
    try:
        exact = Decimal(before.replace(",", "."))
    except InvalidOperation:
        return False
    digits = len(power[1].strip("+-") + (power[2] or ""))
    return exact.is_finite() and exact.quantize(_last_of(exact, digits), ROUND_HALF_UP, EXACT) == value


def _last_of(number: Decimal, digits: int) -> Decimal:
    """What the last of so many digits of a number counts."""
    return Decimal(1).scaleb(number.adjusted() - digits + 1)


def _power_read(before: str, after: str) -> bool:
    """Whether live's code has the form of a power of ten, and `after` is that number."""
    if POWER.fullmatch(before) is None:
        return False
    try:
        return Decimal(before) == Decimal(after.replace(",", ".")) and before != after
    except InvalidOperation:
        return False


NUMBER = re.compile(r"([+-]?)(?:(\d{1,3}(?:\.\d{3})+)|(\d*))(?:([.,])(\d*))?")


def _read_by_a_spreadsheet(text: str) -> set[Decimal]:
    """The numbers that spreadsheets read in a text, in any language: 0409.00, 12.990, +49151234. What programs write by
    themselves (417.0, 48,213) is left out: then live was damaged, and this is its correction.
    """
    number = NUMBER.fullmatch(text.strip())
    if number is None or not re.search(r"\d", text) or re.fullmatch(r"[1-9]\d{2,}[.,]0", text):
        return set()
    sign, grouped, digits, mark, decimals = number.groups()
    if not grouped:
        return {Decimal(f"{sign}{digits or 0}.{decimals or 0}")}
    values = {Decimal(f"{sign}{grouped.replace('.', '')}.{(decimals if mark == ',' else None) or 0}")}
    if grouped.count(".") == 1 and not mark:
        values.add(Decimal(f"{sign}{grouped}"))  # 12.990 may be either
    return values


def _taken_for_a_number(before: str, after: str) -> bool:
    """Whether a spreadsheet makes this number of live's text; more than the decimal mark is otherwise."""
    if before.replace(",", ".") == after.replace(",", "."):
        return False
    readings = _read_by_a_spreadsheet(before)
    if POWER.fullmatch(after):
        return any(_scientific(f"{value:f}", after) for value in readings)
    return Decimal(after.replace(",", ".")) in readings


CODE_DAMAGES = (
    Damage(
        "apostrophe or equals sign in front",
        "it is live's value with the mark that keeps a spreadsheet from changing it",
        ANY,
        (pl.concat_str(pl.lit("'"), BEFORE) == AFTER)
        | (pl.concat_str(pl.lit("="), BEFORE) == AFTER)
        | (pl.concat_str(pl.lit('="'), BEFORE, pl.lit('"')) == AFTER),
    ),
    Damage(
        "leading zeros lost",
        "the same digits without the zeros in front, as a number is written",
        CODES,
        DIGITS & (AFTER == BARE),
    ),
    Damage(
        "decimals added to a code",
        "the same digits with .0 after them, as a number is written",
        CODES,
        DIGITS & (AFTER.str.extract(r"^([0-9]+)[.,]0+$") == BARE),
    ),
    Damage(
        "thousands marks in a code",
        "the same digits in groups of three",
        CODES,
        DIGITS
        & AFTER.str.contains(r"^[0-9]{1,3}([., '\u00a0\u202f’][0-9]{3})+$")
        & (AFTER.str.replace_all("[^0-9]", "") == BARE),
    ),
    Damage(
        "scientific notation",
        "live's number as a power of ten, rounded to the digits that were shown",
        (*CODES, *NUMBERS),
        AFTER.str.contains(SHOWN) & BEFORE.str.contains("^[0-9]+([.,][0-9]+)?$"),
        _scientific,
    ),
    Damage(
        "another number in scientific notation",
        "live's code is made of digits, and this is a number as a power of ten, whose last digits nobody knows",
        CODES,
        AFTER.str.contains(SHOWN) & DIGITS,
        certain=False,
        of_live=False,
    ),
    Damage(
        "read as a power of ten",
        "live's code looks like one, and this is the number",
        CODES,
        BEFORE.str.contains("^[0-9]+[eE][0-9]{1,3}$") & AFTER.str.contains("^[0-9]"),
        _power_read,
        certain=False,
        certain_where=AFTER.str.contains(SHOWN),
    ),
    Damage(
        "digits rounded",
        "the same first 15 digits and then zeros: a spreadsheet holds no more of a number",
        CODES,
        DIGITS
        & (BEFORE.str.len_bytes() > 15)
        & (AFTER.str.len_bytes() == BARE.str.len_bytes())
        & (AFTER.str.slice(0, 14) == BARE.str.slice(0, 14))
        & AFTER.str.contains("^[0-9]{15}0+$")
        & ~BARE.str.contains("^[0-9]{15}0+$"),
    ),
    Damage(
        "taken for a number",
        "it is the number that a spreadsheet reads in live's text, as it shows it",
        TEXTS,
        AFTER.str.contains(r"^-?(?:0|[1-9][0-9]*)(?:[.,][0-9]*[1-9])?$|^-?[0-9]([.,][0-9]+)?[eE]\+[0-9]{1,3}$")
        & BEFORE.str.contains("[0-9]"),
        _taken_for_a_number,
        certain=False,
    ),
)
