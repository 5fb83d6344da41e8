"""The store's own word: which rows of its report are which of the items that were sent, and what it says of each.

Rule: nothing is done that no row says. What a report does not mention was not done, unless the store lists only what it
refused, and says so of itself (`only_refused`). Of several reports of one import the worst word counts, of those of
several imports the last one's.
"""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Collection, Iterable, Mapping, Sequence
from dataclasses import dataclass, replace
from itertools import repeat

import polars as pl

from neat_delta.core.base.infer.results import TOTALS
from neat_delta.core.base.model.after import field_after
from neat_delta.core.base.model.changeset import ChangeSet
from neat_delta.core.base.model.results import ResultsForm, ResultStatus, RowStatus
from neat_delta.core.base.model.store import Key
from neat_delta.core.base.support.errors import CatalogueError, StoreError
from neat_delta.core.base.support.progress import with_progress
from neat_delta.core.base.support.series import gathered
from neat_delta.core.sheets.match.keys import KeyText, key_texts

__all__ = ["FileRow", "ItemResult", "ReportRow", "Results", "message_form", "read_results", "sent_items"]

GOOD = ("done", "warned")
WORST: tuple[ResultStatus, ...] = ("done", "warned", "skipped", "refused")
"""Of what is said of an item in several files or reports, the last of these counts."""


@dataclass(frozen=True, slots=True)
class FileRow:
    """A row of an update file: the file's name, the row's number (as a spreadsheet counts), its key, and the numbers of
    the items in the change set that it says something of (none: what a file only carries along).
    """

    file: str
    row: int
    key: tuple[str, ...]
    items: tuple[int, ...] = ()


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
    """What the store says of an item: a status, its message, and its own numbers of it; `mixed`: different things in
    different rows, of which this is the worst.
    """

    status: ResultStatus
    message: str = ""
    ids: tuple[str, ...] = ()
    mixed: bool = False


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
    def counts(self) -> dict[ResultStatus, int]:
        """How many items the store says what of."""
        return dict(Counter(result.status for result in self.by_item.values()))


def sent_items(changes: ChangeSet) -> list[int]:
    """The numbers of the items of which something was sent.

    >>> from neat_delta import as_catalogue, compare
    >>> live = as_catalogue({"sku": ["QA-1", "QA-2"], "price": ["9.90", "20.00"]}, "live")
    >>> sheet = as_catalogue({"sku": ["QA-2", "QA-1"], "price": ["20.00", "10.50"]}, "sheet")
    >>> sent_items(compare(live, sheet))
    [0]
    """
    return sorted({*changes.sent_without_cells(), *changes.sent()["item"]})


def read_results(
    changes: ChangeSet,
    reports: Sequence[tuple[str, pl.DataFrame]],
    form: ResultsForm,
    rows: Sequence[FileRow] = (),
    *,
    again: bool = False,
) -> Results:
    """What reports (each with its name, all cells texts) say of the items of a change set as it was sent.

    `form` says what their columns mean; `rows` are those of the update files, by which row numbers are known. `again`
    says that these are the files of what did not land before: reports of the earlier import come first, what the last
    ones say of an item counts, and of items that are not in these files nothing need be said. StoreError when a report
    lacks a heading, has a word of status that means nothing, or has nothing that tells done from refused;
    CatalogueError when hardly a row of it is of these items: it is the report of another round.
    """
    _must_tell(form, reports)
    columns = [pl.Series(texts) for texts in zip(*(file_row.key for file_row in rows), strict=True)]
    row_keys = key_texts(columns, changes.header.compared_by) if rows else []
    known, items = _known(changes, rows, row_keys)
    by_row = {
        (file_row.file, file_row.row): (known_by, file_row) for file_row, known_by in zip(rows, row_keys, strict=True)
    }
    here = {item for file_row in rows for item in file_row.items} if again else {*items}
    others: list[ReportRow] = []
    repeated: list[str] = []
    aside = 0
    by_report: list[dict[int, ItemResult]] = []
    for name, report in reports:
        _must_have(report, form, name)
        report_of = _Report(name, report, form, changes.header.compared_by, known, by_row)
        report_of.take_rows()
        report_of.must_be_of_this_round()
        others += report_of.others
        repeated += report_of.repeated
        aside += report_of.aside
        by_report.append(_worst(report_of.by_key.values()))
    by_item: dict[int, ItemResult] = {}
    for turn in _turns(by_report, here, len({file_row.file for file_row in rows})) if again else [by_report]:
        if len(turn) == 1:
            by_item |= turn[0]
        else:
            by_item |= _worst(((item,), result) for report in turn for item, result in report.items())
    silent = ItemResult("done" if form.only_refused else "not mentioned")
    by_item = {item: by_item.get(item, silent) for item in items if item in here or item in by_item}
    return Results(by_item, others, list(dict.fromkeys(repeated)), aside)


