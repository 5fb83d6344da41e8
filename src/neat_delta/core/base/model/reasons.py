"""Why a change is held, as the change set says it: the words, and how their beginnings name the sort."""

from __future__ import annotations

__all__ = [
    "ALONE",
    "CHANGED_TOO",
    "CHECK",
    "CLASH",
    "DAMAGE",
    "DIFFER",
    "DOUBT",
    "EMPTIED",
    "FOLLOWS",
    "GONE",
    "INCOMPLETE",
    "LEFT_STORE",
    "LIST",
    "NEAR",
    "NEW",
    "NEW_TOO",
    "NOT",
    "NOT_NAMED",
    "NOT_SIGNED",
    "REFUSED",
    "RULE",
    "SHEET",
    "SLIP",
    "STALE",
    "STILL_CHANGED",
    "STORES",
    "SWAPPED",
    "sort_of",
]

EMPTIED, NEW, GONE = "emptied", "new", "gone"
"""A cell was emptied in the sheet; an item is only there; an item is only in live: nobody said what that means."""

DAMAGE, SLIP, CHECK = "damage: ", "slip: ", "check: "
"""The starts of the reasons for which cells are held that are damaged, that a slip touches, or that a check stops."""

RULE, LIST = "rule: ", "list: "
"""The starts of the reasons for which cells are held that a rule, or a list's description, could not work out."""

SHEET = "sheet: "
"""The start of the reason for which a cell is held that was held in one of several sheets of a round, or of which two
of them say different things.
"""

NOT = "not "
"""The start of the reason for which a cell is held that its kind cannot read: "not money", "not a date"."""

DOUBT = NOT + "plain: "
"""The start of the reason for which a cell is held that may mean two things."""

INCOMPLETE = "incomplete: "
"""The start of the reason for which a new item is held: a required cell of it is, and it would go out without."""

NEAR = "near: "
"""The start of the reason for which a new item is held whose key nearly is one of live's."""

FOLLOWS = "follows: "
"""The start of the reason for which a computed cell is held that rests on a cell that is."""

ALONE = FOLLOWS + "nothing else of the item goes"
"""The reason for which a cell is held that goes only with another change of its item."""

CLASH = "clash: "
"""The start of the reason for which a change is held that the store changed since the base, too."""

CHANGED_TOO, NEW_TOO = CLASH + "changed in the store, too", CLASH + "new in the store, too"
LEFT_STORE, STILL_CHANGED = CLASH + "gone from the store", CLASH + "gone from the sheet, changed in the store"
"""The ways in which sheet and store clash: in a cell; in a cell that the base does not have; in a whole item."""

STALE = "stale: cut from another export than live"
"""The reason for which everything is held where the sheet says so of itself, and there is no base."""

SWAPPED = "swapped: the sheet comes nearer to live than to the base"
"""The reason for which everything is held where base and live may have been named in each other's place."""

STORES, DIFFER = "answered store", CLASH + "reviewers differ"
"""The reasons for which a clash is not sent of which reviewers chose the store's value, or different ones."""

NOT_NAMED = "not named: only some codes are to be sent"
"""The reason for which an item is held that is not among the codes that are to be sent."""

NOT_SIGNED, REFUSED = "not signed off", "answered no"
"""The reasons for which a change is held that a reviewer did not say yes to, or said no to."""


def sort_of(reason: str) -> str:
    """The sort of a reason: what stands before its colon, or all of it.

    >>> sort_of("damage: leading zeros lost"), sort_of("emptied")
    ('damage', 'emptied')
    """
    return reason.partition(": ")[0]
