"""The law over chains of commands, in any order, with a model that knows what the person meant.

The store is a file; every import goes through the practice store, with faults. Each item has a mark of its own in a
field that nobody edits, so that the model sees on which item a value lands, under whatever code. Several small rounds
stand side by side in one catalogue, each a chain of its own: what is drawn for one says nothing of another.
"""

from __future__ import annotations

import csv
import io
import json
import random
import shutil
import tempfile
from collections.abc import Iterable
from dataclasses import dataclass, field
from decimal import Decimal
from pathlib import Path
from typing import Any

import pytest
from hypothesis import HealthCheck, Phase, note, settings
from hypothesis import strategies as st
from hypothesis.stateful import (
    RuleBasedStateMachine,
    initialize,
    invariant,
    rule,
    run_state_machine_as_test,
)

import neat_delta
from tests.conftest import LENGTH, campaign, in_this_process
from tests.made import delimited

HEADINGS = ["sku", "mark", "name", "price", "stock", "tags", "note"]
STORE = """version = 1
[key]
fields = ["sku"]
[importer]
{importer}
[importer.removal]
how = "row"
[importer.code_change]
how = "{codes}"
[fields.sku]
kind = "code"
[fields.mark]
[fields.name]
[fields.price]
kind = "money"
decimals = 2
[fields.stock]
kind = "integer"
moving = true
[fields.tags]
kind = "list"
separator = ","
[fields.note]
"""
IMPORTERS = [
    'blanks = "clear"',
    'blanks = "clear"\nadjusted = ["stock"]\nlists = "marked"',
    'blanks = "skip"\nempties = "(none)"',
    'blanks = "skip"\nempties = "(none)"\nadjusted = ["stock"]',
    'blanks = "skip"\nempties = "(none)"\nlists = "marked"',
]
LET = ["--accept", "large-round", "--accept", "slip", "--with-new-values", "tags"]

Row = dict[str, str]
Cell = tuple[str, str]
"""The mark of an item, and a field."""


def read(path: Path) -> dict[str, Row]:
    """The rows of a file by the items' marks; none is there twice."""
    rows = list(csv.DictReader(io.StringIO(path.read_bytes().decode("utf-8-sig"), newline="")))
    assert len({row["mark"] for row in rows}) == len(rows)
    return {row["mark"]: row for row in rows}


def tags(text: str) -> set[str]:
    return {one.strip() for one in text.split(",") if one.strip()}


@dataclass
class Round:
    """What one change set is to do: by cell what stood before and what is meant; items to add and to remove; what is
    held or was left out; and what others have changed since.
    """

    name: str
    live: str
    before: dict[Cell, str]
    meant: dict[Cell, str]
    new: dict[str, Row]
    gone: set[str]
    out: set[Cell] = field(default_factory=set)
    others: set[Cell] = field(default_factory=set)
    folder: str | None = None
    report: list[str] = field(default_factory=list)
    imported: bool = False
    closed: bool = False
    altered: bool = False
    marks: dict[str, str] = field(default_factory=dict)


