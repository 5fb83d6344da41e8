"""One decision: what is held follows from the findings and the policy alone, for every kind of finding alike."""

from __future__ import annotations

import json
from functools import cache
from typing import Any

import polars as pl
import pytest
from hypothesis import given
from hypothesis import strategies as st

from neat_delta import Accept, ChangeSet, compare
from neat_delta.core.base.model.schemas import FINDINGS, conform
from neat_delta.core.base.model.store import Field, Key, Store
from neat_delta.core.compare.decide.decide import CELL_ORDER, ITEM_ORDER, decide, with_decisions
from neat_delta.core.compare.decide.policy import Policy
from neat_delta.core.sheets.match.keys import KeyIndex
from tests.oracle import catalogue

SOURCES = st.sampled_from(
    [("damage", "zeros"), ("slip", "0"), ("check", "margin"), ("emptied", "emptied"), ("clash", "clash")]
)
OF_ITEMS = st.sampled_from(
    [("new", "new"), ("gone", "gone"), ("check", "repeated"), ("code", "code"), ("clash", "clash")]
)
CHOICES = st.sampled_from(["hold", "sheet", "live"])
CELLS = st.tuples(st.integers(0, 2), st.sampled_from(["price", "name"]), SOURCES, st.sampled_from(["stop", "warn"]),
                  st.booleans())  # fmt: skip
ITEMS = st.tuples(st.integers(0, 2), st.none(), OF_ITEMS, st.sampled_from(["stop", "warn"]), st.just(False))
ITEMS |= st.tuples(st.integers(0, 2), st.none(), st.sampled_from([("near", "near"), ("near", "damaged key")]),
                   st.just("stop"), st.booleans())  # fmt: skip
ACCEPT = st.builds(Accept, st.sampled_from(["damage", "slip", "emptied", "near", "margin", "repeated"]),
                   st.sampled_from([None, "price", "A", "B"]))  # fmt: skip
POLICIES = st.builds(
    Policy,
    accept=st.lists(ACCEPT, max_size=2),
    blanks=st.sampled_from(["hold", "clear", "keep"]),
    blanks_in=st.sampled_from([{}, {"price": "clear"}, {"price": "hold"}]),
    with_new=st.booleans(),
    with_gone=st.booleans(),
    repair=st.booleans(),
    near_keys=st.booleans(),
    clash=CHOICES,
    clash_in=st.dictionaries(st.just("price"), CHOICES | st.just("add")),
)
KEYS = ["A", "B", "C"]
LIVE = (["sku", "price", "name"], [[key, "1.00", "x"] for key in KEYS])
SHEET = (["sku", "price", "name"], [[key, "2.00", "y"] for key in KEYS])


@cache
def three_items() -> ChangeSet:
    """Three items, of which each has both cells changed."""
    return compare(catalogue(LIVE), catalogue(SHEET), store=Store(key=Key(["sku"])), accept="slip")


def outcome(finding: tuple, policy: Policy) -> str:
    """The rules once more, one finding at a time."""
    item, field, (source, rule), level, mendable = finding
    named = source if source in {"damage", "slip", "emptied", "near"} else rule
    through = any(one.check == named and one.which in {None, field, KEYS[item]} for one in policy.accept)
    through |= (source == "new" and policy.with_new) or (source == "gone" and policy.with_gone)
    blanks = policy.blanks_in.get(field, policy.blanks or "hold") if source == "emptied" else None
    if blanks == "keep" and mendable and not through:
        return "kept"
    choice = policy.clash_in.get(field, policy.clash or "hold")
    if source == "clash" and (choice != "hold" and (choice != "add" or mendable)):
        return {"sheet": "accepted", "live": "kept", "add": "added"}[choice]
    if source == "near" and mendable and (policy.near_keys or (policy.repair and rule == "damaged key")):
        return "repaired"
    if through or blanks in {"clear", "keep"}:
        return "accepted"
    if mendable and policy.repair and source not in {"clash", "emptied", "near"}:
        return "repaired"
    return "held" if level == "stop" else "noted"


