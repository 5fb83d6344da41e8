"""Open quotes and customers' prices against a round: which a changed cost touches, and what that does to them."""

from __future__ import annotations

from decimal import ROUND_HALF_UP, Decimal, localcontext

import msgspec
import polars as pl

from neat_delta.core.base.infer.headings import plain_heading
from neat_delta.core.base.infer.writing import writing_of
from neat_delta.core.base.kinds import KINDS
from neat_delta.core.base.model.catalogue import Catalogue, listed
from neat_delta.core.base.model.changeset import ChangeSet
from neat_delta.core.base.model.choices import KeepMargin
from neat_delta.core.base.model.store import Field
from neat_delta.core.base.support.errors import CatalogueError
from neat_delta.core.base.support.series import gathered
from neat_delta.core.review.impact import CENT, TENTH, WORKING, changed_amounts
from neat_delta.core.sheets.match.columns import match_columns
from neat_delta.core.sheets.match.keys import KeyIndex, stripped

__all__ = ["Record", "Records", "records"]

PRICES = ("price", "unitprice", "quotedprice", "quoteprice", "customerprice", "agreedprice", "netprice", "offerprice")
"""Headings that plainly are the price of a record, without case and marks."""


class Record(msgspec.Struct, frozen=True):
    """A record of an item whose cost changes: its row, its key, its other cells, its price, the item's cost and the
    record's margin before and after, as an amount and in per cent of the price (half up to a tenth; None where that is
    0), and the price that restores the margin it had, half up to a cent (None where there is none).
    """

    row: int
    key: dict[str, str]
    about: dict[str, str]
    price: Decimal
    cost_before: Decimal
    cost: Decimal
    margin_before: Decimal
    margin: Decimal
    per_cent_before: Decimal | None
    per_cent: Decimal | None
    restores: Decimal | None


class Records(msgspec.Struct, frozen=True):
    """What a round does to a table of records. rows = touched + untouched + unknown + unpriced: those of items whose
    cost changes, or does not, or that are not in live, and those without a price that can be read.
    """

    path: str
    price: str
    keep: KeepMargin
    rows: int
    untouched: int
    unknown: int
    unpriced: int
    touched: list[Record]


def records(
    changes: ChangeSet, live: Catalogue, table: Catalogue, price: str | None = None, keep: KeepMargin = "percent"
) -> Records:
    """What the sent changes of costs do to the records of a table, in its order.

    The table has the change set's key and a price, under its heading `price`, or under one that plainly is. The price
    that restores a margin keeps its share of the price or its amount, as `keep` says. CatalogueError when the store
    file names no cost, or the table has no key or no price.
    """
    header = changes.header
    if header.store.relations.cost is None:
        raise CatalogueError(
            "The store file does not say which field is the cost, so nothing can be said of records; write "
            'cost = "…" under [relations].'
        )
    headings = _headings(changes, live, table)
    name = price or plain_heading(table.fields, PRICES)
    if name is None or name not in table.fields:
        raise CatalogueError(
            f"{table.path}: it has no heading {f'{chr(34)}{price}{chr(34)}' if price else 'that plainly is a price'}. "
            f"Say which it is with ‹record_price›. It has: {listed(table.fields)}."
        )
    key = header.compared_by
    quoted = table.cells.select(pl.col(heading).alias(field) for field, heading in headings.items())
    in_live_already = KeyIndex.of(live, key).lookup(quoted).is_not_null()
    costs = list(changed_amounts(changes, live, "cost"))
    items = pl.Series([number for number, _, _ in costs], dtype=pl.Int64)
    priced = KeyIndex.of(gathered(changes.keys, items), key).lookup(quoted)
    writing = writing_of([table.cells[name]], header.writing)
    prices = KINDS["money"].read(table.cells[name], Field("money"), writing)
    row_numbers = table.row(pl.int_range(table.cells.height, eager=True))
    others = [heading for heading in table.fields if heading not in {*headings.values(), name}]
    about = table.cells.select(others).rows(named=True) if others else [{}] * table.cells.height
    touched, untouched, unknown, unpriced = [], 0, 0, 0
    with localcontext(WORKING):
        for named, in_live, place, text, row, rest in zip(
            stripped(quoted, key).rows(named=True), in_live_already, priced, prices, row_numbers, about, strict=True
        ):
            if not in_live:
                unknown += 1
            elif text is None:
                unpriced += 1
            elif place is None:
                untouched += 1
            else:
                touched.append(_record(row, named, rest, Decimal(text), costs[place][1], costs[place][2], keep))
    return Records(table.path, name, keep, table.cells.height, untouched, unknown, unpriced, touched)


def _headings(changes: ChangeSet, live: Catalogue, table: Catalogue) -> dict[str, str]:
    """What the table calls the key fields."""
    pairs = match_columns(table.fields, live.fields, field_settings=changes.header.settings, path=table.path)
    headings = {match.field: match.heading for match in pairs if match.field is not None}
    for field in changes.header.key:
        if field not in headings:
            raise CatalogueError(
                f'{table.path}: no heading stands for "{field}", which is the key. It has: {listed(table.fields)}.'
            )
    return {field: headings[field] for field in changes.header.key}


def _record(
    row: int,
    key: dict[str, str],
    about: dict[str, str],
    price: Decimal,
    before: Decimal,
    cost: Decimal,
    keep: KeepMargin,
) -> Record:
    margins = [price - cost_side for cost_side in (before, cost)]
    shares = [(margin * 100 / price).quantize(TENTH, ROUND_HALF_UP) if price else None for margin in margins]
    restores = None
    if keep == "amount":
        restores = price + cost - before
    elif before:
        restores = cost * price / before
    if restores is not None:
        restores = restores.quantize(CENT, ROUND_HALF_UP)
    return Record(row, key, about, price, before, cost, margins[0], margins[1], shares[0], shares[1], restores)
