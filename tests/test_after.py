"""After the import: three sides of each cell, item and code; the round in its folder; reports that are understood."""

from __future__ import annotations

import csv
import json
import os
import re
import shutil
from pathlib import Path

import pytest

import neat_delta
from neat_delta import as_catalogue
from neat_delta.files.whole import digest_of
from tests.made import xlsx

STORE = """version = 1
[key]
fields = ["sku"]
[importer]
{importer}
[importer.removal]
how = "row"
[fields.sku]
kind = "code"
[fields.price]
kind = "money"
decimals = 2
[fields.stock]
kind = "integer"
moving = true
[fields.tags]
kind = "list"
separator = ","
[fields.note]
"""
LIVE = "sku,name,price,stock,tags,note\nA,Veil,9.90,10,wax,\nB,Hat,20.00,7,wax,x\nC,Jar,3.00,5,,y\n"
ADJUSTED = 'blanks = "skip"\nadjusted = ["stock"]'
SKIPS = 'blanks = "skip"'
MARKED = 'blanks = "skip"\nlists = "marked"'


@pytest.fixture
def begin(run, put, tmp_path):
    """A round up to its folder, `out`; and the store is exported once more, as nothing was imported yet."""

    def go(sheet: str, importer: str = SKIPS, *asked: str, live: str = LIVE, write: tuple[str, ...] = ()) -> None:
        put("live.csv", live)
        put("sheet.csv", sheet)
        put("neat-delta.toml", STORE.format(importer=importer))
        done = run("compare", "live.csv", "sheet.csv", "-o", "c.jsonl", "--accept", "large-round", "--with-new-values",
                   "tags", *asked)  # fmt: skip
        assert done.returncode in {0, 1}, done.stderr
        done = run("write", "c.jsonl", "--to", "out", *write)
        assert done.returncode in {0, 1}, done.stderr
        (tmp_path / "live.csv").touch()

    return go


def sent(folder: Path, name: str = "update") -> dict[str, dict[str, str]]:
    """What the files of a folder say, by the code: the cells that are not blank."""
    out: dict[str, dict[str, str]] = {}
    for path in sorted(folder.glob(f"{name}-*.csv")):
        for row in csv.DictReader(path.open(encoding="utf-8-sig")):
            out.setdefault(row.pop("sku"), {}).update({field: text for field, text in row.items() if text})
    return out


def after(**items: str) -> str:
    """Live with other rows for some items (A="A,Veil,…"), and `more` of them."""
    head, *rows = LIVE.splitlines()
    return (
        "\n".join([head, *(items.get(row[0], row) for row in rows), *items.get("more", "").split("|")]).strip() + "\n"
    )


REFUSED = "sku,status,message\nA,refused,no\n"
CASES = {
    "a difference that was refused counts from what is there": (
        ADJUSTED, "sku,stock\nA,15\n", after(A="A,Veil,9.90,8,wax,"), REFUSED, {"A": {"stock": "+5"}}, None),
    "a difference that landed before two were sold is not told again": (
        ADJUSTED, "sku,stock\nA,15\n", after(A="A,Veil,9.90,13,wax,"), REFUSED.replace("refused", "done"), {},
        "does not tell whether the difference was added"),
    "nobody says whether a difference was added": (
        ADJUSTED, "sku,stock\nA,15\n", after(A="A,Veil,9.90,8,wax,"), None, {},
        "does not tell whether the difference was added"),
    "a difference that did not land, and nothing was sold": (
        ADJUSTED, "sku,stock\nA,15\n", LIVE, None, {"A": {"stock": "+5"}}, None),
    "a moving field by value that landed and was sold from": (
        SKIPS, "sku,stock\nA,50\n", after(A="A,Veil,9.90,48,wax,"), None, {}, "somebody changed it since"),
    "tags that landed and got a colleague's": (
        MARKED, 'sku,tags\nA,"wax,gift"\n', after(A='A,Veil,9.90,10,"wax,gift,theirs",'), None, {}, None),
    "tags that were refused and got a colleague's": (
        MARKED, 'sku,tags\nA,"wax,gift"\n', after(A='A,Veil,9.90,10,"wax,theirs",'), REFUSED, {"A": {"tags": "+gift"}},
        None),
    "tags by value, refused, and a colleague's": (
        SKIPS, 'sku,tags\nA,"wax,gift"\n', after(A='A,Veil,9.90,10,"wax,theirs",'), REFUSED,
        {"A": {"tags": "wax,theirs,gift"}}, None),
    "a price that was refused and then set by a colleague": (
        SKIPS, "sku,price\nA,10.90\nB,21.00\n", after(A="A,Veil,11.50,10,wax,"), REFUSED, {"B": {"price": "21.00"}},
        "somebody changed it since: A price"),
    "a text that was emptied by somebody": (
        SKIPS, "sku,name\nA,Long veil\n", after(A="A,,9.90,10,wax,"), None, {}, "somebody changed it since"),
    "an item that is gone": (
        SKIPS, "sku,price\nA,10.90\n", LIVE.replace("A,Veil,9.90,10,wax,\n", ""), None, {}, "not there any more"),
}  # fmt: skip


@pytest.mark.parametrize("case", CASES)
def test_sent_again_is_only_what_stands_as_before(case, begin, run, put, tmp_path):
    importer, sheet, now, report, wanted, left = CASES[case]
    begin(sheet, importer)
    put("after.csv", now)
    reports = () if report is None else ("--results", put("r.csv", report))
    done = run("confirm", "c.jsonl", "after.csv", *reports, "--retry", "again")
    assert sent(tmp_path / "again") == wanted, done.stdout + done.stderr
    text = " ".join(done.stdout.split())
    assert (left in text) if left else "Left alone" not in text
    assert done.returncode == (0 if not wanted and left is None else 1)
    if wanted:  # once that has landed, all is well
        said = json.loads((tmp_path / "again" / "manifest.json").read_text())
        assert said["purpose"] == "retry" and len(said["before"]) == 1
        played = run("practice", "after.csv", "--import", "again", "--to", "p")
        assert played.returncode == 0, played.stdout + played.stderr
        done = run("confirm", "c.jsonl", "p/after.csv", "--files", "again", "--json")
        facts = json.loads(done.stdout)
        assert {one["field"] for one in facts["trouble"]} == ({"price"} if left else set())


