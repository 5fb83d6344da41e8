"""Why a change is held, as the change set says it: the words, and how their beginnings name the sort."""

from __future__ import annotations

__all__ = [
    "CHECK",
    "DAMAGE",
    "DOUBT",
    "EMPTIED",
    "GONE",
    "INCOMPLETE",
    "NEW",
    "NOT",
    "NOT_SIGNED",
    "REFUSED",
    "SLIP",
    "sort_of",
]

EMPTIED, NEW, GONE = "emptied", "new", "gone"
"""A cell was emptied in the sheet; an item is only there; an item is only in live: nobody said what that means."""

DAMAGE, SLIP, CHECK = "damage: ", "slip: ", "check: "
"""The starts of the reasons for which cells are held that are damaged, that a slip touches, or that a check stops."""

NOT = "not "
"""The start of the reason for which a cell is held that its kind cannot read: "not money", "not a date"."""

DOUBT = NOT + "plain: "
"""The start of the reason for which a cell is held that may mean two things."""

INCOMPLETE = "incomplete: "
"""The start of the reason for which a new item is held: a required cell of it is, and it would go out without."""

NOT_SIGNED, REFUSED = "not signed off", "answered no"
"""The reasons for which a change is held that a reviewer did not say yes to, or said no to."""


def sort_of(reason: str) -> str:
    """The sort of a reason: what stands before its colon, or all of it.

    >>> sort_of("damage: leading zeros lost"), sort_of("emptied")
    ('damage', 'emptied')
    """
    return reason.partition(": ")[0]
