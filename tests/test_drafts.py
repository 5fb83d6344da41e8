"""What learn drafts beyond single columns and asks at a terminal; what check says of itself."""

from __future__ import annotations

import contextlib
import json
import os
import pty
import random
import re
import subprocess
import tomllib
from collections.abc import Callable
from datetime import date, timedelta
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import Any

import pytest
from hypothesis import strategies as st

import neat_delta
from neat_delta import as_catalogue
from neat_delta.core.compare.checks import CHECKS
from neat_delta.files.draft import draft
from tests.conftest import PROGRAM, environment, in_two_lengths


def drafted(run, put, headings: str, rows: list[str]) -> tuple[dict[str, Any], str]:
    """The draft of a small catalogue, as TOML and as text; which compares without a word."""
    put("live.csv", "\n".join([headings, *rows]) + "\n")
    done = run("learn", "live.csv", "-o", "neat-delta.toml", "--replace")
    assert (done.returncode, done.stderr) == (0, "")
    own = run("compare", "live.csv", "live.csv")
    assert own.returncode == 0 and "Nothing to send, nothing held, nothing lost." in own.stdout
    text = (Path(put("x", "")).parent / "neat-delta.toml").read_text()
    return tomllib.loads(text), text


def test_a_key_of_several_fields_is_drafted_where_the_code_repeats(run, put):
    rows = [f"QA-{n},{place},{n + len(place)}" for n in range(1, 9) for place in ("North", "Southgate")]
    found, text = drafted(run, put, "sku,warehouse,stock", rows)
    assert found["key"]["fields"] == ["sku", "warehouse"]
    assert "# sku stands several times in 16 rows; with warehouse, every row has its own" in text
    edited = ["sku,warehouse,stock", *rows]
    edited[1] = "QA-1,North,50"
    put("sheet.csv", "\n".join(edited) + "\n")
    changes = json.loads(run("compare", "live.csv", "sheet.csv", "--json").stdout)
    assert changes["header"]["counts"]["changed"] == 1


@pytest.mark.parametrize(
    "rows, said",
    [
        (["A,x,1", "A,x,1", "B,y,2", "C,z,3"], "sku stands several times in 2 rows, and no other field"),
        (["A,x,1", "A,y,1", "B,y,2", "C,z,3", "D,z,3"], "sku stands several times in 2 rows, and no other field"),
        (["A,x,1", "A,y,1", "B,x,2", "B,y,3"], "sku stands several times in 4 rows; with note, every row has its own"),
        (["A,x,1", "A,y,1", "B,x,2", "B,x,3"], "sku stands several times in 4 rows, and no other field"),
    ],
)  # fmt: skip
def test_a_code_that_repeats_by_accident_stays_the_key(run, put, rows, said):
    put("live.csv", "\n".join(["sku,note,stock", *rows]) + "\n")
    assert said in run("learn", "live.csv").stdout
    assert "fields = [" in run("learn", "live.csv").stdout


def shop(n: int, **more: str) -> str:
    cells = {
        "sku": f"QA-{n:03}", "parent": f"QA-{n - 1:03}" if n % 3 else "", "name": f"Veil {n}", "price": f"{n + 10}.50",
        "cost": f"{n + 5}.00", "sale_price": f"{n + 9}.00" if n % 2 else "", "sale_from": "2026-05-01" if n % 2 else "",
        "sale_to": "2026-06-01" if n % 2 else "", "stock": str(n), "ean": "", "note": "as it is",
    }  # fmt: skip
    return ",".join((cells | more).values())


HEADINGS = "sku,parent,name,price,cost,sale_price,sale_from,sale_to,stock,ean,note"
EANS = ["2900096541266", "0400807862380", "0000000000017", "2901626774789", "0400537441527", "2900963560864",
        "2900231779738", "0400808061232", "2900000000001", "2900000000018", "2900000000025"]  # fmt: skip


def with_check_digit(code: str) -> str:
    """A code of 13 digits with the check digit that GS1 gives the first 12."""
    digits = [int(one) for one in code[:12]]
    return code[:12] + str(-sum(digits[::2] + [3 * one for one in digits[1::2]]) % 10)


