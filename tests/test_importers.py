"""Importers of many kinds, each a store file, on the demo's round: what the plan comes to, and that it is proven."""

from __future__ import annotations

import json
import re
import shutil
from importlib.resources import files
from pathlib import Path
from typing import Any

import pytest

import neat_delta
from tests.conftest import each_of

DEMO = files("neat_delta.demo")

IMPORTERS: dict[str, str] = {
    "clears": 'blanks = "clear"',
    "skips, with a mark": 'blanks = "skip"\nempties = "(none)"',
    "skips, cannot empty": 'blanks = "skip"',
    "wants fields in every row": 'blanks = "clear"\ncarries = ["tax_class", "status"]',
    "updates only": 'blanks = "clear"\ntakes = "updates"',
    "removes by a file": 'blanks = "skip"\nempties = "-"\n[importer.removal]\nhow = "row"',
    "removes by a flag": 'blanks = "skip"\nempties = "-"\ncarries = ["tax_class"]\n'
    '[importer.removal]\nhow = "flag"\nheading = "delete"\nvalue = "1"',
    "retires by a status": 'blanks = "clear"\n[importer.removal]\nhow = "value"\nheading = "status"\nvalue = "hidden"',
    "marks and differences": 'blanks = "skip"\nempties = "-"\nlists = "marked"\nadjusted = ["stock"]\n'
    'with_adjusted = { "stock reason" = "recount" }',
    "deletes what is missing": 'blanks = "skip"\nempties = "-"\nmissing = "deleted"',
    "small files with fixed headings": 'blanks = "skip"\nempties = "-"\nmost_rows = 10\n'
    'headings = ["sku", "price", "cost", "sale_price", "stock", "name", "status", "tags"]',
    "new items with defaults": 'blanks = "clear"\nneeds = ["brand", "status"]\ndefaults = { brand = "Quillfern" }',
    "XML": 'blanks = "clear"\nform = "xml"\n[importer.removal]\nhow = "row"',
    "a workbook": 'blanks = "clear"\nform = "xlsx"\nmost_bytes = 9000',
    "merge patch": 'form = "merge patch"',
    "JSON patch": 'form = "json patch"',
    "tab text": 'blanks = "clear"\nseparator = "\\t"\nencoding = "cp1252"\nline_end = "CRLF"\nquote_all = true',
}

PLANNED = {
    "clears": (5, 73, 37, 0, 6, 12, 2),
    "skips, with a mark": (2, 73, 37, 0, 0, 12, 2),
    "skips, cannot empty": (2, 70, 34, 0, 0, 15, 8),
    "wants fields in every row": (5, 73, 37, 68, 5, 12, 2),
    "updates only": (4, 57, 35, 0, 6, 14, 0),
    "removes by a file": (3, 73, 49, 0, 0, 0, 0),
    "removes by a flag": (3, 85, 49, 47, 0, 0, 0),
    "retires by a status": (5, 84, 48, 0, 14, 0, 2),
    "marks and differences": (2, 73, 37, 7, 0, 12, 2),
    "deletes what is missing": (1, 73, 408, 0, 0, 0, 0),
    "small files with fixed headings": (4, 57, 35, 0, 0, 14, 0),
    "new items with defaults": (5, 75, 37, 0, 6, 12, 2),
    "XML": (3, 73, 49, 0, 0, 0, 0),
    "a workbook": (5, 73, 37, 0, 6, 12, 2),
    "merge patch": (3, 73, 49, 0, 0, 0, 0),
    "JSON patch": (3, 73, 49, 0, 0, 0, 0),
    "tab text": (5, 73, 37, 0, 6, 12, 2),
}
"""Files, cells that change, keys, required and carried; held by the importer; one way."""


def planned(run, folder: Path, importer: str, *options: str):
    """The demo's round, every change asked for, written for an importer: what `write` says of it."""
    text = DEMO.joinpath("neat-delta.toml").read_text()
    text = re.sub(r"\[importer\].*?(?=\n# Which)", lambda _: f"[importer]\n{importer}\n", text, flags=re.DOTALL)
    (folder / "neat-delta.toml").write_text(text)
    for name in ("live.csv", "sheet.csv"):
        (folder / name).write_bytes(DEMO.joinpath(name).read_bytes())
    asked = ("--repair", "--with-new", "--whole", "--with-gone", "--blanks", "clear", "--with-new-values", "tags")
    run("compare", "live.csv", "sheet.csv", "-o", "c.jsonl", *asked, "--accept", "required")
    done = run("write", "c.jsonl", "--to", "out", "--json", *options)
    assert done.returncode in {0, 1}, done.stderr
    return json.loads(done.stdout)["manifest"]