def _worst(results: Iterable[tuple[Sequence[int], ItemResult]]) -> dict[int, ItemResult]:
    """The worst that is said of each item; of equals the last."""
    out: dict[int, ItemResult] = {}
    for items, result in results:
        for item in items:
            old = out.get(item)
            worse = result if old is None or WORST.index(result.status) >= WORST.index(old.status) else old
            differ = old is not None and (old.mixed or (old.status in GOOD) != (result.status in GOOD))
            out[item] = replace(worse, mixed=True) if differ and not worse.mixed else worse
    return out


def _turns(
    by_report: Sequence[dict[int, ItemResult]], here: Collection[int], files: int
) -> list[Sequence[dict[int, ItemResult]]]:
    """The reports of earlier imports, and those of the last one: at the end, no more than it has files, and none that
    names an item which is not in these.
    """
    since = max(len(by_report) - max(files, 1), 0)
    for place, report in enumerate(by_report):
        if not report.keys() <= {*here}:
            since = max(since, place + 1)
    return [*([report] for report in by_report[:since]), by_report[since:]]


class _Report:
    """One report on its way, row by row."""

    def __init__(
        self,
        name: str,
        report: pl.DataFrame,
        form: ResultsForm,
        key: Key,
        known: Mapping[KeyText, Sequence[int]],
        by_row: Mapping[tuple[str, int], tuple[KeyText, FileRow]],
    ) -> None:
        self.name, self.report, self.form, self.words = name, report, form, form.words
        self.key, self.known, self.by_row = key, known, by_row
        self.files = list(dict.fromkeys(file for file, _ in by_row))
        self.results: dict[tuple[RowStatus, str, tuple[str, ...]], ItemResult] = {}
        self.by_key: dict[tuple[KeyText, str, int], tuple[Sequence[int], ItemResult]] = {}
        self.others: list[ReportRow] = []
        self.repeated: list[str] = []
        self.aside = 0

    def take_rows(self) -> None:
        """Take all rows in."""
        form, report, height = self.form, self.report, self.report.height
        keys: Iterable[KeyText] = repeat((), height)
        if form.key:
            keys = key_texts([report[heading] for heading in form.key], self.key)
        ids: Iterable[tuple[str, ...]] = repeat((), height)
        if form.ids:
            ids = zip(*(report[heading].to_list() for heading in form.ids), strict=True)
        texts = (
            repeat("", height) if heading is None else report[heading].str.strip_chars().to_list()
            for heading in (form.status, form.message, form.file, form.row)
        )
        rows = zip(keys, *texts, ids, strict=True)
        for place, row in enumerate(with_progress(rows, self.name, height)):
            self._take_row(place, *row)

    def _take_row(
        self, place: int, own: KeyText, word: str, message: str, file: str, number: str, ids: tuple[str, ...]
    ) -> None:
        """Take the row at this place in: its key, and the texts of its other cells."""
        key: KeyText | None = own if any(own) else None
        numbered = None
        if key is None and self.form.row is not None:
            key, numbered = self._by_row_number(number, file)
        if key is None or (key not in self.known and re.search(TOTALS, " ".join(key))):
            self.aside += 1
            return
        if key not in self.known:
            status = self.report[self.form.status][place] if self.form.status else ""
            self.others.append(ReportRow(self.name, place + 2, self._displayed(place, key), status, message))
            return
        where = key, numbered.file if numbered else file, numbered.row if numbered else 0
        if where in self.by_key:
            self.repeated.append(self._displayed(place, key))
        entry = self._status(word, message, place + 2), message, ids
        result = self.results.get(entry)
        if result is None:  # most items have what others have
            result = self.results[entry] = ItemResult(*entry)
        self.by_key[where] = self.known[key] if numbered is None else numbered.items, result

    def _displayed(self, place: int, key: KeyText) -> str:
        """The key of a row as a person is shown it."""
        return " / ".join(self.report[heading][place].strip() for heading in self.form.key) or key[0]

    def must_be_of_this_round(self) -> None:
        """CatalogueError when hardly a row names an item that was sent."""
        known = len(self.by_key) + len(self.repeated)
        if len(self.others) > known:
            raise CatalogueError(
                f"{self.name}: of its {known + len(self.others):,} rows only {known:,} name an item that was sent. It "
                "is the report of another round, or its key is another column than [results] says."
            )

    def _status(self, word: str, message: str, row: int) -> RowStatus:
        form = self.form
        if form.status is None:
            return "refused" if form.only_refused or message else "done"
        status = self.words.get(word.casefold())
        if status is None:
            raise StoreError(
                f'{self.name}, row {row:,}: [results] does not say what the status "{word}" means. '
                "Put it under done, warned, skipped or refused."
            )
        return status

    def _by_row_number(self, number: str, file: str) -> tuple[KeyText | None, FileRow | None]:
        """The key of the row that a number names, and that row; where there is none, the number as a key."""
        if not number.isdecimal() or len(number) > LONGEST_NUMBER:
            return None, None
        if not file and len(self.files) > 1:
            raise StoreError(
                f"{self.name}: it has row numbers and no keys, and there are several update files. Say which column "
                "has the file's name (file under [results]), or where the key stands."
            )
        if not self.files:
            raise StoreError(
                f"{self.name}: it has row numbers and no keys. They are those of the update files: name the folder "
                "that `write` made (‹files›)."
            )
        named = self.by_row.get((file or self.files[0], int(number) - self.form.first_row + 2))
        return ((f"row {number}",), None) if named is None else named