def test_relations_links_and_check_digits_are_drafted_with_their_evidence(run, put):
    rows = [shop(n, ean=with_check_digit(EANS[n % 11])) if n < 11 else shop(n) for n in range(30)]
    found, text = drafted(run, put, HEADINGS, rows)
    assert found["relations"] == {
        "price": "price", "cost": "cost", "sale_price": "sale_price", "sale_from": "sale_from", "sale_to": "sale_to",
        "stock": "stock",
    }  # fmt: skip
    for line in (
        'cost = "cost" # less than the price in 30 of 30',
        'sale_price = "sale_price" # at most the price in 15 of 15',
        'sale_to = "sale_to" # not before sale_from in 15 of 15',
    ):
        assert line in text.splitlines()
    assert re.search(r"^\[fields\.parent\] # .*; all 20 are keys of other items$", text, re.MULTILINE)
    assert re.search(r"^\[fields\.ean\] # .*; 11 of 11 have the check digit of GTINs$", text, re.MULTILINE)
    assert re.search(r"^\[fields\.stock\] # .*; it is sold while you edit$", text, re.MULTILINE)
    fields = found["fields"]
    assert (fields["parent"]["refers"], fields["ean"]["check_digit"], fields["stock"]["moving"]) == (True, "gtin", True)
    assert [name for name, field in fields.items() if field.get("required")] == ["sku", "name", "price"]


@pytest.mark.parametrize(
    "edits, missing",
    [
        ({"cost": "99.00"}, ("relations", "cost")),
        ({"sale_price": "99.00"}, ("relations", "sale_price")),
        ({"sale_to": "2026-04-01", "sale_from": "2026-05-01"}, ("relations", "sale_to")),
        ({"parent": "QZ-999"}, ("fields", "parent", "refers")),
        ({"ean": "2900096541267"}, ("fields", "ean", "check_digit")),
    ],
)
def test_what_the_cells_do_not_bear_out_is_not_drafted(run, put, edits, missing):
    found, _ = drafted(run, put, HEADINGS, [shop(n, **(edits if n % 2 else {})) for n in range(30)])
    table = found
    for name in missing[:-1]:
        table = table[name]
    assert missing[-1] not in table


def test_a_draft_lets_a_round_through_that_breaks_none_of_it_and_holds_one_that_does(run, put):
    rows = [shop(n, ean=with_check_digit(EANS[n])) if n < 11 else shop(n) for n in range(30)]
    drafted(run, put, HEADINGS, rows)
    edited = [*rows]
    edited[3] = shop(3, price="3.00", ean=with_check_digit(EANS[3]))
    edited[5] = shop(5, price="15.90", stock="4", ean=with_check_digit(EANS[5]))
    edited[7] = shop(7, parent="QA-999", ean="2900096541267")
    put("sheet.csv", "\n".join([HEADINGS, *edited]) + "\n")
    run("compare", "live.csv", "sheet.csv", "-o", "c.jsonl")
    items = json.loads(run("preview", "c.jsonl", "--all", "--json").stdout)["items"]
    held = {(one["item"]["key"]["sku"], why["field"]): why["reason"] for one in items for why in one["item"]["held"]}
    assert held == {
        ("QA-003", "price"): "check: margin",
        ("QA-007", "parent"): "check: dead-link",
        ("QA-007", "ean"): "check: check-digit",
    }


def test_the_key_may_be_a_field_that_has_no_section(run, put):
    put("neat-delta.toml", 'version = 1\n[key]\nfields = ["sku"]\n[fields.price]\nkind = "money"\n')
    put("live.csv", "sku,price\nA,1.00\nB,2.00\n")
    put("sheet.csv", "sku,price\nA,1.50\nB,2.00\n")
    done = run("compare", "live.csv", "sheet.csv", "-o", "c.jsonl")
    assert (done.returncode, done.stderr) == (0, "")
    assert run("write", "c.jsonl", "--to", "out").returncode == 0


def test_check_says_which_checks_did_not_run_and_what_switches_them_on(run, put):
    put("live.csv", "sku,price,cost\nQA-1,2.00,1.00\nQA-2,3.00,2.00\n")
    idle = json.loads(run("check", "live.csv", "--json").stdout)["not_run"]
    assert idle["locked"] == "a sheet, and neat-delta compare"
    assert idle["sale-days"] == "sale_from and sale_to under [relations]"
    assert idle["check-digit"] == 'check_digit = "gtin" of a field of codes'
    assert "margin" not in idle  # learned: price and cost
    shown = run("check", "live.csv").stdout
    assert "did not run, and what would switch it on" in shown
    assert all(name in shown for name in idle)
    put(
        "neat-delta.toml",
        'version = 1\n[checks]\nmargin = "off"\n[relations]\nprice = "price"\ncost = "cost"\n'
        '[fields.sku]\nkind = "code"\nunique = true\n[fields.price]\nkind = "money"\nmost = 90\n'
        '[fields.cost]\nkind = "money"\n',
    )
    idle = json.loads(run("check", "live.csv", "--json").stdout)["not_run"]
    assert idle["margin"] == "another level than off, under [checks]"
    assert not {"repeated", "outside-bounds", "unreadable"} & idle.keys()


