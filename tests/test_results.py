"""The store's reports: read in every form, drafted, held against the next export; mended, sent again, taken back."""

from __future__ import annotations

import csv
import io
import json
import os
import re
import subprocess
from itertools import product

import polars as pl
import pytest

import neat_delta as nd
from neat_delta import Field, Key, ResultsForm, Store, as_catalogue, compare, confirm_changes, results, witnesses
from neat_delta.core.base.infer.results import draft_results, line_pattern
from neat_delta.core.base.infer.status_words import status_of
from neat_delta.core.outcomes.results import FileRow, message_form, read_results
from tests.conftest import PROGRAM, environment
from tests.made import xlsx

LIVE = """sku,name,price,cost,stock,note
QA-1,Veil,9.90,5.00,4,x
QA-2,Smoker,20.00,9.00,7,x
QA-3,Hat,3.00,1.00,0,x
QA-4,Jar,4.50,2.00,9,x
QA-5,Wax,8.00,4.00,12,x
"""
SHEET = """sku,price,note
QA-1,10.50,x
QA-2,21.00,y
QA-3,3.50,x
QA-4,4.95,z
QA-5,8.00,x
NEW-1,7.00,n
"""
STORE = """version = 1
[key]
fields = ["sku"]
[importer.removal]
how = "row"
[fields.sku]
kind = "code"
[fields.price]
kind = "money"
decimals = 2
[fields.cost]
kind = "money"
[relations]
price = "price"
cost = "cost"
"""
SENT = ["QA-1", "QA-2", "QA-3", "QA-4", "NEW-1"]
ROWS = [
    ("QA-1", "Imported", ""),
    ("QA-2", "Rejected", "price 21.00 is above the limit"),
    ("QA-3", "Imported with warning", "3.50 was rounded"),
    ("QA-4", "Skipped", "nothing to do, it said"),
]
"""Of NEW-1 the report says nothing."""


@pytest.fixture
def round_(run, put, tmp_path):
    """A round up to its update files."""
    for name, text in (("live.csv", LIVE), ("sheet.csv", SHEET), ("neat-delta.toml", STORE)):
        put(name, text)
    assert run("compare", "live.csv", "sheet.csv", "--with-new", "-o", "c.jsonl").returncode == 0
    assert run("write", "c.jsonl", "--to", "out").returncode == 0
    return tmp_path


def _csv(headings, rows, separator=",") -> str:
    out = io.StringIO()
    csv.writer(out, delimiter=separator, lineterminator="\n").writerows([headings, *rows])
    return out.getvalue()


def _html(headings, rows) -> str:
    cells = ["".join(f"<td>{text}</td>" for text in row) for row in rows]
    head = "".join(f"<th>{text}</th>" for text in headings)
    return (
        "<!DOCTYPE html><html><head><title>Import</title></head><body><table><tr><td>menu</td></tr></table>"
        f"<table><thead><tr>{head}</tr></thead>{''.join(f'<tr>{row}</tr>' for row in cells)}</table></body></html>"
    )


def _xml(rows) -> str:
    inner = "".join(
        f'<line number="{n}"><article>{sku}</article><state>{state}</state><text>{said}</text></line>'
        for n, (sku, state, said) in enumerate(rows, 1)
    )
    return f'<?xml version="1.0" encoding="UTF-8"?><report><made>today</made><lines>{inner}</lines></report>'


TITLES = ["Quillfern Apiary Supply", "Import of Monday"]
WITH_TOTALS = [["é", *row] for row in ROWS] + [["", "Total", "4", ""]]
INSIDE = [{"code": a, "state": b, "errors": c, "id": n} for n, (a, b, c) in enumerate(ROWS)]
FORMS = {
    "comma, our heading": ("r.csv", _csv(["sku", "status", "message"], ROWS)),
    "semicolon, cp1252, totals": (
        "r.csv",
        _csv(["Größe", "Artikel", "Ergebnis", "Meldung"], WITH_TOTALS, ";").encode("cp1252"),
    ),
    "workbook": ("r.xlsx", xlsx(["Item code", "Outcome", "Details"], ROWS, TITLES)),
    "JSON with the rows inside": (
        "r.json",
        json.dumps({"import": 7, "rows": INSIDE}),
    ),
    "JSON Lines": ("r.jsonl", "".join(json.dumps({"ref": a, "result": b, "reason": c}) + "\n" for a, b, c in ROWS)),
    "XML": ("r.xml", _xml(ROWS)),
    "page": ("r.html", _html(["Article", "Result", "Message"], ROWS)),
    "log": (
        "r.log",
        "import 7 begins\n"
        + "".join(f"12:0{n} [{b.split()[0]}] item {a}: {c}\n" for n, (a, b, c) in enumerate(ROWS))
        + "import 7 ends\n",
    ),
}  # fmt: skip


