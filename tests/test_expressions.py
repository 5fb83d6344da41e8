"""Conditions: held against SQLite on drawn tables, then by kind, then what is refused and in which words."""

from __future__ import annotations

import re
import sqlite3

import polars as pl
import pytest
from hypothesis import strategies as st

from neat_delta import Field, Notation
from neat_delta.core.base.query.expressions import Rows, condition, evaluate
from neat_delta.core.base.support.errors import ConditionError
from tests.conftest import in_two_lengths

WHOLE = st.integers(-3, 12).map(str)
WORDS = st.sampled_from(["a", "ab", "Ab", "b%", "wax", "Wax", "a_b"])
CELLS = {"n": st.one_of(st.just(""), WHOLE), "m": st.one_of(st.just(""), WHOLE), "t": st.one_of(st.just(""), WORDS)}
TABLES = st.lists(st.fixed_dictionaries(CELLS), min_size=1, max_size=8)

NUMBER = st.recursive(
    st.one_of(WHOLE.map(lambda n: f"({n})"), st.sampled_from(["n", "m", '"n"', "N", "LENGTH(t)"])),
    lambda inner: st.one_of(
        st.tuples(inner, st.sampled_from("+-*"), inner).map(lambda p: f"({p[0]} {p[1]} {p[2]})"),
        inner.map(lambda one: f"ABS({one})"),
        st.tuples(inner, inner).map(lambda p: f"COALESCE({p[0]}, {p[1]})"),
    ),
    max_leaves=3,
)
QUOTED = WORDS.map(lambda word: f"'{word}'")
TEXT = st.one_of(st.just("t"), QUOTED, st.just("t || 'x'"), st.just("LOWER(t)"), st.just("UPPER(t)"))
SIGNS = st.sampled_from(["=", "<>", "!=", "<", "<=", ">", ">="])
PLAIN = st.one_of(
    st.tuples(NUMBER, SIGNS, NUMBER).map(" ".join),
    st.tuples(TEXT, SIGNS, TEXT).map(" ".join),
    st.tuples(NUMBER, st.sampled_from(["", "NOT "]), NUMBER, NUMBER).map(lambda p: "{} {}BETWEEN {} AND {}".format(*p)),
    st.tuples(NUMBER, st.sampled_from(["", "NOT "]), NUMBER, NUMBER).map(lambda p: "{} {}IN ({}, {})".format(*p)),
    st.tuples(TEXT, st.sampled_from(["", "NOT "]), QUOTED, QUOTED).map(lambda p: "{} {}IN ({}, {})".format(*p)),
    st.tuples(st.sampled_from("nmt"), st.sampled_from(["", "NOT "])).map(lambda p: f"{p[0]} IS {p[1]}NULL"),
    st.tuples(NUMBER, SIGNS, NUMBER).map(lambda p: "({} {} {}) IS TRUE".format(*p)),
    st.tuples(st.sampled_from(["", "NOT "]), st.sampled_from(["%a%", "_", "a!_b", "b!%", "%", "A%"])).map(
        lambda p: f"t {p[0]}LIKE '{p[1]}' ESCAPE '!'"
    ),
)
CONDITIONS = st.recursive(
    PLAIN,
    lambda inner: st.one_of(
        st.tuples(inner, st.sampled_from(["AND", "OR"]), inner).map(lambda p: f"({p[0]} {p[1]} {p[2]})"),
        inner.map(lambda one: f"NOT ({one})"),
    ),
    max_leaves=4,
)

KINDS = {"n": Field(kind="integer"), "m": Field(kind="money")}


