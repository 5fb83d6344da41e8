"""Which field is the price, the cost, the sale price, its days, the stock: the heading says so, and the cells agree."""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass

import msgspec
import polars as pl

from neat_delta.core.base.kinds import KINDS
from neat_delta.core.base.kinds.number import NUMBER_KINDS, amounts
from neat_delta.core.base.model.layout import Notation
from neat_delta.core.base.model.store import Field, Relations
from neat_delta.core.base.support.series import constant, gathered, scattered, true_places

__all__ = ["Related", "counts_stock", "relations"]

COST = re.compile(
    r"cost(?!um)|purchase|buying|trade|einkauf|^ek\b|achat|co[uû]t|coste|compra|costo|acquisto|inkoop|zakup",
    re.IGNORECASE,
)
SALE = re.compile(
    r"sale|special|offer|promo|discount|reduced|aktion|angebot|sonder|solde|oferta|scont|aanbied", re.IGNORECASE
)
NO_PRICE = re.compile(
    r"list|old|was|msrp|rrp|least|most|min|max|floor|tier|group|shipping|deposit|per[ _-]", re.IGNORECASE
)
PRICE = re.compile(r"price|preis|prix|precio|prezzo|pre[çc]o|prijs|cena|pris|ár$|цена|^vk\b", re.IGNORECASE)
STOCK = re.compile(
    r"stock|inventory|on.?hand|^qty|^quantity|bestand|voorraad|giacenza|existencias|stan|остаток", re.IGNORECASE
)
NO_STOCK = re.compile(
    r"min|max|order|least|most|level|alert|threshold|notify|safety|status|in.?stock|meld", re.IGNORECASE
)
FROM = re.compile(r"from|start|begin|first|von|ab$|début|desde|inizio|van$|od$", re.IGNORECASE)
TO = re.compile(r"to$|end|until|till|last|bis|fin$|hasta|fine|tot$|do$", re.IGNORECASE)
"""What headings of each have in them, or must not have."""

MOSTLY = 0.9
"""A relation is drafted where so large a share of the items that have both keeps it."""


@dataclass(frozen=True, slots=True)
class Related:
    """The relations, and by role how each was seen."""

    relations: Relations
    evidence: dict[str, str]


def counts_stock(heading: str) -> bool:
    """Whether a heading says that the field counts what is sold meanwhile.

    >>> counts_stock("Stock on hand"), counts_stock("min stock")
    (True, False)
    """
    return bool(STOCK.search(heading) and not NO_STOCK.search(heading))


def relations(cells: pl.DataFrame, fields: Mapping[str, Field], writing: Notation) -> Related:
    """The relations of a catalogue's fields, as far as headings say them and most cells keep them."""
    money = [name for name, field in fields.items() if field.kind in {"money", "decimal"}]
    price = next((name for name in money if _is_price(name)), None)
    cost = next((name for name in money if COST.search(name) and name != price), None)
    sale = next((name for name in money if SALE.search(name) and PRICE.search(name)), None)
    counts = [name for name, field in fields.items() if field.kind in {"integer", "decimal"}]
    stock = next((name for name in counts if counts_stock(name)), None)
    days = [name for name, field in fields.items() if field.kind == "date" and SALE.search(name)]
    first = next((name for name in days if FROM.search(name)), None)
    last = next((name for name in days if TO.search(name) and name != first), None)
    roles: dict[str, str] = {}
    evidence: dict[str, str] = {}
    if price is not None:
        roles["price"], evidence["price"] = price, "the heading says so"
        for role, other, what in (("cost", cost, "less than the price"), ("sale_price", sale, "at most the price")):
            if other is None:
                continue
            kept = _kept(cells, fields, writing, other, price, strictly=role == "cost")
            if kept is not None:
                roles[role], evidence[role] = other, f"{what} in {kept}"
    if first is not None and last is not None:
        kept = _kept(cells, fields, writing, first, last, strictly=False)
        if kept is not None:
            roles |= {"sale_from": first, "sale_to": last}
            evidence |= {"sale_from": "the heading says so", "sale_to": f"not before {first} in {kept}"}
    if stock is not None:
        roles["stock"], evidence["stock"] = stock, "the heading says so"
    return Related(msgspec.convert(roles, Relations), evidence)


def _is_price(name: str) -> bool:
    return bool(PRICE.search(name)) and not any(other.search(name) for other in (COST, SALE, NO_PRICE))


def _kept(
    cells: pl.DataFrame, fields: Mapping[str, Field], writing: Notation, low: str, high: str, *, strictly: bool
) -> str | None:
    """In how many of the items that have both one field is less than the other; None where too many, or none, are."""
    values = []
    for name in (low, high):
        texts, field = cells[name].str.strip_chars(), fields[name]
        if field.kind in NUMBER_KINDS:
            values.append(amounts(texts, field, writing))
        else:
            filled = true_places(texts != "")
            read = KINDS[field.kind].read(gathered(texts, filled), field, writing)
            values.append(scattered(constant(None, texts.len(), pl.String), filled, read))
    first, other = values
    right = (first < other) if strictly else (first <= other)
    both = int(right.is_not_null().sum())
    keep = int(right.sum() or 0)
    return f"{keep:,} of {both:,}" if both and keep >= both * MOSTLY else None
