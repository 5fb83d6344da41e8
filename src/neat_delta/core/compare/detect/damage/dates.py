"""Numbers and codes that a spreadsheet took for dates, and dates that it took for numbers or for other dates."""

from __future__ import annotations

import re
from dataclasses import dataclass
from functools import lru_cache

import polars as pl

from neat_delta.core.compare.detect.damage.base import AFTER, BEFORE, CODES, NUMBERS, Damage
from neat_delta.core.sheets.spreadsheet.months import MONTHS

__all__ = ["DATES"]


@dataclass(frozen=True, slots=True)
class Day:
    """What a text can mean as a date; None is what it leaves open."""

    year: int | None
    month: int
    day: int | None


SPLIT = re.compile(r"[\s./,\u00a0\u202f-]+")
TIME = re.compile(r"[T ]\s*\d{1,2}:\d{2}(:\d{2}(\.\d+)?)?\s*(?:[AaPp][Mm])?Z?$")
LETTERS = re.compile(r"(?<=[^\W\d_])(?=\d)|(?<=\d)(?=[^\W\d_])")


def _leap(year: int) -> bool:
    return year % 4 == 0 and (year % 100 != 0 or year % 400 == 0)


def _right(year: int | None, month: int, day: int | None) -> bool:
    longest = (31, 28 + (year is None or _leap(year)), 31, 30, 31, 30, 31, 31, 30, 31, 30, 31)
    return 1 <= month <= 12 and (day is None or 1 <= day <= longest[month - 1])


def _year(text: str) -> int | None:
    """A year of four digits, or of two (1930 to 2029, as spreadsheets have it)."""
    if len(text) == 4:
        return int(text) if 1000 <= int(text) <= 2999 else None
    return None if len(text) != 2 else int(text) + (2000 if int(text) < 30 else 1900)


@lru_cache(maxsize=1 << 16)
def days(text: str) -> frozenset[Day]:
    """All that a text can mean as a date, whole or in part: `12-May`, `12.05`, `MAR-02`, `2026-05-12`."""
    bare = TIME.sub("", text.strip()).strip(" .").casefold()
    parts = [part for part in SPLIT.split(LETTERS.sub(" ", bare)) if part]
    digits = [part for part in parts if part.isascii() and part.isdigit()]
    names = [part for part in parts if part not in digits]
    if not 1 <= len(digits) <= 3 or len(bare) > 40 or any(len(part) > 4 for part in digits):
        return frozenset()
    possible_days: set[Day] = set()

    def add(year: str | None, month: int, day: str | None) -> None:
        full_year, which = _year(year) if year is not None else None, int(day) if day is not None else None
        if (year is None or full_year is not None) and _right(full_year, month, which):
            possible_days.add(Day(full_year, month, which))

    if names:
        name = " ".join(names)
        months = MONTHS.get(name) or (MONTHS.get(names[-1]) if names[0] in {"de", "d"} else None) or ()
        for month in months:
            if len(digits) == 1:
                add(None, month, digits[0])
                add(digits[0], month, None)
            elif len(digits) == 2:
                add(digits[1], month, digits[0])
                add(digits[0], month, digits[1])
        return frozenset(possible_days)
    if len(digits) == 2:
        for order, other in (digits, digits[::-1]):
            add(None, int(order), other)
            add(other, int(order), None)
    elif len(digits) == 3:
        first, second, third = digits
        if len(first) == 4:
            add(first, int(second), third)
        else:
            add(third, int(second), first)
            add(third, int(first), second)
            add(first, int(second), third)
    return frozenset(possible_days)


def _serial(text: str) -> Day | None:
    """The day that a spreadsheet counts with this number, from 30 December 1899 on; from 1930 to 2099."""
    if not re.fullmatch(r"\d{5}", text) or not 10_959 <= int(text) <= 73_050:
        return None
    rest, year = int(text) - 2, 1900  # there never was a 29 February 1900, which spreadsheets count
    while rest >= (length := 365 + _leap(year)):
        rest, year = rest - length, year + 1
    month = 1
    while not _right(year, month, rest + 1):
        rest -= next(length for length in (31, 30, 29, 28) if _right(year, month, length))
        month += 1
    return Day(year, month, rest + 1)


