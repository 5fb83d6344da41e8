"""The installed program on files in a folder, as its users meet it."""

from __future__ import annotations

import csv
import io
import json
import re
import subprocess
import sys
from importlib import import_module
from pathlib import Path

import pytest
from rich.cells import cell_len

import neat_delta
from neat_delta.cli.main import VERBS
from neat_delta.report.settings import option_of

SOURCE = Path(neat_delta.__file__).parent


def lines(text: str) -> list[str]:
    return [" ".join(line.split()) for line in text.splitlines()]


@pytest.mark.process
def test_the_whole_round_on_the_demo_store(run, store):
    compared = run("compare", "live.csv", "sheet.csv", "-o", "changes.jsonl")
    assert (compared.returncode, compared.stderr) == (1, "")
    assert "changed 35 35" in lines(compared.stdout)
    assert "rows read 418 410" in lines(compared.stdout)
    assert "54 cells of 32 items to send, 19 held, 4 rows set aside, nothing lost." in lines(compared.stdout)
    assert "sheet row 411 (blank) total" in lines(compared.stdout)
    assert "key sku (the heading says so; --key names another)" in lines(compared.stdout)

    seen = run("preview", "changes.jsonl")
    assert (seen.returncode, seen.stderr) == (0, "")
    assert "price 16 16 +7.40" in lines(seen.stdout)
    assert "price 41.90 → 45.90 +4.00 +9.5 %" in lines(seen.stdout)
    assert "sale_price 4.17 → (blank) held: emptied" in lines(seen.stdout)
    assert any(line.startswith("20 of 37 items shown. --all shows them all") for line in lines(seen.stdout))

    written = run("write", "changes.jsonl", "--to", "out")
    assert (written.returncode, written.stderr) == (1, "")
    assert "the update files give exactly the target, and touch no other cell" in lines(written.stdout)
    manifest = json.loads((store / "out" / "manifest.json").read_text())
    assert sorted(file.name for file in (store / "out").iterdir()) == sorted(
        ["READ-ME-FIRST.txt", "manifest.json", *(file["file"] for file in manifest["update"] + manifest["undo"])]
    )
    assert manifest["cells"] == {"changed": 54, "keys": 32, "required": 0, "carried": 3}
    first = [(store / "out" / name).read_text().splitlines()[:2] for name in ("update-1.csv", "undo-1.csv")]
    assert first == [
        ["sku,name,status", f'QA-1085,"{name} forest honey, 227 g",shown'] for name in ("Rösslein", "Röslein")
    ]

    one = run("write", "changes.jsonl", "--to", "one", "--importer-blanks", "skip")
    assert one.returncode == 1
    head, *rows = csv.reader(io.StringIO((store / "one" / "update-1.csv").read_text()))
    assert head == ["sku", "name", "price", "sale_price", "cost", "stock", "status", "tags"]
    assert sum(cell != "" for row in rows for cell in row[1:]) == 54
    assert "sent, but the undo cannot take it back" in one.stdout


def test_new_items_and_cleared_cells_are_sent_when_asked_for(run, store):
    run("compare", "live.csv", "sheet.csv", "-o", "changes.jsonl", "--with-new", "--blanks", "clear")
    written = json.loads(run("write", "changes.jsonl", "--to", "out", "--json").stdout)["manifest"]
    assert written["update"][0]["rows"] == 2
    assert "QA-1502" in (store / "out" / "update-1.csv").read_text()
    assert not written["held_before"]
    assert [(one["key"]["sku"], one["field"]) for one in written["one_way"]] == [("QA-1501", None), ("QA-1502", None)]
    skipping = run("write", "changes.jsonl", "--to", "skip", "--importer-blanks", "skip", "--json")
    assert {held["field"] for held in json.loads(skipping.stdout)["manifest"]["held"]} == {"sale_price"}


