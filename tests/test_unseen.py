"""Fields that the export lacks, and columns that are no fields: from the sheet, or a rule, to proven files."""

from __future__ import annotations

import csv
import json

import pytest

from neat_delta import Importer, as_catalogue, compare, plan, write_updates
from neat_delta.core.base.model.conflicts import conflicting_settings
from neat_delta.core.base.model.importer import OutputColumn, with_reason
from neat_delta.core.base.model.reasons import ALONE
from neat_delta.core.base.model.store import Field, Key, Relations, Store
from neat_delta.core.base.support.errors import StoreError
from neat_delta.core.sheets.match.prepare import with_unseen
from neat_delta.files.storefile import read_store

STORE = """version = 1
[key]
fields = ["sku"]
[relations]
price = "price"
sale_price = "sale_price"
[importer]
blanks = "{blanks}"
{more}
[fields.sku]
kind = "code"
[fields.price]
kind = "money"
decimals = 2
[fields.cost]
kind = "money"
decimals = 2
[fields.sale_price]
kind = "money"
decimals = 2
unseen = true
"""
LIVE = "sku,price,cost\nQA-1,9.90,5.00\nQA-2,20.00,9.00\nQA-3,5.00,2.00\n"
SHEET = "sku,price,sale_price\nQA-1,9.90,8.90\nQA-2,21.00,18.00\nQA-3,5.00,6.00\n"


@pytest.fixture
def week(run, put):
    def go(blanks="clear", more="", **files):
        put("live.csv", LIVE)
        put("sheet.csv", SHEET)
        put("neat-delta.toml", STORE.replace("{blanks}", blanks).replace("{more}", more))
        for name, content in files.items():
            put(name, content)

        def ask(*args, status=(0, 1)):
            done = run(*args)
            assert done.returncode in status, done.stdout + done.stderr
            return done

        return ask

    return go


def rows_of(folder, pattern):
    return [row for path in sorted(folder.glob(pattern)) for row in csv.DictReader(path.open(newline=""))]


@pytest.mark.parametrize("blanks", ["clear", "skip"])
def test_a_field_that_the_export_lacks_is_sent_checked_and_never_carried(week, tmp_path, blanks):
    ask = week(blanks)
    said = ask("compare", "live.csv", "sheet.csv", "-o", "c.jsonl").stdout
    assert "what live has in sale_price is not known: no undo brings it back" in " ".join(said.split())
    header = json.loads(ask("compare", "live.csv", "sheet.csv", "--json").stdout)
    assert header["header"]["unseen"] == ["sale_price"]
    assert header["reasons"] == [{"reason": "check: sale-price", "items": 0, "cells": 1, "fields": ["sale_price"]}]
    assert "(not known) → 8.90" in ask("preview", "c.jsonl").stdout
    written = " ".join(ask("write", "c.jsonl", "--to", "out").stdout.split())
    assert "QA-1, sale_price: what stood there before is in no export, so it is not known" in written
    assert "then give live again, but for what is listed above" in written
    sent = {row["sku"]: row.get("sale_price") or None for row in rows_of(tmp_path / "out", "update*.csv")}
    assert sent == {"QA-1": "8.90", "QA-2": "18.00"}
    assert all("sale_price" not in row for row in rows_of(tmp_path / "out", "undo*.csv"))
    # A later export still lacks it: what can be seen is looked at, and what cannot is said.
    (tmp_path / "after.csv").write_text(LIVE.replace("20.00", "21.00"))
    seen = ask("confirm", "c.jsonl", "after.csv", "--files", "out").stdout
    assert "2 cells of sale_price not seen: after.csv lacks it" in " ".join(seen.split())
    (tmp_path / "full.csv").write_text(
        "sku,price,cost,sale_price\nQA-1,9.90,5.00,8.90\nQA-2,21.00,9.00,1.00\nQA-3,5.00,2.00,\n"
    )
    assert ask("confirm", "c.jsonl", "full.csv", "--files", "out").returncode == 1


def test_a_field_is_added_for_one_run_by_rule(week, tmp_path):
    ask = week()
    (tmp_path / "neat-delta.toml").unlink()
    args = ("edit", "live.csv", "--set", "badge = 'new'", "--where", "price > 6")
    assert 'no field "badge" to set' in ask(*args, status=(2,)).stderr
    ask(*args, "--add-field", "badge", "-o", "e.jsonl")
    ask("write", "e.jsonl", "--to", "out")
    assert rows_of(tmp_path / "out", "update*.csv") == [{"sku": f"QA-{n}", "badge": "new"} for n in (1, 2)]


COLUMNS = """[importer.columns]
rule_name = { text = "standard" }
min_price = { expression = "ROUND(cost * 1.1, 2)" }
reason = { text = "" }
"""