@given(st.lists(CELLS | ITEMS, max_size=8), POLICIES)
def test_what_is_held_is_what_a_finding_holds(drawn, policy):
    rows = [
        {"item": item, "field": field, "source": source, "rule": rule, "level": level, "reason": f"{source} {rule} {n}",
         "mendable": mendable}
        for n, (item, field, (source, rule), level, mendable) in enumerate(drawn)
    ]  # fmt: skip
    findings = conform(pl.DataFrame(rows, schema=dict(FINDINGS)), FINDINGS)
    changes = three_items()
    index = KeyIndex.of(changes.keys, Key(["sku"]))
    decided = decide(findings, lambda: index, policy)
    done = [outcome(one, policy) for one in drawn]
    assert decided["done"].to_list() == done
    after = with_decisions(changes, decided)
    held = [(one, row["reason"]) for one, row, what in zip(drawn, rows, done, strict=True) if what == "held"]

    def reason(item: int, field: str | None) -> str | None:
        order = ITEM_ORDER if field is None else CELL_ORDER
        some = [(order.index(one[2][0]), n, why) for n, (one, why) in enumerate(held) if one[:2] == (item, field)]
        return min(some)[2] if some else None

    assert after.items["held"].to_list() == [reason(item, None) for item in range(3)]
    assert after.cells["held"].to_list() == [
        reason(item, str(field)) for item, field in after.cells.select("item", "field").iter_rows()
    ]
    sent = after.cells.height - after.header.counts.held_cells
    assert sent == after.sent().height


FAMILY = """version = 1
[key]
fields = ["sku"]
[importer]
blanks = "skip"
[fields.sku]
kind = "code"
[fields.parent]
kind = "code"
refers = true
[fields.related]
kind = "list"
separator = ","
refers = true
[fields.name]
required = true
[fields.price]
kind = "money"
"""


@pytest.mark.parametrize("importer", ["", 'form = "merge patch"'])
def test_a_new_variant_whose_parent_is_held_is_no_orphan(run, put, tmp_path, importer):
    """The parent is held, as its price cannot be read and its name is missing; so is what points at it."""
    put("neat-delta.toml", FAMILY.replace('blanks = "skip"', f'blanks = "skip"\n{importer}'))
    put("live.csv", 'sku,parent,related,name,price\nA,,,Hive,90.00\nB,A,,"Hive, small",80.00\n')
    put(
        "sheet.csv",
        'sku,parent,related,name,price\nA,,,Hive,91.00\nB,P,"P,A","Hive, small",81.00\n'
        'P,,,,70.00\nV,P,,"Frame, deep",8.00\nW,V,,"Frame, deep, pair",15.00\nX,,V,Jar,2.00\nY,A,,Veil,9.00\n',
    )
    asked = ("--with-new", "--accept", "large-round", "--with-new-values", "related")
    done = run("compare", "live.csv", "sheet.csv", "-o", "c.jsonl", *asked)
    assert done.returncode == 1, done.stderr
    items = [json.loads(line) for line in (tmp_path / "c.jsonl").read_text().splitlines()[1:]]
    held = {
        item["key"]["sku"]: {one["field"]: one["reason"] for one in item["held"]} for item in items if "verdict" in item
    }
    assert held["A"] == {} and held["Y"] == {}
    assert held["P"] == {None: "check: required"}
    assert held["V"] == {None: "incomplete: parent is held", "parent": "incomplete: P is held"}
    assert held["W"] == {None: "incomplete: parent is held", "parent": "incomplete: V is held"}  # in the second round
    assert held["B"] == {"parent": "incomplete: P is held", "related": "incomplete: P is held"}
    assert held["X"] == {"related": "incomplete: V is held"}  # a jar is a jar without what goes with it
    written = run("write", "c.jsonl", "--to", "out", "--json")
    assert written.returncode == 1, written.stderr
    names = "".join(path.read_text() for path in (tmp_path / "out").glob("update-*"))
    assert "Frame" not in names and "Veil" in names


