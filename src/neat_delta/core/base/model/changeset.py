"""The change set: what `compare` finds, as three tables that belong together, and the header that describes them."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field, replace
from functools import partial
from typing import get_args

import msgspec
import polars as pl

from neat_delta.core.base.model.choices import Verdict
from neat_delta.core.base.model.header import CheckFinding, Damaged, Header
from neat_delta.core.base.model.schemas import (
    COMPUTED_SCHEMA,
    DAMAGED_SCHEMA,
    FLAGS_SCHEMA,
    ITEMS_SCHEMA,
    MEANWHILE_SCHEMA,
    UNRESOLVED_SCHEMA,
    conform,
    empty,
)
from neat_delta.core.base.support.series import filtered, gathered, not_null, scattered, true_places

__all__ = ["ChangeSet", "Held", "HeldCount", "Item", "Row", "after_keys", "code_changes", "counted", "held"]


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
        place = true_places(at)
        if place.len() != 1:
            raise KeyError(f"{', '.join(texts)}: {place.len() or 'no'} such items are in the change set.")
        return next(self.choose(place.cast(pl.UInt32)).iter_items())

    def __repr__(self) -> str:
        counts = self.header.counts
        verdicts = [(word, getattr(counts, word)) for word in get_args(Verdict)]
        counts_text = ", ".join(f"{many} {word}" for word, many in verdicts if many) or "none"
        sent = self.sent().height
        return (
            f"<{type(self).__name__} {self.header.live.path} → {self.header.sheet.path}: {counts_text}; "
            f"{sent} cells to send, {self.cells.height - sent} held>"
        )

    def _repr_html_(self) -> str:
        from html import escape

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
        of = {name: gathered(self.items[name], table["item"]) for name in ("verdict", "held")}
        columns = [of["verdict"], table["field"], table["before"], table["after"]]
        columns.append(table["held"].zip_with(not_null(table["held"]), of["held"]))
        return self.with_keys(table["item"], columns)

    @property
    def held(self) -> ChangeSet:
        """Only what is held: whole items, and cells by themselves, each with its reason."""
        stays = held(self.items, self.cells)
        items = not_null(self.items["held"])
        items = scattered(items, self.cells["item"].filter(stays), True)
        return replace(self, cells=self.cells.filter(stays)).choose(true_places(items))

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
        unlisted = filtered(self.damaged, ~not_null(self.damaged["item"]))["key"]  # all of their cells were put back
        if not unlisted.len():
            return keyed
        place = true_places((table["source"] == "damage") & table["item"].is_null())
        texts = [unlisted.list.get(n) for n in range(self.keys.width)]
        return keyed.with_columns(
            scattered(keyed[name], place, those) for name, those in zip(self.keys.columns, texts, strict=True)
        )

    def with_keys(self, item: pl.Series, columns: Sequence[pl.Series]) -> pl.DataFrame:
        """These columns with the keys of their items, by their numbers, before them (`after_keys`)."""
        return after_keys(gathered(self.keys, item), columns)

    def sent_without_cells(self) -> pl.Series:
        """The numbers of the items that are sent as a whole and not by their cells: that go away, and new ones that
        have nothing but their key.
        """
        verdict, free = self.items["verdict"], ~not_null(self.items["held"])
        bare = (verdict == "new") & free
        if bare.any():
            bare = bare & scattered(bare, self.sent()["item"], False)
        return true_places(((verdict == "gone") & free) | bare).cast(pl.Int64)

    def sent(self) -> pl.DataFrame:
        """The cells that are to be written: neither they nor their items are held."""
        return self.cells.filter(~held(self.items, self.cells))

    def reasons(self) -> list[HeldCount]:
        """How much is held for each reason: items as a whole with their cells, and cells by themselves. A cell is
        counted once; that of an item that is held with the item.
        """
        items = counted(self.items["held"])
        with_item = gathered(self.items["held"], self.cells["item"])
        cells = counted(with_item.zip_with(not_null(with_item), self.cells["held"]))
        alone = self.cells.filter(with_item.is_null() & pl.col("held").is_not_null())[["held", "field"]]
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
        item_numbers = pl.Series(range(self.items.height + 1), dtype=pl.Int64)
        starts = self.cells["item"].search_sorted(item_numbers, side="left").to_list()
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

    def choose(self, item_numbers: pl.Series) -> ChangeSet:
        """The items of these numbers (from 0), in the order given, under the same header, with their findings."""
        place = pl.DataFrame({"item": item_numbers.cast(pl.Int64)}).with_row_index("place")
        cells = self.cells.join(place, on="item", how="inner").with_columns(item=pl.col("place").cast(pl.Int64))
        return replace(
            self,
            keys=gathered(self.keys, item_numbers),
            items=gathered(self.items, item_numbers),
            cells=cells.select(self.cells.columns).sort("item", "field"),
            damaged=_renumbered(self.damaged, place),
            flags=_renumbered(self.flags, place),
            computed=_renumbered(self.computed, place).filter(pl.col("item").is_not_null()),
        )


def _renumbered(findings: pl.DataFrame, place: pl.DataFrame) -> pl.DataFrame:
    """Findings of chosen items under their new numbers; those of other items have none."""
    item_numbers = place.select("item", number=pl.col("place").cast(pl.Int64))
    renumbered = findings.join(item_numbers, on="item", how="left", maintain_order="left")
    return renumbered.with_columns(item="number").drop("number")


def counted(texts: pl.Series) -> Counter[str]:
    """How often each text is there; null is none."""
    return Counter(dict(texts.drop_nulls().alias("text").value_counts().iter_rows()))


def after_keys(keys: pl.DataFrame, columns: Sequence[pl.Series]) -> pl.DataFrame:
    """Columns with keys before them; one that is called as a field of the key gets a `_` after its name.

    >>> after_keys(pl.DataFrame({"now": ["QA-1"]}), [pl.Series("now", ["9.90"])]).columns
    ['now', 'now_']
    """
    own = [column.alias(column.name + "_" * (column.name in keys.columns)) for column in columns]
    return pl.DataFrame([*keys, *own])


def code_changes(cells: pl.DataFrame, key: list[str]) -> pl.DataFrame:
    """Those of the cells by which the code of an item changes that live has."""
    return cells.filter(pl.col("field").cast(pl.String).is_in(key) & pl.col("before").is_not_null())


def held(items: pl.DataFrame, cells: pl.DataFrame) -> pl.Series:
    """Per cell, whether it is held, by itself or with its whole item."""
    by_itself = not_null(cells["held"])
    if items["held"].null_count() == items.height:
        return by_itself
    return by_itself | gathered(not_null(items["held"]), cells["item"])
