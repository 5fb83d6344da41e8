"""Cells that were emptied, and new items with a cell missing: on files, through compare, write and sign-off."""

from __future__ import annotations

import json
from typing import Any

import pytest

from tests.test_signoff import answered, rows_of

STORE = """version = 1
[key]
fields = ["sku"]
[importer]
blanks = "skip"
empties = "(none)"
defaults = {{ brand = "Quillfern" }}
{importer}
[fields.sku]
kind = "code"
[fields.name]
required = true
[fields.brand]
required = true
[fields.price]
kind = "money"
heading = "Price (EUR)"
required = true
[fields.note]
[fields.category]
kind = "path"
levels = ">"
"""
LIVE = "sku,name,brand,price,note,category\nA,Veil,Q,9.90,x,Hives > Parts\nB,Suit,Q,20.00,y,Wear > Suits\n"


@pytest.fixture
def shop(put):
    """A shop whose importer has a word for an empty field, and defaults; with these rows in the sheet."""

    def lay_out(*rows: str, importer: str = "", live: str = LIVE) -> None:
        put("neat-delta.toml", STORE.format(importer=importer))
        put("live.csv", live)
        put("sheet.csv", "\n".join(["sku,name,brand,price,note,category", *rows]) + "\n")

    return lay_out


def compared(run, *options: str) -> dict[str, Any]:
    """What compare says as JSON, and the cells that are held in the change set, each with its reason."""
    facts: dict[str, Any] = json.loads(
        run("compare", "live.csv", "sheet.csv", "-o", "c.jsonl", "--json", *options).stdout
    )
    items = json.loads(run("preview", "c.jsonl", "--all", "--json").stdout)["items"]
    held = {(one["item"]["key"]["sku"], held["field"]): held["reason"] for one in items for held in one["item"]["held"]}
    return facts | {"why": held}


A, B = "A,Veil,Q,9.90,x,Hives > Parts", "B,Suit,Q,20.00,y,Wear > Suits"
BOTH_EMPTIED = ("A,Veil,Q,9.90,,Hives > Parts", "B,Suit,Q,20.00,(none),")


@pytest.mark.parametrize(
    "options, held",
    [
        ((), {("A", "note"), ("B", "note"), ("B", "category")}),
        (("--blanks", "clear:note"), {("B", "category")}),
        (("--blanks", "clear", "--blanks", "hold:note"), {("A", "note"), ("B", "note")}),
        (("--blanks", "clear"), set()),
        (("--accept", "emptied:B"), {("A", "note")}),
        (("--accept", "emptied:note"), {("B", "category")}),
        (("--accept", "emptied"), set()),
    ],
)
def test_emptied_cells_are_let_through_by_field_and_by_item(run, shop, tmp_path, options, held):
    shop(*BOTH_EMPTIED)
    found = compared(run, *options)
    assert found["why"] == dict.fromkeys(held, "emptied")
    assert run("write", "c.jsonl", "--to", "out").returncode == (1 if held else 0)
    written = (tmp_path / "out" / "update-1.csv").read_text() if len(held) < 3 else ""
    assert written.count("(none)") == 3 - len(held)


def test_the_summary_names_the_fields_that_were_emptied(run, shop):
    shop(*BOTH_EMPTIED)
    assert "emptied  3 cells of note, category" in run("compare", "live.csv", "sheet.csv", "-o", "c.jsonl").stdout
    assert "emptied  3 cells of note, category" in run("preview", "c.jsonl").stdout
    assert "3 cells of note, category" in run("preview", "c.jsonl", "--markdown").stdout


def test_a_blank_that_keeps_one_field_as_it_is_is_no_change(run, shop):
    shop(*BOTH_EMPTIED)
    found = compared(run, "--blanks", "clear", "--blanks", "keep:note")
    assert (found["header"]["counts"]["cells"], found["header"]["counts"]["blanks_kept"]) == (
        2,
        1,
    )  # of note, one was blank, and one had the word
    for said, why in (
        ("clear:nite", 'it has no field "nite". Did you mean "note"?'),
        ("wipe", "is not hold, clear or"),
    ):
        failed = run("compare", "live.csv", "sheet.csv", "--blanks", said)
        assert failed.returncode == 2 and why in failed.stderr