def test_a_sheet_without_edits_changes_nothing(run, put):
    put("live.csv", "sku;price\r\nQA-1;1\r\n")
    compared = run("compare", "live.csv", "live.csv", "-o", "changes.jsonl")
    assert compared.returncode == 0
    assert run("preview", "changes.jsonl").stdout.strip().endswith("Nothing differs.")
    written = run("write", "changes.jsonl", "--to", "out")
    assert written.returncode == 0
    assert "Nothing is to be sent, so there is no update file." in written.stdout


def test_files_go_out_in_the_dialect_of_live(run, put, tmp_path):
    put("live.csv", '\ufeff"SKU";"Price";"Note"\r\n"QA-1";"1,50";"a;""b"""\r\n"QA-2";"2";""\r\n')
    put("sheet.csv", "Note\tSKU\tPrice\nc\nd".replace("c\nd", "new;\tQA-1\t1,60\n"))
    assert run("compare", "live.csv", "sheet.csv", "-o", "changes.jsonl").returncode == 0
    assert run("write", "changes.jsonl", "--to", "out").returncode == 0
    assert (tmp_path / "out" / "update-1.csv").read_bytes().decode() == (
        '\ufeff"SKU";"Price";"Note"\r\n"QA-1";"1,60";"new;"\r\n'
    )
    assert (tmp_path / "out" / "undo-1.csv").read_bytes().decode() == (
        '\ufeff"SKU";"Price";"Note"\r\n"QA-1";"1,50";"a;""b"""\r\n'
    )


@pytest.mark.parametrize(
    "options, first, items",
    [
        (("--sort", "size"), "QA-1136", 49),
        (("--sort", "key"), "QA-1028", 49),
        (("--sort", "name"), "QA-1036", 49),
        (("--field", "stock"), "QA-1041", 9),
        (("--verdict", "new"), "QA-1501", 2),
        (("--verdict", "new", "--verdict", "gone"), "QA-1082", 14),
        (("--sku", "QA-1062"), "QA-1062", 1),
        (("--field", "price", "--sku", "QA-1062"), None, 0),
    ],
)
def test_preview_can_be_narrowed_and_ordered(run, store, options, first, items):
    run("compare", "live.csv", "sheet.csv", "-o", "changes.jsonl", "--whole")
    seen = json.loads(run("preview", "changes.jsonl", "--all", "--json", *options).stdout)
    assert len(seen["items"]) == seen["items_found"]
    assert seen["items_found"] == items
    assert [item["item"]["key"]["sku"] for item in seen["items"][:1]] == ([first] if first else [])
    assert run("preview", "changes.jsonl", *options).returncode == 0


@pytest.mark.parametrize(
    "condition, first, items",
    [
        ("price > before.price * 1.10", "QA-1029", 7),
        ("before.price > price", None, 0),
        ("after.status <> before.status", "QA-1202", 2),
        ("category = 'Honey' AND stock > 0", "QA-1083", 9),
        ("before.sku IS NULL", "QA-1501", 2),
        ("sale_price IS NULL AND before.sale_price IS NOT NULL", "QA-1051", 3),
    ],
)
def test_preview_takes_a_condition_on_before_and_after(run, store, condition, first, items):
    run("compare", "live.csv", "sheet.csv", "-o", "changes.jsonl", "--whole")
    seen = json.loads(run("preview", "changes.jsonl", "--json", "--where", condition).stdout)
    assert (seen["items_found"], [item["item"]["key"]["sku"] for item in seen["items"][:1]]) == (
        items,
        [first] if first else [],
    )
    failed = run("preview", "changes.jsonl", "--where", "prise > 1")
    assert failed.returncode == 2 and 'at "prise" (character 1)' in failed.stderr


