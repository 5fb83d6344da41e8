"""The change set: what `compare` finds, as three tables that belong together, and the header that describes them."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field, replace
from functools import partial
from html import escape
from typing import Literal, get_args

import msgspec
import polars as pl

from neat_delta.core.model.accept import Accept
from neat_delta.core.model.catalogue import Source
from neat_delta.core.model.choices import Verdict
from neat_delta.core.model.columns import ColumnMatch
from neat_delta.core.model.layout import Layout, Notation
from neat_delta.core.model.rules import RuleText
from neat_delta.core.model.schemas import (
    COMPUTED_SCHEMA,
    DAMAGED_SCHEMA,
    FLAGS_SCHEMA,
    ITEMS_SCHEMA,
    MEANWHILE_SCHEMA,
    UNRESOLVED_SCHEMA,
    conform,
    empty,
)
from neat_delta.core.model.store import Field, Key, Relations
from neat_delta.core.support.series import scattered

__all__ = [
    "FORMAT",
    "VERSION",
    "ChangeSet",
    "CheckFinding",
    "Computed",
    "Counts",
    "Damaged",
    "FindingSummary",
    "Header",
    "Held",
    "HeldCount",
    "Item",
    "LikelyCode",
    "Meanwhile",
    "NearKey",
    "Row",
    "SetAside",
    "Unresolved",
    "code_changes",
    "counted",
    "held",
]

FORMAT = "neat-delta changes"
VERSION = 1

"""What became of an item; `recoded`: its code changes, and maybe more. A fifth, `same`, is only counted.
"""


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
    """What could not be worked out: the key and the row of the item, the field (null: the whole row), whether a `rule`
    or a `list` says it, which, and what is wrong.
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
    that have a name of their own in the store file. `settings` are the fields that are more than text; `writing` is how
    live writes values, and `sheet_writing` how the sheet does. `learned` says that these were found out, not told.
    `ignore_case` says that keys are the same in any case (without outer white space they always are), `shared` that a
    change goes to all items that have one key, `name` which field a person knows an item by.
    `findings` are the damage and the slips that were found, and `accepted` what was said to be let through, of
    which `idle_accepts` fit nothing that was found.
    `likely` are code changes that nobody asked for, but that items which are gone and new suggest.
    `relations` are which fields the store file calls the price, the cost and so on. `rewritten` says of each field how
    many of its cells programs rewrote. `new_values` are the fields of which new values were let through.
    `base` is the export that the sheet was cut from, where live has moved on (`remembered`: by the sheet itself);
    `two_way` are the fields that it lacks; `meanwhile` says of each field how many cells the store changed since and
    the sheet did not; `followed` are code changes that the store made since, by which the sheet's items were looked
    for; `lost` the first rows that a working sheet was cut with and lost. `rules` are what was said of computed
    cells; `matched_by` the fields by which a list's rows found their items, if not by the key; `unseen` the fields
    that live lacks and the store has: the text before is blank there, and stands for what is not known.
    """

    format: str
    version: int
    key: list[str]
    fields: list[str]
    live: Source
    sheet: Source
    counts: Counts
    pairs: list[ColumnMatch]
    headings: dict[str, str]
    untouched: list[str]
    settings: dict[str, Field]
    writing: Notation
    sheet_writing: Notation
    learned: bool
    ignore_case: bool
    shared: bool
    name: str | None
    near: list[NearKey]
    set_aside: list[SetAside]
    findings: list[FindingSummary] = []
    accepted: list[Accept] = []
    idle_accepts: list[Accept] = []
    likely: list[LikelyCode] = []
    relations: Relations = Relations()
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
        return Key(self.key, self.name, self.ignore_case, "all" if self.shared else "error")


class Held(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """A held change: its field (none for the whole item) and the reason."""

    field: str | None
    reason: str


class HeldCount(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """How many whole items and how many cells are held for one reason; `fields` are those of the cells that are held
    by themselves.
    """

    reason: str
    items: int
    cells: int
    fields: list[str] = []


class Row(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """The numbers of an item's rows as a spreadsheet shows them, the header being row 1."""

    live: int | None
    sheet: int | None


