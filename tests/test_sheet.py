"""The working sheet through the installed program: what is cut, what stands in the workbook, that it comes back."""

from __future__ import annotations

import csv
import io
import json
import re
import zipfile
from datetime import date

import pytest
from python_calamine import CalamineWorkbook

from neat_delta import compare, read, read_store
from neat_delta.core.base.model.catalogue import Origin

SHOP = """\
SKU;Title;Price;Cost;Stock;Since;On;Colour;EAN;Text;Rating
00417;"Feeder, 2 l";1.019,90;12,5;3;04.03.2019;ja;red;0400123456789;"two\r\nlines";1,5
MAR-02;Veil;5,00;2,25;0;12.05.2026;nein;;2900000000001;"  <b>&amp; _x0041_ ""q""  ";2
QA-3;Jar;0,10;;120;01.01.1890;ja;blue;;=1+1;on request
QA-4;Wax;123456789012345678,25;1;7;;ja;red;12;plain;3
"""
STORE = """\
version = 1
[file]
separator = ";"
[writing]
decimal_mark = ","
thousands_mark = "."
date_form = "DD.MM.YYYY"
[key]
fields = ["sku"]
name = "Title"
[fields.sku]
kind = "code"
heading = "SKU"
[fields.Title]
longest = 40
[fields.Price]
kind = "money"
decimals = 2
least = 0.05
[fields.Cost]
kind = "money"
locked = true
[fields.Stock]
kind = "integer"
[fields.Since]
kind = "date"
[fields.On]
kind = "flag"
yes = ["ja"]
no = ["nein"]
[fields.Colour]
kind = "choice"
values = ["red", "blue", "wax, white"]
[fields.EAN]
kind = "code"
[fields.Rating]
kind = "decimal"
"""


@pytest.fixture
def shop(put):
    put("neat-delta.toml", STORE)
    return put("live.csv", SHOP)


def test_what_is_cut(run, shop, tmp_path):
    done = run("sheet", "live.csv", "-o", "a.csv", "--where", "Stock < 10 AND Price > 1", "--fields", "Stock,Price",
               "--sort", "Price DESC", "--separator", "sheet=comma")  # fmt: skip
    assert (done.returncode, done.stderr) == (0, "")
    content = (tmp_path / "a.csv").read_bytes()
    assert content == (
        b"\xef\xbb\xbfSKU,Title,Stock,Price\r\nQA-4,Wax,7,\"123456789012345678,25\"\r\n"
        b"00417,\"Feeder, 2 l\",3,\"1.019,90\"\r\nMAR-02,Veil,0,\"5,00\"\r\n"
    )  # fmt: skip
    done = run("sheet", "live.csv", "-o", "b.tsv", "--fields", "Price,Since", "--decimal-mark", ".",
               "--thousands-mark", "none", "--date-form", "YYYY-MM-DD", "--where", "\"on\"", "--json")  # fmt: skip
    assert json.loads(done.stdout)["items"] == 3
    lines = (tmp_path / "b.tsv").read_text("utf-8-sig").splitlines()
    assert lines[1:3] == ["00417\tFeeder, 2 l\t1019.90\t2019-03-04", "QA-3\tJar\t0.10\t1890-01-01"]
    (tmp_path / "list.txt").write_text("QA-3\n\nNO-1\nQA-3\n 00417 \n")
    done = run("sheet", "live.csv", "-o", "c.csv", "--skus", "list.txt", "--fields", "sku")
    assert done.returncode == 1 and "1 code not in live\n  NO-1" in done.stdout
    assert len((tmp_path / "c.csv").read_text().splitlines()) == 3


@pytest.mark.parametrize(
    ("asked", "first"),
    [(["--date-form", "YYYY-MM-DD"], ["2019-03-04", "1.5"]), (["--decimal-mark", ","], ["04.03.2019", "1,5"])],
)
def test_a_field_keeps_a_mark_of_its_own_where_none_is_asked_for(run, shop, put, tmp_path, asked, first):
    put("neat-delta.toml", STORE + 'decimal_mark = "."\n')
    put("live.csv", SHOP.replace("1,5\n", "1.5\n"))
    assert run("sheet", "live.csv", "-o", "a.csv", "--fields", "Since,Rating", *asked).returncode == 0
    rows = list(csv.reader((tmp_path / "a.csv").read_text("utf-8-sig").splitlines()))
    assert rows[1] == ["00417", "Feeder, 2 l", *first]