def test_the_importers_word_for_nothing_empties_what_must_not_be_emptied_no_more_than_a_blank(run, shop):
    shop("A,Veil,Q,(none),x,Hives > Parts", "B,Suit,Q,(none),(none),Wear > Suits", "C,Hat,Q,3.00,(none),Wear > Suits")
    found = compared(run, "--with-new", "--blanks", "clear")
    assert found["why"] == {("A", "price"): "check: required", ("B", "price"): "check: required"}
    assert "C" not in {sku for sku, _ in found["why"]}  # the new item is whole: its note is blank


def test_a_store_that_says_the_word_itself_has_not_changed_by_it(run, shop):
    shop(A, B.replace(",y,", ",(none),"), live=LIVE.replace(",y,", ",(none),"))
    assert compared(run)["header"]["counts"]["cells"] == 0


def test_what_the_importer_fills_in_is_not_missing(run, shop, tmp_path):
    shop(A, B, "C,Hat,,3.00,z,Wear > Suits", "D,,Q,4.00,,")
    found = compared(run, "--with-new")
    assert found["why"] == {("D", None): "check: required"}
    run("write", "c.jsonl", "--to", "out")
    assert "C,Hat,Quillfern,3.00,z,Wear > Suits" in (tmp_path / "out" / "update-1.csv").read_text()


def test_a_new_item_waits_for_a_required_cell_that_is_held(run, shop, tmp_path):
    shop(A, B, "C,Hat,Q,3.x0,z,Wear > Suits", "D,Glove,Q,4.00,w,Wear > Gloves")
    found = compared(run, "--with-new")
    assert found["why"] == {
        ("C", None): "incomplete: price is held",
        ("C", "price"): "check: unreadable",
        ("D", "category"): "check: new-value",  # which a new item may be without
    }
    counts = found["header"]["counts"]
    assert counts["held_cells"] == sum(one["cells"] for one in found["reasons"]) == 6
    run("write", "c.jsonl", "--to", "out")
    assert (tmp_path / "out" / "update-1.csv").read_text() == "sku,name,brand,Price (EUR),note\nD,Glove,Q,4.00,w\n"


def test_a_new_item_waits_for_a_required_cell_that_was_answered_no(run, shop, tmp_path):
    shop("A,Veil,Q,9.95,x,Hives > Parts", B, "C,Hat,Q,3.00,z,Wear > Suits")
    compared(run, "--with-new")
    run("preview", "c.jsonl", "--workbook", "ask.xlsx")
    rows = rows_of(tmp_path / "ask.xlsx")
    answers = {(row[0], row[2]): "yes" for row in rows[1:]} | {("C", "price"): "no"}
    answered(rows, tmp_path / "ask.xlsx", answers)
    run("write", "c.jsonl", "--to", "out", "--signed-off", "ask.xlsx")
    assert [file.name for file in (tmp_path / "out").glob("update-*")] == ["update-1.csv"]
    assert (tmp_path / "out" / "update-1.csv").read_text() == "sku,Price (EUR)\nA,9.95\n"
    manifest = json.loads((tmp_path / "out" / "manifest.json").read_text())
    assert {"key": {"sku": "C"}, "field": None, "reason": "incomplete: price is held"} in manifest["not_sent"]


def test_a_path_that_live_has_is_spelt_as_live_spells_it(run, shop, tmp_path):
    shop("A,Veil,Q,9.90,x,Wear>Suits", "B,Suit,Q,20.00,y,Wear>Suits", "C,Hat,Q,3.00,z,Hives  >Parts")
    found = compared(run, "--with-new")
    assert found["why"] == {("B", "category"): "check: near-twin"}  # nothing but its spelling would change
    run("write", "c.jsonl", "--to", "out")
    assert "C,Hat,Q,3.00,z,Hives > Parts" in (tmp_path / "out" / "update-1.csv").read_text()
    assert (tmp_path / "out" / "update-2.csv").read_text() == "sku,category\nA,Wear > Suits\n"
    two = LIVE + "E,Cap,Q,1.00,,Wear>Suits\n"
    shop("A,Veil,Q,9.90,x,Wear  > Suits", B, "E,Cap,Q,1.00,,Wear>Suits", live=two)
    assert compared(run)["why"] == {("A", "category"): "check: near-twin"}  # live has two spellings: which one?


