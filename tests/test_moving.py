"""The store moves on while a sheet is edited: what the commands do with a base, and with a sheet that remembers."""

from __future__ import annotations

import json
import re
from collections.abc import Callable
from pathlib import Path
from zipfile import ZipFile

import pytest

from tests.conftest import campaign, each_of, in_pairs
from tests.made import delimited, ods, xlsx
from tests.test_office import needs_office, opened_and_saved

MONDAY = "sku,name,price,stock,tags\nA,Veil,9.90,10,wax\nB,Suit,20.00,5,gift\nC,Hat,3.00,7,\nD,Glove,4.00,1,wax\n"
TUESDAY = MONDAY.replace("A,Veil,9.90,10", "A,Veil,9.90,8").replace("B,Suit,20.00", "B,Suit,21.00")
SHEET = MONDAY.replace("A,Veil,9.90,10", "A,Veil,10.50,15").replace("B,Suit,20.00", "B,Suit,19.00")


@pytest.fixture
def shop(put):
    put("monday.csv", MONDAY)
    put("tuesday.csv", TUESDAY)
    put("sheet.csv", SHEET)


def compared(run, *args: str) -> dict:
    done = run("compare", "tuesday.csv", *args, "--accept", "large-round", "-o", "c.jsonl", "--json")
    assert done.returncode in {0, 1}, done.stderr
    facts: dict = json.loads(done.stdout)
    return facts


def items(folder: Path) -> dict[str, dict]:
    """The items of the change set, by their code."""
    lines = [json.loads(line) for line in (folder / "c.jsonl").read_text().splitlines()[1:]]
    return {next(iter(line["key"].values())): line for line in lines if "verdict" in line}


def test_only_what_the_sheet_changed_is_sent(run, shop, tmp_path):
    found = compared(run, "sheet.csv", "--base", "monday.csv")
    assert [found[name] for name in ("to_send", "held", "waiting")] == [1, 2, 2]
    header = found["header"]
    assert (header["base"]["path"], header["meanwhile"], header["counts"]["clashes"]) == ("monday.csv", {}, 2)
    one = items(tmp_path)
    assert one["A"]["cells"] == {"price": ["9.90", "10.50"], "stock": ["8", "15"]} and one["A"]["base"] == {
        "stock": "10"
    }
    assert one["A"]["held"] == [{"field": "stock", "reason": "clash: changed in the store, too"}]
    assert run("write", "c.jsonl", "--to", "out").returncode == 1
    assert (tmp_path / "out" / "update-1.csv").read_text() == "sku,price\nA,10.50\n"
    said = run("compare", "tuesday.csv", "sheet.csv", "--base", "monday.csv").stdout
    assert "  A     stock  10     15     8      13\n" in said and "  B     price  20.00  19.00  21.00  20.00\n" in said
    assert said.index("changed in the sheet and in the store") < said.index("held, with the way to have it otherwise")


@pytest.mark.parametrize(
    "asked, stock, price",
    [
        (("sheet",), "15", "19.00"),
        (("live",), None, None),
        (("stock=add",), "13", None),
        (("sheet", "price=live"), "15", None),
        (("live", "stock=add", "price=sheet"), "13", "19.00"),
    ],
)
def test_whoever_is_asked_decides_clashes(run, shop, tmp_path, asked, stock, price):
    said = [part for one in asked for part in ("--clash", one)]
    compared(run, "sheet.csv", "--base", "monday.csv", *said)
    sent = {
        (key, name): after
        for key, item in items(tmp_path).items()
        for name, (_, after) in item["cells"].items()
        if not any(one["field"] == name for one in item["held"])
    }
    wanted = {("A", "price"): "10.50", ("A", "stock"): stock, ("B", "price"): price}
    assert sent == {where: text for where, text in wanted.items() if text is not None}


def test_a_choice_that_cannot_be_is_refused(run, shop):
    for said, why in (
        ("mine", "is not hold, sheet or live"),
        ("add", "is not hold, sheet or live"),
        ("colour=sheet", 'it has no field "colour"'),
        ("name=add", '"name" is no number, so no difference can be added'),
    ):
        failed = run("compare", "tuesday.csv", "sheet.csv", "--base", "monday.csv", "--clash", said)
        assert failed.returncode == 2 and why in failed.stderr, said


