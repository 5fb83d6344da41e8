"""Code changes: from a list, from a column of the sheet, likely ones; to files, to the next export, and back."""

from __future__ import annotations

import csv
import json
import random
import shutil
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

import neat_delta
from neat_delta import Accept, Field, Importer, Key, Store
from neat_delta.core.base.model.importer import CodeChange, Removal
from neat_delta.core.sheets.rekey.moves import Move, blocked_moves, ordered
from neat_delta.files.updates import file_rows
from neat_delta.practice.faults import Faults, Refusal
from neat_delta.practice.folder import import_folder
from neat_delta.practice.shop import Shop
from tests.conftest import first_of
from tests.oracle import catalogue
from tests.test_signoff import answered, rows_of

LIVE = [
    ["sku", "parent", "name", "price", "related", "barcode"],
    ["A", "", "Long hive", "149.90", "B;C", "1"],
    ["B", "A", "Long hive oak", "159.90", "", "2"],
    ["C", "A", "Long hive pine", "139.90", "B", "3"],
    ["D", "", "Bee brush", "4.50", "E", "4"],
    ["E", "", "Queen cage", "2.20", "D ; A", "5"],
    *([f"F{number}", "", f"Frame {number}", "1.20", "", ""] for number in range(6)),
]

STORE = """version = 1
[key]
fields = ["sku"]
name = "name"
[importer]
blanks = "clear"
{importer}
[fields.sku]
kind = "code"
longest = 8
[fields.parent]
kind = "code"
refers = true
[fields.name]
[fields.price]
kind = "money"
[fields.related]
kind = "list"
separator = ";"
refers = true
[fields.barcode]
kind = "code"
unique = true
"""

ROW = '[importer.code_change]\nhow = "row"\nheading = "new number"'
REPLACE = '[importer.code_change]\nhow = "replace"\n[importer.removal]\nhow = "row"'


@pytest.fixture
def shop(put):
    """Live, a store file for an importer, and a file of the rest."""

    def lay_out(importer: str = ROW, **files: list[list[str]]) -> None:
        put("neat-delta.toml", STORE.format(importer=importer))
        for name, rows in {"live": LIVE, **files}.items():
            put(f"{name}.csv", "".join(",".join(row) + "\n" for row in rows))

    return lay_out


def files_in(folder: Path, name: str = "update") -> list[str]:
    return [path.read_text() for path in sorted(folder.glob(f"{name}-*"))]


def test_codes_are_passed_on_and_swapped_in_steps_that_work(run, shop, tmp_path):
    codes = [["sku", "new code"], ["A", "H-1"], ["B", "C"], ["C", "X"], ["D", "E"], ["E", "D"]]
    shop(codes=codes)
    done = run("recode", "live.csv", "codes.csv", "-o", "c.jsonl")
    assert done.returncode == 0 and not done.stderr
    for line in ("5 new codes: 5 to give, 0 held", "links that change with them: related of 4 items"):
        assert line in done.stdout.splitlines()
    assert run("write", "c.jsonl", "--to", "out").returncode == 0
    assert files_in(tmp_path / "out") == [
        "sku,parent,related\nA,,C;X\nB,H-1,\nC,H-1,C\nD,,D\nE,,E ; H-1\n",
        "sku,new number\nA,H-1\nC,X\nD,D-tmp\n",
        "sku,new number\nB,C\nE,D\n",
        "sku,new number\nD-tmp,E\n",
    ]
    assert files_in(tmp_path / "out", "undo")[-3:] == [
        "sku,new number\nE,D-tmp\n",
        "sku,new number\nC,B\nD,E\n",
        "sku,new number\nH-1,A\nX,C\nD-tmp,D\n",
    ]
    manifest = json.loads((tmp_path / "out" / "manifest.json").read_text())
    assert [file["action"] for file in manifest["update"]] == ["change"] + ["recode"] * 3
    assert manifest["cells"] == {"changed": 12, "keys": 11, "required": 0, "carried": 4}
    page = (tmp_path / "out" / "READ-ME-FIRST.txt").read_text()
    assert "3 rows, gives items their new codes" in page
    assert "If a row of update-2.csv or a later file of new codes is refused, leave the files after it." in page


