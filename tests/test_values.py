"""Expressions that give values: held against SQLite on drawn tables, against Python's decimal on drawn money, then each
function at its edges, and what is refused.
"""

from __future__ import annotations

import sqlite3
from decimal import ROUND_HALF_EVEN, ROUND_HALF_UP, Context, Decimal

import polars as pl
import pytest
from hypothesis import strategies as st

from neat_delta import Field, Notation
from neat_delta.core.base.query.expressions import Own, Rows, compute, expression, steps
from neat_delta.core.base.support.errors import ConditionError
from tests.conftest import in_two_lengths
from tests.test_expressions import KINDS, NUMBER, PLAIN, SETTINGS, SHOP, TABLES, TEXT, WHOLE

EXACT = Context(prec=60)

WHOLES = st.recursive(
    st.one_of(NUMBER, st.sampled_from(["LENGTH(t)", "CHAR_LENGTH(t)"])),
    lambda inner: st.one_of(
        st.tuples(st.sampled_from(["NULLIF", "MOD"]), inner, NUMBER).map("{0[0]}({0[1]}, {0[2]})".format),
        st.tuples(st.sampled_from(["CEIL", "FLOOR", "ROUND", "-"]), inner).map("{0[0]}({0[1]})".format),
        st.tuples(PLAIN, inner, inner).map("CASE WHEN {0[0]} THEN {0[1]} ELSE {0[2]} END".format),
        st.tuples(PLAIN, inner).map("CASE WHEN {0[0]} THEN {0[1]} END".format),
        st.tuples(PLAIN, inner).map("CASE WHEN {0[0]} THEN NULL ELSE {0[1]} END".format),
        st.tuples(st.sampled_from("nm"), WHOLE, inner).map("CASE {0[0]} WHEN ({0[1]}) THEN {0[2]} ELSE 0 END".format),
        st.lists(inner, min_size=2, max_size=3).map(lambda parts: f"GREATEST({', '.join(parts)})"),
        st.lists(inner, min_size=2, max_size=3).map(lambda parts: f"LEAST({', '.join(parts)})"),
    ),
    max_leaves=4,
)
TEXTS = st.recursive(
    TEXT,
    lambda inner: st.one_of(
        st.tuples(inner, st.sampled_from(["'a'", "'A'", "'b%'", "t"]), st.sampled_from(["'x'", "'zz'", "t"])).map(
            "REPLACE({0[0]}, {0[1]}, {0[2]})".format
        ),
        st.tuples(inner, st.integers(1, 4), st.integers(1, 4)).map("SUBSTRING({0[0]}, {0[1]}, {0[2]})".format),
        st.tuples(inner, st.integers(1, 4)).map("SUBSTRING({0[0]}, {0[1]})".format),
        st.tuples(inner, inner).map("({0[0]} || {0[1]})".format),
        st.tuples(PLAIN, inner, inner).map("CASE WHEN {0[0]} THEN {0[1]} ELSE {0[2]} END".format),
    ),
    max_leaves=3,
)


@in_two_lengths(TABLES, st.lists(st.one_of(WHOLES, TEXTS), min_size=10, max_size=10), few=8, many=350)
def test_an_expression_gives_what_sqlite_gives(table, expressions):
    """On whole numbers and texts, where the two agree by the standard: an engine that was written by others."""
    with sqlite3.connect(":memory:") as base:
        base.execute("PRAGMA case_sensitive_like = ON")
        base.create_function("GREATEST", -1, lambda *given: None if None in given else max(given))
        base.create_function("LEAST", -1, lambda *given: None if None in given else min(given))
        base.create_function("CHAR_LENGTH", 1, lambda text: None if text is None else len(str(text)))
        base.execute("CREATE TABLE items (n INTEGER, m INTEGER, t TEXT)")
        for row in table:
            cells = [int(row[name]) if row[name] else None for name in "nm"]
            base.execute("INSERT INTO items VALUES (?, ?, ?)", (*cells, row["t"] or None))
        given = [[row[0] for row in base.execute(f"SELECT {one} FROM items ORDER BY rowid")] for one in expressions]
    rows = Rows({"": pl.DataFrame(table)}, KINDS, Notation())
    for said, values in zip(expressions, given, strict=True):
        plain = [int(value) if isinstance(value, float) else value for value in values]
        wanted = [None if value in (None, "") else str(value) for value in plain]
        assert [text or None for text in compute(expression(said), rows).texts] == wanted, said


