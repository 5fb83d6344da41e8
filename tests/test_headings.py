"""Headings and keys that nearly fit: paired by rule, suggested otherwise, never guessed."""

from __future__ import annotations

import ast
import functools
import json
import random
import re
import tomllib
from collections.abc import Callable, Mapping, Sequence
from pathlib import Path
from typing import Any

import pytest
from hypothesis import strategies as st

import neat_delta
from neat_delta import (
    Accept,
    CatalogueError,
    ChangeSet,
    ColumnMapping,
    Field,
    Key,
    Store,
    as_catalogue,
    compare,
    match_columns,
    translate,
)
from neat_delta.core.base.model.importer import Importer, Removal
from neat_delta.core.base.model.lists import ListMapping
from tests.conftest import LENGTH, each_of, first_of, in_two_lengths
from tests.oracle import catalogue

FIELDS = ["sku", "Sale price", "cost", "stock_level", "name"]


def paired(headings: list[str], **more) -> dict[str, tuple[str | None, str]]:
    return {one.heading: (one.field, one.how) for one in match_columns(headings, FIELDS, **more)}


def test_headings_meet_fields_by_name_then_without_case_and_marks_then_by_other_headings():
    known = {"cost": Field(also=["Trade", "Net cost"]), "name": Field(heading="Bezeichnung", also=["cost price"])}
    found = paired(["sku", "SALE-PRICE", "Stock Level", "net_COST", "Bezeichnung", "Colour"], field_settings=known)
    assert found == {
        "sku": ("sku", "same name"),
        "SALE-PRICE": ("Sale price", "same but for case and marks"),
        "Stock Level": ("stock_level", "same but for case and marks"),
        "net_COST": ("cost", "in the store file"),
        "Bezeichnung": ("name", "same name"),
        "Colour": (None, "unmatched"),
    }


def test_an_unmatched_heading_is_left_out_with_the_nearest_field():
    one, other = match_columns(["sale prize", "zzz"], FIELDS)
    assert (one.field, one.how, one.nearest) == (None, "unmatched", "Sale price")
    assert (other.field, other.how, other.nearest) == (None, "unmatched", None)
    # Two fields that fold to the same name: neither is guessed.
    assert match_columns(["PRICE"], ["price", "Price", "sku"])[0].field is None


def test_what_is_told_comes_first():
    told = ColumnMapping({"name": "cost", "Trade": "name"}, ["stock_level"])
    found = paired(["name", "Trade", "Stock level", "Sale price"], mapping=told, only=["cost", "name"])
    assert found == {
        "name": ("cost", "told"),
        "Trade": ("name", "told"),
        "Stock level": (None, "ignored"),
        "Sale price": (None, "not asked for"),
    }
    saved = ColumnMapping({"Trade": "stock_level", "EK": "cost"}, ["name"])
    found = paired(["Trade", "EK", "name"], mapping=ColumnMapping({"Trade": "name"}), saved=saved)
    assert found == {"Trade": ("name", "told"), "EK": ("cost", "told"), "name": (None, "ignored")}


WRONG = {
    "two headings": (["cost", "COST"], {}, 'the headings "cost" and "COST" both stand for the field "cost"'),
    "told twice": (
        ["cost", "x"],
        {"mapping": ColumnMapping({"x": "cost"})},
        'both stand for the field "cost". Leave one',
    ),
    "no such heading": (
        ["cost"],
        {"mapping": ColumnMapping({"Trade": "cost"})},
        '‹map› names "Trade", and there is no such',
    ),
    "no such field": (["x"], {"mapping": ColumnMapping({"x": "costs"})}, 'in live. Did you mean "cost"?'),
    "only": (["cost"], {"only": ["stocklevel"]}, '‹only› names "stocklevel", and there is no such heading in live'),
    "ignore": (["cost"], {"mapping": ColumnMapping({}, ["colour"])}, '‹ignore› names "colour"'),
}


@pytest.mark.parametrize("headings, more, message", WRONG.values(), ids=WRONG)
def test_what_cannot_be_is_one_clear_error(headings, more, message):
    with pytest.raises(CatalogueError) as error:
        match_columns(headings, FIELDS, **more)
    assert message in str(error.value)


