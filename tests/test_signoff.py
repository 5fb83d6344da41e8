"""The workbook to sign off, through the installed program: what stands in it, what an answer sends, what is refused."""

from __future__ import annotations

import csv
import io
import json
import zipfile

import pytest
import xlsxwriter
from python_calamine import CalamineWorkbook

from neat_delta import read_changes
from tests.conftest import campaign
from tests.test_office import needs_office, opened_and_saved

HEADINGS = ["key: sku", "name", "field", "before", "after", "difference", "answer", "comment", "findings", "seal"]
LIVE = 'sku,name,price,note\nQA-1,Jar,1.50,a\nQA-2,Lid,2.50,"x\r\ny"\nQA-3,Wax,3.50,\nQA-4,Veil,4.50,z\n'
SHEET = (
    'sku,name,price,note\nQA-1,Jar,1.60,=1+1\nQA-2,Lid,2.40,"x\r\ny\r\nz"\n'
    "QA-3,Wax,3.50,-5\nQA-4,Veil,4.50,\nQA-5,Net,9.00,new\n"
)


@pytest.fixture
def workbook(run, put, tmp_path):
    """The rows of the workbook of a small round."""
    put("live.csv", LIVE)
    put("sheet.csv", SHEET)
    assert run("compare", "live.csv", "sheet.csv", "--with-new", "-o", "c.jsonl").returncode == 1
    done = run("preview", "c.jsonl", "--workbook", "sign.xlsx")
    assert (done.returncode, done.stderr) == (0, "")
    return rows_of(tmp_path / "sign.xlsx")


def rows_of(path) -> list[list[str]]:
    return [
        [str(cell) for cell in row]
        for row in CalamineWorkbook.from_path(str(path)).get_sheet_by_name("changes").to_python()
    ]


def answered(rows: list[list[str]], path, answers: dict[tuple[str, str], str]) -> None:
    """The workbook as a person saves it, with their answers."""
    book = xlsxwriter.Workbook(str(path))
    page = book.add_worksheet("changes")
    for number, row in enumerate(rows):
        cells = list(row)
        cells[6] = answers.get((row[0], row[2]), row[6])
        for place, text in enumerate(cells):
            page.write_string(number, place, text)
    book.close()


def test_every_changed_cell_stands_in_it_as_text(workbook, run, tmp_path):
    assert workbook[0] == HEADINGS
    assert [row[:5] for row in workbook[1:]] == [
        ["QA-1", "Jar", "price", "1.50", "1.60"],
        ["QA-1", "Jar", "note", "a", "=1+1"],
        ["QA-2", "Lid", "price", "2.50", "2.40"],
        ["QA-2", "Lid", "note", "x\ny", "x\ny\nz"],
        ["QA-3", "Wax", "note", "", "-5"],
        ["QA-4", "Veil", "note", "z", ""],
        ["QA-5", "Net", "name", "", "Net"],
        ["QA-5", "Net", "price", "", "9.00"],
        ["QA-5", "Net", "note", "", "new"],
    ]
    assert [row[5] for row in workbook[1:4]] == ["0.1", "", "-0.1"]
    assert workbook[2][8].startswith("held: damage: a formula") and workbook[6][8] == "held: emptied"
    page = zipfile.ZipFile(tmp_path / "sign.xlsx").read("xl/worksheets/sheet1.xml").decode()
    assert "<f>" not in page and "<sheetProtection " in page and '<dataValidation type="list"' in page
    assert run("preview", "c.jsonl", "--workbook", "sign.xlsx").returncode == 0  # nobody answered in it yet
    (tmp_path / "sign.xlsx").write_bytes((tmp_path / "sign.xlsx").read_bytes() + b"answered")
    again = run("preview", "c.jsonl", "--workbook", "sign.xlsx")
    assert again.returncode == 2 and "--replace overwrites it" in again.stderr
    run("preview", "c.jsonl", "--workbook", "some.xlsx", "--field", "price", "--where", "price > 2", "--sort", "size")
    assert [row[0] for row in rows_of(tmp_path / "some.xlsx")[1:]] == ["QA-2", "QA-5"]


