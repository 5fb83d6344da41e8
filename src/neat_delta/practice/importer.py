"""The rules by which the practice store imports, row by row, as `core.model.importer` states them. A row that breaks
one is refused with a message, and the others go on; a file that cannot be understood is refused as a whole.
"""

from __future__ import annotations

import time
from collections import Counter
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from decimal import Decimal, InvalidOperation

import msgspec
import polars as pl

from neat_delta.core.base.model.importer import NEW_CODE, PATCHES, SPARSE, Importer
from neat_delta.core.base.model.layout import Notation
from neat_delta.core.base.model.results import RowStatus
from neat_delta.core.base.model.store import Field
from neat_delta.core.base.model.update import Action
from neat_delta.core.base.query.expressions import Rows, evaluate
from neat_delta.core.base.support.errors import FileError
from neat_delta.core.base.support.progress import with_progress
from neat_delta.practice.faults import NO_FAULTS, Faults
from neat_delta.practice.lines import ImportTable, Line
from neat_delta.practice.shelf import Item, Shelf

__all__ = ["ImportRules", "RowReport", "Stopped", "import_lines"]


class RowReport(msgspec.Struct, frozen=True):
    """What became of a row: its number, its key, the status, a message, and the item's number in the store."""

    row: int
    key: list[str]
    status: RowStatus
    message: str = ""
    item: int | None = None


class Stopped(Exception):  # noqa: N818 - it is no fault of the file
    """The import stopped in the middle, as it was asked to: these rows were done."""

    def __init__(self, reports: list[RowReport]) -> None:
        super().__init__(f"the import stopped after {len(reports)} rows")
        self.reports = reports


@dataclass(frozen=True, slots=True)
class ImportRules:
    """What the store goes by: its importer, its fields, how it writes values, whether a key may stand on several items,
    the fields that go on over several lines with what stands between their values, and the headings of fields that are
    called otherwise (heading: field). The fields and the writing are asked for only where a rule needs them: to learn
    them takes a while.
    """

    importer: Importer
    fields: Callable[[], Mapping[str, Field]]
    writing: Callable[[], Notation]
    shared: bool = False
    continued: Mapping[str, str] = field(default_factory=dict)
    headings: Mapping[str, str] = field(default_factory=dict)


class Refused(Exception):  # noqa: N818 - said to whoever imports
    """Why a row is not taken."""


def import_lines(
    shelf: Shelf,
    table: ImportTable,
    rules: ImportRules,
    action: Action = "change",
    *,
    number: int = 1,
    name: str = "the file",
    faults: Faults = NO_FAULTS,
    counted: Callable[[], bool] = lambda: False,
) -> list[RowReport]:
    """Import the lines of a file for an `action`, as the `number`th import; what became of each. FileError when the
    file as a whole is refused; Stopped when `counted`, which is called after each row that was taken, says so.
    """
    work = _Import(shelf, rules, action, number, faults)
    table = _under_fields(table, rules.headings)
    work.refuse_file(table, name)
    lines = work.whole_items(table.lines)
    keys = [tuple(line.says.get(part) or "" for part in shelf.key) for line in lines]
    twice = {key for key, times in Counter(keys).items() if times > 1}
    by_key = shelf.with_keys(dict.fromkeys(keys))
    listed = {at for rows in by_key.values() for at in rows}
    items = shelf.items(listed)
    wanted = Counter(work.new_key(line, key) for line, key in zip(lines, keys, strict=True)) if work.recodes else {}
    taken = {key for key, rows in shelf.with_keys(wanted).items() if rows}
    refused: dict[int, str] = {}
    steps: dict[int, _Step] = {}
    for line, key in zip(lines, keys, strict=True):
        try:
            if key in twice:
                raise Refused("its key stands in the file twice")
            if work.recodes and (wanted[work.new_key(line, key)] > 1 or work.new_key(line, key) in taken):
                raise Refused("an item has the new code already, or gets it in this file")
            steps[line.number] = work.step(line, key, {at: items[at] for at in by_key[key]})
        except Refused as why:
            refused[line.number] = str(why)
    refused |= work.refused_on_demand(list(steps.values()))
    reports: list[RowReport] = []
    for line, key in with_progress(zip(lines, keys, strict=True), name, len(lines)):
        if faults.slow:
            time.sleep(faults.slow)
        if line.number in refused:
            reports.append(RowReport(line.number, list(key), "refused", refused[line.number]))
            continue
        step = steps[line.number]
        status: RowStatus = "warned" if step.warning else "done"
        reports.append(RowReport(line.number, list(key), status, step.warning, work.do(step)))
        if counted():
            raise Stopped(reports)
    if rules.importer.missing == "deleted" and not work.recodes and not work.removes:
        for at in work.before:
            if at not in listed:
                shelf.remove(at, work.by, number)
    return reports


def _under_fields(table: ImportTable, headings: Mapping[str, str]) -> ImportTable:
    """What a file says, under the names of the store's fields."""
    if not headings:
        return table
    lines = [_line_under_fields(line, headings) for line in table.lines]
    return ImportTable([headings.get(heading, heading) for heading in table.headings], lines)


