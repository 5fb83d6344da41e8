"""Keys through every command: items on several lines, keys in any case, items that share one, keys of two fields."""

from __future__ import annotations

import csv
import io
import itertools
import json
from collections.abc import Sequence

import polars as pl
import pytest
from hypothesis import given
from hypothesis import strategies as st

from neat_delta import read
from neat_delta.core.base.model.store import Key
from neat_delta.core.sheets.match.keys import KeyIndex, key_text
from tests.conftest import each_of, in_pairs

HEADINGS = ["sku", "place", "name", "price", "images"]

Row = dict[str, str]

WAYS = in_pairs(*[(False, True)] * 4)
"""Continued lines, keys without case, shared keys, a key of two fields."""


def store_file(*, continued: bool, ignore_case: bool, shared: bool, two: bool) -> str:
    return f"""version = 1
[file]
format = "delimited"
continued = {'["images"]' if continued else "[]"}
[key]
fields = {'["sku", "place"]' if two else '["sku"]'}
name = "name"
ignore_case = {str(ignore_case).lower()}
shared = "{"all" if shared else "error"}"
[relations]
price = "price"
cost = "price"
[importer]
blanks = "skip"
empties = "-"
[importer.code_change]
how = "row"
[checks]
large-round = "off"
price-ending = "off"
margin = "off"
new-value = "off"
[fields.sku]
kind = "code"
[fields.place]
[fields.name]
[fields.price]
kind = "money"
[fields.images]
kind = "list"
separator = "|"
"""


def items(*, shared: bool) -> list[Row]:
    rows = [
        ["QA-1", "North", "Veil", "9.90", "a.jpg|b.jpg"],
        ["QA-2", "North", "Suit", "20.00", "c.jpg"],
        *([["QA-2", "North", "Suit, long", "20.00", "d.jpg|e.jpg"]] if shared else []),
        ["QA-3", "South", "Hat", "3.00", ""],
        ["QA-4", "South", "Jar", "1.00", "f.jpg"],
    ]
    return [dict(zip(HEADINGS, row, strict=True)) for row in rows]


def text(rows: list[Row], *, continued: bool, lower: Sequence[str] = ()) -> str:
    """The rows as the store exports them; with the codes of some fields in lower case."""
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\n")
    writer.writerow(HEADINGS)
    for row in rows:
        key = [row[name].lower() if name in lower else row[name] for name in ("sku", "place")]
        images = row["images"].split("|") if continued else [row["images"]]
        writer.writerow([*key, row["name"], row["price"], images[0]])
        writer.writerows([["", "", "", "", image] for image in images[1:]])
    return out.getvalue()


def changed(rows: list[Row]) -> list[Row]:
    """Every price a tenth dearer but the last; one image more."""
    new = [dict(row) for row in rows]
    for row in new[:-1]:
        row["price"] = "30.00" if row["sku"] == "QA-2" else f"{float(row['price']) + 1:.2f}"
    new[0]["images"] = "a.jpg|g.jpg"
    return new


