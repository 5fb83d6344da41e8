"""A practice store: a catalogue on a shelf, the store file's rules, faults; import, export, patches, sales."""

from __future__ import annotations

import csv
import io
import json
import random
import sqlite3
import threading
from collections import Counter
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from functools import cached_property, partial
from pathlib import Path
from typing import Any, get_args

import msgspec
import polars as pl

from neat_delta.core.base.infer.learn import learn, with_writing
from neat_delta.core.base.model.catalogue import Catalogue
from neat_delta.core.base.model.layout import LINE_ENDS, Layout, Notation
from neat_delta.core.base.model.results import ResultsForm, RowStatus
from neat_delta.core.base.model.store import Field, Store
from neat_delta.core.base.model.update import Action
from neat_delta.core.base.query.expressions import Rows, condition, evaluate
from neat_delta.core.base.support.errors import CatalogueError, FileError, NeatDeltaError
from neat_delta.core.sheets.match.continuation import split_lines
from neat_delta.core.sheets.match.prepare import prepare, unseen_fields
from neat_delta.files.readers.encoding import BOMS
from neat_delta.files.updates import layout_of
from neat_delta.files.whole import digest_of
from neat_delta.files.writers.delimited import write_delimited
from neat_delta.practice.faults import NO_FAULTS, Faults
from neat_delta.practice.importer import ImportRules, RowReport, Stopped, import_lines
from neat_delta.practice.lines import as_text, read_lines
from neat_delta.practice.shelf import Item, Shelf

__all__ = ["BusyError", "ConflictError", "Report", "Shop", "TooLargeError", "report_csv"]


class BusyError(NeatDeltaError):
    """The store is busy; try again."""


class TooLargeError(NeatDeltaError):
    """The file has more rows or bytes than the importer takes."""


class ConflictError(NeatDeltaError):
    """The item is not as it was when it was fetched."""


class Report(msgspec.Struct, frozen=True):
    """What an import came to: its number, the file's name, what became of each row; `checked` is a trial that changed
    nothing, and `stopped` an import that stopped in the middle.
    """

    number: int
    file: str
    key: list[str]
    rows: list[RowReport]
    checked: bool = False
    stopped: bool = False

    @property
    def counts(self) -> dict[str, int]:
        """How many rows have each status."""
        statuses = Counter(row.status for row in self.rows)
        return {status: statuses[status] for status in ("done", "warned", "skipped", "refused") if statuses[status]}


def report_csv(reports: Sequence[Report], form: ResultsForm | None = None) -> bytes:
    r"""The store's report as it is downloaded, in CSV: under the headings and with the words that `form` says the store
    has, or under plain ones.

    >>> rows = [RowReport(2, ["QA-1"], "done", "", 1), RowReport(3, ["QA-2"], "refused", "too high")]
    >>> form = ResultsForm(["Art."], status="State", done=["ok"], refused=["no"])
    >>> report_csv([Report(1, "u.csv", ["sku"], rows)], form)
    b'Art.,State\nQA-1,ok\nQA-2,no\n'
    """
    key = reports[0].key if reports else []
    plain = form is None or not (form.key or form.row) or form.line is not None
    form_used = PLAIN if plain or form is None else form
    words = {status: _word(form_used, status) for status in get_args(RowStatus)}
    unsaid = dict.fromkeys(words, "") | ({} if form_used.status else {"refused": "refused"})
    headings = key if plain else form_used.key
    columns: list[tuple[str | None, Callable[[Report, RowReport], str | int]]] = [
        (form_used.file, lambda report, row: report.file),
        (form_used.row, lambda report, row: row.row - 2 + form_used.first_row),
        *((heading, partial(_key_part, place)) for place, heading in enumerate(headings)),
        (form_used.status, lambda report, row: words[row.status]),
        (form_used.message, lambda report, row: row.message or unsaid[row.status]),
        (form_used.ids[0] if form_used.ids else None, lambda report, row: row.item or ""),
    ]
    columns = [(heading, cell) for heading, cell in columns if heading]
    out = io.StringIO(newline="")
    writer = csv.writer(out, lineterminator="\n")
    writer.writerow([heading for heading, _ in columns])
    rows = (
        (report, row)
        for report in reports
        for row in report.rows
        if row.status == "refused" or not form_used.only_refused
    )
    writer.writerows([cell(report, row) for _, cell in columns] for report, row in rows)
    return out.getvalue().encode()


