"""What was refused is mended and sent again; what the store makes of values by itself is known; a no stays a no."""

from __future__ import annotations

import csv
import json
from itertools import product

import pytest

import neat_delta
from neat_delta import Field
from neat_delta.core.base.kinds.stored import Habit, as_stored, habits_of
from neat_delta.core.base.model.layout import Notation
from tests.conftest import campaign, each_of
from tests.test_answers import answers, asked, updates
from tests.test_results import STORE, round_

__all__ = ["asked", "round_"]

REPORT = """sku,status,message
QA-1,ok,
QA-2,error,price must be above cost
QA-3,ok,
QA-4,error,price must be above cost
NEW-1,error,the item has no tax class
"""


def rows_of(path) -> list[dict[str, str]]:
    return list(csv.DictReader(path.open(encoding="utf-8-sig")))


def typed(path, sku: str, **cells: str) -> None:
    """What a person types into a row of a sheet."""
    lines = path.read_bytes().decode("utf-8-sig").splitlines()
    headings = lines[0].split(",")
    for place, line in enumerate(lines):
        if line.startswith(f"{sku},"):
            row = dict(zip(headings, line.split(","), strict=True)) | cells
            lines[place] = ",".join(row.values())
    path.write_bytes(("\ufeff" + "\r\n".join(lines) + "\r\n").encode())


@pytest.mark.parametrize(
    "with_after, form",
    [(True, "csv"), (False, "xlsx"), *(pytest.param(*one, marks=campaign) for one in [(True, "xlsx"), (False, "csv")])],
)
def test_what_was_refused_is_mended_and_sent(with_after, form, round_, run, put):
    """With an export made since, or against what the report says is done."""
    put("r.csv", REPORT)
    after = neat_delta.read(str(round_ / "live.csv")).cells.rows(named=True)
    texts = [row | {"QA-1": {"price": "10.50"}, "QA-3": {"price": "3.50"}}.get(row["sku"], {}) for row in after]
    put("after.csv", "\n".join([",".join(texts[0]), *(",".join(row.values()) for row in texts)]) + "\n")
    exports = ["after.csv"] if with_after else []
    done = run("confirm", "c.jsonl", *exports, "--files", "out", "--results", "r.csv", "--mend", f"m.{form}",
               "--retry", "again")  # fmt: skip
    assert done.returncode == 1, done.stderr
    assert f"Wrote 3 items to m.{form}, to be mended." in done.stdout
    assert {sku for sku, _ in updates(round_ / "again")} == {"QA-2", "QA-4", "NEW-1"}
    against = "after.csv" if with_after else "live.csv"
    assert f"neat-delta compare {against} m.{form} -o mended.jsonl" in done.stdout
    if form == "csv":
        rows = {row["sku"]: row for row in rows_of(round_ / "m.csv")}
        assert rows["QA-2"] == {
            "sku": "QA-2", "what the store said": "price must be above cost", "name": "Smoker", "price": "21.00",
            "cost": "9.00", "note": "y",
        }  # fmt: skip
        typed(round_ / "m.csv", "QA-2", price="22.00")
    same = run("compare", against, f"m.{form}", "--with-new", "-o", "m.jsonl")
    assert same.returncode == 0, same.stdout
    changes = neat_delta.read_changes(str(round_ / "m.jsonl"))
    cells = {item.key["sku"]: {name: after for name, (_, after) in item.cells.items()} for item in changes.iter_items()}
    price = "22.00" if form == "csv" else "21.00"
    assert cells == {
        "QA-2": {"price": price, "note": "y"},
        "QA-4": {"price": "4.95", "note": "z"},
        "NEW-1": {"price": "7.00", "note": "n"},
    }
    # The store moved on: the sheet remembers what it was made with.
    put("later.csv", (round_ / "after.csv").read_text().replace("QA-2,Smoker,20.00", "QA-2,Smoker,19.00"))
    clash = json.loads(run("compare", "later.csv", f"m.{form}", "--with-new", "--json").stdout)
    assert clash["header"]["remembered"] and clash["header"]["counts"]["clashes"] == 1


