"""What spreadsheets make of texts that they take for values: literal cases of the trade, each held with and without a
store file, and each beside an edit of a person's that looks like it.
"""

from __future__ import annotations

import calendar
import re
from datetime import date
from fractions import Fraction

import pytest
from hypothesis import given
from hypothesis import strategies as st

from neat_delta import Field, Key, Store, as_catalogue, compare
from neat_delta.core.compare.detect.damage.dates import Day, days
from neat_delta.core.sheets.spreadsheet.reading import readings, rewritten

REWRITTEN = [
    ("DEC-3092", "3092-12-01"),
    ("DEC-417", "12/01/0417"),
    ("12E2471", "1.79769313486232E+308"),
    ("12E2471", "1" + "79769313486231570" + "0" * 291),
    ("16:9", "16:09:00"),
    ("16:9", "04:09:00 PM"),
    ("1 3/8", "1.375"),
    ("0 9/16", "0.5625"),
    ("4 2/6", "4.33333333333333"),
    ("(5)", "-5"),
    ("(1,250)", "-1250"),
    ("1.2.3", "2003-02-01"),
    ("7 %", "0.07"),
    ("7 %", "7%"),
    ("5/8", "0.625"),
    ("Q1 2026", "46023"),
    ("Q1 2026", "2026-01-01"),
    ("10:30:45", "10:30"),
    ("10:30:45", "10:30:44"),
    ("28:20", "PT28H20M00S"),
    ("1 May 2026 10:30", "2026-05-01T10:30:00"),
    ("1 May 2026, 10:30", "05/01/2026 10:30"),
    ("30,955", "30955"),
    ("9114.0", "9114"),
    ("981-", "-981"),
    ("+12345", "12345"),
    ("69208999349436247", "6.92089993494363E+016"),
    ("45720716507945956", "45720716507946000"),
]
MEANT = [
    ("DEC-3092", "DEC-3093"),
    ("1.2.3", "1.2.4"),
    ("1.2.3", "1.3"),
    ("16:9", "16:10"),
    ("1 3/8", "1 5/8"),
    ("(5)", "(6)"),
    ("(5)", "5 pieces"),
    ("7 %", "8 %"),
    ("Q1 2026", "Q2 2026"),
    ("Q1 2026", "2026"),
    ("10:30", "10:35"),
    ("1 May 2026 10:30", "2026-05-01T10:31:00"),
    ("30,955", "30,956"),
    ("69208999349436247", "69208999349436248"),
    ("QA-1001", "1001"),
    ("1000000000000001", "1000000000000002"),
    ("100000000000001", "100000000000002"),
]
STORES = {"without": None, "text": Store(key=Key(["sku"]), fields={"attribute": Field("text")})}


def round_of(edit: tuple[str, str], store: Store | None) -> list[str | None]:
    """Why each changed cell of a round with this edit of one attribute is held."""
    skus, before = [f"QA-{n}x" for n in range(40)], [re.sub(r"[1-9]", str(n % 9 + 1), edit[0]) for n in range(40)]
    after = list(before)
    before[7], after[7] = edit
    live = as_catalogue({"sku": skus, "attribute": before}, "live")
    changes = compare(live, as_catalogue({"sku": skus, "attribute": after}, "sheet"), store=store)
    return changes.cells["held"].to_list()


@pytest.mark.parametrize("store", STORES.values(), ids=STORES)
@pytest.mark.parametrize("edit", REWRITTEN, ids=" to ".join)
def test_what_a_spreadsheet_made_of_a_text_is_held(edit, store):
    held = round_of(edit, store)
    assert len(held) == 1 and (held[0] or "").startswith("damage: "), held


@pytest.mark.parametrize("store", STORES.values(), ids=STORES)
@pytest.mark.parametrize("edit", MEANT, ids=" to ".join)
def test_what_a_person_typed_in_its_place_goes(edit, store):
    assert round_of(edit, store) == [None]