def test_a_removed_item_that_somebody_made_anew_is_left(begin, run, put, tmp_path):
    begin(LIVE.replace("C,Jar,3.00,5,,y\n", ""), SKIPS, "--whole", "--with-gone")
    put("after.csv", after(C="C,Another jar,9.00,1,,"))
    done = run("confirm", "c.jsonl", "after.csv", "--retry", "again")
    assert done.returncode == 1 and "or made it anew: C" in done.stdout and not (tmp_path / "again").exists()
    assert "  C: it is there, and otherwise" in done.stdout.splitlines()
    done = run("undo", "c.jsonl", "--now", "after.csv", "--to", "back")
    assert "C" not in sent(tmp_path / "back")
    put("after.csv", after(C="C,Jar,3.00,2,,y"))  # sold from, and otherwise as it was: it was not removed
    assert run("confirm", "c.jsonl", "after.csv", "--retry", "again").returncode == 1
    assert sent(tmp_path / "again") == {"C": {}}


def test_nothing_is_put_into_an_item_that_somebody_made_under_a_new_items_code(begin, run, put, tmp_path):
    begin("sku,name,price,note\nN,Comb,4.00,ours\n", SKIPS, "--with-new")
    put("after.csv", after(more="N,Theirs,9.00,1,,"))
    done = run("confirm", "c.jsonl", "after.csv", "--results", put("r.csv", REFUSED.replace("A", "N")), "--retry", "x")
    assert done.returncode == 1 and not (tmp_path / "x").exists() and "N name, N price, N note" in done.stdout


def test_a_new_item_is_taken_back_only_as_it_was_sent(begin, run, put, tmp_path):
    begin("sku,name,price\nN,Comb,4.00\n", 'blanks = "skip"\ndefaults = { note = "as new" }', "--with-new")
    put("after.csv", after(more="N,Comb,4.00,3,,as new"))  # three came in; the note is ours, by default
    assert run("undo", "c.jsonl", "--now", "after.csv", "--to", "back").returncode == 0
    assert sent(tmp_path / "back") == {"N": {}}
    put("after.csv", after(more='N,Comb,4.00,3,"their tag",as new'))
    done = run("undo", "c.jsonl", "--now", "after.csv", "--to", "later")
    assert done.returncode == 1 and sent(tmp_path / "later") == {}
    assert "  N  tags: (blank) was meant, and it is their tag" in done.stdout.splitlines()


def test_a_new_item_with_nothing_but_its_key_is_confirmed_sent_again_and_taken_back(begin, run, put, tmp_path):
    begin("sku,name,price\nN,,\n", SKIPS, "--with-new")
    put("after.csv", after())
    done = run("confirm", "c.jsonl", "after.csv", "--retry", "again")
    assert done.returncode == 1 and "  N: there is no such item" in done.stdout.splitlines()
    assert sent(tmp_path / "again") == {"N": {}}
    put("later.csv", after(more="N,,,,,"))
    done = run("confirm", "c.jsonl", "later.csv")
    assert done.returncode == 0 and "The change landed." in done.stdout
    assert run("undo", "c.jsonl", "--now", "later.csv", "--to", "back").returncode == 0
    assert sent(tmp_path / "back") == {"N": {}}
    put("theirs.csv", after(more="N,Comb,,,,"))
    done = run("undo", "c.jsonl", "--now", "theirs.csv", "--to", "left")
    assert done.returncode == 1 and sent(tmp_path / "left") == {}


def test_what_the_store_rounded_is_taken_back_when_asked_for(begin, run, put, tmp_path):
    begin("sku,price\nA,10.90\n")
    put("after.csv", after(A="A,Veil,11.00,10,wax,"))
    done = run("undo", "c.jsonl", "--now", "after.csv", "--to", "back")
    assert done.returncode == 1 and "(--altered takes it back, too)" in " ".join(done.stdout.split())
    assert sent(tmp_path / "back") == {}
    assert run("undo", "c.jsonl", "--now", "after.csv", "--altered", "--to", "all").returncode == 0
    assert sent(tmp_path / "all") == {"A": {"price": "9.90"}}


def test_a_list_is_taken_back_without_what_others_added(begin, run, put, tmp_path):
    begin('sku,tags\nA,"gift"\n', MARKED)
    put("after.csv", after(A='A,Veil,9.90,10,"gift,theirs",'))
    assert run("undo", "c.jsonl", "--now", "after.csv", "--to", "back").returncode == 0
    assert sent(tmp_path / "back") == {"A": {"tags": "+wax,-gift"}}


def test_what_somebody_changed_since_is_mended_as_a_clash(begin, run, put, tmp_path):
    """The sheet has the value that was meant, and remembers what stood before: so compare asks."""
    begin("sku,price,stock\nA,10.90,15\nB,21.00,7\n", ADJUSTED)
    put("after.csv", after(A="A,Veil,11.50,13,wax,"))
    assert run("confirm", "c.jsonl", "after.csv", "--mend", "m.csv").returncode == 1
    rows = list(csv.DictReader((tmp_path / "m.csv").open(encoding="utf-8-sig")))
    assert {row["sku"]: (row["price"], row["stock"]) for row in rows} == {"A": ("10.90", "15"), "B": ("21.00", "7")}
    done = run("compare", "after.csv", "m.csv", "-o", "m.jsonl", "--accept", "large-round", "--json")
    assert json.loads(done.stdout)["header"]["counts"]["clashes"] == 2
    run("write", "m.jsonl", "--to", "mended")
    assert sent(tmp_path / "mended") == {"B": {"price": "21.00"}}
    run("compare", "after.csv", "m.csv", "-o", "m.jsonl", "--accept", "large-round", "--clash", "stock=add")
    run("write", "m.jsonl", "--to", "both")
    assert sent(tmp_path / "both") == {"A": {"stock": "+5"}, "B": {"price": "21.00"}}