@pytest.mark.parametrize("name", each_of(2, IMPORTERS))
def test_each_importer_gets_its_files(run, tmp_path, name):
    whole = ["--whole-catalogue"] if 'missing = "deleted"' in IMPORTERS[name] else []
    found = planned(run, tmp_path, IMPORTERS[name], *whole)
    cells = found["cells"]
    plan = (len(found["update"]), *cells.values(), len(found["held"]), len(found["one_way"]))
    assert plan == PLANNED[name]
    assert (
        (tmp_path / "out" / "READ-ME-FIRST.txt")
        .read_text()
        .startswith("READ ME FIRST: for Quillfern Apiary Supply\n\nImport these files")
    )


def shop(put, importer: str, settings: str = "", live: str = "", sheet: str = "") -> None:
    put(
        "neat-delta.toml",
        f"""version = 1
[key]
fields = ["sku"]
[importer]
{importer}
[fields.sku]
kind = "code"
[fields.name]
[fields.price]
kind = "money"
[fields.stock]
kind = "integer"
moving = true
[fields.tags]
kind = "list"
separator = ","
{settings}""",
    )
    put("live.csv", live or 'sku,name,price,stock,tags\nA,Veil,9.90,5,"a,b"\nB,Suit,20.00,7,a\nC,Hat,3.00,0,\n')
    put(
        "sheet.csv",
        sheet or 'sku,name,price,stock,tags\nA,Veil,10.90,3,"b,new"\nB,Suit,,7,a\nD,"Glove & <hat>",8.00,,\n',
    )


ASKED = (
    "--blanks",
    "clear",
    "--with-new",
    "--whole",
    "--with-gone",
    "--with-new-values",
    "tags",
    "--accept",
    "large-round",
)

UNTAGGED = tuple(one for one in ASKED if one not in {"--with-new-values", "tags"})
"""The same of a catalogue without tags."""

WRITTEN: dict[str, list[Any]] = {
    'blanks = "skip"\nempties = "none"\nlists = "marked"\nadjusted = ["stock"]\nwith_adjusted = { why = "counted" }': [
        'sku,name,price\nD,Glove & <hat>,8.00\n',
        'sku,price,stock,tags,why\nA,10.90,-2,"+new,-a",counted\nB,none,,,\n',
    ],
    'form = "merge patch"': [
        {"D": {"name": "Glove & <hat>", "price": "8.00"}},
        {"A": {"price": "10.90", "stock": "3", "tags": "b,new"}, "B": {"price": None}},
        {"C": None},
    ],
    'form = "json patch"': [
        [{"op": "add", "path": "/D", "value": {"name": "Glove & <hat>", "price": "8.00"}}],
        [
            {"op": "add", "path": "/A/price", "value": "10.90"},
            {"op": "add", "path": "/A/stock", "value": "3"},
            {"op": "add", "path": "/A/tags", "value": "b,new"},
            {"op": "remove", "path": "/B/price"},
        ],
        [{"op": "remove", "path": "/C"}],
    ],
    'form = "json lines"\nblanks = "clear"': [
        '{"sku":"D","name":"Glove & <hat>","price":"8.00"}\n',
        '{"sku":"A","price":"10.90","stock":"3","tags":"b,new"}\n{"sku":"B","price":""}\n',
    ],
    'form = "xml"\nblanks = "clear"\n[importer.removal]\nhow = "row"': [
        '<?xml version="1.0" encoding="UTF-8"?>\n<items>\n<item><field name="sku">D</field>'
        '<field name="name">Glove &amp; &lt;hat&gt;</field><field name="price">8.00</field></item>\n</items>\n',
        None,
        '<?xml version="1.0" encoding="UTF-8"?>\n<items>\n<item><field name="sku">C</field></item>\n</items>\n',
    ],
    'blanks = "skip"\nempties = "-"\n[importer.removal]\nhow = "flag"\nheading = "drop"\nvalue = "yes"': [
        None, None, "sku,drop\nC,yes\n",
    ],
}  # fmt: skip


