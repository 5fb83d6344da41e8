"""Law 15: whatever a value's origin, it is read, checked and decided alike, and what rests on a held cell is held."""

from __future__ import annotations

import json
import random
from decimal import Decimal
from itertools import cycle, islice
from typing import Any

import msgspec
import polars as pl
import pytest
from hypothesis import strategies as st

import neat_delta
from neat_delta import Accept, Importer, as_catalogue, compare, translate
from neat_delta.core.base.model.layout import Notation
from neat_delta.core.base.model.lists import ListMapping
from neat_delta.core.base.model.rules import Rule, Rules
from neat_delta.core.base.model.store import Field, Key, Store
from tests.conftest import in_two_lengths
from tests.test_signoff import answered, rows_of

LIVE = """\
sku,name,price,cost,stock,status
QA-1,Hive,20.00,10.00,5,A
QA-2,Frame,2.20,1.10,50,D
QA-3,Wax,9.90,4.00,7,A
QA-4,Jar,1.20,0.40,70,A
QA-5,Veil,30.00,15.00,9,D
"""
STORE = """\
version = 1
key = { fields = ["sku"], name = "name" }
[fields.name]
required = true
[fields.price]
kind = "money"
decimals = 2
least = 0.5
[fields.cost]
kind = "money"
decimals = 2
largest_change = 60
[fields.stock]
kind = "integer"
[fields.status]
kind = "choice"
values = ["A", "D"]
"""
MAPPING = """\
version = 1
match_by = ["sku"]
[headings]
Art = "sku"
Trade = "cost"
State = "status"
"""


@pytest.fixture
def shop(put):
    put("live.csv", LIVE)
    put("neat-delta.toml", STORE)
    return put


def cells(path, kept="after"):
    """The changed cells of a change set by SKU and field: their texts after, or why they are held."""
    changes = neat_delta.read_changes(str(path))
    rows = changes.cells.with_columns(sku=changes.keys["sku"].gather(changes.cells["item"]))
    out = {(sku, str(name)): text for sku, name, text in rows.select("sku", "field", kept).iter_rows()}
    return {cell: text for cell, text in out.items() if text is not None}


def test_a_choice_by_rule_is_checked(shop, run, tmp_path):
    done = run("edit", "live.csv", "--set", "status = 'hidden'", "--where", "status = 'A'", "-o", "c.jsonl")
    assert done.returncode == 1 and "Nothing to send, 3 held" in done.stdout
    assert set(cells(tmp_path / "c.jsonl", "held").values()) == {"check: unreadable"}


@pytest.mark.parametrize(
    "more", ['[constants]\nstatus = "hidden"\n', '[words.status]\naktiv = "hidden"\n'], ids=["constant", "word"]
)
def test_a_choice_of_a_list_is_checked(shop, run, tmp_path, more):
    shop("list.csv", "Art,State\nQA-1,aktiv\n" if "words" in more else "Art\nQA-1\n")
    mapping = MAPPING.replace('Trade = "cost"\n', "")
    shop("m.toml", (mapping if "words" in more else mapping.replace('State = "status"\n', "")) + more)
    done = run("compare", "live.csv", "list.csv", "--mapping", "m.toml", "-o", "c.jsonl")
    assert done.returncode == 1 and "Nothing to send, 1 held" in done.stdout, done.stdout + done.stderr
    assert "hidden is not a choice" in done.stdout


def test_the_default_is_a_cell_of_a_new_item(shop, run, tmp_path):
    shop("neat-delta.toml", STORE + '[importer]\nblanks = "skip"\ndefaults = { status = "hidden", stock = "0" }\n')
    shop("sheet.csv", "sku,name,price,cost\nQA-9,Lid,3.00,1.00\n")
    done = run("compare", "live.csv", "sheet.csv", "--with-new", "-o", "c.jsonl")
    assert done.returncode == 1 and "hidden is not a choice" in done.stdout, done.stdout
    assert cells(tmp_path / "c.jsonl")["QA-9", "stock"] == "0"
    shown = run("preview", "c.jsonl").stdout
    assert "stock" in shown and "hidden" in shown
    assert "what the importer gives a new item" in run("preview", "c.jsonl", "--explain", "QA-9").stdout
    run("write", "c.jsonl", "--to", "out")
    sent = "".join(one.read_text(encoding="utf-8") for one in sorted((tmp_path / "out").glob("update*.csv")))
    assert "hidden" not in sent