@pytest.mark.parametrize("blanks", ["clear", "skip"])
def test_columns_that_are_no_fields_stand_in_every_row(week, tmp_path, blanks):
    ask = week(blanks, COLUMNS, **{"sheet.csv": "sku,price,cost\nQA-1,9.90,5.50\nQA-2,21.00,9.00\nQA-3,5.00,2.00\n"})
    ask("compare", "live.csv", "sheet.csv", "-o", "c.jsonl")
    ask("write", "c.jsonl", "--to", "out", "--reason", "recount")
    rows = {row["sku"]: row for row in rows_of(tmp_path / "out", "update*.csv")}
    said = {sku: (row["rule_name"], row["min_price"], row["reason"]) for sku, row in rows.items()}
    assert said == {"QA-1": ("standard", "6.05", "recount"), "QA-2": ("standard", "9.90", "recount")}
    back = {row["sku"]: row["min_price"] for row in rows_of(tmp_path / "out", "undo*.csv")}
    assert back == {"QA-1": "5.50", "QA-2": "9.90"}  # the way back has what the item comes to then
    assert ask("undo", "c.jsonl", "--to", "undo").returncode == 0


def test_such_columns_stand_where_the_importer_wants_them_in_rows_of_new_items_too(tmp_path):
    live = as_catalogue({"sku": ["QA-1"], "cost": ["5.00"]}, "live")
    sheet = as_catalogue({"sku": ["QA-1", "QA-9"], "cost": ["6.00", "7.00"]}, "sheet")
    store = Store(key=Key(["sku"]), fields={"sku": Field("code"), "cost": Field("money", decimals=2)})
    changes = compare(live, sheet, store=store, with_new=True)
    columns = {"least": OutputColumn(expression="cost * 2"), "who": OutputColumn("shop")}
    called = {"cost": "item cost"}
    importer = Importer("skip", headings=["who", "sku", "least", "cost"], columns=columns, called=called)
    tables = plan(changes, live, importer).update
    assert [table.cells.rows() for table in tables] == [
        [("shop", "QA-9", "14", "7.00")],
        [("shop", "QA-1", "12", "6.00")],
    ]
    assert tables[0].cells.columns == ["who", "sku", "least", "cost"]
    folder = tmp_path / "out"
    write_updates(changes, live, importer, str(folder))
    assert rows_of(folder, "update-2.csv") == [{"who": "shop", "sku": "QA-1", "least": "12", "item cost": "6.00"}]


@pytest.mark.parametrize(
    "importer, why",
    [
        (Importer(columns={"price": OutputColumn("x")}), "there is a field of this name"),
        (Importer(columns={"x": OutputColumn()}), "it needs a text or an expression"),
        (Importer(columns={"x": OutputColumn("a")}, form="merge patch"), "a patch has only fields"),
        (Importer(called={"price": "sku"}), '"sku" is what another column is called'),
        (Importer(carries=["sale_price"]), "it is never sent unless it changes"),
        (Importer(missing="deleted"), "or is not in an export"),
    ],
)
def test_what_a_store_file_cannot_say_of_them(importer, why):
    fields = {"sku": Field("code"), "price": Field("money"), "sale_price": Field("money", unseen=True)}
    store = Store(key=Key(["sku"]), fields=fields, importer=importer, relations=Relations())
    assert why in " ".join(one.what for one in conflicting_settings(store))


def test_a_reason_for_each_row_comes_from_the_sheet(week, tmp_path):
    ask = week("skip", **{"sheet.csv": "sku,price,why\nQA-1,9.50,label\nQA-2,21.00,\nQA-3,5.00,\n"})
    text = (tmp_path / "neat-delta.toml").read_text() + "[fields.why]\nunseen = true\n"
    (tmp_path / "neat-delta.toml").write_text(text)
    ask("compare", "live.csv", "sheet.csv", "-o", "c.jsonl")
    ask("write", "c.jsonl", "--to", "out")
    rows = {row["sku"]: (row["price"], row["why"]) for row in rows_of(tmp_path / "out", "update*.csv")}
    assert rows == {"QA-1": ("9.50", "label"), "QA-2": ("21.00", "")}
    assert all("why" not in row for row in rows_of(tmp_path / "out", "undo*.csv"))


def test_a_reason_needs_a_column(tmp_path):
    with pytest.raises(StoreError, match='no column "reason"'):
        with_reason(Importer(), "recount")
    assert with_reason(Importer(with_adjusted={"reason": "x"}), "recount").with_adjusted == {"reason": "recount"}
    (tmp_path / "s.toml").write_text(
        STORE.replace("{blanks}", "skip").replace("{more}", COLUMNS.replace("text", "txt"))
    )
    with pytest.raises(
        StoreError, match=r'importer\.columns\.rule_name\.txt: there is no such key. Did you mean "text"'
    ):
        read_store(str(tmp_path / "s.toml"))


