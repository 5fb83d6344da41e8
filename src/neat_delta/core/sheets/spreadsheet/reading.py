"""What a spreadsheet takes a text for: one number, as it keeps amounts, per cents, fractions, times and days alike.

Numbers are those of ECMA-376 (part 1, 18.17.4): a day is counted from 30 December 1899 on, a time is its part of a day,
and no number has more than 15 digits. What a text means depends on the language; here it is all that it can mean.
"""

from __future__ import annotations

import re
from decimal import Decimal
from fractions import Fraction
from functools import lru_cache

from neat_delta.core.base.kinds.number import CURRENCY
from neat_delta.core.sheets.spreadsheet.months import MONTHS

__all__ = ["DIGITS", "readings", "rewritten"]

DIGITS = 15
"""So many digits a spreadsheet keeps of a number."""

GREATEST = Fraction(int(float.fromhex("0x1.fffffffffffffp+1023")))
"""The greatest number of a spreadsheet; what is greater becomes this one (IEEE 754, binary64)."""

GREGORIAN, CALENDARS = -115_858, 12
"""The first day of the calendar of today (15 October 1582), and by how many days the one before differs from it."""

_CURRENCY = CURRENCY.replace(r"\p{Sc}", "[$¢£¤¥֏؋৲৳฿៛₠-₿﷼]")
_HEAD, _TAIL = (re.compile(form) for form in (rf"^(?:{_CURRENCY})\s*", rf"\s*(?:{_CURRENCY})$"))
_NUMBER = re.compile(r"(\d[\d.,'’ \u00a0\u202f]*|[.,]\d+)(?:[eE]([+-]?\d{1,6}))?")
_FRACTION = re.compile(r"(?:(\d{1,9})\s+)?(\d{1,5})/(\d{1,5})")
_TIME = re.compile(r"(\d{1,5}):(\d{1,2})(?::(\d{1,2})(?:[.,](\d{1,6}))?)?\s*(?:([AaPp])\.?[Mm]\.?)?")
_DURATION = re.compile(r"PT(?:(\d+)H)?(?:(\d+)M)?(?:(\d+(?:\.\d+)?)S)?")
"""A time of a workbook as ISO 8601 writes it."""

_QUARTER = re.compile(r"Q([1-4])[\s./-]*(\d{4})|(\d{4})[\s./-]*Q([1-4])", re.IGNORECASE)
_SPLIT = re.compile(r"[\s./,\u00a0\u202f-]+|(?<=[^\W\d_])(?=\d)|(?<=\d)(?=[^\W\d_])")
_THREE = re.compile(r"\d{1,4}([./-]) ?\d{1,2}\1 ?\d{1,4}")
_DAY_AND_TIME = re.compile(r"(.+?)(?:T|,?\s+)(\d{1,2}:\d{2}.*?)Z?")


@lru_cache(maxsize=1 << 14)
def readings(text: str) -> frozenset[Fraction]:
    """All numbers that a spreadsheet can take a text for, in any language; none where it stays a text.

    >>> [str(one) for text in ("1 3/8", "(5)", "7 %") for one in readings(text)]
    ['11/8', '-5', '7/100']
    >>> readings("Q1 2026") == readings("2026-01-01") == readings("46023")
    True
    """
    bare = text.strip()
    values = _amounts(bare) | _fractions(bare) | _times(bare) | _days(bare)
    both = _DAY_AND_TIME.fullmatch(bare)
    if both is not None:
        values |= {day + time for day in _days(both[1]) for time in _times(both[2])}
    return frozenset(values)


def rewritten(before: str, after: str) -> bool:
    """Whether a spreadsheet that opened one text may have saved the other: both can be the same number, in as many
    digits as it keeps; a time may have lost its seconds, or one of them.

    >>> rewritten("16:9", "16:09:00"), rewritten("DEC-3092", "3092-12-01"), rewritten("1.2.3", "1.2.4")
    (True, True, False)
    """
    ours, theirs = readings(before), readings(after)
    if ours & theirs:
        return True
    if before[:1].isalpha() and any(day < 0 for day in ours):
        # Workbooks count no day before 1900, and days before 1582 by another calendar.
        calendars = CALENDARS if any(day < GREGORIAN for day in ours) else 0
        return any(abs(value - other) <= calendars or not other for value in ours for other in theirs)
    if ":" in before and ":" in after:
        second, cut = Fraction(1, 86_400), before.count(":") > after.count(":")
        return any(
            abs(value - other) <= second or (cut and int(value * 1_440) == other * 1_440)
            for value in ours
            for other in theirs
        )
    if ours & {GREATEST, -GREATEST}:
        return any(abs(other) > Fraction(10) ** 307 for other in theirs)
    return any(_is_shortened(value, other) for value in ours for other in theirs)


def _is_shortened(number: Fraction, other: Fraction) -> bool:
    """Whether a number has more digits than a spreadsheet keeps, and the other is what it keeps of it, give or take one
    in the last of them.
    """
    if not number:
        return False
    size = abs(number)
    power = len(str(int(size))) - 1 if size >= 1 else -len(str(int(1 / size)))
    step = Fraction(10) ** (power - DIGITS + 1)
    kept = round(number / step) * step
    return kept != number and abs(kept - other) <= step and other == round(other / step) * step