def test_what_stands_in_the_workbook(run, shop, tmp_path):
    assert run("sheet", "live.csv", "-o", "a.xlsx").returncode == 0
    book = CalamineWorkbook.from_path(str(tmp_path / "a.xlsx"))
    rows = book.get_sheet_by_name("items").to_python()
    assert rows[1] == ["00417", "Feeder, 2 l", 1019.9, 12.5, 3, date(2019, 3, 4), "ja", "red", "0400123456789",
                       "two\nlines", 1.5]  # fmt: skip
    # What a spreadsheet cannot hold as it is stays text: an early day, words, more digits than 15.
    assert (rows[3][5], rows[3][9], rows[3][10], rows[4][2]) == (
        "01.01.1890", "=1+1", "on request", "123456789012345678,25")  # fmt: skip
    parts = zipfile.ZipFile(tmp_path / "a.xlsx")
    page, names = parts.read("xl/worksheets/sheet1.xml").decode(), parts.read("xl/workbook.xml").decode()
    assert 'state="hidden"' in names and "<sheetProtection " in page and "<autoFilter " in page
    assert '<pane xSplit="2" ySplit="1"' in page
    rules = dict(re.findall(r'<dataValidation type="(\w+)"[^>]*sqref="([A-Z])2', page))
    assert rules.items() >= {"list": "H", "textLength": "B", "whole": "E", "date": "F"}.items()
    assert "<formula1>0.05</formula1>" in page
    notes = parts.read("xl/comments1.xml").decode()
    assert "Money with 2 decimals, at least 0.05." in notes and "Locked: it is not changed here." in notes
    origin = {row[0]: row[1] for row in book.get_sheet_by_name("neat-delta").to_python()}
    assert (origin["cut from"], origin["its rows"], origin["its fields"], origin["rows here"]) == ("live.csv", 4, 11, 4)


def test_it_compares_to_no_change_and_compare_knows_where_it_was_cut(run, shop, tmp_path):
    for ending in ("xlsx", "csv", "tsv"):
        assert run("sheet", "live.csv", "-o", f"a.{ending}").returncode == 0
        live, sheet = read(shop), read(str(tmp_path / f"a.{ending}"))
        changes = compare(live, sheet, store=read_store(str(tmp_path / "neat-delta.toml")))
        assert changes.header.counts.same == 4 and changes.cells.is_empty()
    done = run("compare", "live.csv", "a.xlsx", "--json")
    facts = json.loads(done.stdout)["header"]
    digest = facts["live"]["blake3"]
    assert facts["sheet"]["origin"] == {"path": "live.csv", "blake3": digest, "rows": 4, "fields": 11, "cut": 4}
    assert read(str(tmp_path / "a.xlsx")).origin == Origin("live.csv", digest, 4, 11, 4)
    assert "cut from live.csv: 4 of 4 rows\n" in run("compare", "live.csv", "a.xlsx").stdout
    (tmp_path / "live.csv").write_text(SHOP.replace("Veil", "Fine veil"))
    moved = run("compare", "live.csv", "a.xlsx").stdout
    assert "what the sheet was cut with, as it remembers: 4 rows" in moved and "meanwhile in the store: " in moved


def test_the_same_cut_gives_the_same_bytes(run, shop, tmp_path):
    for name in ("a.xlsx", "b.xlsx"):
        run("sheet", "live.csv", "-o", name)
    assert (tmp_path / "a.xlsx").read_bytes() == (tmp_path / "b.xlsx").read_bytes()
    book = io.BytesIO((tmp_path / "a.xlsx").read_bytes())
    assert all(info.date_time[0] == 1980 for info in zipfile.ZipFile(book).infolist())


@pytest.mark.parametrize(
    "args, why",
    [
        (["-o", "a.doc"], "a working sheet is a workbook (.xlsx) or delimited text"),
        (["-o", "live.csv"], "this is an input"),
        (["-o", "there.csv"], "--replace overwrites it"),
        (["-o", "a.csv", "--fields", "Prise"], 'it has no field "Prise". Did you mean "Price"?'),
        (["-o", "a.csv", "--where", "Prise > 1"], 'at "Prise" (character 1): there is no field "Prise"'),
        (["-o", "a.csv", "--where", "Price > 1e9 AND Stock = 0"], "No item fits, so there is nothing to cut"),
        (["-o", "a.csv", "--sort", "Price DOWN"], "An order is made of fields with commas between them"),
        (["-o", "a.csv", "--sort", "Price LIMIT 1"], "An order is made of fields"),
        (["-o", "a.csv", "--sort", "Prise"], 'In the order, at "Prise" (character 1)'),
        (["-o", "a.csv", "--skus", "none.txt"], "none.txt: there is no such file"),
    ],
)
def test_what_cannot_be_cut_is_said(run, shop, put, tmp_path, args, why):
    put("there.csv", "somebody's work")
    done = run("sheet", "live.csv", *args)
    assert done.returncode == 2 and why in done.stderr and done.stderr.count("\n") == 1
    assert sorted(path.name for path in tmp_path.iterdir()) == ["live.csv", "neat-delta.toml", "there.csv"]


def test_what_a_workbook_has_no_room_for_is_said(run, put):
    put("live.csv", "sku,text\nQA-1," + "x" * 32_768 + "\n")
    done = run("sheet", "live.csv", "-o", "a.xlsx")
    assert done.returncode == 2 and 'A cell of "text" has 32,768 characters' in done.stderr