def test_codes_and_removals_are_mended_as_far_as_they_can(run, put, tmp_path):
    put("live.csv", "sku,name\nA,Veil\nB,Hat\nC,Jar\n")
    put("sheet.csv", "sku,new code,name\nA,A2,Veil long\nC,,Jar\n")
    put("neat-delta.toml", STORE + '[importer.code_change]\nhow = "row"\n')
    run("compare", "live.csv", "sheet.csv", "--whole", "--with-gone", "--accept", "large-round", "-o", "c.jsonl")
    run("write", "c.jsonl", "--to", "out")
    put("r.csv", "sku,status\nA,error\nB,error\n")
    done = run("confirm", "c.jsonl", "--files", "out", "--results", "r.csv", "--mend", "m.csv", "--retry", "again")
    assert "Wrote 1 item to m.csv, to be mended. Not in it: 1 removal." in done.stdout
    assert [(row["sku"], row["new code"], row["name"]) for row in rows_of(tmp_path / "m.csv")] == [
        ("A", "A2", "Veil long")
    ]
    run("compare", "live.csv", "m.csv", "-o", "m.jsonl", "--accept", "large-round")
    (item,) = neat_delta.read_changes(str(tmp_path / "m.jsonl")).iter_items()
    assert item.verdict == "recoded" and item.cells["sku"] == ("A", "A2")
    actions = [one["action"] for one in json.loads((tmp_path / "again" / "manifest.json").read_text())["update"]]
    assert actions == ["change", "recode", "remove"]


def test_where_only_removals_are_left_there_is_no_sheet_to_mend(run, put, tmp_path):
    put("neat-delta.toml", 'version = 1\n[key]\nfields = ["sku"]\n[importer.removal]\nhow = "row"\n')
    put("live.csv", "sku,price\nA,1.00\nB,2.00\nC,3.00\n")
    put("sheet.csv", "sku,price\nA,1.50\n")
    run("compare", "live.csv", "sheet.csv", "--whole", "--with-gone", "--accept", "large-round", "-o", "c.jsonl")
    assert run("write", "c.jsonl", "--to", "out").returncode == 0
    put("after.csv", "sku,price\nA,1.50\nB,2.00\nC,3.00\n")  # nothing was removed
    mended = run("confirm", "c.jsonl", "after.csv", "--files", "out", "--mend", "m.csv")
    assert (mended.returncode, mended.stderr) == (1, "")
    assert "2 removals left, which no sheet can say: --retry FOLDER sends them again." in mended.stdout
    assert not (tmp_path / "m.csv").exists()
    again = run("confirm", "c.jsonl", "after.csv", "--files", "out", "--mend", "m.csv", "--retry", "again", "--json")
    facts = json.loads(again.stdout)
    assert "mend" not in facts and [one["action"] for one in facts["retry"]["update"]] == ["remove"]
    live = neat_delta.read(str(tmp_path / "live.csv"))
    changes = neat_delta.read_changes(str(tmp_path / "c.jsonl"))
    missing, export = neat_delta.retry(changes, live, neat_delta.confirm_changes(changes, live, live))
    gone = missing.choose(missing.items.with_row_index("at").filter(verdict="gone")["at"])
    with pytest.raises(neat_delta.CatalogueError, match="only removals are left, which no sheet can say"):
        neat_delta.mend(gone, export, {}, "delimited")


def test_the_message_stands_beside_an_item_whose_code_landed(run, put, tmp_path):
    put("live.csv", "sku,name\nA,Veil\nC,Jar\n")
    put("sheet.csv", "sku,new code,name\nA,A2,Veil long\nC,,Jar\n")
    put("neat-delta.toml", STORE + '[importer.code_change]\nhow = "row"\n')
    run("compare", "live.csv", "sheet.csv", "--accept", "large-round", "-o", "c.jsonl")
    run("write", "c.jsonl", "--to", "out")
    put("r.csv", "sku,status,message\nA2,error,name too long\n")
    put("after.csv", "sku,name\nA2,Veil\nC,Jar\n")
    run("confirm", "c.jsonl", "after.csv", "--results", "r.csv", "--mend", "m.csv")
    assert rows_of(tmp_path / "m.csv") == [{"sku": "A2", "what the store said": "name too long", "name": "Veil long"}]


def test_a_field_called_like_the_messages_keeps_its_name(run, put, tmp_path):
    put("live.csv", "sku,what the store said\nA,x\nB,y\n")
    put("sheet.csv", "sku,what the store said\nA,z\nB,y\n")
    run("compare", "live.csv", "sheet.csv", "-o", "c.jsonl")
    run("write", "c.jsonl", "--to", "out")
    put("r.csv", "sku,status,message\nA,error,no\n")
    assert run("confirm", "c.jsonl", "--results", "r.csv", "--mend", "m.csv").returncode == 1
    assert rows_of(tmp_path / "m.csv") == [{"sku": "A", "what the store said now": "no", "what the store said": "z"}]