@in_two_lengths(TABLES, CONDITIONS, few=60, many=500)
def test_a_condition_holds_where_sqlite_says_so(table, said):
    """SQL's three truth values, NULL for blank, precedence, LIKE: an engine that was written by others agrees."""
    with sqlite3.connect(":memory:") as base:
        base.execute("PRAGMA case_sensitive_like = ON")
        base.execute("CREATE TABLE items (place INTEGER, n INTEGER, m INTEGER, t TEXT)")
        for place, row in enumerate(table):
            cells = [int(row[name]) if row[name] else None for name in "nm"]
            base.execute("INSERT INTO items VALUES (?, ?, ?, ?)", (place, *cells, row["t"] or None))
        wanted = [place for (place,) in base.execute(f"SELECT place FROM items WHERE {said} ORDER BY place")]
    rows = Rows({"": pl.DataFrame(table)}, KINDS, Notation())
    assert evaluate(condition(said), rows).arg_true().to_list() == wanted


SHOP = pl.DataFrame(
    {
        "sku": ["QA-1", "QA-2", "QA-3", "QA-4"],
        "Sale price": ["0,10", "0,30", "", "on request"],
        "cost": ["0,2", "0,1", "0,1", "1.000,05"],
        "code": ["00417", "417", "0417", ""],
        "tags": ["gift, bulk", "bulk,gift", "gift", ""],
        "from": ["12.05.2026", "2026-05-13", "01.06.2026", ""],
        "size": ["250 ml", "0,25 l", "1 kg", "big"],
        "shown": ["ja", "nein", "JA", ""],
        "path": ["Hives > Parts", "Hives>Parts", "Wax", ""],
    }
)
SETTINGS = {
    "Sale price": Field(kind="money"),
    "cost": Field(kind="money"),
    "code": Field(kind="code"),
    "tags": Field(kind="list", separator=","),
    "from": Field(kind="date"),
    "size": Field(kind="measure"),
    "shown": Field(kind="flag", yes=["ja"], no=["nein"]),
    "path": Field(kind="path", levels=" > "),
}
ROWS = Rows({"": SHOP, "before": SHOP.reverse()}, SETTINGS, Notation(",", ".", "DD.MM.YYYY"))


@pytest.mark.parametrize(
    "said, items",
    [
        ('"Sale price" + cost = 0.3', "1"),  # in floating point it is 0.30000000000000004
        ('"Sale price" * 3 = 0.9', "2"),
        ('cost / "Sale price" > 1', "1"),
        ('cost / ("Sale price" - "Sale price") = 0 OR sku = \'QA-3\'', "3"),
        ('"Sale price" IS NULL', "3"),
        ('NOT "Sale price" > 0', ""),  # neither a blank nor words are more or less than 0
        ("cost = 1000.05 AND cost = '1.000,05'", "4"),
        ("code = '417'", "2"),
        ("code LIKE '%417'", "123"),
        ("'gift' = ANY (tags) AND 'bulk' IN (tags)", "12"),
        ("tags = 'gift,bulk'", "12"),
        ("'gift' <> ANY (tags)", ""),
        ("tags LIKE 'gift%'", "13"),
        ("\"from\" > DATE '2026-05-12'", "23"),
        ("\"from\" BETWEEN '12.05.2026' AND '2026-05-13'", "12"),
        ("size = '250 mL'", "12"),
        ("size > '500 g'", "3"),
        ("shown", "13"),
        ("shown = FALSE OR shown IS NULL", "24"),
        ("shown = 'nein'", "2"),
        ("path = 'Hives > Parts'", "12"),
        ("sku ILIKE 'qa-_'", "1234"),
        ("before.sku = 'QA-4' AND sku = 'QA-1'", "1"),
        ("COALESCE(\"Sale price\", cost) = '0,1'", "13"),
    ],
)
def test_fields_are_compared_by_their_kind(said, items):
    assert "".join(sku[-1] for sku in SHOP["sku"].filter(evaluate(condition(said), ROWS))) == items