def test_a_reviewers_no_for_a_parent_holds_its_variants(run, put, tmp_path):
    from neat_delta import read

    put("neat-delta.toml", FAMILY)
    put("live.csv", "sku,parent,related,name,price\nA,,,Hive,90.00\n")
    put("sheet.csv", 'sku,parent,related,name,price\nA,,,Hive,90.00\nP,,,Frame,7.00\nV,P,,"Frame, deep",8.00\n')
    run("compare", "live.csv", "sheet.csv", "-o", "c.jsonl", "--with-new", "--accept", "large-round")
    run("preview", "c.jsonl", "--workbook", "sign.xlsx")
    table = read(str(tmp_path / "sign.xlsx")).cells
    answer = pl.when(pl.col("key: sku") == "P").then(pl.lit("no")).otherwise(pl.lit("yes")).alias("answer")
    table.with_columns(answer).write_csv(tmp_path / "signed.csv")
    done = run("write", "c.jsonl", "--signed-off", "signed.csv", "--to", "out", "--json")
    manifest = json.loads(done.stdout)["manifest"]
    assert manifest["update"] == []
    reasons = {(one["key"]["sku"], one["field"]): one["reason"] for one in manifest["not_sent"]}
    assert reasons["P", None] == "not signed off" and reasons["V", None] == "incomplete: parent is held"


def test_fields_that_must_be_whole_hold_the_item(run, put, tmp_path):
    put("neat-delta.toml", FAMILY)
    put("live.csv", "sku,parent,related,name,price\nA,,,Hive,90.00\n")
    put("sheet.csv", "sku,parent,related,name,price\nA,,,Hive,90.00\nV,nowhere,,Frame,8.00\n")
    run("compare", "live.csv", "sheet.csv", "-o", "c.jsonl", "--with-new", "--accept", "large-round")
    items = [json.loads(line) for line in (tmp_path / "c.jsonl").read_text().splitlines()[1:-1]]
    assert items[0]["held"] == [
        {"field": None, "reason": "incomplete: parent is held"}, {"field": "parent", "reason": "check: dead-link"}
    ]  # fmt: skip


LIVE_AND_BASE = "sku,name,price,stock,note\nQA-1,Hive,9.00,{stock},a\nQA-2,Lid,5.00,3,b\nQA-3,Box,4.00,2,c\n"
WEEK = "sku,name,price,stock,note\nQA-1,Hive,9.50,12,\nQA-2,,5.00,3,b\nQA-9,Smoker,7.00,1,d\n"
STOCK = '[fields.stock]\nkind = "integer"\n'
SAYS = {
    "options": (STOCK, None, ("--blanks", "keep", "--blanks", "clear:note", "--with-new", "--whole")),
    "a mapping file": (
        STOCK,
        'blanks = "keep"\nwith_new = true\nwhole = true\n[fields.note]\nblanks = "clear"\n',
        (),
    ),
    "the store file": (
        '[sheets]\nblanks = "keep"\nwith_new = true\nwhole = true\n[fields.note]\nblanks = "clear"\n' + STOCK,
        None,
        (),
    ),
    "both": (
        '[sheets]\nblanks = "clear"\nwith_new = true\n[fields.note]\nblanks = "hold"\n' + STOCK,
        'blanks = "keep"\nwhole = true\n[fields.note]\nblanks = "clear"\n',
        (),
    ),
}