def test_at_most_so_many_steps(run, shop, tmp_path):
    """Then every code but the last goes by way of a temporary one, and two steps are enough."""
    shop(codes=[["sku", "new code"], ["A", "B"], ["B", "C"], ["C", "D"], ["D", "F-123456"]])
    run("recode", "live.csv", "codes.csv", "-o", "c.jsonl")
    assert run("write", "c.jsonl", "--to", "out", "--most-files", "2").returncode == 0
    steps = [text for text in files_in(tmp_path / "out") if "new number" in text]
    assert steps == [
        "sku,new number\nA,A-tmp\nB,B-tmp\nC,C-tmp\nD,F-123456\n",
        "sku,new number\nA-tmp,B\nB-tmp,C\nC-tmp,D\n",
    ]


def test_a_temporary_code_is_none_that_another_item_has(run, shop, tmp_path):
    """Also where one of the items is in no circle."""
    shop(codes=[["sku", "new code"], ["A", "H-1"], ["D", "E"], ["E", "D"]], live=[*LIVE, ["D-tmp", *LIVE[4][1:]]])
    run("recode", "live.csv", "codes.csv", "-o", "c.jsonl")
    assert run("write", "c.jsonl", "--to", "out").returncode == 0
    steps = [text for text in files_in(tmp_path / "out") if "new number" in text]
    assert steps == [
        "sku,new number\nA,H-1\nD,D-tmp1\n",
        "sku,new number\nE,D\n",
        "sku,new number\nD-tmp1,E\n",
    ]


def test_new_codes_are_taken_back_where_live_has_nothing_but_codes(run, put, tmp_path):
    put("neat-delta.toml", 'version = 1\n[key]\nfields = ["sku"]\n' + ROW)
    put("live.csv", "sku\nA\nB\n")
    put("codes.csv", "sku,new code\nA,C\n")
    run("recode", "live.csv", "codes.csv", "-o", "c.jsonl")
    assert run("write", "c.jsonl", "--to", "out").returncode == 0
    put("now.csv", "sku\nC\nB\n")
    assert run("undo", "c.jsonl", "--now", "now.csv", "--files", "out", "--to", "back").returncode == 0
    assert files_in(tmp_path / "back") == ["sku,new number\nC,A\n"]


def test_an_importer_that_makes_items_anew(run, shop, tmp_path):
    """The items are whole under their new codes, with what else changes; and nothing is sent twice. None is made under
    a code that another one has: was that refused to go, it would get the other's values.
    """
    shop(REPLACE, codes=[["sku", "new code"], ["D", "E"], ["E", "D"], ["B", "C"], ["C", "X"]])
    run("recode", "live.csv", "codes.csv", "-o", "c.jsonl")
    done = run("write", "c.jsonl", "--to", "out", "--json")
    held = json.loads(done.stdout)["manifest"]["held"]
    assert done.returncode == 1 and {(one["key"]["sku"], one["reason"]) for one in held if one["field"] == "sku"} == {
        (sku, "code: another item has it") for sku in "BDE"
    }
    assert [text.splitlines()[1].partition(",")[0] for text in files_in(tmp_path / "out")] == ["X", "A", "C"]
    shop(REPLACE, codes=[["old code", "new code"], ["B", "B-2"]])
    run("recode", "live.csv", "codes.csv", "-o", "c.jsonl")
    assert run("write", "c.jsonl", "--to", "one").returncode == 0
    assert files_in(tmp_path / "one") == [
        "sku,parent,name,price,barcode\nB-2,A,Long hive oak,159.90,2\n",
        "sku,related\nA,B-2;C\nC,B-2\n",
        "sku\nB\n",
    ]