# Codes.

CODES = STORE + '[importer.code_change]\nhow = "row"\nheading = "new code"\n'


def test_a_sheet_to_be_mended_that_lost_what_it_remembers_changes_nothing_of_others(begin, run, put, tmp_path):
    begin(LIVE.replace("9.90", "10.90").replace("20.00", "21.00"))
    put("after.csv", LIVE.replace("9.90", "12.00"))  # which a colleague did
    assert run("confirm", "c.jsonl", "after.csv", "--files", "out", "--mend", "mend.csv").returncode == 1
    (tmp_path / "mail").mkdir()
    (tmp_path / "mail" / "mended.csv").write_bytes((tmp_path / "mend.csv").read_bytes())
    compare = ("compare", "after.csv", "mail/mended.csv", "-o", "m.jsonl", "--accept", "large-round")
    done = run(*compare)
    assert done.returncode == 2 and not (tmp_path / "m.jsonl").exists()
    assert '"what the store said"' in done.stderr and "--base" in done.stderr
    assert run(*compare, "--base", "mend.csv.base").returncode == 1
    changes = neat_delta.read_changes(str(tmp_path / "m.jsonl"))
    assert {item.key["sku"]: [one.reason for one in item.held] for item in changes.iter_items()} == {
        "A": ["clash: changed in the store, too"], "B": [],
    }  # fmt: skip


def test_a_swap_that_stopped_half_way_is_known_again(run, put, tmp_path):
    put("live.csv", LIVE)
    put("neat-delta.toml", CODES.format(importer=SKIPS))
    put("sheet.csv", "sku,new code,price\nA,B,10.90\nB,A,21.00\n")
    run("compare", "live.csv", "sheet.csv", "-o", "c.jsonl", "--accept", "large-round")
    assert run("write", "c.jsonl", "--to", "out", "--rehearse").returncode == 0
    assert [text.read_text().split() for text in sorted((tmp_path / "out").glob("update-*"))] == [
        ["sku,price", "A,10.90", "B,21.00"], ["sku,new", "code", "A,A-tmp"], ["sku,new", "code", "B,A"],
        ["sku,new", "code", "A-tmp,B"],
    ]  # fmt: skip
    done = run("practice", "live.csv", "--import", "out", "--to", "p", "--refuse", "A-tmp")
    assert done.returncode == 1
    prices = {row["name"]: row["price"] for row in csv.DictReader((tmp_path / "p" / "after.csv").open())}
    assert prices == {"Veil": "10.90", "Hat": "21.00", "Jar": "3.00"}  # nothing on another item
    reports = ("--results", "p/results.csv")
    done = run("confirm", "c.jsonl", "p/after.csv", *reports, "--retry", "again")
    assert (
        "  A  sku, under a temporary code: B was meant, and it is A-tmp"
        in run("confirm", "c.jsonl", "p/after.csv", "--files", "out").stdout.splitlines()
    )
    assert "B" not in [line.strip() for line in done.stdout.splitlines()]
    assert [one.read_text() for one in sorted((tmp_path / "again").glob("update*"))] == ["sku,new code\nA-tmp,B\n"]
    back = run("undo", "c.jsonl", "--now", "p/after.csv", "--to", "back")
    assert back.returncode == 0, back.stdout
    run("practice", "p/after.csv", "--import", "back", "--to", "q")
    assert (tmp_path / "q" / "after.csv").read_text() == LIVE
    done = run("practice", "p/after.csv", "--import", "again", "--to", "r")
    assert done.returncode == 0
    done = run("confirm", "c.jsonl", "r/after.csv", *reports, "--results", "r/results.csv")
    assert done.returncode == 0, done.stdout


def test_the_items_of_a_swap_are_told_apart_in_a_report(run, put, tmp_path):
    put("live.csv", LIVE)
    put("neat-delta.toml", CODES.format(importer=SKIPS))
    put("sheet.csv", "sku,new code\nA,B\nB,A\n")
    run("compare", "live.csv", "sheet.csv", "-o", "c.jsonl", "--accept", "large-round")
    run("write", "c.jsonl", "--to", "out")
    put("r.csv", "sku,status\nA,done\nA-tmp,refused\nB,done\n")
    done = json.loads(run("confirm", "c.jsonl", "--results", "r.csv", "--json").stdout)
    assert {one["key"]["sku"]: one["said"] for one in done["results"]["items"]} == {"A": "refused", "B": "done"}


# A round is one thing.


def test_everything_after_goes_by_the_importer_that_the_files_were_made_for(begin, run, put, tmp_path):
    begin("sku,price,note\nA,10.90,\nB,20.00,z\n", "", write=("--importer-blanks", "skip"))
    assert run("practice", "live.csv", "--import", "out", "--to", "p").returncode == 0
    rows = {row["sku"]: row for row in csv.DictReader((tmp_path / "p" / "after.csv").open())}
    assert rows["B"]["price"] == "20.00" and rows["A"]["price"] == "10.90"  # no price is blanked
    assert run("confirm", "c.jsonl", "live.csv", "--files", "out", "--retry", "again").returncode == 1
    assert len(list((tmp_path / "again").glob("update-*"))) == 1  # and not one for each field
    assert run("undo", "c.jsonl", "--to", "back").returncode == 0
    assert json.loads((tmp_path / "back" / "manifest.json").read_text())["importer"]["blanks"] == "skip"
    assert len(list((tmp_path / "back").glob("update-*"))) == 1
    run("practice", "p/after.csv", "--import", "back", "--to", "q")
    assert (tmp_path / "q" / "after.csv").read_text() == LIVE