def test_nothing_is_written_over(round_, run, put):
    put("r.csv", REPORT)
    put("m.csv", "somebody's")
    call = ("confirm", "c.jsonl", "--results", "r.csv", "--mend", "m.csv")
    assert run(*call).returncode == 2 and (round_ / "m.csv").read_text() == "somebody's"
    assert run(*call, "--replace").returncode == 1
    assert "Name AFTER" in run("confirm", "c.jsonl").stderr
    assert "a working sheet is" in run("confirm", "c.jsonl", "--results", "r.csv", "--mend", "m.pdf").stderr


@pytest.mark.parametrize(
    "call", ["sheet live.csv -o s.csv", "preview c.jsonl --json", "write c.jsonl --to some --json"]
)
def test_only_the_codes_that_a_column_names(call, round_, run, put):
    put("r.csv", REPORT.replace("QA-2,error", "QA-4,error"))
    done = run(*call.split(), "--skus", "r.csv#sku")
    assert done.returncode in {0, 1}, done.stderr
    skus = {"QA-1", "QA-3", "QA-4", "NEW-1"}
    if call.startswith("sheet"):
        assert {row["sku"] for row in rows_of(round_ / "s.csv")} == skus - {"NEW-1"}
    elif call.startswith("preview"):
        assert {one["item"]["key"]["sku"] for one in json.loads(done.stdout)["items"]} == skus
    else:
        facts = json.loads(done.stdout)["manifest"]
        assert {one["key"]["sku"]: one["reason"] for one in facts["not_sent"]} == {
            "QA-2": "not named: only some codes are to be sent"
        }
        assert {sku for sku, _ in updates(round_ / "some")} == skus
        assert run("confirm", "c.jsonl", "live.csv", "--files", "some", "--json").stdout.count('"QA-2"') == 0
    assert 'no heading "code"' in run(*call.replace("s.csv", "t.csv").split(), "--skus", "r.csv#code").stderr


STORED = {
    "name": ("stored_length = 5", "Smoke"),
    "price": ("stored_decimals = 0", "21"),
    "note": ('stored_case = "upper"', "Y"),
}


@pytest.mark.parametrize("field", STORED)
def test_what_the_store_alters_by_itself_is_not_sent_again_and_then_known(field, run, put, tmp_path):
    skus = [f"QA-{n}" for n in range(1, 6)]
    texts = {"name": "Smoker, large", "price": "20.90", "note": "y"}
    wanted = texts[field]
    put(
        "live.csv",
        f"sku,{field}\n" + "".join(f'{sku},"old"\n' if field != "price" else f"{sku},1.00\n" for sku in skus),
    )
    put("sheet.csv", f"sku,{field}\n" + "".join(f'{sku},"{wanted}"\n' for sku in skus))
    put("neat-delta.toml", STORE)
    line, comes_back = STORED[field]
    run("compare", "live.csv", "sheet.csv", "--accept", "large-round", "-o", "c.jsonl")
    run("write", "c.jsonl", "--to", "out")
    put("after.csv", f"sku,{field}\n" + "".join(f'{sku},"{comes_back}"\n' for sku in skus))
    done = run("confirm", "c.jsonl", "after.csv", "--retry", "again")
    assert done.returncode == 1 and "Nothing is to be sent again." in done.stdout
    assert f"[fields.{field}] {line}" in done.stdout and not (tmp_path / "again").exists()
    run("confirm", "c.jsonl", "after.csv", "--retry", "again", "--retry-altered")
    assert len(updates(tmp_path / "again")) == 5
    # ResultStatus in the store file, it counts as landed, is taken back, and warned of beforehand.
    known = STORE.replace(
        '[fields.price]\nkind = "money"\n', f'[fields.price]\nkind = "money"\n{line if field == "price" else ""}\n'
    )
    put("neat-delta.toml", known if field == "price" else STORE + f"[fields.{field}]\n{line}\n")
    known = run("confirm", "c.jsonl", "after.csv", "--files", "out").stdout
    assert "The store file is another one now" in known and known.endswith("\n\nAll 5 changes landed.\n")
    assert run("undo", "c.jsonl", "--now", "after.csv", "--files", "out", "--to", "back").returncode == 0
    assert len(updates(tmp_path / "back")) == 5
    warned = json.loads(run("compare", "live.csv", "sheet.csv", "--accept", "large-round", "--json").stdout)
    (finding,) = [one for one in warned["header"]["findings"] if one["name"] == "stored-otherwise"]
    assert finding["cells"] == 5 and finding["done"] == "noted"


