"""The same catalogue in every format, encoding and dialect is read as the same items; what was understood is said."""

from __future__ import annotations

import csv
import io
import json
import zipfile
from datetime import timedelta
from pathlib import Path

import polars as pl
import pytest
import xlsxwriter
from hypothesis import strategies as st

import neat_delta
from neat_delta import CatalogueError, Layout, read
from neat_delta.files.readers.delimited import read_text
from neat_delta.files.readers.magic import binary_format
from neat_delta.files.writers.delimited import write_delimited
from tests.conftest import each_of, first_of, in_two_lengths
from tests.made import (
    DATA,
    HEADINGS,
    POLISH,
    ROWS,
    RUSSIAN,
    WESTERN,
    delimited,
    files_of_every_format,
    objects,
    ods,
    xlsx,
    zipped,
)

FILES = files_of_every_format()
ACID = Path(__file__).parent / "acid"


@pytest.mark.parametrize("content", each_of(2, FILES.values()), ids=FILES)
def test_the_same_catalogue_is_read_from_every_file(put, content):
    found = read(put("live.csv", content))
    assert found.fields == HEADINGS
    assert found.cells.rows() == [tuple(row) for row in ROWS]
    again = read(found.path, found.layout)  # told what was found out, it is read the same
    assert again.cells.equals(found.cells)
    assert again.layout == found.layout


PAGES = {
    **dict.fromkeys(("cp1252", "iso8859-15", "mac-roman", "cp850"), WESTERN),
    **dict.fromkeys(("cp1250", "iso8859-2", "cp852"), POLISH),
    **dict.fromkeys(("cp1251", "koi8-r", "iso8859-5", "cp866"), RUSSIAN),
}


@pytest.mark.parametrize("page", PAGES)
@pytest.mark.parametrize("times", first_of([1, 2000], 1), ids=["a few lines", "letters far down"])
def test_the_code_page_is_found_out_by_the_letters(put, page, times):
    rows = [[f"QA-{n}", "plain"] for n in range(times * 3)] + PAGES[page]
    found = read(put("sheet.csv", delimited(["sku", "name"], rows, separator=";", encoding=page)))
    assert found.cells.rows() == [tuple(row) for row in rows]
    assert found.layout.encoding in {page, "cp1252"}  # several pages may have the same letters in the same places


@pytest.mark.parametrize("name", sorted(file.stem for file in ACID.glob("*.csv")))
def test_the_acid_tests_of_csv_spectrum_pass(name):
    """From csv-spectrum 2.0.0 (npm), a suite of acid tests for any CSV reader, BSD licence."""
    wanted = json.loads((ACID / f"{name}.json").read_text())
    if name == "location_coordinates":  # there the package's JSON has another telephone number than its CSV
        wanted["Contact Phone Number"] = "2095257564"
    found = read(str(ACID / f"{name}.csv"))
    assert found.cells.rows(named=True) == (wanted if isinstance(wanted, list) else [wanted])


def test_quotes_and_line_ends_of_old(put):
    content = delimited(
        HEADINGS, [[cell.replace('"', "in") for cell in row] for row in ROWS], quotechar="'", quoting=csv.QUOTE_ALL
    )
    found = read(put("live.csv", content))
    assert found.layout.quote == "'"
    assert found.cells["note"].to_list() == [row[5] for row in ROWS]
    assert read(put("mac.csv", "sku,price\rQA-1,1\r"), Layout(line_end="CR")).cells.rows() == [("QA-1", "1")]
    bare = read(put("bare.tsv", 'sku\tname\nQA-1\t5" pipe\nQA-2\t"x\n'), Layout(quote=""))
    assert bare.cells["name"].to_list() == ['5" pipe', '"x']


@pytest.mark.parametrize("quote_all", [False, True])
def test_with_escapes_every_cell_comes_back(quote_all):
    cells = pl.DataFrame({"sku": ["a", "b\\", "c"], 'no"te': ["0\r", 'say "hm", \\"\n', ""]})
    layout = Layout(escape="\\", quote='"', separator=",", line_end="LF", header_line=1, quote_all=quote_all)
    data = write_delimited(cells, layout)
    assert read_text(data, "made.csv", layout).cells.equals(cells)
    with pytest.raises(CatalogueError, match="and the store's files have no quotes for it"):
        write_delimited(cells, Layout(quote=""))