@pytest.mark.parametrize(
    "said, word, place, why",
    [
        ("kost > 1", "kost", 1, 'there is no field "kost"; the nearest is "cost"'),
        ("cost > 1 AND sale_price = 2", "sale_price", 14, 'the nearest is "Sale price"'),
        ('path = "Wax and honey"', '"Wax and honey"', 8, "use single quotes: 'Wax and honey'"),
        ("after.cost = 1", "after", 1, 'there is no table "after"; there are before'),
        ("cost > 'cheap'", "'cheap'", 8, "this is not money, and cost is"),
        ("code = 417", "417", 8, "\"code\" holds a code, so write it in quotes: '417'"),
        ("cost = 19,90", ",", 10, "numbers have a decimal point"),
        ("cost", "cost", 1, "a value and no condition"),
        ("cost = ''", "''", 8, "a blank cell is NULL"),
        ("cost = NULL", "NULL", None, "write IS NULL"),
        ("cost > 1 AND", "AND", 10, "ends too early"),
        ("cost > 1; DROP TABLE items", "DROP", 11, "not expected"),
        ("cost IN (SELECT 1)", "cost", 1, "this means nothing here"),
        ("RANDOM() > 1", "RANDOM", 1, "means nothing here"),
        ("CAST(tags AS DECIMAL) = 1", "tags", 6, "no number, and no text either"),
        ("CAST(cost AS REAL) = 1", "cost", 6, "CAST gives DECIMAL"),
        ("tags < 'a'", "tags", 1, "none is less than another"),
        ("code = 'x", "'x", 8, "a quote is not closed"),
        ("cost = 1e60", "1e60", 8, "too many digits"),
    ],
)
def test_what_is_no_condition_is_refused_at_its_word(said, word, place, why):
    with pytest.raises(ConditionError) as error:
        evaluate(condition(said), ROWS)
    where = f" (character {place})" if place else ""
    assert str(error.value).startswith(f'In the condition, at "{word}"{where}: ')
    assert why in str(error.value)


def test_what_cannot_be_worked_out_exactly_is_refused():
    for said, why in (
        ("", "empty"),
        ("(" * 5000 + "1" + ")" * 5000 + " = 1", "nested"),
        ("*".join(["cost"] * 40) + " = 1", "exactly"),
    ):
        with pytest.raises(ConditionError, match=why):
            evaluate(condition(said), ROWS)


MANY = ", ".join(f"'QA-{n}'" for n in range(0, 3_000, 2))


@pytest.mark.parametrize(
    "where, rows",
    [
        (f"sku IN ({MANY})", [0, 2]),
        (f"sku NOT IN ({MANY})", [1, 3]),
        ("price IN (9.9, 4.50, '20')", [0, 2]),
        ("price IN ('9.90')", [0]),
        ("day IN ('2026-05-01', '2026-06-01')", [0]),
        ("NOT price IN (9.90)", [1, 2]),
    ],
)
def test_in_is_a_set_whatever_the_kind(where, rows):
    assert chosen(where) == rows


def chosen(where: str) -> list[int]:
    """The rows of a shelf for which a condition holds."""
    kinds = {"sku": Field(kind="code"), "price": Field(kind="money"), "day": Field(kind="date")}
    return evaluate(condition(where), Rows({"": pl.DataFrame(SHELF)}, kinds, Notation())).arg_true().to_list()


SHELF = {
    "sku": ["QA-0", "QA-1", "QA-2", "QZ-9"],
    "price": ["9.90", "3.00", "20.00", ""],
    "day": ["2026-05-01", "", "2026-07-01", ""],
}


@pytest.mark.parametrize(
    "where, said",
    [
        ("price IN (9.90, 'dear')", "this is not money, and price is"),
        ("sku IN ('QA-0', 7)", 'so write it in quotes'),
        ("day IN ('2026-05-01', 'soon')", 'this is not a date, and day is'),
        ("sku IN ('QA-0', ' ')", "a blank cell is NULL"),
        (f"sku LIKE '{'_' * 50_000}'", "LIKE takes a text of at most 1,000 characters"),
    ],
)  # fmt: skip
def test_what_cannot_be_in_a_set_is_said(where, said):
    with pytest.raises(ConditionError, match=re.escape(said)):
        chosen(where)