@pytest.mark.parametrize("form", FORMS)
def test_reports_of_every_form_are_drafted_and_read(form, round_, put, run):
    """By what `learn` drafts of one, and by what `confirm` guesses without it: the same."""
    name, content = FORMS[form]
    put(name, content)
    guessed = json.loads(run("confirm", "c.jsonl", "--files", "out", "--results", name, "--json").stdout)["results"]
    drafted = run("learn", "live.csv", "--results", name).stdout
    assert "#" in drafted
    put("neat-delta.toml", STORE + drafted)
    done = run("confirm", "c.jsonl", "--files", "out", "--results", name, "--json")
    assert done.returncode == 1, done.stderr
    read = json.loads(done.stdout)["results"]
    warned = "done" if form == "log" else "warned"
    said = {one["key"]["sku"]: one["said"] for one in read["items"]}
    assert said == {"QA-1": "done", "QA-2": "refused", "QA-3": warned, "QA-4": "skipped", "NEW-1": "not mentioned"}
    assert read["items"][1]["message"] == "price 21.00 is above the limit"
    assert (guessed["guessed"] is not None) and read["guessed"] is None
    assert {k: v for k, v in guessed.items() if k != "guessed"} == {k: v for k, v in read.items() if k != "guessed"}
    assert read["aside"] == (1 if "totals" in form else 0) and not read["not_sent"]
    if "inside" in form:
        assert read["items"][0]["ids"] == ["0"]


def test_rows_without_keys_are_known_by_their_numbers(round_, put, run):
    """As a spreadsheet counts, or from 1 or 0; where a product has several files, by the file's name."""
    files = sorted(path.name for path in (round_ / "out").glob("update-*.csv"))
    assert len(files) > 1
    rows = []
    for file in files:
        for number, row in enumerate(csv.DictReader((round_ / "out" / file).open()), 2):
            rows.append((file, number, "failed" if row["sku"] == "QA-2" else "ok", ""))
    for first in (2, 1, 0):
        put("r.csv", _csv(["file", "line", "status", "message"], [(f, n - 2 + first, s, m) for f, n, s, m in rows]))
        done = run("confirm", "c.jsonl", "--files", "out", "--results", "r.csv", "--json")
        said = {one["key"]["sku"]: one["said"] for one in json.loads(done.stdout)["results"]["items"]}
        assert said == dict.fromkeys(SENT, "done") | {"QA-2": "refused"}, first
    put("r.csv", _csv(["line", "status", "message"], [(n, s, m) for _, n, s, m in rows]))
    assert "there are several update files" in run("confirm", "c.jsonl", "--files", "out", "--results", "r.csv").stderr


BAD = {
    "another round": (_csv(["sku", "status"], [("X-1", "ok"), ("X-2", "ok"), ("QA-1", "ok")]), "only 1 name an item"),
    "empty": ("", "it is empty"),
    "error page": ("<html><head><title>502 Bad gateway</title></head><body><p>oops</p></body></html>", "no table"),
    "no key": (_csv(["when", "what"], [("now", "a")]), "No column of the report has codes"),
    "unknown word": (_csv(["sku", "status"], [("QA-1", "ok"), ("QA-2", "ok"), ("QA-3", "blue")]), '"blue"'),
    "entities": ('<?xml version="1.0"?><!DOCTYPE x [<!ENTITY a "b">]><r><i><k>QA-1</k></i></r>', "document type"),
    "broken XML": ("<r><i>QA-1</r>", "it is no XML"),
    "twice a heading": ("<html><table><tr><th>sku<th>sku</tr><tr><td>QA-1<td>ok</tr></table>", "twice"),
    "binary": (b"PK\x03\x04 not a workbook", "cut short or damaged"),
}


@pytest.mark.parametrize("what", BAD)
def test_what_is_no_report_is_refused_in_a_line(what, round_, put, run):
    content, said = BAD[what]
    put("r.csv", content)
    done = run("confirm", "c.jsonl", "--files", "out", "--results", "r.csv")
    assert done.returncode == 2 and said in done.stderr and "Traceback" not in done.stderr
    assert done.stderr.count("\n") == 1


