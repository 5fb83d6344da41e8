"""What a store's report looks like, guessed from one: which column has the key, the status, the message, and why."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import get_args

import msgspec
import polars as pl

from neat_delta.core.base.infer.headings import plain_heading
from neat_delta.core.base.infer.status_words import status_of
from neat_delta.core.base.model.results import ResultsForm, RowStatus
from neat_delta.core.base.support.errors import CatalogueError
from neat_delta.core.base.support.series import gathered

__all__ = ["TOTALS", "DraftedResults", "draft_results", "line_pattern", "with_words"]

STATUS = ("status", "result", "outcome", "state", "rowstatus", "importstatus", "success", "ok", "level", "severity")
MESSAGE = ("message", "messages", "error", "errors", "reason", "details", "detail", "errormessage", "description",
           "note", "remark", "comment", "info", "text", "warning", "problem")  # fmt: skip
ROW = ("row", "rownumber", "rowno", "line", "linenumber", "lineno", "record", "recordnumber", "position", "no", "nr")
FILE = ("file", "filename", "source", "sourcefile", "importfile")
IDS = ("id", "itemid", "productid", "recordid", "internalid", "item", "entityid", "objectid", "uuid")


TOTALS = r"(?i)^\s*((grand |sub)?-?(total|sum|summe|summary|count|end|processed|finished|rows|records)([\s:].*)?)$"
"""What stands in place of a key on a line that is no row's."""


@dataclass(frozen=True, slots=True)
class DraftedResults:
    """A draft of what a store's reports look like, and of each setting why; `unknown` are words of the status of which
    nobody can tell what they mean.
    """

    form: ResultsForm
    evidence: dict[str, str]
    unknown: list[str]


def draft_results(
    report: pl.DataFrame, live: pl.DataFrame, key: Sequence[str], headings: Mapping[str, str]
) -> DraftedResults:
    """Guess what the columns of a report mean. `live` has the catalogue's key fields (`key`), and others if they are
    known, `headings` what they are called; CatalogueError when nothing tells which item a row is of. What only says
    again what live has says nothing of the import.

    >>> report = pl.DataFrame({"code": ["QA-1", "QA-2"], "result": ["Imported", "Rejected"], "why": ["", "no tax"]})
    >>> drafted = draft_results(report, pl.DataFrame({"sku": ["QA-1", "QA-2"]}), ["sku"], {})
    >>> drafted.form.key, drafted.form.status, drafted.form.refused, drafted.form.message
    (['code'], 'result', ['Rejected'], 'why')
    """
    settings: dict[str, object] = {}
    evidence: dict[str, str] = {}
    taken: set[str] = set()

    def take(setting: str, heading: str, why: str) -> None:
        settings[setting], evidence[setting] = heading, why
        taken.add(heading)

    columns = [_key_column(report, live[name], headings.get(name, name), taken) for name in key]
    keys = [column for column in columns if column is not None]
    taken |= {heading for heading, _ in keys}
    if len(keys) == len(key):
        settings["key"] = [heading for heading, _ in keys]
        evidence["key"] = ", ".join(f"{hits:,} of {report.height:,} are codes of live" for _, hits in keys)
        plain = pl.concat_str([pl.col(heading).str.strip_chars() for heading, _ in keys], separator=" ")
        keyed = (plain.str.strip_chars() != "") & ~plain.str.contains(TOTALS)
        numbered = _row_column(report, taken)
        if numbered is not None:  # of a row without a code the number says which it is
            keyed |= (plain.str.strip_chars() == "") & pl.col(numbered).str.contains(r"^\s*[0-9]+\s*$")
        of_items = report.filter(keyed)
        report = of_items if of_items.height else report  # lines of totals have no status
    taken |= _echoes(report, live, key, settings.get("key"), headings)
    row = _row_column(report, taken)
    if row is not None:
        take("row", row, "whole numbers that rise")
        least = int(report[row].str.strip_chars().cast(pl.Int64, strict=False).min() or 0)  # type: ignore[arg-type]
        if least < 2:
            settings["first_row"], evidence["first_row"] = least, f"the first number is {least}"
    if "key" not in settings and row is None:
        raise CatalogueError(
            "No column of the report has codes that live has, and none has row numbers. "
            "Is it the report of another store? Say what its columns are under [results] in the store file."
        )
    status = _status_column(report, taken)
    words = _words(report[status]) if status is not None else Counter[str]()
    if status is not None:
        take("status", status, ", ".join(f"{many:,} × {word}" for word, many in words.most_common(6)))
    for row_status in get_args(RowStatus):
        if these := [word for word in words if status_of(word) == row_status]:
            settings[row_status] = these
    message = _named(report, MESSAGE, taken) or _longest_texts(report, taken)
    if message is not None:
        take("message", message, f"{_filled(report[message]):,} of {report.height:,} have a text")
        if status is None:
            evidence["message"] += "; a row with one was refused. Where the store lists only these: only_refused = true"
    if (file := _named(report, FILE, taken)) is not None:
        take("file", file, "by its heading")
    if (number := _named(report, IDS, taken)) is not None:
        settings["ids"], evidence["ids"] = [number], "by its heading"
    unknown = [word for word in words if status_of(word) is None]
    return DraftedResults(ResultsForm(**settings), evidence, unknown)  # type: ignore[arg-type]