@pytest.mark.parametrize("described", [True, False])
@pytest.mark.parametrize("later", ["semicolons", "UTF-16", "escapes", "Windows", "title", "JSON", "workbook"])
def test_the_round_is_gone_on_with_as_it_was_written_however_the_store_exports_by_now(
    later, described, run, put, tmp_path
):
    live = LIVE.replace("Hat", "Hüt")
    put("live.csv", live)
    put("sheet.csv", live.replace("9.90", "10.90").replace("20.00", "21.00"))
    if described:
        put("neat-delta.toml", STORE.format(importer=SKIPS))
    run("compare", "live.csv", "sheet.csv", "--key", "sku", "-o", "c.jsonl", "--accept", "large-round")
    assert run("write", "c.jsonl", "--to", "out", "--importer-blanks", "skip").returncode == 0
    (tmp_path / "live.csv").touch()
    rows = [row.split(",") for row in live.replace("9.90", "10.90").splitlines()]
    for name in ("after", "now"):
        text, file = "".join(";".join(row) + "\r\n" for row in rows), tmp_path / f"{name}.csv"
        if later == "semicolons":
            file.write_bytes(text.encode())
        elif later == "UTF-16":
            file.write_bytes(text.replace(";", "\t").encode("utf-16"))
        elif later == "escapes":  # in a cell of a colleague's
            file.write_bytes(text.replace(";", ",").replace("Jar", '"Jar, 5\\" wide"').encode())
        elif later == "Windows":
            file.write_bytes(text.encode("cp1252"))
        elif later == "title":
            file.write_bytes(("Quillfern;;;;;\r\n" + text).encode())
        elif later == "JSON":
            file.write_text(json.dumps([dict(zip(rows[0], row, strict=True)) for row in rows[1:]]))
        else:
            file.write_bytes(xlsx(rows[0], rows[1:]))
        rows[2][2] = "21.00"
    done = run("confirm", "c.jsonl", "after.csv", "--files", "out", "--retry", "again")
    assert "2 changes: 1 landed, 1 not landed" in done.stdout, done.stderr
    assert (tmp_path / "again" / "update-1.csv").read_bytes() == b"sku,price\nB,21.00\n"
    (tmp_path / "r.csv").write_text("row,status\n2,refused\n")
    done = run("confirm", "c.jsonl", "--files", "again", "--results", "r.csv")  # by the rows of its files
    assert "1 refused" in done.stdout, (done.stdout, done.stderr)
    done = run("undo", "c.jsonl", "--now", "now.csv", "--files", "again", "--to", "back")
    assert done.returncode == 0, done.stderr
    assert (tmp_path / "back" / "update-1.csv").read_bytes() == b"sku,price\nA,9.90\nB,20.00\n"


def test_an_export_is_read_in_the_encoding_that_live_was_in(run, put, tmp_path):
    live = "sku,name,price\nA,łx,9.90\nB,Hat,20.00\n"  # of which the bytes alone do not tell that ł is meant, and not ³
    for name, text in (("live.csv", live), ("sheet.csv", live.replace("9.90", "10.90"))):
        put(name, text.encode("cp1250"))
    asked = ("--key", "sku", "--encoding", "cp1250", "--accept", "large-round")
    run("compare", "live.csv", "sheet.csv", *asked, "-o", "c.jsonl")
    assert run("write", "c.jsonl", "--to", "out", "--importer-blanks", "skip").returncode == 0
    put("after.csv", live.replace("9.90", "10.90").replace("łx", "tęcza").encode("cp1250"))
    done = run("confirm", "c.jsonl", "after.csv", "--files", "out", "--json")
    assert done.returncode == 0, done.stderr
    assert [(one["sku"], one["now"]) for one in json.loads(done.stdout)["moved"]] == [("A", "tęcza")]


@pytest.mark.parametrize("described", ['status = "state"\ndone = ["ok"]\nrefused = ["no"]', ""])
def test_what_a_report_alone_says_to_be_refused_is_sent_again(described, begin, run, put, tmp_path):
    begin(LIVE.replace("9.90", "10.90").replace("20.00", "21.00").replace(",y", ",z"))
    if described:  # else what it means is guessed, by all that live has
        put("neat-delta.toml", STORE.format(importer=SKIPS) + f'[results]\nkey = ["sku"]\n{described}\n')
    put("r.csv", "sku,state,name\nA,ok,Veil\nB ,no,Hat\nC,ok,Jar\nA,ok,Veil\nZ,ok,Hive\n")
    done = run("confirm", "c.jsonl", "--files", "out", "--results", "r.csv", "--retry", "again")
    assert "3 items sent. The store says: 2 done, 1 refused" in done.stdout, (done.stdout, done.stderr)
    assert (tmp_path / "again" / "update-1.csv").read_text() == "sku,price\nB,21.00\n"


def test_a_folder_of_an_earlier_version_is_known(begin, run, put, tmp_path):
    begin(LIVE.replace("9.90", "10.90"))
    path = tmp_path / "out" / "manifest.json"
    manifest = {name: value for name, value in json.loads(path.read_bytes()).items() if name != "layout"}
    manifest["blake3"] = ""
    manifest["blake3"] = digest_of(json.dumps(manifest, ensure_ascii=False, separators=(",", ":")).encode())
    path.write_text(json.dumps(manifest))
    put("after.csv", LIVE.replace(",", ";"))
    assert run("confirm", "c.jsonl", "after.csv", "--files", "out", "--retry", "again").returncode == 1
    assert (tmp_path / "again" / "update-1.csv").read_text() == "sku,price\nA,10.90\n"


def test_an_importer_that_deletes_what_is_missing_has_undo_and_retry(begin, run, put, tmp_path):
    begin("sku,price\nA,10.90\n", 'missing = "deleted"', write=("--whole-catalogue",))
    assert run("confirm", "c.jsonl", "live.csv", "--retry", "again").returncode == 1
    assert run("undo", "c.jsonl", "--to", "back").returncode == 0
    for folder in ("back", "again"):
        assert set(sent(tmp_path / folder)) == {"A", "B", "C"}