def test_an_item_that_is_retired_keeps_its_code(run, shop, tmp_path):
    retires = (
        '[importer.code_change]\nhow = "replace"\n[importer.removal]\nhow = "value"\nheading = "name"\nvalue = "-"'
    )
    shop(retires, codes=[["sku", "new code"], ["B", "C"], ["C", "X"]])
    run("recode", "live.csv", "codes.csv", "-o", "c.jsonl")
    done = run("write", "c.jsonl", "--to", "out", "--json")
    assert done.returncode == 1
    held = json.loads(done.stdout)["manifest"]["held"]
    assert [(one["key"]["sku"], one["field"], one["reason"]) for one in held] == [
        ("B", "sku", "code: another item has it"),
    ]
    assert "sku,name,related\nA,Long hive,C;X\nC,-,B\n" in files_in(tmp_path / "out")
    assert files_in(tmp_path / "out")[0].splitlines()[1].startswith("X,A,")


@pytest.mark.parametrize(
    "codes, why",
    [
        ([("A", "E")], {"A": "another item has it"}),
        ([("A", "X"), ("B", "X")], {"A": "two items would get it", "B": "two items would get it"}),
        ([("B", "C"), ("C", "D")], {"B": "another item has it", "C": "another item has it"}),
        ([("D", "E"), ("E", "A")], {"D": "another item has it", "E": "another item has it"}),
    ],
)
def test_codes_that_cannot_change_are_held(run, shop, codes, why):
    shop(codes=[["sku", "new code"], *map(list, codes)])
    done = run("recode", "live.csv", "codes.csv", "--json")
    assert done.returncode == 1
    done = run("recode", "live.csv", "codes.csv", "-o", "c.jsonl")
    for old, new in codes:
        assert f"  {old} → {new}: {why[old]}" in done.stdout.splitlines()
    nothing = run("write", "c.jsonl", "--to", "out")
    assert "Nothing is to be sent" in nothing.stdout


def test_case_alone_makes_no_other_code_where_the_store_says_so(run, shop, put):
    shop(codes=[["sku", "new code"], ["a", "b"], ["c", "D-1"], ["D", "d"]])
    put("neat-delta.toml", STORE.format(importer=ROW).replace('["sku"]', '["sku"]\nignore_case = true'))
    done = run("recode", "live.csv", "codes.csv")
    assert "3 new codes: 2 to give, 1 held" in done.stdout.splitlines()
    assert "  A → b: another item has it" in done.stdout.splitlines()


def test_every_row_of_a_list_is_accounted_for(run, shop):
    rows = [["Old", "Neu"], ["A", "A"], ["B", ""], ["Z", "Y"], ["", "Q"], ["C", "X"], ["D", "1"], ["D", "2"]]
    shop(codes=rows)
    done = run("recode", "live.csv", "codes.csv", "--map", "Old=sku", "--map", "Neu=new code", "--json")
    assert done.returncode == 1
    header = json.loads(done.stdout)["header"]
    counts = header["counts"]
    there = counts["same"] + counts["changed"] + counts["recoded"] + counts["absent"] + counts["set_aside_live"]
    assert there == header["live"]["rows"]
    there = counts["same"] + counts["changed"] + counts["recoded"] + counts["set_aside_sheet"] - counts["unlisted"]
    assert there == header["sheet"]["rows"] == 7
    assert {one["row"]: one["reason"] for one in header["set_aside"] if one["file"] == "sheet"} == {
        4: "no item has that code",
        5: "no key",
        7: "key repeats in the sheet",
        8: "key repeats in the sheet",
    }
    for told, said in (
        ((), 'no heading stands for "sku"'),
        (("--map", "Old=sku"), "no heading stands for the new code"),
    ):
        failed = run("recode", "live.csv", "codes.csv", *told)
        assert failed.returncode == 2 and said in failed.stderr


def test_a_check_that_holds_a_code_holds_what_waits_for_it(run, shop):
    shop(codes=[["sku", "new code"], ["B", "C"], ["C", "TOO-LONG-A-CODE"]])
    run("recode", "live.csv", "codes.csv", "-o", "c.jsonl")
    shown = run("preview", "c.jsonl", "--json")
    items = {one["item"]["key"]["sku"]: one["item"] for one in json.loads(shown.stdout)["items"]}
    reasons = {key: {one["field"]: one["reason"] for one in item["held"]} for key, item in items.items()}
    assert reasons["C"]["sku"] == "check: too-long"
    assert reasons["B"] == {"sku": "code: another item has it"}
    assert reasons["A"]["related"] == "code: it points at a code that does not come"


