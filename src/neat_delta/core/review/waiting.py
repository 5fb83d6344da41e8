"""Of how many items something is to be sent, and how much waits for a person."""

from __future__ import annotations

from typing import TYPE_CHECKING

from neat_delta.core.base.model.changeset import held
from neat_delta.core.base.support.series import constant, scattered
from neat_delta.core.sheets.match.rows import HARMLESS

if TYPE_CHECKING:
    from neat_delta.core.base.model.changeset import ChangeSet

__all__ = ["sent_cells", "waiting_counts"]


def waiting_counts(changes: ChangeSet) -> dict[str, int]:
    """Of how many items something is to be sent, of how many something is held, and how much waits for a person: those,
    and the rows that were set aside and are not harmless; and what could not be worked out, where there is any.

    >>> from neat_delta import as_catalogue, compare
    >>> live = as_catalogue({"sku": ["QA-1", "QA-2"], "price": ["9.90", "20.00"]}, "live")
    >>> waiting_counts(compare(live, as_catalogue({"sku": ["QA-1", "QA-2"], "price": ["10.50", ""]}, "sheet")))
    {'to_send': 1, 'held': 1, 'waiting': 1}
    """
    item_held, stays = changes.items["held"].is_not_null(), held(changes.items, changes.cells)
    by_themselves = scattered(constant(False, item_held.len()), changes.sent_without_cells(), True)
    to_send = scattered(by_themselves, changes.cells["item"].filter(~stays), True)
    waits = int(scattered(item_held, changes.cells["item"].filter(stays), True).sum())
    aside = sum(row.reason not in HARMLESS for row in changes.header.set_aside)
    facts = {"to_send": int(to_send.sum()), "held": waits, "waiting": waits + aside}
    questions = changes.header.counts.unresolved
    return facts | ({"unresolved": questions} if questions else {})


def sent_cells(changes: ChangeSet) -> int:
    """How many cells are to be sent, an item that goes as a whole counting for one.

    >>> from neat_delta import as_catalogue, compare
    >>> live = as_catalogue({"sku": ["QA-1"], "price": ["9.90"]}, "live")
    >>> sent_cells(compare(live, as_catalogue({"sku": ["QA-1"], "price": ["10.50"]}, "sheet")))
    1
    """
    return changes.sent().height + changes.sent_without_cells().len()