@pytest.mark.parametrize(("continued", "ignore_case", "shared", "two"), WAYS)
def test_every_command_knows_an_item_by_its_key(run, put, tmp_path, continued, ignore_case, shared, two):
    put("neat-delta.toml", store_file(continued=continued, ignore_case=ignore_case, shared=shared, two=two))
    rows, lower = items(shared=shared), (["sku", "place"] if two else ["sku"]) if ignore_case else []
    put("live.csv", text(rows, continued=continued))
    sheet = [row for number, row in enumerate(changed(rows)) if not (shared and number == 2)]
    put("sheet.csv", text(sheet[::-1], continued=continued, lower=lower))

    def facts(*call: str, status: int = 0) -> dict:
        done = run(*call, "--json")
        assert done.returncode == status, done.stderr or done.stdout[-600:].replace("\n", "")
        facts: dict = json.loads(done.stdout)
        return facts

    assert facts("check", "live.csv")["found"] == []
    assert [one["field"] for one in facts("match", "live.csv", "sheet.csv")["pairs"]] == HEADINGS
    # With twins, the sheet's one row is for both; the name and images of the second would change with it.
    only = ["--only", "price"] if shared else []
    found = facts("compare", "live.csv", "sheet.csv", "-o", "c.jsonl", *only)
    counts, many = found["header"]["counts"], 4 if shared else 3
    assert (counts["same"], counts["changed"], counts["new"], counts["gone"]) == (1, many, 0, 0)
    assert found["header"]["set_aside"] == []
    seen = facts("preview", "c.jsonl", "--sku", "qa-2" if lower else "QA-2")
    assert [one["item"]["cells"]["price"][1] for one in seen["items"]] == ["30.00"] * (2 if shared else 1)
    put(
        "quotes.csv",
        f"sku,place,price\n{'qa-2' if lower else 'QA-2'},{'north' if lower else 'North'},40.00\nQA-9,x,1\n",
    )
    records = facts("preview", "c.jsonl", "--records", "quotes.csv")["records"]
    assert (len(records["touched"]), records["unknown"]) == (1, 1)
    manifest = facts("write", "c.jsonl", "--to", "out")["manifest"]
    assert manifest["cells"]["changed"] == (3 if shared else 4)
    # The next export, as the store may write it: in another order, the codes in another case.
    landed = [dict(row) for row in (rows if shared else changed(rows))]
    for row, new in zip(landed, changed(rows), strict=True):
        row["price"] = new["price"]
    put("after.csv", text([*landed[3:], *landed[:3]], continued=continued, lower=lower))
    after = facts("confirm", "c.jsonl", "after.csv", "--files", "out")
    assert (after["trouble"], after["moved"], after["came"], after["went"], after["twice"]) == ([], [], 0, 0, [])
    assert after["counts"]["landed"] == 4
    # Nothing landed: all of it is sent again.
    put("before.csv", text(rows[::-1] if not shared else rows, continued=continued, lower=lower))
    none = facts("confirm", "c.jsonl", "before.csv", "--retry", "again", status=1)
    assert none["counts"] == {"landed": 0, "not landed": 4, "differently": 0} and none["moved"] == []
    assert none["retry"]["cells"]["changed"] == manifest["cells"]["changed"]
    # Taken back from what stands now, item by item.
    back = facts("undo", "c.jsonl", "--now", "after.csv", "--to", "back")
    if not shared:
        assert back["left"] == [] and back["manifest"]["cells"]["changed"] == 4
    assert facts("undo", "c.jsonl", "--to", "back2")["manifest"]["held"] == []
    cut = facts("sheet", "live.csv", "-o", "cut.csv", "--skus", str(put("codes.txt", "qa-1\n" if lower else "QA-1\n")))
    assert cut["items"] == 1
    accepted = ("--accept", f"slip:{'qa-2' if lower else 'QA-2'}")
    assert facts("compare", "live.csv", "sheet.csv", *only, *accepted)["header"]["accepted"]


@pytest.mark.parametrize(("continued", "ignore_case", "shared", "two"), each_of(2, WAYS))
def test_signing_off_and_new_codes_know_an_item_by_its_key(run, put, tmp_path, continued, ignore_case, shared, two):
    put("neat-delta.toml", store_file(continued=continued, ignore_case=ignore_case, shared=shared, two=two))
    rows, lower = items(shared=shared), (["sku", "place"] if two else ["sku"]) if ignore_case else []
    put("live.csv", text(rows, continued=continued))
    sheet = [row for number, row in enumerate(changed(rows)) if not (shared and number == 2)]
    put("sheet.csv", text(sheet[::-1], continued=continued, lower=lower))

    def facts(*call: str) -> dict:
        done = run(*call, "--json")
        assert done.returncode == 0, done.stderr or done.stdout[-600:].replace("\n", "")
        facts: dict = json.loads(done.stdout)
        return facts

    facts("compare", "live.csv", "sheet.csv", "-o", "c.jsonl", *(["--only", "price"] if shared else []))
    manifest = facts("write", "c.jsonl", "--to", "out")["manifest"]
    # Every line signed, all of it goes out as it would without.
    assert run("preview", "c.jsonl", "--workbook", "sign.xlsx").returncode == 0
    signed = read(str(tmp_path / "sign.xlsx")).cells.with_columns(answer=pl.lit("yes"))
    signed.write_csv(tmp_path / "signed.csv")
    assert (
        facts("write", "c.jsonl", "--signed-off", "signed.csv", "--to", "yes")["manifest"]["cells"] == manifest["cells"]
    )
    # A new code for an item whose key the list writes in its own way.
    place = ",South" if two else ""
    put("codes.csv", f"sku{',place' if two else ''},new code\n{'qa-4' if lower else 'QA-4'}{place},QA-9\n")
    recoded = facts("recode", "live.csv", "codes.csv", "-o", "recoded.jsonl")
    assert (recoded["header"]["counts"]["recoded"], recoded["header"]["set_aside"]) == (1, [])
    assert [one["action"] for one in facts("write", "recoded.jsonl", "--to", "new")["manifest"]["update"]] == ["recode"]
    landed = [{**row, "sku": "QA-9"} if row["sku"] == "QA-4" else row for row in rows]
    put("after.csv", text(landed, continued=continued, lower=lower))
    assert facts("confirm", "recoded.jsonl", "after.csv")["counts"]["landed"] == 1
    assert run("learn", "live.csv", "-o", "learned.toml").returncode == 0


