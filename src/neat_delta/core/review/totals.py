"""What an item comes to over its locations, before and after: where several rows, or several fields, are one item's."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from decimal import Decimal
from typing import TYPE_CHECKING

import polars as pl

from neat_delta.core.base.kinds.number import amounts
from neat_delta.core.base.model.changeset import held
from neat_delta.core.base.model.store import Field, Key
from neat_delta.core.base.support.series import gathered
from neat_delta.core.sheets.match.keys import comparable

if TYPE_CHECKING:
    from neat_delta.core.base.model.catalogue import Catalogue
    from neat_delta.core.base.model.changeset import ChangeSet

__all__ = ["Total", "total_fields", "totals"]


@dataclass(frozen=True, slots=True)
class Total:
    """An item by the first part of its key, and the total of its rows and fields before and after."""

    item: str
    before: Decimal
    after: Decimal


def total_fields(changes: ChangeSet, asked: Sequence[str] = ()) -> list[str]:
    """The fields whose totals are shown: those that were asked for; or the stock, where the key has several fields."""
    stock = changes.header.store.relations.stock
    if asked or len(changes.header.key) == 1 or stock not in changes.header.fields:
        return list(asked)
    return [stock]


def totals(changes: ChangeSet, live: Catalogue, fields: Sequence[str]) -> list[Total]:
    """The totals of the items of which one of these fields changes, in live's order; blanks and what is no number count
    as nothing.

    >>> from neat_delta import as_catalogue, compare
    >>> live = as_catalogue({"sku": ["QA-1", "QA-1"], "location": ["A", "B"], "stock": ["3", "4"]}, "live")
    >>> sheet = as_catalogue({"sku": ["QA-1"], "location": ["B"], "stock": ["9"]}, "sheet")
    >>> changes = compare(live, sheet, key=["sku", "location"])
    >>> [(one.item, int(one.before), int(one.after)) for one in totals(changes, live, ["stock"])]
    [('QA-1', 7, 12)]
    """
    header, names = changes.header, list(fields)
    part = Key(header.key[:1], ignore_case=header.store.key.ignore_case)
    stays = ~held(changes.items, changes.cells)
    of_fields = changes.cells.filter(stays & pl.col("field").cast(pl.String).is_in(names))
    of_fields = of_fields.with_columns(pl.col("field").cast(pl.String))
    gone = changes.items.with_row_index("item").filter((pl.col("verdict") == "gone") & pl.col("held").is_null())["item"]
    touched = pl.concat([of_fields["item"], gone.cast(pl.Int64)]).unique()
    if not touched.len():
        return []
    keys = comparable(changes.keys, part).to_series()
    wanted = gathered(keys, touched).unique(maintain_order=True)
    own = comparable(live.cells, part).to_series()
    rows = own.is_in(wanted.implode())
    place = live.place(changes.items["live"])
    before = _sums(live, rows, own, names, changes)
    steps = pl.DataFrame(
        {
            "key": gathered(keys, of_fields["item"]),
            "step": _step(of_fields, changes),
        }
    )
    for item in gone:
        at = int(place[int(item)])
        lost = [amounts(live.at(name, [at]), _field(changes, name), header.writing)[0] for name in names]
        step = -sum((amount for amount in lost if amount is not None), Decimal(0))
        steps = pl.concat([steps, pl.DataFrame({"key": [keys[int(item)]], "step": [step]}, schema=steps.schema)])
    changes_by_item: dict[str, Decimal] = {}
    for key, step in steps.iter_rows():
        changes_by_item[key] = changes_by_item.get(key, Decimal(0)) + (step or Decimal(0))
    names_by_key = dict(zip(own.filter(rows), live.column(header.key[0]).str.strip_chars().filter(rows), strict=True))
    order = [*before, *(key for key in changes_by_item if key not in before)]
    return [
        Total(
            names_by_key.get(key, key),
            before.get(key, Decimal(0)),
            before.get(key, Decimal(0)) + changes_by_item.get(key, Decimal(0)),
        )
        for key in order
        if changes_by_item.get(key)
    ]


def _field(changes: ChangeSet, name: str) -> Field:
    return changes.header.settings.get(name, Field("decimal"))


def _sums(
    live: Catalogue, rows: pl.Series, keys: pl.Series, names: Sequence[str], changes: ChangeSet
) -> dict[str, Decimal]:
    """What live has, by the first part of the key, in live's order."""
    out: dict[str, Decimal] = {}
    for name in names:
        values = amounts(live.column(name).filter(rows), _field(changes, name), changes.header.writing)
        for key, value in zip(keys.filter(rows), values, strict=True):
            out[key] = out.get(key, Decimal(0)) + (value or Decimal(0))
    return out


def _step(cells: pl.DataFrame, changes: ChangeSet) -> pl.Series:
    """What each cell adds."""
    out: list[Decimal] = []
    for name, before, after in cells[["field", "before", "after"]].iter_rows():
        step_row = [
            amounts(pl.Series([text or ""]), _field(changes, name), changes.header.writing)[0] or Decimal(0)
            for text in (before, after)
        ]
        out.append(step_row[1] - step_row[0])
    return pl.Series(out, dtype=pl.Decimal(38, 6))