@pytest.mark.parametrize("name", [name for name, check in CHECKS.items() if not check.alone])
def test_a_check_that_needs_a_sheet_says_so(run, put, name):
    put("live.csv", "sku,price\nQA-1,2.00\n")
    assert json.loads(run("check", "live.csv", "--json").stdout)["not_run"][name] == "a sheet, and neat-delta compare"


def _day(rng: random.Random) -> date:
    return date(2026, 1, 1) + timedelta(rng.randint(-9_000, 9_000))


def _number(rng: random.Random) -> int:
    """A number of any length up to seven digits."""
    return rng.randint(0, 10 ** rng.randint(1, 7))


SHAPES: list[Callable[[random.Random], str]] = [
    lambda rng: str(_number(rng)),
    lambda rng: f"{_number(rng):,}",
    lambda rng: f"{_number(rng):,}".replace(",", "."),
    lambda rng: f"{_number(rng):,}".replace(",", " "),
    lambda rng: f"{_number(rng) / 100:.2f}",
    lambda rng: f"{_number(rng) / 100:.2f}".replace(".", ","),
    lambda rng: f"{_number(rng) / 100:,.2f}".translate(str.maketrans(",.", ".,")),
    lambda rng: f"{_number(rng) / 1000:.3f}",
    lambda rng: f"€{_number(rng) / 100:.2f}",
    lambda rng: f"{_number(rng) / 100:.2f} EUR",
    lambda rng: f"{rng.randint(1000, 9999)}.{rng.randint(10, 99)}",
    lambda rng: str(_day(rng)),
    lambda rng: f"{_day(rng):%d.%m.%Y}",
    lambda rng: f"{_day(rng):%m/%d/%Y}",
    lambda rng: rng.choice(["yes", "no"]),
    lambda rng: rng.choice(["1", "0", ""]),
    lambda rng: rng.choice(["wax, gift", "gift", "gift, wax"]),
    lambda rng: rng.choice(["Hives > Frames", "Wax"]),
    lambda rng: f"{_number(rng) % 500} kg",
    lambda rng: f"0{_number(rng)}",
    lambda rng: "".join(
        chr(rng.choice((rng.randint(32, 126), rng.randint(161, 0x24F)))) for _ in range(rng.randint(0, 8))
    ),
]
"""How the cells of a column look; one column in four has two shapes."""

WORDS = ["price", "menge", "zollnr", "weight", "stock", "name", "x", "code", "size", "EK netto", "datum", "a.b"]
COLUMNS = 80


def export(rng: random.Random) -> dict[str, list[str]]:
    """An export of few rows and of many columns."""
    rows = range(rng.randint(1, 12))
    names = [f"{word} {number}" if number else word for number in range(7) for word in WORDS][:COLUMNS]
    cells: dict[str, list[str]] = {"sku": [f"QA-{row}" for row in rows]}
    for name in names:
        shapes = rng.sample(SHAPES, 1 if rng.random() < 0.75 else 2)
        cells[name] = [rng.choice(shapes)(rng) for _ in rows]
    return cells


@in_two_lengths(st.integers(0, 2**32), few=2, many=40)
def test_no_draft_is_refused(seed):
    """What `learn` drafts of 6,000 drawn columns are store files, and live is read by them without a finding of a
    kind.
    """
    cells = export(random.Random(seed))
    live = as_catalogue(cells, "live.csv")
    learned = neat_delta.learn(live)
    with TemporaryDirectory() as folder:
        path = Path(folder) / "neat-delta.toml"
        path.write_text(draft(learned, live), encoding="utf-8")
        store = neat_delta.read_store(str(path))
    assert not [one for one in neat_delta.check(live, store).findings.rows(named=True) if one["check"] == "unreadable"]
    assert neat_delta.compare(live, live, store=store).cells.height == 0


def test_codes_of_as_many_digits_are_no_decimals(run, put):
    told, _ = drafted(run, put, "sku;zollnr;menge;preis", ["A;8183.10;1.765.929;2.50", "B;8184.20;2.765.929;3.50"])
    assert told["fields"]["zollnr"]["kind"] == "text"
    assert told["fields"]["menge"] == {"kind": "integer", "decimal_mark": ",", "thousands_mark": "."}


def at_a_terminal(folder: Path, *words: str, typed: bytes = b"") -> str:
    """What the program prints when it is called at a terminal, where that is typed."""
    ours, theirs = pty.openpty()
    call = [str(PROGRAM), *words]
    child = subprocess.Popen(call, cwd=folder, stdin=theirs, stdout=theirs, stderr=theirs, env=environment())
    os.close(theirs)
    os.write(ours, typed)
    shown = b""
    with contextlib.suppress(OSError):  # a terminal that was hung up
        while part := os.read(ours, 65_536):
            shown += part
    os.close(ours)
    child.wait()
    return shown.decode()