def test_how_a_report_is_laid_out_can_be_said(round_, put, run):
    """For the report alone: the export is read as ever."""
    put(
        "r.csv", _csv(["sku", "status", "message"], [("QA-1", "ok", "żółty"), ("QA-2", "ok", "")], "|").encode("cp1250")
    )
    call = ("confirm", "c.jsonl", "live.csv", "--results", "r.csv", "--separator", "report=pipe")
    done = run(*call, "--encoding", "report=cp1250", "--json")
    assert json.loads(done.stdout)["results"]["items"][0]["message"] == "żółty"


@pytest.mark.process
def test_a_report_comes_through_a_pipe(round_):
    """It can be read once only, whether its form is guessed or it is a log."""
    for form in ("comma, our heading", "log"):
        content = FORMS[form][1]
        call = [str(PROGRAM), "confirm", "c.jsonl", "--files", "out", "--results", "-", "--json"]
        done = subprocess.run(
            call, cwd=round_, input=str(content).encode(), env=environment(), capture_output=True, check=False
        )
        assert done.returncode == 1, done.stderr
        assert json.loads(done.stdout)["results"]["counts"]["refused"] == 1


def test_a_report_may_have_strangers_and_repeats(round_, put, run):
    rows = [
        ("QA-1", "ok", ""),
        ("QA-2", "error", "no"),
        ("QA-9", "ok", ""),
        ("QA-2", "ok", "second try"),
        ("NEW-1", "ok", ""),
    ]
    put("r.csv", _csv(["sku", "status", "message"], rows))
    said = run("confirm", "c.jsonl", "--files", "out", "--results", "r.csv").stdout
    assert "in the report, and not sent: 1 row\n  r.csv row 4: QA-9" in said
    assert "there twice in the report; the last one counts\n  QA-2" in said
    assert "not mentioned: 2 items\n  QA-3\n  QA-4" in said
    assert "The store says: 3 done, 2 not mentioned" in said


def test_a_report_of_what_was_refused_alone(round_, put, run):
    """Its rows have a message and no status; what it does not mention was done only if the store file says so."""
    put(
        "r.csv",
        _csv(["sku", "error"], [("QA-2", "price must be above cost 9.00"), ("QA-4", "price must be above cost 2.00")]),
    )
    done = run("confirm", "c.jsonl", "--files", "out", "--results", "r.csv", "--json")
    found = json.loads(done.stdout)["results"]
    assert found["counts"] == {"not mentioned": 3, "refused": 2}
    put("neat-delta.toml", STORE + '[results]\nkey = ["sku"]\nmessage = "error"\nonly_refused = true\n')
    done = run("confirm", "c.jsonl", "--files", "out", "--results", "r.csv", "--json")
    assert json.loads(done.stdout)["results"]["counts"] == {"done": 3, "refused": 2}
    assert [(one["form"], len(one["keys"])) for one in found["messages"]] == [("price must be above cost #", 2)]


STATUS = {"done": "ok", "warned": "warning", "skipped": "skipped", "refused": "error", "not mentioned": None}
NOW = {"landed": "10.50", "differently": "10.5x", "not landed": "9.90"}
FORM = ResultsForm(["sku"], status="status", done=["ok"], warned=["warning"], skipped=["skipped"], refused=["error"])


@pytest.mark.parametrize("said, seen", list(product(STATUS, NOW)))
def test_the_two_witnesses(said, seen, put, run):
    """Each cell of the table: what the store says, and what the export shows."""
    put("live.csv", "sku,note\nQA-1,9.90\nQA-2,a\n")
    put("sheet.csv", "sku,note\nQA-1,10.50\nQA-2,b\n")
    put("after.csv", f"sku,note\nQA-1,{NOW[seen]}\nQA-2,b\n")
    put("r.csv", "sku,status,message\n" + (f"QA-1,{STATUS[said]},why\n" if STATUS[said] else "") + "QA-2,ok,\n")
    run("compare", "live.csv", "sheet.csv", "-o", "c.jsonl")
    done = run("confirm", "c.jsonl", "after.csv", "--results", "r.csv")
    found = json.loads(run("confirm", "c.jsonl", "after.csv", "--results", "r.csv", "--json").stdout)["results"]
    assert {"said": said, "seen": seen, "items": 1 + ((said, seen) == ("done", "landed"))} in [
        {**one, "items": one["items"]} for one in found["witnesses"]
    ]
    fine = said in {"done", "warned"} and seen == "landed"
    assert done.returncode == (0 if fine else 1)
    worst = {
        ("done", "not landed"): "said to be done, and did not land",
        ("warned", "not landed"): "done with a warning, and did not land",
        ("done", "differently"): "said to be done, and landed differently",
        ("refused", "landed"): "refused, and landed all the same",
        ("refused", "differently"): "refused, and landed differently",
        ("skipped", "landed"): "skipped, and landed all the same",
    }.get((said, seen))
    if worst:
        assert f"\n{worst}: 1 item\n  QA-1" in done.stdout
    elif fine:
        assert "\nThe store file does not say" in done.stdout and "all of them done and landed" in done.stdout