PRICES = st.decimals(0, 999, places=2)
"""Of a formula there are two forms: SQL, and a function of a row in Python's decimal (None: NULL)."""


QUOTIENT = Decimal(1).scaleb(-14)


def _two(sign, left, right):
    def work(row):
        one, other = left[1](row), right[1](row)
        if one is None or other is None or (sign == "/" and other == 0):
            return None
        if sign == "/":
            one, other = (number.quantize(QUOTIENT, ROUND_HALF_EVEN, EXACT) for number in (one, other))
            return EXACT.divide(one, other).quantize(QUOTIENT, ROUND_HALF_EVEN, EXACT) if other else None
        return {"+": EXACT.add, "-": EXACT.subtract, "*": EXACT.multiply}[sign](one, other)

    places = left[2] + right[2] if sign == "*" else 14 if sign == "/" else max(left[2], right[2])
    return f"({left[0]} {sign} {right[0]})", work, places


def _round(name, how, part, places):
    def work(row):
        value = part[1](row)
        return None if value is None else value.quantize(Decimal(1).scaleb(-places), how, EXACT)

    return f"{name}({part[0]}, {places})", work, places


def _ends(part, endings, way):
    def work(row):
        value = part[1](row)
        if value is None:
            return None
        wholes = range(int(value) - 2, int(value) + 3)
        those = [whole + ending for whole in wholes for ending in endings if whole + ending >= 0]
        if way == "up":
            return min(one for one in those if one >= value)
        if way == "down":
            return max((one for one in those if one <= value), default=None)
        return min(those, key=lambda one: (abs(one - value), -one))

    said = ", ".join(str(one) for one in endings)
    return f"ENDS_AT({part[0]}, {said}, '{way}')", work, 2


FIELDS = [(name, lambda row, name=name: row[name], 2) for name in ("price", "cost")]
FORMULAS = st.recursive(
    st.one_of(st.sampled_from(FIELDS), PRICES.map(lambda number: (str(number), lambda _: number, 2))),
    lambda inner: st.one_of(
        st.tuples(st.sampled_from("+-*/"), inner, inner).map(lambda parts: _two(*parts)),
        st.tuples(inner, st.integers(0, 3)).map(lambda parts: _round("ROUND", ROUND_HALF_UP, *parts)),
        st.tuples(inner, st.integers(0, 3)).map(lambda parts: _round("ROUND_EVEN", ROUND_HALF_EVEN, *parts)),
    ),
    max_leaves=4,
)
ENDINGS = st.lists(st.sampled_from([Decimal(one) for one in ("0.90", "0.95", "0.49", "0")]), min_size=1, max_size=2)
WAYS = st.sampled_from(["up", "down", "nearest"])
ENDED = st.tuples(st.sampled_from([*FIELDS, _two("*", FIELDS[0], FIELDS[1])]), ENDINGS, WAYS)
SHELF = st.lists(st.tuples(st.none() | PRICES, st.none() | PRICES), min_size=1, max_size=6)


DRAWN = st.one_of(FORMULAS, ENDED.map(lambda parts: _ends(*parts)))


@in_two_lengths(SHELF, st.lists(DRAWN, min_size=10, max_size=10), few=8, many=350)
def test_money_is_what_decimal_says(shelf, formulas):
    """To the last digit, rounding and endings included; or it is refused as too long, and never rounded."""
    table = pl.DataFrame(
        {name: ["" if row[at] is None else str(row[at]) for row in shelf] for at, name in enumerate(("price", "cost"))}
    )
    rows = Rows({"": table}, {"price": Field("money"), "cost": Field("money")}, Notation())
    for said, work, places in formulas:
        try:
            values = compute(expression(said), rows)
        except ConditionError as error:
            assert "too many" in str(error)
            assert places > 12
            continue
        for text, (price, cost) in zip(values.texts, shelf, strict=True):
            wanted = work({"price": price, "cost": cost})
            assert (text is None) == (wanted is None), said
            assert text is None or (Decimal(text) == wanted and "E" not in text), said