def test_write_says_what_to_do_when_live_has_moved_on(run, shop, put):
    run("compare", "monday.csv", "sheet.csv", "-o", "c.jsonl")
    put("monday.csv", TUESDAY)
    failed = run("write", "c.jsonl", "--to", "out")
    assert failed.returncode == 2 and "the export that the sheet was cut from with --base" in failed.stderr


def test_a_working_sheet_remembers_and_compares_by_itself(run, shop, tmp_path, put):
    cut = run("sheet", "monday.csv", "-o", "wax.csv", "--where", "tags = 'wax'", "--fields", "price,stock")
    assert cut.returncode == 0 and "in wax.csv.base: keep it beside the" in cut.stdout
    wax = tmp_path / "wax.csv"
    wax.write_text(wax.read_text("utf-8-sig").replace("9.90,10", "10.50,15").replace("D,Glove,4.00,1\n", ""))
    found = compared(run, "wax.csv")
    assert found["header"]["remembered"] and found["header"]["base"]["path"] == "monday.csv"
    assert found["header"]["lost"] == [{"sku": "D"}] and found["header"]["counts"]["absent"] == 3
    assert items(tmp_path)["A"]["held"] == [{"field": "stock", "reason": "clash: changed in the store, too"}]
    said = run("compare", "tuesday.csv", "wax.csv").stdout
    assert "what the sheet was cut with, as it remembers: 2 rows" in said
    assert "1 row that it was cut with did not come back: D" in said
    assert compared(run, "wax.csv", "--base", "wax.csv.base")["header"]["counts"]["clashes"] == 1
    again = compared(run, "wax.csv", "--base", "monday.csv")["header"]["counts"]
    assert again["clashes"] == 1
    # Live as it was when the sheet was cut: nothing has moved.
    plain = json.loads(run("compare", "monday.csv", "wax.csv", "--accept", "large-round", "--json").stdout)["header"]
    assert plain["base"] is None and plain["counts"]["lost"] == 1
    (tmp_path / "wax.csv.base").write_text('{"format":"neat-delta base","version":1}')
    failed = run("compare", "tuesday.csv", "wax.csv")
    assert failed.returncode == 2 and "with --base" in failed.stderr


@pytest.mark.parametrize("name", ["ours.csv", "2026/ours.csv"])
def test_a_sheet_that_was_saved_under_another_name_is_told_of_what_may_be_its_base(run, shop, tmp_path, name):
    (tmp_path / "2026").mkdir()
    where = str(Path(name).with_name("wax.csv"))
    run("sheet", "monday.csv", "-o", where, "--where", "tags = 'wax'", "--fields", "price,stock")
    (tmp_path / where).rename(tmp_path / name)
    told = f"remembers a sheet with these columns and items, and live has moved on since. If this is that one under " \
           f"another name, say --base {where}.base"  # fmt: skip
    assert told in " ".join(run("compare", "tuesday.csv", name).stdout.split())
    for live, sheet, *more in (
        ("monday.csv", name),  # nothing has moved
        ("tuesday.csv", name, "--base", f"{where}.base"),
        ("tuesday.csv", name, "--base", "monday.csv"),
        ("tuesday.csv", "sheet.csv"),  # other columns
    ):
        assert "remembers a sheet" not in " ".join(run("compare", live, sheet, *more).stdout.split()), (live, sheet)