@pytest.mark.process
def test_on_a_terminal_learn_asks_what_no_export_shows(tmp_path):
    """Blank cells are passed over, the second question is left, items that a file lacks are deleted, and nobody knows
    the form.
    """
    (tmp_path / "live.csv").write_text("sku,price\nQA-1,2.00\nQA-2,3.00\n")
    call = ("learn", "live.csv", "-o", "neat-delta.toml")
    shown = at_a_terminal(tmp_path, *call, typed=b"7\n2\n\n2\n\n")  # 7 is no answer, and it asks again
    text = (tmp_path / "neat-delta.toml").read_text()
    importer = tomllib.loads(text)["importer"]
    assert importer == {"blanks": "skip", "takes": "both", "missing": "deleted", "form": "delimited"}
    assert 'blanks = "skip" # a blank cell leaves the field as it is\n' in text
    assert 'takes = "both" # assumed, as nobody said it: new items and changes in one file.' in text
    assert shown.count("I don't know; till then:") == 4 and "so neat-delta.toml assumes:" in shown
    again = at_a_terminal(tmp_path, *call)  # nobody is asked for a file that is not replaced
    assert "I don't know" not in again and "It may be somebody's work" in again
    assert (tmp_path / "neat-delta.toml").read_text() == text


@pytest.mark.process
def test_the_demo_asks_nothing_at_a_terminal_either_and_its_first_line_can_be_typed_again(tmp_path):
    shown = at_a_terminal(tmp_path, "demo")
    assert "I don't know" not in shown and "all of them done and landed" in shown
    again = at_a_terminal(tmp_path / "quillfern-demo", "learn", "live.csv", "-o", "draft.toml")
    assert "I don't know" not in again and "Wrote draft.toml" in again


def test_without_a_terminal_learn_asks_nothing_and_says_what_it_assumes(run, put, tmp_path):
    put("live.csv", "sku,price\nQA-1,2.00\nQA-2,3.00\n")
    done = run("learn", "live.csv", "-o", "neat-delta.toml")
    assumed = "no export shows it, and so neat-delta.toml assumes: a blank cell empties the field; new items"
    assert assumed in done.stdout.replace("\n", " ")
    assert run("learn", "live.csv", "-o", "neat-delta.toml", "--no-questions", "--json").returncode == 0
    assert tomllib.loads((tmp_path / "neat-delta.toml").read_text())["importer"]["missing"] == "kept"


def test_limits_are_drafted_where_many_items_bear_them_out_and_suggested_elsewhere(run, put):
    head = "sku,price,sale_price,cost,last_modified"
    rows = [f"QA-{n},{10 + n}.00,{9 + n}.00,{5 + n % 3}.00,x{n}" for n in range(60)]
    found, text = drafted(run, put, head, rows)  # the least: (10 - 5) of 10 to ... (12 - 7) of 12
    assert found["relations"]["least_margin"] == 41
    assert "least_margin = 41 # the least of 60 items has 41.67 %, half have " in text
    assert (
        "# largest_change = 10 # a guess: no export shows what is believable, but the largest offer takes 10.0 %"
        in text
    )
    assert "largest_change" not in found["fields"]["price"] and "moving" not in found["fields"]["last_modified"]
    assert "# moving = true # a guess: by its heading" in text
    assert drafted(run, put, head, rows[:50])[0]["relations"]["least_margin"] == 41  # fifty are enough
    assert "least_margin" not in drafted(run, put, head, rows[:49])[0]["relations"]
    found, text = drafted(run, put, head, rows[:8])  # too few to be sure of
    assert "least_margin" not in found["relations"] and "# least_margin = 41 # the least of 8 items has" in text


@pytest.mark.parametrize(
    "code, name",
    [("Artikelnr", "Bezeichnung"), ("Art. no.", "Title"), ("Code article", "Libellé"), ("Артикул", "Название")],
)
def test_the_key_and_the_name_are_known_by_what_an_export_calls_them(run, put, code, name):
    found, _ = drafted(run, put, f"{code},{name},VK,EK", [f"{n:05},Lid {n},{n}.50,0.20" for n in range(1, 60)])
    assert found["key"] == {"fields": [code], "name": name}
    assert (found["relations"]["price"], found["relations"]["cost"]) == ("VK", "EK")


@pytest.mark.parametrize("price, cost", [("9.99", "10.00"), ("10.00", "9.95"), ("10.00", "10.00")])
def test_no_margin_is_suggested_where_one_item_has_next_to_none(run, put, price, cost):
    rows = [f"QA-{n},{20 + n}.00,10.00" for n in range(60)] + [f"QA-99,{price},{cost}"]
    _, text = drafted(run, put, "sku,price,cost", rows)
    assert "least_margin" not in text