def keys(live: list[str], sheet: list[str], **more):
    """Verdicts by key, and the keys that nearly fit."""
    tables = [
        catalogue((["sku", "price"], [[key, price] for key in some])) for some, price in ((live, "1"), (sheet, "2"))
    ]
    changes = compare(*tables, store=more.pop("store", None), whole=True, **more)
    near = [(one.key["sku"], one.live_key["sku"], one.taken) for one in changes.header.near]
    return {item.key["sku"]: item.verdict for item in changes.iter_items()}, near


def test_keys_are_trimmed_and_otherwise_exact():
    found, near = keys(["QA-1 ", "qa-2"], ["\u00a0QA-1", "qa-2"])
    assert found == {"QA-1 ": "changed", "qa-2": "changed"}  # with the text that live has
    assert near == []


NEAR = [("QA-1", "qa-1"), ("QA-2", "QA\u20112"), ("QA-3", "QA - 3"), ("00417", "417"), ("QA 5", "QA5"), ("ﾀ-6", "タ-6")]


def test_keys_that_nearly_fit_are_reported_and_taken_only_when_told():
    live, sheet = [one for one, _ in NEAR] + ["QA-9"], [other for _, other in NEAR] + ["QA-10"]
    found, near = keys(live, sheet)
    assert near == [(other, one, False) for one, other in NEAR]
    assert all(found[one] == "gone" and found[other] == "new" for one, other in NEAR)
    found, near = keys(live, sheet, accept_near_keys=True)
    assert near == [(other, one, True) for one, other in NEAR]
    assert found == {one: "changed" for one, _ in NEAR} | {"QA-9": "gone", "QA-10": "new"}


SEVERAL = [
    (["QA-1", "qa-1"], ["Qa-1"], ["nearly QA-1 and qa-1"]),
    (["QA-1"], ["qa-1", "Qa-1"], ["nearly QA-1, and so is row 3", "nearly QA-1, and so is row 2"]),
    (["00079"], ["00079", "79"], ["nearly 00079, which row 2 is for"]),
]


@pytest.mark.parametrize("live, sheet, why", SEVERAL)
def test_where_it_is_in_doubt_which_item_a_key_is_near_to_it_is_named_and_never_taken(live, sheet, why):
    tables = [catalogue((["sku", "price"], [[key, n] for key in some])) for some, n in ((live, "1"), (sheet, "2"))]
    changes = compare(*tables, accept_near_keys=True, with_new=True)
    assert [(one.taken, one.why) for one in changes.header.near] == [(False, said) for said in why]
    new = [item for item in changes.iter_items() if item.verdict == "new"]
    assert [item.held[0].reason for item in new] == [f"near: {said}" for said in why]
    meant: dict[str, Any] = {
        "accept_near_keys": True,
        "with_new": True,
        "accept": [Accept("near", sheet[-1])],
    }  # it is another item indeed
    through = {item.key["sku"]: item.held for item in compare(*tables, **meant).iter_items()}
    assert not through[sheet[-1]]


def test_a_new_item_whose_key_nearly_is_an_items_is_held_and_never_a_second_one():
    tables = [catalogue((["sku", "price"], [[key, n]])) for key, n in (("00079", "1"), ("79", "2"))]
    (item,) = [one for one in compare(*tables, with_new=True).iter_items() if one.verdict == "new"]
    assert [one.reason for one in item.held] == ["near: nearly 00079"]


def test_keys_of_several_fields_that_a_spreadsheet_made_of_lives_are_put_back():
    names = ["sku", "location", "stock"]
    live = catalogue((names, [["00079", "ST-01", "4"], ["00080", "MAR-02", "5"], ["00081", "ST-01", "6"]]))
    sheet = catalogue((names, [["79", "ST-01", "5"], ["00080", "2-Mar", "6"], ["81", "st-01", "7"]]))
    changes = compare(live, sheet, store=Store(key=Key(["sku", "location"])), repair=True)
    assert [(one.taken, one.damage) for one in changes.header.near] == [
        (True, "leading zeros lost"),
        (True, "turned into a date"),
        (False, None),  # a person may have typed another location
    ]
    assert {tuple(item.key.values()): item.cells for item in changes.iter_items() if item.verdict == "changed"} == {
        ("00079", "ST-01"): {"stock": ("4", "5")},
        ("00080", "MAR-02"): {"stock": ("5", "6")},
    }


def items_of(run, *options: str) -> list[dict[str, Any]]:
    """The items of the change set that compare writes of the list."""
    run("compare", "live.csv", "list.csv", "--mapping", "list.toml", "--with-new", *options, "-o", "c.jsonl")
    return [one["item"] for one in json.loads(run("preview", "c.jsonl", "--all", "--json").stdout)["items"]]


