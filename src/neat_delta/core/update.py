"""The update tables: the smallest tables that an importer turns a change set into, and those that take it back."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from decimal import Decimal, InvalidOperation
from functools import partial
from typing import Any, Literal

import polars as pl

from neat_delta.core.catalogue import MARK, Catalogue
from neat_delta.core.changes import ChangeSet
from neat_delta.core.errors import StoreError
from neat_delta.core.grouping import grouped
from neat_delta.core.importer import PATCHES, SPARSE, Importer
from neat_delta.core.kinds import blank

__all__ = [
    "CANNOT_ADD",
    "CANNOT_ADJUST",
    "CANNOT_CHANGE",
    "CANNOT_EMPTY",
    "CANNOT_MARK",
    "CANNOT_REMOVE",
    "CANNOT_TELL_APART",
    "ITEM",
    "Action",
    "Plan",
    "Table",
    "plan",
]

CANNOT_EMPTY = "the importer skips blanks, so it cannot empty a field"
CANNOT_REMOVE = "the importer cannot remove an item"
CANNOT_TELL_APART = "items with the same key had different values before"
CANNOT_ADD = "the importer takes updates only, so it cannot add an item"
CANNOT_CHANGE = "the importer takes new items only, so it cannot change one"
CANNOT_ADJUST = "the importer takes a difference here, and these are not two plain numbers"
CANNOT_MARK = "the importer adds and takes away values here, and that does not give this list"
CANNOT_SAY = "the text is the importer's own mark for something else"
CANNOT_NAME = "the importer's files have no heading for it"
CANNOT_WRITE = "the importer's files cannot hold this text"
CANNOT_FILL = "the importer wants a value in every row, and it is blank: "
CANNOT_NEED = "the importer wants more of a new item: "

ITEM = MARK + "item"
"""The column of `Plan.added` that has the items' numbers; no field is called so."""

Action = Literal["change", "add", "remove"]
"""What a table is imported for."""

Fits = Callable[[pl.Series], pl.Series]


@dataclass(frozen=True, slots=True)
class Table:
    """One update table: its key and fields in live's column order, null where nothing is said.

    Its cells: `changed` carry a change, `keys` name the item, `required` the importer wants in every row, and
    `carried` are live's own values, as a blank would empty them.
    """

    action: Action
    cells: pl.DataFrame
    changed: int
    required: int = 0
    carried: int = 0

    @property
    def keys(self) -> int:
        """How many cells name items."""
        said = int(self.cells.select(pl.sum_horizontal(pl.all().count())).item()) if self.cells.width else 0
        return said - self.changed - self.required - self.carried


@dataclass(frozen=True, slots=True)
class Plan:
    """What goes out, in import order, and what does not.

    `sent`      the change set's cells that the update tables carry;
    `added`     the new items that are made: their number (`ITEM`), and every field of live with its text;
    `removed`   the items that go away;
    `held`      what this importer cannot take: number of the item, field (null for the whole item), reason;
    `one_way`   what the undo tables cannot take back: the same.
    """

    update: tuple[Table, ...]
    undo: tuple[Table, ...]
    sent: pl.DataFrame
    added: pl.DataFrame
    removed: pl.Series
    held: pl.DataFrame
    one_way: pl.DataFrame


@dataclass(frozen=True, slots=True)
class _Step:
    """A round in one direction: `cells` of known items (`item`, `field`, `before`, `after`); items that are `added`, in
    full; items that are `removed`.
    """

    cells: pl.DataFrame
    added: pl.DataFrame
    removed: pl.Series


LISTED: dict[str, pl.DataType | type[pl.DataType]] = {"item": pl.Int64, "field": pl.String, "reason": pl.String}