@pytest.mark.parametrize(
    "kind, meant, now, habit",
    [
        ("decimal", ["1.255", "2.345", "3.99"], ["1.26", "2.35", "3.99"], None),  # two of two are not enough
        ("decimal", ["1.255", "2.345", "3.991"], ["1.26", "2.34", "3.99"], ("stored_decimals", 2)),  # a tie, either way
        ("decimal", ["1.255", "2.345", "3.991"], ["1.25", "2.34", "3.98"], None),  # that is no rounding
        ("text", ["12.50", "8.00", "3.10", "4"], ["12.5", "8", "3.1", "4"], ("stored_zeros", "cut")),
        ("text", ["Veil", "Hat", "Jar"], ["veil", "hat", "jar"], ("stored_case", "lower")),
        ("text", ["abcdef", "abcxyz", "abcd", "ab"], ["abc", "abc", "abc", "ab"], ("stored_length", 3)),
        ("text", ["abcdef", "abcxyz", "abcd", "abcde"], ["abc", "abc", "abc", "other"], None),  # 3 of 4
        ("text", ["abcdef"] * 9 + ["abcde"], ["abc"] * 9 + ["other"], ("stored_length", 3)),
        ("text", ["a", "b", "c"], ["x", "y", "z"], None),
    ],
)
def test_habits(kind, meant, now, habit):
    found = [(one.setting, one.value) for one in habits_of("f", meant, now, Field(kind), Notation())]
    assert found == ([habit] if habit else [])


def test_a_habit_is_said_plainly():
    assert str(Habit("weight", "stored_decimals", 2, 3, 3)) == "rounds weight to 2 decimals"
    assert as_stored("12,50", Field(stored_zeros="cut"), ",") == "12,5"


@pytest.mark.parametrize("witness, how", each_of(2, product(["export", "report", "both"], ["retry", "mend", "undo"])))
def test_a_no_a_clash_and_a_chosen_value_hold_through_all(witness, how, asked, run, put):
    """A clash that was let through at one value, one that is not answered, and a no: none of it is asked for, sent
    again, mended or taken back; the chosen value is.
    """
    name = answers(asked, "a.json", ("A", "yes", {"stock": "both"}), ("B", None, {}), ("C", "no", {}))
    put("neat-delta.toml", "version = 1\n")
    run("write", "c.jsonl", "--to", "out", "--signed-off", name)
    assert updates(asked / "out") == {("A", "price"): "10.50", ("A", "stock"): "13"}
    put("r.csv", "sku,status\nA,error\n")
    (asked / "tuesday.csv").touch()  # exported once more
    seen = {"export": ["tuesday.csv"], "report": [], "both": ["tuesday.csv"]}[witness]
    said = [] if witness == "export" else ["--results", "r.csv"]
    if how == "undo":
        landed = (asked / "tuesday.csv").read_text().replace("9.90,8", "10.50,13")
        put("after.csv", landed)
        assert run("undo", "c.jsonl", "--files", "out", "--now", "after.csv", "--to", "back").returncode == 0
        assert updates(asked / "back") == {("A", "price"): "9.90", ("A", "stock"): "8"}
        return
    extra = ["--retry", "again"] if how == "retry" else ["--mend", "m.csv"]
    done = run("confirm", "c.jsonl", *seen, "--files", "out", *said, *extra)
    assert done.returncode == 1, done.stderr
    if how == "retry":
        assert updates(asked / "again") == updates(asked / "out")
    else:
        (row,) = rows_of(asked / "m.csv")
        assert (row["sku"], row["price"], row["stock"]) == ("A", "10.50", "13")
    assert "C" not in [line.split()[0] for line in done.stdout.splitlines() if line.startswith("  ")]


def test_a_stale_sheet_sends_nothing_and_nothing_is_asked_for(run, put, tmp_path):
    put("live.csv", "sku,price\nA,1.00\nB,2.00\n")
    run("sheet", "live.csv", "-o", "s.csv", "--no-memory")
    put("moved.csv", "sku,price\nA,1.50\nB,2.00\n")
    run("sheet", "live.csv", "-o", "s.xlsx", "--no-memory")
    assert run("compare", "moved.csv", "s.xlsx", "-o", "c.jsonl").returncode == 1
    run("write", "c.jsonl", "--to", "out")
    put("r.csv", "sku,status\nA,ok\n")
    done = run("confirm", "c.jsonl", "moved.csv", "--files", "out", "--results", "r.csv")
    assert done.returncode == 2 and "only 0 name an item" in done.stderr
