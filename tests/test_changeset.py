"""The change set's file: as documented, and refused when it is not what `compare` wrote."""

from __future__ import annotations

import importlib
import json
import os
import pkgutil
import re
from dataclasses import replace
from pathlib import Path

import msgspec
import polars as pl
import pytest

import neat_delta
from neat_delta import ChangeSetError, CheckFinding, Damaged, Header, Item
from neat_delta.core.base import model
from neat_delta.files.whole import digest_of
from tests.conftest import each_of, in_this_process

DOCUMENT = Path(__file__).parents[1] / "docs" / "formats" / "change-set.md"


@pytest.fixture
def lines(store, monkeypatch) -> list[str]:
    """The lines of the demo store's change set, which stands in changes.jsonl, but for the seal."""
    monkeypatch.chdir(store)
    live, sheet = neat_delta.read("live.csv"), neat_delta.read("sheet.csv")
    cost = pl.when(sku="QA-1300").then(pl.lit("#N/A")).otherwise("cost").alias("cost")
    sheet = replace(sheet, table=sheet.cells.with_columns(cost))
    neat_delta.write_changes(neat_delta.compare(live, sheet, whole=True), "changes.jsonl")
    return Path("changes.jsonl").read_text().splitlines()[:-1]


def sealed(lines: list[str]) -> str:
    """The text of a change set of these lines, as somebody who knows its form would seal it."""
    text = "\n".join(lines) + "\n"
    return text + json.dumps({"blake3": digest_of(text.encode())}, separators=(",", ":")) + "\n"


def test_it_has_the_keys_that_the_document_names(lines):
    header, *items = (json.loads(line) for line in lines)
    flag = items.pop()
    damaged = next(item for item in items if "damage" in item)
    text = DOCUMENT.read_text()
    parts = (header, header["counts"], header["live"], header["set_aside"][0], items[0], items[0]["row"], damaged, flag)
    for name in {name for part in parts for name in part}:
        assert f"`{name}`" in text
    assert list(items[0]) == ["key", "verdict", "cells", "held", "row"]
    assert list(header)[:7] == ["format", "version", "store", "fields", "live", "sheet", "counts"]


def test_the_example_in_the_document_is_valid():
    example = re.search(r"```json\n(.*?)```", DOCUMENT.read_text(), re.DOTALL)
    assert example
    header, *items, seal = example[1].strip().splitlines()
    assert re.fullmatch(r'\{"blake3":"[0-9a-f]{64}"\}', seal)
    msgspec.json.decode(header, type=Header)
    msgspec.json.decode(items.pop(), type=CheckFinding)
    msgspec.json.decode(items.pop(), type=Damaged)
    for item in items:
        msgspec.json.decode(item, type=Item)


def spoil(lines: list[str], number: int, old: str, new: str) -> list[str]:
    assert old in lines[number]
    return [line.replace(old, new, 1) if n == number else line for n, line in enumerate(lines)]


SPOILED = {
    "cut short between lines": (lambda ls: ls[:-3], "has 47 items where its header counts 50"),
    "another version": (
        lambda ls: spoil(ls, 0, '"version":2', '"version":3'),
        "it is of version 3, and this Neat Delta",
    ),
    "another format": (lambda ls: ["{}", *ls[1:]], "this is not a change set"),
    "no JSON": (lambda ls: [*ls[:3], ls[3][:-9], *ls[4:]], "line 4:"),
    "unknown key": (lambda ls: spoil(ls, 2, '"held"', '"hold"'), 'line 3: "hold" is nothing that stands there'),
    "wrong verdict": (
        lambda ls: spoil(ls, 1, '"changed"', '"altered"'),
        'line 2: "altered" is none of the words for it (verdict)',
    ),
    "verdict and rows": (lambda ls: spoil(ls, 1, '"changed"', '"gone"'), "line 2: its rows do not fit its verdict"),
    "unknown field": (
        lambda ls: spoil(ls, 1, '"price"', '"prize"'),
        "line 2: it has a field that line 1 does not name",
    ),
    "no change": (lambda ls: spoil(ls, 1, '"45.90"', '"41.90"'), "line 2: a cell says no change"),
    "swapped lines": (
        lambda ls: [ls[0], ls[2], ls[1], *ls[3:]],
        "line 3: the items are not in the order of their rows",
    ),
    "counts": (lambda ls: spoil(ls, 0, '"held_cells":20', '"held_cells":19'), "counts 19 held cells, and there are 20"),
    "held": (
        lambda ls: spoil(ls, 1, '"held":[]', '"held":[{"field":"stock","reason":"mine"}]'),
        "what is held is not in",
    ),
    "damaged elsewhere": (
        lambda ls: spoil(ls, 51, '"field":"cost"', '"field":"costs"'),
        "a damaged cell has a key or a field that line 1 does not name",
    ),
    "damaged in no way": (
        lambda ls: spoil(ls, 51, '"done":"held"', '"done":"mended"'),
        'line 52: "mended" is none of the words for it',
    ),
    "found elsewhere": (
        lambda ls: spoil(ls, 52, '"field":"tags"', '"field":"tag"'),
        "a finding has a key or a field that line 1 does not name",
    ),
    "same item twice": (lambda ls: spoil(ls, 2, "QA-1029", "QA-1028"), "an item stands in it twice"),
}