@pytest.mark.parametrize("where", SAYS)
def test_what_is_meant_can_be_said_once_for_every_week(run, put, where):
    """By an option, in a list's description and in the store file it comes to the same."""
    store, mapping, asked = SAYS[where]
    put("live.csv", LIVE_AND_BASE.replace("{stock}", "8"))
    put("sheet.csv", WEEK)
    put("neat-delta.toml", f"version = 1\n{store}")
    if mapping is not None:
        put("list.toml", f"version = 1\n{mapping}")
        asked = ("--mapping", "list.toml")
    assert run("compare", "live.csv", "sheet.csv", *asked, "-o", "c.jsonl").stderr == ""
    items = {one["item"]["key"]["sku"]: one["item"] for one in shown(run)}
    assert items["QA-1"]["cells"] == {"price": ["9.00", "9.50"], "stock": ["8", "12"], "note": ["a", ""]}
    assert [items[sku]["held"] for sku in ("QA-1", "QA-9")] == [[], []]
    assert (items["QA-3"]["verdict"], items["QA-3"]["held"][0]["reason"]) == ("gone", "gone")
    assert "QA-2" not in items
    if where != "options":  # what the command line says counts before it
        run("compare", "live.csv", "sheet.csv", *asked, "--blanks", "hold", "-o", "c.jsonl")
        held = {one["item"]["key"]["sku"]: one["item"]["held"] for one in shown(run)}
        assert held["QA-2"] == [{"field": "name", "reason": "emptied"}]
        assert held["QA-1"] == [{"field": "note", "reason": "emptied"}]


PASTED = "sku,price\nQA-1,9.50\nQA-2,5.00\nQA-2,5.00\nQA-1,9.50\nQA-3,7.50\n"


@pytest.mark.parametrize(
    "asked, done, aside",
    [
        ((), {"2 rows are": "noted"}, 4),
        (("--repair",), {"2 rows are": "repaired"}, 2),
        (("--repair", "--accept", "slip"), {"2 rows are": "accepted"}, 4),
        (("--repair", "--accept", "slip:QA-2"), {"1 row is": "accepted", "1 row is the": "repaired"}, 3),
    ],
)
def test_rows_that_were_pasted_again_are_a_finding_like_any_other(run, put, asked, done, aside):
    put("live.csv", LIVE_AND_BASE.replace("{stock}", "8"))
    put("sheet.csv", PASTED)
    run("compare", "live.csv", "sheet.csv", *asked, "-o", "c.jsonl")
    header = json.loads(run("preview", "c.jsonl", "--json").stdout)["header"]
    assert {one["name"] for one in header["findings"]} == {"rows pasted twice"}
    assert [one["done"] for one in header["findings"]] == [*done.values()]
    assert all(one["why"].startswith(many) for one, many in zip(header["findings"], done, strict=True))
    assert header["counts"]["set_aside_sheet"] == aside


def test_near_keys_are_taken_although_others_are_let_through():
    live = catalogue((["sku", "price"], [["00417", "1.00"], ["QA-2", "1.00"]]), "live")
    sheet = catalogue((["sku", "price"], [["417", "2.00"], ["qa-2", "2.00"]]), "sheet")
    for asked, taken in (
        ({"repair": True}, [True, False]),
        ({"repair": True, "accept": "near"}, [True, False]),
        ({"accept_near_keys": True, "accept": "near"}, [True, True]),
        ({"accept": "near"}, [False, False]),
    ):
        assert [near.taken for near in compare(live, sheet, **asked).header.near] == taken


@pytest.mark.parametrize("blanks, done", [("hold", "held"), ("keep", "sent"), ("clear", "sent")])
def test_a_list_of_which_both_sides_took_the_rest_is_no_blank_of_the_sheet(blanks, done):
    base, live, sheet = (
        catalogue((["sku", "tags"], [["QA-1", tags]]), name)
        for name, tags in (("base", "a,b"), ("live", "b"), ("sheet", "a"))
    )
    store = Store(key=Key(["sku"]), fields={"tags": Field("list", separator=",")})
    changes = compare(live, sheet, base=base, store=store, blanks=blanks)
    assert changes.cells.select("before", "after", "held").rows() == [("b", "", "emptied" if done == "held" else None)]
    assert changes.header.counts.blanks_kept == 0