@pytest.mark.parametrize("place, plan", [(0, (3, 73, 49, 35, 0, 0, 0)), (1, (3, 73, 49, 0, 0, 0, 0))])
def test_the_examples_of_the_guide_run_the_round(run, tmp_path, place, plan):
    guide = (Path(__file__).parent.parent / "docs" / "writing.md").read_text()
    examples = re.findall(r"```toml\n.*?\[importer\]\n(.*?)```", guide, re.DOTALL)
    assert len(examples) == 2
    found = planned(run, tmp_path, examples[place])
    assert (len(found["update"]), *found["cells"].values(), len(found["held"]), len(found["one_way"])) == plan


@pytest.mark.parametrize("importer", WRITTEN)
def test_what_stands_in_the_files(run, put, tmp_path, importer):
    shop(put, importer)
    run("compare", "live.csv", "sheet.csv", "-o", "c.jsonl", *ASKED)
    done = run("write", "c.jsonl", "--to", "out")
    assert not done.stderr and "proven by replay on live" in done.stdout
    found = [path.read_text() for path in sorted((tmp_path / "out").glob("update-*"))]
    assert len(found) == len(WRITTEN[importer])
    for text, wanted in zip(found, WRITTEN[importer], strict=True):
        if wanted is not None:
            assert (text if isinstance(wanted, str) else json.loads(text)) == wanted


def test_fewer_files_carry_cells_along_but_never_a_moving_one(run, put, tmp_path):
    live = [f"Q{n},n,1.00,{n},a" for n in range(12)]
    edits = ["Q0,m,1.00,0,a", "Q1,n,2.00,1,a", "Q2,m,2.00,2,a", "Q3,n,1.00,9,a", "Q4,m,1.00,9,a"]
    head = "sku,name,price,stock,tags\n"
    shop(put, "", live=head + "\n".join(live) + "\n", sheet=head + "\n".join(edits + live[5:]) + "\n")
    run("compare", "live.csv", "sheet.csv", "-o", "c.jsonl", *ASKED)
    counts = {}
    for most in (8, 4, 2, 1):
        call = ("write", "c.jsonl", "--to", f"out{most}", "--json", "--most-files", str(most), "--file-cost", "0")
        manifest = json.loads(run(*call).stdout)
        counts[most] = (len(manifest["manifest"]["update"]), manifest["manifest"]["cells"]["carried"])
        for file in (tmp_path / f"out{most}").glob("update-*.csv"):
            header, *rows = file.read_text().splitlines()
            assert "stock" not in header or all(row.split(",")[0] in {"Q3", "Q4"} for row in rows)
    assert counts == {8: (5, 0), 4: (3, 0), 2: (2, 3), 1: (2, 3)}  # one file a field, an item in several, carries none
    manifest = json.loads(run("write", "c.jsonl", "--to", "plain", "--json").stdout)["manifest"]
    assert (len(manifest["update"]), manifest["cells"]["carried"]) == (2, 3)  # three cells are less than a file


def test_an_importer_that_deletes_what_is_missing_gets_all_or_nothing(run, put, tmp_path):
    shop(put, 'blanks = "clear"\nmissing = "deleted"', live="sku,name,price\nA,a,1\nB,b,2\nC,c,3\n",
         sheet="sku,name,price\nA,a,1.50\nB,b,2\nD,d,4\n")  # fmt: skip
    run("compare", "live.csv", "sheet.csv", "-o", "c.jsonl", *UNTAGGED)
    failed = run("write", "c.jsonl", "--to", "out")
    assert failed.returncode == 2 and "would delete the rest of the catalogue" in failed.stderr
    assert run("write", "c.jsonl", "--to", "out", "--whole-catalogue").returncode == 0
    assert (tmp_path / "out" / "update-1.csv").read_text() == "sku,name,price\nA,a,1.50\nB,b,2\nD,d,4\n"
    assert (tmp_path / "out" / "undo-1.csv").read_text() == "sku,name,price\nA,a,1\nB,b,2\nC,c,3\n"
    run(
        "compare", "live.csv", "sheet.csv", "-o", "c.jsonl", "--with-new", "--whole"
    )  # the item that is gone is held, so it stays
    assert run("write", "c.jsonl", "--to", "kept", "--whole-catalogue").returncode == 1
    assert "C,c,3" in (tmp_path / "kept" / "update-1.csv").read_text()