def test_a_no_is_in_no_later_file_through_any_number_of_turns(begin, run, put, tmp_path):
    begin("sku,price\nA,10.90\nB,21.00\nC,3.50\n", SKIPS, write=("--skus", "codes.txt")) if put(
        "codes.txt", "A\nB\n"
    ) else None
    folder = "out"
    for turn in ("one", "two", "three"):
        (tmp_path / "live.csv").touch()  # exported once more: nothing of it landed
        done = run("confirm", "c.jsonl", "live.csv", "--files", folder, "--retry", turn)
        assert done.returncode == 1 and sent(tmp_path / turn) == {"A": {"price": "10.90"}, "B": {"price": "21.00"}}
        folder = turn
    manifest = json.loads((tmp_path / "three" / "manifest.json").read_text())
    assert [one["key"] for one in manifest["not_sent"]] == [{"sku": "C"}] and len(manifest["before"]) == 3
    put("after.csv", after(A="A,Veil,10.90,10,wax,", B="B,Hat,21.00,7,wax,x"))
    done = run("confirm", "c.jsonl", "after.csv")  # the last turn is found
    assert done.returncode == 0 and "As written in three (the one made of it" in done.stdout


def test_another_rounds_folder_is_refused(begin, run, put, tmp_path):
    begin("sku,price\nA,10.90\n")
    put("other.csv", "sku,price\nB,21.00\n")
    run("compare", "live.csv", "other.csv", "-o", "d.jsonl", "--accept", "large-round")
    for call in (("confirm", "d.jsonl", "live.csv"), ("undo", "d.jsonl", "--to", "x")):
        done = run(*call, "--files", "out")
        assert done.returncode == 2 and "written for another change set than d.jsonl" in done.stderr
    for words in ("confirm d.jsonl live.csv --retry x", "undo d.jsonl --to x", "confirm d.jsonl live.csv --mend x.csv"):
        done = run(*words.split())
        assert done.returncode == 2 and "no folder that was made of it" in done.stderr
    run("undo", "c.jsonl", "--to", "back")
    done = run("confirm", "c.jsonl", "live.csv", "--files", "back")
    assert done.returncode == 2 and "take a change set back" in done.stderr
    run("write", "c.jsonl", "--to", "twice", "--importer-blanks", "clear")
    done = run("undo", "c.jsonl", "--to", "x")
    assert done.returncode == 2 and "several folders were made of it: out, twice" in done.stderr


def test_files_that_were_edited_since_are_named_and_refused(begin, run, put, tmp_path):
    begin("sku,price\nA,10.90\n")
    (tmp_path / "out" / "update-1.csv").write_text("sku,price\nA,1.00\n")
    done = run("confirm", "c.jsonl", "live.csv")
    assert done.returncode == 1 and "out/update-1.csv was edited since it was written" in done.stdout
    for words in ("confirm c.jsonl live.csv --retry x", "undo c.jsonl --to x", "practice live.csv --import out"):
        done = run(*words.split())
        assert done.returncode == 2 and "out/update-1.csv: it was edited since" in done.stderr


def test_that_nothing_is_to_be_mended_is_said(begin, run, put, tmp_path):
    begin("sku,price\nA,10.90\n")
    put("after.csv", after(A="A,Veil,10.90,10,wax,"))
    done = run("confirm", "c.jsonl", "after.csv", "--mend", "m.csv")
    assert done.returncode == 0 and "Nothing is to be sent again." in done.stdout and not (tmp_path / "m.csv").exists()


def test_files_that_were_handed_over_are_not_missed(begin, run, put, tmp_path):
    begin("sku,price\nA,10.90\n")
    (tmp_path / "out" / "update-1.csv").rename(tmp_path / "uploaded.csv")
    put("after.csv", after(A="A,Veil,10.90,10,wax,"))
    report = ("--results", put("r.csv", "sku,status\nA,done\n"))
    done = run("confirm", "c.jsonl", "after.csv", *report, "--json")
    assert done.returncode == 0 and json.loads(done.stdout)["files"] == "out"
    assert run("undo", "c.jsonl", "--now", "after.csv", "--to", "back").returncode == 0
    done = run("practice", "live.csv", "--import", "out", "--to", "p")
    assert done.returncode == 2 and "out/update-1.csv: there is no such file" in done.stderr


def test_the_store_file_is_named_and_its_change_is_said(begin, run, put, tmp_path):
    begin("sku,price\nA,10.90\n")
    assert "By the store file neat-delta.toml." in run("write", "c.jsonl", "--to", "w").stdout
    assert "the store file is neat-delta.toml" in run("confirm", "c.jsonl", "live.csv", "--files", "out").stdout
    put("neat-delta.toml", STORE.format(importer=""))
    done = run("undo", "c.jsonl", "--files", "out", "--to", "back")
    assert "The store file is another one now than for out" in done.stdout and done.returncode == 0


def test_the_store_file_beside_live_counts_and_two_that_differ_are_an_error(run, put, tmp_path):
    (tmp_path / "shop").mkdir()
    put("shop/live.csv", LIVE)
    put("shop/neat-delta.toml", STORE.format(importer=SKIPS))
    put("sheet.csv", "sku,price\nA,10.90\n")
    done = run("compare", "shop/live.csv", "sheet.csv", "-o", "c.jsonl", "--accept", "large-round")
    assert "shop/neat-delta.toml" in done.stdout and done.returncode == 0
    assert run("write", "c.jsonl", "--to", "out").returncode == 0
    assert json.loads((tmp_path / "out" / "manifest.json").read_text())["importer"]["blanks"] == "skip"
    put("neat-delta.toml", STORE.format(importer=""))
    for call in (("compare", "shop/live.csv", "sheet.csv"), ("write", "c.jsonl", "--to", "x")):
        done = run(*call)
        assert done.returncode == 2 and "two store files that differ" in done.stderr
    assert run("compare", "shop/live.csv", "sheet.csv", "--store", "neat-delta.toml").returncode == 0