def _key_part(place: int, report: Report, row: RowReport) -> str:
    """A part of a row's key; blank where the report has a heading too many."""
    del report
    return row.key[place] if place < len(row.key) else ""


PLAIN = ResultsForm(
    row="row", file="file", status="status", done=["done"], warned=["warned"], skipped=["skipped"], refused=["refused"],
    message="message", ids=["item"],
)  # fmt: skip
"""What a report looks like where the store file says nothing of it."""


def _word(form: ResultsForm, status: RowStatus) -> str:
    """The store's word for a status; for one that it has none for, that of the nearest."""
    nearest: dict[RowStatus, list[str]] = {"warned": form.done, "skipped": form.refused}
    words = getattr(form, status) or nearest.get(status, [])
    return str(words[0]) if words else status


MOST_SALES = 10_000
"""So many pieces are sold between two looks at the most; nobody notices more."""


@dataclass(slots=True)
class _Life:
    """What goes on between the imports."""

    rows_taken: int = 0
    stopped: bool = False
    put_off: set[str] = field(default_factory=set)
    sold: int = 0


class Shop:
    """A practice store. One thing is done at a time; a request waits for the one before it. The catalogue is in memory,
    or in the file to `keep`; `headings` are what files call the fields, where `live` has them under their own names.
    """

    def __init__(
        self,
        live: Catalogue,
        store: Store | None = None,
        *,
        keep: str | None = None,
        headings: Mapping[str, str] | None = None,
    ) -> None:
        self.store = store or Store()
        prepared = prepare(live, self.store, unseen=unseen_fields(self.store))
        self.live, self.names = prepared.catalogue, prepared.headings | dict(headings or {})
        for name in self.live.unseen:  # no export shows its heading, and yet the store has it
            self.names.setdefault(
                name, (self.store.fields[name].heading if name in self.store.fields else None) or name
            )
        self.key = prepared.key.fields
        self.layout = layout_of(self.live.layout, self.store.importer)
        self.faults: Faults = NO_FAULTS
        self.lock = threading.RLock()
        self.life = _Life()
        self.shelf = self._kept_in(keep) if keep else Shelf(":memory:", self.live.fields, self.key)
        if not self.shelf.is_filled:
            self.shelf.fill(self.live.cells)

    @cached_property
    def kinds(self) -> Mapping[str, Field]:
        """What is known of the fields: as the store file says, or as its export shows."""
        return self.store.fields or learn(self.live, self.key).store.fields

    @cached_property
    def settings(self) -> Notation:
        """How the store writes values."""
        return with_writing(msgspec.structs.replace(self.store, fields=dict(self.kinds)), self.live).writing

    def _kept_in(self, path: str) -> Shelf:
        """The shelf in a file; FileError when that is something else, or keeps another catalogue."""
        if not Path(path).parent.is_dir() or Path(path).is_dir():
            raise FileError(f"{path}: there is no such folder to keep a file in, or it is one. Name another file.")
        bytes_there = Path(path).exists() and Path(path).stat().st_size
        try:
            shelf = Shelf(path, self.live.fields, self.key)
            kept = shelf.kept() if shelf.is_filled else None
        except (sqlite3.Error, KeyError, ValueError) as error:
            what = "this is no practice store's" if bytes_there else f"it cannot be made ({error})"
            raise FileError(f"{path}: {what}. Name another file.") from None
        if bytes_there and kept is None:
            raise FileError(f"{path}: this is no practice store's. Name another file.")
        if kept is not None and kept != (self.live.fields, self.key):
            raise FileError(f"{path}: it keeps a catalogue with other fields or another key. Name another file.")
        return shelf

    def heading(self, name: str) -> str:
        """What the store's files call a field."""
        return self.names.get(name, name)

    @property
    def rules(self) -> ImportRules:
        """What an import goes by."""
        called = self.store.importer.called
        lines = self.live.continued.fields if self.live.continued else {}
        headings = {called.get(name, self.heading(name)): name for name in self.live.fields}
        headings = {heading: name for heading, name in headings.items() if heading != name}
        shared = self.store.key.shared == "all"
        return ImportRules(
            self.store.importer, lambda: self.kinds, lambda: self.settings, shared, dict(lines), headings
        )

    def import_file(self, data: bytes, name: str, action: Action | None = None, *, check: bool = False) -> Report:
        """Import a file, or only try it (`check`). FileError when it is refused as a whole, TooLargeError by its
        size, BusyError when the store puts it off.
        """
        importer, layout = self.store.importer, self.layout
        if importer.most_bytes is not None and len(data) > importer.most_bytes:
            raise TooLargeError(f"{name}: it has {len(data):,} bytes, and the store takes {importer.most_bytes:,}.")
        with self.lock:
            if self.faults.busy and not check and (mark := digest_of(data)) not in self.life.put_off:
                self.life.put_off.add(mark)
                raise BusyError("The store is busy. Try again in a second.")
            rules = self.rules
            heading = {field: field_name for field_name, field in rules.headings.items()}
            keys = [heading.get(field, field) for field in self.key]
            table = read_lines(data, importer.form, layout, keys, name)
            if importer.most_rows is not None and len(table.lines) > importer.most_rows:
                raise TooLargeError(
                    f"{name}: it has {len(table.lines):,} rows, and the store takes {importer.most_rows:,}."
                )
            if action is None:
                new_codes = importer.code_change.heading in table.headings or any(line.code for line in table.lines)
                action = "recode" if new_codes and importer.code_change.heading not in self.live.fields else "change"
            number, stopped = self.shelf.imports() + 1, False
            try:
                with self.shelf.transaction():
                    try:
                        rows = import_lines(
                            self.shelf, table, rules, action, number=number, name=name, faults=self.faults,
                            counted=(lambda: False) if check else self._counted,
                        )  # fmt: skip
                    except Stopped as stop:
                        rows, stopped = stop.reports, True
                    report = Report(number, name, [self.heading(part) for part in self.key], rows, check, stopped)
                    if check:
                        raise _Undone
                    self.shelf.keep_report(number, name, msgspec.json.encode(report).decode())
            except _Undone:
                pass
            return report

    def _counted(self) -> bool:
        """Count a row; whether the import is to stop after it."""
        self.life.rows_taken += 1
        if self.life.stopped or self.faults.fail_after is None or self.life.rows_taken < self.faults.fail_after:
            return False
        self.life.stopped = True
        return True

    def report(self, number: int) -> Report | None:
        """The report of an import; None when there is none of that number."""
        return next(iter(self.reports(number)), None)

    def reports(self, number: int | None = None) -> list[Report]:
        """The reports of all imports, or of one, the latest first."""
        with self.lock:
            return [msgspec.json.decode(text, type=Report) for text in self.shelf.reports(number)]

    def page(self, search: str, start: int, many: int) -> tuple[list[Item], int]:
        """The items in which a text stands, from `start` on, and how many there are of them."""
        with self.lock:
            return self.shelf.page(search, start, many)

    def history(self, key: Sequence[str] | None = None) -> list[dict[str, str | int | None]]:
        """What was done, the latest first: to one item, or to all."""
        with self.lock:
            rows = [None] if key is None else self.shelf.with_key(key)[:1]
            return [row for number in rows for row in self.shelf.history(number)]

    def table(self, fields: Sequence[str] = (), where: str | None = None) -> pl.DataFrame:
        """The catalogue, or a part of it, under its headings; a condition as SQL has it. CatalogueError for a field
        that is none, ConditionError for a condition that means nothing.
        """
        with self.lock:
            cells = self.shelf.table()
        if where:
            cells = cells.filter(evaluate(condition(where), Rows({"": cells}, self.kinds, self.settings)))
        named = {self.heading(name): name for name in cells.columns}
        for name in fields:
            if name not in cells.columns and name not in named:
                raise CatalogueError(f'the store has no field "{name}".')
        wanted = [named.get(name, name) for name in fields] or [n for n in cells.columns if n not in self.live.unseen]
        cells = cells.select([*self.key, *(name for name in wanted if name not in self.key)] if fields else wanted)
        if self.live.continued is not None:
            cells = split_lines(cells, self.live.continued.fields)
        return cells.rename({name: self.heading(name) for name in cells.columns})

    def export_csv(self, cells: pl.DataFrame) -> bytes:
        """An export as the store makes it: in the layout of the one that it began with, a title above its headings if
        that has any.
        """
        own = self.live.layout if self.live.layout.format == "delimited" else Layout(format="delimited")
        layout = msgspec.structs.replace(own, packing=None)
        try:
            data = write_delimited(cells, layout, "The export")
        except CatalogueError:  # a letter that the old encoding does not have
            layout = msgspec.structs.replace(layout, encoding="utf-8", bom=True)
            data = write_delimited(cells, layout, "The export")
        encoding, end = layout.encoding or "utf-8", LINE_ENDS[layout.line_end or "LF"]
        mark = next((bom for bom, name in BOMS if layout.bom and name == encoding), b"")
        above = "".join([f"Practice store{end}", *[end] * (layout.header_line or 1)][: (layout.header_line or 1) - 1])
        return mark + above.encode(encoding) + data.removeprefix(mark)

    def item(self, key: Sequence[str]) -> tuple[Item, str] | None:
        """An item under its headings and its ETag; None when there is none."""
        with self.lock:
            rows = self.shelf.with_key(key)
            if not rows:
                return None
            item = self.shelf.get(rows[0])
        named = {self.heading(name): text for name, text in item.items()}
        return named, f'"{digest_of(json.dumps(named).encode())[:16]}"'

    def patch(self, key: Sequence[str], patched: Mapping[str, Any], match: str | None) -> tuple[Item, str]:
        """Set an item as a patch left it: what is not there is blank. ConflictError when its ETag is not `match`."""
        with self.lock:
            known = self.item(key)
            if known is None:
                raise FileError("there is no such item")
            if match not in {None, "*", known[1]}:
                raise ConflictError("the item was changed meanwhile; fetch it again")
            number, fields = self.shelf.with_key(key)[0], {self.heading(name): name for name in self.live.fields}
            for name in patched:
                if name not in fields:
                    raise FileError(f'the store has no field "{name}"')
            item = {name: as_text(patched.get(heading)) for heading, name in fields.items()}
            item = {
                name: text if text == known[0][self.heading(name)] else self._kept(name, text)
                for name, text in item.items()
            }
            if any(not item[name].strip() for name in self.key):
                raise FileError("a key is never blank")
            other = self.shelf.with_key([item[name] for name in self.key])
            if other and number not in other:
                raise FileError("another item has that key")
            with self.shelf.transaction():
                self.shelf.put(number, item, "patch")
            before = self.item([item[name] for name in self.key])
            assert before is not None
            return before

    def _kept(self, name: str, text: str) -> str:
        return self.faults.stored(name, text, self.settings.decimal_mark or ".")

    def sell(self, minutes: float) -> int:
        """Sell what is due after so many minutes from the start; how many pieces went."""
        by_now, went = int(minutes * self.faults.sold), 0
        due = range(self.life.sold + 1, min(by_now, self.life.sold + MOST_SALES) + 1)
        self.life.sold = max(by_now, self.life.sold)
        if not due:
            return 0
        name = self.stock
        with self.lock, self.shelf.transaction():
            rows = self.shelf.item_numbers()
            for sale in due if rows else ():
                number = rows[random.Random(f"{self.faults.seed} {sale}").randrange(len(rows))]
                item = self.shelf.get(number)
                if item[name].strip().isdecimal() and int(item[name]) > 0:
                    self.shelf.put(number, item | {name: str(int(item[name]) - 1)}, "sale")
                    went += 1
        return went

    @property
    def stock(self) -> str:
        """The field that a sale takes from; CatalogueError when nothing says which that is."""
        moving = [name for name, field in self.store.fields.items() if field.moving and field.kind == "integer"]
        for name in (self.store.relations.stock, *moving, "stock"):
            if name in self.live.fields:
                return str(name)
        raise CatalogueError("‹sell›: the store file does not say which field is the stock (stock under [relations]).")

    def kind(self, name: str) -> str:
        """What sort of value a field holds."""
        return self.kinds.get(name, Field()).kind

    def with_faults(self, faults: Faults) -> Shop:
        """The same store, with these faults from now on."""
        self.faults = faults
        for refusal in faults.refuse:
            if refusal.condition is not None:  # which says now what is wrong with it
                evaluate(refusal.condition, Rows({"": self.live.cells.head(0)}, self.kinds, self.settings))
        if faults.sold:
            self.stock  # noqa: B018 - says now what is wrong
        return self


class _Undone(Exception):  # noqa: N818 - a trial is taken back
    pass
