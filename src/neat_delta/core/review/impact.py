"""Impact: what a round does to prices, margins and stock, over all and by group, in exact decimals.

Only what is to be sent counts; a held cell stays as live has it. Which field is the price, the cost and the stock is
what the store file's relations say.
"""

from __future__ import annotations

from bisect import bisect_right
from collections import Counter
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from decimal import ROUND_HALF_UP, Context, Decimal, localcontext
from itertools import accumulate
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
from neat_delta.core.base.support.series import constant, filtered, gathered, not_null

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


@dataclass(frozen=True, slots=True)
class _Amounts:
    """The numbers of the items of which something is sent. `rows` has an item each: its number (`item`), how many of
    its `cells` are sent, its `group`, and of each role where the number before and after stands among the different
    `values` of that role, as `price before` and so on; null where there is no number.
    """

    rows: pl.DataFrame
    values: Mapping[Role, Sequence[Decimal]]

    def total(self, role: Role, side: str, rows: pl.DataFrame) -> Decimal:
        """The numbers of these rows, added up."""
        counted = rows[f"{role} {side}"].drop_nulls().value_counts().iter_rows()
        return sum((self.values[role][place] * times for place, times in counted), Decimal(0))

    def steps(self, role: Role, rows: pl.DataFrame) -> Iterator[tuple[Decimal, Decimal, int, tuple[int, int]]]:
        """The different changes of a number in these rows: before, after, how often, and the places of both."""
        sides = [f"{role} before", f"{role} after"]
        values = self.values[role]
        for before, after, times in rows.select(sides).drop_nulls().group_by(sides).len().iter_rows():
            if values[before] != values[after]:
                yield values[before], values[after], times, (before, after)

    def changed(self, role: Role) -> Iterator[tuple[int, Decimal, Decimal]]:
        """The items in which a number changes, by number: before, after."""
        values, sides = self.values[role], [f"{role} before", f"{role} after"]
        differ = filtered(self.rows, self.rows[sides[0]] != self.rows[sides[1]])
        for number, before, after in differ.select("item", *sides).iter_rows():
            if values[before] != values[after]:
                yield number, values[before], values[after]


class ImpactFacts(msgspec.Struct, frozen=True):
    """All that is told of a round's impact: over all and by group, the prices that move most, and suggested prices."""

    groups: list[Impact] = []
    movers: list[Mover] = []
    suggestions: list[Suggestion] = []


