"""The items and cells of a change set as people look at them: built once, laid out by all that shows them."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field
from decimal import Decimal
from typing import TYPE_CHECKING

import polars as pl

from neat_delta.core.base.model.choices import Verdict
from neat_delta.core.base.support.series import filtered, not_null
from neat_delta.core.review.clashes import clashing_cells
from neat_delta.core.review.figures import Differences

if TYPE_CHECKING:
    from neat_delta.core.base.model.changeset import ChangeSet, Row
    from neat_delta.core.review.facts import Facts
    from neat_delta.core.review.view import View

__all__ = ["CellView", "ClashView", "ItemView", "Remark", "item_views"]


@dataclass(frozen=True, slots=True)
class Remark:
    """What was found in a cell or an item: the check (or `damage`), its level, what is wrong, and what became of it; of
    a rule that computed the cell, which, without a level.
    Of damage, `sheet` is the text as it stands there.
    """

    check: str
    level: str
    what: str
    done: str
    sheet: str | None = None


@dataclass(frozen=True, slots=True)
class ClashView:
    """A cell that the sheet and the store both changed: the texts in the base ("" where it had none), in the sheet and
    in the store, and the store's number with the sheet's difference (null: it is none).
    """

    base: str
    sheet: str
    store: str
    both: str | None


@dataclass(frozen=True, slots=True)
class CellView:
    """A changed cell: its texts (before: null in a new item), the reason it is held (null: it is not, by itself), of
    numbers the difference and the difference in per cent of before (null where there is none), what was found in it.
    `clash` has what the store's change of it leaves to choose between (null: there was none), and `base` what it was in
    the export that the sheet was cut from, where that is not before.
    """

    field: str
    before: str | None
    after: str
    held: str | None
    step: Decimal | None
    per_cent: Decimal | None
    remarks: list[Remark]
    clash: ClashView | None = None
    base: str | None = None


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
    number_fields = {figures.field for figures in facts.figures if figures.number}
    unseen = {*changes.header.unseen}
    differences, remarks = Differences(changes.header, changes.cells), _remarks(changes)
    clashes = {
        (item, name): ClashView(base or "", sheet, store or "", both)
        for item, name, base, sheet, store, both in clashing_cells(changes).iter_rows()
    }
    for number, (item, name) in enumerate(zip(changes.iter_items(), view.names, strict=True)):
        held = {held_change.field: held_change.reason for held_change in item.held}
        cells = []
        for name_of_field, (before, after) in item.cells.items():
            step = per_cent = None
            if name_of_field in number_fields and before and after:
                step = differences.step(name_of_field, before, after)
                per_cent = differences.per_cent(name_of_field, before, after)
            cell_remarks = remarks.get((number, name_of_field), [])
            why, clash = held.get(name_of_field), clashes.get((number, name_of_field))
            cells.append(
                CellView(
                    name_of_field,
                    UNKNOWN if name_of_field in unseen and before is not None else before,
                    after or "",
                    why,
                    step,
                    per_cent,
                    cell_remarks,
                    clash,
                    item.base.get(name_of_field),
                )
            )
        yield ItemView(item.key, name, item.verdict, item.row, held.get(None), cells, remarks.get((number, None), []))


UNKNOWN = "(not known)"
"""What stands for the value before in a field that an export lacks."""


def _remarks(changes: ChangeSet) -> dict[tuple[int, str | None], list[Remark]]:
    """What the checks and the damage say, by item and field; damage that was put back is no change any more."""
    about: dict[tuple[int, str | None], list[Remark]] = {}
    flags = filtered(changes.flags, not_null(changes.flags["item"]))
    for item, name, *details in flags[["item", "field", "check", "level", "what", "done"]].iter_rows():
        about.setdefault((item, name), []).append(Remark(*details))
    damaged = changes.damaged.filter((pl.col("done") != "repaired") & pl.col("item").is_not_null())
    for item, name, damage, sheet, done in damaged[["item", "field", "damage", "sheet", "done"]].iter_rows():
        about.setdefault((item, name), []).append(Remark("damage", "stop", damage, done, sheet))
    names = changes.header.rules
    remarks: dict[tuple[int, str], list[str]] = {}
    for item, name, rule in changes.computed[["item", "field", "rule"]].iter_rows():
        remarks.setdefault((item, name), []).append(names[rule].rule)
    for (item, name), rules in remarks.items():
        for rule in dict.fromkeys(rules):
            about.setdefault((item, name), []).append(Remark(f"rule {rule}", "", f"by rule {rule}", "noted"))
    return about
