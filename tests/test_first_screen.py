"""What stands on the screen: in which order, once, with totals that agree, and with nothing cut off or trailing."""

from __future__ import annotations

import json
import os
import pty
import re
import select
import shutil
import sys
import time

import pytest

from neat_delta.cli import common
from neat_delta.core.base.support.progress import counting


def test_no_line_ends_in_a_space(run, tmp_path, whole_demo):
    folder, told = whole_demo
    shutil.copytree(folder, tmp_path / "q")
    told += "".join(
        run(verb, *words).stdout
        for verb, *words in (
            ("learn", "q/live.csv"),
            ("learn", "q/live.csv", "-o", "draft.toml"),
            ("check", "q/live.csv"),
            ("preview", "q/changes.jsonl", "--all", "--findings", "--keep-margin", "percent"),
            ("confirm", "q/changes.jsonl", "q/live.csv", "--files", "q/out"),
            ("undo", "q/changes.jsonl", "--to", "back", "--now", "q/live.csv", "--files", "q/out"),
        )
    )
    assert [line for line in told.splitlines() if line != line.rstrip()] == []
    assert "neat-delta match live.csv supplier.csv" in told and "…" not in told.partition("What next?")[0]


def test_a_preview_begins_with_what_waits_and_says_what_was_found_once(run, demo_round):
    text = run("preview", "changes.jsonl").stdout
    order = [
        "rows read",
        "to send, ",
        "held, with the way",
        "set aside, with",
        "--findings shows",
        "field  ",
        "QA-1022",
    ]
    places = [text.index(part) for part in order]
    assert places == sorted(places)
    assert "turned into a date" not in text.replace("held: damage: turned into a date", "")
    full = run("preview", "changes.jsonl", "--findings").stdout
    assert full.count("damage: what a spreadsheet did") == 1 and "--findings" not in full
    assert full.index("field  ") < full.index("damage: what a spreadsheet did") < full.index("QA-1022  Shallow")
    assert run("compare", "live.csv", "sheet.csv").stdout.count("turned into a date") == 1


@pytest.fixture
def demo_round(run, tmp_path):
    """The demo's files with all their accidents, compared."""
    from importlib.resources import files

    for name in ("live.csv", "sheet.csv", "neat-delta.toml"):
        (tmp_path / name).write_bytes(files("neat_delta.demo").joinpath(name).read_bytes())
    run("compare", "live.csv", "sheet.csv", "-o", "changes.jsonl")


def test_figures_are_of_what_is_sent_and_totals_agree_everywhere(run, demo_round, tmp_path):
    facts = json.loads(run("preview", "changes.jsonl", "--json", "--all").stdout)
    counts, held = facts["header"]["counts"], facts["reasons"]
    price = next(field for field in facts["fields"] if field["field"] == "price")
    assert (price["sent"], price["held"], price["most_up"]) == (16, 1, "7.40")  # the held one would be 1754.55
    assert sum(one["cells"] for one in held) == counts["held_cells"]
    arriving = sum(one["cells"] for one in held if one["reason"] == "new")
    assert sum(field["held"] for field in facts["fields"]) == counts["held_cells"] - arriving
    assert sum(field["sent"] for field in facts["fields"]) == counts["cells"] - counts["held_cells"]
    for said in (run("compare", "live.csv", "sheet.csv").stdout, run("preview", "changes.jsonl").stdout):
        assert f"48 cells of 32 items to send, {counts['held_cells']} held, 4 rows set aside, nothing lost" in said
        table = said.partition("held, with the way to have it otherwise")[2].partition("set aside")[0]
        cells = sum(int(many) for many in re.findall(r"([0-9]+) cells?", table))
        assert cells == counts["held_cells"]
    run("preview", "changes.jsonl", "--page", "page.html")
    page = (tmp_path / "page.html").read_text()
    assert f"<dt>cells held</dt><dd>{counts['held_cells']}</dd>" in page
    run("write", "changes.jsonl", "--to", "out")
    text = (tmp_path / "out" / "READ-ME-FIRST.txt").read_text()
    assert f"because it is held: 2 items and {counts['held_cells']} cells" in text
    assert "the sheet did not have" not in text