LONGEST_NUMBER = 9
"""No row of a file has a number of more digits."""


def _known(
    changes: ChangeSet, rows: Sequence[FileRow], row_keys: Sequence[KeyText]
) -> tuple[dict[KeyText, list[int]], list[int]]:
    """The items by every key that a report may name them by, and those that were sent: by the key that a row of theirs
    has in the files, by their own, and by the new one, where that was nobody else's.
    """
    key, items = changes.header.compared_by, sent_items(changes)
    known: dict[KeyText, list[int]] = {}

    def name(known_by: KeyText, those: Iterable[int]) -> None:
        items_known = known.setdefault(known_by, [])
        items_known += [item for item in those if item not in items_known]

    for row, known_by in zip(rows, row_keys, strict=True):
        name(known_by, row.items)
    own = gathered(changes.keys, items)
    for item, known_by in zip(items, key_texts(own.get_columns(), key), strict=True):
        name(known_by, [item])
    olds = {code: list(those) for code, those in known.items()}
    coded, codes = _with_new_codes(changes, items, own)
    for item, known_by in zip(coded, key_texts(codes, key), strict=True):
        if not olds.get(known_by):
            name(known_by, [item])
    return known, items


def _with_new_codes(
    changes: ChangeSet, items: Sequence[int], own: pl.DataFrame
) -> tuple[pl.Series, Sequence[pl.Series]]:
    """The items whose code changes, and the columns of the key that they then have; `own` are the keys of the `items`
    as they were.
    """
    fields = changes.header.key
    sent = changes.sent().with_columns(pl.col("field").cast(pl.String)).filter(pl.col("field").is_in(fields))
    coded = sent["item"].unique(maintain_order=True).cast(pl.Int64)
    places = pl.Series(items, dtype=pl.Int64).search_sorted(coded)
    return coded, [
        field_after(gathered(own[name], places), sent.filter(pl.col("field") == name).select("item", "after"), coded)
        for name in fields
    ]


def _must_tell(form: ResultsForm, reports: Sequence[tuple[str, pl.DataFrame]]) -> None:
    """StoreError where nothing tells what was done from what was refused."""
    if form.status is None and form.message is None and not form.only_refused and reports:
        name, report = reports[0]
        raise StoreError(
            f"{name}: nothing in it tells what was done from what was refused; it has "
            f"{', '.join(report.columns[:12])}. Say under [results] in the store file which column is the status or "
            "the message, or only_refused = true where the store lists only what it refused."
        )


def _must_have(report: pl.DataFrame, form: ResultsForm, name: str) -> None:
    if not form.key and form.row is None:
        raise StoreError(
            "[results] in the store file says neither which column of a report has the key nor which the row. "
            "`neat-delta learn` drafts it with ‹results›."
        )
    settings = (("row", form.row), ("file", form.file), ("status", form.status), ("message", form.message))
    for setting, heading in (
        *(("key", key_heading) for key_heading in form.key),
        *settings,
        *(("ids", id_heading) for id_heading in form.ids),
    ):
        if heading is not None and heading not in report.columns:
            raise StoreError(
                f'{name}: it has no heading "{heading}", which is {setting} under [results]. It has: '
                f"{', '.join(report.columns[:12])}."
            )


FORM_LENGTH = 400
"""So many characters of a message make its form: what comes later is of one item alone, and takes long to look at."""


def message_form(message: str, key: Sequence[str] = ()) -> str:
    """A message without what is of one item alone: its codes, numbers and what stands in quotes.

    >>> message_form("QA-1027: price 9.90 must be above cost 11.20", ["QA-1027"])
    '#: price # must be above cost #'
    """
    message = message[:FORM_LENGTH]
    for text in sorted(key, key=len, reverse=True):
        if text.strip():
            message = re.sub(rf"(?<!\w){re.escape(text.strip())}(?!\w)", "#", message)
    message = re.sub(r"\"[^\"]*\"|“[^”]*”|«[^»]*»|(?<!\w)'[^']*'(?!\w)", "#", message)
    message = re.sub(r"\S*[0-9]\S*?(?=[.,;:!?)]*(?:\s|$))", "#", message)
    return " ".join(re.sub(r"#(\s*#)+", "#", message).split())