CLASHES = {
    "options": (STOCK, ("--clash", "live", "--clash", "stock=add")),
    "the store file": ('[sheets]\nclash = "live"\n' + STOCK + 'clash = "add"\n', ()),
    "both": ('[sheets]\nclash = "sheet"\n' + STOCK + 'clash = "hold"\n', ("--clash", "live", "--clash", "stock=add")),
}


@pytest.mark.parametrize("where", CLASHES)
def test_what_a_clash_comes_to_can_be_said_once_for_every_week(run, put, where):
    store, asked = CLASHES[where]
    put("base.csv", LIVE_AND_BASE.replace("{stock}", "10"))
    put("live.csv", LIVE_AND_BASE.replace("{stock}", "8").replace("Hive,9.00", "Hive,9.90"))
    put("sheet.csv", "sku,price,stock\nQA-1,9.50,12\nQA-2,6.00,3\n")
    put("neat-delta.toml", f"version = 1\n{store}")
    assert run("compare", "live.csv", "sheet.csv", "--base", "base.csv", *asked, "-o", "c.jsonl").stderr == ""
    cells = {one["item"]["key"]["sku"]: (one["item"]["cells"], one["item"]["held"]) for one in shown(run)}
    assert cells == {"QA-1": ({"stock": ["8", "10"]}, []), "QA-2": ({"price": ["5.00", "6.00"]}, [])}


def shown(run) -> list[dict[str, Any]]:
    items: list[dict[str, Any]] = json.loads(run("preview", "c.jsonl", "--all", "--json").stdout)["items"]
    return items


def test_a_store_file_that_says_sheets_are_whole_says_it_of_no_list_and_of_no_rule(run, put):
    put("live.csv", LIVE_AND_BASE.replace("{stock}", "8"))
    put("list.csv", "sku,price\nQA-1,9.50\n")
    put("neat-delta.toml", "version = 1\n[sheets]\nwhole = true\n")
    run("compare", "live.csv", "list.csv", "--match-by", "sku", "-o", "c.jsonl")
    assert {one["item"]["verdict"] for one in shown(run)} == {"changed"}
    run("edit", "live.csv", "--set", "price = price + 1", "--where", "sku = 'QA-1'", "-o", "c.jsonl")
    assert {one["item"]["verdict"] for one in shown(run)} == {"changed"}
    run("compare", "live.csv", "list.csv", "-o", "c.jsonl")
    assert {one["item"]["verdict"] for one in shown(run)} == {"changed", "gone"}


def test_a_difference_is_only_added_where_there_is_a_number(run, put):
    put("live.csv", LIVE_AND_BASE.replace("{stock}", "8"))
    put("neat-delta.toml", 'version = 1\n[fields.note]\nclash = "add"\n')
    done = run("compare", "live.csv", "live.csv")
    assert (done.returncode, done.stderr[:61]) == (2, "Error: neat-delta.toml, line 3, fields.note.clash: only a dif")


@pytest.mark.parametrize(
    ("which", "said"),
    [
        ("QA-11", 'there is neither a field nor an item "QA-11". Did you mean "QA-1"?'),
        ("pricee", 'there is neither a field nor an item "pricee". Did you mean "price"?'),
    ],
)
def test_what_is_let_through_by_a_name_that_is_none_is_refused(run, put, which, said):
    put("live.csv", LIVE_AND_BASE.replace("{stock}", "8"))
    put("sheet.csv", WEEK)
    for command in (("compare", "live.csv", "sheet.csv"), ("edit", "live.csv", "--set", "price = price + 1")):
        done = run(*command, "--accept", f"emptied:{which}")
        assert (done.returncode, done.stderr) == (2, f"Error: --accept emptied:{which}: {said}\n")
    assert "fits nothing that was found: emptied:QA-3" in run(*command, "--accept", "emptied:QA-3").stdout
