"""Single cells at their borders, kind by kind: what is the same, what goes out and how it is written, what is held and
why. Each table is one comparison, so that no cell's outcome rests on another's text; a person looked at each row.
"""

from __future__ import annotations

import random

import polars as pl
import pytest

import neat_delta
from neat_delta import Field, Key, Notation, Store
from neat_delta.core.compare.detect.damage import damaged

TABLES: dict[str, tuple[Field, Notation, list[tuple[str, str, str | None, str | None]]]] = {
    "money, 2 decimals": (
        Field(kind="money", decimals=2),
        Notation(),
        [
            ("9.90", "9.9", None, None),
            ("9.90", "9.900", "9.900", "check: unreadable"),
            ("9.90", "9.904", "9.904", "check: unreadable"),
            ("9.90", "9.905", "9.905", "check: unreadable"),
            ("9.90", "9,90", None, None),
            ("9.90", "€9.90", "€9.90", "damage: currency sign"),
            ("9.90", "$9.90", "$9.90", "damage: currency sign"),
            ("€9.90", "9.90", None, None),
            ("€9.90", "€9.95", "€9.95", None),
            ("€9.90", "9.95", "€9.95", None),
            ("€9.90", "$9.90", "$9.90", "check: unreadable"),
            ("1,234.50", "1234.5", None, None),
            ("1234.50", "1,234.50", None, None),
            ("0.00", "0", None, None),
            ("0.00", "-0.00", None, None),
            ("0.00", "", "", "emptied"),
            ("", "0", "0.00", None),
            ("", "0.00", "0.00", None),
            ("9.90", " 9.90 ", None, None),
            ("9.90", "+9.90", "+9.90", None),
            ("9.90", "-9.90", "-9.90", "check: negative"),
            ("9.90", "9.90 EUR", "9.90 EUR", "damage: currency sign"),
            ("9.90", "call us", "call us", "check: unreadable"),
            ("9.90", ".9", "0.90", "slip: a decimal slip"),
            ("9.90", "9.", "9.", "check: unreadable"),
            ("9.90", "1e1", "1e1", "check: unreadable"),
            ("9.90", "9.9045", "9.9045", "check: unreadable"),
            ("9.99", "9.9", "9.90", None),
            ("9.90", "9.09", "9.09", None),
            ("99.00", "9900", "9,900.00", "damage: decimal mark lost"),
            ("0.10", ".1", None, None),
            ("1.00", "1,00", None, None),
            ("12,345.00", "12345", None, None),
            ("10.00", "1e1", "1e1", "check: unreadable"),
        ],
    ),
    "money, 0 decimals": (
        Field(kind="money", decimals=0),
        Notation(),
        [
            ("10", "10.0", None, None),
            ("10", "10.4", "10.4", None),
            ("10", "10,0", None, None),
            ("10", "11", "11", None),
            ("1000", "1,000", "1,000", "check: unreadable"),
            ("1000", "1.000", "1.000", "slip: a decimal slip"),
            ("0", "-0", None, None),
            ("10", "10,4", "10.4", None),
            ("10", "10.00", None, None),
        ],
    ),
    "decimal, comma": (
        Field(kind="decimal", decimals=2, decimal_mark=","),
        Notation(decimal_mark=",", thousands_mark="."),
        [
            ("9,90", "9.90", None, None),
            ("9,90", "9,9", None, None),
            ("9,90", "9,95", "9,95", None),
            ("1.234,50", "1234,5", None, None),
            ("1.234,50", "1,234.50", None, None),
            ("1,000", "1.000", "1.000", "damage: another decimal mark"),
            ("1,500", "1.5", None, None),
            ("2,00", "2", None, None),
        ],
    ),
    "integer": (
        Field(kind="integer"),
        Notation(),
        [
            ("5", "5.0", None, None),
            ("5", "05", "05", None),
            ("5", "5.5", "5.5", "check: unreadable"),
            ("5", "five", "five", "check: unreadable"),
            ("1000", "1,000", "1,000", "check: unreadable"),
            ("1000", "1 000", None, None),
            ("5", "5e0", "5e0", "check: unreadable"),
            ("-1", "−1", None, None),
            ("007", "7", None, None),
            ("7", "007", "007", None),
            ("0", "", "", "emptied"),
            ("1000", "1.000", "1.000", "check: unreadable"),
            ("5", "+5", "+5", None),
            ("10", "1e1", "1e1", "check: unreadable"),
            ("5", " 5", None, None),
            ("3", "3,0", None, None),
        ],
    ),
    "code": (
        Field(kind="code"),
        Notation(),
        [
            ("007", "7", "7", "damage: leading zeros lost"),
            ("007", "007 ", "007 ", "damage: spaces around a code"),
            ("AB-1", "ab-1", "ab-1", None),
            ("5901234567890", "5.90123E+12", "5.90123E+12", "damage: scientific notation"),
            ("12", "12.0", "12.0", "damage: decimals added to a code"),
            ("3/4", "3-Apr", "3-Apr", "damage: turned into a date"),
            ("0", "00", "00", None),
            ("A1", " A1", " A1", "damage: spaces around a code"),
            ("1.10", "1.1", "1.1", "damage: taken for a number"),
            ("=A1", "A1", "A1", None),
            ("TRUE", "True", "True", None),
            ("00", "0", "0", "damage: leading zeros lost"),
        ],
    ),
    "text": (
        Field(),
        Notation(),
        [
            ("Hive", "hive", "hive", None),
            ("Hive", "Hive ", None, None),
            ("a  b", "a b", "a b", None),
            ("a\xa0b", "a b", "a b", None),
            ("Crème", "Creme", "Creme", None),
            ("Crème", "Crème", None, None),
            ("x\ny", "x\r\ny", None, None),
            ("”q”", '"q"', '"q"', None),
            ("1.50", "1.5", "1.5", "damage: taken for a number"),
            ("007", "7", "7", "damage: leading zeros lost"),
            ("x", "x\u200b", "x\u200b", "damage: non-breaking or unseen spaces"),
            ("", "  ", None, None),
            ("TRUE", "WAHR", "WAHR", "damage: a spreadsheet's word for true or false"),
        ],
    ),
    "flag": (
        Field(kind="flag"),
        Notation(yes=("yes",), no=("no",)),
        [
            ("yes", "Yes", None, None),
            ("yes", "TRUE", "TRUE", "check: unreadable"),
            ("yes", "1", "1", "check: unreadable"),
            ("yes", "no", "no", None),
            ("no", "0", "0", "check: unreadable"),
            ("yes", "y", "y", "check: unreadable"),
            ("yes", "", "", "emptied"),
            ("", "no", "no", None),
            ("yes", "maybe", "maybe", "check: unreadable"),
            ("Yes", "yes", None, None),
            ("no", "No", None, None),
            ("yes", " yes ", None, None),
        ],
    ),
    "date": (
        Field(kind="date"),
        Notation(date_form="YYYY-MM-DD"),
        [
            ("2026-03-04", "2026-03-04", None, None),
            ("2026-03-04", "04.03.2026", None, None),
            ("2026-03-04", "3/4/2026", "3/4/2026", "check: unreadable"),
            ("2026-03-04", "2026-3-4", "2026-3-4", "check: unreadable"),
            ("2026-03-04", "2026-03-05", "2026-03-05", None),
            ("2026-03-04", "2026-02-30", "2026-02-30", "check: unreadable"),
            ("2026-03-04", "46085", "46085", "damage: a date turned into a number or words"),
            ("2026-03-04", "2026-03-04T00:00:00", None, None),
            ("2026-03-04", "2026-03-04 12:00", "2026-03-04 12:00", "check: unreadable"),
            ("2026-12-31", "31.12.2026", None, None),
            ("2026-03-04", "4.3.2026", None, None),
            ("", "2026-03-04", "2026-03-04", None),
            ("2024-02-29", "2023-02-29", "2023-02-29", "check: unreadable"),
        ],
    ),
    "date, time": (
        Field(kind="date"),
        Notation(date_form="YYYY-MM-DDThh:mm:ss"),
        [
            ("2026-03-04T10:00:00", "2026-03-04T10:00:00Z", "2026-03-04T10:00:00Z", "check: unreadable"),
            ("2026-03-04T10:00:00", "2026-03-04 10:00", None, None),
            ("2026-03-04T10:00:00", "2026-03-04T10:00:01", "2026-03-04T10:00:01", None),
            ("2026-03-04T10:00:00+01:00", "2026-03-04T09:00:00Z", "2026-03-04T09:00:00Z", "check: unreadable"),
        ],
    ),
    "list": (
        Field(kind="list", separator=","),
        Notation(),
        [
            ("a,b", "b,a", "b,a", None),
            ("a,b", "a, b", "a, b", None),
            ("a,b", "a,b,b", "a,b,b", None),
            ("a,b", "a", "a", None),
            ("a,b", "A,b", "A,b", "check: near-twin"),
            ("a,b", "a,b,", "a,b,", None),
            ("a,b", "a;b", "a;b", "check: new-value"),
            ("", "a", "a", None),
            ("a,b", " a,b ", None, None),
            ("a", "a,a", "a,a", None),
            ("a,b", "", "", "emptied"),
        ],
    ),
    "list, ordered": (
        Field(kind="list", separator="|", ordered=True),
        Notation(),
        [
            ("a|b", "b|a", "b|a", None),
            ("a|b", "a | b", "a | b", None),
        ],
    ),
    "measure": (
        Field(kind="measure"),
        Notation(),
        [
            ("250 ml", "250ml", "250ml", "check: near-twin"),
            ("250 ml", "0.25 l", "0.25 l", None),
            ("250 ml", "250 mL", "250 mL", "check: near-twin"),
            ("1.5 kg", "1500 g", "1500 g", None),
            ("1 m", "100 cm", "100 cm", None),
            ("250 ml", "251 ml", "251 ml", None),
            ("250 ml", "250", "250", "check: unreadable"),
        ],
    ),
    "path": (
        Field(kind="path", levels=">"),
        Notation(),
        [
            ("A > B", "A>B", "A>B", "check: near-twin"),
            ("A > B", "a > b", "a > b", "check: near-twin"),
            ("A > B", "A > C", "A > C", "check: new-value"),
        ],
    ),
    "choice": (
        Field(kind="choice", values=["red", "blue"]),
        Notation(),
        [
            ("red", "Red", "Red", "check: unreadable"),
            ("red", " red", None, None),
            ("red", "blue", "blue", None),
            ("red", "green", "green", "check: unreadable"),
        ],
    ),
    "json": (
        Field(kind="json"),
        Notation(),
        [
            ('{"a":1,"b":2}', '{"b": 2, "a": 1}', '{"b": 2, "a": 1}', None),
            ('{"a":1}', '{"a":1.0}', '{"a":1.0}', None),
            ('{"a":1}', '{"a":"1"}', '{"a":"1"}', None),
            ("[1,2]", "[2,1]", "[2,1]", None),
            ('{"a":1}', "{a:1}", "{a:1}", "check: unreadable"),
        ],
    ),
}
"""Per kind its settings, how live writes, and rows of: the text in live, the text in the sheet, the text that goes out
(None: it is the same), and why it is held (None: it is sent).
"""