def _amounts(text: str) -> set[Fraction]:
    """Amounts: signs before or behind, brackets, currencies, per cents, powers of ten; either mark may be decimal."""
    sign, bare = 1, text
    if bare.startswith("(") and bare.endswith(")"):
        sign, bare = -1, bare[1:-1].strip()
    bare = _TAIL.sub("", _HEAD.sub("", bare)) if not bare[:1].isdigit() or not bare[-1:].isdigit() else bare
    if bare[:1] in {"+", "-", "−"}:
        sign, bare = sign * (1 if bare[0] == "+" else -1), _HEAD.sub("", bare[1:].lstrip())
    elif bare[-1:] in {"-", "−"}:
        sign, bare = -sign, _TAIL.sub("", bare[:-1].rstrip())
    share = 1
    if bare.endswith("%") or bare.startswith("%"):
        share, bare = 100, bare.strip("%").strip()
    number = _NUMBER.fullmatch(bare)
    if number is None:
        return set()
    power = int(number[2] or 0)
    values = {Fraction(Decimal(digits)) for digits in _digits(number[1].strip())}
    if power > 400:
        return {sign * GREATEST if value else value for value in values}
    scaled = {value * Fraction(10) ** max(power, -400) / share for value in values}
    return {sign * min(value, GREATEST) for value in scaled}


def _digits(text: str) -> set[str]:
    """The numbers that digits with marks can be: the last mark stands before decimals, or all between thousands."""
    plain = re.sub(r"\D", "", text)
    if not plain:
        return set()
    last = re.search(r"[.,](\d*)$", text)
    if last is None:
        return {plain} if re.fullmatch(r"\d+|\d{1,3}(?:['’ \u00a0\u202f]\d{3})+", text) else set()
    decimals = last[1]
    integer_part = plain[: len(plain) - len(decimals)] or "0"
    values = set[str]()
    before = text[: last.start()]
    if re.fullmatch(r"\d*|\d{1,3}(?:[.,'’ \u00a0\u202f]\d{3})+", before) and text[last.start()] not in before:
        values.add(f"{integer_part}.{decimals or 0}")
    if re.fullmatch(r"\d{1,3}(?:([.,])\d{3})(?:\1\d{3})*", text):
        values.add(plain)
    return values


def _fractions(text: str) -> set[Fraction]:
    sign = -1 if text[:1] in {"-", "−"} else 1
    parts = _FRACTION.fullmatch(text.lstrip("+-−"))
    if parts is None or not int(parts[3]):
        return set()
    return {sign * (int(parts[1] or 0) + Fraction(int(parts[2]), int(parts[3])))}


def _times(text: str) -> set[Fraction]:
    lasting = _DURATION.fullmatch(text)
    if lasting is not None:
        of_a_day = (Fraction(1, 24), Fraction(1, 1_440), Fraction(1, 86_400))
        parts_of_it = zip(lasting.groups(), of_a_day, strict=True)
        return {sum((Fraction(part or 0) * unit for part, unit in parts_of_it), Fraction(0))}
    parts = _TIME.fullmatch(text)
    if parts is None or int(parts[2]) > 59 or int(parts[3] or 0) > 59:
        return set()
    hours, half = int(parts[1]), (parts[5] or "").lower()
    if half and not 1 <= hours <= 12:
        return set()
    hours = hours % 12 + 12 * (half == "p") if half else hours
    seconds = hours * 3600 + int(parts[2]) * 60 + int(parts[3] or 0) + Fraction(f"0.{parts[4] or 0}")
    return {Fraction(seconds, 86_400)}


def _days(text: str) -> set[Fraction]:
    """Days in full, months and quarters of a year (their first day)."""
    quarter = _QUARTER.fullmatch(text)
    if quarter is not None:
        year, number = int(quarter[2] or quarter[3]), int(quarter[1] or quarter[4])
        return {_count(year, 3 * number - 2, 1)}
    parts = [part for part in _SPLIT.split(text.casefold().strip(" .")) if part]
    if not 2 <= len(parts) <= 3 or len(text) > 40:
        return set()
    names = [part for part in parts if not part.isdecimal()]
    digits = [part for part in parts if part.isascii() and part.isdecimal() and len(part) <= 4]
    if len(names) + len(digits) != len(parts) or len(names) > 1:
        return set()
    days = set[Fraction]()
    if names:
        for month in MONTHS.get(names[0], ()):
            if len(digits) == 1:
                days.add(_count(_year(digits[0]), month, 1))
            else:
                days |= {_count(_year(year), month, int(day)) for day, year in (digits, digits[::-1])}
    elif len(digits) == 3 and _THREE.fullmatch(text.strip(" .")):
        first, two, three = digits
        orders = [(three, two, first), (three, first, two), (first, two, three)]
        days |= {_count(_year(year), int(month), int(day)) for year, month, day in orders}
    return {day for day in days if day}


def _year(text: str) -> int:
    """A year as it stands, or of two digits or one (1930 to 2029, as spreadsheets have it)."""
    year = int(text)
    return year if len(text) > 2 else year + (2000 if year < 30 else 1900)


def _count(year: int, month: int, day: int) -> Fraction:
    """The number of a day, counted from 30 December 1899 on; 0 where there is no such day."""
    leap = year % 4 == 0 and (year % 100 != 0 or year % 400 == 0)
    lengths = (31, 28 + leap, 31, 30, 31, 30, 31, 31, 30, 31, 30, 31)
    if not (1 <= month <= 12 and 1 <= day <= lengths[month - 1]):
        return Fraction(0)
    past = year - 1
    days = past * 365 + past // 4 - past // 100 + past // 400 + sum(lengths[: month - 1]) + day
    return Fraction(days - 693_594)