def test_what_stands_above_the_headings_is_left_out_and_said(put):
    text = "Price list;;\nvalid from 2026-05-01;;\n;;\nSKU;Price;Stock\nQA-1;1,50;3\n;;\nTotal;1,50;3\n"
    found = read(put("sheet.csv", text))
    assert found.fields == ["SKU", "Price", "Stock"]
    assert found.layout.header_line == 4
    assert found.notes == ("lines 1 to 3 are above the header and left out",)
    assert found.row(found.cells.with_row_index("n")["n"]).to_list() == [5, 6, 7]
    assert read(put("sheet.csv", text), Layout(header_line=2)).fields == ["valid from 2026-05-01"]
    with pytest.raises(CatalogueError, match=r"no line 99 for the header"):
        read(put("sheet.csv", text), Layout(header_line=99))


@in_two_lengths(
    st.lists(st.lists(st.sampled_from(["", "a", "b", "7", "1.5"]), min_size=3, max_size=3), min_size=1, max_size=6),
    few=40,
    many=200,
)
def test_a_first_line_with_all_headings_is_always_the_header(rows):
    text = delimited(["sku", "price", "stock"], rows)
    found = read_text(text, "made.csv", Layout(separator=","))
    assert found.cells.columns == ["sku", "price", "stock"]


WORKBOOK_ROWS = [
    ("QA-1", "00417", "0.2", "19.9", "2026-05-12", "2026-05-12T10:30:00", "#N/A", "TRUE", "0.3", "2"),
    ("12345", "", "", "", "", "", "", "", "", ""),
    ("merged", "", "", "", "", "", "", "", "", ""),
]


@pytest.mark.parametrize("ending", ["xlsx", "ods", "xls"])
def test_a_workbook_gives_what_a_person_sees(ending):
    """Files that a spreadsheet saved: formats, dates, errors, hidden and merged cells, a second sheet."""
    found = read(str(DATA / f"odd.{ending}"))
    assert found.cells.rows() == WORKBOOK_ROWS
    notes = " / ".join(found.notes)
    for part in (
        'read only the sheet "Prices"; ‹sheet_name› reads another: Other',
        "1 hidden row and hidden column D",
        "merged cells hold their value only in the first: A4:C4",
        "1 cell with a formula that failed: G2 #N/A",
    ):
        assert part in notes
    with pytest.raises(CatalogueError, match=r'the sheet "Other" is empty\. There are also: "Prices"'):
        read(str(DATA / f"odd.{ending}"), Layout(sheet_name="Other"))
    with pytest.raises(CatalogueError, match=r'no sheet "None"\. It has: Prices, Other'):
        read(str(DATA / f"odd.{ending}"), Layout(sheet_name="None"))


def test_a_formula_that_was_never_computed_is_an_error():
    with pytest.raises(CatalogueError, match="the formula in J2 has no computed value"):
        read(str(DATA / "uncomputed.xlsx"))


@pytest.mark.parametrize(
    "value, text",
    [
        (417.0, "417"),
        (19.9, "19.9"),
        (0.1 + 0.2, "0.3"),
        (1e21, "1000000000000000000000"),
        (1.5e-7, "0.00000015"),
        (-0.0, "0"),
        (5901234123457.0, "5901234123457"),
        (1234567890123456.0, "1234567890123460"),
        (2 / 3, "0.666666666666667"),
    ],
)
def test_a_workbook_s_number_is_the_text_that_it_shows(value, text):
    from neat_delta.files.readers.grid import _number_texts, number

    assert number(value) == text
    assert _number_texts([value, 1.0]).to_list() == [text, "1"]


def test_it_is_said_when_a_file_is_not_what_it_is_called(run, put):
    put("live.csv", xlsx(HEADINGS, ROWS))
    put("sheet.ods", delimited(HEADINGS, ROWS, separator=";", encoding="cp1252"))
    done = run("compare", "live.csv", "sheet.ods")
    assert (done.returncode, done.stderr) == (0, "")
    text = " ".join(done.stdout.split())
    assert "it is called .csv, and is read as what it is: workbook (xlsx)" in text
    assert "sheet sheet.ods: 4 rows, 6 fields, semicolon, Windows-1252" in text


def test_json_is_read_by_value_and_kept_by_its_digits(put):
    one = '{"sku": "QA-1", "price": 19.90, "on": true, "tags": ["a", "b"], "big": 12345678901234567890.10}'
    text = f'[{one}, {{"sku": "é", "x": null}}]'
    found = read(put("live.json", text))
    assert found.cells.rows() == [
        ("QA-1", "19.90", "true", '["a", "b"]', "12345678901234567890.10", ""),
        ("é", "", "", "", "", ""),
    ]
    with pytest.raises(CatalogueError, match=r"line 2: it is no JSON object"):
        read(put("live.jsonl", '{"sku": "QA-1"}\n{"sku": \n'))
    with pytest.raises(CatalogueError, match="it is no array of objects"):
        read(put("live.json", "[{}, 3]"))


