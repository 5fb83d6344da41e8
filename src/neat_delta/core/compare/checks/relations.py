"""Checks of fields against each other, as the store file says they stand: cost, price, sale, days, shown and stock."""

from __future__ import annotations

import polars as pl

from neat_delta.core.base.kinds.text import folded
from neat_delta.core.base.model.store import Field
from neat_delta.core.base.support.series import gathered
from neat_delta.core.compare.checks.base import Check, CheckContext, exactly, findings_of, needs_roles, nothing

__all__ = ["RELATION_CHECKS"]


def _roles(context: CheckContext, *roles: str) -> list[str] | None:
    """The fields in these roles, if all are there and one of them has a cell to look at."""
    names = [getattr(context.store.relations, role) for role in roles]
    if any(name is None or (name not in context.live.fields) for name in names) or not context.touched(*names):
        return None
    return names


def _amounts(context: CheckContext, names: list[str]) -> list[pl.Series]:
    return [context.number(name, context.now(name)) for name in names]


def _where(
    context: CheckContext, names: list[str], wrong: pl.Series, form: str, details: list[str] | None = None
) -> pl.DataFrame:
    """Findings of the items that are `wrong`, at each of the fields that has a cell to look at; in a catalogue, at the
    first. The sentence has the texts of the fields in the places of the braces, or of the `details`.
    """
    wrong = wrong.fill_null(value=False)
    if not wrong.any():
        return nothing()
    what = pl.select(pl.format(form, *(context.now(name) for name in details or names))).to_series()
    tables, touched = [nothing()], context.touched(*names)
    for name in names if context.round else names[:1]:
        items = touched.get(name)
        if items is not None:
            hit = items.filter(gathered(wrong, items))
            tables.append(findings_of(name, hit, gathered(what, hit)))
    return pl.concat(tables)


def margin(context: CheckContext) -> pl.DataFrame:
    """A price that leaves less than the least margin, in per cent of the price, over the cost."""
    names = _roles(context, "price", "cost")
    if names is None:
        return nothing()
    price, cost = _amounts(context, names)
    least = context.store.relations.least_margin
    table = pl.DataFrame({"price": price, "cost": cost})
    left = (pl.col("price") - pl.col("cost")) * 100
    wrong = table.select((pl.col("cost") >= pl.col("price")) | (left < pl.col("price") * exactly(least))).to_series()
    sentence = f", and the least margin is {least} %" if least else ""
    return _where(context, names, wrong, "the price is {} and the cost {}" + sentence)


def price_as_cost(context: CheckContext) -> pl.DataFrame:
    """A price that is the cost of its item now, and was not before: one of them stands in the other's column."""
    names = _roles(context, "price", "cost")
    if names is None or not context.round:
        return nothing()
    price, cost = _amounts(context, names)
    same = price == cost
    if not same.any():
        return nothing()
    before = [context.live.at(name, context.places).fill_null("") for name in names]
    price_before, cost_before = (context.number(*pair) for pair in zip(names, before, strict=True))
    wrong = same & ~(price_before == cost_before).fill_null(value=False)
    return _where(context, names, wrong, "the price and the cost are both {} now", names[:1])


def sale_price(context: CheckContext) -> pl.DataFrame:
    """A sale price over the price."""
    names = _roles(context, "sale_price", "price")
    if names is None:
        return nothing()
    sale, price = _amounts(context, names)
    return _where(context, names, sale > price, "the sale price is {} and the price {}")


def price_range(context: CheckContext) -> pl.DataFrame:
    """A price under the item's own least, or over its own highest."""
    tables = [nothing()]
    for role, word in (("least_price", "least"), ("most_price", "highest")):
        names = _roles(context, "price", role)
        if names is None:
            continue
        price, bound = _amounts(context, names)
        wrong = price < bound if word == "least" else price > bound
        tables.append(_where(context, names, wrong, "the price is {} and the " + word + " is {}"))
    return pl.concat(tables)


def sale_days(context: CheckContext) -> pl.DataFrame:
    """A sale that ends before it begins."""
    names = _roles(context, "sale_from", "sale_to")
    if names is None:
        return nothing()
    first, last = (context.read(name, context.now(name)) for name in names)
    return _where(context, names, last < first, "the sale begins on {} and ends on {}")


def hidden_in_stock(context: CheckContext) -> pl.DataFrame:
    """Items that are hidden although there is stock."""
    return _shown_by_stock(context, "no", "hidden, and {} in stock")


def shown_without_stock(context: CheckContext) -> pl.DataFrame:
    """Items that are shown although there is none."""
    return _shown_by_stock(context, "yes", "shown, and {} in stock")


def _shown_by_stock(context: CheckContext, word: str, sentence: str) -> pl.DataFrame:
    names = _roles(context, "shown", "stock")
    if names is None:
        return nothing()
    field = context.settings.get(names[0], Field())
    flag, stock = context.read(names[0], context.now(names[0])), context.number(names[1], context.now(names[1]))
    words = folded(pl.Series((field.yes if word == "yes" else field.no) or [], dtype=pl.String))
    has_word = flag.is_in(words.implode()) if field.kind == "choice" else flag == word
    wrong = has_word & ((stock > 0) if word == "no" else (stock <= 0))
    return _where(context, names, wrong, sentence, names[1:])


def _needs_shown(context: CheckContext) -> str | None:
    """Idle while it is not known whether an item is shown, or what its stock is."""
    name = context.store.relations.shown
    field = context.settings.get(name, Field()) if name is not None else Field()
    if (why := needs_roles(("shown", "stock"))(context)) is not None:
        return why
    if field.kind == "flag" or (field.kind == "choice" and field.yes and field.no):
        return None
    return f'a flag for "{name}", or yes = ["active"] and no = ["hidden"] of it as a choice'


RELATION_CHECKS = (
    Check(
        "price-as-cost",
        "stop",
        "item",
        "a price that is its item's cost now, and was not before",
        "see whether one of them stands in the wrong column",
        price_as_cost,
        alone=False,
        idle=needs_roles(("price", "cost")),
    ),
    Check(
        "margin",
        "stop",
        "item",
        "a price at or under the cost, or within the least margin of it",
        "look at both",
        margin,
        idle=needs_roles(("price", "cost")),
    ),
    Check(
        "sale-price",
        "stop",
        "item",
        "a sale price over the price",
        "look at both",
        sale_price,
        idle=needs_roles(("sale_price", "price")),
    ),
    Check(
        "price-range",
        "stop",
        "item",
        "a price outside of the item's own least and highest",
        "look at both",
        price_range,
        idle=needs_roles(("price", "least_price"), ("price", "most_price")),
    ),
    Check(
        "sale-days",
        "stop",
        "item",
        "a sale that ends before it begins",
        "look at both days",
        sale_days,
        idle=needs_roles(("sale_from", "sale_to")),
    ),
    Check(
        "hidden-in-stock",
        "note",
        "item",
        "an item that is hidden and in stock",
        "show it, if it is to be sold",
        hidden_in_stock,
        idle=_needs_shown,
    ),
    Check(
        "shown-without-stock",
        "note",
        "item",
        "an item that is shown and out of stock",
        "hide it, if it is not coming back",
        shown_without_stock,
        idle=_needs_shown,
    ),
)
