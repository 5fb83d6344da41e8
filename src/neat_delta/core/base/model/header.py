"""What a change set says of its inputs, of how they were compared, and of all that was found."""

from __future__ import annotations

from typing import Literal

import msgspec

from neat_delta.core.base.model.accept import Accept
from neat_delta.core.base.model.catalogue import Source
from neat_delta.core.base.model.columns import ColumnMatch
from neat_delta.core.base.model.layout import Layout, Notation
from neat_delta.core.base.model.rules import RuleText
from neat_delta.core.base.model.store import Field, Key, Store, must_be_named

__all__ = [
    "FORMAT",
    "VERSION",
    "CheckFinding",
    "Computed",
    "Counts",
    "Damaged",
    "FindingDone",
    "FindingSummary",
    "Header",
    "LikelyCode",
    "Meanwhile",
    "NearKey",
    "SetAside",
    "Unresolved",
]


FORMAT = "neat-delta changes"


VERSION = 2


class SetAside(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """A row that could not be matched: the file it stands in, its number there, its key, and why."""

    file: Literal["live", "sheet"]
    row: int
    key: dict[str, str]
    reason: str


class NearKey(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """A key of the sheet that only nearly is a key of live, and whether it was taken for that all the same.

    `damage` says what a spreadsheet did to the key, if that is what happened; `why` why nobody can say which item is
    meant (null: it is near in one way only).
    """

    row: int
    key: dict[str, str]
    live_key: dict[str, str]
    taken: bool
    damage: str | None = None
    why: str | None = None


class LikelyCode(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """An item that is gone and a new one that may be the same under another code: their keys, the new one's row in the
    sheet, how many of the fields agree of how many, and how alike the names are, in per cent (null: there is none).
    """

    old: dict[str, str]
    new: dict[str, str]
    row: int
    agree: int
    fields: int
    alike: int | None


FindingDone = Literal["held", "repaired", "accepted", "noted"]
"""What became of what was found."""


class FindingSummary(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """What was found wrong, in so many cells of these fields: the check, what happened, why we think so.

    `done` says what became of the cells: held, repaired (live's own value is put back), accepted (let through as the
    user said), or noted (nothing is held for it). `do` says what to do about it, where that is not plain.
    """

    check: str
    name: str
    fields: list[str]
    cells: int
    why: str
    done: FindingDone
    do: str | None = None


class Damaged(msgspec.Struct, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """One damaged cell: its damage, its item, its place in the sheet, live's text, the sheet's text as it stands there,
    and the repair, which is null where nobody can know what was meant. `live` is the item's row in live, where several
    items share a key.
    """

    damage: str
    key: dict[str, str]
    field: str
    row: int
    before: str | None
    sheet: str
    repair: str | None
    done: Literal["held", "repaired", "accepted"]
    live: int | None = None


class CheckFinding(msgspec.Struct, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """What a check found in one cell: the check and its level, the item and its place in the sheet, the value, what is
    wrong with it, and what became of it. Without an item, it is about the whole round. `live` is the item's row in
    live, where several items share a key.
    """

    check: str
    level: Literal["stop", "warn", "note"]
    key: dict[str, str] | None
    field: str | None
    row: int | None
    value: str | None
    what: str
    done: Literal["held", "accepted", "noted"]
    live: int | None = None


class Meanwhile(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """A cell of the sheet's items that the store changed since the base, and the sheet did not: its item, the row in
    live, the texts in the base and in live. Without a field and a row, the whole item is gone from the store.
    """

    meanwhile: dict[str, str]
    field: str | None
    row: int | None
    base: str | None
    live: str | None


class Computed(msgspec.Struct, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """One step by which a computed cell came about: its item and field, the number of the rule in the header (from 0),
    the texts that it read, by the names of the rule's inputs (null: blank), and the text that it gave. `live` is the
    item's row in live, where several items share a key.
    """

    computed: dict[str, str]
    field: str
    rule: int
    inputs: list[str | None]
    result: str
    live: int | None = None


class Unresolved(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """What could not be worked out: the key and the row of the item, the field (null: the whole row), whether a `rule`,
    a `list` or one `sheet` of several says it, which, and what is wrong.
    """

    unresolved: dict[str, str]
    row: int
    field: str | None
    source: str
    rule: str
    what: str


class Counts(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """Where every row and every changed cell went.

    live's rows = same + changed + recoded + gone + absent + set_aside_live; the sheet's = same + changed + recoded +
    new + departed + set_aside_sheet - unlisted. `absent` are not in the sheet, which need not have every item;
    `departed` stand in it as they were cut, and are gone from the store since; `unlisted` are no rows of the sheet, as
    only a link of theirs follows a code. `cells` counts all cells of the change set, `held_cells` those of them that
    are held, by themselves or with their item; `blanks_kept` the emptied cells that were taken to mean "leave as it
    is"; `written_differently` the cells that programs rewrote (docs/equal.md), which are no change. `damaged` counts
    the cells that came back other than anybody typed them, `repaired` those of them that are no change as live's own
    value was put back; `flags` what the checks found. With a base: `clashes` are cells that both sides changed to
    different values, and items that one side changed and the other gave up; `left_to_store` those of them that stay as
    the store has them; `already` cells that both changed to the same; `merged` lists of which both changes are sent;
    `meanwhile` what only the store changed. `lost` are rows that a working sheet was cut with and does not have any
    more. `folded` are rows of a list that went into another one's, and `copied` times that one went to several items,
    which are no rows of it: the rows of the sheet are those above + folded - copied. `computed` are the steps by which
    cells came about that nobody typed, `unresolved` what could not be worked out.
    """

    same: int
    changed: int
    new: int
    gone: int
    set_aside_live: int
    set_aside_sheet: int
    cells: int
    held_cells: int
    blanks_kept: int
    written_differently: int
    damaged: int = 0
    repaired: int = 0
    flags: int = 0
    recoded: int = 0
    unlisted: int = 0
    absent: int = 0
    departed: int = 0
    clashes: int = 0
    already: int = 0
    merged: int = 0
    left_to_store: int = 0
    meanwhile: int = 0
    lost: int = 0
    folded: int = 0
    copied: int = 0
    computed: int = 0
    unresolved: int = 0


class Header(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """The first line of a change set.

    `pairs` are the sheet's headings and the fields they stand for; `headings` what live calls those fields
    that have a name of their own in the store file. `store` is what is known of the store: its name, its key, how it
    writes values, the fields that are more than text, its relations, its importer; `learned` says that there was no
    store file, and this was found out. `sheet_writing` is how the sheet writes values.
    `findings` are the damage and the slips that were found, and `accepted` what was said to be let through, of
    which `idle_accepts` fit nothing that was found.
    `likely` are code changes that nobody asked for, but that items which are gone and new suggest. `rewritten` says of
    each field how many of its cells programs rewrote. `new_values` are the fields of which new values were let through.
    `base` is the export that the sheet was cut from, where live has moved on (`remembered`: by the sheet itself);
    `two_way` are the fields that it lacks; `meanwhile` says of each field how many cells the store changed since and
    the sheet did not; `followed` are code changes that the store made since, by which the sheet's items were looked
    for; `lost` the first rows that a working sheet was cut with and lost. `rules` are what was said of computed
    cells; `matched_by` the fields by which a list's rows found their items, if not by the key; `unseen` the fields
    that live lacks and the store has: the text before is blank there, and stands for what is not known.
    """

    format: str
    version: int
    store: Store
    fields: list[str]
    live: Source
    sheet: Source
    counts: Counts
    pairs: list[ColumnMatch]
    headings: dict[str, str]
    untouched: list[str]
    sheet_writing: Notation
    learned: bool
    near: list[NearKey]
    set_aside: list[SetAside]
    findings: list[FindingSummary] = []
    accepted: list[Accept] = []
    idle_accepts: list[Accept] = []
    likely: list[LikelyCode] = []
    rewritten: dict[str, int] = {}
    new_values: list[str] = []
    base: Source | None = None
    remembered: bool = False
    two_way: list[str] = []
    meanwhile: dict[str, int] = {}
    followed: list[LikelyCode] = []
    lost: list[dict[str, str]] = []
    rules: list[RuleText] = []
    matched_by: list[str] = []
    unseen: list[str] = []

    @property
    def by_rules(self) -> bool:
        """Whether there was no sheet, only rules."""
        return bool(self.rules) and self.sheet.layout == Layout()

    @property
    def compared_by(self) -> Key:
        """The key, and how two of them are compared."""
        return self.store.key

    @property
    def key(self) -> list[str]:
        """The fields of the key."""
        return self.store.key.fields

    @property
    def key_headings(self) -> list[str]:
        """What live calls the fields of the key."""
        return [self.headings.get(name, name) for name in self.key]

    @property
    def shared(self) -> bool:
        """Whether a change goes to all items that have one key."""
        return self.store.key.shared == "all"

    @property
    def settings(self) -> dict[str, Field]:
        """What is known of each field that is more than text."""
        return self.store.fields

    @property
    def writing(self) -> Notation:
        """How live writes values."""
        return self.store.writing

    def store_by_now(self, store: Store | None) -> Store:
        """What is known of the store by now: what its store file says, or, where there is none, what was known when the
        change set was made. StoreError where the file describes another store.
        """
        if store is None:
            return self.store
        must_be_named(store, self.store.name)
        return store
