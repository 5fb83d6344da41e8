"""What of a round may not pass without a person."""

from __future__ import annotations

from decimal import ROUND_HALF_UP, Decimal
from typing import TYPE_CHECKING

from neat_delta.core.base.model.reasons import NOT_SIGNED, REFUSED, STORES
from neat_delta.core.review.movement import movement
from neat_delta.core.review.waiting import waiting_counts
from neat_delta.report.text import count

if TYPE_CHECKING:
    from neat_delta.app.rounds.file import Limits
    from neat_delta.core.base.model.catalogue import Catalogue
    from neat_delta.core.base.model.changeset import ChangeSet

__all__ = ["what_stops"]

ANSWERED = frozenset({NOT_SIGNED, REFUSED, STORES})
"""Why something is held of which a reviewer has decided."""


def what_stops(changes: ChangeSet, live: Catalogue, limits: Limits) -> list[str]:
    """Why a change set is not to be sent as it is, a line each; nothing where it is. `live` is its own.

    >>> from neat_delta import as_catalogue, compare
    >>> from neat_delta.app.rounds.file import Limits
    >>> live = as_catalogue({"sku": ["QA-1", "QA-2"], "price": ["10.00", "20.00"]}, "live")
    >>> changes = compare(live, as_catalogue({"sku": ["QA-1"], "price": ["13.00"]}, "sheet"))
    >>> what_stops(changes, live, Limits(price_sum=Decimal(5)))
    ['the sum of price moves by 10.0 %, and at most 5 % may pass']
    """
    stops = []
    if limits.held == "stop":
        waiting = _waiting(changes)
        if waiting:
            reasons = [
                f"{count.reason} ({count.items or count.cells:,})"
                for count in changes.reasons()
                if count.reason not in ANSWERED
            ]
            stops.append(f"{waiting:,} held: {', '.join(reasons) or 'rows that nobody can place'}")
    to_send, rows = waiting_counts(changes)["to_send"], live.height
    if limits.most_items is not None and to_send > limits.most_items:
        stops.append(f"{count(to_send, 'item')} would change, and at most {limits.most_items:,} may pass")
    if limits.most_percent is not None and rows and to_send * 100 > limits.most_percent * rows:
        share = _tenths(Decimal(to_send * 100) / rows)
        stops.append(f"{share} % of all items change, and at most {limits.most_percent} % may pass")
    price = limits.price or changes.header.store.relations.price or "price"
    if (limits.price_sum is not None or limits.price_median is not None) and price in live.fields:
        moves = movement(changes, live, price)
        for what, percent, most in (
            ("sum", moves.sum_percent, limits.price_sum), ("median", moves.median_percent, limits.price_median),
        ):  # fmt: skip
            if most is not None and percent > most:
                stops.append(f"the {what} of {price} moves by {_tenths(percent)} %, and at most {most} % may pass")
    return stops


def _waiting(changes: ChangeSet) -> int:
    """How much waits for a person, but for what a person has answered."""
    counts = waiting_counts(changes)
    reasons = changes.reasons()
    if not any(count.reason in ANSWERED for count in reasons):
        return counts["waiting"] + counts.get("unresolved", 0) * (counts["held"] == 0)
    aside = counts["waiting"] - counts["held"]
    return aside + sum(count.items or count.cells for count in reasons if count.reason not in ANSWERED)


def _tenths(number: Decimal) -> Decimal:
    return number.quantize(Decimal("0.1"), ROUND_HALF_UP) if number.is_finite() else number
