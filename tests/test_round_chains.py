"""Drawn chains of what people and the store do to rounds, with a model that knows what each person meant."""

from __future__ import annotations

import contextlib
import json
import random
import shutil
from collections import defaultdict
from pathlib import Path
from typing import NamedTuple
from unittest import mock

from hypothesis import strategies as st

import neat_delta
from neat_delta.app.rounds import run as rounds
from neat_delta.core.base.model.reasons import CHANGED_TOO
from neat_delta.core.base.support.errors import NeatDeltaError
from neat_delta.files.changeset import read_changes
from neat_delta.files.ledger.folder import RoundFolder
from tests.conftest import in_this_process, in_two_lengths
from tests.test_rounds import FIELDS, Killed, as_csv, imported, stopping

STORE = """version = 1
largest_round = 100
[key]
fields = ["sku"]
[importer]
blanks = "skip"
[fields.price]
kind = "integer"
[fields.stock]
kind = "integer"
"""

ROUND = """version = 1
live = "live.csv"
rehearse = false
[[sheet]]
file = "sheet.csv"
{base}
accept = ["large-change", "outlier"]
[limits]
unchanged = "go on"
{held}
[sign_off]
wanted = {signed}
[deliver]
to = ["polled"]
"""

Place = tuple[int, str]
Cells = dict[Place, str]


class Word(NamedTuple):
    """What a reviewer said of a cell: the texts that stood there, the one that it would get, and yes or no."""

    before: str
    after: str
    yes: bool


def cells(rng: random.Random) -> Cells:
    """Some cells of five items, with few values, so that what people and the store change often meets."""
    places = [(item, field) for item in range(5) for field in ("price", "stock")]
    return {at: str(rng.randint(1, 6)) for at in rng.sample(places, rng.randint(1, 5))}


ODD = ("edit", "move", "run", "answer", "resume", "confirm", "close", "killed", "passes", "undo")


def chain(rng: random.Random) -> list[str]:
    """Weeks, as they often go, and what comes between: somebody edits, a round begins, the store moves, somebody
    answers, and it goes on.
    """
    steps = list[str]()
    for _ in range(rng.randint(1, 3)):
        for what in ("edit", "run", "answer", "resume", "confirm"):
            steps += ["move"] if rng.random() < 0.4 else []
            steps += [rng.choice(ODD)] if rng.random() < 0.2 else []
            steps.append(what)
    return steps


def cells_of(changes: neat_delta.ChangeSet) -> list[dict[str, tuple[str | None, str, str, str | None]]]:
    """Of each item its cells by field: in the base, before and after, and why it is held."""
    items: list[dict[str, tuple[str | None, str, str, str | None]]] = [{} for _ in range(changes.items.height)]
    for item, field, *cell in changes.cells.select("item", "field", "base", "before", "after", "held").iter_rows():
        items[item][field] = tuple(cell)
    return items


