"""Impact: what a round does to prices, margins and stock, over all and by group, in exact decimals.

Only what is to be sent counts; a held cell stays as live has it. Which field is the price, the cost and the stock is
what the store file's relations say.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from decimal import ROUND_HALF_UP, Context, Decimal, localcontext
from typing import Literal, get_args

import msgspec
import polars as pl

from neat_delta.core.base.kinds import KINDS
from neat_delta.core.base.kinds.number import CURRENCY, NUMBER_KINDS
from neat_delta.core.base.model.after import field_after
from neat_delta.core.base.model.catalogue import Catalogue
from neat_delta.core.base.model.changeset import ChangeSet
from neat_delta.core.base.model.choices import KeepMargin
from neat_delta.core.base.model.store import Field
from neat_delta.core.base.support.series import gathered

__all__ = [
    "Impact",
    "ImpactFacts",
    "ImpactPoints",
    "Mover",
    "Suggestion",
    "Sums",
    "changed_amounts",
    "grouped",
    "impact_of",
    "points",
]

WORKING = Context(prec=120)
"""Digits enough that no sum of amounts is rounded."""

CENT, TENTH = Decimal("0.01"), Decimal("0.1")

Role = Literal["price", "cost", "stock"]
ROLES: tuple[Role, ...] = get_args(Role)

"""What of a margin is to stay: its share of the price, or the amount."""


class Sums(msgspec.Struct, frozen=True):
    """Sums over items, before or after: the margin (price less cost, of the items that have both), in per cent of their
    prices (half up to a tenth, None where these are 0), the units in stock, and their value at cost.
    """

    margin: Decimal
    margin_per_cent: Decimal | None
    units: Decimal
    stock_value: Decimal


class Impact(msgspec.Struct, frozen=True):
    """What a round does to a group of items (None: to all of them).

    `up` and `down` count the prices that rise and fall; `median`, `most_up` and `most_down` are steps of price, the
    median of an even number being the mean of the middle two, half up to a cent. `currency` is the sign that live's
    prices bear, if they bear one.
    """

    group: str | None
    items: int
    cells: int
    up: int
    down: int
    median: Decimal | None
    most_up: Decimal | None
    most_down: Decimal | None
    before: Sums
    after: Sums
    currency: str | None


class Mover(msgspec.Struct, frozen=True):
    """One of the prices that change most, in per cent of the price before (half up to a tenth)."""

    key: dict[str, str]
    name: str
    before: Decimal
    after: Decimal
    per_cent: Decimal


class Suggestion(msgspec.Struct, frozen=True):
    """A price that would keep the margin an item had before its cost rose, half up to a cent; nothing is applied."""

    key: dict[str, str]
    name: str
    cost_before: Decimal
    cost: Decimal
    price: Decimal
    suggested: Decimal


class _Item(msgspec.Struct):
    number: int
    group: str
    cells: int
    before: dict[str, Decimal | None]
    after: dict[str, Decimal | None]


class ImpactFacts(msgspec.Struct, frozen=True):
    """All that is told of a round's impact: over all and by group, the prices that move most, and suggested prices."""

    groups: list[Impact] = []
    movers: list[Mover] = []
    suggestions: list[Suggestion] = []


def impact_of(
    changes: ChangeSet,
    live: Catalogue | None,
    names: Sequence[str],
    by: str | None = None,
    keep: KeepMargin | None = None,
) -> ImpactFacts:
    """What is told of a round's impact; nothing where live is not at hand. `names` are the items' names.

    The groups are all items of which something is sent, and then those with one value in the field `by`, if that is
    named, the largest first; a path is grouped by its first level. The movers are the prices that change most, in per
    cent of what they were. Where `keep` says so and a cost rises, the suggestion is the price that keeps the margin
    the item had: its share of the price, or its amount.
    """
    if live is None:
        return ImpactFacts()
    with localcontext(WORKING):
        items = _items(changes, live, by)
        prices = _suggestions(changes.keys, items, names, keep) if keep else []
        return ImpactFacts(_groups(items, by, _currency(changes, live)), _movers(changes.keys, items, names), prices)


