"""The store's own word: which rows of its report are which of the items that were sent, and what it says of each."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import polars as pl

from neat_delta.core.infer.results import TOTALS
from neat_delta.core.match.keys import KeyText, key_text
from neat_delta.core.model.changeset import ChangeSet
from neat_delta.core.model.results import ResultsForm, RowStatus, Said
from neat_delta.core.model.store import Key
from neat_delta.core.support.errors import CatalogueError, StoreError

__all__ = ["FileRow", "ItemResult", "ReportRow", "Results", "message_form", "read_results", "sent_items"]

WORST: tuple[Said, ...] = ("done", "warned", "skipped", "refused")
"""Of what is said of an item in several files or reports, the last of these counts."""


@dataclass(frozen=True, slots=True)
class FileRow:
    """A row of an update file: the file's name, the row's number (as a spreadsheet counts), and its key."""

    file: str
    row: int
    key: tuple[str, ...]


@dataclass(frozen=True, slots=True)
class ReportRow:
    """A row of a report that names nothing that was sent: the report, its row, its key or number, and what it says."""

    report: str
    row: int
    key: str
    status: str
    message: str


@dataclass(frozen=True, slots=True)
class ItemResult:
    """What the store says of an item: a status, its message, and its own numbers of it."""

    said: Said
    message: str = ""
    ids: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class Results:
    """What the store says of each item that was sent, by its number in the change set; rows that name nothing that was
    sent (`others`), keys that stand in a report twice (`repeated`: the last one counts), and how many lines are no
    row's, such as totals (`aside`).
    """

    by_item: Mapping[int, ItemResult]
    others: list[ReportRow]
    repeated: list[str]
    aside: int

    @property
    def counts(self) -> dict[Said, int]:
        """How many items the store says what of."""
        return dict(Counter(one.said for one in self.by_item.values()))


def sent_items(changes: ChangeSet) -> list[int]:
    """The numbers of the items of which something was sent.

    >>> from neat_delta import as_catalogue, compare
    >>> live = as_catalogue({"sku": ["QA-1", "QA-2"], "price": ["9.90", "20.00"]}, "live")
    >>> sheet = as_catalogue({"sku": ["QA-2", "QA-1"], "price": ["20.00", "10.50"]}, "sheet")
    >>> sent_items(compare(live, sheet))
    [0]
    """
    gone = (changes.items["verdict"] == "gone") & changes.items["held"].is_null()
    return sorted({*gone.arg_true().to_list(), *changes.sent()["item"].to_list()})


def read_results(
    changes: ChangeSet,
    reports: Sequence[tuple[str, pl.DataFrame]],
    form: ResultsForm,
    rows: Sequence[FileRow] = (),
) -> Results:
    """What reports (each with its name, all cells texts) say of the items of a change set as it was sent.

    `form` says what their columns mean; `rows` are those of the update files, by which row numbers are known.
    StoreError when a report lacks a heading or has a word of status that means nothing; CatalogueError when hardly a
    row of it is of these items: it is the report of another round.
    """
    known, items = _known(changes, rows)
    by_row = {(one.file, one.row): one.key for one in rows}
    by_item: dict[int, ItemResult] = {}
    others: list[ReportRow] = []
    repeated: list[str] = []
    aside = 0
    for name, report in reports:
        _must_have(report, form, name)
        one = _Report(name, form, changes.header.compared_by, known, by_row)
        for place, row in enumerate(report.iter_rows(named=True), 2):
            one.take(place, row)
        one.must_be_of_this_round()
        others += one.others
        repeated += one.repeated
        aside += one.aside
        for numbers, result in one.by_key.values():
            for item in numbers:
                old = by_item.get(item)
                if old is None or WORST.index(result.said) >= WORST.index(old.said):
                    by_item[item] = result
    silent = ItemResult("done" if form.only_refused else "not mentioned")
    return Results({item: by_item.get(item, silent) for item in items}, others, list(dict.fromkeys(repeated)), aside)


class _Report:
    """One report on its way, row by row."""

    def __init__(
        self,
        name: str,
        form: ResultsForm,
        key: Key,
        known: Mapping[KeyText, Sequence[int]],
        by_row: Mapping[tuple[str, int], tuple[str, ...]],
    ) -> None:
        self.name, self.form, self.key, self.known, self.by_row = name, form, key, known, by_row
        self.files = list(dict.fromkeys(file for file, _ in by_row))
        self.by_key: dict[tuple[KeyText, str], tuple[Sequence[int], ItemResult]] = {}
        self.others: list[ReportRow] = []
        self.repeated: list[str] = []
        self.aside = 0

    def take(self, place: int, row: Mapping[str, str]) -> None:
        """Take a row in, which stands at this place of the report."""
        form = self.form
        key = key_text([row[one] for one in form.key], self.key) if form.key else self._key_by_row(row)
        if key is None or not any(key) or (key not in self.known and re.search(TOTALS, " ".join(key))):
            self.aside += 1
            return
        shown = " / ".join(row[one].strip() for one in form.key) or key[0]
        message = row[form.message].strip() if form.message else ""
        if key not in self.known:
            self.others.append(ReportRow(self.name, place, shown, row[form.status] if form.status else "", message))
            return
        where = key, row[form.file].strip() if form.file else ""
        if where in self.by_key:
            self.repeated.append(shown)
        result = ItemResult(self._status(row, place), message, tuple(row[one] for one in form.ids))
        self.by_key[where] = self.known[key], result

    def must_be_of_this_round(self) -> None:
        """CatalogueError when hardly a row names an item that was sent."""
        known = len(self.by_key) + len(self.repeated)
        if len(self.others) > known:
            raise CatalogueError(
                f"{self.name}: of its {known + len(self.others):,} rows only {known:,} name an item that was sent. It "
                "is the report of another round, or its key is another column than [results] says."
            )

    def _status(self, row: Mapping[str, str], place: int) -> RowStatus:
        form = self.form
        if form.status is None:
            return "refused" if form.only_refused or (form.message and row[form.message].strip()) else "done"
        word = row[form.status].strip()
        said = form.words.get(word.casefold())
        if said is None:
            raise StoreError(
                f'{self.name}, row {place:,}: [results] does not say what the status "{word}" means. '
                "Put it under done, warned, skipped or refused."
            )
        return said

    def _key_by_row(self, row: Mapping[str, str]) -> KeyText | None:
        number = row[str(self.form.row)].strip()
        if not number.isdecimal():
            return None
        file = row[self.form.file].strip() if self.form.file else None
        if file is None and len(self.files) > 1:
            raise StoreError(
                f"{self.name}: it has row numbers and no keys, and there are several update files. Say which column "
                "has the file's name (file under [results]), or where the key stands."
            )
        texts = self.by_row.get((self.files[0] if file is None else file, int(number) - self.form.first_row + 2))
        return (f"row {number}",) if texts is None else key_text(texts, self.key)


def _known(changes: ChangeSet, rows: Sequence[FileRow]) -> tuple[dict[KeyText, list[int]], list[int]]:
    """The items by every key that a report may name them by (none for what a file only carries along), and those that
    were sent.
    """
    key, items = changes.header.compared_by, sent_items(changes)
    known: dict[KeyText, list[int]] = {key_text(row.key, key): [] for row in rows}
    sent = changes.sent().filter(pl.col("field").cast(pl.String).is_in(key.fields))
    codes = {(item, str(field)): after for item, field, after in sent.select("item", "field", "after").iter_rows()}
    for item in items:
        parts = changes.keys.row(item)
        for named in (parts, [codes.get((item, name), text) for name, text in zip(key.fields, parts, strict=True)]):
            those = known.setdefault(key_text(named, key), [])
            if item not in those:
                those.append(item)
    return known, items


def _must_have(report: pl.DataFrame, form: ResultsForm, name: str) -> None:
    if not form.key and form.row is None:
        raise StoreError(
            "[results] in the store file says neither which column of a report has the key nor which the row. "
            "`neat-delta learn` drafts it with ‹results›."
        )
    settings = (("row", form.row), ("file", form.file), ("status", form.status), ("message", form.message))
    for setting, heading in (*(("key", one) for one in form.key), *settings, *(("ids", one) for one in form.ids)):
        if heading is not None and heading not in report.columns:
            raise StoreError(
                f'{name}: it has no heading "{heading}", which is {setting} under [results]. It has: '
                f"{', '.join(report.columns[:12])}."
            )


def message_form(message: str, key: Sequence[str] = ()) -> str:
    """A message without what is of one item alone: its codes, numbers and what stands in quotes.

    >>> message_form("QA-1027: price 9.90 must be above cost 11.20", ["QA-1027"])
    '#: price # must be above cost #'
    """
    for text in sorted(key, key=len, reverse=True):
        if text.strip():
            message = re.sub(rf"(?<!\w){re.escape(text.strip())}(?!\w)", "#", message)
    message = re.sub(r"\"[^\"]*\"|“[^”]*”|«[^»]*»|(?<!\w)'[^']*'(?!\w)", "#", message)
    message = re.sub(r"\S*[0-9]\S*?(?=[.,;:!?)]*(?:\s|$))", "#", message)
    return " ".join(re.sub(r"#(\s*#)+", "#", message).split())
