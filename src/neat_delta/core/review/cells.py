"""The items and cells of a change set as people look at them: built once, laid out by all that shows them."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field
from decimal import Decimal
from typing import TYPE_CHECKING

import polars as pl

from neat_delta.core.review.figures import Differences

if TYPE_CHECKING:
    from neat_delta.core.model.changeset import ChangeSet, Row, Verdict
    from neat_delta.core.review.facts import Facts
    from neat_delta.core.review.view import View

__all__ = ["CellView", "ItemView", "Remark", "item_views"]


@dataclass(frozen=True, slots=True)
class Remark:
    """What was found in a cell or an item: the check (or `damage`), its level, what is wrong, and what became of it.
    Of damage, `sheet` is the text as it stands there.
    """

    check: str
    level: str
    what: str
    done: str
    sheet: str | None = None


@dataclass(frozen=True, slots=True)
class CellView:
    """A changed cell: its texts (before: null in a new item), the reason it is held (null: it is not, by itself), of
    numbers the difference and the difference in per cent of before (null where there is none), what was found in it.
    """

    field: str
    before: str | None
    after: str
    held: str | None
    step: Decimal | None
    per_cent: Decimal | None
    remarks: list[Remark]


@dataclass(frozen=True, slots=True)
class ItemView:
    """An item with its changed cells: its key, its name ("" where unknown), its verdict, its rows, the reason it is
    held (null: it is not), and what was found of the item as a whole.
    """

    key: dict[str, str]
    name: str
    verdict: Verdict
    row: Row
    held: str | None
    cells: list[CellView] = field(default_factory=list)
    remarks: list[Remark] = field(default_factory=list)


def item_views(facts: Facts, view: View) -> Iterator[ItemView]:
    """The items of a view of these facts, one by one, in the view's order."""
    changes = view.changes
    numbers = {figures.field for figures in facts.figures if figures.number}
    differences, remarks = Differences(changes.header, changes.cells), _remarks(changes)
    for number, (item, name) in enumerate(zip(changes.iter_items(), view.names, strict=True)):
        held = {one.field: one.reason for one in item.held}
        cells = []
        for name_of_field, (before, after) in item.cells.items():
            step = per_cent = None
            if name_of_field in numbers and before and after:
                step = differences.step(name_of_field, before, after)
                per_cent = differences.per_cent(name_of_field, before, after)
            cell_remarks = remarks.get((number, name_of_field), [])
            cells.append(
                CellView(name_of_field, before, after or "", held.get(name_of_field), step, per_cent, cell_remarks)
            )
        yield ItemView(item.key, name, item.verdict, item.row, held.get(None), cells, remarks.get((number, None), []))


def _remarks(changes: ChangeSet) -> dict[tuple[int, str | None], list[Remark]]:
    """What the checks and the damage say, by item and field; damage that was put back is no change any more."""
    about: dict[tuple[int, str | None], list[Remark]] = {}
    flags = changes.flags.filter(pl.col("item").is_not_null())
    for item, name, *said in flags.select("item", "field", "check", "level", "what", "done").iter_rows():
        about.setdefault((item, name), []).append(Remark(*said))
    damaged = changes.damaged.filter((pl.col("done") != "repaired") & pl.col("item").is_not_null())
    for item, name, damage, sheet, done in damaged.select("item", "field", "damage", "sheet", "done").iter_rows():
        about.setdefault((item, name), []).append(Remark("damage", "stop", damage, done, sheet))
    return about