@pytest.mark.parametrize(
    ("rule", "reason"),
    [
        ("price = 0.10", "check: outside-bounds"),
        ("cost = cost * 2", "check: large-change"),
        ("name = NULL", "check: required"),
        ("stock = -3", "check: negative"),
    ],
)
def test_what_a_rule_sets_is_checked_as_typed_by_hand(shop, run, tmp_path, rule, reason):
    run("edit", "live.csv", "--set", rule, "--where", "sku = 'QA-1'", "-o", "c.jsonl")
    assert list(cells(tmp_path / "c.jsonl", "held").values()) == [reason]


LIST = "Art,Trade\nQA-1,30.00\nQA-2,1.20\n"
RULES = """\
version = 1
[[rule]]
name = "retail"
set = { price = "ROUND(cost * 2, 2)" }
"""


def compared(shop, run, *more):
    shop("list.csv", LIST)
    shop("m.toml", MAPPING)
    return run("compare", "live.csv", "list.csv", "--mapping", "m.toml", *more, "-o", "c.jsonl")


def test_what_rests_on_a_held_cell_is_held_a_price_of_a_held_cost(shop, run, tmp_path):
    shop("r.toml", RULES)
    done = compared(shop, run, "--rules", "r.toml")
    held = cells(tmp_path / "c.jsonl", "held")
    assert held == {("QA-1", "cost"): "check: large-change", ("QA-1", "price"): "follows: cost is held"}
    assert "computed from a cell that is held" in done.stdout
    done = compared(shop, run, "--rules", "r.toml", "--accept", "large-change:QA-1")
    assert not cells(tmp_path / "c.jsonl", "held") and done.returncode == 0
    assert cells(tmp_path / "c.jsonl")["QA-1", "price"] == "60.00"


@pytest.mark.parametrize(
    "rule",
    ['price = "ROUND(sheet.Trade * 2, 2)"', 'price = "ROUND(sheet.cost * 2, 2)"'],
    ids=["by the list's heading", "by the field"],
)
def test_what_rests_on_a_held_cell_is_held_by_whatever_name_it_is_read(shop, run, tmp_path, rule):
    shop("r.toml", RULES.replace('price = "ROUND(cost * 2, 2)"', rule))
    compared(shop, run, "--rules", "r.toml")
    assert cells(tmp_path / "c.jsonl", "held")["QA-1", "price"] == "follows: cost is held"


def test_what_rests_on_a_held_cell_is_held_by_the_condition(shop, run, tmp_path):
    shop("r.toml", 'version = 1\n[[rule]]\nname = "dear"\nwhere = "cost > 20"\nset = { stock = "0" }\n')
    compared(shop, run, "--rules", "r.toml")
    assert cells(tmp_path / "c.jsonl", "held")["QA-1", "stock"] == "follows: cost is held"


def test_what_rests_on_a_held_cell_is_held_by_what_is_looked_up(shop, run, tmp_path):
    shop("t.csv", "at,stock\n30.00,3\n1.20,4\n")
    shop(
        "r.toml",
        'version = 1\n[table.t]\nfile = "t.csv"\nby = { at = "CAST(cost AS TEXT)" }\n'
        '[[rule]]\nname = "t"\nset = { name = "t.stock" }\n',
    )
    compared(shop, run, "--rules", "r.toml")
    assert cells(tmp_path / "c.jsonl", "held")["QA-1", "name"] == "follows: cost is held"
    assert cells(tmp_path / "c.jsonl")["QA-2", "name"] == "4"