def test_tab_text_is_said_by_name_and_called_so(run, shop, tmp_path):
    shop(A.replace("9.90", "9.95"), B, importer='separator = "tab"')
    compared(run)
    assert run("write", "c.jsonl", "--to", "out").returncode == 0
    assert (tmp_path / "out" / "update-1.tsv").read_text() == "sku\tPrice (EUR)\nA\t9.95\n"
    for separator, ending in (("semicolon", ".csv"), ("pipe", ".csv"), ("\\t", ".tsv")):
        shop(A.replace("9.90", "9.95"), B, importer=f'separator = "{separator}"')
        assert run("write", "c.jsonl", "--to", "out", "--replace").returncode == 0
        assert [file.suffix for file in (tmp_path / "out").glob("update-*")] == [ending]


@pytest.mark.parametrize(
    "importer, said",
    [
        ('separator = "ab"', "importer.separator: it must be one plain character, or comma, semicolon, tab or pipe."),
        ('encoding = "rot13"', 'importer.encoding: there is no encoding "rot13"; for example: utf-8'),
        ('encoding = "punycode"', 'importer.encoding: there is no encoding "punycode"'),
    ],
)
def test_what_no_file_can_be_written_with_is_refused_by_its_line(run, shop, importer, said):
    shop(A, B, importer=importer)
    failed = run("compare", "live.csv", "sheet.csv")
    assert failed.returncode == 2 and f"neat-delta.toml, line 8, {said}" in failed.stderr


def test_who_reads_first_is_not_told_of_items_that_nobody_asked_about(run, shop, tmp_path):
    shop(A.replace("9.90", "9.95").replace(",x,", ",,"))
    compared(run)
    run("write", "c.jsonl", "--to", "out")
    text = (tmp_path / "out" / "READ-ME-FIRST.txt").read_text()
    assert "Not in these files, because it is held: 1 cell; manifest.json says why." in text
    assert "did not have" not in text
    compared(run, "--whole")
    run("write", "c.jsonl", "--to", "out", "--replace")
    text = (tmp_path / "out" / "READ-ME-FIRST.txt").read_text()
    assert "because it is held: 1 cell;" in text
    assert "Items of the catalogue that the sheet did not have, which stay as they are: 1." in text


def test_a_blank_that_is_meant_is_sent_where_blanks_keep_the_field(run, put):
    """By the importer's word, or let through by its code; all other blanks leave the field as it is."""
    put("live.csv", "sku,name,note\nQA-1,Hive,a\nQA-2,Wax,b\nQA-3,Jar,c\n")
    put("sheet.csv", "sku,name,note\nQA-1,Hive,-none-\nQA-2,Wax,\nQA-3,Jar,\n")
    put("neat-delta.toml", 'version = 1\n[fields.note]\n[importer]\nblanks = "skip"\nempties = "-none-"\n')
    call = ("compare", "live.csv", "sheet.csv", "--blanks", "keep")
    first = json.loads(run(*call, "--json").stdout)
    assert (first["to_send"], first["held"]) == (1, 0) and first["header"]["counts"]["blanks_kept"] == 2
    both = json.loads(run(*call, "--accept", "emptied:QA-3", "--json").stdout)
    assert (both["to_send"], both["held"]) == (2, 0) and both["header"]["counts"]["blanks_kept"] == 1
    run(*call, "--accept", "emptied:QA-3", "-o", "c.jsonl")
    assert run("write", "c.jsonl", "--to", "out").returncode == 0


SPELT = """version = 1
[importer]
blanks = "skip"
[fields.status]
kind = "choice"
values = ["active", "hidden"]
[fields.category]
kind = "path"
levels = " > "
"""


def test_choices_and_categories_go_out_as_live_spells_them(run, put, tmp_path):
    """White space around them is nobody's, and would be another value for the store."""
    put("neat-delta.toml", SPELT)
    put("live.csv", "sku,status,category\nA,active,Hives > Deep\nB,hidden,Hives > Shallow\nC,active,Wax\n")
    put(
        "sheet.csv",
        'sku,status,category\nA, hidden ,"  Hives>Shallow "\nB,\u00a0active,Hives > Shallow \nC,active, Wax > New\n',
    )
    run("compare", "live.csv", "sheet.csv", "-o", "c.jsonl", "--with-new-values", "category")
    run("write", "c.jsonl", "--to", "out", "--rehearse")
    assert (tmp_path / "out" / "update-1.csv").read_text().splitlines() == [
        "sku,status,category",
        "A,hidden,Hives > Shallow",
        "B,active,",
        "C,,Wax > New",
    ]