class Shop:
    """A shop's folder, its store, and what people meant: what each round was begun with, and what was answered; and in
    the cells that a round `stood` in, what it took the place of, and with what. Where a sheet is not `based`, all is
    meant in which it differs from live as the round found it.
    """

    def __init__(self, place: Path, *, signed: bool, based: bool = True) -> None:
        self.place, self.signed, self.based = place, signed, based
        self.rows = [[f"QA-{number}", f"Jar {number}", "3", "1", "3"] for number in range(5)]
        self.base = [list(row) for row in self.rows]
        self.meant: dict[int, tuple[Cells, list[list[str]]]] = {}
        self.words: dict[tuple[int, Place], list[Word]] = defaultdict(list)
        self.sent, self.taken = list[str](), set[tuple[int, str]]()
        self.stood: dict[int, dict[Place, tuple[str, str]]] = defaultdict(dict)
        self.undone = 0
        (place / "polled").mkdir()
        (place / "neat-delta.toml").write_text(STORE)
        self.setup('held = "stop"')
        self.write("live.csv", self.rows)
        self.edit({})

    def setup(self, held: str) -> None:
        """Say what may pass."""
        base = 'base = "base.csv"' if self.based else ""
        (self.place / "weekly.toml").write_text(ROUND.format(held=held, signed=str(self.signed).lower(), base=base))

    def write(self, name: str, rows: list[list[str]]) -> None:
        """Write a file, with a byte that tells it from others of the same rows."""
        (self.place / name).write_text(as_csv(rows))

    def with_cells(self, cells: Cells) -> list[list[str]]:
        """The store's rows with these cells otherwise."""
        rows = [list(row) for row in self.rows]
        for (item, field), text in cells.items():
            rows[item][FIELDS.index(field)] = text
        return rows

    def edit(self, cells: Cells) -> None:
        """Somebody exports the catalogue and edits it."""
        self.base = [list(row) for row in self.rows]
        self.write("base.csv", self.base)
        self.sheet = self.with_cells(cells)
        self.write("sheet.csv", self.sheet)

    def move(self, cells: Cells) -> None:
        """The store changes something by itself."""
        self.rows = self.with_cells(cells)
        self.write("live.csv", self.rows)

    @property
    def file(self) -> neat_delta.RoundFile:
        """The round file as it is."""
        return neat_delta.read_round_file(str(self.place / "weekly.toml"))

    def last(self) -> RoundFolder | None:
        """The last round."""
        return rounds.last_round(self.file.ledger, "weekly")

    def answer(self, rng: random.Random) -> None:
        """A reviewer answers a change set of the last round, mostly the last one: each item, or some; and of clashes
        whose value it is to be.
        """
        last = self.last()
        paths = [] if last is None else [step.file for step in last.steps() if step.step == "compared"]
        if last is None or not paths:
            return
        changes = read_changes(last.place(paths[-1] if rng.random() < 0.8 else rng.choice(paths)))
        answers = list[dict[str, object]]()
        mostly = rng.random() < 0.8
        for line, (item, cells) in enumerate(zip(changes.keys["sku"], cells_of(changes), strict=True), 2):
            yes = rng.choice([mostly, mostly, mostly, not mostly, None])
            choices = {
                field: choice
                for field, (_, _, _, held) in cells.items()
                if held == CHANGED_TOO and (choice := rng.choice(["sheet", "store", "both", None]))
            }
            answer = {} if yes is None else {"answer": "yes" if yes else "no"}
            answers.append({"line": line, "key": {"sku": item}, "clashes": choices, **answer})
            for field, (base, before, after, held) in cells.items():
                words = self.words[last.number, (int(item[3:]), field)]
                if yes is False:
                    words.append(Word(before, after, yes=False))
                elif field in choices and choices[field] != "store":
                    both = str(int(before) + int(after) - int(base or before))
                    words.append(Word(before, both if choices[field] == "both" else after, yes=True))
                elif yes and held != CHANGED_TOO:
                    words.append(Word(before, after, yes=True))
        facts = {"format": "neat-delta answers", "version": 1, "changes": changes.digest, "answers": answers}
        folder = last.path / "answers"
        folder.mkdir(exist_ok=True)
        (folder / f"{len(list(folder.iterdir()))}.json").write_text(json.dumps(facts))

    def was_signed(self, number: int, at: Place, cell: str) -> bool:
        """Whether somebody said yes to this text in place of the one that stands there, and nobody no since."""
        words = self.words[number, at]
        stands = self.rows[at[0]][FIELDS.index(at[1])]
        yes = [place for place, word in enumerate(words) if word == Word(stands, cell, yes=True)]
        return bool(yes) and all(word.yes for word in words[yes[-1] :])

    def command(self, what: str) -> None:
        """A command, as a person gives it; then the store takes what has arrived."""
        before = self.last()
        with contextlib.suppress(NeatDeltaError):
            if what == "run":
                rounds.run_round(self.file)
            elif what == "resume":
                rounds.resume_round(self.file, perhaps=self.perhaps())
            elif what == "confirm":
                rounds.confirm_round(self.file)
            elif before is not None and before.summary().state not in {"delivering"}:
                rounds.close_round(self.file, before.number, "no more")
        self.take()

    def undo(self) -> None:
        """Somebody takes back, of the last round that the store imported, what still stands as that set it."""
        self.undone += 1
        name = f"back-{self.undone}"
        done = in_this_process(self.place, "undo", "--round", "last", "--now", "live.csv", "--to", name, "--json")
        last = max(self.stood, default=None)
        if last is None:
            assert done.returncode == 2 or not list((self.place / name).glob("update-*.csv"))
            return
        assert done.returncode in {0, 1}, done.stderr
        set_by_it = self.stood[last]
        before = [list(row) for row in self.rows]
        files = {path.name: path.read_text() for path in sorted((self.place / name).glob("update-*.csv"))}
        self.rows = imported(self.rows, files)
        for item, row in enumerate(before):
            for field in ("price", "stock"):
                stands, now = row[FIELDS.index(field)], self.rows[item][FIELDS.index(field)]
                was, put = set_by_it.get((item, field), (stands, None))
                assert now == (was if stands == put else stands), ((item, field), set_by_it, stands, now)
        self.write("live.csv", self.rows)

    def perhaps(self) -> neat_delta.files.delivery.Perhaps:
        """What a person says, who looked, of what perhaps arrived."""
        last = self.last()
        if last is None or last.summary().state != "delivering":
            return None
        out = sorted(last.path.glob("out*"), key=lambda path: (len(path.name), path.name))[-1]
        content = (out / "update-1.csv").read_text()
        return "arrived" if content in self.sent or any((self.place / "polled").iterdir()) else "again"

    def remember(self) -> None:
        """What the round that just fetched its files was begun with."""
        last = self.last()
        if last is not None and last.number not in self.meant and "fetched" in {step.step for step in last.steps()}:
            base = [list(row) for row in (self.base if self.based else self.rows)]
            self.meant[last.number] = (
                {
                    (item, field): row[FIELDS.index(field)]
                    for item, row in enumerate(self.sheet)
                    for field in ("price", "stock")
                    if row[FIELDS.index(field)] != base[item][FIELDS.index(field)]
                },
                base,
            )

    def take(self) -> None:
        """The store imports what was delivered: nothing but what somebody meant, and of what nobody else changed."""
        self.remember()
        last = self.last()
        for path in sorted((self.place / "polled").glob("update-*.csv")):
            assert last is not None
            wanted, base = self.meant[last.number]
            text = path.read_text()
            heading, *lines = [line.split(",") for line in text.splitlines()]
            for line in lines:
                for name, cell in zip(heading[1:], line[1:], strict=True):
                    if cell:
                        at = (int(line[0][3:]), name)
                        self.stood[last.number][at] = (self.rows[at[0]][FIELDS.index(name)], cell)
                        assert not self.signed or self.was_signed(last.number, at, cell), (at, cell, self.words)
                        stood, was = (rows[at[0]][FIELDS.index(name)] for rows in (self.rows, base))
                        if not self.signed or stood == was:  # else it was chosen, knowing what stands there
                            assert (wanted.get(at), stood) == (cell, was), (at, cell, wanted, stood)
            assert (last.number, text) not in self.taken
            self.taken.add((last.number, text))
            self.sent.append(text)
            self.rows = imported(self.rows, {path.name: text})
            self.write("live.csv", self.rows)
        for path in (self.place / "polled").iterdir():
            path.unlink()