NO_BASE: dict[str, str] = {}


class Item(msgspec.Struct, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """One line of a change set after the header. A cell is (before, after). `base` has the texts of the export that the
    sheet was cut from, where they are not those before.
    """

    key: dict[str, str]
    verdict: Verdict
    cells: dict[str, tuple[str | None, str | None]]
    held: list[Held]
    row: Row
    base: dict[str, str] = {}


@dataclass(frozen=True, slots=True, repr=False)
class ChangeSet:
    """What changed, keyed by item: `len` says how many items there are, a key in brackets gives its item.

    `keys`   one row an item, the key fields as columns, as live has them: live's order, new items last in the sheet's
             order; a new code is a cell of its key field;
    `items`  one row an item: verdict, row numbers in live and sheet (null where none), reason it is held (null if not);
    `cells`  one row a changed cell, by item and then by field in live's order: number of the item (from 0),
             field, text before and after (null where there was none), reason it is held (null if not), and the text
             in the base where that is another than before (else null);
    `damaged` one row a damaged cell, as in `Damaged`, by row of the sheet and field;
    `flags` one row a finding of a check, as in `CheckFinding`;
    `meanwhile` what the store changed since the base, as in `Meanwhile`;
    `computed` one row a step by which a cell came about, by item and field, as in `Computed`;
    `unresolved` what could not be worked out, as in `Unresolved`;
    `digest` the digest of the file it was read from ("" where it was not).
    """

    header: Header
    keys: pl.DataFrame
    items: pl.DataFrame
    cells: pl.DataFrame
    damaged: pl.DataFrame = field(default_factory=partial(empty, DAMAGED_SCHEMA))
    flags: pl.DataFrame = field(default_factory=partial(empty, FLAGS_SCHEMA))
    meanwhile: pl.DataFrame = field(default_factory=partial(empty, MEANWHILE_SCHEMA))
    computed: pl.DataFrame = field(default_factory=partial(empty, COMPUTED_SCHEMA))
    unresolved: pl.DataFrame = field(default_factory=partial(empty, UNRESOLVED_SCHEMA))
    digest: str = ""

    def __len__(self) -> int:
        return self.items.height

    def __iter__(self) -> Iterator[Item]:
        return self.iter_items()

    def __getitem__(self, key: str | tuple[str, ...]) -> Item:
        """The item with this key, as live has it: the text, or those of a key of several fields. KeyError when there is
        none, or more than one.
        """
        texts = (key,) if isinstance(key, str) else key
        if len(texts) != self.keys.width:
            raise KeyError(f"The key is {', '.join(self.keys.columns)}: {len(texts)} of {self.keys.width} were given.")
        at = self.keys.select(pl.all_horizontal(pl.nth(n) == text for n, text in enumerate(texts))).to_series()
        place = at.arg_true()
        if place.len() != 1:
            raise KeyError(f"{', '.join(texts)}: {place.len() or 'no'} such items are in the change set.")
        return next(self.choose(place.cast(pl.UInt32)).iter_items())

    def __repr__(self) -> str:
        counts = self.header.counts
        verdicts = [(word, getattr(counts, word)) for word in get_args(Verdict)]
        said = ", ".join(f"{many} {word}" for word, many in verdicts if many) or "none"
        sent = self.sent().height
        return (
            f"<{type(self).__name__} {self.header.live.path} → {self.header.sheet.path}: {said}; {sent} cells to send, "
            f"{self.cells.height - sent} held>"
        )

    def _repr_html_(self) -> str:
        return f"<p>{escape(repr(self)[1:-1])}</p>{self.to_frame()._repr_html_()}"

    def to_frame(self) -> pl.DataFrame:
        """One row a changed cell, and one for an item without any: the key, its `verdict`, the `field` (null: none),
        `before` and `after`, and why it is `held` (null: it is not). A field of the key that is called like one of
        these has its own name, and that column an underscore after its.
        """
        number = pl.int_range(self.items.height, dtype=pl.Int64, eager=True)
        bare = number.filter(~number.is_in(self.cells["item"].unique().implode()))
        cells = self.cells.select("item", pl.col("field").cast(pl.String), "before", "after", "held")
        bare_cells = conform(pl.DataFrame({"item": bare}), cells.schema)
        table = pl.concat([cells, bare_cells]).sort("item", maintain_order=True)
        of = {name: self.items[name].gather(table["item"]) for name in ("verdict", "held")}
        columns = [of["verdict"], table["field"], table["before"], table["after"]]
        columns.append(table["held"].zip_with(table["held"].is_not_null(), of["held"]))
        return self.with_keys(table["item"], columns)

    @property
    def held(self) -> ChangeSet:
        """Only what is held: whole items, and cells by themselves, each with its reason."""
        stays = held(self.items, self.cells)
        items = self.items["held"].is_not_null()
        items = scattered(items, self.cells["item"].filter(stays), True)
        return replace(self, cells=self.cells.filter(stays)).choose(items.arg_true())

    @property
    def findings(self) -> pl.DataFrame:
        """What was found, one row a finding: the key (null: the whole round), the `field`, whether it is `damage` or a
        `check`, its `name`, the `level`, the `row` in the sheet, the `value` there, `what` is wrong, what is `done`.
        """
        flags = self.flags.select(
            "item", "field", pl.lit("check").alias("source"), pl.col("check").alias("name"), "level", "row", "value",
            "what", "done",
        )  # fmt: skip
        damaged = self.damaged.select(
            "item", "field", pl.lit("damage").alias("source"), pl.col("damage").alias("name"),
            pl.lit("stop").alias("level"), "row", pl.col("sheet").alias("value"),
            pl.format("it was {}", pl.col("before")).alias("what"), "done",
        )  # fmt: skip
        table = pl.concat([damaged, flags]).sort("item", maintain_order=True, nulls_last=True)
        keyed = self.with_keys(table["item"], table.drop("item").get_columns())
        unlisted = self.damaged.filter(pl.col("item").is_null())["key"]  # all of their cells were put back
        if not unlisted.len():
            return keyed
        place = ((table["source"] == "damage") & table["item"].is_null()).arg_true()
        texts = [unlisted.list.get(n) for n in range(self.keys.width)]
        return keyed.with_columns(
            scattered(keyed[name], place, those) for name, those in zip(self.keys.columns, texts, strict=True)
        )

    def with_keys(self, item: pl.Series, columns: Sequence[pl.Series]) -> pl.DataFrame:
        """These columns with the keys of their items, by their numbers, before them."""
        keys = [self.keys[name].gather(item) for name in self.keys.columns]
        named = [one.alias(one.name + "_" if one.name in self.keys.columns else one.name) for one in columns]
        return pl.DataFrame([*keys, *named])

    def sent(self) -> pl.DataFrame:
        """The cells that are to be written: neither they nor their items are held."""
        return self.cells.filter(~held(self.items, self.cells))

    def reasons(self) -> list[HeldCount]:
        """How much is held for each reason: items as a whole with their cells, and cells by themselves. A cell is
        counted once; that of an item that is held with the item.
        """
        items = counted(self.items["held"])
        with_item = self.items["held"].gather(self.cells["item"])
        cells = counted(with_item.zip_with(with_item.is_not_null(), self.cells["held"]))
        alone = self.cells.filter(with_item.is_null() & pl.col("held").is_not_null()).select("held", "field")
        fields: dict[str, list[str]] = {}
        for reason, name in alone.unique().sort("held", "field").iter_rows():
            fields.setdefault(reason, []).append(name)
        return [
            HeldCount(reason, items[reason], cells[reason], fields.get(reason, [])) for reason in sorted(items | cells)
        ]

    def iter_items(self) -> Iterator[Item]:
        """The items one by one, in order."""
        names = self.keys.columns
        columns = ("field", "before", "after", "held", "base")
        fields, before, after, why, base = (self.cells[name].to_list() for name in columns)
        based = self.header.base is not None
        numbers = pl.Series(range(self.items.height + 1), dtype=pl.Int64)
        starts = self.cells["item"].search_sorted(numbers, side="left").to_list()
        rows = zip(self.keys.rows(), self.items.select(list(ITEMS_SCHEMA)).rows(), strict=True)
        for number, (key, (verdict, live, sheet, reason)) in enumerate(rows):
            own_cells = range(starts[number], starts[number + 1])
            held = [] if reason is None else [Held(None, reason)]
            held += [Held(fields[at], why[at]) for at in own_cells if why[at] is not None]
            texts = {fields[at]: (before[at], after[at]) for at in own_cells}
            olds = {fields[at]: base[at] for at in own_cells if base[at] is not None} if based else NO_BASE
            yield Item(dict(zip(names, key, strict=True)), verdict, texts, held, Row(live, sheet), olds)

    def iter_damaged(self) -> Iterator[Damaged]:
        """The damaged cells one by one."""
        for item, damage, key, *rest in self.damaged.iter_rows():
            named = dict(zip(self.header.key, key, strict=True))
            yield Damaged(damage, named, *[*rest, self._live_row(item)])

    def iter_check_findings(self) -> Iterator[CheckFinding]:
        """The findings of the checks one by one."""
        for item, check, level, *rest in self.flags.iter_rows():
            key = None if item is None else self.keys.row(item, named=True)
            yield CheckFinding(check, level, key, *[*rest, self._live_row(item)])

    def _live_row(self, item: int | None) -> int | None:
        """The number of an item's row in live, where that is needed to tell it from others with its key."""
        return self.items["live"][item] if self.header.shared and item is not None else None

    def choose(self, numbers: pl.Series) -> ChangeSet:
        """The items of these numbers (from 0), in the order given, under the same header, with their findings."""
        place = pl.DataFrame({"item": numbers.cast(pl.Int64)}).with_row_index("place")
        cells = self.cells.join(place, on="item", how="inner").with_columns(item=pl.col("place").cast(pl.Int64))
        return replace(
            self,
            keys=self.keys.gather(numbers),
            items=self.items.gather(numbers),
            cells=cells.select(self.cells.columns).sort("item", "field"),
            damaged=_renumbered(self.damaged, place),
            flags=_renumbered(self.flags, place),
            computed=_renumbered(self.computed, place).filter(pl.col("item").is_not_null()),
        )


def _renumbered(findings: pl.DataFrame, place: pl.DataFrame) -> pl.DataFrame:
    """Findings of chosen items under their new numbers; those of other items have none."""
    numbers = place.select("item", number=pl.col("place").cast(pl.Int64))
    renumbered = findings.join(numbers, on="item", how="left", maintain_order="left")
    return renumbered.with_columns(item="number").drop("number")


def counted(texts: pl.Series) -> Counter[str]:
    """How often each text is there; null is none."""
    return Counter(dict(texts.drop_nulls().alias("text").value_counts().iter_rows()))


def code_changes(cells: pl.DataFrame, key: list[str]) -> pl.DataFrame:
    """Those of the cells by which the code of an item changes that live has."""
    return cells.filter(pl.col("field").cast(pl.String).is_in(key) & pl.col("before").is_not_null())


def held(items: pl.DataFrame, cells: pl.DataFrame) -> pl.Series:
    """Per cell, whether it is held, by itself or with its whole item."""
    by_itself = cells["held"].is_not_null()
    if items["held"].null_count() == items.height:
        return by_itself
    return by_itself | items["held"].is_not_null().gather(cells["item"])