@pytest.mark.parametrize("mapping", [None, 'match_by = ["barcode"]\nwhole = true\n'])
def test_what_a_row_nearly_is_is_not_gone(run, put, mapping):
    """With all that is asked for: the item would be removed, and one more made in its place."""
    put("live.csv", "sku,barcode,price\n00079,0400980332533,5.00\nQA-1,2900963560864,9.90\nQA-2,2901857437684,4.00\n")
    put("sheet.csv", "sku,barcode,price\n79,400980332533,5.50\nQA-1,2900963560864,9.90\n")
    asked: tuple[str, ...] = ("--whole",)
    if mapping is not None:
        put("list.toml", f"version = 1\n{mapping}")
        asked = ("--mapping", "list.toml")
    run("compare", "live.csv", "sheet.csv", *asked, "--with-gone", "--with-new", "--accept", "slip", "-o", "c.jsonl")
    items = [one["item"] for one in json.loads(run("preview", "c.jsonl", "--all", "--json").stdout)["items"]]
    found = {one["key"]["sku"]: (one["verdict"], [held["reason"] for held in one["held"]]) for one in items}
    assert found["00079"] == ("gone", ["near: a row nearly has its key"])
    assert found["QA-2"] == ("gone", [])
    assert found.get("79", ("new", ["near: nearly 00079"]))[1] != []


NEAR_LIST = """version = 1
match_by = ["sku"]
prefer = "last"
accept_near_keys = true
[headings]
Code = "sku"
Cost = "cost"
"""


def test_near_keys_of_a_list_are_resolved_before_its_rows_are_counted(run, put):
    """One item has several rows that are nearly its own: the last is preferred, and no new item comes of any."""
    put("live.csv", "sku,name,cost\n00078,Veil,5.00\n00079,Hood,6.00\n")
    put("list.csv", "Code,Cost\n78,5.50\n78,5.75\n00079,6.50\n")
    put("list.toml", NEAR_LIST)
    assert [item["cells"] for item in items_of(run)] == [{"cost": ["5.00", "5.75"]}, {"cost": ["6.00", "6.50"]}]
    put("list.toml", NEAR_LIST.replace("accept_near_keys = true\n", ""))
    assert [item["verdict"] for item in items_of(run)] == ["changed"]


def test_what_nearly_is_an_item_is_no_new_item_to_be_filled_in(run, put, tmp_path):
    put("live.csv", "sku,name,barcode,cost\nQA-1,Veil,0400980332533,5.00\nQA-2,Hood,0400946437227,6.00\n")
    put("list.csv", "EAN,cost\n400980332533,5.50\n0400946437227,6.50\n2900999999992,7.00\n")
    put("list.toml", 'version = 1\nmatch_by = ["barcode"]\n[headings]\nEAN = "barcode"\ncost = "cost"\n')
    done = run("compare", "live.csv", "list.csv", "--mapping", "list.toml", "--new-to", "new.csv", "-o", "c.jsonl")
    assert "Wrote new.csv: 1 new item without a code" in done.stdout
    assert "400980332533 for 0400980332533" in done.stdout
    assert "400980332533" not in (tmp_path / "new.csv").read_text()


def test_match_knows_all_that_a_mapping_says_and_tells_what_becomes_of_each_row(run, put):
    put("live.csv", "sku,name,brand,st01,st02,cost\nQA-1,Veil,Gustwell,1,2,5.00\nQA-2,Hood,Gustwell,3,4,6.00\n")
    put(
        "stock.csv",
        "Item,Place,Count,Maker\nQA-1,one,5,x\nQA-1,two,6,x\nQA-2,one,7,x\nQA-9,one,8,x\nQA-2,five,1,x\nTotal,,27,\n",
    )
    put(
        "stock.toml",
        'version = 1\nignore = ["Maker"]\n[headings]\nItem = "sku"\n[constants]\nbrand = "Waxbrook"\n'
        '[spread]\nby = "Place"\nvalue = "Count"\n[spread.columns]\none = "st01"\ntwo = "st02"\n',
    )
    done = run("match", "live.csv", "stock.csv", "--mapping", "stock.toml", "--json")
    facts = json.loads(done.stdout)
    assert (done.returncode, done.stderr) == (0, "")
    assert {pair["heading"]: (pair["field"], pair["how"]) for pair in facts["pairs"]} == {
        "Item": ("sku", "told"),
        "Maker": (None, "ignored"),
        "Place": ("Place", "told"),
        "Count": ("st01, st02", "told"),
        "": ("brand", "constant"),
    }
    assert facts["pairs"][0]["sheet"] == facts["pairs"][0]["live"] == ["QA-1", "QA-2"]
    rows = facts["rows"]
    assert rows["read"] == 6 == rows["matched"] + rows["new"] + rows["folded"] + sum(rows["set_aside"].values())
    assert (rows["matched"], rows["new"], rows["folded"]) == (2, 1, 1)
    text = run("match", "live.csv", "stock.csv", "--mapping", "stock.toml").stdout
    assert "6 rows: 2 with an item, 1 new, 1 put into another one's row" in text
    compared = run("compare", "live.csv", "stock.csv", "--mapping", "stock.toml").stdout
    assert re.search(r"put into another one's row +· +1", compared)


