"""What rounds did to cells, as plain values."""

from __future__ import annotations

from typing import NamedTuple

import msgspec

__all__ = [
    "BETWEEN",
    "LANDED",
    "SENT",
    "HistoryCell",
    "HistoryChange",
    "RoundCell",
    "SetLater",
    "WentBack",
    "went_back",
]

BETWEEN = "\x1f"
"""What stands between the texts of a key of several fields (ASCII's unit separator)."""


WRITTEN, SENT, LANDED = "written", "sent", "landed"
"""What became of a cell: its file was written, and nobody knows whether it was imported; it was delivered, and nobody
looked yet; or it stands there as it was meant.
"""


class RoundCell(NamedTuple):
    """A cell of a round: its item's key (`BETWEEN` its texts), its field ("" for the item itself: then `after` is its
    verdict), the texts before and after, the rule that it came about by ("": it was typed, or stood in a list), what
    became of it (`written`, `sent`, `landed`, why it was held, …), and whether undo files were written
    for it.
    """

    key: str
    field: str
    before: str | None
    after: str | None
    rule: str
    state: str
    undone: bool


class HistoryCell(NamedTuple):
    """A cell as a round changed it: the round's number and day, and as `RoundCell`."""

    number: int
    day: str
    key: str
    field: str
    before: str | None
    after: str | None
    rule: str
    state: str
    undone: bool


class WentBack(msgspec.Struct, frozen=True):
    """A cell that is to have the text again that an earlier round took away: its key and field, that round and its day,
    the texts before and after then.
    """

    key: list[str]
    field: str
    round: int
    day: str
    before: str | None
    after: str | None


def went_back(cell: HistoryCell) -> WentBack:
    """What an earlier round did to a cell."""
    return WentBack(cell.key.split(BETWEEN), cell.field, cell.number, cell.day, cell.before, cell.after)


class SetLater(msgspec.Struct, frozen=True):
    """A cell that a later round set: its key and field, that round, its day, and the text that it set."""

    key: list[str]
    field: str
    round: int
    day: str
    after: str | None


class HistoryChange(msgspec.Struct, frozen=True):
    """A cell that a round changed, or held: the round and its day, the item's key, the field ("": the item itself, and
    `after` is its verdict), the texts before and after, the rule that it came about by, the sheets and lists of the
    round, who said yes, what became of it, and whether undo files were written for it.
    """

    round: int
    day: str
    key: list[str]
    field: str
    before: str | None
    after: str | None
    rule: str
    sheets: list[str]
    signed: list[str]
    state: str
    undone: bool