@pytest.mark.parametrize("name", ["wax.xlsx", "wax.csv"])
def test_a_sheet_of_another_export_is_never_compared_in_silence(run, shop, tmp_path, name):
    """With no base at hand, everything that the store changed would be changed back: it is held, with two ways out."""
    run("sheet", "monday.csv", "-o", name, "--fields", "price,stock", "--no-memory")
    done = run("compare", "tuesday.csv", name, "-o", "c.jsonl")
    assert done.returncode == 1
    said = " ".join(done.stdout.split())
    assert "stale 2 items, 2 cells live has moved on since; --base FILE names the export it was cut from, or" in said
    reasons = {one["held"][0]["reason"] for one in items(tmp_path).values()}
    assert reasons == {"stale: cut from another export than live"}
    assert run("compare", "tuesday.csv", name, "--base", "monday.csv").returncode == 0
    assert run("compare", "tuesday.csv", name, "--accept", "stale").returncode == 0
    wrong = run("compare", "tuesday.csv", name, "--base", "sheet.csv")
    assert wrong.returncode == 2 and f"sheet.csv: {name} was not cut from this" in wrong.stderr


def test_a_base_beside_a_sheet_says_which_base_it_is(run, shop, tmp_path):
    """Another one is refused, also where the sheet remembers its values; its own counts, under any name."""
    run("sheet", "monday.csv", "-o", "wax.csv", "--fields", "price,stock")
    wrong = run("compare", "tuesday.csv", "wax.csv", "--base", "sheet.csv")
    assert wrong.returncode == 2 and "sheet.csv: wax.csv was not cut from this" in wrong.stderr
    assert run("compare", "tuesday.csv", "wax.csv", "--base", "monday.csv").returncode == 0
    assert run("compare", "tuesday.csv", "wax.csv", "--base", "wax.csv.base").returncode == 0
    (tmp_path / "wax.csv.base").write_text("torn")
    done = run("compare", "tuesday.csv", "wax.csv", "--base", "monday.csv")
    assert done.returncode == 0 and "wax.csv.base beside it is damaged, and is left out" in " ".join(
        done.stdout.split()
    )


def test_a_workbook_that_lost_its_memory_is_stale(run, shop, tmp_path):
    torn = json.loads(run("sheet", "monday.csv", "-o", "torn.xlsx", "--json").stdout)
    assert torn["remembers"]
    with_hole(tmp_path / "torn.xlsx")
    done = run("compare", "tuesday.csv", "torn.xlsx")
    assert (
        done.returncode == 1 and "what it remembers of the catalogue was lost" in done.stdout and "stale" in done.stdout
    )


def with_hole(path: Path) -> None:
    """Take a character out of what a workbook remembers."""
    with ZipFile(path) as book:
        parts = {name: book.read(name) for name in book.namelist()}
    text = parts["xl/sharedStrings.xml"]
    longest = max(re.findall(rb">([A-Za-z0-9+/=]{80,})<", text), key=len)
    parts["xl/sharedStrings.xml"] = text.replace(longest, longest[:40] + longest[41:])
    with ZipFile(path, "w") as book:
        for name, data in parts.items():
            book.writestr(name, data)


FORMS: dict[str, Callable[[list[list[str]]], bytes]] = {
    "cp1250, semicolons, decimal commas": lambda rows: delimited(
        ["SKU", "Price", "stock", "Name", "tags"],
        [[r[0], r[2].replace(".", ","), r[3], r[1], r[4]] for r in rows],
        separator=";",
        encoding="cp1250",
    ),
    "xlsx": lambda rows: xlsx(["tags", "stock", "price", "name", "sku"], [r[::-1] for r in rows]),
    "ods": lambda rows: ods(["sku", "name", "price", "stock", "tags"], rows),
}
ENDINGS = {"cp1250, semicolons, decimal commas": "csv", "xlsx": "xlsx", "ods": "ods"}


def table(text: str) -> list[list[str]]:
    return [line.split(",") for line in text.splitlines()[1:]]