def test_the_table_of_compare_adds_up_where_a_row_goes_to_several_items(run, put):
    put("live.csv", "sku,barcode,cost\nQA-1,29001,5.00\nQA-2,29002,6.00\nQA-3,29002,6.50\n")
    put("list.csv", "barcode,cost\n29001,5.10\n29002,6.60\n29002,6.60\n,\n")
    put("list.toml", 'version = 1\nmatch_by = ["barcode"]\nfits_several = "all"\n')
    said = run("compare", "live.csv", "list.csv", "--mapping", "list.toml").stdout
    rows = dict(re.findall(r"^(changed|set aside|again, for another item|rows read) +\S+ +(\S+)$", said, re.MULTILINE))
    assert rows == {"changed": "3", "set aside": "2", "again, for another item": "−1", "rows read": "4"}


def test_match_shows_no_values_of_different_items_side_by_side(run, put):
    put("live.csv", "sku,cost\nQA-1,5.00\nQA-2,\n")
    put("sheet.csv", "sku,cost\nQA-2,7.00\nQA-8,8.00\n")
    (_, cost) = json.loads(run("match", "live.csv", "sheet.csv", "--json").stdout)["pairs"]
    assert (cost["sheet"], cost["live"]) == (["7.00"], [""])
    put("sheet.csv", "sku,cost\nQA-7,7.00\nQA-1,\n")
    (_, cost) = json.loads(run("match", "live.csv", "sheet.csv", "--json").stdout)["pairs"]
    assert (cost["sheet"], cost["live"]) == (["7.00"], [])


def test_case_is_ignored_when_the_store_file_says_so():
    store = Store(key=Key(["sku"], ignore_case=True))
    found, _ = keys(["QA-1", "QA-2", "qa-2"], ["qa-1", "QA-2"], store=store)
    assert found == {"QA-1": "changed"}  # QA-2 stands twice in live now


SUPPLIER = "Art. No.;Trade;EAN;Stock\nQA-1001;70,00;2900096541266;5\nqa-1002;1.128,75;2901074474156;18\n"


def test_match_shows_the_pairing_and_keeps_it_for_compare(run, store, put):
    put("supplier.csv", SUPPLIER)
    bare = run("match", "live.csv", "supplier.csv", "--key", "barcode", "--map", "EAN=barcode")
    assert bare.returncode == 1
    text = " ".join(bare.stdout.split())
    assert "Art. No. none" in text
    assert "EAN barcode told 2900096541266 2900096541266" in text
    assert "2 headings paired, 2 left out." in text
    told = ["--map", "Art. No.=sku", "--map", "Trade=cost", "--ignore", "EAN"]
    done = run("match", "live.csv", "supplier.csv", *told, "--save", "supplier.toml")
    assert (done.returncode, done.stderr) == (0, "")
    assert "Wrote supplier.toml. Use it: neat-delta compare live.csv supplier.csv --mapping supplier.toml" in " ".join(
        done.stdout.split()
    )
    kept = tomllib.loads((store / "supplier.toml").read_text())
    assert (kept["match_by"], kept["ignore"]) == (["sku"], ["EAN"])
    compared = run("compare", "live.csv", "supplier.csv", "--mapping", "supplier.toml", "--accept-near-keys", "--json")
    header = json.loads(compared.stdout)["header"]
    assert header["counts"]["changed"] == 2
    assert header["near"] == [
        {
            "row": 3,
            "key": {"sku": "qa-1002"},
            "live_key": {"sku": "QA-1002"},
            "taken": True,
            "damage": None,
            "why": None,
        },
    ]
    assert header["sheet_writing"]["decimal_mark"] == ","
    only = run("compare", "live.csv", "supplier.csv", "--mapping", "supplier.toml", "--only", "stock", "--json")
    assert json.loads(only.stdout)["header"]["fields"] == ["stock"]
    (store / "supplier.toml").write_text('version = 1\n[headings]\n"Art. No." = "skuu"\n')
    failed = run("compare", "live.csv", "supplier.csv", "--mapping", "supplier.toml")
    assert (failed.returncode, failed.stdout) == (2, "")
    why = 'supplier.toml, line 3, headings."Art. No.": there is no field "skuu". Did you mean "sku"?'
    assert failed.stderr == f"Error: {why}\n"