def test_what_rests_on_a_held_cell_is_held_through_what_was_computed_of_it(shop, run, tmp_path):
    more = '[[rule]]\nname = "count"\nset = { stock = "CEIL(price)" }\n'
    shop("r.toml", RULES + more)
    compared(shop, run, "--rules", "r.toml")
    assert cells(tmp_path / "c.jsonl", "held")["QA-1", "stock"] == "follows: price is held"
    assert ("QA-2", "stock") in cells(tmp_path / "c.jsonl")


def test_what_rests_on_a_held_cell_is_held_not_what_was_put_in_its_place(shop, run, tmp_path):
    more = '[[rule]]\nname = "fixed"\nover = "retail"\nset = { price = "11.90" }\n'
    shop("r.toml", RULES + more)
    compared(shop, run, "--rules", "r.toml")
    assert list(cells(tmp_path / "c.jsonl", "held")) == [("QA-1", "cost")]


def test_what_rests_on_a_held_cell_is_held_not_what_is_computed_of_lives(shop, run, tmp_path):
    shop("r.toml", RULES.replace("cost * 2", "live.cost * 3"))
    compared(shop, run, "--rules", "r.toml")
    assert list(cells(tmp_path / "c.jsonl", "held")) == [("QA-1", "cost")]


def test_what_rests_on_a_held_cell_is_held_a_doubtful_cost(shop, run, tmp_path):
    shop("r.toml", RULES)
    shop("list.csv", "Art,Trade\nQA-1,11.00\nQA-2,1.100\n")
    shop("m.toml", MAPPING)
    run("compare", "live.csv", "list.csv", "--mapping", "m.toml", "--rules", "r.toml", "-o", "c.jsonl")
    assert ("QA-2", "price") not in cells(tmp_path / "c.jsonl") or ("QA-2", "price") in cells(
        tmp_path / "c.jsonl", "held"
    )


def test_what_rests_on_a_held_cell_is_held_a_cost_that_a_reviewer_refuses(shop, run, tmp_path):
    shop("r.toml", RULES)
    compared(shop, run, "--rules", "r.toml", "--accept", "large-change")
    run("preview", "c.jsonl", "--workbook", "book.xlsx")
    said = {(sku, field): "yes" for sku in ("QA-1", "QA-2") for field in ("cost", "price")}
    answered(rows_of(tmp_path / "book.xlsx"), tmp_path / "book.xlsx", said | {("QA-1", "cost"): "no"})
    done = run("write", "c.jsonl", "--to", "out", "--importer-blanks", "skip", "--signed-off", "book.xlsx")
    manifest = json.loads((tmp_path / "out" / "manifest.json").read_text(encoding="utf-8"))
    reasons = {one["reason"] for one in manifest["held_before"]}
    assert reasons == {"answered no", "follows: cost is held"}, done.stdout + done.stderr
    sent = [one.read_text(encoding="utf-8") for one in (tmp_path / "out").glob("update*.csv")]
    assert sent and "QA-1" not in "".join(sent)


def test_what_rests_on_a_held_cell_is_held_a_value_that_the_importer_cannot_take(shop, run, tmp_path):
    shop(
        "r.toml",
        """\
version = 1
[[rule]]
name = "gone"
where = "sku = 'QA-1'"
set = { status = "NULL" }
[[rule]]
name = "none"
where = "status IS NULL"
set = { stock = "0" }
""",
    )
    run("edit", "live.csv", "--rules", "r.toml", "-o", "c.jsonl")
    done = run("write", "c.jsonl", "--to", "out", "--importer-blanks", "skip")
    assert "status is not sent" in done.stdout, done.stdout + done.stderr