def test_files_are_split_between_items(run, put, tmp_path):
    live = "".join(f"Q{n:03},n{n},1.00\n" for n in range(100))
    shop(put, 'blanks = "clear"\nmost_rows = 40\nmost_bytes = 300', live="sku,name,price\n" + live,
         sheet="sku,name,price\n" + live.replace("1.00", "2.00"))  # fmt: skip
    run("compare", "live.csv", "sheet.csv", "-o", "c.jsonl", *UNTAGGED)
    assert run("write", "c.jsonl", "--to", "out").returncode == 0
    written = [path.read_text() for path in sorted((tmp_path / "out").glob("update-*"))]
    assert all(len(text) <= 300 and text.startswith("sku,price\n") for text in written)
    assert "".join(text.partition("\n")[2] for text in written) == "".join(f"Q{n:03},2.00\n" for n in range(100))
    shop(put, 'blanks = "clear"\nmost_bytes = 12', live="sku,name,price\nA,a,1\n", sheet="sku,name,price\nA,a,25\n")
    run("compare", "live.csv", "sheet.csv", "-o", "c.jsonl", *UNTAGGED)
    failed = run("write", "c.jsonl", "--to", "small")
    assert failed.returncode == 2 and "the importer takes no file of that size" in failed.stderr
    assert not (tmp_path / "small").exists()


def test_parents_come_before_their_variants(run, put, tmp_path):
    shop(put, "", '[fields.parent]\nkind = "code"\nrefers = true\n', live="sku,name,parent\nA,a,\n",
         sheet="sku,name,parent\nA,a,\nV2,v,V1\nV1,v,P\nP,p,A\nX,x,X\n")  # fmt: skip
    run("compare", "live.csv", "sheet.csv", "-o", "c.jsonl", *UNTAGGED)
    run("write", "c.jsonl", "--to", "out")
    rows = (tmp_path / "out" / "update-1.csv").read_text().splitlines()[1:]
    assert [row.split(",")[0] for row in rows] == ["P", "V1", "V2", "X"]


@pytest.mark.parametrize(
    "importer, said",
    [
        ('empties = "x"', "a blank cell clears the field already, so it needs no mark"),
        ('carries = ["stock"]', "every row must have it, and it is never sent unless it changes"),
        ('carries = ["prise"]', 'there is no field "prise", here or in live. Did you mean "price"?'),
        ('adds = "-"', "it is the same as takes_away"),
        ('adjusted = ["name"]', '"name" is no field of numbers'),
        ('headings = ["price"]', 'the key field "sku" is not among them'),
        ('form = "xml"\nheadings = ["sku"]', "it has no headings to be fixed"),
        ('missing = "deleted"\ntakes = "updates"', "must take everything"),
        ('[importer.removal]\nhow = "flag"', "flag and value need a heading and a value"),
        ('[importer.removal]\nhow = "value"\nheading = "gone"\nvalue = "1"', 'there is no field "gone", here'),
        ('blank = "skip"', 'Did you mean "blanks"?'),
    ],
)  # fmt: skip
def test_importers_that_cannot_be_are_refused(run, put, importer, said):
    shop(put, importer)
    done = run("compare", "live.csv", "sheet.csv")
    assert done.returncode == 2 and said in done.stderr