def test_the_worst_comes_first():
    live = as_catalogue({"sku": [f"QA-{n}" for n in range(6)], "price": ["1.00"] * 6}, "live")
    sheet = as_catalogue({"sku": [f"QA-{n}" for n in range(6)], "price": ["2.00"] * 6}, "sheet")
    changes = compare(live, sheet, store=Store(key=Key(["sku"]), fields={"price": Field("money")}))
    after = as_catalogue(
        {"sku": sheet.cells["sku"].to_list(), "price": ["2.00", "1.00", "2.00", "1.00", "3.00", "2.00"]}, "after"
    )
    report = pl.DataFrame({"sku": sheet.cells["sku"], "status": ["error", "error", "ok", "ok", "ok", "skipped"]})
    said = results(changes, [("r", report)], Store(results=FORM))
    both = witnesses(changes, said, confirm_changes(changes, live, after))
    assert [(one.key["sku"], one.status, one.seen) for one in both.disputed] == [
        ("QA-3", "done", "not landed"),
        ("QA-4", "done", "differently"),
        ("QA-0", "refused", "landed"),
        ("QA-5", "skipped", "landed"),
    ]


@pytest.mark.parametrize(
    "message, form",
    [
        ('"QA-7" has no tax class', "# has no tax class"),
        ("line 12: price 9.90 < cost 11.20", "line #: price # < cost #"),
        ("Der Preis muss über 4,50 € liegen.", "Der Preis muss über # € liegen."),
        ("it's broken", "it's broken"),
        ("", ""),
    ],
)
def test_messages_by_their_form(message, form):
    assert message_form(message, ["QA-7"]) == form


@pytest.mark.parametrize(
    "word, means",
    [("Created", "done"), ("UPDATED", "done"), ("not_imported", "refused"), ("Unsuccessful", "refused"),
     ("warn", "warned"), ("already up to date", "skipped"), ("200", "done"), ("422", "refused"),
     ("no change", "skipped"), ("maybe", None)],
)  # fmt: skip
def test_words_of_a_status(word, means):
    assert status_of(word) == means


def test_a_key_of_two_fields_and_another_case(run, put):
    put("live.csv", "sku,shop,stock\nQA-1,north,4\nQA-1,south,5\nQA-2,north,6\n")
    put("sheet.csv", "sku,shop,stock\nQA-1,north,7\nQA-1,south,8\nQA-2,north,6\n")
    put("neat-delta.toml", 'version = 1\n[key]\nfields = ["sku", "shop"]\nignore_case = true\n')
    run("compare", "live.csv", "sheet.csv", "-o", "c.jsonl")
    put("r.csv", "shop,sku,status\nNORTH,qa-1,ok\nsouth,QA-1,failed\n")
    found = json.loads(run("confirm", "c.jsonl", "--results", "r.csv", "--json").stdout)["results"]
    assert [(one["key"]["shop"], one["said"]) for one in found["items"]] == [("north", "done"), ("south", "refused")]


def test_words_of_new_items_are_drafted_too():
    """Live does not have them; a line of totals has none."""
    rows = [("QA-1", "Updated"), ("NEW-1", "Created"), ("NEW-2", "Failed"), ("Total", "3"), ("", "x")]
    report = pl.DataFrame(rows, schema=["sku", "status"], orient="row")
    drafted = draft_results(report, pl.DataFrame({"sku": ["QA-1", "QA-2"]}), ["sku"], {})
    assert drafted.form.done == ["Updated", "Created"] and drafted.form.refused == ["Failed"] and not drafted.unknown


def test_draft_says_why():
    report = pl.DataFrame(
        {"row": ["2", "3"], "Article": ["QA-1", "QA-2"], "State": ["OK", "Failed"], "Note": ["", "no such tax"]}
    )
    drafted = draft_results(report, pl.DataFrame({"sku": ["QA-1", "QA-2"]}), ["sku"], {"sku": "Article"})
    assert drafted.form.key == ["Article"] and drafted.evidence["key"] == "2 of 2 are codes of live"
    assert drafted.evidence["status"] == "1 × OK, 1 × Failed" and drafted.form.row == "row"