@pytest.mark.parametrize(("live", "base", "sheet"), each_of(2, in_pairs([None, *FORMS], FORMS, FORMS)))
def test_three_files_in_three_forms_say_the_same(run, put, tmp_path, live, base, sheet):
    """Other columns, headings, encodings, separators and marks: the same changes and the same clashes."""
    put("tuesday.csv", TUESDAY)
    names = (f"base.{ENDINGS[base]}", f"edited.{ENDINGS[sheet]}", "tuesday.csv")
    texts = {names[0]: (base, MONDAY), names[1]: (sheet, SHEET)} | ({names[2]: (live, TUESDAY)} if live else {})
    for name, (form, text) in texts.items():
        (tmp_path / name).write_bytes(FORMS[form](table(text)))
    found = compared(run, names[1], "--base", names[0])
    assert found["header"]["counts"]["clashes"] == 2 and found["header"]["meanwhile"] == {}
    changed = items(tmp_path)
    price = next(texts[1] for name, texts in changed["A"]["cells"].items() if name.lower() == "price")
    wanted = {None: "10.50", "cp1250, semicolons, decimal commas": "10,50"}
    assert price == wanted.get(live, price) and float(price.replace(",", ".")) == 10.5
    assert changed.keys() == {"A", "B"}


def test_a_field_that_only_two_of_them_have(run, put, tmp_path):
    """What the base lacks is compared in two ways, and said; what live lacks is left out."""
    put("monday.csv", "sku,name,price\nA,Veil,9.90\nB,Suit,20.00\n")
    put("tuesday.csv", "sku,name,price,stock\nA,Veil,9.90,8\nB,Suit,21.00,5\n")
    put("sheet.csv", "sku,name,price,stock,colour\nA,Veil,9.90,9,red\nB,Suit,20.00,5,blue\n")
    found = compared(run, "sheet.csv", "--base", "monday.csv")
    assert found["header"]["two_way"] == ["stock"] and found["header"]["meanwhile"] == {"price": 1}
    assert items(tmp_path)["A"]["cells"] == {"stock": ["8", "9"]} and found["held"] == 0
    assert (
        "it lacks stock: compared with live alone"
        in run("compare", "tuesday.csv", "sheet.csv", "--base", "monday.csv").stdout
    )


@pytest.mark.parametrize("where", ["base", "live", "sheet"])
def test_keys_that_repeat_are_never_guessed(run, put, tmp_path, where):
    texts = {"base": MONDAY, "live": TUESDAY, "sheet": SHEET}
    texts[where] += "A,Veil again,1.00,1,\n"
    for name, text in zip(("monday.csv", "tuesday.csv", "sheet.csv"), texts.values(), strict=True):
        put(name, text)
    found = compared(run, "sheet.csv", "--base", "monday.csv")
    one = items(tmp_path)
    if where == "base":
        assert {held["reason"] for held in one["A"]["held"]} == {"clash: new in the store, too"}
    else:
        assert "A" not in one and found["header"]["counts"]["set_aside_sheet"]
    assert "B" in one


def test_a_key_of_two_fields_and_lines_that_continue(run, put, tmp_path):
    put("monday.csv", "sku,place,stock,note\nA,north,5,x\nA,south,6,\nB,north,1,y\n")
    put("tuesday.csv", "sku,place,stock,note\nA,north,4,x\nA,south,6,\nB,north,1,z\n")
    put("sheet.csv", "place,sku,stock,note\nsouth,A,9,\nnorth,A,7,x\nnorth,B,1,y\n")
    found = compared(run, "sheet.csv", "--base", "monday.csv", "--key", "sku", "--key", "place")
    assert (found["to_send"], found["held"], found["header"]["meanwhile"]) == (1, 1, {"note": 1})
    head = 'version = 1\n[key]\nfields = ["sku"]\n[file]\ncontinued = ["images"]\n'
    put("neat-delta.toml", head + '[fields.images]\nkind = "list"\nseparator = ";"\n')
    put("monday.csv", "sku,price,images\nA,1,a.jpg\n,,b.jpg\nB,2,c.jpg\n")
    put("tuesday.csv", "sku,price,images\nA,1,a.jpg\n,,b.jpg\nB,3,c.jpg\n,,d.jpg\n")
    put("sheet.csv", "sku,price,images\nA,1,a.jpg\n,,b.jpg\n,,e.jpg\nB,2,c.jpg\n")
    found = compared(run, "sheet.csv", "--base", "monday.csv")
    assert found["header"]["meanwhile"] == {"price": 1, "images": 1}
    assert items(tmp_path)["A"]["cells"] == {"images": ["a.jpg;b.jpg", "a.jpg;b.jpg;e.jpg"]}


