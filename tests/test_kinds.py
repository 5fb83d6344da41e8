"""Kinds: when two cells hold the same value, what cannot be read, and how a value is written as the store writes it."""

from __future__ import annotations

import json
from decimal import Decimal
from typing import get_args

import polars as pl
import pytest
from hypothesis import given
from hypothesis import strategies as st

from neat_delta import Field, Key, ListMapping, Notation, Store, compare
from neat_delta.core.base.kinds import KINDS
from neat_delta.core.base.model.store import KindName
from tests.conftest import in_two_lengths
from tests.oracle import catalogue, value

POINT, COMMA = Notation(".", ""), Notation(",", ".")
TAGS, ORDER = Field("list", separator=","), Field("list", separator="|", ordered=True)
SHOWN = Field("flag", yes=["shown"], no=["hidden"])
PATH, PATHS = Field("path", levels=">"), Field("path", levels=" > ", separator="|")
PICTURES = Field("image", separator=";")


def values(kind: str, texts: list[str], field: Field | None = None, writing: Notation = POINT) -> list[str | None]:
    return KINDS[kind].read(pl.Series(texts, dtype=pl.String), field or Field(kind), writing).to_list()  # type: ignore[arg-type]


SAME = [
    ("text", Field(), POINT, ["é ", " e\u0301", "\u00a0é"]),
    ("text", Field(), POINT, ["a\r\nb", "a\nb", "a\rb"]),
    ("integer", Field(), POINT, ["7", "+7", "007", "7.0", " 7"]),
    ("decimal", Field(), POINT, ["19.9", "19.90", "019.900", "+19.9"]),
    ("decimal", Field(), POINT, ["0", "-0", "0.00", ".0"]),
    ("decimal", Field(), POINT, ["12345678901234567890.120", "12345678901234567890.12"]),
    ("decimal", Field(), COMMA, ["1.234,50", "1234,5", "1234,500"]),
    ("decimal", Notation(",", " "), None, ["1 234,5", "1\u00a0234,5", "1\u202f234,5"]),
    ("money", Field(), POINT, ["5", "€5", "5 €", "EUR 5.00", "5.0 kr", "$ 5"]),
    ("money", Field(), COMMA, ["-1.000,00 €", "−1000", "-€1.000"]),
    ("flag", Field(), POINT, ["yes", "TRUE", "1", "Y", "on", "да"]),
    ("flag", SHOWN, POINT, ["shown", "Shown", "yes"]),
    ("date", Field(), POINT, ["2026-05-12", "2026-05-12T00:00:00", "2026-05-12 00:00"]),
    ("date", Field(), POINT, ["2026-05-12T10:30:00Z", "2026-05-12 10:30Z"]),
    ("date", Field("date", date_form="DD.MM.YYYY"), POINT, ["12.05.2026", "12.5.2026", "2026-05-12"]),
    ("date", Field("date", date_form="MM/DD/YYYY hh:mm"), POINT, ["05/12/2026 10:30", "2026-05-12T10:30:00"]),
    ("choice", Field(), POINT, ["gold lid", "gold lid "]),
    ("list", TAGS, POINT, ["a, b,c", "c,b,a", "b , c,a,,", "a,a,b,c"]),
    ("list", ORDER, POINT, ["a|b", "a | b"]),
    ("path", PATH, POINT, ["Hives > Parts", "Hives>Parts", "Hives  >  Parts"]),
    ("path", PATHS, POINT, ["Hives > Parts|Offers", "Offers | Hives>Parts"]),
    ("measure", Field(), POINT, ["250 ml", "0.25 l", "250mL", "25 cl", "0.250 L"]),
    ("measure", Field(), COMMA, ["1,5 kg", "1500 g", "1.500 g"]),
    ("measure", Field(), POINT, ["1 in", '1"', "2.54 cm", "25.4mm"]),
    (
        "json",
        Field(),
        POINT,
        ['{"a":1,"b":[true,null]}', '{ "b": [true, null], "a": 1.0 }', '{"a":10e-1,"b":[true,null]}'],
    ),
    ("link", Field(), POINT, ["https://Example.org/A", "HTTPS://example.org/A "]),
    ("image", PICTURES, POINT, ["img/a.jpg;img/b.jpg", "img/a.jpg; img/b.jpg"]),
]