@pytest.mark.parametrize(("continued", "ignore_case", "shared", "two"), each_of(2, WAYS))
def test_a_base_knows_an_item_by_its_key(run, put, tmp_path, continued, ignore_case, shared, two):
    """The store changed names and prices meanwhile, and writes its codes otherwise: only what the sheet changed is
    sent, and what both changed clashes; so it is confirmed and taken back.
    """
    put("neat-delta.toml", store_file(continued=continued, ignore_case=ignore_case, shared=shared, two=two))
    rows, lower = items(shared=shared), (["sku", "place"] if two else ["sku"]) if ignore_case else []
    put("base.csv", text(rows, continued=continued, lower=lower))
    now = [dict(row) for row in rows]
    now[0]["name"], now[1]["price"], now[-1]["price"] = "Bee veil", "21.00", "1.50"
    if shared:
        now[2]["price"] = "21.00"
    put("live.csv", text(now[::-1] if not shared else now, continued=continued))
    sheet = [row for number, row in enumerate(changed(rows)) if not (shared and number == 2)]
    put("sheet.csv", text(sheet, continued=continued, lower=lower))
    only = ["--only", "name,price"] if shared else []

    def facts(*call: str, status: int = 0) -> dict:
        done = run(*call, "--json")
        assert done.returncode == status, done.stderr or done.stdout[-900:].replace("\n", "")
        facts: dict = json.loads(done.stdout)
        return facts

    if shared:  # one row of the sheet stands for two names, so of these no base can tell which
        only = ["--only", "price"]
    found = facts("compare", "live.csv", "sheet.csv", "--base", "base.csv", "-o", "c.jsonl", *only, status=1)
    assert found["header"]["meanwhile"] == ({} if shared else {"name": 1}) | {"price": 1}
    assert found["header"]["counts"]["clashes"] == (2 if shared else 1)
    seen = {
        (one["item"]["key"]["sku"], name): (cell, [held["reason"] for held in one["item"]["held"]])
        for one in facts("preview", "c.jsonl")["items"]
        for name, cell in one["item"]["cells"].items()
    }
    assert seen["QA-2", "price"] == (["21.00", "30.00"], ["clash: changed in the store, too"])
    assert seen["QA-1", "price"] == (["9.90", "10.90"], []) and ("QA-4", "price") not in seen
    sent = facts("write", "c.jsonl", "--to", "out", status=1)["manifest"]["cells"]["changed"]
    assert sent == (2 if shared else 3)
    done = facts("compare", "live.csv", "sheet.csv", "--base", "base.csv", "-o", "c.jsonl", *only, "--clash", "sheet")
    assert done["held"] == 0
    facts("write", "c.jsonl", "--to", "all")
    landed = [dict(row) for row in now]
    for row, new in zip(landed[:-1], changed(rows), strict=False):
        row["price"] = new["price"]
        if not shared:
            row["images"] = new["images"]
    put("after.csv", text(landed, continued=continued, lower=lower))
    after = facts("confirm", "c.jsonl", "after.csv", "--files", "all")
    assert (after["trouble"], after["moved"]) == ([], [])
    assert facts("undo", "c.jsonl", "--to", "back")["manifest"]["held"] == []