def test_a_refused_cost_is_a_finding_of_the_price(shop, run, tmp_path):
    shop("r.toml", RULES)
    compared(shop, run, "--rules", "r.toml", "--accept", "large-change")
    run("write", "c.jsonl", "--to", "out", "--importer-blanks", "skip")
    shop("after.csv", LIVE.replace("20.00,10.00", "60.00,10.00").replace("2.20,1.10", "2.40,1.20"))
    done = run("confirm", "c.jsonl", "after.csv")
    assert done.returncode == 1
    assert "QA-1  price: 60.00 landed, and cost did not" in done.stdout
    facts = json.loads(run("confirm", "c.jsonl", "after.csv", "--json").stdout)
    assert facts["resting"] == [
        {"key": {"sku": "QA-1"}, "field": "price", "text": "60.00", "read": "cost", "outcome": "not landed"}
    ]


LAW_STORE = Store(
    key=Key(["sku"]),
    fields={
        "sku": Field("code"),
        "name": Field("text"),
        "price": Field("money", decimals=2, most=Decimal(60)),
        "cost": Field("money", decimals=2, largest_change=Decimal(80)),
        "stock": Field("integer", least=Decimal(0)),
        "status": Field("choice", values=["A", "D"]),
    },
)
BOOK = {
    "retail": Rule("retail", {"price": "ROUND(cost * 2, 2)"}),
    "count": Rule("count", {"stock": "CEIL(price)"}),
    "dear": Rule("dear", {"name": "CAST(cost AS TEXT)"}, where="cost > 10"),
    "shut": Rule("shut", {"status": "'D'"}, where="price > 30"),
    "trade": Rule("trade", {"price": "ROUND(sheet.Trade * 3, 2)"}, over="retail"),
    "more": Rule("more", {"cost": "cost + 1"}),
    "own": Rule("own", {"name": "live.name || '!'"}),
}
RESTS = {
    "retail": {"cost"}, "count": {"price"}, "dear": {"cost"}, "shut": {"price"}, "trade": {"cost"}, "more": {"cost"},
    "own": set(),
}  # fmt: skip
TRADE = ["10.00", "1.100", "1,10", "99.00", "", "abc", "5.50", "#N/A", "31.5", "12", "20.00", "9,99", "€ 7.00", "-4"]
STATE = ["aktiv", "zu", "wie?", ""]
ROWS = st.lists(st.tuples(st.sampled_from(TRADE), st.sampled_from(STATE)), min_size=1, max_size=6)
MANY_ROWS = st.integers(0, 2**32).map(
    lambda seed: [(rng.choice(TRADE), rng.choice(STATE)) for rng in [random.Random(seed)] for _ in range(160)]
)
"""A hundred and sixty items side by side, each a round of its own but for the rules and the rest that is drawn once."""

SAID = st.fixed_dictionaries(
    {
        "book": st.lists(st.sampled_from(sorted(BOOK)), unique=True, max_size=5),
        "shut": st.sampled_from(["D", "Z"]),
        "constant": st.sampled_from([None, "5", "-1", "x"]),
        "accept": st.sampled_from([None, "unreadable", "large-change", "outside-bounds"]),
        "new": st.integers(0, 3),
        "default": st.sampled_from([None, "A", "Z"]),
        "mark": st.sampled_from([None, ",", "."]),
    }
)


@in_two_lengths(ROWS, SAID, few=6, many=60)
def test_what_is_sent_rests_on_what_is_sent_or_was_there(rows, drawn):
    hold_law_15(rows, drawn)


@in_two_lengths(MANY_ROWS, SAID, few=1, many=35)
def test_what_is_sent_of_20_000_items_rests_on_what_is_sent_or_was_there(rows, drawn):
    hold_law_15(rows, drawn)