@pytest.mark.parametrize("kind, field, writing, texts", SAME, ids=[f"{n}-{one[0]}" for n, one in enumerate(SAME)])
def test_what_is_written_differently_is_the_same_value(kind, field, writing, texts):
    if isinstance(field, Notation):
        field, writing = Field(kind), field
    found = values(kind, texts, field, writing)
    assert None not in found
    assert len(set(found)) == 1


DIFFERENT = [
    ("text", Field(), ["a b", "a  b", "A b", "a\nb", "ab"]),
    ("code", Field(), ["00417", "417", "417.0", " 417", "00417 "]),
    ("decimal", Field(), ["19.9", "19.91", "-19.9", "199", "0.199"]),
    ("decimal", Field(), ["12345678901234567890.12", "12345678901234567890.13"]),
    ("choice", Field(), ["250 ml", "250 mL", "250ml"]),
    ("list", TAGS, ["a", "a,b", "b", "ab"]),
    ("list", ORDER, ["a|b", "b|a"]),
    ("path", PATH, ["Hives > Parts", "Hives", "Parts > Hives", "hives > parts"]),
    ("measure", Field(), ["250 ml", "250 g", "251 ml", "250 l"]),
    (
        "json",
        Field(),
        ['{"a":1}', '{"a":"1"}', '{"a":[1]}', "[1,2]", "[2,1]", '{"a":1.0000000000000000000000000000001}'],
    ),
    ("link", Field(), ["https://example.org/A", "https://example.org/a", "http://example.org/A"]),
    ("image", PICTURES, ["a.jpg;b.jpg", "b.jpg;a.jpg", "A.jpg;b.jpg"]),
    ("date", Field(), ["2026-05-12", "2026-12-05", "2026-05-12T10:30:00", "2026-05-12T10:30:00Z", "2026-05-12Z"]),
]


@pytest.mark.parametrize("kind, field, texts", DIFFERENT, ids=[f"{n}-{one[0]}" for n, one in enumerate(DIFFERENT)])
def test_what_differs_in_value_differs(kind, field, texts):
    found = values(kind, texts, field)
    assert len(set(found)) == len(texts)


UNREADABLE = {
    "integer": (Field(), ["5.5", "five", "1e3", "5 pcs", "-", "1,000"]),
    "decimal": (Field(), ["12-May", "1,5", "1.2.3", "1 234", "1e3", "#N/A", "5.", "٣"]),
    "money": (Field(), ["call us", "€", "12.05.2026", "5 € 6"]),
    "flag": (Field(), ["maybe", "shown", "2"]),
    "date": (Field(), ["2026-02-30", "12.05.2026", "12-May", "2026-5-1", "2026-05-12 25:00", "46154"]),
    "choice": (Field("choice", values=["a", "b"]), ["c", "A"]),
    "path": (PATH, ["> Parts", "Hives >", "Hives >> Parts"]),
    "measure": (Field(), ["250", "ml", "250 foo", "1 3/8 in"]),
    "json": (Field(), ["{", "nope", "NaN", "{'a': 1}", "[1,]"]),
    "link": (Field(), ["see below", "https://example.org/a b"]),
}


@pytest.mark.parametrize("kind", UNREADABLE)
def test_what_a_kind_cannot_read_is_no_value(kind):
    field, texts = UNREADABLE[kind]
    assert values(kind, texts, field) == [None] * len(texts)


def test_every_kind_of_the_store_file_is_there():
    assert list(KINDS) == list(get_args(KindName))
    assert all(kind.name == name for name, kind in KINDS.items())


PLACES = st.integers(0, 4)
NUMBERS = st.decimals(allow_nan=False, allow_infinity=False, places=3, min_value=-(10**12), max_value=10**12)
WRITINGS = st.sampled_from(
    [POINT, COMMA, Notation(".", ","), Notation(",", " "), Notation(".", "'"), Notation(",", "")]
)


def typed(number: Decimal, writing: Notation, grouped: bool) -> str:
    """A number as a person in some country types it."""
    text = f"{number:,f}" if grouped and writing.thousands_mark else f"{number:f}"
    return text.translate({ord(","): writing.thousands_mark, ord("."): writing.decimal_mark})


