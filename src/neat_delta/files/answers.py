"""Answers that a reviewer gave in the page, as a file: JSON, bound to its change set (docs/formats/answers.md)."""

from __future__ import annotations

import os
from collections import defaultdict
from typing import Literal

import msgspec
import polars as pl

from neat_delta.core.base.model.changeset import ChangeSet
from neat_delta.core.base.model.schemas import conform
from neat_delta.core.base.support.errors import ChangeSetError
from neat_delta.core.review.answers import ANSWERS, Answers
from neat_delta.core.review.signoff import workbook_answers
from neat_delta.files.changelines import digest_of_changes
from neat_delta.files.malformed import plain_error
from neat_delta.files.reading import read
from neat_delta.files.whole import AnyPath, read_whole

__all__ = ["FORMAT", "VERSION", "read_answers"]

FORMAT, VERSION = "neat-delta answers", 1


class _Answer(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """What is said of one item: the line of the change set that it is, its key, yes or no (null: neither), a comment,
    and of fields that clash whose value it is to be.
    """

    line: int
    key: dict[str, str]
    answer: Literal["yes", "no"] | None = None
    comment: str = ""
    clashes: dict[str, Literal["sheet", "store", "both"]] = {}


class _File(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """The file: its format and version, the digest of the change set, the answers, and the only fields that they are
    about (null: all).
    """

    format: str
    version: int
    changes: str
    answers: list[_Answer]
    fields: list[str] | None = None


def read_answers(path: AnyPath, changes: ChangeSet) -> Answers:
    """A reviewer's answers to a change set: the file that its page saved, or its workbook.

    ChangeSetError when it is neither, is for another change set, or answers what was not asked.

    >>> from pathlib import Path
    >>> from tempfile import mkdtemp
    >>> from neat_delta import as_catalogue, compare
    >>> live = as_catalogue({"sku": ["QA-1"], "price": ["9.90"]}, "live")
    >>> sheet = as_catalogue({"sku": ["QA-1"], "price": ["10.50"]}, "sheet")
    >>> changes, path = compare(live, sheet), Path(mkdtemp()) / "answers.json"
    >>> head = {"format": FORMAT, "version": 1, "changes": digest_of_changes(changes)}
    >>> one = {"line": 2, "key": {"sku": "QA-1"}, "answer": "yes"}
    >>> _ = path.write_bytes(msgspec.json.encode(head | {"answers": [one]}))
    >>> read_answers(str(path), changes).table.select("item", "answer").rows()
    [(0, 'yes')]
    """
    path = os.fspath(path)
    data = read_whole(path)
    if not data.lstrip(b"\xef\xbb\xbf \t\r\n").startswith(b"{"):
        return workbook_answers(changes, read(path))
    try:
        answers_file = msgspec.json.decode(data.removeprefix(b"\xef\xbb\xbf"), type=_File)
    except msgspec.MsgspecError as error:
        what = f"these are no answers that a page saved: {plain_error(error)}"
        raise ChangeSetError(f"{path}: {what}. Save them again.") from None
    if (answers_file.format, answers_file.version) != (FORMAT, VERSION):
        what = f"it is {answers_file.format} {answers_file.version}, and not {FORMAT} {VERSION}"
        raise ChangeSetError(f"{path}: {what}. Save the answers again.")
    if answers_file.changes != digest_of_changes(changes):
        raise ChangeSetError(
            f"{path}: these answers are for another change set. Make the page again with `neat-delta preview`, and ask "
            "again."
        )
    return Answers(path, _table(answers_file, changes, path))


def _table(answers_file: _File, changes: ChangeSet, path: str) -> pl.DataFrame:
    rows: list[tuple[int, str | None, str | None, str | None]] = []
    seen, keys = set[int](), changes.keys.rows(named=True)
    by_item: defaultdict[int, list[str]] = defaultdict(list)
    for item, name in changes.cells.select("item", pl.col("field").cast(pl.String)).iter_rows():
        by_item[item].append(name)
    for answer in answers_file.answers:
        item = answer.line - 2
        if not 0 <= item < len(keys) or keys[item] != answer.key:
            name = " / ".join(answer.key.values())
            raise ChangeSetError(
                f"{path}: line {answer.line:,} of the change set is not {name}. Save the answers again."
            )
        if item in seen:
            raise ChangeSetError(f"{path}: {' / '.join(answer.key.values())} is answered twice. Leave one.")
        seen.add(item)
        if answer.comment:
            rows.append((item, None, None, answer.comment))
        if answer.answer is not None and answers_file.fields is None:
            rows.append((item, None, answer.answer, None))
        elif answer.answer is not None:
            asked = [
                name for name in by_item[item] if name in (answers_file.fields or ()) and name not in answer.clashes
            ]
            rows += [(item, name, answer.answer, None) for name in asked]
        for field, choice in answer.clashes.items():
            if field not in by_item[item]:
                name = " / ".join(answer.key.values())
                raise ChangeSetError(f'{path}: {name} has no change of "{field}". Save the answers again.')
            rows.append((item, field, choice, None))
    return conform(pl.DataFrame(rows, schema=dict(ANSWERS), orient="row"), ANSWERS)