def test_a_link_does_not_follow_a_code_that_was_answered_no(run, shop, tmp_path):
    shop(codes=[["sku", "new code"], ["A", "H-1"], ["D", "X"]])
    run("recode", "live.csv", "codes.csv", "-o", "c.jsonl")
    run("preview", "c.jsonl", "--workbook", "ask.xlsx")
    rows = rows_of(tmp_path / "ask.xlsx")
    yes = {(row[0], row[2]): "yes" for row in rows[1:]}
    answered(rows, tmp_path / "ask.xlsx", yes | {("A", "sku"): "no"})
    done = run("write", "c.jsonl", "--signed-off", "ask.xlsx", "--to", "out", "--json")
    held = {(one["key"]["sku"], one["field"]): one["reason"] for one in json.loads(done.stdout)["manifest"]["held"]}
    points = "code: it points at a code that does not come"
    assert held == {("B", "parent"): points, ("C", "parent"): points, ("E", "related"): points}
    assert files_in(tmp_path / "out") == ["sku,new number\nD,X\n"]


def test_a_column_of_new_codes_beside_the_old_ones(run, shop, tmp_path):
    sheet = [["sku", "New SKU", "price", "parent"], ["A", "H-1", "150.00", ""], ["C", "", "139.90", "A"]]
    sheet += [["B", "B", "159.90", "H-1"], ["D", "", "5.00", ""], ["N", "", "1.00", "A"], ["M", "Z", "1.00", ""]]
    shop(sheet=sheet)
    done = run("compare", "live.csv", "sheet.csv", "-o", "c.jsonl", "--with-new")
    lines = [line.split() for line in done.stdout.splitlines()]
    assert ["recoded", "1", "1"] in lines and ["changed", "4", "3"] in lines  # E, B and C by their links
    assert "  code  1 item, 1 cell  the code change" in done.stdout
    run("write", "c.jsonl", "--to", "out")
    assert files_in(tmp_path / "out") == [
        "sku,price\nA,150.00\n",
        "sku,new number\nA,H-1\n",
        "sku,parent,price\nN,H-1,1.00\n",
        "sku,parent,price,related\nB,H-1,159.90,\nC,H-1,139.90,B\nD,,5.00,E\nE,,2.20,D ; H-1\n",
    ]


def test_a_sheet_with_its_items_under_new_codes(run, shop, tmp_path):
    """A list says so; and where none does, likely ones are named, and none is taken."""
    cages = ["E-2", "", "Queen cages", "2.40", "D ; A", "5"]
    sheet = [LIVE[0], ["H-1", *LIVE[1][1:]], ["B", "H-1", *LIVE[2][2:]], *LIVE[3:5], cages, *LIVE[6:]]
    shop(sheet=sheet)
    done = run("compare", "live.csv", "sheet.csv", "--likely-codes", "codes.csv", "-o", "c.jsonl")
    assert "  A → H-1  3 of 3 fields, the name to 100 %" in done.stdout.splitlines()  # E: only 2 of 3
    assert (tmp_path / "codes.csv").read_text() == "sku,new code\nA,H-1\n"
    assert ["new", "·", "2"] in [line.split() for line in done.stdout.splitlines()]
    assert run("compare", "live.csv", "sheet.csv", "--likely-codes", "codes.csv").returncode == 1  # it is just this one
    (tmp_path / "codes.csv").write_text("sku,new code\nA,H-1\nE,E-2\n")
    again = run("compare", "live.csv", "sheet.csv", "--likely-codes", "codes.csv")
    assert again.returncode == 2 and "may be somebody's work; name another." in again.stderr
    done = run("compare", "live.csv", "sheet.csv", "--recode", "codes.csv", "-o", "c.jsonl")
    assert done.returncode == 0
    assert ["recoded", "2", "2"] in [line.split() for line in done.stdout.splitlines()]
    assert run("write", "c.jsonl", "--to", "out").returncode == 0
    files = files_in(tmp_path / "out")
    assert files[0] == "sku,name,price,related\nE,Queen cages,2.40,D ; H-1\n"
    assert files[1] == "sku,new number\nA,H-1\nE,E-2\n"
    for text, said in (
        ("sku,new code\nQ,R\n", 'row 2: "Q" is the code of no item'),
        ("sku,name\nA,b\n", "the new code"),
    ):
        (tmp_path / "codes.csv").write_text(text)
        failed = run("compare", "live.csv", "sheet.csv", "--recode", "codes.csv")
        assert failed.returncode == 2 and said in failed.stderr
    # The old code and the new one are both there, so nobody can say which item is meant.
    (tmp_path / "codes.csv").write_text("sku,new code\nB,H-1\n")
    done = run("compare", "live.csv", "sheet.csv", "--recode", "codes.csv")
    assert "  B → H-1: the sheet has the old one and the new one" in done.stdout.splitlines()