@pytest.mark.parametrize("edit", [("417.0", "417"), ("48,213", "48213"), ("7%", "0.07")], ids=" to ".join)
def test_one_that_live_itself_has_damaged_among_others_may_be_put_right(edit):
    skus, before = [f"QA-{n}x" for n in range(40)], [f"N{n}" for n in range(40)]
    after = list(before)
    before[7], after[7] = edit
    live = as_catalogue({"sku": skus, "attribute": before}, "live")
    changes = compare(live, as_catalogue({"sku": skus, "attribute": after}, "sheet"), store=STORES["text"])
    assert changes.cells["held"].to_list() == [None]


TEXTS = st.text(st.sampled_from("0123456789.,:/-() %E€$'QMayDec"), min_size=1, max_size=12)


@given(TEXTS, TEXTS)
def test_no_text_is_too_odd_to_be_read(one, other):
    """It ends, whatever stands there; and whether two are one value does not depend on who is asked first."""
    assert rewritten(one, other) in {True, False}
    if one.strip() and rewritten(one, one):
        assert rewritten(f" {one}", f"{one} ")


@pytest.mark.parametrize("year", [1900, 1904, 1999, 2000, 2026, 2100])
def test_a_day_is_counted_as_the_calendar_has_it_and_the_day_after_the_last_is_none(year):
    for month in range(1, 13):
        last = calendar.monthrange(year, month)[1]
        for day in (1, last):
            number = (date(year, month, day) - date(1899, 12, 30)).days
            assert Fraction(number) in readings(f"{year}-{month:02}-{day:02}")
        assert readings(f"{year}-{month:02}-{last + 1:02}") == frozenset()
    assert readings(f"{year}-13-01") == readings(f"{year}-00-01") == readings(f"{year}-01-00") == frozenset()


def test_a_year_of_two_digits_is_one_of_1930_to_2029():
    """As spreadsheets have it, in a text that one may take for a date and in one that a date became."""
    for text, year in (("29", 2029), ("30", 1930), ("00", 2000), ("99", 1999)):
        assert Fraction((date(year, 5, 13) - date(1899, 12, 30)).days) in readings(f"13.05.{text}")
        assert Day(year, 5, 13) in days(f"13-May-{text}")


@pytest.mark.parametrize("month", range(1, 13))
def test_a_date_without_a_year_has_the_days_of_its_longest_month(month):
    """29 February is one: nobody says of which year."""
    last, name = calendar.monthrange(2024, month)[1], calendar.month_abbr[month]
    assert Day(None, month, last) in days(f"{last}-{name}")
    assert not any(day.day == last + 1 for day in days(f"{last + 1}-{name}"))


@pytest.mark.parametrize(
    ("text", "seconds"),
    [
        ("0:00", 0), ("10:59", 39_540), ("10:60", None), ("10:30:59", 37_859), ("10:30:60", None), ("10:60:60", None),
        ("25:10", 90_600), ("12:10 AM", 600), ("12:10 PM", 43_800), ("1:10 PM", 47_400), ("13:10 PM", None),
        ("0:10 AM", None), ("PT28H20M00S", 102_000), ("PT1M1S", 61), ("10:30:45.5", Fraction(75_691, 2)),
    ],
)  # fmt: skip
def test_a_time_is_a_part_of_a_day(text, seconds):
    """As a clock or a length has it; sixty minutes and seconds, and a thirteenth hour of an afternoon, are none."""
    assert readings(text) == (frozenset() if seconds is None else {Fraction(seconds, 86_400)})


@pytest.mark.parametrize("text", ["Q3 2026", "Q3/2026", "q32026", "2026Q3", "2026 Q3", "2026-q3"])
def test_a_quarter_is_its_first_day(text):
    assert readings(text) == {Fraction((date(2026, 7, 1) - date(1899, 12, 30)).days)}
    assert readings(text.replace("3", "5")) == frozenset()


@pytest.mark.parametrize(
    "edit", [("12,990", "12.990"), ("409,5", "409.5"), ("12.990", "12,990"), ("0409,00", "0409.00")]
)
@pytest.mark.parametrize("store", STORES.values(), ids=STORES)
def test_only_another_mark_is_a_persons(edit, store):
    """A number that a spreadsheet made of a text differs in more than its decimal mark."""
    assert round_of(edit, store) == [None]
