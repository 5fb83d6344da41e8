"""What an update is made of: its tables, its plan, a step of it, and one importer's ways with one change set."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from functools import partial
from typing import TYPE_CHECKING, Literal

import polars as pl

from neat_delta.core.base.model.after import field_after
from neat_delta.core.base.model.catalogue import MARK, Catalogue
from neat_delta.core.base.model.importer import NEW_CODE, PATCHES, SPARSE, Importer
from neat_delta.core.base.model.update import ITEM
from neat_delta.core.base.support.series import constant, filtered, gathered, not_null

if TYPE_CHECKING:
    from neat_delta.core.base.model.changeset import ChangeSet
    from neat_delta.core.sheets.rekey.moves import Move

__all__ = ["Fits", "PlanContext", "Step"]

Fits = Callable[[pl.Series], pl.Series]


@dataclass(frozen=True, slots=True)
class Step:
    """A round in one direction.

    `cells` are those of known items (`item`, `field`, `before`, `after`); `added` the items that are made, in full;
    `removed` those that go away, by their keys then. `moves` are the code changes, step by step. `back` is the way
    back; the items that are `absent` are not there when it begins, whether they come back or not.
    """

    cells: pl.DataFrame
    added: pl.DataFrame
    removed: pl.DataFrame
    moves: tuple[list[Move], ...] = ()
    back: bool = False
    absent: pl.Series = field(default_factory=partial(pl.Series, dtype=pl.Int64))


@dataclass(frozen=True, slots=True)
class PlanContext:
    """One importer's ways with one change set: what is asked again and again while an update is planned.

    `keys` are the items' keys when their cells are changed: before codes change, there and back. `new_items` are those
    in full, and `places` those of all in live (null: it has not got it).
    """

    changes: ChangeSet
    live: Catalogue
    importer: Importer
    whole_catalogue: bool
    fits: Fits | None
    most: int
    file_cost: int
    questioned: frozenset[str]
    keys: pl.DataFrame
    new_items: pl.DataFrame
    places: pl.Series

    @property
    def key(self) -> list[str]:
        """The key fields."""
        return self.changes.keys.columns

    @property
    def everywhere(self) -> list[str]:
        """The fields that every row has something of, besides its key."""
        fixed = self.importer.headings if self.filled else []
        fields = set(self.live.fields) - set(self.key)
        return [name for name in dict.fromkeys((*self.importer.carries, *fixed)) if name in fields]

    @property
    def never(self) -> set[str]:
        """The fields that are never carried along: what the store changes by itself (by its heading, where no store
        file says so), what is locked, what no export shows, what is told as a step, and where a cell is held, as
        somebody has a question about it.
        """
        settings = self.changes.header.settings
        moving = {name for name, field in settings.items() if field.moving or field.locked}
        if self.changes.header.learned:
            from neat_delta.core.base.infer.relations import counts_stock  # which nothing else of planning needs

            moving |= {name for name in self.live.fields if counts_stock(name)}
        moving |= {*self.changes.header.unseen}
        cells = self.changes.cells
        moving |= {*cells["field"].filter(not_null(cells["held"])).unique().cast(pl.String)}
        moving |= self.questioned
        return moving | {*self.importer.adjusted} | self.marked

    @property
    def marked(self) -> set[str]:
        """The lists whose values are added and taken away by marks."""
        settings = self.changes.header.settings if self.importer.lists == "marked" else {}
        return {name for name, field in settings.items() if field.kind == "list"}

    @property
    def patches(self) -> bool:
        """Whether the files are patches."""
        return self.importer.form in PATCHES

    @property
    def dense(self) -> bool:
        """Whether a row has a cell for every column of its file."""
        return self.importer.form not in SPARSE

    @property
    def clears(self) -> bool:
        """Whether a blank cell empties its field."""
        return self.importer.blanks == "clear" and not self.patches

    @property
    def filled(self) -> bool:
        """Whether a row must have a value in every column of its file."""
        return self.dense and self.clears

    @property
    def code_change(self) -> Literal["never", "row", "replace"]:
        """How a code changes. A JSON Patch moves an item, a merge patch can only make it anew; and what deletes the
        items that a file does not have takes an item under another code for another item.
        """
        if self.patches:
            return "row" if self.importer.form == "json patch" else "replace"
        how = self.importer.code_change.how
        return "replace" if self.whole_catalogue and how != "never" else how

    @property
    def code_heading(self) -> str:
        """The heading of the new code."""
        return NEW_CODE if self.patches else self.importer.code_change.heading

    @property
    def code_field(self) -> str:
        """The field of the key in which codes change."""
        return self.importer.code_change.field or self.key[0]

    def fit(self, texts: pl.Series) -> pl.Series:
        """Which texts the files can hold."""
        return constant(True, texts.len()) if self.fits is None else self.fits(texts)

    def now(self, name: str, items: pl.Series, cells: pl.DataFrame | None = None) -> pl.Series:
        """A field of these items, once the cells are changed."""
        texts = self.live.at(name, gathered(self.places, items))
        if texts.has_nulls():
            new_items = items.to_frame(ITEM).join(self.new_items, on=ITEM, how="left", maintain_order="left")
            texts = texts.zip_with(texts.is_not_null(), new_items[name]).fill_null("")
        return texts if cells is None else field_after(texts, filtered(cells, cells["field"] == name), items)

    # Items that share a key.

    def first(self) -> pl.Series:
        """Per item the first item that has its key."""
        first = pl.col(MARK).first().over(self.key)
        return self.changes.keys.with_row_index(MARK).select(first.cast(pl.Int64)).to_series()

    def once(self, cells: pl.DataFrame) -> pl.DataFrame:
        """The cells of items that share a key only once."""
        if not self.changes.header.shared:
            return cells
        first = cells.with_columns(item=gathered(self.first(), cells["item"]))
        return first.unique(["item", "field"], keep="first", maintain_order=True).sort("item", maintain_order=True)

    def uniform(self, cells: pl.DataFrame, *, back: bool) -> pl.Series:
        """Per cell whether all of live's items with its key change in that field, and had the same text before."""
        counts = self.live.cells.group_by(self.key).agg(pl.len().alias(MARK))
        twins = self.changes.keys.join(counts, on=self.key, how="left", maintain_order="left")[MARK]
        of = cells.with_columns(
            first=gathered(self.first(), cells["item"]), twins=gathered(twins, cells["item"]).cast(pl.UInt32)
        )
        group, old = ["first", "field"], pl.col("after" if back else "before")
        alike = (pl.len().over(group) == pl.col("twins")) & (old.n_unique().over(group) == 1)
        return of.select(alike).to_series()