def test_codes_that_the_store_changed_are_followed(run, put, tmp_path):
    """As the list of codes says, or as an item agrees in nearly everything with one that is new; else it is held."""
    more = "sku,name,price,stock,tags,size,colour\n"
    row = "{},Cedar hive,{},5,wood,8 frames,natural\n"
    put("monday.csv", more + row.format("A", "90.00") + "B,Suit,20.00,5,gift,M,white\nC,Hat,3.00,7,x,S,red\n")
    put(
        "tuesday.csv",
        more + row.format("A-9", "90.00") + "B-9,Suit of a beekeeper,22.00,1,,L,blue\nC,Hat,3.00,7,x,S,red\n",
    )
    put("sheet.csv", more + row.format("A", "95.00") + "B,Suit,25.00,5,gift,M,white\nC,Hat,3.00,7,x,S,red\n")
    found = compared(run, "sheet.csv", "--base", "monday.csv")
    assert [one["new"] for one in found["header"]["followed"]] == [{"sku": "A-9"}]
    one = items(tmp_path)
    assert one["A-9"]["cells"] == {"price": ["90.00", "95.00"]}
    assert one["B"]["held"] == [{"field": None, "reason": "clash: gone from the store"}]
    put("codes.csv", "sku,new code\nB,B-9\n")
    found = compared(run, "sheet.csv", "--base", "monday.csv", "--recode", "codes.csv")
    assert {one["old"]["sku"] for one in found["header"]["followed"]} == {"A", "B"}
    held = {one["field"] for one in items(tmp_path)["B-9"]["held"]}
    assert held == {"price"} and found["header"]["meanwhile"]["colour"] == 1
    said = run("compare", "tuesday.csv", "sheet.csv", "--base", "monday.csv", "--recode", "codes.csv").stdout
    assert "recoded meanwhile in the store; followed" in said and "B → B-9  as the list of codes says" in said


def test_an_item_that_the_base_has_too_is_no_new_code_of_one_that_is_gone(run, put, tmp_path):
    """However much the two are alike: nobody gave it the other's code."""
    head, row = "sku,name,price,stock,tags,size,colour\n", "{},Cedar hive,{},5,wood,8 frames,natural\n"
    hat = "C,Hat,3.00,7,x,S,red\n"
    put("monday.csv", head + row.format("A", "90.00") + row.format("D", "90.00") + hat)
    put("tuesday.csv", head + row.format("D", "90.00") + hat)
    put("sheet.csv", head + row.format("A", "95.00") + hat)
    found = compared(run, "sheet.csv", "--base", "monday.csv")
    assert not found["header"].get("followed")
    assert items(tmp_path)["A"]["held"] == [{"field": None, "reason": "clash: gone from the store"}]


def test_a_part_of_a_catalogue_is_the_normal_case(run, shop, put, tmp_path):
    put("part.csv", "sku,price\nA,9.90\n")
    done = run("compare", "monday.csv", "part.csv", "-o", "c.jsonl")
    assert done.returncode == 0 and "not in the sheet     3      ·" in done.stdout and "gone" not in done.stdout
    assert "Nothing to send, nothing held, nothing lost." in done.stdout
    written = run("write", "c.jsonl", "--to", "out")
    assert written.returncode == 0 and "Nothing is to be sent" in written.stdout
    assert "did not have" not in (tmp_path / "out" / "READ-ME-FIRST.txt").read_text()
    whole = json.loads(run("compare", "monday.csv", "part.csv", "--whole", "--json").stdout)
    assert (whole["held"], whole["header"]["counts"]["gone"]) == (3, 3)
    alone = run("compare", "monday.csv", "part.csv", "--with-gone")
    assert alone.returncode == 2 and "say --whole, too" in alone.stderr
    sent = json.loads(run("compare", "monday.csv", "part.csv", "--whole", "--with-gone", "--json").stdout)
    assert (sent["to_send"], sent["held"], sent["waiting"]) == (3, 0, 0)