def test_the_largest_change_that_is_sent_stands_first(run, demo_round):
    items = json.loads(run("preview", "changes.jsonl", "--sort", "size", "--all", "--json").stdout)["items"]
    held = [bool(one["item"]["held"]) for one in items]
    assert items[0]["item"]["key"] == {"sku": "QA-1136"}
    assert held.index(True) > 20


def test_left_alone_is_what_the_sheet_lacks_and_not_what_nobody_asked_for(run, put):
    put("live.csv", "sku,name,price,stock,brand\nA,a,1,2,q\nB,b,2,3,q\n")
    put("sheet.csv", "sku,name,price,stock\nA,x,2,2\nB,b,2,3\n")
    said = run("compare", "live.csv", "sheet.csv", "--only", "price").stdout
    assert "left out, as you did not ask for them: name, stock\n" in said
    assert "left alone, as the sheet lacks them: brand\n" in said
    said = run("compare", "live.csv", "sheet.csv", "--ignore", "name").stdout
    assert "ignored, as you said: name\n" in said and "lacks them: brand\n" in said


def test_long_lists_count_what_they_leave_out(run, put):
    names = [f"field {n}" for n in range(40)]
    put("live.csv", ",".join(["sku", "price", *names]) + "\n" + ",".join(["A", "1", *names]) + "\n")
    put("sheet.csv", "sku,price\nA,2\n")
    said = run("compare", "live.csv", "sheet.csv", "-v").stdout.replace("\n", " ")
    assert "field 38, field 39" in said
    said = run("compare", "live.csv", "sheet.csv").stdout.replace("\n", " ")
    assert "left alone, as the sheet lacks them: field 0," in said and "field 5 and 34 more" in said


def test_hints_name_the_files_there_are_so_that_they_can_be_typed(run, put):
    put("live items.csv", "sku,price\nA,1.00\nB,2.00\n")
    put("my sheet.csv", "sku,price\nA,1.50\nB,2.00\n")
    put("shop.toml", "version = 1\n")
    said = run("learn", "live items.csv", "-o", "the shop.toml").stdout
    assert "neat-delta compare 'live items.csv' SHEET --store 'the shop.toml'" in said
    said = run("sheet", "live items.csv", "-o", "cut.csv", "--store", "shop.toml").stdout
    assert "neat-delta compare 'live items.csv' cut.csv --store shop.toml" in said
    said = run("compare", "live items.csv", "my sheet.csv", "-o", "my changes.jsonl").stdout
    assert "neat-delta preview 'my changes.jsonl'" in said
    said = run("write", "my changes.jsonl", "--to", "out", "--store", "shop.toml").stdout
    assert "neat-delta confirm 'my changes.jsonl' EXPORT --files out --store shop.toml" in said


def test_quiet_prints_only_what_waits(run, demo_round):
    text = run("compare", "live.csv", "sheet.csv", "-q").stdout
    assert "rows read" not in text and "to send  held" not in text and "hidden-in-stock" not in text  # it is only noted
    for part in ("a decimal slip", "held, with the way", "set aside, with", "48 cells of 32 items to send, 60 held"):
        assert part in text
    assert run("compare", "live.csv", "live.csv", "-q").stdout.startswith(
        "\nNothing to send, nothing held, nothing lost."
    )
    quiet = run("preview", "changes.jsonl", "-q").stdout
    assert "held, with the way" in quiet and "impact of" not in quiet and "QA-1028" not in quiet
    run("write", "changes.jsonl", "--to", "out", "-q")
    text = run("write", "changes.jsonl", "--to", "out", "-q").stdout  # again: it is the same to the byte
    assert "held by compare" in text and "Wrote " in text and "update-1.csv" not in text
    assert run("compare", "live.csv", "sheet.csv", "-q", "-v").returncode == 2


def test_all_of_it_has_every_entry_and_what_each_step_took(run, demo_round):
    usual, every = run("compare", "live.csv", "sheet.csv"), run("compare", "live.csv", "sheet.csv", "-v")
    assert usual.stderr == "" and "more" not in every.stdout.replace("no more", "")
    assert usual.stdout.count("QA-13") < every.stdout.count("QA-13")  # each of the nine codes that lost their zeros
    assert "the same digits without the zeros in front" in every.stdout and "zeros in front" not in usual.stdout
    assert re.fullmatch(r"Reading live.csv and sheet.csv: \d+\.\d s\nComparing: \d+\.\d s\n", every.stderr)


