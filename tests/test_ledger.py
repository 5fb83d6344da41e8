"""The ledger: what commands note in it, what is found there again, and that nothing of it is ever lost."""

from __future__ import annotations

import json
import shutil
import sqlite3
import threading
from pathlib import Path

import pytest
from hypothesis import strategies as st

import neat_delta
from neat_delta.app.ledger import changes_in, live_in, note_comparison, note_undone, note_written, sent_in
from neat_delta.core.base.model.manifest import Turn
from neat_delta.core.base.model.rounds import RoundStep
from neat_delta.core.base.model.store import Key
from neat_delta.core.outcomes.retry import not_taken_back
from neat_delta.files.ledger.index import INDEX
from neat_delta.files.ledger.ledger import Keep, Ledger
from neat_delta.files.ledger.places import ledger_at
from neat_delta.files.manifest import read_manifest
from tests.conftest import in_two_lengths
from tests.test_rounds import FIELDS, ROWS, STORE, as_csv, changed, edit, imported, shop

__all__ = ["shop"]

KEEPS = '[ledger]\nfolder = "rounds"\n'


@pytest.fixture
def kept(shop: Path) -> Path:
    """The same folder, with a store file that keeps rounds."""
    (shop / "neat-delta.toml").write_text(STORE + KEEPS)
    (shop / "weekly.toml").unlink()
    return shop


def files_of(folder: Path) -> dict[str, str]:
    """The update files of a folder."""
    return {path.name: path.read_text() for path in sorted(folder.glob("update-*.csv"))}


def a_round(kept: Path, run, rows: list[list[str]], number: int, **cells: str) -> list[list[str]]:
    """A whole round by hand; the store's rows after it."""
    (kept / "live.csv").write_text(as_csv(rows))
    (kept / "sheet.csv").write_text(as_csv(changed(rows, **cells)))
    name = f"round-{number}"
    assert run("compare", "live.csv", "sheet.csv", "-o", f"{name}.jsonl").returncode == 0
    assert run("write", f"{name}.jsonl", "--to", name).returncode == 0
    after = imported(rows, files_of(kept / name))
    (kept / f"after-{number}.csv").write_text(as_csv(after))
    assert run("confirm", f"{name}.jsonl", f"after-{number}.csv", "--files", name).returncode == 0
    return after


def test_commands_join_the_ledger_that_the_store_file_names(kept, run):
    rows = a_round(kept, run, ROWS, 1, QA_3_price="13.50", QA_4_stock="7")
    rows = a_round(kept, run, rows, 2, QA_3_price="14.50")
    facts = json.loads(run("history", "--json").stdout)["rounds"]
    assert [(one["number"], one["state"], one["sent"], one["landed"]) for one in facts] == [
        (1, "done", 2, 2), (2, "done", 1, 1),
    ]  # fmt: skip
    item = json.loads(run("history", "--sku", "QA-3", "--json").stdout)["cells"]
    assert [(one["round"], one["before"], one["after"], one["state"]) for one in item] == [
        (1, "12.90", "13.50", "landed"), (2, "13.50", "14.50", "landed"),
    ]  # fmt: skip
    assert "12.90   13.50  sheet.csv  landed" in run("history", "--field", "price").stdout
    assert run("history", "--field", "prise").returncode == 2
    assert "Did you mean" in run("history", "--field", "prise").stderr
    assert run("history", "--sku", "QA-99").returncode == 2


def test_without_a_ledger_nothing_is_kept(shop, run):
    (shop / "weekly.toml").unlink()
    a_round(shop, run, ROWS, 1, QA_3_price="13.50")
    assert not (shop / "rounds").exists()
    without = run("history")
    assert (without.returncode, "Which ledger?" in without.stderr) == (2, True)
    assert run("compare", "live.csv", "sheet.csv", "-o", "round-9.jsonl", "--ledger", "kept").returncode == 0
    assert "1 comparison of which nothing was written" in run("history", "--ledger", "kept").stdout
    assert "nothing written" in run("history", "--ledger", "kept", "--all").stdout


