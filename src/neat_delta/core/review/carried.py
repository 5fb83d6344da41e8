"""Answers to a change set that was made anew: those hold of which nothing is otherwise by now."""

from __future__ import annotations

from typing import TYPE_CHECKING

import polars as pl

from neat_delta.core.base.model.schemas import conform
from neat_delta.core.review.answers import ANSWERS, Answers

if TYPE_CHECKING:
    from neat_delta.core.base.model.changeset import ChangeSet

__all__ = ["carried_over"]

Cell = tuple[str | None, str | None, str | None]


def carried_over(answers: Answers, old: ChangeSet, new: ChangeSet) -> tuple[Answers, set[int]]:
    """The answers to `old` that hold for `new`, and the numbers of the items of `new` of which something is to be sent
    that nobody was asked of. An answer holds for a cell that has the same texts before and after, in an item of the
    same verdict; an answer to a clash, where both sides are the same.

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
    rows, asked = list[tuple[int, str | None, str | None, str | None]](), set[tuple[int, str | None]]()
    for key, was in olds.items():
        item = items_by_key.get(key)
        if item is not None and news[key][0] == was[0]:
            asked |= {(item, field) for field, cell in news[key][1].items() if was[1].get(field) == cell}
            asked |= {(item, None)} if news[key][1] == was[1] else set()
    old_keys = old.keys.rows()
    for number, field, answer, comment in answers.table.select("item", "field", "answer", "comment").iter_rows():
        item = items_by_key.get(old_keys[number])
        if item is None:
            continue
        if field is None and (item, None) in asked and new.items["verdict"][item] in {"new", "gone"}:
            rows.append((item, None, answer, comment))
        elif field is None:
            rows += [
                (item, name, answer, None) for asked_item, name in asked if asked_item == item and name is not None
            ]
            rows += [(item, None, None, comment)] if comment else []
        elif (item, field) in asked:
            rows.append((item, field, answer, comment))
    rows.sort(key=lambda row: (row[0], row[1] or ""))
    sent = {(item, name) for item, name in new.sent().select("item", pl.col("field").cast(pl.String)).iter_rows()}
    sent |= {(int(item), None) for item in new.sent_without_cells()}
    table = pl.DataFrame(rows, schema=dict(ANSWERS), orient="row")
    return Answers(answers.path, conform(table, ANSWERS)), {item for item, _ in sent - asked}


def _cells(changes: ChangeSet) -> dict[tuple[str, ...], tuple[str, dict[str, Cell]]]:
    """The verdict and the cells of each item: the texts in the base, before and after, by field."""
    keys = changes.keys.rows()
    items: list[dict[str, Cell]] = [{} for _ in keys]
    columns = changes.cells.select("item", pl.col("field").cast(pl.String), "base", "before", "after")
    for item, field, base, before, after in columns.iter_rows():
        items[item][field] = (base, before, after)
    verdicts = changes.items["verdict"]
    return {key: (verdict, cells) for key, verdict, cells in zip(keys, verdicts, items, strict=True)}