@campaign
@needs_office
@pytest.mark.parametrize("ending", ["xlsx", "ods"])
def test_a_spreadsheet_keeps_what_a_sheet_remembers(run, shop, tmp_path, ending):
    """Saved by LibreOffice; and where that part was torn, it is said, and the sheet is not compared in silence."""
    run("sheet", "monday.csv", "-o", "wax.xlsx", "--fields", "price,stock")
    back = opened_and_saved(ending, tmp_path / "wax.xlsx")[0]
    found = compared(run, str(back))
    assert found["header"]["remembered"] and not found["reasons"]
    assert found["header"]["meanwhile"] == {"price": 1, "stock": 1}


CROSSED = {
    # What the sheet says of B (20.00 in the base, 21.00 in the store), what is asked: why it is held, or what is sent.
    "emptied": ("", (), "clash: changed in the store, too"),
    "emptied, the sheet's": ("", ("--clash", "sheet"), "emptied"),
    "emptied, the sheet's, and meant": ("", ("--clash", "sheet", "--blanks", "clear"), ["21.00", ""]),
    "emptied, and left": ("", ("--blanks", "keep"), None),
    "damaged": ("20-Oct", (), "damage: a date where a number goes"),
    "damaged for certain, put back": ("#N/A", ("--accept", "damage", "--clash", "live"), None),
    "an error": ("#N/A", ("--clash", "sheet"), "damage: a formula that failed"),
    "beyond its bounds": ("1.00", ("--clash", "sheet"), "check: outside-bounds"),
    "beyond its bounds, not asked yet": ("1.00", (), "clash: changed in the store, too"),
    "the sum beyond its bounds": ("4.00", ("--clash", "price=add"), "check: outside-bounds"),
    "only in one of two fields": ("22.00", ("--only", "stock"), None),
    "written otherwise": ("20.0", (), None),
    "the store's, written otherwise": ("21", (), None),
    "exactly as typed": ("20.0", ("--exact", "price"), "clash: changed in the store, too"),
}


@pytest.mark.parametrize("case", CROSSED)
def test_a_clash_meets_what_else_may_hold_a_cell(run, put, tmp_path, case):
    text, asked, wanted = CROSSED[case]
    head = 'version = 1\n[key]\nfields = ["sku"]\n[checks]\nlarge-round = "off"\nlarge-change = "off"\n'
    put("neat-delta.toml", head + '[fields.price]\nkind = "money"\ndecimals = 2\nleast = 6\n')
    put("monday.csv", MONDAY)
    put("tuesday.csv", TUESDAY)
    put("sheet.csv", MONDAY.replace("B,Suit,20.00", f"B,Suit,{text}"))
    compared(run, "sheet.csv", "--base", "monday.csv", *asked)
    item = items(tmp_path).get("B")
    if wanted is None:
        assert item is None
    elif isinstance(wanted, list):
        assert item is not None and (item["cells"]["price"], item["held"]) == (wanted, [])
    else:
        assert item is not None and [one["reason"] for one in item["held"]] == [wanted]


@pytest.mark.parametrize("choice, left", [("hold", "AB"), ("live", "AB"), ("sheet", "B")])
def test_an_item_that_is_given_up_on_one_side(run, shop, put, tmp_path, choice, left):
    """Gone from the sheet and changed in the store: only who says that the sheet is right removes it."""
    put("neat-delta.toml", 'version = 1\n[key]\nfields = ["sku"]\n[importer.removal]\nhow = "row"\n')
    put("sheet.csv", "\n".join(line for line in MONDAY.splitlines() if line[0] not in "AD") + "\n")
    asked = ("--whole", "--with-gone", "--clash", choice)
    found = compared(run, "sheet.csv", "--base", "monday.csv", *asked)
    assert found["held"] == (choice == "hold")
    run("write", "c.jsonl", "--to", "out")
    removed = (tmp_path / "out" / "update-1.csv").read_text().split()[1:]
    assert {*"ABCD"} - {*removed} == {*left, "C"}
    assert found["header"]["counts"]["left_to_store"] == (choice == "live")


TAGGED = """\
version = 1
key = { fields = ["sku"] }
[fields.tags]
kind = "list"
separator = ","
[fields.stock]
kind = "integer"
"""