@pytest.mark.parametrize("edit, message", each_of(2, SPOILED.values()), ids=SPOILED)
def test_a_change_set_that_was_spoiled_is_refused(lines, edit, message):
    Path("changes.jsonl").write_text(sealed(edit(lines)))
    with pytest.raises(ChangeSetError) as error:
        neat_delta.read_changes("changes.jsonl")
    assert message in str(error.value)
    assert "Make it again with `neat-delta compare`." in str(error.value)


EDITED = {
    "another price": lambda ls: spoil(ls, 1, '"45.90"', '"5.90"'),
    "held no more, nor counted": lambda ls: spoil(
        [re.sub(r'"held":\[\{.*?\}\]', '"held":[]', line) for line in ls], 0, '"held_cells":20', '"held_cells":0'
    ),
    "another decimal mark": lambda ls: spoil(ls, 0, '"decimal_mark":"."', '"decimal_mark":","'),
    "another live": lambda ls: spoil(ls, 0, '"path":"live.csv"', '"path":"sheet.csv"'),
}


@pytest.mark.parametrize("edit", EDITED.values(), ids=EDITED)
def test_a_change_set_edited_by_hand_is_refused_by_every_command(lines, run, edit):
    seal = Path("changes.jsonl").read_text().splitlines()[-1]
    Path("changes.jsonl").write_text("\n".join([*edit(lines), seal]) + "\n")
    for call in ("write {} --to out", "confirm {} live.csv", "undo {} --to out", "preview {}"):
        failed = run(*call.format("changes.jsonl").split())
        assert (
            failed.returncode == 2 and "its seal is broken: it is not as `neat-delta compare` wrote it" in failed.stderr
        )
    assert not Path("out").exists()
    Path("changes.jsonl").write_text("\n".join(lines) + "\n")
    assert "does not end with its seal" in run("write", "changes.jsonl", "--to", "out").stderr


def test_a_manifest_edited_by_hand_is_refused(lines, run):
    assert run("write", "changes.jsonl", "--to", "out").returncode == 1
    manifest = Path("out/manifest.json")
    whole = manifest.read_text()
    held = json.loads(whole)["not_sent"]
    assert run("confirm", "changes.jsonl", "live.csv", "--files", "out").returncode == 1
    manifest.write_text(json.dumps(json.loads(whole) | {"not_sent": held[1:]}))
    for call in ("confirm changes.jsonl live.csv --files out", "undo changes.jsonl --to back --files out"):
        failed = run(*call.split())
        assert failed.returncode == 2 and "manifest.json: its seal is broken" in failed.stderr
    manifest.write_text(json.dumps(json.loads(whole)))  # written otherwise, but saying the same
    assert run("confirm", "changes.jsonl", "live.csv", "--files", "out").returncode == 1


@pytest.mark.parametrize("live", ["/dev/zero", "/dev/stdin", ".", "gone.csv"])
def test_a_change_set_names_no_other_live_than_a_file(lines, run, live):
    Path("changes.jsonl").write_text(sealed([lines[0].replace('"path":"live.csv"', f'"path":"{live}"', 1), *lines[1:]]))
    failed = run("write", "changes.jsonl", "--to", "out")
    there = "is not there" if live == "gone.csv" else "is no regular file"
    assert (failed.returncode, failed.stderr) == (
        2, f"Error: changes.jsonl: {live}, its live catalogue, {there}. Say with --live in which file it is.\n"
    )  # fmt: skip
    assert run("write", "changes.jsonl", "--to", "out", "--live", "live.csv").returncode == 1