REASON = """[fields.stock]
kind = "integer"
[fields.reason]
unseen = true
"""
COUNT = "sku,stock,reason\nQA-1,9,spring count\nQA-2,20,spring count\nQA-3,-5,spring count\n"


@pytest.mark.parametrize("blanks", ["clear", "skip"])
def test_a_reason_goes_only_with_a_change(week, tmp_path, blanks):
    """Of an item that is counted as it was, and of one whose count is held, nothing goes."""
    live = "sku,stock,cost\nQA-1,10,1\nQA-2,20,1\nQA-3,5,1\n"
    ask = week(blanks, **{"live.csv": live, "sheet.csv": COUNT})
    store = (tmp_path / "neat-delta.toml").read_text()
    (tmp_path / "neat-delta.toml").write_text(store + REASON)
    ask("compare", "live.csv", "sheet.csv", "-o", "c.jsonl")
    items = json.loads(ask("preview", "c.jsonl", "--all", "--json").stdout)["items"]
    held = {(one["item"]["key"]["sku"], why["field"]): why["reason"] for one in items for why in one["item"]["held"]}
    assert [one["item"]["key"]["sku"] for one in items] == ["QA-1", "QA-3"]
    assert held == {("QA-3", "stock"): "check: negative", ("QA-3", "reason"): "follows: nothing else of the item goes"}
    ask("write", "c.jsonl", "--to", "out")
    assert rows_of(tmp_path / "out", "update*.csv") == [{"sku": "QA-1", "stock": "9", "reason": "spring count"}]


def test_a_reason_goes_only_with_a_change_where_a_file_has_the_whole_catalogue(week, tmp_path):
    ask = week("skip", 'missing = "deleted"\n[importer.columns]\nreason = { text = "" }\nrule = { text = "a" }\n')
    (tmp_path / "sheet.csv").write_text("sku,price,cost\nQA-1,9.90,5.00\nQA-2,21.00,9.00\nQA-3,5.00,2.00\n")
    ask("compare", "live.csv", "sheet.csv", "-o", "c.jsonl")
    ask("write", "c.jsonl", "--to", "out", "--whole-catalogue", "--rehearse", "--reason", "recount")
    said = {row["sku"]: (row["reason"], row["rule"]) for row in rows_of(tmp_path / "out", "update*.csv")}
    assert said == {"QA-1": ("", "a"), "QA-2": ("recount", "a"), "QA-3": ("", "a")}


def test_what_the_importer_cannot_take_takes_its_reason_along(week):
    """Where a blank is skipped a field cannot be emptied, and then its reason would stand alone."""
    live = as_catalogue({"sku": ["QA-1", "QA-2"], "name": ["Veil", "Hood"]}, "live")
    sheet = as_catalogue({"sku": ["QA-1", "QA-2"], "name": ["", "Cap"], "reason": ["dull", "dull"]}, "sheet")
    store = Store(key=Key(["sku"]), fields={"name": Field(), "reason": Field(unseen=True)})
    changes = compare(live, sheet, store=store, blanks="clear")
    planned = plan(changes, with_unseen(live, ["reason"]), Importer("skip"))
    assert [table.cells.rows(named=True) for table in planned.update] == [
        [{"sku": "QA-2", "name": "Cap", "reason": "dull"}]
    ]
    assert {(item, field): why for item, field, why in planned.held.rows()}[0, "reason"] == ALONE


def test_a_field_that_the_export_lacks_and_that_has_a_heading_of_its_own_goes_the_whole_round(week, tmp_path):
    """What no export can show is not seen, whatever the store says of it; the rest of it landed."""
    ask = week()
    store = (tmp_path / "neat-delta.toml").read_text()
    (tmp_path / "neat-delta.toml").write_text(store + 'heading = "Sale Price"\n')
    (tmp_path / "sheet.csv").write_text("sku,price,Sale Price\nQA-1,9.90,8.90\nQA-2,21.00,18.00\nQA-3,5.00,\n")
    ask("compare", "live.csv", "sheet.csv", "-o", "c.jsonl")
    assert "a practice store took every row" in " ".join(
        ask("write", "c.jsonl", "--to", "out", "--rehearse").stdout.split()
    )
    ask("practice", "live.csv", "--import", "out", "--to", "shop", status=(0,))
    said = ("confirm", "c.jsonl", "shop/after.csv", "--files", "out", "--results", "shop/results.csv")
    done = ask(*said, status=(0,)).stdout
    assert "2 items sent, all of them done, says the store; 1 landed, 1 not seen." in done
    facts = json.loads(ask(*said[:5], "--json").stdout)
    assert (facts["counts"]["landed"], facts["unseen"]) == (1, {"sale_price": 2})
    before = ask("confirm", "c.jsonl", "live.csv", *said[3:], status=(1,)).stdout
    assert "said to be done       ·                   ·           1         1" in before