def test_a_sheet_under_the_old_codes_finds_its_items_there():
    """A chain that the sheet does not know is where it was; a circle is always as the list says."""
    live = neat_delta.as_catalogue({"sku": ["A", "B", "D", "E"], "price": ["1.00", "2.00", "3.00", "4.00"]}, "live")
    sheet = neat_delta.as_catalogue({"sku": ["A", "B", "D", "E"], "price": ["1.50", "2.00", "3.00", "4.00"]}, "sheet")
    codes = {"sku": ["A", "D", "E"], "new code": ["H-1", "E", "D"]}
    changes = neat_delta.compare(live, sheet, codes=codes)
    assert {item.key["sku"]: (item.cells, item.held) for item in changes} == {
        "A": ({"sku": ("A", "H-1"), "price": ("1.00", "1.50")}, []),
        "D": ({"sku": ("D", "E"), "price": ("3.00", "4.00")}, []),
        "E": ({"sku": ("E", "D"), "price": ("4.00", "3.00")}, []),
    }


def test_codes_are_confirmed_sent_again_and_taken_back(run, shop, put, tmp_path):
    shop(codes=[["sku", "new code"], ["A", "H-1"], ["D", "E"], ["E", "D"]])
    run("recode", "live.csv", "codes.csv", "-o", "c.jsonl")
    run("write", "c.jsonl", "--to", "out")

    def export(codes: dict[str, str], links: dict[str, str]) -> None:
        rows = [LIVE[0]]
        for row in LIVE[1:]:
            related = [f" {links[one.strip()]} ".strip() if one.strip() in links else one for one in row[4].split(";")]
            rows.append([codes.get(row[0], row[0]), links.get(row[1], row[1]), *row[2:4], ";".join(related), row[5]])
        with (tmp_path / "after.csv").open("w", newline="") as file:
            csv.writer(file).writerows(rows)

    export({"A": "H-1", "D": "E", "E": "D"}, {"A": "H-1", "D": "E", "E": "D"})
    done = run("confirm", "c.jsonl", "after.csv")
    assert done.returncode == 0 and done.stdout.endswith("\nAll 7 changes landed.\n")
    assert run("undo", "c.jsonl", "--to", "back", "--now", "after.csv").returncode == 0
    assert files_in(tmp_path / "back")[1] == "sku,new number\nH-1,A\nE,E-tmp\n"
    shutil.rmtree(tmp_path / "back")  # which was not imported
    export({"A": "H-1"}, {})  # the swap did not come through, and no link did
    done = run("confirm", "c.jsonl", "after.csv", "--retry", "again")
    assert done.returncode == 1
    for line in ("7 changes: 1 landed, 6 not landed", "  D  sku: E was meant, and it is D"):
        assert line in done.stdout.splitlines()
    assert [text for text in files_in(tmp_path / "again") if "new number" in text] == [
        "sku,new number\nD,D-tmp\n",
        "sku,new number\nE,D\n",
        "sku,new number\nD-tmp,E\n",
    ]