def test_live_outside_of_the_working_folder_is_said(lines, run, tmp_path):
    (tmp_path / "elsewhere").mkdir()
    away = str(tmp_path / "elsewhere" / "live.csv")
    Path(away).write_bytes(Path("live.csv").read_bytes())
    assert "live is" not in run("write", "changes.jsonl", "--to", "out").stdout
    Path("changes.jsonl").write_text(sealed([lines[0].replace('"path":"live.csv"', f'"path":"{away}"'), *lines[1:]]))
    (tmp_path / "work").mkdir()
    os.chdir(tmp_path / "work")
    for call in (
        "write ../changes.jsonl --to out",
        f"confirm ../changes.jsonl {away}",
        "undo ../changes.jsonl --to back",
    ):
        done = in_this_process(tmp_path / "work", *call.split())
        assert f"live is {away}, as ../changes.jsonl says" in done.stdout


def test_a_change_set_cut_short_within_a_line_is_refused(lines):
    content = Path("changes.jsonl").read_bytes()
    for end in (len(content) - 1, len(content) - 40, 200, 1):
        Path("changes.jsonl").write_bytes(content[:end])
        with pytest.raises(ChangeSetError):
            neat_delta.read_changes("changes.jsonl")


@pytest.mark.parametrize(
    "old, new, message",
    [
        ("41.90", "41.00", '"price" before the change is not what stands'),
        ("QA-1028", "QA-9999", "its key is not what stands"),
    ],
)
def test_a_change_set_that_contradicts_live_is_refused(lines, old, new, message):
    Path("changes.jsonl").write_text(sealed(spoil(lines, 1, old, new)))
    with pytest.raises(ChangeSetError, match=message):
        neat_delta.read_live(neat_delta.read_changes("changes.jsonl"), "changes.jsonl")


def test_live_must_still_be_the_same_file(lines):
    changes = neat_delta.read_changes("changes.jsonl")
    Path("live.csv").write_text(Path("live.csv").read_text().replace("149.90", "149.91", 1))
    with pytest.raises(ChangeSetError, match="it has changed since"):
        neat_delta.read_live(changes, "changes.jsonl")


def test_live_is_found_beside_the_change_set(lines, tmp_path, monkeypatch):
    (tmp_path / "elsewhere").mkdir()
    monkeypatch.chdir(tmp_path / "elsewhere")
    changes = neat_delta.read_changes("../changes.jsonl")
    assert neat_delta.read_live(changes, "../changes.jsonl").cells.height == 418


def test_each_file_says_the_version_that_its_page_says(run, store):
    """Files of another version are refused: to change one is a decision, not a slip."""
    assert run("compare", "live.csv", "sheet.csv", "-o", "c.jsonl").returncode == 1
    assert run("write", "c.jsonl", "--to", "out").returncode in {0, 1}
    assert run("sheet", "live.csv", "-o", "wax.csv").returncode == 0
    pages = Path(__file__).parents[1] / "docs" / "formats"
    for page, said in (
        ("change-set", json.loads((store / "c.jsonl").read_text().splitlines()[0])),
        ("updates", json.loads((store / "out" / "manifest.json").read_text())),
        ("base", json.loads(next(store.glob("wax.csv.base")).read_bytes().splitlines()[0])),
    ):
        row = next(
            line
            for line in (pages / f"{page}.md").read_text().splitlines()
            if line.startswith("| ") and "`version`" in line
        )
        assert str(said["version"]) in re.findall(r"`([0-9]+)`", row), page


def structs() -> list[type[msgspec.Struct]]:
    modules = [importlib.import_module(one.name) for one in pkgutil.iter_modules(model.__path__, f"{model.__name__}.")]
    every = {one: module for module in modules for one in vars(module).values() if isinstance(one, type)}
    return [one for one in every if issubclass(one, msgspec.Struct) and one.__module__.startswith(model.__name__)]


@pytest.mark.parametrize("struct", structs())
def test_what_is_kept_in_files_has_no_name_that_is_not_known(struct):
    """But for the ledger's, which a later version may have added to, and is read all the same."""
    of_a_ledger = struct.__module__.rpartition(".")[2] in {"history", "rounds"}
    assert struct.__struct_config__.frozen
    assert struct.__struct_config__.forbid_unknown_fields or of_a_ledger
