"""Answers to a change set that was made anew: those hold of which nothing is otherwise by now, and to which nobody said
no since.
"""

from __future__ import annotations

from collections.abc import Sequence
from collections.abc import Set as AbstractSet
from dataclasses import dataclass
from typing import TYPE_CHECKING

import polars as pl

from neat_delta.core.base.model.schemas import conform
from neat_delta.core.base.support.series import gathered
from neat_delta.core.review.answers import ANSWERS, Answers

if TYPE_CHECKING:
    from neat_delta.core.base.model.changeset import ChangeSet

__all__ = ["DatedAnswers", "carried_over", "refused_since"]

Cell = tuple[str | None, str | None, str | None]

Refused = tuple[tuple[str, ...], str | None]
"""What was answered no: an item's key, and a field of it (None: the item)."""


@dataclass(frozen=True, slots=True)
class DatedAnswers:
    """Answers, the change set that they answer, the numbers of the `first` and the `last` comparison of the round that
    came to it, and the number of the step at which they were `seen` first.
    """

    answers: Answers
    changes: ChangeSet
    first: int
    last: int
    seen: int

    def are_after(self, other: DatedAnswers) -> bool:
        """Whether they were certainly given after these: seen later, and to a change set that came later."""
        if self.seen == other.seen:
            return self.first > other.last
        return self.seen > other.seen and self.last > other.first


def refused_since(answers: DatedAnswers, others: Sequence[DatedAnswers]) -> set[Refused]:
    """What others answered no in another change set of the round, and not certainly before these answers: a yes of
    these is not the last word about it, and it is to be asked of again.
    """
    refused = set[Refused]()
    for other in others:
        if other.changes.digest != answers.changes.digest and not answers.are_after(other):
            no = other.answers.table.filter(pl.col("answer") == "no")
            refused |= {*zip(gathered(other.changes.keys, no["item"]).rows(), no["field"], strict=True)}
    return refused


def carried_over(
    answers: Answers, old: ChangeSet, new: ChangeSet, refused: AbstractSet[Refused] = frozenset()
) -> tuple[Answers, set[int]]:
    """The answers to `old` that hold for `new`, and the numbers of the items of `new` of which something is to be sent
    that nobody was asked of. An answer holds for a cell that has the same texts before and after, in an item of the
    same verdict; an answer to a clash, where both sides are the same. What was `refused` since is asked of again.

    >>> from neat_delta import as_catalogue, compare
    >>> live = as_catalogue({"sku": ["QA-1", "QA-2"], "price": ["9.90", "20.00"]}, "live")
    >>> old = compare(live, as_catalogue({"sku": ["QA-1"], "price": ["10.50"]}, "sheet"))
    >>> new = compare(live, as_catalogue({"sku": ["QA-1", "QA-2"], "price": ["10.50", "21.00"]}, "sheet"))
    >>> yes = conform(pl.DataFrame({"item": [0], "field": [None], "answer": ["yes"]}), ANSWERS)
    >>> part, unasked = carried_over(Answers("answers.json", yes), old, new)
    >>> part.table.select("item", "field", "answer").rows(), unasked
    ([(0, 'price', 'yes')], {1})
    """
    olds, news = _cells(old), _cells(new)
    items_by_key = {key: item for item, key in enumerate(new.keys.iter_rows())}
    asked: dict[int, list[str | None]] = {}
    for key, (verdict, cells) in olds.items():
        item = items_by_key.get(key)
        if item is not None and news[key][0] == verdict:
            asked[item] = [field for field, cell in news[key][1].items() if cells.get(field) == cell]
            asked[item] += [None] if news[key][1] == cells else []
    given, comments = dict[tuple[int, str | None], str](), list[tuple[int, str | None, str | None, str | None]]()
    old_keys, comes_or_goes = old.keys.rows(), new.items["verdict"].is_in(["new", "gone"])
    for number, field, answer, comment in answers.table.select("item", "field", "answer", "comment").iter_rows():
        item = items_by_key.get(old_keys[number])
        if item is None:
            continue
        comments += [(item, field, None, comment)] if comment else []
        names = asked.get(item, [])
        if field is not None:
            names = [field] if field in names else []
        else:
            names = [None] if None in names and comes_or_goes[item] else [name for name in names if name is not None]
        for name in names if answer is not None else ():
            known = given.get((item, name))  # a no counts, and what is said of a field more than what is of its item
            if known is None or answer == "no" or (field is not None and known != "no"):
                given[item, name] = answer
    new_keys, refused_items = new.keys.rows(), {key for key, _ in refused}
    taken_back = set[tuple[int, str | None]]()
    for (item, field), answer in given.items():
        key = new_keys[item]
        again = key in refused_items if field is None else not refused.isdisjoint({(key, field), (key, None)})
        taken_back |= {(item, field)} if again and answer != "no" else set()
    rows = comments + [(*at, answer, None) for at, answer in given.items() if at not in taken_back]
    rows.sort(key=lambda row: (row[0], row[1] or ""))
    sent = {(item, name) for item, name in new.sent().select("item", pl.col("field").cast(pl.String)).iter_rows()}
    sent |= {(int(item), None) for item in new.sent_without_cells()}
    unasked = {item for item, field in sent if field not in asked.get(item, ()) or (item, field) in taken_back}
    table = pl.DataFrame(rows, schema=dict(ANSWERS), orient="row")
    return Answers(answers.path, conform(table, ANSWERS)), unasked


def _cells(changes: ChangeSet) -> dict[tuple[str, ...], tuple[str, dict[str, Cell]]]:
    """The verdict and the cells of each item: the texts in the base, before and after, by field."""
    keys = changes.keys.rows()
    items: list[dict[str, Cell]] = [{} for _ in keys]
    columns = changes.cells.select("item", pl.col("field").cast(pl.String), "base", "before", "after")
    for item, field, base, before, after in columns.iter_rows():
        items[item][field] = (base, before, after)
    verdicts = changes.items["verdict"]
    return {key: (verdict, cells) for key, verdict, cells in zip(keys, verdicts, items, strict=True)}