def test_what_goes_back_is_said_when_it_is_compared(kept, run):
    rows = a_round(kept, run, ROWS, 1, QA_3_price="13.50", QA_4_price="14.50")
    (kept / "live.csv").write_text(as_csv(rows))
    (kept / "sheet.csv").write_text(as_csv(changed(rows, QA_3_price="12.90", QA_4_price="14.00")))
    compared = run("compare", "live.csv", "sheet.csv", "-o", "back.jsonl")
    day = json.loads(run("history", "--json").stdout)["rounds"][0]["at"][:10]
    assert f"QA-3, price: round 1 ({day}) changed this from 12.90 to 13.50" in compared.stdout
    assert "QA-4, price" not in compared.stdout
    facts = json.loads(run("compare", "live.csv", "sheet.csv", "--json").stdout)
    assert [(one["key"], one["round"], one["before"]) for one in facts["goes_back"]] == [(["QA-3"], 1, "12.90")]
    explained = run("preview", "back.jsonl", "--explain", "QA-3")
    assert f"round 1 ({day}): price 12.90 → 13.50, landed" in explained.stdout


def test_undo_of_a_round_names_what_later_rounds_set(kept, run):
    rows = a_round(kept, run, ROWS, 1, QA_3_price="13.50", QA_4_stock="7", QA_5_cost="5.00")
    rows = a_round(kept, run, rows, 2, QA_3_price="14.50")
    now = changed(rows, QA_5_cost="6.00")  # by somebody else
    (kept / "today.csv").write_text(as_csv(now))
    (kept / "live.csv").unlink()  # what the round was compared with is in the ledger
    back = run("undo", "--round", "1", "--now", "today.csv", "--to", "back")
    assert back.returncode == 1, back.stderr
    assert "QA-3, price: round 2 (" in back.stdout
    assert "set 14.50" in back.stdout
    assert imported(now, files_of(kept / "back")) == changed(now, QA_4_stock="4")
    facts = json.loads(run("history", "--json").stdout)["rounds"][0]
    assert facts["undone"] == 1
    states = {one["key"][0]: one["undone"] for one in json.loads(run("history", "1", "--json").stdout)["cells"]}
    assert states == {"QA-3": False, "QA-4": True, "QA-5": False}
    assert run("undo", "--round", "7", "--to", "other").returncode == 2
    assert run("undo", "--to", "other").returncode == 2


def test_a_round_that_was_given_up_before_it_went_anywhere_is_not_taken_back(kept, run):
    rows = a_round(kept, run, ROWS, 1, QA_3_price="13.50")
    for name, texts in (("live.csv", rows), ("today.csv", changed(rows, QA_4_stock="7"))):
        (kept / name).write_text(as_csv(texts))
    (kept / "sheet.csv").write_text(as_csv(changed(rows, QA_4_stock="9")))
    assert run("compare", "live.csv", "sheet.csv", "-o", "second.jsonl").returncode == 0
    assert run("write", "second.jsonl", "--to", "second").returncode == 0
    second = Ledger(kept / "rounds").round(2)
    second.note(RoundStep("", "closed", why=["last year's list"]))
    assert run("undo", "--round", "last", "--now", "today.csv", "--to", "back").returncode == 0
    assert files_of(kept / "back") == {"update-1.csv": "sku,price\nQA-3,12.90\n"}
    refused = run("undo", "--round", "2", "--to", "other")
    assert (refused.returncode, "was given up before its files went anywhere" in refused.stderr) == (2, True)
    assert run("undo", "--round", "2", "--now", "today.csv", "--to", "other").returncode == 1  # nothing stands so
    assert files_of(kept / "other") == {}
    states = {one["state"] for one in json.loads(run("history", "2", "--json").stdout)["cells"]}
    assert states == {"given up"}


def test_a_round_that_was_given_up_while_it_was_delivered_perhaps_arrived(kept, run):
    a_round(kept, run, ROWS, 1, QA_3_price="13.50")
    round_ = Ledger(kept / "rounds").round(1)
    round_.note(RoundStep("", "delivering", to="polled"))
    round_.note(RoundStep("", "closed", why=["the server does not answer"]))
    facts = json.loads(run("history", "--json").stdout)["rounds"][0]
    assert (facts["state"], facts["sent"]) == ("closed", 1)
    assert run("undo", "--round", "last", "--now", "after-1.csv", "--to", "back").returncode == 0
    assert files_of(kept / "back") == {"update-1.csv": "sku,price\nQA-3,12.90\n"}


def test_a_round_that_landed_and_was_given_up_then_is_taken_back_all_the_same(kept, run):
    a_round(kept, run, ROWS, 1, QA_3_price="13.50")
    Ledger(kept / "rounds").round(1).note(RoundStep("", "closed", why=["that is all"]))
    assert run("undo", "--round", "last", "--to", "back").returncode == 0
    assert files_of(kept / "back") == {"update-1.csv": "sku,price\nQA-3,12.90\n"}