def test_match_prints_the_same_facts_as_json(run, store, put):
    put("supplier.csv", SUPPLIER)
    done = run("match", "live.csv", "supplier.csv", "--map", "Art. No.=sku", "--json")
    facts = json.loads(done.stdout)
    assert facts["key"] == ["sku"]
    assert facts["pairs"][3] == {
        "heading": "Stock",
        "field": "stock",
        "how": "same but for case and marks",
        "nearest": None,
        "kind": "integer",
        "sheet": ["5"],
        "live": ["0"],
    }
    assert run("match", "live.csv", "supplier.csv", "--map", "Art. No.").returncode == 2
    failed = run("match", "live.csv", "supplier.csv", "--map", "Art. No.=sku", "--save", "live.csv")
    assert "this is an input, and inputs are never modified" in failed.stderr


ELSEWISE: list[Callable[[str], str]] = [
    str,
    str.lower,
    lambda key: f"0{key}",
    lambda key: f"00{key}",
    lambda key: key.replace("-", "\u2011"),
    lambda key: key.replace(" ", ""),
    lambda key: f"{key}\u200b",
]
"""How one key may be written."""

KEYS = st.lists(
    st.tuples(st.sampled_from(["7", "A-7", "417", "b 12", "X9"]), st.sampled_from(ELSEWISE)).map(
        lambda pair: pair[1](pair[0])
    ),
    max_size=5,
)
PLACES = st.lists(st.sampled_from(["ST-01", "st-01", "ST-02"]), min_size=5, max_size=5)


def keyed(keys: list[str], places: list[str], both: bool) -> list[tuple[str, ...]]:
    """Different keys of one field or of two, and one that all have."""
    pairs = zip([*keys, "QA-1"], [*places[: len(keys)], "ST-01"], strict=True)
    return list(dict.fromkeys(pair if both else pair[:1] for pair in pairs))


def bare_form(key: tuple[str, ...]) -> tuple[str, ...]:
    """A key without what near ones differ in, written a second time."""
    marks = {"\u2011": "-", "\u200b": "", " ": ""}
    plain = ("".join(marks.get(letter, letter) for letter in part).lower() for part in key)
    return tuple(part.lstrip("0") or "0" for part in plain)


@in_two_lengths(KEYS, KEYS, PLACES, PLACES, st.booleans(), st.booleans(), st.booleans(), few=10, many=300)
def test_no_item_is_made_or_removed_that_a_row_nearly_is(live, sheet, stands, comes, as_list, both, take):
    """Whatever is asked for: what is near to one item only is that item, or is held; in a sheet and in a list, by one
    field and by two.
    """
    fields = ["sku", "place"] if both else ["sku"]
    there, here = keyed(live, stands, both), keyed(sheet, comes, both)
    before, after = (
        as_catalogue({name: [key[n] for key in keys] for n, name in enumerate(fields)} | {"price": [price] * len(keys)})
        for keys, price in ((there, "1.00"), (here, "2.00"))
    )
    store = Store(key=Key(fields), checks={"large-round": "off", "large-change": "off"})
    if as_list:
        after = translate(before, after, ListMapping(accept_near_keys=take), store).sheet
    accept = [Accept("slip"), Accept("damage")]
    asked: dict[str, Any] = {
        "whole": True,
        "with_gone": True,
        "with_new": True,
        "accept_near_keys": take,
        "accept": accept,
    }
    met = {key: [other for other in there if bare_form(other) == bare_form(key)] for key in here}
    for item in compare(before, after, store=store, **asked).iter_items():
        key: tuple[str, ...] = tuple(item.key.values())
        goes = not any(one.field is None for one in item.held)
        if item.verdict == "new":
            assert not (goes and met[key]), (key, met[key])
        if item.verdict == "gone":
            assert not (goes and any(key in met[row] for row in here if row not in there)), key
        if item.verdict == "changed" and key not in here:
            (row,) = [row for row in here if key in met[row]]
            assert take and met[row] == [key]