def test_a_log_may_name_the_item_before_its_status():
    lines = ["12:00 QA-1 done", "12:01 QA-2 refused: no such tax class", "12:02 good night"]
    pattern, fit = line_pattern(lines, ["QA-1", "QA-2"])
    seen = [found.groupdict() for line in lines if (found := re.search(pattern, line))]
    assert fit == 2 and seen == [
        {"key": "QA-1", "status": "done", "message": ""},
        {"key": "QA-2", "status": "refused", "message": "no such tax class"},
    ]


def test_of_files_that_were_sent_again_the_reports_of_one_import_count_together():
    """Of two files, the last two reports: the worst word counts. Of one file, the last report alone."""
    live = as_catalogue({"sku": ["A"], "price": ["1.00"], "name": ["Veil"]}, "live")
    sheet = as_catalogue({"sku": ["A"], "price": ["1.50"], "name": ["Fine veil"]}, "sheet")
    changes = compare(live, sheet, key="sku")
    form = ResultsForm(["sku"], status="said", done=["ok"], refused=["no"])
    reports = [(f"{n}.csv", pl.DataFrame({"sku": ["A"], "said": [word]})) for n, word in enumerate(("no", "no", "ok"))]
    for files, status in ((1, "done"), (2, "refused")):
        rows = [FileRow(f"update-{n}.csv", 2, ("A",), (0,)) for n in range(files)]
        assert read_results(changes, reports, form, rows, again=True).by_item[0].status == status


def test_a_report_that_was_there_before_the_files_is_no_success(round_, put, run):
    """Last week's, of the same items: alone it shows nothing; beside an export it is only said."""
    put("r.csv", "SKU,Result\n" + "".join(f"{sku},Imported\n" for sku in ("QA-1", "QA-2", "QA-3", "QA-4", "NEW-1")))
    fresh = run("confirm", "c.jsonl", "--files", "out", "--results", "r.csv")
    os.utime(round_ / "r.csv", (1_700_000_000, 1_700_000_000))
    old = run("confirm", "c.jsonl", "--files", "out", "--results", "r.csv")
    line = "r.csv is older than the files in out, as of an earlier import. "
    assert line in old.stdout and line not in fresh.stdout
    assert old.returncode == 1
    assert json.loads(run("confirm", "c.jsonl", "--files", "out", "--results", "r.csv", "--json").stdout)[
        "reports_older"
    ]
    again = run("confirm", "c.jsonl", "--files", "out", "--results", "r.csv", "--retry", "again")
    assert again.returncode == 2 and "Nothing is sent again by what it says; name a newer one." in again.stderr
    assert not (round_ / "again").exists()
    put("new.csv", "SKU,Result\nQA-1,Imported\n")  # of several, one is of this import
    both = run("confirm", "c.jsonl", "--files", "out", "--results", "r.csv", "--results", "new.csv")
    assert line not in both.stdout
    looked = nd.confirm(round_ / "out", results=round_ / "r.csv", changes=round_ / "c.jsonl")
    assert looked.reports_older and not looked.all_done
    with_export = run("confirm", "c.jsonl", "live.csv", "--files", "out", "--results", "r.csv")
    assert f"{line}What the export shows is what counts." in with_export.stdout and with_export.returncode == 1


def test_nothing_is_sent_again_by_an_export_from_before_the_import(round_, run):
    """In it nothing landed, whatever was done since: differences would be added twice, a colleague's price lost."""
    os.utime(round_ / "live.csv", (1_700_000_000, 1_700_000_000))
    seen = run("confirm", "c.jsonl", "live.csv", "--files", "out")
    line = "live.csv is older than the files in out, as from before the import: what landed cannot be seen in it."
    assert line in seen.stdout and seen.returncode == 1
    for wish in (["--retry", "again"], ["--mend", "m.csv"]):
        again = run("confirm", "c.jsonl", "live.csv", "--files", "out", *wish)
        assert again.returncode == 2 and f"{line} Export again. Nothing is sent again by what it says" in again.stderr
    assert not (round_ / "again").exists() and not (round_ / "m.csv").exists()
    (round_ / "live.csv").touch()
    assert run("confirm", "c.jsonl", "live.csv", "--files", "out", "--retry", "again").returncode == 1
    assert (round_ / "again").is_dir()