def test_what_is_not_kept_any_more_is_said(kept, run):
    edit(kept, "neat-delta.toml", ('folder = "rounds"', 'folder = "rounds"\nkeep = 1'))
    rows = a_round(kept, run, ROWS, 1, QA_3_price="13.50")
    rows = a_round(kept, run, rows, 2, QA_3_price="14.50")
    a_round(kept, run, rows, 3, QA_3_price="15.50")
    gone = run("undo", "--round", "1", "--to", "back")
    assert (gone.returncode, "is not kept any more as it was then" in gone.stderr) == (2, True)
    (kept / "first.csv").write_text(as_csv(ROWS))
    assert run("undo", "--round", "1", "--live", "first.csv", "--to", "back").returncode == 0
    assert run("undo", "--round", "3", "--to", "back-3").returncode == 0


def test_write_replaces_no_undo_that_the_ledger_has_not(kept, run):
    (kept / "neat-delta.toml").write_text(STORE)
    run("compare", "live.csv", "sheet.csv", "-o", "changes.jsonl")
    assert run("write", "changes.jsonl", "--to", "out").returncode == 0
    (kept / "sheet.csv").write_text(as_csv(changed(ROWS, QA_9_price="14.00")))
    run("compare", "live.csv", "sheet.csv", "-o", "other.jsonl")
    refused = run("write", "other.jsonl", "--to", "out", "--replace", "--ledger", "kept")
    assert (refused.returncode, "has no copy of its undo files" in refused.stderr) == (2, True)
    assert run("write", "changes.jsonl", "--to", "again", "--ledger", "kept").returncode == 0
    assert run("write", "other.jsonl", "--to", "again", "--replace", "--ledger", "kept").returncode == 0
    assert [path.name for path in sorted((kept / "kept" / "0001-1").parent.glob("*/out/undo-1.csv"))] == [
        "undo-1.csv"
    ] * 2


def test_an_item_is_known_under_each_code_that_it_had(kept, run):
    edit(
        kept,
        "neat-delta.toml",
        ('blanks = "skip"', 'blanks = "skip"\n[importer.code_change]\nhow = "row"\nheading = "new_sku"'),
    )
    rows = a_round(kept, run, ROWS, 1, QA_3_price="13.50")
    (kept / "live.csv").write_text(as_csv(rows))
    (kept / "codes.csv").write_text("sku,new code\nQA-3,QA-333\n")
    assert run("recode", "live.csv", "codes.csv", "-o", "codes.jsonl").returncode == 0
    assert run("write", "codes.jsonl", "--to", "codes").returncode == 0
    for row in rows:
        row[0] = row[0].replace("QA-3", "QA-333") if row[0] == "QA-3" else row[0]
    a_round(kept, run, rows, 3, QA_333_price="15.50")
    for code in ("QA-3", "QA-333"):
        cells = json.loads(run("history", "--sku", code, "--json").stdout)["cells"]
        assert [(one["round"], one["field"], one["after"]) for one in cells] == [
            (1, "price", "13.50"), (2, "sku", "QA-333"), (3, "price", "15.50"),
        ]  # fmt: skip


def facts_of(ledger: Ledger) -> list[object]:
    """All that the index says."""
    with ledger.index() as index:
        rounds = index.rounds()
        return [rounds, [index.of_round(one.number) for one in rounds], index.broken()]


def test_losing_the_index_loses_nothing(kept, run):
    rows = a_round(kept, run, ROWS, 1, QA_3_price="13.50")
    a_round(kept, run, rows, 2, QA_4_price="14.50")
    ledger = ledger_at(str(kept / "rounds"))
    before = facts_of(ledger)
    path = kept / "rounds" / INDEX
    path.unlink()
    assert facts_of(ledger) == before
    assert run("history", "--rebuild").returncode == 0
    path.write_bytes(b"no database at all, and long enough for one to be told from an empty file" * 99)
    assert facts_of(ledger) == before
    content = bytearray(path.read_bytes())
    content[5000:9000] = bytes(4000)  # a broken page, and it was not closed well
    path.write_bytes(content)
    assert run("history", "--rebuild").returncode == 0
    assert facts_of(ledger) == before
    with sqlite3.connect(path) as connection:
        connection.execute("INSERT INTO at_work VALUES (1)")
    connection.close()
    assert facts_of(ledger) == before
    with sqlite3.connect(path) as connection:
        connection.execute("PRAGMA user_version = 99")
    connection.close()
    later = run("history")
    assert (later.returncode, "it was made by a later Neat Delta" in later.stderr) == (2, True)
    # Another command does its work all the same.
    compared = run("compare", "live.csv", "sheet.csv", "-o", "other.jsonl")
    assert compared.returncode in {0, 1}
    assert "Not in the ledger: " in compared.stderr
    assert (kept / "other.jsonl").exists()
    undone = run("undo", "round-2.jsonl", "--files", "round-2", "--to", "back")
    assert (undone.returncode, "Not in the ledger: " in undone.stderr) == (0, True)