def impact_of(
    changes: ChangeSet,
    live: Catalogue | None,
    names: pl.Series,
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
        amounts = _amounts(changes, live, by)
        prices = _suggestions(changes.keys, amounts, names, keep) if keep else []
        groups = _groups(amounts, by, _currency(changes, live))
        return ImpactFacts(groups, _movers(changes.keys, amounts, names), prices)


class ImpactPoints(msgspec.Struct, frozen=True):
    """What charts are drawn from, an item each: the prices' changes in per cent of what they were, and the margins in
    per cent of the price before and after, of the items whose margin changes. Neither is rounded.
    """

    prices: list[Decimal]
    margins: list[tuple[Decimal, Decimal]]


def points(changes: ChangeSet, live: Catalogue) -> ImpactPoints:
    """The price changes and the margins of what is sent."""
    with localcontext(WORKING):
        amounts = _amounts(changes, live, None)
        prices = [(new - old) * 100 / old for _, old, new in amounts.changed("price") if old]
        columns = [f"{role} {side}" for side in ("before", "after") for role in ("price", "cost")]
        margins = []
        for places in amounts.rows.select(columns).drop_nulls().iter_rows():
            old, new = (_margin(amounts, *places[at : at + 2]) for at in (0, 2))
            if old is not None and new is not None and old != new:
                margins.append((old, new))
        return ImpactPoints(prices, margins)


def changed_amounts(changes: ChangeSet, live: Catalogue, role: Role) -> Iterator[tuple[int, Decimal, Decimal]]:
    """The items in which a number that is sent changes, by number: before, after."""
    return _amounts(changes, live, None).changed(role)


def _margin(amounts: _Amounts, price_at: int, cost_at: int) -> Decimal | None:
    """The margin in per cent of the price; None where that is 0."""
    price, cost = amounts.values["price"][price_at], amounts.values["cost"][cost_at]
    return (price - cost) * 100 / price if price else None


def grouped(changes: ChangeSet, live: Catalogue, by: str, cells: pl.DataFrame, item_numbers: pl.Series) -> pl.Series:
    """The values in the field `by` of these items, once these cells are changed; of a path its first level."""
    before = live.at(by, live.place(gathered(changes.items["live"], item_numbers))).fill_null("")
    field = changes.header.settings.get(by, Field())
    of_field = cells.filter(pl.col("field").cast(pl.String) == by)
    texts = field_after(before, of_field, item_numbers).str.strip_chars()
    if field.kind == "path":
        texts = texts.str.split((field.levels or ">").strip()).list.first().str.strip_chars()
    return texts


def _groups(amounts: _Amounts, by: str | None, sign: str | None) -> list[Impact]:
    impacts = [_sum(None, amounts, amounts.rows, sign)]
    if by is not None:
        groups = amounts.rows.partition_by("group", maintain_order=True)
        largest = sorted(((rows["group"][0], rows) for rows in groups), key=lambda group: (-group[1].height, group[0]))
        impacts += [_sum(name, amounts, rows, sign) for name, rows in largest]
    return impacts


MOST = 20
"""So many movers are told."""


def _movers(keys: pl.DataFrame, amounts: _Amounts, names: pl.Series) -> list[Mover]:
    steps = [
        (abs(new - old) / old, old, new, times, places)
        for old, new, times, places in amounts.steps("price", amounts.rows)
        if old
    ]
    steps.sort(key=lambda step: -step[0])
    pairs, items, rank = list[tuple[int, int, int]](), 0, 0
    for place, (share, _, _, times, (before, after)) in enumerate(steps):
        if place and share != steps[place - 1][0]:
            if items >= MOST:
                break
            rank += 1  # of those that move alike, the first items count
        items += times
        pairs.append((before, after, rank))
    sides = ["price before", "price after"]
    ranked = pl.DataFrame(pairs, dict.fromkeys([*sides, "rank"], pl.UInt32), orient="row")
    movers = amounts.rows.join(ranked, on=sides, how="inner").sort("rank", "item").head(MOST)
    prices = [[amounts.values["price"][at] for at in movers[side]] for side in sides]
    return [
        Mover(
            keys.row(number, named=True),
            names[number],
            old,
            new,
            ((new - old) * 100 / old).quantize(TENTH, ROUND_HALF_UP),
        )
        for number, old, new in zip(movers["item"], *prices, strict=True)
    ]


def _suggestions(keys: pl.DataFrame, amounts: _Amounts, names: pl.Series, keep: KeepMargin) -> list[Suggestion]:
    suggestions = []
    rises = filtered(amounts.rows, amounts.rows["cost before"] != amounts.rows["cost after"])
    columns = [f"{role} {side}" for role in ("cost", "price") for side in ("before", "after")]
    for number, *places in rises.select("item", *columns).drop_nulls().iter_rows():
        old_cost, cost = (amounts.values["cost"][place] for place in places[:2])
        old_price, price = (amounts.values["price"][place] for place in places[2:])
        if not old_cost or cost <= old_cost or not old_price:
            continue
        wanted = cost + old_price - old_cost if keep == "amount" else cost * old_price / old_cost
        suggested = wanted.quantize(CENT, ROUND_HALF_UP)
        key = keys.row(number, named=True)
        suggestions.append(Suggestion(key, names[number], old_cost, cost, price, suggested))
    return suggestions


def _amounts(changes: ChangeSet, live: Catalogue, by: str | None) -> _Amounts:
    """The items of which something is sent, with their numbers before and after."""
    sent = changes.sent()
    rows = sent.group_by("item", maintain_order=True).len("cells").sort("item")
    places, values = live.place(gathered(changes.items["live"], rows["item"])), dict[Role, list[Decimal]]()
    columns = []
    for role in ROLES:
        sides, name = [f"{role} before", f"{role} after"], getattr(changes.header.store.relations, role)
        values[role] = []
        if name is None or name not in live.fields:
            columns += [constant(None, rows.height, pl.UInt32).alias(side) for side in sides]
            continue
        before = live.at(name, places).fill_null("")
        after = field_after(before, sent.filter(pl.col("field").cast(pl.String) == name), rows["item"])
        different = pl.concat([before, after]).unique()
        amounts = _decimal_texts(changes, name, different)
        different, values[role] = different.filter(not_null(amounts)), [Decimal(text) for text in amounts.drop_nulls()]
        columns += [
            texts.cast(pl.Enum(different), strict=False).to_physical().cast(pl.UInt32).alias(side)
            for side, texts in zip(sides, (before, after), strict=True)
        ]
    if by is not None:
        columns.append(grouped(changes, live, by, sent, rows["item"]).alias("group"))
    return _Amounts(rows.hstack(columns), values)


def _decimal_texts(changes: ChangeSet, name: str, texts: pl.Series) -> pl.Series:
    """The numbers that texts of a field are; null where one is none."""
    settings = changes.header.settings.get(name, Field())
    kind = KINDS[settings.kind if settings.kind in NUMBER_KINDS else "money"]
    return kind.read(texts, settings, changes.header.writing)


def _sum(group: str | None, amounts: _Amounts, rows: pl.DataFrame, sign: str | None) -> Impact:
    counted: Counter[Decimal] = Counter()
    for old, new, times, _ in amounts.steps("price", rows):
        counted[new - old] += times
    steps = sorted(counted.items())
    return Impact(
        group=group,
        items=rows.height,
        cells=int(rows["cells"].sum()),
        up=sum(times for step, times in steps if step > 0),
        down=sum(times for step, times in steps if step < 0),
        median=_median(steps),
        most_up=steps[-1][0] if steps and steps[-1][0] > 0 else None,
        most_down=steps[0][0] if steps and steps[0][0] < 0 else None,
        before=_sums(amounts, rows, "before"),
        after=_sums(amounts, rows, "after"),
        currency=sign,
    )


def _median(steps: Sequence[tuple[Decimal, int]]) -> Decimal | None:
    """The median of steps, in ascending order, that are there so many times each."""
    if not steps:
        return None
    until = list(accumulate(times for _, times in steps))
    low, high = (steps[bisect_right(until, place)][0] for place in ((until[-1] - 1) // 2, until[-1] // 2))
    return low if until[-1] % 2 else ((low + high) / 2).quantize(CENT, ROUND_HALF_UP)


def _sums(amounts: _Amounts, rows: pl.DataFrame, side: str) -> Sums:
    priced = rows.drop_nulls([f"price {side}", f"cost {side}"])
    prices = amounts.total("price", side, priced)
    margin = prices - amounts.total("cost", side, priced)
    columns = [f"stock {side}", f"cost {side}"]
    value = Decimal(0)
    for stock, cost, times in rows.select(columns).drop_nulls().group_by(columns).len().iter_rows():
        value += amounts.values["stock"][stock] * amounts.values["cost"][cost] * times
    share = (margin * 100 / prices).quantize(TENTH, ROUND_HALF_UP) if prices else None
    return Sums(margin, share, amounts.total("stock", side, rows), value)


def _currency(changes: ChangeSet, live: Catalogue) -> str | None:
    """The sign or letters of a currency that live's prices bear, if all that bear one bear the same."""
    name = changes.header.store.relations.price
    if name is None or name not in live.fields:
        return None
    signs = live.column(name).head(1_000).str.extract(f"({CURRENCY})").drop_nulls().unique()
    return str(signs[0]) if signs.len() == 1 else None