@in_two_lengths(st.lists(NUMBERS, min_size=1, max_size=8), WRITINGS, WRITINGS, st.booleans(), PLACES, few=60, many=300)
def test_numbers_keep_their_value_from_any_way_of_writing_to_any_other(numbers, theirs, ours, grouped, places):
    field = Field("money", decimals=places)
    texts = pl.Series([typed(number, theirs, grouped) for number in numbers])
    read = KINDS["money"].read(texts, field, theirs)
    assert [Decimal(text) for text in read] == numbers
    written = KINDS["money"].write(read, texts, field, ours)
    again = KINDS["money"].read(written, field, ours)
    assert again.to_list() == read.to_list()
    for text in written:
        decimals = text.rpartition(ours.decimal_mark)[2] if ours.decimal_mark in text else ""
        assert len(decimals) >= min(places, 3) or places == 0
    assert KINDS["money"].write(again, written, field, ours).to_list() == written.to_list()


@given(
    st.dates(),
    st.times().map(lambda t: t.replace(microsecond=0)),
    st.sampled_from(["DD.MM.YYYY hh:mm:ss", "MM/DD/YYYY hh:mm:ss", "YYYY-MM-DD hh:mm:ss"]),
)
def test_dates_keep_their_value(day, time, form):
    if day.year < 1000:
        return
    text = f"{day}T{time}"
    read = KINDS["date"].read(pl.Series([text]), Field("date"), POINT)
    written = KINDS["date"].write(read, read, Field("date", date_form=form), POINT)
    assert KINDS["date"].read(written, Field("date", date_form=form), POINT).to_list() == read.to_list()


@given(st.lists(st.text(max_size=6), min_size=1, max_size=5))
def test_texts_fold_as_unicode_says(texts):
    assert values("text", texts) == [value(text) for text in texts]


JSON = st.recursive(
    st.none() | st.booleans() | st.integers() | st.text(max_size=3),
    lambda inner: st.lists(inner, max_size=3) | st.dictionaries(st.text(max_size=2), inner, max_size=3),
)


@in_two_lengths(JSON, JSON, few=60, many=300)
def test_json_is_equal_by_value(one, other):
    texts = [json.dumps(one), json.dumps(one, indent=1, ensure_ascii=False), json.dumps(other)]
    first, again, second = values("json", texts)
    assert first == again
    same = json.dumps(one, sort_keys=True) == json.dumps(other, sort_keys=True)
    assert (first == second) == same


def told(**fields: Field) -> Store:
    return Store(writing=POINT, key=Key(["sku"]), fields={"sku": Field("code"), **fields})


def cells(live: list[list[str]], sheet: list[list[str]], store: Store | None, headings: list[str], **more):
    """Per key: the cells that change, and what is held; and how many are only written differently."""
    changes = compare(catalogue((headings, live)), catalogue((headings, sheet)), store=store, **more)
    found = {item.key["sku"]: (item.cells, [held.reason for held in item.held]) for item in changes.iter_items()}
    return found, changes.header.counts.written_differently, changes


def test_only_values_are_sent_and_as_the_store_writes_them():
    store = told(
        price=Field("money", decimals=2),
        on=Field("flag", yes=["shown"], no=["hidden"]),
        from_=Field("date", date_form="DD/MM/YYYY"),
        tags=TAGS,
        name=Field(),
    )
    live = [
        ["a", "19.90", "shown", "01/02/2026", "x,y", "Crème"],
        ["b", "5.00", "hidden", "03/02/2026", "x", "Wax"],
        ["c", "7.00", "shown", "", "", ""],
    ]
    sheet = [
        ["a", "19,9", "Shown", "2026-02-01", "x,y ", "Cre\u0300me "],
        ["b", "1.234,5", "SHOWN", "2026-02-28", "x, z", "Wax"],
        ["c", "12-May", "maybe", "30.02.2026", "x", " "],
    ]
    found, differently, changes = cells(
        live, sheet, store, ["sku", "price", "on", "from_", "tags", "name"], with_new_values=["tags"]
    )
    assert found == {
        "b": (
            {
                "price": ("5.00", "1234.50"),
                "on": ("hidden", "shown"),
                "from_": ("03/02/2026", "28/02/2026"),
                "tags": ("x", "x, z"),
            },
            [],
        ),
        "c": (
            {"price": ("7.00", "12-May"), "on": ("shown", "maybe"), "from_": ("", "30.02.2026"), "tags": ("", "x")},
            ["damage: a date where a number goes", "check: unreadable", "check: unreadable"],
        ),
    }
    assert (differently, changes.header.rewritten) == (5, dict.fromkeys(["price", "on", "from_", "tags", "name"], 1))
    assert changes.header.sheet_writing.decimal_mark == ","