def test_confirming_from_the_next_export(run, put, tmp_path):
    shop(
        put,
        'blanks = "skip"',
        sheet='sku,name,price,stock,tags\nA,Long veil,10.90,3,"b,new"\nB,Suit,21.50,7,a\nC,,3.00,0,\n',
    )
    run("compare", "live.csv", "sheet.csv", "-o", "c.jsonl", *ASKED)
    assert run("write", "c.jsonl", "--to", "out").returncode == 1  # the name of C cannot be emptied
    put("after.csv", 'sku,price,name,stock,tags\nB,21.5,Suit,6,a\nA,11,Long,3,"new, b"\nC,3.00,Cap,0,\nE,1,e,1,\n')
    done = run("confirm", "c.jsonl", "after.csv", "--files", "out", "--retry", "again")
    assert done.returncode == 1 and not done.stderr
    for line in (
        "5 changes: 3 landed, 2 differently",
        "  A  name, cut after 4 characters: Long veil was meant, and it is Long",
        "  A  price, rounded: 10.90 was meant, and it is 11",
        "what else is otherwise now: 1 cell",
        "  C  name: Hat → Cap",
        "what moves by itself: 1 cell",
        "  B  stock: 7 → 6",
        "1 item came that live did not have",
        "Nothing is to be sent again.",  # the store altered it by itself, and would once more
    ):
        assert line in done.stdout.splitlines()
    done = run("confirm", "c.jsonl", "after.csv", "--files", "out", "--retry", "again", "--retry-altered")
    assert "Wrote 1 update file to again." in done.stdout
    assert (tmp_path / "again" / "update-1.csv").read_text() == "sku,price,name\nA,10.90,Long veil\n"
    (tmp_path / "out").rename(tmp_path / "elsewhere")
    for there in tmp_path.glob("again*"):
        there.rename(tmp_path / "live.csv.d")
    (tmp_path / "elsewhere" / "manifest.json").rename(tmp_path / "manifest.json")  # no folder says what was sent
    (tmp_path / "live.csv.d" / "manifest.json").unlink()
    assert "No folder was made of c.jsonl" in run("confirm", "c.jsonl", "after.csv").stdout
    without = json.loads(run("confirm", "c.jsonl", "after.csv", "--json").stdout)
    (tmp_path / "manifest.json").rename(tmp_path / "elsewhere" / "manifest.json")
    (tmp_path / "elsewhere").rename(tmp_path / "out")
    assert without["counts"] == {"landed": 3, "not landed": 0, "differently": 3}
    assert without["trouble"][2] == {
        "key": {"sku": "C"}, "field": "name", "before": "Hat", "meant": "", "now": "Cap", "outcome": "differently",
    }  # fmt: skip
    put("after.csv", 'sku,name,price,stock,tags\nA,Long veil,10.90,3,"b,new"\nB,Suit,21.50,7,a\nC,Hat,3.00,0,\n')
    done = run("confirm", "c.jsonl", "after.csv", "--files", "out")
    assert done.returncode == 0 and done.stdout.endswith("\nAll 5 changes landed.\n")
    put("after.csv", "sku,price\nA,1\n")
    failed = run("confirm", "c.jsonl", "after.csv")
    assert failed.returncode == 2 and 'it has no field "name"' in failed.stderr


ROUNDED = ("27.90 28", "27.90 28.00", "27.90 27", "27.94 27.9", "27.95 28.00", "-1.50 -2", "0.005 0.01")
OTHERWISE = ("27.90 26", "27.94 27.5", "27.90 27.95", "27.00 27.90", "27 28", "27.90 30", "27.90 -27.90")


def test_a_number_with_fewer_decimals_was_rounded(run, put):
    rows = [(f"QA-{number}", *one.split()) for number, one in enumerate((*ROUNDED, *OTHERWISE))]
    put("live.csv", "sku,price\n" + "".join(f"{sku},1.00\n" for sku, _, _ in rows))
    put("sheet.csv", "sku,price\n" + "".join(f"{sku},{meant}\n" for sku, meant, _ in rows))
    put("after.csv", "sku,price\n" + "".join(f"{sku},{now}\n" for sku, _, now in rows))
    put("neat-delta.toml", 'version = 1\n[fields.price]\nkind = "money"\nleast = -100\n')
    assert (
        run(
            "compare", "live.csv", "sheet.csv", "-o", "c.jsonl", "--accept", "slip", "--accept", "unreadable"
        ).returncode
        == 0
    )
    found = json.loads(run("confirm", "c.jsonl", "after.csv", "--json").stdout)
    assert [one.get("how") for one in found["trouble"]] == ["rounded"] * len(ROUNDED) + [None] * len(OTHERWISE)


def test_new_and_removed_items_are_confirmed_and_sent_again(run, put, tmp_path):
    shop(put, '[importer.removal]\nhow = "row"')
    run("compare", "live.csv", "sheet.csv", "-o", "c.jsonl", *ASKED)
    assert run("confirm", "c.jsonl", "live.csv", "--retry", "again").returncode == 2  # nobody knows what was sent
    assert run("write", "c.jsonl", "--to", "out").returncode == 0
    (tmp_path / "live.csv").touch()  # exported once more
    done = run("confirm", "c.jsonl", "live.csv", "--retry", "again")
    assert "  C: it is still there" in done.stdout.splitlines()
    assert "  D  name: Glove & <hat> was meant, and there is no such item" in done.stdout.splitlines()
    for name in ("update-1.csv", "update-2.csv", "update-3.csv"):
        assert (tmp_path / "again" / name).read_bytes() == (tmp_path / "out" / name).read_bytes()