def columns_of_the_core() -> list[str]:
    """What might be a column's name in the core: plain words in calls and in brackets, and columns that are made."""
    words = set[str]()
    for file in (Path(neat_delta.__file__).parent / "core").rglob("*.py"):
        for node in ast.walk(ast.parse(file.read_text(encoding="utf-8"))):
            if isinstance(node, ast.Call) and isinstance(node.func, ast.Attribute):
                words |= {
                    word.arg or "" for word in node.keywords if node.func.attr in {"with_columns", "select", "agg"}
                }
                inside = [*node.args, *(word.value for word in node.keywords)] if node.func.attr in ASKED else []
            else:
                inside = [node.slice] if isinstance(node, ast.Subscript) else []
            words |= {one.value for part in inside for one in ast.walk(part)
                      if isinstance(one, ast.Constant) and isinstance(one.value, str)}  # fmt: skip
    return sorted(word for word in words if re.fullmatch("[a-z][a-z_]{0,19}", word))


ASKED = {
    "with_columns", "select", "agg", "rename", "alias", "col", "hstack", "sort", "join", "unique", "group_by", "filter",
    "drop", "DataFrame", "struct", "over", "with_row_index", "to_frame",
}  # fmt: skip
"""The calls of the engine in which columns are named."""

MAKING = {"with_columns", "select", "agg"}
"""Those that make the columns of which the names of arguments are the names."""


def what_becomes_of(names: Sequence[str]) -> list[object]:
    """A round and its way back, with the fields by their places: some are swapped, copied, sorted and emptied."""
    rng, items = random.Random(1), 24
    live = {"sku": [f"QA-{n}" for n in range(items)]}
    live |= {name: [f"{at} {rng.randrange(10**5)}" for _ in range(items)] for at, name in enumerate(names)}
    sheet = {name: list(texts) for name, texts in live.items()}
    first, second, third, fourth, fifth, sixth, *others = names
    sheet[first], sheet[second] = sheet[second], sheet[first]
    sheet[third], sheet[fourth] = list(sheet[fifth]), sorted(sheet[fourth])
    sheet[sixth][:9] = [""] * 9
    for name in others:
        sheet[name][rng.randrange(items)] = "wax"
    sheet = {name: [*texts[2:], "QB-1" if name == "sku" else "new"] for name, texts in sheet.items()}
    importer = Importer("clear", removal=Removal("row"))
    store = Store(key=Key(["sku"]), fields={name: Field("text") for name in names}, importer=importer)
    asked: dict[str, Any] = {
        "accept": ["slip", "emptied", "large-round"],
        "whole": True,
        "with_gone": True,
        "with_new": True,
    }
    changes = compare(live, sheet, store=store, **asked)
    before, after = as_catalogue(live, "live"), as_catalogue(sheet, "after")
    back, _, left = neat_delta.undo(changes, before, after, store)
    places = {name: at for at, name in enumerate(names)}

    def facts(one: ChangeSet) -> list[object]:
        return [
            (item.key, item.verdict, {places[name]: cell for name, cell in item.cells.items()}, item.held)
            for item in one.iter_items()
        ]

    return [
        facts(changes), facts(back), left,
        [(one.name, [places[name] for name in one.fields], one.cells) for one in changes.header.findings],
        {name: table.rows() for name, table in changes.plan(importer).tables.items()},
        neat_delta.confirm_changes(changes, before, after, store).counts,
    ]  # fmt: skip


WIDTH = 64
WORDS = columns_of_the_core()


@functools.cache
def what_becomes_of_plain_names() -> list[object]:
    return what_becomes_of([f"attribute {number}" for number in range(WIDTH)])


@pytest.mark.parametrize("start", first_of(range(0, len(WORDS), WIDTH), 2))
def test_a_field_may_be_called_as_anything_in_the_program_is(start):
    assert what_becomes_of([*WORDS, *WORDS][start : start + WIDTH]) == what_becomes_of_plain_names()