def test_json_has_exact_figures(run, store):
    asked = ("compare", "live.csv", "sheet.csv", "--json", "-o", "changes.jsonl")
    compared = json.loads(run(*asked, "--whole").stdout)
    assert compared["header"]["counts"]["changed"] == 35
    assert [compared[name] for name in ("to_send", "held", "waiting")] == [32, 17, 20]
    assert compared["reasons"] == [
        {"reason": "emptied", "items": 0, "cells": 3, "fields": ["sale_price"]},
        {"reason": "gone", "items": 12, "cells": 0, "fields": []},
        {"reason": "new", "items": 2, "cells": 16, "fields": []},
    ]
    price = json.loads(run("preview", "changes.jsonl", "--json").stdout)["fields"][1]
    assert price == {
        "field": "price", "sent": 16, "held": 0, "number": True,
        "up": 16, "down": 0, "most_up": "7.40", "most_down": None,
    }  # fmt: skip


def test_output_fits_80_columns_and_has_no_escapes(run, put):
    wide = "x" * 150
    put("live.csv", f'sku,name,note\nQA-1,"{wide}","old {wide}\n\x1b[31mred"\nQA-2,{"蜂蜜" * 30},a\n')
    put("sheet.csv", f'sku,name,note\nQA-1,"{wide}","old {wide}\n\x1b[32mgreen"\nQA-2,蜜,b\n{wide},new,\n')
    for call in ("compare live.csv sheet.csv -o c.jsonl", "preview c.jsonl", "write c.jsonl --to o"):
        output = run(*call.split()).stdout
        assert "\x1b" not in output
        assert all(cell_len(line) <= 80 for line in output.splitlines()), output
    assert "␛[31mred → 32mgreen" in run("preview", "c.jsonl").stdout
    assert "\x1b[" in run("preview", "c.jsonl", FORCE_COLOR="1", TERM="xterm").stdout


def test_the_change_set_goes_to_standard_output_too(run, store):
    out = run("compare", "live.csv", "sheet.csv", "-o", "-")
    run("compare", "live.csv", "sheet.csv", "-o", "changes.jsonl")
    assert out.stdout == (store / "changes.jsonl").read_text()


def test_the_same_inputs_give_the_same_bytes(run, store):
    found = []
    for seed in ("1", "2"):
        run("compare", "live.csv", "sheet.csv", "-o", "changes.jsonl", "--with-new", PYTHONHASHSEED=seed)
        run("write", "changes.jsonl", "--to", seed, PYTHONHASHSEED=seed)
        found.append({file.name: file.read_bytes() for file in (store / seed).iterdir()})
        found[-1]["changes"] = (store / "changes.jsonl").read_bytes()
    assert found[0] == found[1]


CALLS = {
    "no such file": (("compare", "none.csv", "sheet.csv"), "none.csv: there is no such file"),
    "a folder": (("compare", ".", "sheet.csv"), ".: this is a folder. Name a file in it"),
    "no such change set": (("preview", "none.jsonl"), "none.jsonl: there is no such file"),
    "no change set": (("preview", "live.csv"), "live.csv: this is not a change set"),
    "no such field": (
        ("preview", "changes.jsonl", "--field", "prize"),
        'it has no field "prize". Its fields are: name,',
    ),
    "no such key": (("compare", "live.csv", "sheet.csv", "--key", "ean"), 'there is no heading "ean"'),
    "onto an input": (("compare", "live.csv", "sheet.csv", "-o", "./live.csv"), "inputs are never modified"),
    "onto another file": (("compare", "live.csv", "sheet.csv", "-o", "other.txt"), "it is no change set. Name another"),
    "onto a folder": (("compare", "live.csv", "sheet.csv", "-o", "."), "this is not a plain file"),
    "no such folder": (("compare", "live.csv", "sheet.csv", "-o", "a/b.jsonl"), "it cannot be written (No such file"),
    "json twice": (("compare", "live.csv", "sheet.csv", "-o", "-", "--json"), "both want standard output"),
    "no target": (("write", "changes.jsonl"), "Missing option '--to'"),
    "unknown choice": (
        ("compare", "live.csv", "sheet.csv", "--blanks", "x"),
        "'x' is not hold, clear or keep",
    ),
    "unknown verb": (("contrast",), 'There is no command "contrast". There are: fetch, learn,'),
}


