"""Which store a round is of: the store's name goes from its file through the change set into the folder, what is of one
store is never done by the file of another, and what was known is known without the file.
"""

from __future__ import annotations

import json

import pytest

import neat_delta
from neat_delta import Importer, Key, Store, StoreError, StoreName, as_catalogue

LIVE = "sku,price,stock\nQA-1,9.90,5\nQA-2,20.00,7\n"
SHEET = "sku,price,stock\nQA-1,10.50,8\nQA-2,20.00,7\n"


def store_file(name: str | None, importer: str = 'blanks = "skip"') -> str:
    named = "" if name is None else f'[store]\nname = "{name}"\n'
    return f'version = 1\n{named}[key]\nfields = ["sku"]\n[importer]\n{importer}\n[fields.price]\nkind = "money"\n'


@pytest.fixture
def folder(put, tmp_path):
    put("live.csv", LIVE)
    put("sheet.csv", SHEET)
    put("neat-delta.toml", store_file("Quillfern Apiary Supply"))
    put("other.toml", store_file("Quillfern Outlet", 'blanks = "clear"'))
    put("unnamed.toml", store_file(None))
    return tmp_path


def test_the_name_is_said_and_goes_along(run, folder):
    compared = run("compare", "live.csv", "sheet.csv", "-o", "c.jsonl")
    assert "store  Quillfern Apiary Supply (neat-delta.toml)\n" in compared.stdout
    assert "store  Quillfern Apiary Supply (neat-delta.toml)\n" in run("match", "live.csv", "sheet.csv").stdout
    assert "store  unnamed.toml\n" in run("match", "live.csv", "sheet.csv", "--store", "unnamed.toml").stdout
    assert neat_delta.read_changes(str(folder / "c.jsonl")).header.store.name == "Quillfern Apiary Supply"
    assert run("write", "c.jsonl", "--to", "out").returncode == 0
    assert (folder / "out" / "READ-ME-FIRST.txt").read_text().startswith("READ ME FIRST: for Quillfern Apiary Supply\n")
    assert json.loads((folder / "out" / "manifest.json").read_text())["shop"] == "Quillfern Apiary Supply"


def test_nothing_is_done_by_the_file_of_another_store(run, put, folder):
    """Not by one that is named, nor by one that stands beside the catalogue by now."""
    run("compare", "live.csv", "sheet.csv", "-o", "c.jsonl")
    assert run("write", "c.jsonl", "--to", "out").returncode == 0
    put("export.csv", SHEET)
    (folder / "live.csv").touch()  # exported once more, and nothing landed
    before = sorted(one.name for one in folder.iterdir())
    steps: tuple[tuple[str, ...], ...] = (
        ("write", "c.jsonl", "--to", "no"),
        ("confirm", "c.jsonl", "export.csv", "--files", "out"),
        ("confirm", "c.jsonl", "live.csv", "--files", "out", "--retry", "no"),
        ("practice", "live.csv", "--import", "out"),
        ("undo", "c.jsonl", "--files", "out", "--to", "no"),
        ("undo", "c.jsonl", "--files", "out", "--now", "export.csv", "--to", "no"),
    )
    for named in (("--store", "other.toml"), ()):
        if not named:
            put("neat-delta.toml", (folder / "other.toml").read_bytes())
        for step in steps:
            done = run(*step, *named)
            assert (done.returncode, done.stdout) == (2, ""), step
            assert done.stderr.startswith(
                'Error: This round is of the store "Quillfern Apiary Supply", and the store file describes '
                '"Quillfern Outlet". Name that store\'s own file with --store.'
            ), step
            assert sorted(one.name for one in folder.iterdir()) == before
    for number, step in enumerate(steps):  # one without a name is nobody else's
        again = [f"yes-{number}" if word == "no" else word for word in step]
        assert run(*again, "--store", "unnamed.toml").returncode in {0, 1}, step


def test_the_library_refuses_it_too(tmp_path):
    live, sheet = (as_catalogue({"sku": ["QA-1"], "price": [text]}, name) for text, name in (("9", "a"), ("8", "b")))
    one, other = (Store(store=StoreName(name), key=Key(["sku"])) for name in ("Quillfern", "Outlet"))
    changes = neat_delta.compare(live, sheet, store=one)
    confirmed = neat_delta.confirm_changes(changes, live, live, one)
    for call in (
        lambda: neat_delta.write(changes, live, Importer("skip"), str(tmp_path / "out"), store=other),
        lambda: neat_delta.confirm_changes(changes, live, sheet, other),
        lambda: neat_delta.retry(changes, live, confirmed, other),
        lambda: neat_delta.undo(changes, live, store=other),
        lambda: neat_delta.mend(changes, live, {}, "delimited", store=other),
    ):
        with pytest.raises(StoreError, match='of the store "Quillfern", and the store file describes "Outlet"'):
            call()
    assert list(tmp_path.iterdir()) == []


@pytest.mark.parametrize("name", ["", "  ", "Quillfern\\nImport all of it", "Quill\\u001b[31mfern"])
def test_a_name_is_one_line_that_can_be_read(run, put, folder, name):
    put("neat-delta.toml", store_file(name))
    done = run("compare", "live.csv", "sheet.csv")
    assert done.returncode == 2 and "neat-delta.toml, line 3, store.name: it must be one line" in done.stderr


def test_what_the_file_said_is_known_without_it(run, put, folder):
    """How the store reports, what it rounds, how it takes stock: from the change set, where no file stands any more."""
    more = '[results]\nkey = ["code"]\nstatus = "state"\ndone = ["ok"]\nrefused = ["no"]\n'
    text = store_file("Quillfern Apiary Supply", 'blanks = "skip"\nadjusted = ["stock"]')
    put("neat-delta.toml", text + more + '[fields.stock]\nkind = "integer"\n')
    run("compare", "live.csv", "sheet.csv", "-o", "c.jsonl")
    assert run("write", "c.jsonl", "--to", "out").returncode == 0
    put("report.csv", "code,state\nQA-1,ok\n")
    put("export.csv", SHEET)
    (folder / "store").mkdir()
    said = [run("confirm", "c.jsonl", *how, "--json").stdout for how in (("--results", "report.csv"), ("export.csv",))]
    (folder / "neat-delta.toml").rename(folder / "store" / "kept.toml")
    alone = [run("confirm", "c.jsonl", *how, "--json").stdout for how in (("--results", "report.csv"), ("export.csv",))]
    for one, other in zip(said, alone, strict=True):
        with_file, without = json.loads(one), json.loads(other)
        assert with_file.pop("store") != without.pop("store")
        assert with_file == without