def test_patches_move_an_item_or_make_it_anew(run, shop, tmp_path):
    shop('form = "json patch"', codes=[["sku", "new code"], ["D", "D/1"]])
    run("recode", "live.csv", "codes.csv", "-o", "c.jsonl")
    run("write", "c.jsonl", "--to", "out")
    assert json.loads(files_in(tmp_path / "out")[0]) == [{"op": "move", "from": "/D", "path": "/D~11"}]
    shop('form = "merge patch"')
    run("write", "c.jsonl", "--to", "merged")
    made, _, gone = map(json.loads, files_in(tmp_path / "merged"))
    assert made == {"D/1": {"name": "Bee brush", "price": "4.50", "related": "E", "barcode": "4"}}
    assert gone == {"D": None}


def test_links_follow_a_code_that_nobody_keeps(run, put, tmp_path):
    """Where the key has a language, too, a code is another one only when all its items have changed."""
    put("live.csv", "sku,lang,name,parent\nA,en,Hive,\nA,de,Beute,\nB,en,Veil,A\n")
    put("neat-delta.toml", STORE.format(importer=ROW).replace('["sku"]', '["sku", "lang"]') + "[fields.lang]\n")
    put("codes.csv", "sku,lang,new code\nA,en,X\n")
    run("recode", "live.csv", "codes.csv", "-o", "c.jsonl")
    run("write", "c.jsonl", "--to", "one")
    assert files_in(tmp_path / "one") == ["sku,lang,new number\nA,en,X\n"]
    put("codes.csv", "sku,lang,new code\nA,en,X\nA,de,X\n")
    run("recode", "live.csv", "codes.csv", "-o", "c.jsonl")
    run("write", "c.jsonl", "--to", "both")
    assert files_in(tmp_path / "both") == ["sku,lang,new number\nA,en,X\nA,de,X\n", "sku,lang,parent\nB,en,X\n"]


def test_items_that_share_a_key_change_their_code_together(run, put, tmp_path):
    put("live.csv", "sku,name,parent\nA,Hive,\nA,Hive,\nB,Veil,A\n")
    put("neat-delta.toml", STORE.format(importer=ROW).replace('name = "name"', 'shared = "all"'))
    put("codes.csv", "sku,new code\nA,B\nB,A\n")
    run("recode", "live.csv", "codes.csv", "-o", "c.jsonl")
    assert run("write", "c.jsonl", "--to", "out").returncode == 0
    assert "".join(files_in(tmp_path / "out")).split() == [
        "sku,parent", "B,B", "sku,new", "number", "A,A-tmp", "sku,new", "number", "B,A", "sku,new", "number", "A-tmp,B",
    ]  # fmt: skip


@pytest.mark.parametrize(
    "importer, said",
    [
        ('[importer.code_change]\nhow = "row"\nheading = "name"', '"name" is a field; this one is none'),
        ('[importer.code_change]\nfield = "name"', '"name" is no field of the key'),
        ('[importer.code_change]\nhow = "replace"', "to replace an item, the importer must remove one"),
    ],
)
def test_importers_that_cannot_be(run, shop, importer, said):
    shop(importer, codes=[["sku", "new code"], ["A", "X"]])
    failed = run("recode", "live.csv", "codes.csv")
    assert failed.returncode == 2 and said in failed.stderr


NUMBERS = st.lists(st.integers(0, 11), unique=True, max_size=12)