def test_an_item_that_is_retired_has_landed(run, put, tmp_path):
    retires = '[importer.removal]\nhow = "value"\nheading = "name"\nvalue = "retired"'
    shop(put, retires)
    run("compare", "live.csv", "sheet.csv", "-o", "c.jsonl", *ASKED)
    after = 'sku,name,price,stock,tags\nA,Veil,10.90,3,"b,new"\nB,Suit,,7,a\nC,{},3.00,0,\nD,Glove & <hat>,8.00,,\n'
    put("after.csv", after.format("retired"))
    run("write", "c.jsonl", "--to", "out")
    done = run("confirm", "c.jsonl", "after.csv")
    assert done.returncode == 0 and done.stdout.endswith("\nAll 7 changes landed.\n")
    assert run("undo", "c.jsonl", "--to", "back").returncode == 0  # and the new item is retired in its turn
    assert "sku,name,price\nB,Suit,20.00\nC,Hat,3.00\nD,retired,8.00\n" in [
        path.read_text() for path in (tmp_path / "back").glob("update-*")
    ]
    shutil.rmtree(tmp_path / "back")  # and was not imported
    put("after.csv", after.format("Hat"))
    assert run("confirm", "c.jsonl", "after.csv").returncode == 1
    # An importer that cannot remove it held it back, so that nobody looks for it.
    shop(put, "")
    run("write", "c.jsonl", "--to", "out", "--replace")
    done = run("confirm", "c.jsonl", "after.csv", "--files", "out")
    assert done.returncode == 0 and done.stdout.endswith("\nAll 6 changes landed.\n")


def test_undoing_later_takes_back_only_what_still_stands(run, put, tmp_path):
    shop(put, '[importer.removal]\nhow = "row"')
    run("compare", "live.csv", "sheet.csv", "-o", "c.jsonl", *ASKED)
    assert run("write", "c.jsonl", "--to", "out").returncode == 0
    assert run("undo", "c.jsonl", "--to", "back").returncode == 0
    ours = sorted(path.read_text() for path in (tmp_path / "back").glob("update-*"))
    assert ours == sorted(path.read_text() for path in (tmp_path / "out").glob("undo-*"))
    # Since then A's price was changed by hand, and the glove, too; B's price came back by itself.
    put("now.csv", 'sku,name,price,stock,tags\nA,Veil,12.00,3,"b, new"\nB,Suit,20.00,7,a\nD,Mitten,8.00,,\n')
    done = run("undo", "c.jsonl", "--to", "later", "--now", "now.csv")
    assert done.returncode == 1 and not done.stderr
    for line in (
        "left alone, as somebody changed it since",
        "  A  price: 10.90 was meant, and it is 12.00",
        "  D  name: Glove & <hat> was meant, and it is Mitten",
        "proven by replay on live",
    ):
        assert line in done.stdout.splitlines()
    written = [path.read_text() for path in sorted((tmp_path / "later").glob("update-*"))]
    assert written == ["sku,name,price,stock\nC,Hat,3.00,0\n", 'sku,stock,tags\nA,5,"a,b"\n']


FIXED = """version = 1
[importer]
blanks = "skip"
headings = ["price", "sku", "stock", "rule", "reason", "delete", "new code", "name"]
adjusted = ["stock"]
[importer.with_adjusted]
reason = "count"
[importer.columns]
rule = { text = "a" }
[importer.removal]
how = "flag"
heading = "delete"
value = "1"
[importer.code_change]
how = "row"
[fields.stock]
kind = "integer"
"""