class ImpactPoints(msgspec.Struct, frozen=True):
    """What charts are drawn from, an item each: the prices' changes in per cent of what they were, and the margins in
    per cent of the price before and after, of the items whose margin changes. Neither is rounded.
    """

    prices: list[Decimal]
    margins: list[tuple[Decimal, Decimal]]


def points(changes: ChangeSet, live: Catalogue) -> ImpactPoints:
    """The price changes and the margins of what is sent."""
    with localcontext(WORKING):
        items = _items(changes, live, None)
        prices = [(new - old) * 100 / old for _, old, new in _changed_amounts(items, "price") if old]
        margins = [(_margin(item.before), _margin(item.after)) for item in items]
        both = [(old, new) for old, new in margins if old is not None and new is not None and old != new]
        return ImpactPoints(prices, both)


def changed_amounts(changes: ChangeSet, live: Catalogue, role: Role) -> Iterator[tuple[int, Decimal, Decimal]]:
    """The items in which a number that is sent changes, by number: before, after."""
    return _changed_amounts(_items(changes, live, None), role)


def _changed_amounts(items: Iterable[_Item], role: Role) -> Iterator[tuple[int, Decimal, Decimal]]:
    for item in items:
        old, new = item.before[role], item.after[role]
        if old is not None and new is not None and old != new:
            yield item.number, old, new


def _margin(item: dict[str, Decimal | None]) -> Decimal | None:
    """The margin in per cent of the price; None where the price or the cost is not known, or the price is 0."""
    price, cost = item["price"], item["cost"]
    return (price - cost) * 100 / price if price and cost is not None else None


def grouped(changes: ChangeSet, live: Catalogue, by: str, cells: pl.DataFrame, item_numbers: pl.Series) -> pl.Series:
    """The values in the field `by` of these items, once these cells are changed; of a path its first level."""
    before = live.at(by, live.place(gathered(changes.items["live"], item_numbers))).fill_null("")
    field = changes.header.settings.get(by, Field())
    of_field = cells.filter(pl.col("field").cast(pl.String) == by)
    texts = field_after(before, of_field, item_numbers).str.strip_chars()
    if field.kind == "path":
        texts = texts.str.split((field.levels or ">").strip()).list.first().str.strip_chars()
    return texts


def _groups(items: Sequence[_Item], by: str | None, sign: str | None) -> list[Impact]:
    impacts = [_sum(None, items, sign)]
    if by is not None:
        groups: dict[str, list[_Item]] = {}
        for item in items:
            groups.setdefault(item.group, []).append(item)
        largest = sorted(groups.items(), key=lambda group: (-len(group[1]), group[0]))
        impacts += [_sum(name, members, sign) for name, members in largest]
    return impacts


MOST = 20
"""So many movers are told."""


def _movers(keys: pl.DataFrame, items: Sequence[_Item], names: Sequence[str]) -> list[Mover]:
    movers = [(abs(new - old) / old, number, old, new) for number, old, new in _changed_amounts(items, "price") if old]
    movers.sort(key=lambda entry: (-entry[0], entry[1]))
    share = [((new - old) * 100 / old).quantize(TENTH, ROUND_HALF_UP) for _, _, old, new in movers[:MOST]]
    return [
        Mover(keys.row(number, named=True), names[number], old, new, percent)
        for (_, number, old, new), percent in zip(movers, share, strict=False)
    ]