ROWS = Rows(
    {"": SHOP, "live": SHOP.reverse(), "rates": pl.DataFrame({"rate": ["0.92"] * 4})},
    SETTINGS,
    Notation(",", ".", "DD.MM.YYYY"),
    own={"rates": Own({"rate": Field("decimal")}, Notation())},
    values={"rate": "0.5", "word": "wax", "day": "2026-05-12"},
)


@pytest.mark.parametrize(
    "said, wanted",
    [
        ("ROUND(cost * 10.125)", ["2", "1", "1", "10126"]),
        ("ROUND(cost * 12.5, 0)", ["3", "1", "1", "12501"]),  # 2.5 is rounded away from zero
        ("ROUND_EVEN(cost * 12.5, 0)", ["2", "1", "1", "12501"]),
        ("ROUND_EVEN(cost * 12.5)", ["2", "1", "1", "12501"]),
        ("ROUND(-cost * 12.5)", ["-3", "-1", "-1", "-12501"]),
        ("ROUND(cost * 1000, -2)", ["200", "100", "100", "1000100"]),
        ("cost / 3", ["0.06666666666667", "0.03333333333333", "0.03333333333333", "333.35"]),
        ("1 / (cost * cost)", ["25", "100", "100", "0.00000099990001"]),
        ("MOD(-7.5, 2)", ["-1.5"] * 4),
        ("cost * rates.rate", ["0.184", "0.092", "0.092", "920.046"]),
        ("cost * :rate", ["0.1", "0.05", "0.05", "500.025"]),
        ("live.cost", ["1000.05", "0.1", "0.1", "0.2"]),
        ("ENDS_AT(cost * 100, 9.90)", ["19.90", "9.90", "9.90", "100009.90"]),
        ("ENDS_AT(cost * 100, 0.90, 'down')", ["19.90", "9.90", "9.90", "100004.90"]),
        ("ENDS_AT(12.40, 0.90)", ["12.90"] * 4),  # as near to 11.90: the greater
        ("ENDS_AT(0.5, 0.90, 'down')", [None] * 4),
        ("ENDS_AT(104, 99)", ["99"] * 4),
        ("CASE WHEN sku = 'QA-1' THEN 5 ELSE NULL END", ["5", None, None, None]),
        ("UPPER(sku) || ' ' || :word", ["QA-1 wax", "QA-2 wax", "QA-3 wax", "QA-4 wax"]),
        ("TRIM(LEADING '0' FROM code)", ["417", "417", "417", None]),
        ("POSITION('-' IN sku)", ["3"] * 4),
        ("SUBSTRING(sku FROM 4)", ["1", "2", "3", "4"]),
        ("REPLACE(sku, '-', '')", ["QA1", "QA2", "QA3", "QA4"]),
        ("CAST(code AS INTEGER)", ["417", "417", "417", None]),
        ("CAST(cost AS DECIMAL(9, 3))", ["0.200", "0.100", "0.100", "1000.050"]),
        ("CAST(cost * 10 AS DECIMAL(9))", ["2", "1", "1", "10001"]),  # no places are none; a half goes away from 0
        ("CAST(cost * 2 AS TEXT) || ' x'", ["0.4 x", "0.2 x", "0.2 x", "2000.1 x"]),
        ('CAST("from" AS TEXT)', ["12.05.2026", "2026-05-13", "01.06.2026", None]),  # as it is written
        ("\"from\" + INTERVAL '1' MONTH", ["2026-06-12", "2026-06-13", "2026-07-01", None]),
        ("\"from\" - INTERVAL '2' DAY", ["2026-05-10", "2026-05-11", "2026-05-30", None]),
        ("\"from\" - CAST(:day AS DATE)", ["0", "1", "20", None]),
        ("\"from\" > DATE '2026-05-12'", ["no", "yes", "yes", None]),
        ("ARRAY_APPEND(tags, 'new')", ["gift\x1fbulk\x1fnew", "bulk\x1fgift\x1fnew", "gift\x1fnew", "new"]),
        ("ARRAY_REMOVE(tags, 'gift')", ["bulk", "bulk", "", None]),
        ("size", ["250 ml", "0,25 l", "1 kg", "big"]),
        ("GREATEST(cost, 0.15)", ["0.2", "0.15", "0.15", "1000.05"]),
        ("GREATEST(ROUND(cost, 2), 0.15)", ["0.2", "0.15", "0.15", "1000.05"]),  # as one of them is not rounded
        ("LEAST(ROUND(cost, 2), ROUND(7, 2))", ["0.20", "0.10", "0.10", "7.00"]),
        ("COALESCE(ROUND(\"Sale price\", 2), cost)", ["0.1", "0.3", "0.1", "1000.05"]),
        ("COALESCE(ROUND(\"Sale price\", 2), ROUND(cost, 2))", ["0.10", "0.30", "0.10", "1000.05"]),
        ("CASE WHEN sku = 'QA-1' THEN ROUND(cost, 2) ELSE 3 END", ["0.2", "3", "3", "3"]),
        ("COALESCE(\"Sale price\", cost)", ["0.1", "0.3", "0.1", "1000.05"]),
    ],
)  # fmt: skip
def test_each_function(said, wanted):
    assert compute(expression(said), ROWS).texts.to_list() == wanted