def plan(
    changes: ChangeSet,
    live: Catalogue,
    importer: Importer,
    *,
    most_files: int = 8,
    whole: bool = False,
    fits: Fits | None = None,
) -> Plan:
    """The update and undo tables of a change set for an importer, in live's order of fields.

    Where blanks clear, at most `most_files` tables change items, unless fields that are never carried (locked, moving,
    told as a difference) need more. `whole` writes every item, for an importer that deletes what a file does not have;
    without it that is a StoreError. `fits` says which texts the files can hold (None: all). Where several items share a
    key, one row is for all of them.
    """
    if importer.missing == "deleted" and not whole:
        raise StoreError(
            "The importer deletes items that a file does not have, as the store file says, and a file of the changes "
            "alone would delete the rest of the catalogue. Turn that off in the importer and in the store file "
            '(missing = "kept"), or write the whole catalogue with --whole-catalogue.'
        )
    ways = _Ways(changes, live, importer, whole, fits)
    forth, held = ways.possible(ways.asked())
    ways.made = forth.added
    back, one_way = ways.possible(ways.reversed(forth), back=True)
    tables = ways.everything if whole else partial(ways.tables, most=most_files)
    new = changes.cells.filter(pl.col("before").is_null()).with_columns(pl.col("field").cast(pl.String))
    new = new.filter(pl.col("item").is_in(forth.added[ITEM].implode()) & pl.col("held").is_null())
    columns = ["item", "field", "before", "after"]
    return Plan(
        tuple(tables(forth)),
        tuple(tables(back)),
        pl.concat([forth.cells.select(columns), new.select(columns)]).sort("item", maintain_order=True),
        forth.added,
        forth.removed,
        held,
        one_way,
    )