def test_fields_of_the_store_file_that_live_lacks_are_said(begin, run, put):
    begin("sku,price\nA,10.90\n")
    put("neat-delta.toml", STORE.format(importer=SKIPS) + '[fields.cost]\nkind = "money"\n')
    done = run("compare", "live.csv", "sheet.csv", "--accept", "large-round")
    assert "       live lacks cost: what it says of that field is idle" in done.stdout.splitlines()
    assert json.loads(run("compare", "live.csv", "sheet.csv", "--json").stdout)["lacking"] == ["cost"]


# A report is understood or it is not.


@pytest.mark.parametrize(
    "report, said",
    [
        (LIVE, "nothing in it tells what was done from what was refused"),
        ("sku,status\nA,pending\n", 'nobody can tell what "pending" means'),
        ("sku,status\nA,blue\nB,done\n", 'nobody can tell what "blue" means'),
    ],
)
def test_a_report_that_is_not_understood_is_an_error(report, said, begin, run, put):
    begin("sku,price\nA,10.90\nB,21.00\n")
    done = run("confirm", "c.jsonl", "--results", put("r.csv", report))
    assert done.returncode == 2 and said in done.stderr, done.stdout + done.stderr


@pytest.mark.parametrize("word, status", [("Fehlgeschlagen", 1), ("nicht importiert", 1), ("Importiert", 0)])
def test_words_of_other_languages_are_read(word, status, begin, run, put):
    begin("sku,price\nA,10.90\n")
    done = run("confirm", "c.jsonl", "--results", put("r.csv", f"sku,Status\nA,{word}\n"))
    assert done.returncode == status, done.stdout + done.stderr


def test_a_row_with_a_number_and_no_code_is_that_rows(begin, run, put):
    begin("sku,price\nA,10.90\nB,21.00\n")
    put("r.csv", "row,sku,status\n2,A,done\n3,,refused\n")
    done = json.loads(run("confirm", "c.jsonl", "--results", "r.csv", "--json").stdout)
    assert done["results"]["counts"] == {"done": 1, "refused": 1}


def test_what_a_report_does_not_mention_is_sent_again_with_an_export_only(begin, run, put, tmp_path):
    begin("sku,price\nA,10.90\nB,21.00\nC,3.50\n")
    put("r.csv", "sku,status\nA,done\nB,refused\n")  # it stopped in the middle
    done = run("confirm", "c.jsonl", "--results", "r.csv", "--retry", "again")
    assert set(sent(tmp_path / "again")) == {"B"} and "1 item that the report does not mention" in done.stdout
    put("after.csv", after(A="A,Veil,10.90,10,wax,"))
    run("confirm", "c.jsonl", "after.csv", "--results", "r.csv", "--files", "out", "--retry", "both")
    assert set(sent(tmp_path / "both")) == {"B", "C"}


def test_the_later_word_counts(begin, run, put, tmp_path):
    begin("sku,price\nA,10.90\nB,21.00\n")
    put("first.csv", "sku,status\nA,done\nB,refused\n")
    put("after.csv", after(A="A,Veil,10.90,10,wax,"))
    run("confirm", "c.jsonl", "after.csv", "--results", "first.csv", "--retry", "again")
    put("second.csv", "sku,status\nB,done\n")
    put("last.csv", after(A="A,Veil,10.90,10,wax,", B="B,Hat,21.00,7,wax,x"))
    both = ("--results", "first.csv", "--results", "second.csv")
    for witness in (("last.csv", *both), both, ("last.csv", "--results", "second.csv")):
        done = run("confirm", "c.jsonl", *witness)
        assert done.returncode == 0, (witness, done.stdout + done.stderr)
    assert run("confirm", "c.jsonl", *both, "--files", "out").returncode == 1  # of one import the worst counts


def test_long_messages_and_nasty_reports_take_no_time(begin, run, put):
    begin("sku,price\nA,10.90\n")
    put("r.csv", f"sku,status,message\nA,refused,{'9a' * 1_500_000}\n")
    done = run("confirm", "c.jsonl", "--results", "r.csv")
    assert done.returncode == 1 and "(3,000,000 characters; --json has all of them)" in " ".join(done.stdout.split())
    assert len(done.stdout) < 3_000
    nasty = {
        "deep.json": "[" * 100_000, "deeper.json": '{"a":' * 100_000,
        "number.json": '[{"sku":"A","row":' + "9" * 5000 + "}]",
        "rows.csv": f"row,status\n{'9' * 5000},done\n", "nul.csv": b"sku,status\nA,do\0ne\n", "log": b"\0" * 5000,
        "deep.xml": "<a>" * 50_000,
    }  # fmt: skip
    for name, content in nasty.items():
        done = run("confirm", "c.jsonl", "--results", put(name, content))
        assert done.returncode in {1, 2} and done.stderr.count("\n") <= 1, (name, done.stdout, done.stderr)
        assert "a fault in Neat Delta itself" not in done.stderr, (name, done.stderr)


# Nobody's file is overwritten.