def test_standard_input_is_a_file_like_any_other(store):
    import subprocess

    from tests.conftest import PROGRAM

    done = subprocess.run(
        [PROGRAM, "compare", "live.csv", "-", "-o", "changes.jsonl"],
        input=(store / "sheet.csv").read_bytes(),
        cwd=store,
        capture_output=True,
        check=False,
    )
    assert (done.returncode, done.stderr) == (1, b"")
    assert b"standard input: 410 rows" in done.stdout
    assert neat_delta.read_changes(str(store / "changes.jsonl")).header.counts.changed == 35


def test_live_in_any_format_goes_the_whole_round(run, put, tmp_path):
    """A workbook as live: update files are CSV, and everything is proven."""
    put("live.xlsx", xlsx(HEADINGS, ROWS))
    edited = [[*row[:2], "21", *row[3:]] if row[0] == "QA-1003" else row for row in ROWS]
    put("sheet.json", json.dumps(objects(HEADINGS, edited)))
    assert run("compare", "live.xlsx", "sheet.json", "-o", "changes.jsonl").returncode == 0
    written = run("write", "changes.jsonl", "--to", "out")
    assert (written.returncode, written.stderr) == (0, "")
    assert (tmp_path / "out" / "update-1.csv").read_text() == "sku,price\nQA-1003,21\n"
    assert (tmp_path / "out" / "undo-1.csv").read_text() == "sku,price\nQA-1003,1.5\n"


@pytest.mark.parametrize("page", ["cp1250", "utf-16-le"])
def test_files_go_out_in_the_encoding_of_live(run, put, tmp_path, page):
    live = delimited(["sku", "name"], POLISH, separator=";", end="\r\n", encoding=page)
    put("live.csv", live)
    edited = [[sku, name.replace("miód", "miód, duży")] for sku, name in POLISH]
    put("sheet.csv", delimited(["sku", "name"], edited))
    assert run("compare", "live.csv", "sheet.csv", "-o", "changes.jsonl").returncode == 0
    assert run("write", "changes.jsonl", "--to", "out").returncode == 0
    update = (tmp_path / "out" / "update-1.csv").read_bytes()
    assert update == "sku;name\r\nQA-1;Słoik na miód, duży, żółty\r\n".encode(page)
    put("sheet.csv", delimited(["sku", "name"], [["QA-1", "蜂蜜"]]))
    run("compare", "live.csv", "sheet.csv", "-o", "changes.jsonl", "--whole")
    assert run("write", "changes.jsonl", "--to", "held").returncode == 1
    run("compare", "live.csv", "sheet.csv", "-o", "changes.jsonl", "--accept", "unwritable", "--whole")
    written = run("write", "changes.jsonl", "--to", "other")
    if page == "cp1250":
        assert not list((tmp_path / "held").glob("*.csv"))
        assert written.returncode == 1
        assert "QA-1, name: the importer's files cannot hold this text" in written.stdout
        assert not list((tmp_path / "other").glob("*.csv"))
    else:
        assert written.returncode == 1


def test_what_is_told_is_not_found_out(run, put):
    put("live.csv", "a title; of two, cells\nsku;price, net\nQA-1;5\n")
    put("sheet.csv", "sku|price, net\nQA-1|6\n")
    told = ["--separator", "live=semicolon", "--separator", "sheet=|", "--header-line", "live=2", "--encoding", "utf-8"]
    done = run("compare", "live.csv", "sheet.csv", *told)
    assert "1 cell of 1 item to send, nothing held, nothing lost." in done.stdout
    for option, message in (
        (["--encoding", "cp1255x"], 'There is no encoding "cp1255x". Did you mean "cp125'),
        (["--separator", "ab"], "'ab' is not right: it must be one plain character"),
        (["--header-line", "0"], "lines are counted from 1"),
        (["--decimal-mark", ";"], "';' is no decimal mark; write a point or a comma"),
        (["--date-form", "DD.MM"], "a date form has YYYY, MM and DD once each"),
        (["--separator", "live=,"], "live.csv, line 3: 1 cell where the header has 2"),
    ):
        failed = run("compare", "live.csv", "sheet.csv", *option)
        assert (failed.returncode, failed.stdout) == (2, "")
        assert message in failed.stderr


def test_a_zip_archive_must_hold_one_file(put):
    assert read(put("a.zip", zipped(delimited(HEADINGS, ROWS), "x/", "__MACOSX/._a", "x/a.csv"))).cells.height == 4
    with pytest.raises(CatalogueError, match=r"holds 2 files \(a.csv, b.csv\). Unpack it"):
        read(put("b.zip", zipped(b"sku,price\n", "a.csv", "b.csv")))
    assert read(put("c.ods", ods(HEADINGS, ROWS))).layout.format == "ods"