def _suggestions(
    keys: pl.DataFrame, items: Sequence[_Item], names: Sequence[str], keep: KeepMargin
) -> list[Suggestion]:
    suggestions = []
    for item in items:
        old_cost, cost = item.before["cost"], item.after["cost"]
        old_price, price = item.before["price"], item.after["price"]
        if not old_cost or cost is None or cost <= old_cost or not old_price or price is None:
            continue
        wanted = cost + old_price - old_cost if keep == "amount" else cost * old_price / old_cost
        suggested = wanted.quantize(CENT, ROUND_HALF_UP)
        key = keys.row(item.number, named=True)
        suggestions.append(Suggestion(key, names[item.number], old_cost, cost, price, suggested))
    return suggestions


def _items(changes: ChangeSet, live: Catalogue, by: str | None) -> list[_Item]:
    """The items of which something is sent, with their numbers before and after."""
    sent = changes.sent()
    counted = sent.group_by("item", maintain_order=True).len().sort("item")
    item_numbers = counted["item"]
    places = live.place(gathered(changes.items["live"], item_numbers))
    columns: dict[str, tuple[list[Decimal | None], list[Decimal | None]]] = {}
    for role in ROLES:
        name = getattr(changes.header.store.relations, role)
        if name is None or name not in live.fields:
            columns[role] = ([None] * item_numbers.len(), [None] * item_numbers.len())
            continue
        before = live.at(name, places).fill_null("")
        after = field_after(before, sent.filter(pl.col("field").cast(pl.String) == name), item_numbers)
        columns[role] = (_decimals(changes, name, before), _decimals(changes, name, after))
    groups = [""] * item_numbers.len()
    if by is not None:
        groups = grouped(changes, live, by, sent, item_numbers).to_list()
    return [
        _Item(
            number,
            groups[at],
            cells_of_item,
            {role: columns[role][0][at] for role in ROLES},
            {role: columns[role][1][at] for role in ROLES},
        )
        for at, (number, cells_of_item) in enumerate(counted.iter_rows())
    ]


def _decimals(changes: ChangeSet, name: str, texts: pl.Series) -> list[Decimal | None]:
    settings = changes.header.settings.get(name, Field())
    kind = KINDS[settings.kind if settings.kind in NUMBER_KINDS else "money"]
    return [None if value is None else Decimal(value) for value in kind.read(texts, settings, changes.header.writing)]


def _sum(group: str | None, items: Sequence[_Item], sign: str | None) -> Impact:
    steps = sorted(new - old for _, old, new in _changed_amounts(items, "price"))
    return Impact(
        group=group,
        items=len(items),
        cells=sum(item.cells for item in items),
        up=sum(step > 0 for step in steps),
        down=sum(step < 0 for step in steps),
        median=_median(steps),
        most_up=steps[-1] if steps and steps[-1] > 0 else None,
        most_down=steps[0] if steps and steps[0] < 0 else None,
        before=_sums(item.before for item in items),
        after=_sums(item.after for item in items),
        currency=sign,
    )


def _median(steps: Sequence[Decimal]) -> Decimal | None:
    if not steps:
        return None
    middle = len(steps) // 2
    if len(steps) % 2:
        return steps[middle]
    return ((steps[middle - 1] + steps[middle]) / 2).quantize(CENT, ROUND_HALF_UP)


def _sums(items: Iterable[dict[str, Decimal | None]]) -> Sums:
    margin = prices = units = value = Decimal(0)
    for item in items:
        price, cost, stock = (item[role] for role in ROLES)
        if price is not None and cost is not None:
            margin += price - cost
            prices += price
        if stock is not None:
            units += stock
            value += stock * (cost or 0)
    share = (margin * 100 / prices).quantize(TENTH, ROUND_HALF_UP) if prices else None
    return Sums(margin, share, units, value)


def _currency(changes: ChangeSet, live: Catalogue) -> str | None:
    """The sign or letters of a currency that live's prices bear, if all that bear one bear the same."""
    name = changes.header.store.relations.price
    if name is None or name not in live.fields:
        return None
    signs = live.column(name).head(1_000).str.extract(f"({CURRENCY})").drop_nulls().unique()
    return str(signs[0]) if signs.len() == 1 else None