def test_no_output_is_an_input(begin, run, put, tmp_path):
    begin("sku,price\nA,10.90\n")
    run("sheet", "live.csv", "-o", "live.xlsx")
    os.link(tmp_path / "live.csv", tmp_path / "hard.csv")
    (tmp_path / "link.csv").symlink_to("live.csv")
    put("map.toml", "version = 1\n")
    put("skus.txt", "A\n")
    before = {path: path.read_bytes() for path in tmp_path.rglob("*") if path.is_file()}
    calls = [
        *(
            ("confirm", "c.jsonl", "live.csv", "--mend", name, "--replace")
            for name in ("live.csv", "hard.csv", "link.csv")
        ),
        ("compare", "live.xlsx", "sheet.csv", "-o", "live.xlsx"),
        ("sheet", "live.csv", "-o", "skus.txt", "--skus", "skus.txt", "--replace"),
        ("match", "live.csv", "sheet.csv", "--mapping", "map.toml", "--save", "map.toml", "--replace"),
        ("match", "live.csv", "sheet.csv", "--save", "neat-delta.toml", "--replace"),
        ("undo", "c.jsonl", "--to", "out", "--replace"),
        ("learn", "live.csv", "-o", "hard.csv"),
    ]
    for call in calls:
        done = run(*call)
        assert done.returncode == 2 and "inputs are never modified" in done.stderr, (call, done.stdout, done.stderr)
    assert {path: path.read_bytes() for path in tmp_path.rglob("*") if path.is_file()} == before
    for _ in range(2):  # the second time it is just this file
        assert run("match", "live.csv", "sheet.csv", "--save", "new.toml").returncode == 0
    put("new.toml", "# somebody's work")
    done = run("match", "live.csv", "sheet.csv", "--save", "new.toml")
    assert done.returncode == 2 and "--replace overwrites it" in done.stderr


def test_a_mapping_keeps_what_it_said(run, put, tmp_path):
    put("live.csv", LIVE)
    put("list.csv", "Art,Trade\nA,1.00\n")
    put("m.toml", 'version = 1\n# a note\nmatch_by = ["sku"]\n[headings]\nArt = "sku"\n[constants]\nnote = "new"\n')
    run("match", "live.csv", "list.csv", "--mapping", "m.toml", "--map", "Trade=price", "--save", "n.toml")
    text = (tmp_path / "n.toml").read_text()
    assert "# a note" in text and 'note = "new"' in text and re.search(r'Trade = "price"', text)


def test_a_change_set_that_a_folder_was_made_of_is_not_replaced_in_silence(begin, run, put):
    begin("sku,price\nA,10.90\n")
    again = (
        "compare",
        "live.csv",
        "sheet.csv",
        "-o",
        "c.jsonl",
        "--accept",
        "large-round",
        "--with-new-values",
        "tags",
    )
    same = run(*again)
    assert same.stderr == ""
    put("sheet.csv", "sku,price\nA,11.90\n")
    done = run(*again)
    assert "out was made of the change set that c.jsonl was before" in done.stderr


def test_what_is_sent_again_names_the_rows_of_the_sheet_that_it_came_from():
    live = as_catalogue({"sku": ["QA-1", "QA-2", "QA-3"], "price": ["9.90", "20.00", "5.00"]}, "live")
    sheet = as_catalogue({"sku": ["QA-3", "QA-2", "QA-1"], "price": ["6.00", "20.00", "10.50"]}, "sheet")
    changes = neat_delta.compare(live, sheet)
    landed = as_catalogue({"sku": ["QA-1", "QA-2", "QA-3"], "price": ["9.90", "20.00", "6.00"]}, "after")
    again, _ = neat_delta.retry(changes, landed, neat_delta.confirm_changes(changes, live, landed))
    assert again.items.select("live", "sheet").rows() == [(2, 4)]


def test_a_folder_names_its_change_set_too(begin, run, put, tmp_path):
    """Whoever says which folder was imported need not say of which change set it was made: as with both."""
    begin("sku,price\nA,10.90\nB,21.00\n")
    put("after.csv", LIVE.replace("9.90", "10.90").replace("20.00", "20.5"))
    for folder in ("out", "out/", str(tmp_path / "out")):
        mine = run("confirm", folder, "after.csv", "--json", "--retry", "again")
        shutil.rmtree(tmp_path / "again", ignore_errors=True)
        both = run("confirm", "c.jsonl", "after.csv", "--files", folder, "--json", "--retry", "again")
        shutil.rmtree(tmp_path / "again", ignore_errors=True)
        assert (mine.returncode, mine.stdout.replace(str(tmp_path), ".")) == (
            both.returncode, both.stdout.replace(str(tmp_path), "."),
        )  # fmt: skip
    for taken, now in (("one", ()), ("two", ("--now", "after.csv"))):
        assert (
            run("undo", "out", "--to", taken, *now).returncode
            == run("undo", "c.jsonl", "--files", "out", "--to", f"{taken}-", *now).returncode
        )
        assert sent(tmp_path / taken) == sent(tmp_path / f"{taken}-") != {}
    twice = run("confirm", "out", "after.csv", "--files", "out")
    assert twice.returncode == 2 and "name one of them" in twice.stderr
    back = run("confirm", "one", "after.csv")
    assert back.returncode == 2 and "its files take a change set back" in back.stderr
    (tmp_path / "c.jsonl").rename(tmp_path / "c.gone")
    lost = run("confirm", "out", "after.csv")
    assert (
        lost.returncode == 2
        and "Say where the change set is now (`changes`), and name this folder with it." in lost.stderr
    )
    (tmp_path / "kept").mkdir()
    bare = run("confirm", "kept", "after.csv")
    assert bare.returncode == 2 and "this is a folder" in bare.stderr
    long = run("confirm", "k" * 5000, "after.csv")
    assert long.returncode == 2 and "File name too long" in long.stderr and "output" not in long.stderr


@pytest.mark.parametrize(
    ("stands", "outcome", "how"),
    [
        ("wax", "differently", "cut after 3 characters"),
        ("wax,gift,new", "differently", None),
        ("gift", "differently", None),
        ("gift,wax", "landed", None),
        ("", "not landed", None),
    ],
)
def test_a_list_of_a_new_item_has_no_list_from_before(stands, outcome, how):
    """So nobody can tell what somebody added since from what the store made of it."""
    store = neat_delta.Store(fields={"tags": neat_delta.Field("list", separator=",")}, checks={"new-value": "off"})
    live = as_catalogue({"sku": ["A"], "tags": ["x"]}, "live")
    sheet = as_catalogue({"sku": ["A", "B"], "tags": ["x", "wax,gift"]}, "sheet")
    changes = neat_delta.compare(live, sheet, store=store, with_new=True)
    after = as_catalogue({"sku": ["A", "B"], "tags": ["x", stands]}, "after")
    looked = neat_delta.confirm_changes(changes, live, after)
    assert looked.counts[outcome] == 1
    assert [(one.now, one.outcome, one.how) for one in looked.trouble] == [(stands, outcome, how)] * (
        outcome != "landed"
    )