@in_two_lengths(st.integers(0, 1 << 32), st.booleans(), st.booleans(), few=4, many=60)
def test_whatever_happens_only_what_was_meant_is_sent_and_once(tmp_path_factory, seed, signed, based):
    place, rng = tmp_path_factory.mktemp("chain"), random.Random(seed)
    shop = Shop(place, signed=signed, based=based)
    with mock.patch.object(rounds, "write_page", lambda *values: "page.html"):  # charts take longer than all the rest
        go_through(shop, rng)
    ledger = shop.file.ledger
    if ledger.folder.is_dir():
        must_tell_what_went(shop)
    shutil.rmtree(place)


def go_through(shop: Shop, rng: random.Random) -> None:
    """A drawn chain."""
    for what in chain(rng):
        if what in {"edit", "move"}:
            getattr(shop, what)(cells(rng))
        elif what == "answer":
            shop.answer(rng)
        elif what == "undo":
            shop.undo()
        elif what == "passes":
            shop.setup('held = "send the rest"')
        elif what == "killed":
            with contextlib.suppress(Killed), stopping(rng.randint(1, 50)):
                shop.command("run")
                shop.command("resume")
            shop.take()
        else:
            shop.command(what)


def must_tell_what_went(shop: Shop) -> None:
    """What the history tells to have gone is what the store imported of that round."""
    with shop.file.ledger.index() as index:
        assert index.broken() == []
        for entry in index.rounds():
            went = {(cell.key, cell.field) for cell in index.of_round(entry.number) if cell.state in {"sent", "landed"}}
            imports = [text.splitlines() for number, text in shop.taken if number == entry.number]
            reached = {
                (row.split(",")[0], name)
                for heading, *rows in imports
                for row in rows
                for name, cell in zip(heading.split(",")[1:], row.split(",")[1:], strict=True)
                if cell
            }
            assert went <= reached, (entry, went, reached)