def hold_law_15(rows: list[tuple[str, str]], drawn: dict[str, Any]) -> None:
    """Of each computed cell all that went into it is sent, or was live's; nothing else is held for it; and typed by
    hand, the same values are held by the same checks.
    """
    book = [name for name in drawn["book"] if name != "trade" or "retail" in drawn["book"]]
    book.sort(key=lambda name: name == "trade")  # which may go over retail
    many = len(rows) + 1
    skus = [f"QA-{number}" for number in range(1, many + 1)]
    live = as_catalogue(
        {
            "sku": skus,
            "name": [f"Jar {sku}" for sku in skus],
            "price": list(islice(cycle(["20.00", "22.00", "9.90", "31.00", "40.00", "11.00", "12.00"]), many)),
            "cost": list(islice(cycle(["10.00", "11.00", "5.50", "15.00", "20.00", "31.50", "12.00"]), many)),
            "stock": ["3"] * many,
            "status": ["A"] * many,
        },
        "live",
    )
    codes = skus[: len(rows)]
    codes[len(rows) - drawn["new"] :] = [f"NB-{number}" for number in range(len(rows))][len(rows) - drawn["new"] :]
    supplied = as_catalogue(
        {"Art": codes, "Trade": [one for one, _ in rows], "State": [one for _, one in rows]}, "list"
    )
    mapping = ListMapping(
        match_by=["sku"],
        headings={"Art": "sku", "Trade": "cost", "State": "status"},
        words={"status": {"aktiv": "A", "zu": drawn["shut"]}},
        constants={} if drawn["constant"] is None else {"stock": drawn["constant"]},
    )
    writing = Notation(decimal_mark=drawn["mark"])
    rules = Rules(rule=[BOOK[name] for name in book if name != "count" or drawn["constant"] is None])
    defaults = {} if drawn["default"] is None else {"status": drawn["default"]}
    store = msgspec.structs.replace(LAW_STORE, importer=Importer(defaults=defaults))
    sheet = translate(live, supplied, mapping, store, rules=rules, writing=writing).sheet
    accept = [Accept(drawn["accept"])] if drawn["accept"] else []
    changes = compare(live, sheet, store=store, accept=accept, with_new=True, writing=writing)

    texts = changes.header.rules
    made: dict[tuple[int, str], list[str]] = {}
    for item, name, number in changes.computed.select("item", "field", "rule").iter_rows():
        made.setdefault((item, name), []).append(texts[number].rule)
    held = {(item, str(name)): why for item, name, why in changes.cells.select("item", "field", "held").iter_rows()}
    away = {cell for cell, why in held.items() if why is not None and not why.startswith("follows: ")}
    while True:
        more = {
            (item, name)
            for (item, name), by in made.items()
            if (item, name) not in away and any((item, read) in away for read in _rests(by) - {name})
        }
        if not more:
            break
        away |= more
    assert {cell for cell, why in held.items() if why is not None} == away

    # The same values, typed by hand.
    by_item: dict[str, dict[str, str]] = {}
    for item, name, after in changes.cells.select("item", pl.col("field").cast(pl.String), "after").iter_rows():
        if (item, name) in made:
            by_item.setdefault(name, {})[changes.keys["sku"][item]] = after
    if not by_item:
        return
    there = sorted({sku for those in by_item.values() for sku in those})
    was = {name: dict(zip(skus, live.cells[name], strict=True)) for name in by_item}
    typed = {name: [those.get(sku, was[name].get(sku, "")) for sku in there] for name, those in by_item.items()}
    again = compare(live, as_catalogue({"sku": there} | typed, "typed"), store=store, accept=accept, with_new=True)
    by_hand = {
        (again.keys["sku"][item], str(name)): why
        for item, name, why in again.cells.select("item", "field", "held").iter_rows()
    }
    for (item, name), why in held.items():
        if (item, name) in made and (why is None or why.startswith("check: ")):
            hand = by_hand[changes.keys["sku"][item], name]
            assert hand == why or (hand or "").startswith(("slip: ", "damage: "))


def _rests(by: list[str]) -> set[str]:
    """What a cell rests on that these rules set one after the other: one that looks at nothing of its own puts another
    value in the place of the one before.
    """
    return RESTS.get(by[-1], set()) | (_rests(by[:-1]) if by[-1] == "more" and len(by) > 1 else set())