def test_fixed_headings_are_these_in_this_order_and_no_others(run, put, tmp_path):
    """In every file: changes, new codes, new items, removals; and in those that take them back."""
    put("neat-delta.toml", FIXED)
    put("live.csv", "sku,name,price,stock\nQA-1,Veil,9.90,3\nQA-2,Hood,5.00,4\nQA-5,Cap,5.00,4\n")
    put("sheet.csv", "sku,name,price,stock,new sku\nQA-1,Veils,9.95,5,\nQA-4,Hood,5.00,4,\nQA-5,Cap,5.00,5,QA-6\n")
    run("compare", "live.csv", "sheet.csv", "-o", "c.jsonl", "--whole", "--with-gone", "--with-new")
    done = run("write", "c.jsonl", "--to", "out", "--rehearse")
    assert (done.returncode, done.stderr) == (0, "")
    files = sorted((tmp_path / "out").glob("*.csv"))
    assert {file.read_text().splitlines()[0] for file in files} == {"price,sku,stock,rule,reason,delete,new code,name"}
    assert len(files) == 10


def test_the_most_files_are_said_to_give_way_where_they_do(run, put):
    """Stock moves by itself, so that it is in no row but its own: two fields of two items take two files."""
    put("neat-delta.toml", 'version = 1\n[fields.stock]\nkind = "integer"\nmoving = true\n')
    put("live.csv", "sku,name,stock\nQA-1,Veil,3\nQA-2,Hood,4\n")
    put("sheet.csv", "sku,name,stock\nQA-1,Veils,3\nQA-2,Hood,5\n")
    run("compare", "live.csv", "sheet.csv", "-o", "c.jsonl")
    said = " ".join(run("write", "c.jsonl", "--to", "out", "--most-files", "1").stdout.split())
    assert "More files than --most-files 1: a blank cell would empty its field, and a field is never carried" in said
    assert "More files than" not in run("write", "c.jsonl", "--to", "other", "--most-files", "2").stdout


@pytest.mark.parametrize(
    ("blanks", "carries", "required", "carried"),
    [
        ("clear", [], 0, 4),
        ("clear", ["name"], 3, 4),
        ("clear", ["price"], 2, 2),
        ("skip", [], 0, 0),
        ("skip", ["price"], 2, 0),
    ],
)
def test_what_a_whole_catalogue_repeats_is_counted(tmp_path, blanks, carries, required, carried):
    """Where what is missing is deleted, every row goes: with changes, what is wanted in every row, what goes along."""
    live = {"sku": ["A", "B", "C"], "name": ["Veil", "Suit", "Hat"], "price": ["1", "2", "3"], "note": ["x", "y", ""]}
    sheet = live | {"price": ["1.50", "2", "3"], "note": ["x", "y", "z"]}
    importer = neat_delta.Importer(blanks, missing="deleted", carries=carries)
    plan = neat_delta.compare(live, sheet, key="sku").plan(importer, whole_catalogue=True)
    counts = plan.write(tmp_path / "out").cells
    assert (counts.changed, counts.required, counts.carried) == (2, required, carried)


def test_a_code_that_changes_needs_what_every_row_has(tmp_path):
    """An item whose carried field is blank cannot be told of its new code by a row; the others are."""
    live = {"sku": ["A", "B"], "name": ["Veil", "Suit"], "note": ["x", ""]}
    changes = neat_delta.recode(live, {"sku": ["A", "B"], "new code": ["A1", "B1"]}, store=neat_delta.Store())
    plan = changes.plan(neat_delta.Importer("skip", code_change=neat_delta.CodeChange("row"), carries=["note"]))
    assert plan.tables["update-1"].rows(named=True) == [{"sku": "A", "note": "x", "new code": "A1"}]
    (held,) = plan.write(tmp_path / "out").held
    assert (held.key, held.field) == ({"sku": "B"}, "sku")
    assert held.reason == "the importer wants a value in every row, and it is blank: note"


@pytest.mark.parametrize(
    ("mark", "before", "after", "half"), [(",", "1,00", "1,50", "0,75"), (".", "1.00", "1.50", "0.75")]
)
def test_a_column_that_is_worked_out_is_written_as_live_writes_numbers(tmp_path, mark, before, after, half):
    store = neat_delta.Store(fields={"price": neat_delta.Field("money", decimals=2)}, writing=neat_delta.Notation(mark))
    live, sheet = ({"sku": ["A", "B"], "price": [price, before]} for price in (before, after))
    columns = {"half": neat_delta.OutputColumn(expression="price / 2")}
    plan = neat_delta.compare(live, sheet, store=store).plan(neat_delta.Importer("skip", columns=columns))
    assert plan.write(tmp_path / "out").held == []
    assert plan.tables["update-1"].rows() == [("A", after, half)]