@pytest.mark.parametrize("call, message", CALLS.values(), ids=CALLS)
def test_a_call_that_cannot_be_used_is_one_clear_error(run, store, call, message):
    run("compare", "live.csv", "sheet.csv", "-o", "changes.jsonl")
    (store / "other.txt").write_text("somebody's only copy")
    before = {file.name: file.read_bytes() for file in store.iterdir()}
    failed = run(*call)
    assert failed.returncode == 2
    assert failed.stdout == ""
    assert failed.stderr.startswith("Error: ")
    assert message in failed.stderr
    assert failed.stderr.count("\n") == 1
    assert {file.name: file.read_bytes() for file in store.iterdir()} == before


@pytest.mark.parametrize("verb", ["learn", "sheet", "match", "compare", "preview", "write", "demo"])
def test_help_ends_with_an_example(run, verb):
    text = run(verb, "--help").stdout
    assert f"neat-delta {verb} " in text.strip().splitlines()[-1]


def test_without_a_verb_there_is_help(run):
    bare, asked = run(), run("--help")
    assert (bare.returncode, bare.stderr) == (0, "")
    assert bare.stdout == asked.stdout and "Find what SHEET changes in LIVE" in bare.stdout


def test_the_library_needs_neither_click_nor_rich(store):
    code = (
        "import sys, neat_delta as nd; l, s = nd.read('live.csv'), nd.read('sheet.csv');"
        "c = nd.compare(l, s); nd.write_updates(c, l, nd.Importer('skip'), 'out'); nd.figures(c);"
        "assert not {'click', 'rich'} & set(sys.modules); print([getattr(nd, n) for n in nd.__all__] and len(c.items))"
    )
    done = subprocess.run([sys.executable, "-c", code], cwd=store, capture_output=True, text=True, check=False)
    assert (done.stdout, done.stderr) == ("37\n", "")


REMOTE = {"httpx", "fsspec", "sqlalchemy", "paramiko", "tenacity", "ftplib"}
HEAVY = REMOTE | {"numpy", "sqlglot", "matplotlib", "pyarrow", "pandas", "xlsxwriter", "jinja2"}


def test_commands_load_only_what_they_need(run, store):
    """Nothing that takes a tenth of a second for what was not asked: addresses, conditions, charts, large files."""
    run("compare", "live.csv", "sheet.csv", "-o", "changes.jsonl")
    run("write", "changes.jsonl", "--to", "out")
    calls = ("check live.csv", "compare live.csv sheet.csv -o c.jsonl", "preview c.jsonl", "confirm out sheet.csv",
             "sheet live.csv -o cut.csv")  # fmt: skip
    code = (
        "import os, sys\nfrom neat_delta.cli.main import main\nos._exit = sys.exit\n"
        f"for call in {calls}:\n"
        "    sys.argv = ['neat-delta', *call.split()]\n"
        "    try:\n        main()\n    except SystemExit as ended:\n        assert ended.code in {0, 1}, call\n"
        f"    assert not {HEAVY} & {{*sys.modules}}, (call, {HEAVY} & {{*sys.modules}})\n"
    )
    done = subprocess.run([sys.executable, "-c", code], cwd=store, capture_output=True, text=True, check=False)
    assert (done.returncode, done.stderr) == (0, "")
    assert (store / "cut.csv").exists()