@pytest.fixture
def undone(begin, run, put, tmp_path):
    """A round of three cells that landed, and was taken back: the store is as it was but for what `after` says."""
    begin("sku,price,name\nA,10.90,Long veil\nB,21.00,\n")
    landed = after(A="A,Long veil,10.90,10,wax,", B="B,Hat,21.00,7,wax,x")
    put("after.csv", landed)
    assert run("confirm", "c.jsonl", "after.csv").returncode == 0
    assert run("undo", "c.jsonl", "--now", "after.csv", "--to", "back").returncode == 0
    return landed


@pytest.mark.parametrize(
    ("now", "counts"),
    [
        (after(), {"landed": 0, "not landed": 0, "differently": 0, "taken back": 3}),
        (after(A="A,Theirs,9.90,10,wax,"), {"landed": 0, "not landed": 0, "differently": 0, "taken back": 3}),
        (after(A="A,Veil,10.90,10,wax,"), {"landed": 1, "not landed": 0, "differently": 0, "taken back": 2}),
    ],
    ids=["as it was", "and changed by a colleague", "in part"],
)
def test_what_was_taken_back_since_is_not_sent_again(undone, run, put, tmp_path, now, counts):
    put("now.csv", now)
    done = run("confirm", "c.jsonl", "now.csv", "--json")
    facts = json.loads(done.stdout)
    assert (done.returncode, facts["counts"]) == (0, counts)
    done = run("confirm", "c.jsonl", "now.csv", "--retry", "again", "--mend", "mend.csv")
    assert (done.returncode, "Nothing is to be sent again." in done.stdout) == (0, True), done.stdout + done.stderr
    assert "back takes this round back: what does not stand as it was sent is not sent again." in done.stdout
    assert f"{counts['taken back']} changes: files were written since that take it back" in done.stdout
    assert not (tmp_path / "again").exists() and not (tmp_path / "mend.csv").exists()


def test_an_undo_that_was_not_imported_changes_nothing_of_what_landed(undone, run, put):
    put("now.csv", undone)
    done = run("confirm", "c.jsonl", "now.csv")
    assert (done.returncode, "All 3 changes landed." in done.stdout) == (0, True)
    assert "this round back" not in done.stdout


def test_what_an_undo_left_alone_it_did_not_take_back(undone, run, put, tmp_path):
    put("mixed.csv", after(A="A,Long veil,11.50,10,wax,", B="B,Hat,21.00,7,wax,x"))  # a colleague's price
    assert run("undo", "c.jsonl", "--now", "mixed.csv", "--to", "back", "--replace").returncode == 1
    put("now.csv", after(A="A,Veil,11.50,10,wax,"))
    facts = json.loads(run("confirm", "c.jsonl", "now.csv", "--json").stdout)
    assert facts["counts"] == {"landed": 0, "not landed": 0, "differently": 1, "taken back": 2}
    assert [(one["field"], one["outcome"]) for one in facts["trouble"] if one["now"] == "11.50"] == [
        ("price", "differently")
    ]


def test_an_undo_of_an_earlier_turn_takes_back_the_later_ones(begin, run, put, tmp_path):
    begin("sku,price\nA,10.90\nB,21.00\n")
    put("half.csv", after(A="A,Veil,10.90,10,wax,"))
    assert run("confirm", "c.jsonl", "half.csv", "--retry", "again").returncode == 1
    put("all.csv", after(A="A,Veil,10.90,10,wax,", B="B,Hat,21.00,7,wax,x"))
    assert run("undo", "c.jsonl", "--now", "all.csv", "--files", "out", "--to", "back").returncode == 0
    put("now.csv", LIVE)
    for folder in ("out", "again"):
        done = run("confirm", "c.jsonl", "now.csv", "--files", folder, "--retry", f"{folder}-2")
        assert (done.returncode, "2 changes: 2 taken back" in done.stdout) == (0, True), done.stdout


def test_what_is_made_of_a_round_again_is_replaced(undone, run, put, tmp_path):
    for _ in range(2):
        assert run("undo", "c.jsonl", "--now", "after.csv", "--to", "back", "--replace").returncode == 0
    assert run("undo", "c.jsonl", "--to", "out", "--replace").returncode == 2  # which is what it goes by
    shutil.rmtree(tmp_path / "back")
    put("now.csv", after())
    for _ in range(2):
        done = run("confirm", "c.jsonl", "now.csv", "--files", "out", "--retry", "again", "--replace")
        assert done.returncode == 1, done.stderr


def test_what_is_written_once_more_after_an_undo_is_a_round_again(undone, run, put, tmp_path):
    assert run("write", "c.jsonl", "--to", "anew").returncode in {0, 1}
    put("now.csv", after(B="B,Hat,21.00,7,wax,x"))
    done = run("confirm", "c.jsonl", "now.csv", "--files", "anew", "--retry", "again")
    assert done.returncode == 1, done.stderr
    assert sent(tmp_path / "again") == {"A": {"price": "10.90", "name": "Long veil"}}


def test_what_a_report_refused_is_not_sent_again_once_the_round_was_taken_back(undone, run, put, tmp_path):
    put("r.csv", REFUSED)
    done = run("confirm", "c.jsonl", "--results", "r.csv", "--retry", "again")
    assert "Nothing is to be sent again." in done.stdout, done.stdout + done.stderr
    assert not (tmp_path / "again").exists()
    put("now.csv", after())
    done = run("confirm", "c.jsonl", "now.csv", "--results", put("r.csv", "sku,status\nA,done\nB,done\n"))
    assert (done.returncode, "did not land" in done.stdout) == (0, False), done.stdout
    assert "taken back" in done.stdout