class _Ways:
    """How what changes is said to one importer."""

    def __init__(self, changes: ChangeSet, live: Catalogue, importer: Importer, whole: bool, fits: Fits | None) -> None:
        self.changes, self.live, self.importer, self.whole, self.fits = changes, live, importer, whole, fits
        self.key = changes.keys.columns
        self.places = live.place(changes.items["live"])
        self.made = pl.DataFrame(schema={ITEM: pl.Int64, **live.cells.schema})
        settings = changes.header.settings
        self.never = {name for name, field in settings.items() if field.moving or field.locked} | {*importer.adjusted}
        marked = importer.lists == "marked"
        self.marked = {name for name, field in settings.items() if marked and field.kind == "list"}
        self.patches = importer.form in PATCHES
        self.dense = importer.form not in SPARSE
        self.clears = importer.blanks == "clear" and not self.patches

    # What is asked for, and what of it can be had.

    def asked(self) -> _Step:
        """All that is not held."""
        items = self.changes.items.with_row_index("item").filter(pl.col("held").is_null())
        sent = self.changes.sent().with_columns(pl.col("field").cast(pl.String))
        cells = sent.filter(pl.col("before").is_not_null()).select("item", "field", "before", "after")
        gone = items.filter(pl.col("verdict") == "gone")["item"].cast(pl.Int64)
        removal = self.importer.removal
        if removal.how == "value" and gone.len():
            name, value = str(removal.heading), str(removal.value)
            now = self.live.cells[name].gather(self.places.gather(gone))
            also = pl.DataFrame({"item": gone, "before": now}).with_columns(field=pl.lit(name), after=pl.lit(value))
            cells = pl.concat([cells, also.select(cells.columns).filter(pl.col("before") != value)])
            gone = gone.clear()
        new = items.filter(pl.col("verdict") == "new")["item"].cast(pl.Int64)
        columns = {name: pl.repeat("", new.len(), eager=True) for name in self.live.fields}
        columns |= {name: self.changes.keys[name].gather(new) for name in self.key}
        added = pl.DataFrame({ITEM: new, **columns})
        place = pl.DataFrame({"item": new}).with_row_index("place")
        for (name,), some in sent.filter(pl.col("before").is_null()).group_by("field", maintain_order=True):
            at = some.join(place, on="item", how="left", maintain_order="left")["place"]
            added = added.with_columns(added[str(name)].scatter(at, some["after"]))
        for name, text in self.importer.defaults.items():
            if name in self.live.fields:
                added = added.with_columns(pl.when(blank(pl.col(name))).then(pl.lit(text)).otherwise(name).alias(name))
        return _Step(cells, self._parents_first(added), gone)

    def _parents_first(self, added: pl.DataFrame) -> pl.DataFrame:
        """New items that others refer to before those."""
        names = [name for name, field in self.changes.header.settings.items() if field.refers and name in added.columns]
        if len(self.key) != 1 or not names or added.height < 2:
            return added
        keys = added[self.key[0]].to_list()
        places = {key: place for place, key in enumerate(keys)}
        wanted = [[places[text] for text in row if text in places] for row in added.select(names).rows()]
        order: dict[int, None] = {}
        for start in range(len(keys)):
            path = [start]
            while path:
                ahead = [one for one in wanted[path[-1]] if one not in order and one not in path]
                if ahead:
                    path.append(ahead[0])
                else:
                    order.setdefault(path.pop())
        return added.gather(pl.Series(list(order)))

    def reversed(self, step: _Step) -> _Step:
        """The way back."""
        cells = step.cells.select("item", "field", before="after", after="before")
        full = self.live.cells.gather(self.places.gather(step.removed))
        added = full.insert_column(0, step.removed.alias(ITEM))
        return _Step(cells, added, step.added[ITEM])

    def possible(self, step: _Step, *, back: bool = False) -> tuple[_Step, pl.DataFrame]:
        """What of it the importer can take, and what it cannot: item, field (null for all of it), reason."""
        why = self._why_not(step.cells, back)
        lists = [_listed(step.cells.with_columns(reason=why))]
        cells = step.cells.filter(why.is_null())
        lacking = self._lacking(cells)
        lists.append(_listed(cells.join(lacking, on="item", how="inner", maintain_order="left")))
        cells = cells.join(lacking, on="item", how="anti", maintain_order="left")
        refused, stays = self._refused(step.added), self._staying(step.removed)
        lists += [_listed(some.with_columns(field=pl.lit(None, pl.String))) for some in (refused, stays)]
        added = step.added.filter(~pl.col(ITEM).is_in(refused["item"].implode()))
        removed = step.removed.filter(~step.removed.is_in(stays["item"].implode()))
        return _Step(cells, added, removed), pl.concat(lists).sort("item", maintain_order=True)

    def _why_not(self, cells: pl.DataFrame, back: bool) -> pl.Series:
        """Per cell why the importer cannot take it; null where it can."""
        importer, field = self.importer, pl.col("field")
        emptied = blank(pl.col("after"))
        said: Any = pl.when(importer.takes == "additions").then(pl.lit(CANNOT_CHANGE))
        if not self.clears and not self.patches:  # a mark leaves nothing, where white space may have been
            said = said.when(emptied if importer.empties is None else emptied & (pl.col("after") != "")).then(
                pl.lit(CANNOT_EMPTY)
            )
        if importer.empties is not None:
            said = said.when(pl.col("after") == importer.empties).then(pl.lit(CANNOT_SAY))
        if importer.headings:
            said = said.when(~field.is_in(importer.headings)).then(pl.lit(CANNOT_NAME))
        if self.whole and self.clears and self.dense:
            said = said.when(field.is_in(list(self.never))).then(pl.lit(CANNOT_FILL + "a field that is never carried"))
        why = cells.with_columns(why=said.otherwise(None))["why"]
        for names, way, reason in (
            (set(importer.adjusted), self._difference, CANNOT_ADJUST),
            (self.marked, self._marks, CANNOT_MARK),
        ):
            hit = cells["field"].is_in(list(names)).arg_true()
            if hit.len():
                texts = [way(*row) for row in cells.gather(hit).select("field", "before", "after").iter_rows()]
                none = pl.Series([text is None for text in texts])
                why = why.scatter(hit.filter(none), reason)
        why = why.set(~self._fit(cells["after"]) & why.is_null(), CANNOT_WRITE)
        if self.changes.header.shared:
            apart = cells["field"].is_in([*importer.adjusted, *self.marked]) | back
            why = why.set(apart & ~self._uniform(cells, back) & why.is_null(), CANNOT_TELL_APART)
        return why

    def _lacking(self, cells: pl.DataFrame) -> pl.DataFrame:
        """The items of these cells that are blank in a field that every row must have."""
        items = cells["item"].unique(maintain_order=True)
        lacks = pl.repeat(None, items.len(), dtype=pl.String, eager=True)
        for name in self.importer.carries:
            now = self._now(name, items, cells)
            lacks = lacks.set((now.str.strip_chars() == "") & lacks.is_null(), CANNOT_FILL + name)
            lacks = lacks.set(~self._fit(now) & lacks.is_null(), f"{CANNOT_WRITE}: {name}")
        for name in self.key:
            lacks = lacks.set(
                ~self._fit(self.changes.keys[name].gather(items)) & lacks.is_null(), f"{CANNOT_WRITE}: {name}"
            )
        return pl.DataFrame({"item": items, "reason": lacks}).filter(pl.col("reason").is_not_null())

    def _fit(self, texts: pl.Series) -> pl.Series:
        """Which texts the files can hold."""
        return pl.repeat(True, texts.len(), eager=True) if self.fits is None else self.fits(texts)

    def _refused(self, added: pl.DataFrame) -> pl.DataFrame:
        """The items that cannot be added, and why."""
        why = pl.repeat(None, added.height, dtype=pl.String, eager=True)
        if self.importer.takes == "updates":
            why = pl.repeat(CANNOT_ADD, added.height, eager=True)
        for name in dict.fromkeys((*self.importer.needs, *self.importer.carries)):
            if name in added.columns:
                why = why.set((added[name].str.strip_chars() == "") & why.is_null(), CANNOT_NEED + name)
        for name in added.columns[1:]:
            texts = added[name]
            mark = self.importer.empties if name not in self.key else None
            wrong = texts == mark if mark else texts.is_null()
            wrong |= ~self._fit(texts)
            if not self.clears and not self.patches:  # white space alone is skipped like any blank
                wrong |= (texts.str.strip_chars() == "") & (texts != "")
            if self.importer.headings and name not in self.importer.headings:
                wrong |= texts.str.strip_chars() != ""
            why = why.set(wrong & why.is_null(), f"{CANNOT_WRITE}: {name}")
        return pl.DataFrame({"item": added[ITEM], "reason": why}).filter(pl.col("reason").is_not_null())

    def _staying(self, removed: pl.Series) -> pl.DataFrame:
        """The items that cannot be removed, and why."""
        how = self.importer.removal.how
        can = how == "row" or (how == "flag" and self.importer.takes != "additions") or self.patches or self.whole
        why = pl.repeat(None if can else CANNOT_REMOVE, removed.len(), dtype=pl.String, eager=True)
        for name in self.importer.carries if how == "flag" else ():
            why = why.set((self._now(name, removed).str.strip_chars() == "") & why.is_null(), CANNOT_FILL + name)
        for name in self.key:
            fits = self._fit(self.changes.keys[name].gather(removed))
            why = why.set(~fits & why.is_null(), f"{CANNOT_WRITE}: {name}")
        return pl.DataFrame({"item": removed, "reason": why}).filter(pl.col("reason").is_not_null())

    # How a cell is said.

    def _now(self, name: str, items: pl.Series, cells: pl.DataFrame | None = None) -> pl.Series:
        """A field of these items, once the cells are changed."""
        texts = self.live.cells[name].gather(self.places.gather(items))
        if texts.has_nulls():
            made = items.to_frame(ITEM).join(self.made, on=ITEM, how="left", maintain_order="left")
            texts = texts.zip_with(texts.is_not_null(), made[name]).fill_null("")
        mine = None if cells is None else cells.filter(pl.col("field") == name)
        if mine is None or not mine.height:
            return texts
        at = pl.DataFrame({"item": items}).with_row_index("at")
        met = mine.join(at, on="item", how="inner", maintain_order="left")
        return texts.scatter(met["at"], met["after"])

    def _said(self, cells: pl.DataFrame) -> pl.DataFrame:
        """The cells, with what the file says in `said`."""
        mark = pl.lit(None if self.clears or self.patches else self.importer.empties, pl.String)
        emptied = pl.when(blank(pl.col("after"))).then(mark)
        cells = cells.with_columns(said=pl.coalesce(emptied, "after"))
        said = cells["said"]
        for names, way in ((set(self.importer.adjusted), self._difference), (self.marked, self._marks)):
            hit = cells["field"].is_in(list(names)).arg_true()
            if hit.len():
                texts = [way(*row) for row in cells.gather(hit).select("field", "before", "after").iter_rows()]
                said = said.scatter(hit, pl.Series(texts, dtype=pl.String))
        return cells.with_columns(said=said)

    def _difference(self, field: str, before: str, after: str) -> str | None:
        """`+5`, where before and five give exactly the text after; None where they do not."""
        mark = self.changes.header.writing.decimal_mark or "."
        try:
            old, new = (Decimal(text.strip().replace(mark, ".") or "0") for text in (before, after))
            step = new - old
            exact = f"{old + step:f}".replace(".", mark) == after and step.is_finite()
        except InvalidOperation:
            return None
        return f"{step:+f}".replace(".", mark) if exact else None

    def _marks(self, field: str, before: str, after: str) -> str | None:
        """`+new,-old`, where that gives the list after; None where it does not."""
        settings = self.changes.header.settings[field]
        between = (settings.separator or ",").strip() or " "
        old, new = ([one.strip() for one in text.split(between) if one.strip()] for text in (before, after))
        gone, come = [one for one in old if one not in new], [one for one in new if one not in old]
        becomes = [one for one in old if one not in gone] + come
        same = becomes == new if settings.ordered else sorted(becomes) == sorted(new)
        if not same or not (gone or come) or len(set(new)) < len(new) or len(set(old)) < len(old):
            return None
        return between.join(
            [*(self.importer.adds + one for one in come), *(self.importer.takes_away + one for one in gone)]
        )

    # Items that share a key.

    def _first(self) -> pl.Series:
        """Per item the first item that has its key."""
        first = pl.col(MARK).first().over(self.key)
        return self.changes.keys.with_row_index(MARK).select(first.cast(pl.Int64)).to_series()

    def _once(self, cells: pl.DataFrame) -> pl.DataFrame:
        """The cells of items that share a key only once."""
        if not self.changes.header.shared:
            return cells
        first = cells.with_columns(item=self._first().gather(cells["item"]))
        return first.unique(["item", "field"], keep="first", maintain_order=True).sort("item", maintain_order=True)

    def _uniform(self, cells: pl.DataFrame, back: bool) -> pl.Series:
        """Per cell whether all of live's items with its key change in that field, and had the same text before."""
        counts = self.live.cells.group_by(self.key).agg(pl.len().alias(MARK))
        twins = self.changes.keys.join(counts, on=self.key, how="left", maintain_order="left")[MARK]
        of = cells.with_columns(
            first=self._first().gather(cells["item"]), twins=twins.gather(cells["item"]).cast(pl.UInt32)
        )
        group, old = ["first", "field"], pl.col("after" if back else "before")
        alike = (pl.len().over(group) == pl.col("twins")) & (old.n_unique().over(group) == 1)
        return of.select(alike).to_series()

    # The tables.

    def tables(self, step: _Step, most: int) -> list[Table]:
        """The tables of a step, in import order: new items, changes, removals."""
        found = []
        if step.added.height:
            found.append(self._adding(step.added))
        cells = self._said(self._once(step.cells))
        if cells.height:
            found += [self._changing(some, fields) for some, fields in self._grouped(cells, most)]
        if step.removed.len():
            found.append(self._removing(step.removed))
        return found

    def _grouped(self, cells: pl.DataFrame, most: int) -> list[tuple[pl.DataFrame, list[str]]]:
        """The cells of each table, and the fields that it has."""
        here = set(cells["field"].unique())
        names = [name for name in self.live.fields if name in here]
        if not (self.dense and self.clears) or self.importer.headings:
            return [(cells, names)]
        kind = pl.Enum(names)
        places = cells.select("item", place=pl.col("field").cast(kind).to_physical().cast(pl.Int64)).sort(
            "item", "place"
        )
        sets = places.group_by("item", maintain_order=True).agg("place").group_by("place").agg(pl.col("item"))
        sets = sets.sort("place")
        always = {place for place, name in enumerate(names) if name in self.importer.carries}
        apart = set(range(len(names))) if self.changes.header.shared else set()
        never = {place for place, name in enumerate(names) if name in self.never} | apart
        told = [frozenset(one) for one in sets["place"].to_list()]
        free = [one - always for one in told]
        if len(set(free)) < len(free):  # they differ only in what every row has anyway
            free = told
        for place, name in enumerate(names) if len(free) > most else ():
            if not self._fit(self._now(name, cells["item"].unique(), cells)).all():
                never.add(place)  # what the files cannot hold is not carried
        groups = grouped(free, sets["item"].list.len().to_list(), most, frozenset(never - always))
        found = []
        for group in groups:
            items = sets["item"].gather(list(group.members)).explode()
            fields = sorted(frozenset().union(*(told[one] for one in group.members)))
            some = cells if len(groups) == 1 else cells.filter(pl.col("item").is_in(items.implode()))
            found.append((some, [names[place] for place in fields]))
        return found

    def _changing(self, cells: pl.DataFrame, fields: Sequence[str]) -> Table:
        """A table of known items: their keys, the fields, and what every row must have."""
        importer = self.importer
        rows = cells["item"].unique().sort()
        at = cells.join(
            pl.DataFrame({"item": rows}).with_row_index("row"), on="item", how="left", maintain_order="left"
        )
        by_field = {str(name): some for (name,), some in at.group_by("field")}
        filled = self.dense and self.clears
        wanted = {*fields, *importer.carries, *(set(importer.headings) - set(self.key))} & set(self.live.fields)
        columns: dict[str, pl.Series] = {name: self.changes.keys[name].gather(rows) for name in self.key}
        required = carried = 0
        for name in self.live.fields:
            if name not in wanted or name in self.key:
                continue
            must = name in importer.carries or (filled and name in importer.headings)
            if must or filled:
                column = self._now(name, rows, cells)
                extra = rows.len() - (by_field[name].height if name in by_field else 0)
                required, carried = required + must * extra, carried + (not must) * extra
            else:
                column = pl.repeat(None, rows.len(), dtype=pl.String, eager=True)
            if name in by_field:
                column = column.scatter(by_field[name]["row"], by_field[name]["said"])
            columns[name] = column
        beside = [name for name in importer.adjusted if name in by_field]
        if beside and importer.with_adjusted:
            told = pl.concat([by_field[name]["row"] for name in beside]).unique()
            for name, text in importer.with_adjusted.items():
                none = pl.repeat(None, rows.len(), dtype=pl.String, eager=True)
                columns[name] = none.scatter(told, text)
                required += told.len()
        return Table("change", self._ordered(columns), cells.height, required, carried)

    def _adding(self, added: pl.DataFrame) -> Table:
        """A table of new items: every field that one of them has something in."""
        filled = added.select((pl.col(self.live.fields) != "").sum()).row(0, named=True)
        names = [name for name in self.live.fields if filled[name] or name in self.key]
        cells = added.select(pl.col(name).replace("", None) for name in names)
        changed = sum(filled[name] for name in names if name not in self.key)
        return Table("add", self._ordered({name: cells[name] for name in names}), changed)

    def _removing(self, items: pl.Series) -> Table:
        """A table of items that go away, in the way the importer is told."""
        columns = {name: self.changes.keys[name].gather(items) for name in self.key}
        removal, required = self.importer.removal, 0
        if removal.how == "flag" and not self.patches:
            for name in self.importer.carries:
                columns[name] = self._now(name, items)
                required += items.len()
            columns[str(removal.heading)] = pl.repeat(str(removal.value), items.len(), eager=True)
            columns = dict(self._ordered(columns).to_dict())
        cells = pl.DataFrame(columns)
        if self.changes.header.shared:
            cells = cells.unique(self.key, keep="first", maintain_order=True)
        return Table("remove", cells, cells.height if removal.how == "flag" and not self.patches else 0, required)

    def _ordered(self, columns: dict[str, pl.Series]) -> pl.DataFrame:
        """Columns in live's order, then those that are no fields; or in the order of the importer's own headings."""
        names = [name for name in self.live.fields if name in columns]
        names += [name for name in columns if name not in names]
        if self.importer.headings:
            height = next(iter(columns.values())).len()
            for name in self.importer.headings:
                if name not in columns:
                    columns[name] = pl.repeat(None, height, dtype=pl.String, eager=True)
            names = [*self.importer.headings, *(name for name in names if name not in self.importer.headings)]
        return pl.DataFrame({name: columns[name] for name in names})

    def everything(self, step: _Step) -> list[Table]:
        """One table of the whole catalogue as a step leaves it, in the fields that change or that new items have."""
        gone = self.places.gather(step.removed).drop_nulls()
        there = pl.int_range(self.live.cells.height, eager=True)
        stays = there.filter(
            ~there.is_in(gone.implode()) & ~there.is_in(self.places.gather(step.added[ITEM]).drop_nulls().implode())
        )
        said = self._said(step.cells)
        new = step.added.select((pl.col(self.live.fields).str.strip_chars() != "").any()).row(0, named=True)
        here = set(said["field"].unique()) | set(self.importer.carries) | {name for name, has in new.items() if has}
        names = [name for name in self.live.fields if name in here or name in self.key]
        filled = self.dense and self.clears
        place = pl.DataFrame({"item": pl.int_range(self.places.len(), eager=True), "place": self.places})
        row = pl.DataFrame({"place": stays}).with_row_index("row")
        rows = place.join(row, on="place", how="inner")
        columns, changed, required, carried = {}, 0, 0, 0
        for name in names:
            must = name in self.importer.carries
            if name in self.key or must or filled:
                column = self.live.cells[name].gather(stays)
            else:
                column = pl.repeat(None, stays.len(), dtype=pl.String, eager=True)
            mine = said.filter(pl.col("field") == name).join(rows, on="item", how="inner")
            column = column.scatter(mine["row"], mine["said"])
            changed += mine.height
            if name not in self.key and (must or filled):
                required += must * (stays.len() - mine.height)
                carried += (not must) * (stays.len() - mine.height)
            more = step.added[name]
            if name not in self.key:
                changed += int((more != "").sum())
            columns[name] = pl.concat([column, more if name in self.key else more.replace("", None)])
        return (
            [Table("change", self._ordered(columns), changed, required, carried)]
            if changed or step.removed.len()
            else []
        )


def _listed(cells: pl.DataFrame) -> pl.DataFrame:
    """The items and fields of these cells that have a reason."""
    return cells.select(pl.col(name).cast(kind) for name, kind in LISTED.items()).filter(pl.col("reason").is_not_null())