@pytest.mark.parametrize(("ignore_case", "two"), list(itertools.product([False, True], repeat=2)))
def test_a_finding_shows_on_every_item_that_has_the_key(run, put, tmp_path, ignore_case, two):
    put("neat-delta.toml", store_file(continued=False, ignore_case=ignore_case, shared=True, two=two))
    put("live.csv", text(items(shared=True), continued=False))
    put("sheet.csv", "sku,place,price\nQA-2,North,#N/A\nQA-1,North,12.00\n")
    assert run("compare", "live.csv", "sheet.csv", "-o", "c.jsonl").returncode == 1
    seen = json.loads(run("preview", "c.jsonl", "--check", "damage", "--json").stdout)
    assert [one["item"]["row"]["live"] for one in seen["items"]] == [3, 4]
    assert run("preview", "c.jsonl", "--workbook", "sign.xlsx", "--page", "page.html").returncode == 0
    lines = read(str(tmp_path / "sign.xlsx")).cells
    assert [bool(text) for text in lines["findings"]] == [False, True, True]


def test_answers_for_items_that_share_a_key_are_told_apart(run, put, tmp_path):
    put("neat-delta.toml", store_file(continued=False, ignore_case=False, shared=True, two=False))
    put("live.csv", text(items(shared=True), continued=False))
    put("sheet.csv", "sku,place,price\nQA-2,North,30.00\nQA-1,North,12.00\n")
    run("compare", "live.csv", "sheet.csv", "-o", "c.jsonl")
    run("preview", "c.jsonl", "--workbook", "sign.xlsx")
    table = read(str(tmp_path / "sign.xlsx")).cells
    assert table.height == 3
    for answers, sent in ((["yes", "yes", "yes"], 2), (["yes", "yes", "no"], 1), (["no", "yes", "yes"], 1)):
        table.with_columns(answer=pl.Series(answers)).write_csv(tmp_path / "signed.csv")
        done = run("write", "c.jsonl", "--signed-off", "signed.csv", "--to", "out", "--replace", "--json")
        assert done.returncode in {0, 1}, done.stderr
        assert json.loads(done.stdout)["manifest"]["cells"]["changed"] == sent


TEXTS = st.sampled_from(["", "a", "A", " a", "b", "B ", "ab", "Ä", "ä"])
KEYS = st.lists(st.tuples(TEXTS, TEXTS), max_size=8)


@given(KEYS, KEYS, st.booleans())
def test_an_index_says_what_loops_say(one, other, ignore_case):
    key = Key(["sku", "place"], ignore_case=ignore_case)
    tables = [pl.DataFrame(rows, schema=dict.fromkeys(key.fields, pl.String), orient="row") for rows in (one, other)]
    index, second = (KeyIndex.of(table, key) for table in tables)
    keys, others = ([key_text(row, key) for row in rows] for rows in (one, other))
    assert index.blank.to_list() == ["" in row for row in keys]
    assert index.repeated.to_list() == [keys.count(row) > 1 for row in keys]
    assert index.lookup(tables[1]).to_list() == [keys.index(row) if row in keys else None for row in others]
    places: dict[tuple, list[int]] = {}
    for place, row in enumerate(others):
        places.setdefault(row, []).append(place)
    wanted = []
    for place, row in enumerate(keys):
        rank, there = keys[:place].count(row), places.get(row, [])
        wanted.append(there[rank] if rank < len(there) and "" not in row else None)
    assert index.align(second).to_list() == wanted
    assert index.existing(other) == {row for row in other if key_text(row, key) in keys}


def test_both_places_and_codes_that_nobody_knows_are_told_with_what_there_is(run, put):
    put("neat-delta.toml", 'version = 1\n[key]\nfields = ["sku", "location"]\n')
    put("live.csv", "sku,location,stock\nQA-1001,ST-01,1\nQA-1001,ST-02,2\nQA-1002,ST-01,3\n")
    put("sheet.csv", "sku,location,stock\nQA-1001,ST-03,1\nQA-1002,Attic,2\nQA-10022,ST-01,3\n")
    header = json.loads(run("compare", "live.csv", "sheet.csv", "--json").stdout)["header"]
    said = {one["fields"][0]: one["why"] for one in header["findings"] if one["check"] == "key"}
    assert said == {
        "sku": '"QA-10022" in 1 row (the nearest is "QA-1002")',
        "location": '"Attic" in 1 row, "ST-03" in 1 row (the nearest is "ST-01"); live has ST-01, ST-02',
    }