def sent(folder) -> set[tuple[str, str, str]]:
    """The cells of the update files: key, field, text."""
    found = set()
    for path in folder.glob("update-*.csv"):
        for row in csv.DictReader(io.StringIO(path.read_bytes().decode(), newline="")):
            found |= {(row["sku"], name, text) for name, text in row.items() if name != "sku"}
    return found


ANSWERS = {("QA-1", "price"): "Yes ", ("QA-2", "price"): "no", ("QA-2", "note"): "yes", ("QA-5", "price"): "y"}


def test_only_what_was_answered_yes_is_sent(workbook, run, tmp_path):
    answered(workbook, tmp_path / "signed.xlsx", ANSWERS)
    done = run("write", "c.jsonl", "--signed-off", "signed.xlsx", "--to", "out", "--json")
    held = {one["reason"]: one["cells"] for one in json.loads(done.stdout)["manifest"]["held_before"]}
    assert held == {"damage: a formula for its value": 1, "emptied": 1, "answered no": 1, "not signed off": 3}
    assert {one for one in sent(tmp_path / "out") if one[2]} == {
        ("QA-1", "price", "1.60"),
        ("QA-2", "note", "x\r\ny\r\nz"),
        ("QA-5", "price", "9.00"),
    }
    answered(workbook, tmp_path / "none.xlsx", {("QA-1", "note"): "yes"})
    run("write", "c.jsonl", "--signed-off", "none.xlsx", "--to", "none")  # a held cell stays held
    assert not sent(tmp_path / "none")


def test_a_no_is_a_promise_in_confirm_retry_and_undo(workbook, run, put, tmp_path):
    """With every kind of hold: a reviewer's no, no answer, damage, a blank, a new item of which a part is signed."""
    answered(workbook, tmp_path / "signed.xlsx", ANSWERS)
    put("neat-delta.toml", 'version = 1\n[importer.removal]\nhow = "row"\n')
    run("write", "c.jsonl", "--signed-off", "signed.xlsx", "--to", "out")
    listed = json.loads((tmp_path / "out" / "manifest.json").read_text())["not_sent"]
    assert {(one["key"]["sku"], one["field"]): one["reason"] for one in listed} == {
        ("QA-1", "note"): "damage: a formula for its value",
        ("QA-2", "price"): "answered no",
        ("QA-3", "note"): "not signed off",
        ("QA-4", "note"): "emptied",
        ("QA-5", "name"): "not signed off",
        ("QA-5", "note"): "not signed off",
    }
    yes = {("QA-1", "price"), ("QA-2", "note"), ("QA-5", "price")}
    (tmp_path / "live.csv").touch()  # exported once more
    found = json.loads(run("confirm", "c.jsonl", "live.csv", "--files", "out", "--retry", "again", "--json").stdout)
    assert {(one["key"]["sku"], one["field"]) for one in found["trouble"]} == yes
    assert {(sku, name) for sku, name, text in sent(tmp_path / "again") if text} == yes
    landed = (
        'sku,name,price,note\nQA-1,Jar,1.60,a\nQA-2,Lid,2.50,"x\r\ny\r\nz"\nQA-3,Wax,3.50,\nQA-4,Veil,4.50,z\n'
        "QA-5,,9.00,\n"
    )
    put("after.csv", landed)
    assert run("confirm", "c.jsonl", "after.csv", "--files", "out").returncode == 0
    for options in (("--now", "after.csv"), ()):
        run("undo", "c.jsonl", "--files", "out", "--to", "back", "--replace", *options)
        back = {(sku, name) for sku, name, text in sent(tmp_path / "back") if text}
        assert back == {("QA-1", "price"), ("QA-2", "note")}, options
        texts = [path.read_text() for path in (tmp_path / "back").glob("update-*.csv")]
        removed = "".join(text for text in texts if "QA-5" in text)
        assert removed.split() == ["sku", "QA-5"]