WORDS = [["a", "19.90", "shown", "x,y"], ["b", "5.00", "hidden", "x"]]


def test_what_no_program_does_is_a_change_though_the_value_is_the_same():
    """Another currency, another word for yes, another order, another unit: seen, and sent as typed or held."""
    store = told(price=Field("money", decimals=2), on=Field("flag", yes=["shown"], no=["hidden"]), tags=TAGS)
    sheet = [["a", "19.90 €", "TRUE", "y,x"], ["b", "05.00", "hidden", "x,x"]]
    found, differently, _ = cells(WORDS, sheet, store, ["sku", "price", "on", "tags"])
    assert found == {
        "a": (
            {"price": ("19.90", "19.90 €"), "on": ("shown", "TRUE"), "tags": ("x,y", "y,x")},
            ["damage: currency sign", "check: unreadable"],
        ),
        "b": ({"price": ("5.00", "05.00"), "tags": ("x", "x,x")}, []),
    }
    assert differently == 0


def test_a_field_is_compared_by_value_or_by_text_where_the_store_file_says_so():
    sheet = [["a", "19.9", "shown", "y, x"], ["b", "5.00 ", "hidden", "x"]]
    headings = ["sku", "price", "on", "tags"]
    store = told(price=Field("money", decimals=2, same="text"), tags=Field("list", separator=",", same="value"))
    found, differently, _ = cells(WORDS, sheet, store, headings)
    assert found == {"a": ({"price": ("19.90", "19.9")}, []), "b": ({"price": ("5.00", "5.00 ")}, [])}
    assert differently == 1
    found, _, changes = cells(
        WORDS, sheet, told(price=Field("money", decimals=2), tags=TAGS), headings, exact=["price"]
    )
    assert found["b"] == ({"price": ("5.00", "5.00 ")}, []) and found["a"][0]["price"] == ("19.90", "19.9")
    assert changes.header.settings["price"].same == "text"
    # A list in a language of its own, with a mapping file, is compared by value.
    found, differently, _ = cells(WORDS, sheet, told(price=Field("money"), tags=TAGS), headings, mapping=ListMapping())
    assert (found, differently) == ({}, 3)


def test_without_a_store_file_kinds_are_learned_from_live_and_harm_nothing():
    live = [[f"q{n}", f"{n}.90", "a, b" if n % 2 else "b, a", f"T-{n}"] for n in range(1, 40)]
    sheet = [list(row) for row in live]
    sheet[0][1:] = ["1.9", "a, b", "T-1"]
    sheet[1][1:] = ["call us", "a,b,c", "t-2"]
    found, differently, changes = cells(live, sheet, None, ["sku", "price", "tags", "part"])
    assert found == {
        "q2": ({"price": ("2.90", "call us"), "tags": ("b, a", "a,b,c"), "part": ("T-2", "t-2")}, ["check: unreadable"])
    }
    assert differently == 1
    assert changes.header.learned
    # What a sample let pass is text, after all: nothing is held for a kind that live itself does not keep to.
    live.append(["q0", "on request", "", "x"])
    sheet.append(["q0", "ask us", "", "x"])
    found, _, _ = cells(live, sheet, None, ["sku", "price", "tags", "part"])
    assert found["q0"] == ({"price": ("on request", "ask us")}, [])


def test_emptying_a_required_field_is_held_whatever_blanks_mean():
    store = told(price=Field("money", required=True), note=Field())
    for blanks, held in (("hold", ["check: required", "emptied"]), ("clear", ["check: required"])):
        found, _, _ = cells([["a", "1", "x"]], [["a", "", ""]], store, ["sku", "price", "note"], blanks=blanks)
        assert found["a"] == ({"price": ("1", ""), "note": ("x", "")}, held)