def test_a_line_that_was_cut_off_says_nothing(kept, run):
    a_round(kept, run, ROWS, 1, QA_3_price="13.50")
    ledger = ledger_at(str(kept / "rounds"))
    before = facts_of(ledger)
    steps = next((kept / "rounds").glob("0001-*/steps.jsonl"))
    with steps.open("ab") as file:
        file.write(b'{"at":"2026-09-07T0')
    assert facts_of(ledger)[0] == before[0]
    steps.write_bytes(b"nonsense\n" + steps.read_bytes())
    said = run("history")
    assert (said.returncode, "it is not as Neat Delta wrote it" in said.stderr) == (1, True)


def test_a_ledger_in_a_folder_that_may_only_be_read_is_read(kept, run, monkeypatch):
    a_round(kept, run, ROWS, 1, QA_3_price="13.50")
    ledger = ledger_at(str(kept / "rounds"))
    before = facts_of(ledger)
    for name in (INDEX, f"{INDEX}-wal", f"{INDEX}-shm"):
        (kept / "rounds" / name).unlink(missing_ok=True)
    connect = sqlite3.connect

    def denied(path, **named):
        if str(path).endswith(INDEX):
            raise sqlite3.OperationalError("unable to open database file")
        return connect(path, **named)

    monkeypatch.setattr(sqlite3, "connect", denied)
    assert facts_of(ledger) == before
    assert not (kept / "rounds" / INDEX).exists()


def test_a_command_is_done_where_the_ledger_cannot_be_written(kept, run):
    (kept / "rounds").write_text("a file")
    compared = run("compare", "live.csv", "sheet.csv", "-o", "changes.jsonl")
    assert compared.returncode == 0
    assert compared.stderr.startswith("Not in the ledger: ")
    assert len(compared.stderr.splitlines()) == 1
    assert neat_delta.read_changes(str(kept / "changes.jsonl")).header.counts.changed == 2