def test_preview_shows_the_words_that_differ_and_what_a_list_gained_and_lost(run, put):
    text = "The hive stands dry and firm. " * 4
    put("live.csv", f'sku,text,tags\nQA-1,"{text}It is made of pine. {text}End.","gift, bulk, winter"\nQA-2,x,"a,b"\n')
    put(
        "sheet.csv",
        f'sku,text,tags\nQA-1,"{text}It is made of cedar. {text}The end.","bulk,gift,offer"\nQA-2,x,"b,a,b"\n',
    )
    put("neat-delta.toml", 'version = 1\n[key]\nfields = ["sku"]\n[fields.sku]\nkind = "code"\n[fields.text]\n'
        '[fields.tags]\nkind = "list"\nseparator = ","\nordered = true\n[checks]\nnew-value = "warn"\n')  # fmt: skip
    run("compare", "live.csv", "sheet.csv", "-o", "c.jsonl")
    shown = [" ".join(line.split()) for line in run("preview", "c.jsonl", "--all").stdout.splitlines()]
    assert "text …is made of pine → cedar. The hive …" in shown
    assert any(line.endswith("and firm. End → The end.") for line in shown)
    assert "tags + offer − winter" in shown
    assert "tags the same values in another order" in shown
    for option, items in (("--check new-value", 1), ("--check margin", 0), ("--level warn", 1), ("--level stop", 0)):
        found = json.loads(run("preview", "c.jsonl", "--json", *option.split()).stdout)
        assert found["items_found"] == items, option


def test_preview_can_be_narrowed_to_what_was_damaged_or_slipped(run, put):
    put("live.csv", "sku,price,code\nQA-1,1.50,007\nQA-2,2.50,008\nQA-3,3.50,x9\n")
    put("sheet.csv", "sku,price,code\nQA-1,15.00,007\nQA-2,2.50,8\nQA-3,3.60,x9\n")
    for repair in ((), ("--repair",)):
        run("compare", "live.csv", "sheet.csv", "-o", "c.jsonl", *repair)
        for check, items in (("damage", [] if repair else ["QA-2"]), ("slip", ["QA-1"])):
            found = json.loads(run("preview", "c.jsonl", "--json", "--check", check).stdout)
            assert [item["item"]["key"]["sku"] for item in found["items"]] == items


@pytest.mark.parametrize("order", ["key", "name", "size"])
def test_in_another_order_the_same_items_are_shown(run, store, order):
    run("compare", "live.csv", "sheet.csv", "-o", "changes.jsonl")
    asked = ("preview", "changes.jsonl", "--all", "--json", "--field", "price")
    plain, sorted_ = (json.loads(run(*asked, *more).stdout) for more in ((), ("--sort", order)))
    keys = [[item["item"]["key"]["sku"] for item in seen["items"]] for seen in (plain, sorted_)]
    assert sorted(keys[0]) == sorted(keys[1]) and 3 < len(keys[0]) == sorted_["items_found"]
    assert order != "key" or keys[1] == sorted(keys[0])


def test_the_core_names_settings_and_the_command_line_says_the_options():
    sources = {path: path.read_text() for part in ("core", "app", "files") for path in (SOURCE / part).rglob("*.py")}
    for path, source in sources.items():
        if path.is_relative_to(SOURCE / "files"):  # which say commands, too, as somebody types them
            continue
        for text in re.findall(r"""["'`][^"'`\n]*--[a-z][a-z-]+""", source):
            raise AssertionError((path, text))
    named = {name for source in sources.values() for name in re.findall("‹([a-z_]+)›", source)}
    verbs = [getattr(import_module(f"neat_delta.cli.{verb}"), verb) for verb in VERBS]
    there = {option for verb in verbs for param in verb.params for option in param.opts}
    assert named and {option_of(name) for name in named} <= there


def test_what_is_let_through_and_fits_nothing_is_said(run, put):
    """An item of which nothing was found; a code or a field that live lacks is an error."""
    put("live.csv", "sku,price\nQA-1,2.00\nQA-2,3.00\n")
    put("sheet.csv", "sku,price\nQA-1,-2.00\nQA-2,3.10\n")
    done = run("compare", "live.csv", "sheet.csv", "--accept", "negative:QA-2", "--accept", "negative:QA-1")
    assert done.returncode == 0 and "fits nothing that was found: negative:QA-2\n" in done.stdout
    done = run("compare", "live.csv", "sheet.csv", "--with-new-values", "prise")
    assert done.returncode == 2 and 'it has no field "prise". Did you mean "price"?' in done.stderr