def with_words(form: ResultsForm, reports: Sequence[pl.DataFrame]) -> ResultsForm:
    """A guessed form with the words of further reports whose meaning is plain.

    >>> form = ResultsForm(["sku"], status="state", done=["ok"])
    >>> with_words(form, [pl.DataFrame({"sku": ["QA-1"], "state": ["Rejected"]})]).refused
    ['Rejected']
    """
    words = {word: status_of(word) for report in reports if form.status in report.columns
             for word in _words(report[str(form.status)]) if word.casefold() not in form.words}  # fmt: skip
    more = {row_status: [*getattr(form, row_status), *(word for word, status in words.items() if status == row_status)]
            for row_status in get_args(RowStatus)}  # fmt: skip
    return msgspec.structs.replace(form, **more)


def _echoes(
    report: pl.DataFrame, live: pl.DataFrame, key: Sequence[str], columns: object, headings: Mapping[str, str]
) -> set[str]:
    """The columns that are called like a field of live and have what live has there."""
    called = {headings.get(name, name).strip().casefold(): name for name in live.columns if name not in key}
    names = [heading for heading in report.columns if heading.strip().casefold() in called]
    if not isinstance(columns, list) or not names:
        return set()
    wanted = report.select(
        pl.col(column).str.strip_chars().alias(name) for column, name in zip(columns, key, strict=True)
    )
    rows = live.select(pl.col(list(key)).str.strip_chars()).with_row_index("row").unique(list(key), keep="first")
    at = wanted.join(rows, on=list(key), how="left", maintain_order="left")["row"]
    found_at = at.is_not_null()
    out = set()
    for name in names:
        was = gathered(live[called[name.strip().casefold()]], at)
        same = (was.str.strip_chars() == report[name].str.strip_chars()).fill_null(value=False)
        if found_at.any() and int(same.sum()) * 10 >= int(found_at.sum()) * 9:
            out.add(name)
    return out


def _filled(texts: pl.Series) -> int:
    return int((texts.str.strip_chars() != "").sum())


def _words(texts: pl.Series) -> Counter[str]:
    return Counter(text for text in texts.str.strip_chars() if text)


def _key_column(report: pl.DataFrame, live: pl.Series, heading: str, taken: set[str]) -> tuple[str, int] | None:
    """The column with the most texts that live has in a key field, and how many; where that is not even half of those
    that are there, one that is called as the field is.
    """
    best: tuple[str, int] | None = None
    for name in report.columns:
        if name not in taken:
            hits = int(_known(report[name], live).sum())
            plainly = name.strip().casefold() == heading.strip().casefold()
            enough = hits * 2 >= max(_filled(report[name]), 1) or plainly
            if enough and (hits or plainly) and (best is None or hits > best[1] or (hits == best[1] and plainly)):
                best = name, hits
    return best


