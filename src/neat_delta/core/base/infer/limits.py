"""Limits that an export suggests: the least margin, the largest believable change, what the store moves by itself.

Rule: a limit is only drafted as one where many items bear it out; otherwise it is suggested, for a person to decide.
"""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass
from decimal import ROUND_CEILING, Decimal

import polars as pl

from neat_delta.core.base.kinds.number import NUMBER_KINDS, amounts
from neat_delta.core.base.model.layout import Notation
from neat_delta.core.base.model.store import Field, Relations

__all__ = ["Limit", "limits"]

MOVED_BY_THE_STORE = re.compile(
    r"modif|updated|last.?(change|sale|sold|view)|^views$|^sold$|units.?sold|\bratings?\b|\breviews?\b|geändert|mis.?à.?jour",
    re.IGNORECASE,
)
"""What headings have in them of fields that a store changes by itself."""

ENOUGH_ITEMS = 50
"""So many items with a price and a cost make the least margin among them a limit."""

STEP = Decimal(10)
"""A largest change is suggested in steps of so many per cent."""


@dataclass(frozen=True, slots=True)
class Limit:
    """A setting that live suggests: of a field, or of the relations (no field), with the figures; `weak` where that is
    for a person to decide.
    """

    field: str | None
    setting: str
    value: Decimal | bool
    figures: str
    weak: bool


def limits(cells: pl.DataFrame, fields: Mapping[str, Field], related: Relations, writing: Notation) -> list[Limit]:
    """The limits that a catalogue's cells suggest.

    >>> cells = pl.DataFrame({"price": ["10.00", "20.00"], "cost": ["8.00", "15.00"]})
    >>> fields = {name: Field("money", decimals=2) for name in cells.columns}
    >>> [(limit.setting, limit.value) for limit in limits(cells, fields, Relations("price", "cost"), Notation(".", ""))]
    [('least_margin', Decimal('20'))]
    """
    suggested = []
    margins = _shares(cells, fields, writing, related.price, related.cost)
    if margins is not None and margins.least // 1 > 0:
        figures = (
            f"the least of {margins.items:,} items has {margins.least:.2f} %, half have {margins.middle:.1f} % or more"
        )
        suggested.append(Limit(None, "least_margin", margins.least // 1, figures, margins.items < ENOUGH_ITEMS))
    offers = _shares(cells, fields, writing, related.price, related.sale_price)
    if related.price is not None and offers is not None and offers.most > 0:
        figures = f"a guess: no export shows what is believable, but the largest offer takes {offers.most:.1f} % off"
        value = (offers.most / STEP).to_integral_value(ROUND_CEILING) * STEP
        suggested.append(Limit(related.price, "largest_change", value, figures, weak=True))
    suggested += [
        Limit(name, "moving", True, "a guess: by its heading the store changes it by itself", weak=True)
        for name, field in fields.items()
        if MOVED_BY_THE_STORE.search(name) and not field.moving
    ]
    return suggested


@dataclass(frozen=True, slots=True)
class _Shares:
    """Of how many items a share of the price is known, in per cent: the least, the most, and about the middle one."""

    items: int
    least: Decimal
    most: Decimal
    middle: float


def _shares(
    cells: pl.DataFrame, fields: Mapping[str, Field], writing: Notation, price: str | None, less: str | None
) -> _Shares | None:
    """By how many per cent a field is less than the price, of the items that have both; None where none has."""
    if price is None or less is None or not all(fields[name].kind in NUMBER_KINDS for name in (price, less)):
        return None
    columns = {name: amounts(cells[name].str.strip_chars(), fields[name], writing) for name in (price, less)}
    both = pl.DataFrame(columns).drop_nulls().filter(pl.col(price) > 0)
    if not both.height:
        return None
    shares = 100 - both[less].cast(pl.Float64) * 100 / both[price].cast(pl.Float64)

    def exact(place: int) -> Decimal:
        of_all, part = both.row(place)
        return Decimal((of_all - part) * 100 / of_all)

    least, most = shares.arg_min(), shares.arg_max()
    return _Shares(both.height, exact(least or 0), exact(most or 0), float(shares.median() or 0))  # type: ignore[arg-type]
