"""How far a round moves the numbers of a whole field: their sum, and their median."""

from __future__ import annotations

from dataclasses import dataclass
from decimal import Decimal, localcontext
from typing import TYPE_CHECKING

import polars as pl

from neat_delta.core.base.kinds.number import amounts
from neat_delta.core.base.model.after import field_after
from neat_delta.core.base.model.store import Field
from neat_delta.core.review.impact import WORKING

if TYPE_CHECKING:
    from neat_delta.core.base.model.catalogue import Catalogue
    from neat_delta.core.base.model.changeset import ChangeSet

__all__ = ["Movement", "movement"]


@dataclass(frozen=True, slots=True)
class Movement:
    """The sum and the median of a field over all items that live has, before and after a round."""

    sum_before: Decimal
    sum_after: Decimal
    median_before: Decimal
    median_after: Decimal

    @property
    def sum_percent(self) -> Decimal:
        """By how many per cent the sum moves."""
        return _percent(self.sum_before, self.sum_after)

    @property
    def median_percent(self) -> Decimal:
        """By how many per cent the median moves."""
        return _percent(self.median_before, self.median_after)


def movement(changes: ChangeSet, live: Catalogue, field: str) -> Movement:
    """How far what is to be sent moves a field; `live` is the change set's own. Cells that are no number count for
    nothing, and new and removed items are left out, as they move no price of any item.

    >>> from neat_delta import as_catalogue, compare
    >>> live = as_catalogue({"sku": ["QA-1", "QA-2"], "price": ["10.00", "20.00"]}, "live")
    >>> moved = movement(compare(live, as_catalogue({"sku": ["QA-1"], "price": ["13.00"]}, "sheet")), live, "price")
    >>> moved.sum_percent, moved.median_percent
    (Decimal('10'), Decimal('10'))
    """
    kind = changes.header.settings.get(field, Field())
    sent = changes.sent().filter(pl.col("field").cast(pl.String) == field)
    places = live.place(changes.items["live"])
    rows = pl.DataFrame({"item": sent["item"], "after": sent["after"]})
    rows = rows.with_columns(item=places.gather(rows["item"])).drop_nulls("item")
    before = live.column(field)
    after = field_after(before, rows)
    amounts_of = [amounts(texts, kind, changes.header.writing).drop_nulls() for texts in (before, after)]
    with localcontext(WORKING):
        sums = [sum(column, Decimal(0)) for column in amounts_of]
        medians = [_median(column) for column in amounts_of]
    return Movement(*sums, *medians)


def _median(amounts_of: pl.Series) -> Decimal:
    """The number in the middle; the mean of the two there, where there are two."""
    ordered, size = amounts_of.sort(), amounts_of.len()
    if not size:
        return Decimal(0)
    return (Decimal(ordered[(size - 1) // 2]) + Decimal(ordered[size // 2])) / 2


def _percent(before: Decimal, after: Decimal) -> Decimal:
    with localcontext(WORKING):
        if before == after:
            return Decimal(0)
        return abs(after - before) * 100 / abs(before) if before else Decimal("Infinity")