@pytest.mark.parametrize(
    ("base", "live", "sheet", "sent"),
    [
        ("a,b", "a,b,s", "a,b,t", "a,b,s,t"),
        ("a,b,c", "a,b,c,s", "a,c", "a,c,s"),
        ("a,b", "a", "a,b,t", "a,t"),
        ("a,b", "a,b,s", "b,a,t", None),  # another order
        ("a,b", "a,b,s", "t,a,b", None),  # another one first
        ("a,b", "a,b,s", "t,b", None),
        ("a,b", "b,a", "a,b,t", "a,b,t"),  # the store's order alone is no change of an unordered list
        ("", "s", "t", "s,t"),
        ("", "s", " ", None),  # a blank is no change of a blank
    ],
)
def test_a_list_that_both_changed_merges_where_the_sheet_only_added_or_took(run, put, base, live, sheet, sent):
    put("neat-delta.toml", TAGGED)
    for name, text in (("base", base), ("live", live), ("sheet", sheet)):
        put(f"{name}.csv", f'sku,tags\nQA-1,"{text}"\n')
    call = (
        "compare",
        "live.csv",
        "sheet.csv",
        "--base",
        "base.csv",
        "--with-new-values",
        "tags",
        "--accept",
        "swapped",
    )
    facts = json.loads(run(*call, "--json").stdout)
    if not sheet.strip():
        assert (facts["to_send"], facts["held"]) == (0, 0)
    elif sent is None:
        assert [one["reason"] for one in facts["reasons"]] == ["clash: changed in the store, too"]
    else:
        assert facts["to_send"] == 1 and f',"{sent}"]' in run(*call, "-o", "-").stdout


def test_a_plus_is_a_difference_by_itself(run, put):
    """Ten, +5 in the sheet, two sold since: thirteen, and the set that is made of it can be written."""
    put("neat-delta.toml", TAGGED + '[importer]\nadjusted = ["stock"]\n')
    for name, text in (("base", "10"), ("live", "8"), ("sheet", "+5")):
        put(f"{name}.csv", f"sku,stock\nQA-1,{text}\n")
    call = ("compare", "live.csv", "sheet.csv", "--base", "base.csv")
    assert run(*call).returncode == 1
    done = run(*call, "--clash", "stock=add", "-o", "c.jsonl")
    assert done.returncode == 0 and "8 → 13" in run("preview", "c.jsonl").stdout
    assert run("write", "c.jsonl", "--to", "out").returncode == 0


WIDE = """\
version = 1
key = { fields = ["sku"] }
[fields.stock]
kind = "integer"
moving = true
"""


@pytest.mark.parametrize(
    ("sheet", "more", "warned"),
    [
        ("sku,name,price,cost,stock,note", (), True),
        ("sku,stock", (), False),
        ("sku,name,price,cost,note", (), False),
        ("sku,name,price,cost,stock,note", ("--base", "live.csv"), False),
        ("sku,name,price,cost,stock,note", ("--only", "sku,name,price,cost,note"), False),
    ],
)
def test_a_wide_copy_of_an_export_without_a_base_is_warned_of(run, put, sheet, more, warned):
    rows = [
        {"sku": f"QA-{n}", "name": "Jar", "price": f"{n}.50", "cost": "1.00", "stock": str(n), "note": "x"}
        for n in range(1, 9)
    ]
    for path, fields, shift in (("live.csv", "sku,name,price,cost,stock,note", 0), ("sheet.csv", sheet, 1)):
        changed = [row | {"stock": str(int(row["stock"]) + shift * (n < 3))} for n, row in enumerate(rows)]
        put(path, "\n".join([fields, *(",".join(row[name] for name in fields.split(",")) for row in changed)]) + "\n")
    put("neat-delta.toml", WIDE)
    first = " ".join(run("compare", "live.csv", "sheet.csv", *more).stdout.split())
    said = "A copy of a whole export? It changes 3 cells of stock, which the store moves by itself."
    assert (said in first) == warned
    if warned:
        assert first.startswith(said) and "--base FILE" in first and "--only" in first