def fits(full_day: Day, part: Day) -> bool:
    """Whether two readings have the month and the day, or the month and the year, in common."""
    days_meet = full_day.day == part.day and full_day.day is not None
    years_meet = full_day.year == part.year and full_day.year is not None
    if full_day.month != part.month:
        return False
    # Of a month and a year a spreadsheet makes the first of the month, of a day and a month that day of this year.
    return days_meet or (years_meet and (part.day is None or full_day.day is None))


def _read(text: str) -> frozenset[Day]:
    serial = _serial(text)
    return days(text) if serial is None else frozenset({serial})


def _same(before: str, after: str) -> bool:
    """Whether what came back is a date that a spreadsheet makes of what live has."""
    ours = days(before)
    return any(fits(day, our_day) for day in _read(after) for our_day in ours)


def _a_date(before: str, after: str) -> bool:
    """Whether it is a date in full, or one with the name of a month."""
    del before
    named = any(letter.isalpha() for letter in after)
    return bool(days(after)) and (named or len(re.findall(r"\d+", TIME.sub("", after))) == 3)


def _same_day(before: str, after: str) -> bool:
    """Whether both can mean one and the same day, the one after in words or as a number of days."""
    return before != after and bool({day for day in days(before) if day.day and day.year} & _read(after))


def _swapped(before: str, after: str) -> bool:
    """Whether day and month changed places: the same numbers in the same layout, or in ISO 8601, which tells the two
    apart. The value is another one anyhow, or the cell would not be asked about.
    """
    first, other = (re.findall(r"\d+", TIME.sub("", text)) for text in (before, after))
    if len(first) != 3 or len(other) != 3:
        return False
    years = [0 if len(parts[0]) == 4 else 2 for parts in (first, other)]
    rest = [
        [int(part) for place, part in enumerate(parts) if place != year]
        for parts, year in zip((first, other), years, strict=True)
    ]
    if first[years[0]] != other[years[1]] or rest[0][0] == rest[0][1]:
        return False
    if years[0] == years[1]:
        return rest[0] == rest[1][::-1]
    return years[1] == 0 and sorted(rest[0]) == sorted(rest[1]) and max(rest[1]) <= 12


DECIMAL = r"^[+-]?\d+[.,]\d+$"
WORDS_AND_DIGITS = AFTER.str.contains(r"\p{L}{2}") & AFTER.str.contains(r"\d")
IN_FULL = WORDS_AND_DIGITS | AFTER.str.contains(r"^\d{1,4}[./-]\d{1,2}[./-]\d{2,4}")
LIKE_A_DATE = (IN_FULL | AFTER.str.contains(r"^\d{5}$|^\d{1,4}[./-]\d{1,2}\b")) & ~AFTER.str.contains(DECIMAL)
"""A glance that spares most cells the closer look."""
MADE_OF_ONE = BEFORE.str.contains(
    r"^\d{1,2}[ .-]\s?\p{Lu}?\p{Ll}{2,}\.?(?:[ -]\d{2,4})?$|^\p{Lu}\p{Ll}{2,3}-\d{2}$|^\d{5}$|^\d{4}-\d\d-\d\d"
)
"""What a spreadsheet makes of a code: then live was damaged before, and this may be its correction."""
COULD_BE_ONE = BEFORE.str.contains(r"^\d{1,4}[./ -]\d|\p{L}.{0,3}\d|\d.{0,3}\p{L}") & (BEFORE.str.len_chars() <= 12)

DATES = (
    Damage(
        "turned into a date",
        "a spreadsheet makes exactly this date of what live has",
        (*CODES, *NUMBERS),
        LIKE_A_DATE & COULD_BE_ONE & ~MADE_OF_ONE & ~AFTER.str.contains("[A-Z]{2}"),
        _same,
    ),
    Damage(
        "a date where a number goes",
        "nobody types a date here; a spreadsheet makes one of numbers such as 12.05",
        NUMBERS,
        IN_FULL,
        _a_date,
        certain=False,
    ),
    Damage(
        "a date turned into a number or words",
        "it is the same day as a spreadsheet counts or names it",
        ("date",),
        AFTER.str.contains(r"^\d{5}$|\p{L}{3}"),
        _same_day,
    ),
    Damage(
        "day and month swapped",
        "the same numbers, with day and month in each other's place",
        ("date",),
        AFTER.str.contains(r"\d.*\d.*\d") & pl.col("before").str.contains(r"\d"),
        _swapped,
        certain=False,
    ),
)