def test_durations_of_parquet_are_read(put):
    path = put("live.parquet", b"")
    table = pl.DataFrame({"sku": ["QA-1", "QA-2"], "lead": [timedelta(days=1, hours=2), None]})
    table.write_parquet(path)
    assert read(path).cells.rows() == [("QA-1", "P1DT2H"), ("QA-2", "")]


def test_a_sheet_of_open_documents_is_known_wherever_its_type_stands(put):
    """The mimetype entry should be the first of the archive, and is not in what every program writes."""
    source = zipfile.ZipFile(Path(__file__).parent / "data" / "odd.ods")
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as archive:
        for name in sorted(source.namelist(), key=lambda name: name == "mimetype"):
            archive.writestr(name, source.read(name))
    assert binary_format(out.getvalue()) == "ods"
    whole = read(str(Path(__file__).parent / "data" / "odd.ods"))
    assert read(put("other.ods", out.getvalue())).cells.equals(whole.cells)


def covered() -> bytes:
    """A workbook whose first sheet is a cover, with a table on it."""
    out = io.BytesIO()
    with xlsxwriter.Workbook(out, {"in_memory": True}) as book:
        for name, rows in (
            ("Cover", [["Shop", "Day"], ["Quillfern", "Monday"]]),
            ("Items", [["sku", "price"], ["QA-1", "1.00"], ["QA-2", "2.00"]]),
        ):
            sheet = book.add_worksheet(name)
            for number, row in enumerate(rows):
                sheet.write_row(number, 0, row)
    return out.getvalue()


def test_which_sheet_of_a_workbook_was_read_is_said(put, run):
    put("book.xlsx", covered())
    put("live.csv", "sku,price\nQA-1,1.00\nQA-2,2.00\n")
    run("compare", "live.csv", put("sheet.csv", "sku,price\nQA-1,1.50\n"), "-o", "c.jsonl", "--accept", "large-round")
    for call in (("learn", "book.xlsx"), ("confirm", "c.jsonl", "book.xlsx")):
        done = run(*call)
        assert "--sheet-name" in done.stdout + done.stderr, (call, done.stdout, done.stderr)
    done = run("confirm", "c.jsonl", "book.xlsx", "--sheet-name", "Items")
    assert done.returncode == 1 and 'read only the sheet "Items"' in done.stdout
    done = run("sheet", "live.csv", "-o", "cut.csv", "--skus", "book.xlsx")
    assert done.returncode == 2 and "book.xlsx#HEADING" in done.stderr


def test_no_control_character_of_a_file_reaches_the_terminal_in_an_error(put, run):
    put("live.csv", "sku,price\nQA-1,1.00\nQA-2,2.00\n")
    put("r.csv", "sku,status\nQA-1,\x1b[31mred\n")
    run("compare", "live.csv", put("sheet.csv", "sku,price\nQA-1,1.50\n"), "-o", "c.jsonl", "--accept", "large-round")
    done = run("confirm", "c.jsonl", "--results", "r.csv")
    assert done.returncode == 2 and "\x1b" not in done.stderr and "red" in done.stderr


@pytest.mark.parametrize("name", ["live.xlsx", "live.json", "live.parquet"])
def test_text_that_is_called_like_something_else_is_noted(run, put, name):
    put(name, "sku,price\nQA-1,9.90\n")
    done = run("check", name)
    assert "is read as what it is: delimited text" in " ".join(done.stdout.split())
    put("live.txt", "sku,price\nQA-1,9.90\n")
    assert "is read as" not in run("check", "live.txt").stdout


@pytest.mark.parametrize("store", ["", '[fields.zip]\nkind = "code"\n[fields.stock]\nkind = "integer"\n'])
def test_a_number_is_the_number_whatever_zeros_its_format_shows(run, put, tmp_path, store):
    """And a code is what a person sees."""
    put("live.csv", "sku,stock,zip\nQA-1,417,00417\nQA-2,5,00501\n")
    if store:
        put("neat-delta.toml", f"version = 1\n{store}")
    book = xlsxwriter.Workbook(tmp_path / "s.xlsx")
    sheet, zeros = book.add_worksheet(), book.add_format({"num_format": "00000"})
    for row, cells in enumerate((("sku", "stock", "zip"), ("QA-1", 420, 417), ("QA-2", 5, 502))):
        for column, cell in enumerate(cells):
            sheet.write(row, column, cell, *([zeros] if isinstance(cell, int) else []))
    book.close()
    run("compare", "live.csv", "s.xlsx", "-o", "c.jsonl")
    items = json.loads(run("preview", "c.jsonl", "--json").stdout)["items"]
    assert [(one["item"]["cells"], one["item"]["held"]) for one in items] == [
        ({"stock": ["417", "420"]}, []),
        ({"zip": ["00501", "00502"]}, []),
    ]