class Chains(RuleBasedStateMachine):
    """A person, a colleague, a store, and commands in any order."""

    together = 8
    part = 0
    made = 0

    def __init__(self) -> None:
        super().__init__()
        self.folder = Path(tempfile.mkdtemp(prefix="chains-"))
        self.rounds: list[Round] = []
        self.pending: tuple[Round, str, str] | None = None
        self.numbers = 0

    def teardown(self) -> None:
        """Remove the folder."""
        shutil.rmtree(self.folder, ignore_errors=True)

    # The store and the program.

    @initialize(
        seed=st.integers(0, 2**32), importer=st.sampled_from(IMPORTERS), codes=st.sampled_from(["row", "replace"])
    )
    def begin(self, seed: int, importer: str, codes: str) -> None:
        """A store, and its importer."""
        type(self).made += self.together
        self.rng, self.importer = random.Random(f"{self.part} {seed}"), importer
        self.replaces = codes == "replace"
        self.adjusted, self.marked = "adjusted" in importer, "marked" in importer
        (self.folder / "neat-delta.toml").write_text(STORE.format(importer=importer, codes=codes))
        rows = [self._row(f"G{group}-{n}", f"i{group}.{n}") for group in range(self.together) for n in range(4)]
        self._put("store.csv", rows)

    def _row(self, sku: str, mark: str) -> Row:
        rng = self.rng
        own = rng.sample(["wax", "gift", "oak"], rng.randint(0, 2))
        return {
            "sku": sku, "mark": mark, "name": rng.choice(["Veil", "Hat", "Jar"]) + " " + mark,
            "price": f"{rng.randint(5, 90)}.{rng.randint(0, 9)}0", "stock": str(rng.randint(500, 900)),
            "tags": ",".join(own), "note": rng.choice(["", "x", "y"]) + ("n" + mark if rng.random() < 0.5 else ""),
        }  # fmt: skip

    def _put(self, name: str, rows: Iterable[Row], headings: list[str] = HEADINGS) -> None:
        text = io.StringIO(newline="")
        writer = csv.DictWriter(text, headings, lineterminator="\n", extrasaction="ignore")
        writer.writeheader()
        writer.writerows(rows)
        (self.folder / name).write_bytes(text.getvalue().encode())

    def _store(self) -> dict[str, Row]:
        return read(self.folder / "store.csv")

    def _export(self) -> str:
        self.numbers += 1
        name = f"export{self.numbers}.csv"
        shutil.copyfile(self.folder / "store.csv", self.folder / name)
        return name

    def _laid_out_anew(self, rng: random.Random, export: str) -> str:
        """The export, or the same as a store gives it that somebody has set up otherwise since."""
        how = rng.choice(["as before", "as before", "semicolons", "UTF-16"])
        if how == "as before":
            return export
        headings, *rows = csv.reader(io.StringIO((self.folder / export).read_text(), newline=""))
        form = {"separator": ";"} if how == "semicolons" else {"separator": "\t", "encoding": "utf-16"}
        (self.folder / f"anew-{export}").write_bytes(delimited(headings, rows, end="\r\n", **form))  # type: ignore[arg-type]
        return f"anew-{export}"

    def _run(self, *args: str, status: set[int] = frozenset({0, 1})) -> Any:  # type: ignore[assignment]
        """Run a command: it ends well, and no file that was there is another one after it."""
        before = {path: path.read_bytes() for path in self.folder.rglob("*") if path.is_file()}
        done = in_this_process(self.folder, *args)
        note(f"{' '.join(args)}  [{done.returncode}]")
        assert done.returncode in status, (args, done.stdout, done.stderr)
        for path, content in before.items():
            assert path.read_bytes() == content, (args, path)
        return done

    @rule(seed=st.integers(0, 2**32))
    def step(self, seed: int) -> None:
        """One of the commands that can be given now, or what a colleague does."""
        written = any(one.folder is None and not one.closed for one in self.rounds)
        sent = any(one.imported and not one.closed for one in self.rounds)
        rng = random.Random(f"{self.part} {seed} {self.numbers}")  # small seeds are drawn again and again
        seed = rng.getrandbits(32)
        if self.pending is not None:
            self.practice(seed)
            return
        actions = [self.colleague]
        if len([one for one in self.rounds if not one.closed]) < 3:
            actions += [self.compare, self.compare, self.recode, self.edit]
        if written:
            actions += [self.write] * 6
        if sent:
            actions += [*[self.confirm] * 6, self.undo, self.undo]
        rng.choice(actions)(seed)

    # The person.

    def compare(self, seed: int) -> None:
        """Cut, edit and compare; the store may have moved on meanwhile."""
        rng = random.Random(seed)
        moved, whole = rng.random() < 0.5, rng.random() < 0.5
        base = self._export()
        before: dict[Cell, str] = {}
        meant: dict[Cell, str] = {}
        sheet, new, gone = [], {}, set()
        for mark, row in read(self.folder / base).items():
            if rng.random() < 0.15:
                if whole:
                    gone.add(mark)
                continue
            edited = row | {"new code": "", "@": mark}
            for name, text in self._edits(rng, row).items():
                before[mark, name], meant[mark, name] = row[name], text
                edited[name] = text
            sheet.append(edited)
        self._recode(rng, sheet, before, meant)
        for _ in range(rng.randint(0, self.together // 3)):
            self.numbers += 1
            row = self._row(f"N{self.numbers}", f"n{self.numbers}") | {"new code": ""}
            new[row["mark"]] = row
            sheet.append(row)
        rng.shuffle(sheet)
        name = f"c{self.numbers}"
        self._put(f"{name}-sheet.csv", sheet, ["sku", "new code", *HEADINGS[1:]])
        live, based = base, list[str]()
        if moved:
            self.colleague(rng.randrange(2**32))
            live = self._export()
            based = ["--base", base]
        asked = ["--whole", "--with-gone"] if whole else []
        self._run("compare", live, f"{name}-sheet.csv", *based, *asked, "--with-new", "--blanks", "clear", *LET,
                  "-o", f"{name}.jsonl")  # fmt: skip
        self._begun(Round(name, live, before, meant, new, gone), base)

    def recode(self, seed: int) -> None:
        """New codes from a list."""
        rng, live = random.Random(seed), self._export()
        rows = [row | {"new code": "", "@": mark} for mark, row in read(self.folder / live).items()]
        before: dict[Cell, str] = {}
        meant: dict[Cell, str] = {}
        self._recode(rng, rows, before, meant)
        self.numbers += 1
        name = f"c{self.numbers}"
        self._put(f"{name}-codes.csv", [row for row in rows if row["new code"]], ["sku", "new code"])
        if meant:
            self._run("recode", live, f"{name}-codes.csv", "-o", f"{name}.jsonl")
            self._begun(Round(name, live, before, meant, {}, set()), live)

    def edit(self, seed: int) -> None:
        """Prices by rule, where there is much in stock."""
        live, least = self._export(), random.Random(seed).randint(600, 880)
        before: dict[Cell, str] = {}
        meant: dict[Cell, str] = {}
        for mark, row in read(self.folder / live).items():
            if int(row["stock"]) > least:
                before[mark, "price"], meant[mark, "price"] = row["price"], f"{Decimal(row['price']) + 1:.2f}"
        self.numbers += 1
        name = f"c{self.numbers}"
        self._run("edit", live, "--set", "price = price + 1", "--where", f"stock > {least}", *LET[:4],
                  "-o", f"{name}.jsonl")  # fmt: skip
        wanted = dict(meant)
        made = self._begun(Round(name, live, before, meant, {}, set()), live)
        assert all(made.meant[cell] == text for cell, text in wanted.items())

    def _begun(self, made: Round, base: str) -> Round:
        self._learn_holds(made, base)
        self.rounds.append(made)
        return made

    def _edits(self, rng: random.Random, row: Row) -> Row:
        edits: Row = {}
        if rng.random() < 0.4:
            edits["price"] = f"{rng.randint(5, 90)}.{rng.randint(0, 9)}5"
        if rng.random() < 0.3:
            edits["stock"] = str(int(row["stock"]) + rng.choice([-60, 60, 100]))
        if rng.random() < 0.3:
            edits["tags"] = ",".join([*sorted(tags(row["tags"]))[rng.randint(0, 1) :], f"p{rng.randint(0, 9)}"])
        if rng.random() < 0.2:
            edits["note"] = rng.choice(["", f"note {rng.randint(0, 99)}"])
        return {name: text for name, text in edits.items() if text != row[name]}

    def _recode(self, rng: random.Random, sheet: list[Row], before: dict[Cell, str], meant: dict[Cell, str]) -> None:
        """Some items get new codes: fresh ones, one of each other's, or the one that another leaves."""
        groups: dict[str, list[Row]] = {}
        for row in sheet:
            groups.setdefault(row["@"].partition(".")[0], []).append(row)
        for rows in groups.values():
            how = rng.choice(["none", "none", "fresh", "swap", "chain"])
            self.numbers += 1
            fresh = f"R{self.numbers}"
            if how == "fresh":
                wanted = [(rows[0], fresh)]
            elif how != "none" and len(rows) > 1:
                wanted = [(rows[0], rows[1]["sku"]), (rows[1], rows[0]["sku"] if how == "swap" else fresh)]
            else:
                continue
            for row, code in wanted:
                row["new code"] = code
                before[row["@"], "sku"], meant[row["@"], "sku"] = row["sku"], code

    def _learn_holds(self, made: Round, base: str) -> None:
        """What compare holds is not sent; what the store had changed, too, is meant on top of that."""
        changes = neat_delta.read_changes(str(self.folder / f"{made.name}.jsonl"))
        marks = {row["sku"]: mark for name in (base, made.live) for mark, row in read(self.folder / name).items()}
        marks |= {row["sku"]: mark for mark, row in made.new.items()}
        made.marks, made.out = marks, {*made.meant}
        gone, new = set(), set()
        for item in changes.iter_items():
            mark = marks[item.key["sku"]]
            held = {one.field for one in item.held}
            if item.verdict == "gone" and None not in held:
                gone.add(mark)
            if item.verdict == "new" and None not in held:
                new.add(mark)
            for name, (old, text) in item.cells.items():
                if None not in held and name not in held and item.verdict != "new":
                    assert (mark, name) in made.meant, (mark, name, "nobody meant that")
                    made.out.discard((mark, name))
                    made.before[mark, name], made.meant[mark, name] = old or "", text or ""
        assert gone <= made.gone and new <= {*made.new}
        made.gone, made.new = gone, {mark: made.new[mark] for mark in new}

    def write(self, seed: int) -> None:
        """Write, with what a reviewer said no to, or some codes only; and with other options."""
        rng = random.Random(seed)
        made = rng.choice([one for one in self.rounds if one.folder is None and not one.closed])
        codes = made.marks
        options: list[str] = []
        how = rng.choice(["all", "all", "skus", "answers"])
        left = {mark for mark in codes.values() if rng.random() < 0.2} if how != "all" else set()
        if how == "skus":
            (self.folder / f"{made.name}.txt").write_text(
                "".join(f"{sku}\n" for sku, mark in codes.items() if mark not in left)
            )
            options += ["--skus", f"{made.name}.txt"]
        elif how == "answers":
            lines = [json.loads(line) for line in (self.folder / f"{made.name}.jsonl").read_text().splitlines()]
            said = [
                {"line": at, "key": line["key"], "answer": "no" if codes[line["key"]["sku"]] in left else "yes",
                 "comment": "", "clashes": {}}
                for at, line in enumerate(lines, 1) if "verdict" in line
            ]  # fmt: skip
            head = {"format": "neat-delta answers", "version": 1, "changes": lines[-1]["blake3"], "fields": None}
            (self.folder / f"{made.name}.json").write_text(json.dumps(head | {"answers": said}))
            options += ["--signed-off", f"{made.name}.json"]
        options += rng.choice([[], ["--most-files", "2"], ["--file-cost", "0"], ["--rehearse"]])
        if not self.marked and not self.adjusted and rng.random() < 0.3:
            options += ["--importer-blanks", rng.choice(["skip", "clear"])]
        folder = f"{made.name}-out"
        self._run("write", f"{made.name}.jsonl", "--to", folder, *options)
        made.out |= {cell for cell in made.meant if cell[0] in left}
        made.gone -= left
        made.new = {mark: row for mark, row in made.new.items() if mark not in left}
        manifest = json.loads((self.folder / folder / "manifest.json").read_text())
        for one in manifest["held"]:  # what this importer cannot take
            mark = codes[one["key"]["sku"]]
            made.out |= {cell for cell in made.meant if cell[0] == mark and one["field"] in {None, cell[1]}}
            if one["field"] is None:
                made.gone.discard(mark)
                made.new.pop(mark, None)
        made.folder = folder
        store = self._store()
        same = {mark: store.get(mark) == row for mark, row in read(self.folder / made.live).items()}
        if all(same.values()) and len(same) == len(store):
            self.pending = (made, folder, "update")  # else somebody would be overwritten: nobody imports that any more
        else:
            made.closed = True

    # The store imports, and a colleague works in it.

    def practice(self, seed: int) -> None:
        """Import what was written last, with faults or without."""
        assert self.pending is not None
        (made, folder, kind), self.pending = self.pending, None
        rng, faults = random.Random(seed), list[str]()
        before = self._store()
        anew = self.replaces and any(name == "sku" and (mark, name) not in made.out for mark, name in made.meant)
        if kind != "undo" and not anew and rng.random() < 0.7:  # made anew and not removed, one would be there twice
            for row in rng.sample(list(before.values()), rng.randint(0, len(before) // 4)):
                faults += ["--refuse", rng.choice([row["sku"], row["sku"] + "-tmp"])]
            faults += rng.choice([[], [], ["--drop", "20%"], ["--fail-after", str(rng.randint(1, 25))]])
            rounds = rng.random() < 0.2
            faults += ["--round", "price:1"] if rounds else []
            made.altered |= rounds
        self.numbers += 1
        to = f"p{self.numbers}"
        done = self._run("practice", "store.csv", "--import", folder, "--to", to, *faults)
        after = read(self.folder / to / "after.csv")
        self._nothing_but_what_was_meant(made, kind, before, after)
        for other in self.rounds:
            if other is not made:
                other.others |= {cell for cell, *_ in changed(before, after)}
                moved = {code for (_, name), *codes in changed(before, after) if name == "sku" for code in codes}
                other.closed |= bool(moved & {*other.marks})  # its items are known by their codes alone
        if kind == "undo":
            marks = {row["sku"]: mark for mark, row in before.items()}
            held = json.loads((self.folder / folder / "manifest.json").read_text())["held"]  # and so said to be
            self._all_of_it_is_back(
                made,
                after,
                {(marks.get(one["key"]["sku"], ""), one["field"]) for one in held},
                whole=done.returncode == 0,
            )
            made.closed = True
        else:
            made.imported = True
            if len((self.folder / to / "results.csv").read_text().splitlines()) > 1:  # something was imported
                made.report.append(f"{to}/results.csv")
            if not faults and kind == "update":
                assert done.returncode == 0, done.stdout  # proven is what an independent importer then has
                self._all_of_it_landed(made, after)
        shutil.copyfile(self.folder / to / "after.csv", self.folder / "store.csv")
        if kind == "undo" and list((self.folder / folder).glob("update-*")):
            self._nothing_is_sent_again(made)

    def _nothing_is_sent_again(self, made: Round) -> None:
        """Of a round that was taken back, whatever became of that."""
        options = ["--files", str(made.folder), "--retry", f"{made.name}-never", "--mend", f"{made.name}-never.csv"]
        done = self._run("confirm", f"{made.name}.jsonl", self._export(), *options, "--json")
        facts = json.loads(done.stdout)
        assert facts.get("retry") is None and facts.get("mend") is None, facts
        assert not list(self.folder.glob(f"{made.name}-never*"))

    def _nothing_but_what_was_meant(
        self, made: Round, kind: str, before: dict[str, Row], after: dict[str, Row]
    ) -> None:
        back = kind == "undo"
        for (mark, name), old, now in changed(before, after):
            cell, context = (mark, name), (kind, mark, name, old, now)
            if old is None:  # it came
                assert mark in (made.gone if back else made.new), context
                continue
            if now is None:  # it went
                assert mark in (made.new if back else made.gone), context
                continue
            if back and mark in made.gone:
                continue
            if made.altered and name == "price" and alike(old, now) and cell not in made.meant:
                continue  # the store rounds what is only carried along, too
            assert cell in made.meant and cell not in made.out, context
            was, wanted = made.before[cell], made.meant[cell]
            if back:
                was, wanted = wanted, was
            if name == "sku":
                assert now == wanted or "-tmp" in now or "-tmp" in old, context
            elif name == "stock" and self.adjusted:
                assert int(now) - int(old) == int(wanted) - int(was), context
            elif name == "tags" and (self.marked or kind != "update"):
                come, went = tags(wanted) - tags(was), tags(was) - tags(wanted)
                assert tags(now) == (tags(old) | come) - went, context
            else:
                assert now == wanted or (name == "price" and not back and alike(now, wanted)), context
                assert kind == "update" or old == was or (name == "price" and alike(old, was)), (context, was)

    def _all_of_it_landed(self, made: Round, store: dict[str, Row]) -> None:
        for (mark, name), text in made.meant.items():
            if (mark, name) not in made.out and mark in store:
                now = store[mark][name]
                assert tags(now) == tags(text) if name == "tags" else now == text, (mark, name, now, text)
        assert not made.gone & {*store} and {*made.new} <= {*store}

    def _all_of_it_is_back(
        self, made: Round, store: dict[str, Row], held: set[tuple[str, str | None]], *, whole: bool
    ) -> None:
        """What nobody else has touched is as it was before the round, but for what the importer cannot take back."""
        if not whole or made.altered:
            return
        for (mark, name), text in made.before.items():
            found = (mark, "sku") not in made.others  # else it is known by no code of the round
            found &= not held & {(mark, name), (mark, None)}
            if mark in store and found and (mark, name) not in made.out | made.others:
                now = store[mark][name]
                assert tags(now) == tags(text) if name == "tags" else now == text, (mark, name, now, text)
        for mark in made.gone:
            assert mark in store or (mark, "") in made.others, mark
        for mark in made.new:
            assert mark not in store or any(cell[0] == mark for cell in made.others) or (mark, None) in held, mark

    def colleague(self, seed: int) -> None:
        """A colleague edits, sells, tags; now and then an item goes, or is made."""
        rng, store = random.Random(seed), self._store()
        touched: set[Cell] = set()
        for mark, row in list(store.items()):
            if rng.random() < 0.15:
                name = rng.choice(["price", "note", "tags", "stock"])
                row[name] = {
                    "price": f"{rng.randint(100, 199)}.00", "note": f"theirs {rng.randint(0, 99)}",
                    "tags": ",".join([*sorted(tags(row["tags"])), f"t{rng.randint(0, 99)}"]),
                    "stock": str(int(row["stock"]) - rng.randint(1, 3)),
                }[name]  # fmt: skip
                touched.add((mark, name))
            elif rng.random() < 0.02:
                del store[mark]
                touched |= {(mark, name) for name in ["", *HEADINGS]}
        if rng.random() < 0.1:
            self.numbers += 1
            store[f"k{self.numbers}"] = self._row(f"K{self.numbers}", f"k{self.numbers}")
        for one in self.rounds:
            one.others |= touched
        note(f"a colleague: {sorted(touched)}")
        self._put("store.csv", store.values())

    # What came of it.

    def _landed(self, made: Round, store: dict[str, Row]) -> dict[Cell, bool]:
        """Of each cell that was sent whether it stands as it was meant; a list by what was added and taken."""
        stands: dict[Cell, bool] = {}
        for (mark, name), text in made.meant.items():
            if (mark, name) in made.out:
                continue
            now = store[mark][name] if mark in store else None
            if now is not None and name == "tags":
                was = tags(made.before[mark, name])
                stands[mark, name] = tags(text) - was <= tags(now) and not (was - tags(text)) & tags(now)
            else:
                stands[mark, name] = now is not None and (
                    now == text or (name == "price" and Decimal(now) == Decimal(text))
                )
        return stands

    def _witnesses(self, rng: random.Random, made: Round) -> list[str]:
        reports = [part for one in made.report for part in ("--results", one)]
        return rng.choice([[self._export()], [self._export(), *reports], [self._export(), *reports]])

    def confirm(self, seed: int) -> None:
        """Look what landed; send again what did not, or mend it."""
        rng = random.Random(seed)
        how = rng.choice(["look", "retry", "retry", "mend"])
        made = rng.choice([one for one in self.rounds if one.imported and not one.closed])
        self.numbers += 1
        folder, sheet = f"{made.name}-again{self.numbers}", f"{made.name}-mend{self.numbers}.csv"
        options = {"look": [], "retry": ["--retry", folder], "mend": ["--mend", sheet]}[how]
        witnesses = self._witnesses(rng, made)
        if (
            how == "look" and made.report and rng.random() < 0.3
        ):  # the store alone: it may be wrong, and nobody says more than it does
            reports = [part for one in made.report for part in ("--results", one)]
            self._run("confirm", f"{made.name}.jsonl", *reports, "--files", str(made.folder))
            return
        seen = [self._laid_out_anew(rng, witnesses[0]), *witnesses[1:]]
        done = self._run("confirm", f"{made.name}.jsonl", *seen, "--files", str(made.folder), *options, "--json")
        facts, store = json.loads(done.stdout), self._store()
        trouble = {(made.marks[one["key"]["sku"]], one["field"]) for one in facts["trouble"]}
        for cell, stands in self._landed(made, store).items():
            assert stands or cell in trouble, (cell, "said to have landed")
        assert all(mark not in store or (mark, None) in trouble for mark in made.gone)
        if done.returncode == 0:
            assert all(self._landed(made, store).values()) and {*made.new} <= {*store}
        if how == "retry" and facts["retry"] is not None:
            made.folder = folder
            self.pending = (made, folder, "retry")
        if how == "mend" and "mend" in facts:
            self._mended(made, sheet, witnesses[0])

    def _mended(self, made: Round, sheet: str, after: str) -> None:
        """The sheet is compared as it is: nothing of a colleague's is changed by that, and no no is asked again."""
        name = f"{made.name}m{self.numbers}"
        self._run("compare", after, sheet, "--with-new", "--blanks", "clear", *LET, "-o", f"{name}.jsonl")
        now = read(self.folder / after)
        marks = {row["sku"]: mark for mark, row in (now | made.new).items()}
        mended = Round(name, after, {}, {}, {}, set(), marks=marks, altered=made.altered)
        changes = neat_delta.read_changes(str(self.folder / f"{name}.jsonl"))
        for item in changes.iter_items():
            mark, held = marks[item.key["sku"]], {one.field for one in item.held}
            if item.verdict == "new" and None not in held:
                mended.new[mark] = made.new[mark]
            for field_, (old, text) in item.cells.items():
                if item.verdict == "new" or None in held or field_ in held:
                    continue
                mended.before[mark, field_], mended.meant[mark, field_] = old or "", text or ""
                cell = (mark, field_)
                assert cell in made.meant and cell not in made.out, (cell, old, text)
                if field_ not in {"tags", "stock", "sku"}:
                    assert alike(old or "", made.before[cell]) or old == made.before[cell], (cell, old, text)
        self.rounds.append(mended)

    def undo(self, seed: int) -> None:
        """Take a round back, as far as it stands as it was set."""
        rng = random.Random(seed)
        altered = rng.random() < 0.5
        made = rng.choice([one for one in self.rounds if one.imported and not one.closed])
        self.numbers += 1
        folder = f"{made.name}-back{self.numbers}"
        now = self._laid_out_anew(rng, self._export())
        self._run("undo", f"{made.name}.jsonl", "--now", now, "--files", str(made.folder), "--to", folder,
                  *(["--altered"] if altered else []))  # fmt: skip
        self.pending = (made, folder, "undo")

    @invariant()
    def another_folder_is_refused(self) -> None:
        """A folder of one round is never taken for another's."""
        made = [one for one in self.rounds if one.folder is not None]
        if len(made) > 1 and len(self.rounds) == 2 and self.pending is None:
            done = self._run(
                "undo", f"{made[0].name}.jsonl", "--files", str(made[1].folder), "--to", "none", status={2}
            )
            assert "another change set" in done.stderr


def changed(before: dict[str, Row], after: dict[str, Row]) -> list[tuple[Cell, str | None, str | None]]:
    """The cells that differ; a whole item as one of no field, and its code by itself."""
    out: list[tuple[Cell, str | None, str | None]] = []
    for mark in {*before} | {*after}:
        if mark not in after or mark not in before:
            out.append(((mark, ""), None if mark not in before else "", None if mark not in after else ""))
            continue
        out += [((mark, name), before[mark][name], after[mark][name]) for name in HEADINGS
                if before[mark][name] != after[mark][name]]  # fmt: skip
    return out


def alike(one: str, other: str) -> bool:
    """Whether a price is another one, rounded."""
    try:
        return abs(Decimal(one) - Decimal(other)) < Decimal("0.1")
    except ArithmeticError:
        return False


def _holds(chains: int, together: int, part: int = 0) -> None:
    """The law over so many chains, so many of them side by side; the same ones each time, others for each part."""
    machine = type("Machine", (Chains,), {"together": together, "part": part, "made": 0})
    how = settings(
        max_examples=-(-chains // together), stateful_step_count=16, report_multiple_bugs=False, deadline=None,
        derandomize=True, database=None, phases=[Phase.generate], suppress_health_check=list(HealthCheck),
    )  # fmt: skip
    run_state_machine_as_test(machine, settings=how)
    assert machine.made >= chains  # type: ignore[attr-defined]


def test_the_law_holds_over_chains():
    _holds(100, together=50)


@campaign
@pytest.mark.parametrize("part", range(4))
def test_the_law_holds_over_chains_at_length(part):
    _holds(900 * LENGTH, together=100, part=part + 1)