def _line_under_fields(line: Line, headings: Mapping[str, str]) -> Line:
    """A line under the names of the fields."""
    return Line(line.number, {headings.get(name, name): text for name, text in line.says.items()}, line.gone, line.code)


@dataclass(frozen=True, slots=True)
class _Step:
    """What a row comes to: the numbers of its items (none: a new one), what they are and what they will be, a warning,
    and whether they go away.
    """

    line: Line
    key: tuple[str, ...]
    rows: Sequence[int]
    before: Sequence[Item]
    after: Sequence[Item]
    warning: str = ""
    leaves: bool = False

    @property
    def items(self) -> Sequence[Item]:
        """The items as they would be; those that go, as they are."""
        return self.after or self.before


class _Import:
    """One import at work."""

    def __init__(self, shelf: Shelf, rules: ImportRules, action: Action, number: int, faults: Faults) -> None:
        self.shelf, self.rules, self.importer = shelf, rules, rules.importer
        self.action, self.number, self.faults, self.by = action, number, faults, f"import {number}"
        self.patch = self.importer.form in PATCHES
        self.recodes = action == "recode"
        self.before = shelf.item_numbers() if self.importer.missing == "deleted" else []
        self.flag = self.importer.removal.heading if self.importer.removal.how == "flag" else None
        self.removes = action == "remove" and self.flag is None
        self.code_heading = NEW_CODE if self.patch else self.importer.code_change.heading
        self.code_field = self.importer.code_change.field or shelf.key[0]

    def refuse_file(self, table: ImportTable, name: str) -> None:
        """FileError where the headings are not such as the importer takes."""
        if self.recodes and self.importer.code_change.how != "row" and self.importer.form != "json patch":
            raise FileError(f"{name}: this importer does not change codes by rows.")
        for part in self.shelf.key:
            if table.lines and part not in table.headings:
                raise FileError(f'{name}: it lacks the heading "{part}", which is the key.')
        besides = {*self.importer.with_adjusted, *self.importer.columns, self.flag}
        besides |= {self.code_heading} if self.recodes or self.code_heading in self.importer.headings else set()
        for heading in table.headings:
            if heading not in self.shelf.fields and heading not in besides:
                raise FileError(f'{name}: the store has no field "{heading}".')
        wanted = self.importer.headings
        fixed = bool(wanted) and self.importer.form not in SPARSE and not self.removes
        if fixed and table.headings != wanted:
            raise FileError(f"{name}: its headings are not those that the importer wants: {', '.join(wanted)}.")

    def whole_items(self, lines: Sequence[Line]) -> list[Line]:
        """The lines with those that continue an item, which have no key, folded into it."""
        if not self.rules.continued or self.importer.form in SPARSE:
            return list(lines)
        out: list[Line] = []
        for line in lines:
            if out and not any((line.says.get(name) or "").strip() for name in self.shelf.key):
                for name, between in self.rules.continued.items():
                    if (more := line.says.get(name) or "").strip():
                        first = out[-1].says.get(name) or ""
                        out[-1].says[name] = first + between + more if first.strip() else more
            else:
                out.append(line)
        return out

    def new_key(self, line: Line, key: Sequence[str]) -> tuple[str, ...]:
        """The key that a line of new codes gives its item."""
        code = line.code if line.code is not None else line.says.get(self.code_heading) or ""
        return tuple(code if name == self.code_field else text for name, text in zip(self.shelf.key, key, strict=True))

    def step(self, line: Line, key: tuple[str, ...], items: Mapping[int, Item]) -> _Step:
        """What a row comes to, of the `items` with its key. Refused where the importer does not take it."""
        rows, before = list(items), list(items.values())
        self._must_be_an_item(key, rows)
        if line.gone or self.removes:
            if not rows:
                raise Refused("there is no such item to remove")
            return _Step(line, key, rows, before, [], leaves=True)
        if not self.recodes or not self.patch:  # which moves an item as it is
            self._must_be_taken(rows)
            self._must_have(line, self.importer.carries)
        if self.recodes:
            return _Step(line, key, rows, before, self._recoded(line, key, before))
        if rows:
            after = [self._changed(item, line) for item in before]
        else:
            self._must_have(line, self.importer.needs)
            after = [self._new(line)]
        after, warning = self._stored(line, after)
        leaves = self.flag is not None and line.says.get(self.flag) == self.importer.removal.value
        return _Step(line, key, rows, before, after, warning, leaves=leaves)

    def refused_on_demand(self, steps: Sequence[_Step]) -> dict[int, str]:
        """Which of the rows, by their numbers, are refused because somebody asked for that, and why."""
        out: dict[int, str] = {}
        owners = [step.line.number for step in steps for _ in step.items]
        for refusal in self.faults.refuse if owners else ():
            if refusal.condition is None:
                hits = [step.line.number for step in steps if refusal.words in step.key]
            else:
                items = pl.DataFrame([item for step in steps for item in step.items], infer_schema_length=1)
                holds = evaluate(refusal.condition, Rows({"": items}, self.rules.fields(), self.rules.writing()))
                hits = [number for number, hit in zip(owners, holds, strict=True) if hit]
            what = "this item" if refusal.condition is None else refusal.words
            out = dict.fromkeys(hits, f"refused on demand: {what}") | out
        return out

    def do(self, step: _Step) -> int | None:
        """Do what a row comes to, unless it is one that is only said to be done; the item's number."""
        rows = step.rows
        if self.faults.drops(self.number, step.line.number):
            return rows[0] if rows else None
        if not rows:
            return self.shelf.add(step.after[0], self.by, self.number)
        for place, at in enumerate(rows):
            if step.after:
                self.shelf.put(at, step.after[place], self.by, self.number, before=step.before[place])
            if step.leaves:
                self.shelf.remove(at, self.by, self.number)
        return rows[0]

    def _must_be_an_item(self, key: Sequence[str], rows: Sequence[int]) -> None:
        if any(not text.strip() for text in key):
            raise Refused("its key is blank")
        if len(rows) > 1 and not self.rules.shared:
            raise Refused("two items have this key")

    def _must_be_taken(self, rows: Sequence[int]) -> None:
        if self.importer.takes == "updates" and not rows:
            raise Refused("there is no such item, and the importer takes updates only")
        if self.importer.takes == "additions" and rows:
            raise Refused("there is such an item, and the importer takes new items only")

    def _must_have(self, line: Line, fields: Sequence[str]) -> None:
        for name in fields:
            if not (line.says.get(name) or "").strip():
                raise Refused(f'it lacks "{name}", which every such row must have')

    def _recoded(self, line: Line, key: Sequence[str], before: Sequence[Item]) -> list[Item]:
        code = self.new_key(line, key)[self.shelf.key.index(self.code_field)]
        if not before:
            raise Refused("there is no such item")
        if not code.strip():
            raise Refused("its new code is blank")
        for item in before:
            others = {name: text for name, text in line.says.items() if name in item and name not in self.shelf.key}
            texts = {name: text for name, text in others.items() if text or self.importer.blanks == "clear"}
            if any(text is not None and text != item[name] for name, text in texts.items()):
                raise Refused("a row with a new code changes the item, too")
        return [item | {self.code_field: code} for item in before]

    def _changed(self, item: Item, line: Line) -> Item:
        after = dict(item)
        for name, text in line.says.items():
            if name in self.shelf.key or name not in after:
                continue
            wanted = text or ""
            if not wanted.strip() and (
                name in self.importer.adjusted or (self.importer.blanks == "skip" and not self.patch)
            ):
                continue
            if name in self.importer.adjusted:
                after[name] = self._sum(name, after[name], wanted)
            elif self.importer.lists == "marked" and self.rules.fields().get(name, Field()).kind == "list":
                after[name] = self._list(name, after[name], wanted)
            else:
                after[name] = "" if wanted == self.importer.empties else wanted
        return after

    def _new(self, line: Line) -> Item:
        """A new item has what stands in its row."""
        texts = {name: line.says.get(name) or "" for name in self.shelf.fields}
        skips = self.importer.blanks == "skip" and not self.patch
        return {
            name: "" if skips and not text.strip() and name not in self.shelf.key else text
            for name, text in texts.items()
        }

    def _stored(self, line: Line, states: Sequence[Item]) -> tuple[list[Item], str]:
        """What the store makes of the fields that a row says something of; and what it says to that."""
        if not self.faults.alters:
            return list(states), ""
        cut = []
        out = [dict(item) for item in states]
        for item in out:
            for name, wanted in line.says.items():
                if name in item and name not in self.shelf.key and (wanted or "").strip():
                    text = self.faults.stored(name, item[name], self._mark())
                    if name in self.faults.cut and text != item[name] and name not in cut:
                        cut.append(name)
                    item[name] = text
        return out, "".join(f"{name} was cut after {self.faults.cut[name]} characters. " for name in cut).strip()

    def _mark(self) -> str:
        return self.rules.writing().decimal_mark or "."

    def _sum(self, name: str, now: str, step: str) -> str:
        mark = self._mark()
        try:
            old = Decimal(now.strip().replace(mark, ".") or "0")
            return f"{old + Decimal(step.strip().replace(mark, '.')):f}".replace(".", mark)
        except InvalidOperation:
            raise Refused(f'"{name}": {step!r} cannot be added to {now!r}') from None

    def _list(self, name: str, now: str, wanted: str) -> str:
        between = self.rules.fields()[name].separator or ","
        mark = between.strip() or " "
        values = [value.strip() for value in now.split(mark) if value.strip()]
        for word in (part.strip() for part in wanted.split(mark)):
            if word.startswith(self.importer.adds):
                values.append(word.removeprefix(self.importer.adds))
            elif (away := word.removeprefix(self.importer.takes_away)) != word and away in values:
                values.remove(away)
            else:
                raise Refused(f'"{name}": {word!r} neither adds a value nor takes one away')
        return between.join(values)