@pytest.mark.parametrize(
    "said, meant",
    [
        ("NULL", [True] * 4),
        ('"Sale price"', [False] * 4),  # what is missing is not meant
        ("NULLIF(sku, 'QA-2')", [False, True, False, False]),
        ("CASE WHEN sku = 'QA-1' THEN NULL ELSE cost END", [True, False, False, False]),
        ("CASE WHEN sku = 'QA-1' THEN cost END", [False] * 4),
        ('COALESCE("Sale price", NULL)', [True] * 4),
        ("ARRAY_REMOVE(tags, 'gift')", [False, False, True, False]),
    ],
)
def test_null_is_meant_or_missing(said, meant):
    assert compute(expression(said), ROWS).meant.to_list() == meant


def test_the_steps_of_one_value():
    assert steps(expression("ENDS_AT(ROUND(cost * (1 + :rate), 2), 0.90)"), ROWS) == [
        ("1 + :rate", "1.5"),
        ("cost * (1 + :rate)", "0.3"),
        ("ROUND(cost * (1 + :rate), 2)", "0.30"),
        ("ENDS_AT(ROUND(cost * (1 + :rate), 2), 0.90)", "0.90"),
    ]


@pytest.mark.parametrize(
    "said, word, why",
    [
        ("ROUND(cost, 1.5)", "1.5", "a whole number"),
        ("cost + sku", "sku", "which is no number; CAST(… AS DECIMAL) reads it as one"),
        ("cost || ''", None, None),
        ("cost * 2 || 'x'", "cost", "CAST(… AS TEXT)"),
        ("ENDS_AT(cost)", "ENDS_AT", "one or more endings"),
        ("ENDS_AT(cost, 0.90, 'sideways')", "'sideways'", "'up', 'down' or 'nearest'"),
        ("ENDS_AT(cost, cost)", "cost", "an ending is a number"),
        ("cost * :rtae", ":", 'did you mean ":rate"?'),
        ("GREATEST(cost, sku)", "sku", "a text"),
        ("CASE WHEN cost > 0 THEN cost ELSE 'dear' END", "'dear'", "this is not money"),
        ("RAND()", "RAND", "means nothing"),
        ("MEDIANE(cost)", "MEDIANE", "no function MEDIANE"),
        ("(SELECT 1)", "1", "means nothing"),
        ("\"from\" + 7", "from", "a date, which is no number"),
        ("ARRAY_APPEND(sku, 'x')", "sku", "this is no list"),
        ("cost * 99999999999999999999 * 99999999999999999999", None, "too many digits"),
        ("cost ** ", "*", "means nothing"),
        ("", None, "The expression is empty"),
    ],
)  # fmt: skip
def test_what_is_refused(said, word, why):
    if why is None:
        assert compute(expression(said), ROWS).texts[0] == "0,2"
        return
    with pytest.raises(ConditionError) as refusal:
        compute(expression(said), ROWS)
    assert why in str(refusal.value)
    assert word is None or word in str(refusal.value)