@pytest.mark.parametrize(
    "sheet, mark",
    [
        (["19,90", "1.234,50"], ","),
        (["19.90", "1,234.50"], "."),
        (["1.234", "5.678"], "."),
        (["1.234", "19,90"], ","),
        (["1,234", "5"], "."),
        (["19,90", "12.50"], "."),
    ],
)
def test_the_sheet_s_decimal_mark_is_found_where_it_is_plain(sheet, mark):
    """1,234 alone may mean either, so that is read as live writes numbers, and 19,90 beside 12.50 proves nothing."""
    store = told(price=Field("money"))
    live = [[f"q{n}", "1"] for n in range(len(sheet))]
    _, _, changes = cells(live, [[f"q{n}", text] for n, text in enumerate(sheet)], store, ["sku", "price"])
    assert changes.header.sheet_writing.decimal_mark == mark


def test_what_may_mean_two_amounts_is_held():
    """1.234 may be a thousand or one and a bit, whatever other cells show."""
    store = told(price=Field("money", decimals=2))
    live = [["a", "900.00"], ["b", "900.00"]]
    found, _, _ = cells(live, [["a", "1.234"], ["b", "19,90"]], store, ["sku", "price"])
    assert found["a"] == ({"price": ("900.00", "1.234")}, ["check: unreadable"])
    assert found["b"] == ({"price": ("900.00", "19.90")}, [])
    found, _, _ = cells(live, [["a", "1.234"], ["b", "2.119,90"]], store, ["sku", "price"])
    assert found["a"] == ({"price": ("900.00", "1.234")}, ["check: unreadable"])
    assert found["b"] == ({"price": ("900.00", "2119.90")}, [])


@pytest.mark.parametrize(
    "dates, form",
    [
        (["04.03.2019", "28.02.2020", ""], "DD.MM.YYYY"),
        (["03/28/2019", "04/03/2019"], "YYYY-MM-DD"),
        (["03/04/2019", "04/03/2019"], "YYYY-MM-DD"),
        (["12-May", "2019-03-05"], "YYYY-MM-DD"),
        ([f"{day}.03.2019" for day in range(10, 31)] + ["12-May"], "DD.MM.YYYY"),
    ],
)
def test_the_sheet_s_date_form_is_found_where_it_is_plain(dates, form):
    """03/04/2019 beside 04/03/2019 may be March or April, so it is held; so is a stray cell among plain ones."""
    store = Store(writing=Notation(".", "", "YYYY-MM-DD"), key=Key(["sku"]), fields={"from_": Field("date")})
    live = [[f"q{n}", "2018-01-01"] for n in range(len(dates))]
    _, _, changes = cells(live, [[f"q{n}", text] for n, text in enumerate(dates)], store, ["sku", "from_"])
    assert changes.header.sheet_writing.date_form == form
    if dates[0] == "03/28/2019":  # which is no other day
        assert changes.sent()["after"].to_list() == ["2019-03-28"]


@pytest.mark.parametrize(
    "typed, sent", [("20.90 €", "€20.90"), ("21€", "€21.00"), ("€ 22.50", "€22.50"), ("-3€", "-€3.00")]
)
def test_an_amount_goes_out_in_lives_currency_on_whichever_side_it_was_typed(run, put, typed, sent):
    put("live.csv", "sku,price\nA,€19.90\n")
    put("sheet.csv", f"sku,price\nA,{typed}\n")
    put("neat-delta.toml", 'version = 1\n[checks]\nnegative = "off"\n[fields.price]\nkind = "money"\ndecimals = 2\n')
    run("compare", "live.csv", "sheet.csv", "-o", "c.jsonl")
    (item,) = json.loads(run("preview", "c.jsonl", "--json").stdout)["items"]
    assert (item["item"]["cells"], item["item"]["held"]) == ({"price": ["€19.90", sent]}, [])
    put("sheet.csv", "sku,price\nA,19.9 €\n")
    assert json.loads(run("compare", "live.csv", "sheet.csv", "--json").stdout)["header"]["counts"]["cells"] == 0
    put("sheet.csv", f"sku,price\nA,{typed.replace('€', '$')}\n")
    held = json.loads(run("compare", "live.csv", "sheet.csv", "--json").stdout)["reasons"]
    assert [one["reason"] for one in held] == ["check: unreadable"]