def what_becomes_of_a_key(words: Sequence[str]) -> list[object]:
    """Rounds in which the field of the key is called as the first of these words, and in which fields of the key are
    called as all of them: with one that is nearly a key, pasted rows, lists, a base, and something that others did.
    """
    key = words[0]

    def named(row: Mapping[str, object]) -> dict[str, object]:
        parts = {name: f"part {number}" for number, name in enumerate(words) if name in fields}
        return {parts.get(name) or name.rstrip("_"): text for name, text in row.items()}

    def facts(changes: ChangeSet) -> list[object]:
        items = [
            (
                named(one.key),
                one.verdict,
                named(one.cells),
                [(why.field in words, why.reason) for why in one.held],
                one.row,
            )
            for one in changes.iter_items()
        ]
        aside = [(one.file, one.row, named(one.key), one.reason) for one in changes.header.set_aside]
        near = [(one.row, named(one.key), named(one.live_key), one.taken) for one in changes.header.near]
        return [items, aside, near, [(one.name, one.cells) for one in changes.header.findings]]

    out = list[object]()
    settings = {"list price": Field("money", decimals=2), "some tags": Field("list", separator=",")}
    for fields, with_base in (([key], False), (["the language", *words], True)):
        rng, items = random.Random(4), range(13)
        live = {name: [f"QA-{n}" if name in words else f"L{n % 3}" for n in items] for name in fields}
        live |= {"list price": [f"{rng.randrange(99)}.50" for _ in items]}
        live["some tags"] = [rng.choice(["wax,gift", "gift", "wax"]) for _ in items]
        sheet, base = ({name: list(texts) for name, texts in live.items()} for _ in range(2))
        sheet["list price"][1:10:2], sheet["list price"][6], sheet["some tags"][4] = ["77.10"] * 5, "", "oak,gift"
        for name in {*fields} & {*words}:
            sheet[name][7], sheet[name][8] = "NEW-1", "qa-8 "
        base["list price"][1], base["list price"][9] = "1.00", "2.00"
        after = {name: list(texts) for name, texts in sheet.items()}
        after["list price"][3], after["list price"][10], after["some tags"][11] = "5.00", "6.00", "theirs"
        after["list price"][5] = live["list price"][5]
        for texts in sheet.values():
            texts += [texts[2], texts[5]]
        importer = Importer("clear", removal=Removal("row"))
        store = Store(key=Key(fields), fields=settings, importer=importer)
        asked: dict[str, Any] = {"accept": ["slip", "large-round"], "whole": True, "with_gone": True, "with_new": True}
        changes = compare(live, sheet, store=store, base=base if with_base else None, **asked)
        before, now = as_catalogue(live, "live"), as_catalogue(after, "after")
        seen = neat_delta.confirm_changes(changes, before, now, store)
        back, _, left = neat_delta.undo(changes, before, now, store)
        out += [
            facts(changes), facts(back), facts(neat_delta.retry(changes, now, seen, store)[0]),
            seen.counts, [named(row) for row in seen.other_changes.rows(named=True)], seen.came, seen.went,
            [(named(one.key), one.field, one.meant, one.now, one.outcome) for one in [*seen.trouble, *left]],
            {name: table.rows() for name, table in changes.plan(importer).tables.items()}, changes.to_frame().rows(),
        ]  # fmt: skip
    codes = {key: ["QA-1", "QA-2", "QA-3", "QA-4"], "new code": ["QA-2", "QA-1", "QX-3", "QA-5"]}
    live = {key: [f"QA-{n}" for n in range(9)], "list price": ["9.90"] * 9}
    recoded = neat_delta.recode(live, codes, store=Store(key=Key([key])))
    return [*out, facts(recoded), [table.rows() for table in recoded.plan(Importer()).tables.values()]]


@functools.cache
def what_becomes_of_a_plain_key() -> list[object]:
    return what_becomes_of_a_key([f"item code {number}" for number in range(TOGETHER)])


TOGETHER = max(1, 6 // LENGTH)


@pytest.mark.parametrize("start", each_of(4, range(0, len(WORDS), TOGETHER)))
def test_a_field_of_the_key_may_be_called_as_anything_in_the_program_is(start):
    assert what_becomes_of_a_key([*WORDS, *WORDS][start : start + TOGETHER]) == what_becomes_of_a_plain_key()