REFUSED = {
    "another value now": (
        lambda rows: [[*row[:4], "1.70", *row[5:]] if row[4] == "1.60" else row for row in rows],
        'row 2: the answer for QA-1, price is for "1.50" → "1.70", and it is "1.50" → "1.60" now',
    ),
    "another item": (
        lambda rows: [["QA-9", *row[1:]] if row[4] == "1.60" else row for row in rows],
        "row 2: the answer for QA-9, price is for",
    ),
    "twice": (lambda rows: [*rows, rows[1]], "row 2: there are two answers for this cell"),
    "no answer": (lambda rows: [[*row[:6], "maybe", *row[7:]] if row[0] == "QA-3" else row for row in rows],
                  'row 6: "maybe" is neither yes nor no'),
    "another seal": (
        lambda rows: [[*row[:9], rows[2][9]] if row[4] == "1.60" else row for row in rows],
        "row 2: the answer for QA-1, price is for \"1.50\" → \"1.60\", and its seal is broken",
    ),
    "no workbook": (lambda rows: [row[:6] for row in rows], 'there is no heading "answer"'),
}  # fmt: skip


@pytest.mark.parametrize("spoil, why", REFUSED.values(), ids=REFUSED)
def test_an_answer_that_does_not_fit_is_refused(workbook, run, tmp_path, spoil, why):
    answered(workbook, tmp_path / "whole.xlsx", ANSWERS | {("QA-9", "price"): "yes"})
    spoilt = spoil(rows_of(tmp_path / "whole.xlsx"))
    with xlsxwriter.Workbook(str(tmp_path / "signed.xlsx")) as book:
        page = book.add_worksheet("changes")
        for number, row in enumerate(spoilt):
            page.write_row(number, 0, [f"{text}" if text != "Yes " or row[0] != "QA-9" else "yes" for text in row])
    done = run("write", "c.jsonl", "--signed-off", "signed.xlsx", "--to", "out")
    assert done.returncode == 2 and why in done.stderr
    assert not (tmp_path / "out").exists()


def test_of_a_text_too_long_for_a_cell_the_part_is_shown_that_differs_and_all_of_it_is_signed(run, put, tmp_path):
    start, end = "wax " * 9_000, " honey" * 400
    put("live.csv", f"sku,note\nQA-1,{start}old{end}\nQA-2,x\n")
    put("sheet.csv", f"sku,note\nQA-1,{start}new{end}\nQA-2,{'y' * 40_000}\n")
    run("compare", "live.csv", "sheet.csv", "-o", "c.jsonl")
    run("preview", "c.jsonl", "--workbook", "sign.xlsx")
    rows = rows_of(tmp_path / "sign.xlsx")
    (one, other), (_, long) = [row[3:5] for row in rows[1:]]
    assert one.startswith("[38,403 characters, from character 35,801]\nwax ") and one[0:2000] != other[0:2000]
    assert ("old honey" in one, "new honey" in other) == (True, True)
    assert long.startswith("[40,000 characters, from character 1]\nyyy")
    answered(rows, tmp_path / "signed.xlsx", {("QA-1", "note"): "yes", ("QA-2", "note"): "yes"})
    assert run("write", "c.jsonl", "--signed-off", "signed.xlsx", "--to", "out").returncode == 0
    assert len({text for _, _, text in sent(tmp_path / "out")}) == 2
    put("sheet.csv", f"sku,note\nQA-1,{start}new{end}\nQA-2,{'y' * 39_999}z\n")  # which nobody saw
    run("compare", "live.csv", "sheet.csv", "-o", "c.jsonl")
    failed = run("write", "c.jsonl", "--signed-off", "signed.xlsx", "--to", "other")
    assert failed.returncode == 2 and "row 3: the answer for QA-2, note" in failed.stderr


@campaign
@needs_office
@pytest.mark.parametrize("how", ["xlsx", "ods"])
def test_answers_come_back_from_a_spreadsheet(workbook, run, tmp_path, how):
    """Saved by LibreOffice, first as it was made, then with its answers."""
    as_made = rows_of(opened_and_saved("xlsx", tmp_path / "sign.xlsx")[0])
    assert [row[:5] for row in as_made] == [row[:5] for row in workbook]
    answered(workbook, tmp_path / "signed.xlsx", ANSWERS)
    done = run("write", "c.jsonl", "--signed-off", opened_and_saved(how, tmp_path / "signed.xlsx")[0], "--to", "out")
    assert done.returncode == 1
    assert {one[:2] for one in sent(tmp_path / "out") if one[2]} == {
        ("QA-1", "price"),
        ("QA-2", "note"),
        ("QA-5", "price"),
    }
    assert read_changes(str(tmp_path / "c.jsonl")).header.counts.held_cells == 2