def _known(texts: pl.Series, live: pl.Series) -> pl.Series:
    """Which of the texts live has, in any case."""
    return texts.str.strip_chars().str.to_lowercase().is_in(live.str.strip_chars().str.to_lowercase().implode())


def _row_column(report: pl.DataFrame, taken: set[str]) -> str | None:
    for name in report.columns:
        plain = "".join(letter for letter in name.casefold() if letter.isalnum())
        row_numbers = report[name].str.strip_chars().cast(pl.Int64, strict=False).drop_nulls()
        if name not in taken and plain in ROW and row_numbers.len() * 2 >= report.height and row_numbers.len():
            return name
    return None


MOST_WORDS = 12
"""A status has no more different words."""


def _status_column(report: pl.DataFrame, taken: set[str]) -> str | None:
    """The column whose few words plainly say what became of a row, or that is called so: then it is said which of them
    nobody can tell.
    """
    best, most = None, 0.0
    for name in report.columns:
        if name in taken or report[name].str.strip_chars().n_unique() > MOST_WORDS + 1:  # a blank one is none
            continue
        words = _words(report[name])
        if not words or len(words) > MOST_WORDS:
            continue
        known = sum(many for word, many in words.items() if status_of(word) is not None) / sum(words.values())
        plainly = plain_heading([name], STATUS) is not None
        share = known + (0.5 if plainly else 0)
        if (known > 0.5 or plainly) and share > most and max(map(len, words)) <= 40:
            best, most = name, share
    return best


def _named(report: pl.DataFrame, names: Sequence[str], taken: set[str]) -> str | None:
    return plain_heading([name for name in report.columns if name not in taken], names)


def _longest_texts(report: pl.DataFrame, taken: set[str]) -> str | None:
    """The column with the longest texts, if they are sentences."""
    lengths = {
        name: float(report[name].str.count_matches(" ").filter(report[name] != "").mean() or 0)  # type: ignore[arg-type]
        for name in report.columns
        if name not in taken
    }
    best = max(lengths, key=lambda name: lengths[name], default=None)
    return best if best is not None and lengths[best] >= 1 else None


def line_pattern(lines: Sequence[str], live: Sequence[str]) -> tuple[str, int]:
    """A regular expression for a log of one line a row, and how many of its lines fit: the status is a word whose
    meaning is plain, the key one that live has. CatalogueError when no line has both.

    >>> line_pattern(["12:00 ok QA-1", "12:01 rejected QA-2: no such tax class"], ["QA-1", "QA-2"])[1]
    2
    """
    known = {text.strip() for text in live}
    between: Counter[tuple[str, str]] = Counter()
    words: dict[str, None] = {}
    for line in lines:
        parts = [(part[0], part.start(), part.end()) for part in re.finditer(r"[^\s,;|:=\[\]()\"']+", line)]
        codes = [part for part in parts if part[0] in known]
        states = [part for part in parts if status_of(part[0]) is not None and not part[0].isdecimal()]
        if not codes or not states:
            continue
        code, state = codes[0], states[0]
        words[state[0]] = None
        if state[1] < code[1]:
            between["status", _general(line[state[2] : code[1]])] += 1
        else:
            between["key", _general(line[code[2] : state[1]])] += 1
    if not between:
        raise CatalogueError(
            "No line has both a code that live has and a word such as done or refused. "
            'Say what a line looks like under [results] in the store file: line = "…", a regular expression.'
        )
    (first, gap), _ = between.most_common(1)[0]
    status, key = rf"\b(?P<status>{'|'.join(map(re.escape, words))})\b", r"(?P<key>[^\s,;|:=\[\]()\"']+)"
    pattern = (status + gap + key if first == "status" else key + gap + status) + r"\W*(?P<message>.*)$"
    return pattern, sum(re.search(pattern, line) is not None for line in lines)


def _general(text: str) -> str:
    """A text as a pattern: its numbers may be others."""
    return re.sub(r"[0-9]+", "[0-9]+", re.escape(text).replace(r"\ ", " "))