@given(NUMBERS, st.permutations(range(14)), st.integers(1, 6))
def test_the_steps_do_what_the_moves_say(olds, news, most):
    """Row by row as well as at once: in no step does a row need a code that another one of it leaves or takes."""
    wanted = [Move(old, (str(old),), (str(new),)) for old, new in zip(olds, news, strict=False) if old != new]
    standing = {(str(number),) for number in range(12)}
    why = blocked_moves(wanted, standing)
    going = [move for move in wanted if move.item not in why]
    steps = ordered(going, most, standing.__contains__, None)
    where = {number: str(number) for number in range(12)}
    for step in steps:
        there = set(where.values())
        assert {move.old[0] for move in step} <= there and not {move.new[0] for move in step} & there
        for move in step:
            assert where[move.item] == move.old[0]
            where[move.item] = move.new[0]
    assert {number: code for number, code in where.items() if code != str(number)} == {
        move.item: move.new[0] for move in going
    }
    assert len(steps) <= max(most, 2)
    entangled = {move.old for move in going} & {move.new for move in going}
    assert sum(map(len, steps)) == len(going) or entangled
    # What is held could really not be: its code is taken by an item that keeps it.
    kept = {code for number, code in where.items() if code == str(number)}
    assert all(
        move.new[0] in kept or why[move.item] == "code: two items would get it" for move in wanted if move.item in why
    )


def rounds_with_codes(rng: random.Random) -> tuple[list[list[str]], list[list[str]]]:
    """A catalogue whose items have a mark of their own, and a sheet of it with edits and new codes: fresh ones, some
    that are passed on, circles of two and three.
    """
    heads = ["sku", "mark", "name", "price"]
    live = [[f"C{n}", f"m{n}", f"name {n}", f"{n}.00"] for n in range(7)]
    codes = [row[0] for row in live]
    wanted = dict.fromkeys(codes, "")
    some = rng.sample(codes, rng.randint(1, 6))
    circle = some[: rng.choice([0, 2, 3])]
    wanted |= {one: circle[at - 1] for at, one in enumerate(circle)} if len(circle) > 1 else {}
    chain = some[len(circle) :]
    wanted |= dict(zip(chain, [*chain[1:], "NEW"], strict=True)) if chain else {}
    sheet = [["sku", "new code", *heads[1:]]]
    for row in live:
        name, price = (f"{row[2]} long" if rng.random() < 0.5 else row[2]), ("9.50" if rng.random() < 0.5 else row[3])
        sheet.append([row[0], wanted[row[0]], row[1], name, price])
    return [heads, *live], sheet


@pytest.mark.parametrize("how", ["row", "replace"])
@pytest.mark.parametrize("seed", first_of(range(60), few=3))
def test_whatever_row_is_refused_nothing_lands_on_another_item(seed, how, tmp_path):
    """Each key of each file is refused once, and the import stops after each number of rows."""
    rng = random.Random(seed)
    live, sheet = (catalogue((rows[0], rows[1:])) for rows in rounds_with_codes(rng))
    importer = Importer(rng.choice(["skip", "clear"]), removal=Removal("row"), code_change=CodeChange(how))
    store = Store(key=Key(["sku"]), fields={"sku": Field("code"), "price": Field("money")}, importer=importer)
    accepted = [Accept("large-round"), Accept("slip"), Accept("unreadable")]
    changes = neat_delta.compare(live, sheet, store=store, accept=accepted)
    manifest = neat_delta.write(changes, live, importer, str(tmp_path / "out"), most_files=rng.choice([8, 2]))
    meant = {row[2]: row for row in sheet.cells.rows()}
    keys = [row.key[0] for row in file_rows(str(tmp_path / "out"), changes, live, manifest)]
    faults = [Faults(refuse=[Refusal(key, None)]) for key in dict.fromkeys(keys)]
    for fault in [*faults, *(Faults(fail_after=rows) for rows in range(1, len(keys) + 1))]:
        shop = Shop(live, store).with_faults(fault)
        import_folder(shop, str(tmp_path / "out"))
        for sku, mark, name, price in shop.table().rows():
            old = live.cells.row(int(mark[1:]))
            assert name in {old[2], meant[mark][3]} and price in {old[3], meant[mark][4]}, (fault, mark, sku)
            assert sku in {old[0], meant[mark][1]} or sku.endswith("-tmp"), (fault, mark, sku)
        marks = [row[1] for row in shop.table().rows()]
        assert how == "replace" or sorted(marks) == sorted(meant)  # made anew, one may be there twice, or not any more