def test_rounds_that_begin_at_once_have_numbers_of_their_own(kept):
    ledger, numbers = ledger_at(str(kept / "rounds")), list[int]()

    def begin() -> None:
        for _ in range(5):
            numbers.append(ledger.begin("compare").number)
            with ledger.index() as index:
                index.rounds()

    threads = [threading.Thread(target=begin) for _ in range(4)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert sorted(numbers) == list(range(1, 21))
    assert [one.number for one in facts_of(ledger)[0]] == list(range(1, 21))  # type: ignore[attr-defined]


def test_what_waits_is_kept_however_old_it_is(tmp_path):
    ledger = Ledger(tmp_path / "rounds", Keep(1))
    for state in ("waits", "closed", "failed"):
        folder = ledger.begin("weekly")
        folder.keep_bytes("live", "live.csv", b"sku\nQA-1\n")
        folder.note(RoundStep("", state, why=["…"]))
    assert ledger.drop_old() == [2]
    assert [(folder.path / "inputs").is_dir() for folder in ledger.rounds()] == [True, False, True]


CELLS = st.dictionaries(
    st.tuples(st.integers(0, 5), st.sampled_from(["price", "stock"])),
    st.integers(1, 6).map(str),
    min_size=1,
    max_size=4,
)
"""Cells of six items, by item and field, with few values, so that a cell often comes back to one that it had."""

MOVES = st.one_of(
    st.tuples(st.just("round"), CELLS),
    st.tuples(st.just("store"), CELLS),
    st.tuples(st.just("undo"), st.integers(0, 9)),
)


class History:
    """A store whose rounds are kept, and a model that knows what each of them set."""

    def __init__(self, place: Path) -> None:
        self.place, self.ledger = place, ledger_at(str(place / "rounds"))
        self.rows = [[f"QA-{number}", f"Jar {number}", "1", "1", "1"] for number in range(6)]
        self.store = neat_delta.Store(
            key=Key(["sku"]), importer=neat_delta.Importer("skip"),
            fields={name: neat_delta.Field("integer") for name in ("price", "stock")},
        )  # fmt: skip
        self.set: list[dict[tuple[int, str], tuple[str, str]]] = []
        self.own: list[tuple[int, dict[tuple[int, str], str]]] = []
        self.written: list[Path] = []

    def path(self, name: str, rows: list[list[str]]) -> str:
        (self.place / name).write_text(as_csv(rows))
        return str(self.place / name)

    def cell(self, at: tuple[int, str]) -> str:
        return self.rows[at[0]][FIELDS.index(at[1])]

    def with_cells(self, cells: dict[tuple[int, str], str]) -> list[list[str]]:
        rows = [list(row) for row in self.rows]
        for (item, field), text in cells.items():
            rows[item][FIELDS.index(field)] = text
        return rows

    def round(self, cells: dict[tuple[int, str], str]) -> None:
        """Somebody edits cells, and all of it lands."""
        real = {at: text for at, text in cells.items() if self.cell(at) != text}
        if not real:
            return
        number = len(self.set) + 1
        live, sheet = self.path("live.csv", self.rows), self.path(f"sheet-{number}.csv", self.with_cells(real))
        path = str(self.place / f"{number}.jsonl")
        neat_delta.compare(live, sheet, store=self.store, accept="large-round").save(path)
        changes = neat_delta.read_changes(path)
        out = self.place / f"out-{number}"
        catalogue = neat_delta.read_live(changes, path)
        manifest = neat_delta.write(changes, catalogue, self.store.importer, str(out), store=self.store)
        kept = note_comparison(self.ledger, path)
        assert note_written(self.ledger, str(out), manifest, path).number == kept.number == number
        self.set.append({at: (self.cell(at), text) for at, text in real.items()})
        self.written.append(out)
        self.rows = imported(self.rows, files_of(out))
        assert self.rows == self.with_cells(real)

    def moved(self, cells: dict[tuple[int, str], str]) -> None:
        """The store changes cells by itself."""
        self.own.append((len(self.written), cells))
        self.rows = self.with_cells(cells)

    def undo(self, number: int) -> None:
        """A round is taken back, as far as it still stands."""
        if not self.set:
            return
        number %= len(self.set)
        folder = self.ledger.round(number + 1)
        changes = neat_delta.read_changes(changes_in(folder))
        live = neat_delta.read_live(changes, changes_in(folder), live_in(folder))
        manifest = read_manifest(sent_in(folder))
        back, base, left = neat_delta.undo(changes, live, neat_delta.read(self.path("now.csv", self.rows)), self.store)
        out = self.place / f"back-{number}-{len(self.written)}"
        shutil.rmtree(out, ignore_errors=True)
        turn = Turn("undo", changes.digest, None, manifest, not_taken_back(left))
        written = neat_delta.write_updates(back, base, manifest.importer, str(out), turn=turn)
        note_undone(self.ledger, changes.digest, str(out), written)
        stands = {at: before for at, (before, after) in self.set[number].items() if self.cell(at) == after}
        assert len(left) == sum(self.cell(at) not in texts for at, texts in self.set[number].items())
        expected = self.with_cells(stands)
        self.rows = imported(self.rows, files_of(out))
        self.written.append(out)
        assert self.rows == expected


@in_two_lengths(st.lists(MOVES, min_size=2, max_size=8), few=4, many=60)
def test_histories(tmp_path_factory, moves):
    place = tmp_path_factory.mktemp("history")
    history = History(place)
    first = [list(row) for row in history.rows]
    for what, value in moves:
        {"round": history.round, "store": history.moved, "undo": history.undo}[what](value)  # type: ignore[operator]
    # Replaying what was kept from the first export gives the last one, but for what the store did itself.
    replayed = History(place)
    replayed.rows = first
    kept = [
        path
        for folder in history.ledger.rounds()
        for path in sorted(folder.path.glob("out*")) + sorted(folder.path.glob("back*"))
    ]
    assert len(kept) <= len(history.written)
    own = list(history.own)
    for number, folder in enumerate([*history.written, None]):
        while own and own[0][0] == number:
            replayed.rows = replayed.with_cells(own.pop(0)[1])
        if folder is not None:
            copies = [one for one in kept if files_of(one) == files_of(folder)]
            assert copies, folder
            replayed.rows = imported(replayed.rows, files_of(copies[0]))
    assert replayed.rows == history.rows
    ledger = history.ledger
    if ledger.folder.is_dir():
        with ledger.index() as index:
            for number, cells in enumerate(history.set, 1):
                assert {(one.key, one.field): (one.before, one.after) for one in index.of_round(number)} == {
                    (f"QA-{item}", field): texts for (item, field), texts in cells.items()
                }
    shutil.rmtree(place)