def outcome(rows: list[tuple[str, str, str | None, str | None]], field: Field, writing: Notation) -> list[object]:
    keys = [f"q{number}" for number in range(len(rows))]
    changes = neat_delta.compare(
        {"sku": keys, "cell": [row[0] for row in rows]},
        {"sku": keys, "cell": [row[1] for row in rows]},
        store=Store(key=Key(["sku"]), fields={"cell": field}, writing=writing),
    )
    there = {key: (after, held) for key, after, held in changes.to_frame().select("sku", "after", "held").rows()}
    return [(row[0], row[1], *there.get(key, (None, None))) for key, row in zip(keys, rows, strict=True)]


@pytest.mark.parametrize("kind", TABLES)
def test_cells_at_the_borders_of_their_kind(kind):
    field, writing, rows = TABLES[kind]
    assert outcome(rows, field, writing) == rows


@pytest.mark.parametrize("kind", TABLES)
def test_in_any_order_they_come_to_the_same(kind):
    """And with the rows twice, so that none is what it is by where it stands."""
    field, writing, rows = TABLES[kind]
    mixed = rows * 2
    random.Random(kind).shuffle(mixed)
    assert outcome(mixed, field, writing) == mixed


@pytest.mark.parametrize(
    ("code", "typed", "is_damaged"),
    [
        ("100000", "1E+05", True),
        ("149999", "1E+05", True),
        ("150000", "1E+05", False),
        ("95000", "1E+05", True),
        ("94999", "1E+05", False),
        ("60000", "1E+05", False),
        ("99950", "1.00E+05", True),
        ("99949", "1.00E+05", False),
        ("100000", "1.0E+05", True),
        ("105000", "1,1E+05", True),
        ("105000", "1.0E+05", False),
        ("123456", "1.2E+05", True),
    ],
)
def test_a_power_of_ten_is_a_code_rounded_to_the_digits_that_it_shows(code, typed, is_damaged):
    (row,) = outcome([(code, typed, None, None)], Field("code"), Notation())
    which = "scientific notation" if is_damaged else "another number in scientific notation"
    assert row == (code, typed, typed, f"damage: {which}")


@pytest.mark.parametrize(
    ("price", "typed", "damage"),
    [("1250.00", "1250,00", "another decimal mark"), ("12.50", "1,250.0", None), ("12.50", "125,0", None)],
)
def test_marks_that_changed_places_leave_the_number_as_it_was(price, typed, damage):
    """Digits alone say nothing: 125,0 is not 12.50."""
    texts = {"field": ["x"], "before": [price], "after": [typed], "raw": [typed]}
    cells, fields = pl.DataFrame(texts), {"x": Field("decimal")}
    assert damaged(cells, fields, Notation(decimal_mark=".", thousands_mark=",")).to_list() == [damage]
