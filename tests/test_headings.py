"""Headings and keys that nearly fit: paired by rule, suggested otherwise, never guessed."""

from __future__ import annotations

import json
import tomllib

import pytest

from neat_delta import CatalogueError, ColumnMapping, Field, Key, Store, compare, match_columns
from tests.oracle import catalogue, options

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
        '‹mapping› names "Trade", and there is no such',
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
    changes = compare(*tables, store=more.pop("store", None), options=options(whole=True, **more))
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
    found, near = keys(live, sheet, near_keys=True)
    assert near == [(other, one, True) for one, other in NEAR]
    assert found == {one: "changed" for one, _ in NEAR} | {"QA-9": "gone", "QA-10": "new"}


def test_where_two_keys_come_as_near_none_is_taken():
    assert keys(["QA-1", "qa-1"], ["Qa-1"], near_keys=True)[1] == []
    assert keys(["QA-1"], ["qa-1", "Qa-1"], near_keys=True)[1] == []


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
        {"row": 3, "key": {"sku": "qa-1002"}, "live_key": {"sku": "QA-1002"}, "taken": True, "damage": None},
    ]
    assert header["sheet_writing"]["decimal_mark"] == ","
    only = run("compare", "live.csv", "supplier.csv", "--mapping", "supplier.toml", "--only", "stock", "--json")
    assert json.loads(only.stdout)["header"]["fields"] == ["stock"]
    (store / "supplier.toml").write_text('version = 1\n[headings]\n"Art. No." = "skuu"\n')
    failed = run("compare", "live.csv", "supplier.csv", "--mapping", "supplier.toml")
    assert (failed.returncode, failed.stdout) == (2, "")
    assert '"skuu", and there is no such heading in live. Did you mean "sku"?' in failed.stderr


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