def test_a_reason_is_never_cut_where_it_differs(run, put):
    """Nor is a code: on as many lines as it takes."""
    put("live.csv", "sku,price\nLK-0001,1.00\n")
    put("sheet.csv", f"sku,price\nLK-0001,1.50\n{'x' * 90},2.00\n{'x' * 90},3.00\n")
    text = run("compare", "live.csv", "sheet.csv").stdout
    assert "…" not in text and all(len(line) <= 80 for line in text.splitlines())
    assert text.count("x") == 180 and text.count("key repeats in the sheet") == 2


def test_what_is_said_of_damage_has_the_colour_of_what_goes(run, demo_round):
    text = run("compare", "live.csv", "sheet.csv", FORCE_COLOR="1", TERM="xterm").stdout
    assert "\x1b[91m#N/A" in text and "\x1b[32m#N/A" not in text


def test_warned_is_told_from_noted(run, put):
    put("live.csv", "sku,price,image\n" + "".join(f"A{n},1.50,a.jpg\n" for n in range(40)))
    put("sheet.csv", "sku,image\nA1,gone.jpg\n")
    put("neat-delta.toml", 'version = 1\n[fields.image]\nkind = "image"\n')
    put("a.jpg", "")
    assert "no-image  image (B)  1 cell  warned" in run("compare", "live.csv", "sheet.csv", "--images", ".").stdout
    put("neat-delta.toml", 'version = 1\n[checks]\nno-image = "note"\n[fields.image]\nkind = "image"\n')
    assert "no-image  image (B)  1 cell  noted" in run("compare", "live.csv", "sheet.csv", "--images", ".").stdout


def test_the_closing_line_counts_what_has_no_cells_too(run, put):
    """Items that go away, and new ones that have nothing but their key: sent or held, they are in it."""
    put("live.csv", "sku,price\nA,1.00\nB,2.00\nC,3.00\n")
    put("sheet.csv", "sku,price\nA,1.00\nB,2.00\nNEW-1,\n")
    call = ("compare", "live.csv", "sheet.csv", "--whole")
    assert "Nothing to send, 1 item held, 1 removal held, nothing lost." in run(*call).stdout
    sent = ("--with-new", "--with-gone", "--accept", "large-round")
    assert "1 item to send, 1 item to remove, nothing held, nothing lost." in run(*call, *sent).stdout
    assert json.loads(run(*call, *sent, "--json").stdout)["to_send"] == 2
    put("sheet.csv", "sku,price\nA,1.50\nB,2.00\nNEW-1,\n")
    assert "1 cell of 2 items to send, 1 removal held" in run(*call, "--with-new", "--accept", "large-round").stdout


def test_at_a_terminal_it_is_said_how_far_a_long_step_is(monkeypatch):
    """With brackets in a name as they are typed; a step that nobody counts is said alone."""
    ours, theirs = pty.openpty()
    seen = b""
    with os.fdopen(theirs, "w") as terminal:
        monkeypatch.setattr(sys, "stderr", terminal)
        monkeypatch.setattr(common, "SECONDS_BEFORE_A_WORD", 0)
        with common.working("Reading [new] live.csv and sheet.csv"):
            count = counting("[new] live.csv", "rows", 4_000)
            for share in (25, 50):
                count(4_000 * share // 100)
                end = time.monotonic() + 20
                while f"{share} %, ".encode() not in seen and time.monotonic() < end:
                    if select.select([ours], [], [], 0.05)[0]:
                        seen += os.read(ours, 65_536)
            count(4_000)  # nothing is left of it, and it goes on with what nobody counts
            while b"sheet.csv" not in seen.rpartition(b"Reading")[2] and time.monotonic() < end:
                if select.select([ours], [], [], 0.05)[0]:
                    seen += os.read(ours, 65_536)
    os.close(ours)
    plain = re.sub(rb"\x1b\[[0-9;?]*[a-zA-Z]", b"", seen).decode()
    assert "Reading [new] live.csv, 25 %, 1,000 of 4,000 rows" in plain
    assert re.search(r"50 %, 2,000 of 4,000 rows, [0-9,]+ rows/s, [0-9]+ s left", plain)
    assert plain.rpartition("Reading")[2].startswith(" [new] live.csv and sheet.csv")
