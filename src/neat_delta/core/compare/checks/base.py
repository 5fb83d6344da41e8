"""What every check is, and what it is asked about: some items as they will be, and the catalogue around them."""

from __future__ import annotations

from collections.abc import Callable, Collection, Mapping, Sequence
from dataclasses import dataclass, field, replace
from decimal import Decimal
from functools import partial

import polars as pl

from neat_delta.core.base.kinds import KINDS, blank
from neat_delta.core.base.kinds.number import NUMBER_KINDS, amounts, marks
from neat_delta.core.base.model.after import field_after
from neat_delta.core.base.model.catalogue import Catalogue
from neat_delta.core.base.model.choices import LooksAt
from neat_delta.core.base.model.layout import Notation
from neat_delta.core.base.model.schemas import RULE_FINDINGS, empty
from neat_delta.core.base.model.store import CheckName, Field, LevelName, Store
from neat_delta.core.base.support import sizes
from neat_delta.core.base.support.distinct import map_distinct
from neat_delta.core.base.support.series import constant, numbered, scattered
from neat_delta.core.compare.checks.values import CHOSEN, Values, values_of

__all__ = [
    "Check",
    "CheckContext",
    "exactly",
    "findings_of",
    "looked_up",
    "needs_kind",
    "needs_roles",
    "needs_setting",
    "nothing",
    "sentence",
]


@dataclass(frozen=True, slots=True)
class CheckContext:
    """The items that are checked, from 0, in the order of a change set; or all of a catalogue.

    `live` is the catalogue, `places` the items' rows in it (null for a new one). `cells` are the cells to look at by
    field: `item`, `before` (null where there was none), `after`; in a catalogue that is checked by itself, all its
    cells, without a `before`. `keys` are the items' keys. `round` is false when there is no sheet. `encoding` is that
    of the files to write, None where any character will do; `images` are the names of the image files there are, None
    where nobody said; `new_values` the fields whose new values are let through; `gone` counts items the sheet lacks;
    `guessed` says that nothing told the sheet's encoding.
    `seen` are findings of some checks that were made while the cells were compared, by the check's name; `held` are
    the cells (`item`, `field`) that are held before any check has looked. `filled`, `related` and
    `values` are what `looked_up` adds.
    """

    live: Catalogue
    places: pl.Series
    keys: pl.DataFrame
    cells: Mapping[str, pl.DataFrame]
    settings: Mapping[str, Field]
    store: Store
    writing: Notation
    round: bool = True
    encoding: str | None = None
    images: Collection[str] | None = None
    new_values: Collection[str] = ()
    gone: int = 0
    guessed: bool = False
    seen: Mapping[str, pl.DataFrame] = field(default_factory=dict)
    held: pl.DataFrame = field(default_factory=lambda: pl.DataFrame(schema={"item": pl.Int64, "field": pl.String}))
    filled: Mapping[str, pl.DataFrame] = field(default_factory=dict)
    related: Mapping[str, pl.Series] = field(default_factory=dict)
    values: Mapping[str, Values] = field(default_factory=dict)

    def of(self, *kinds: str) -> dict[str, tuple[Field, pl.DataFrame]]:
        """The fields of these kinds that have cells to look at, none of them blank; those of numbers with the numbers
        before and after as exact decimals, `old` and `new`.
        """
        asked = {name: self.settings.get(name, Field()) for name in self.cells}
        return {
            name: (field, self.filled[name])
            for name, field in asked.items()
            if field.kind in kinds and self.filled[name].height
        }

    def now(self, name: str) -> pl.Series:
        """A field of all the items as it will be; blank where an item has none."""
        if name in self.related:
            return self.related[name]
        is_key = name in self.keys.columns
        texts = self.keys[name] if is_key else self.live.at(name, self.places)
        texts = texts.fill_null("") if texts.null_count() else texts
        return field_after(texts, self.cells[name]) if self.round and name in self.cells else texts

    def number(self, name: str, texts: pl.Series) -> pl.Series:
        """The texts of a field as exact decimals; null where they are blank or no numbers."""
        return amounts(texts, self.settings.get(name, Field()), self.writing)

    def read(self, name: str, texts: pl.Series) -> pl.Series:
        """The values of a field's texts by its kind; null where blank or unreadable."""
        settings = self.settings.get(name, Field())
        blank = texts.str.strip_chars() == ""
        return KINDS[settings.kind].read(texts, settings, self.writing).set(blank, None)

    def column_after(self, name: str) -> pl.Series:
        """A field of the whole catalogue as it will be: live's column with what changes, and what is new."""
        if not self.round:
            return self.live.column(name)
        old = self.places.is_not_null()
        now, places = self.now(name), self.places
        return pl.concat([scattered(self.live.column(name), places.filter(old), now.filter(old)), now.filter(~old)])

    def touched(self, *names: str) -> dict[str, pl.Series]:
        """Which items have a cell to look at, for each of these fields; only fields that are there."""
        return {name: self.cells[name]["item"] for name in names if name in self.cells}


def looked_up(context: CheckContext) -> CheckContext:
    """The context with what several checks look at: the cells that are not blank (`filled`), the fields that stand in
    relations, as they will be (`related`), and the single values of those that have some of a set (`values`).

    Cells of fields whose numbers are read in the same way, or that hold none, are looked up together, where they are
    few: each field by itself costs as much as hundreds of cells.
    """
    groups: dict[object, list[str]] = {}
    for name, cells in context.cells.items():
        settings = context.settings.get(name, Field())
        sort = (settings.kind, marks(settings, context.writing)) if settings.kind in NUMBER_KINDS else None
        groups.setdefault(sort if cells.height <= sizes.CELLS_CHECKED_TOGETHER else name, []).append(name)
    filled: dict[str, pl.DataFrame] = {}
    for names in groups.values():
        filled |= _filled(context, names)
    roles = context.store.relations
    named = {getattr(roles, role) for role in roles.__struct_fields__}
    related = [name for name in context.live.fields if name in named] if context.touched(*named) else []
    now = {name: context.now(name) for name in related}
    context = replace(context, filled=filled, related=now)
    if not context.round:
        return context
    values = {
        name: values_of(cells, context.live.column(name), settings)
        for name, (settings, cells) in context.of(*CHOSEN, "measure").items()
        if not settings.refers
    }
    return replace(context, values=values)


def _filled(context: CheckContext, names: Sequence[str]) -> dict[str, pl.DataFrame]:
    """The cells of these fields that are not blank, by field; of numbers with `old` and `new` as exact decimals."""
    cells = pl.concat([context.cells[name] for name in names])
    of = numbered([context.cells[name].height for name in names])
    filled = cells.hstack([of.alias("of")]).filter(~blank(pl.col("after")))
    if context.settings.get(names[0], Field()).kind in NUMBER_KINDS:
        filled = filled.hstack(map_distinct(filled[["before", "after"]], partial(_amounts, context, names[0])))
    starts = filled["of"].search_sorted(pl.Series(range(len(names) + 1), dtype=pl.UInt32), side="left").to_list()
    filled = filled[[name for name in filled.columns if name != "of"]]
    return {name: filled.slice(start, end - start) for name, start, end in zip(names, starts, starts[1:], strict=False)}


def _amounts(context: CheckContext, name: str, cells: pl.DataFrame) -> pl.DataFrame:
    return pl.DataFrame({"old": context.number(name, cells["before"]), "new": context.number(name, cells["after"])})


@dataclass(frozen=True, slots=True)
class Check:
    """A check: its name, its level where the store file says nothing, what it looks at, what it does, what to do about
    a finding.

    `find` gives what it finds, as in `model.schemas.RULE_FINDINGS`. `alone` says that it needs no sheet, so that any
    catalogue can be checked by it. `idle` says what would switch it on, where it has nothing to go by; else null.
    """

    name: CheckName
    level: LevelName
    looks_at: LooksAt
    does: str
    do: str
    find: Callable[[CheckContext], pl.DataFrame]
    alone: bool = True
    idle: Callable[[CheckContext], str | None] = lambda _: None


def _fields(context: CheckContext) -> list[Field]:
    """The settings of the catalogue's own fields."""
    columns = set(context.live.fields)
    return [field for name, field in context.settings.items() if name in columns]


def needs_setting(*names: str, example: str) -> Callable[[CheckContext], str | None]:
    """Idle while no field of the catalogue has one of these settings."""

    def idle(context: CheckContext) -> str | None:
        any_set = any(getattr(field, name) not in (None, False) for field in _fields(context) for name in names)
        return None if any_set else example

    return idle


def needs_kind(*kinds: str) -> Callable[[CheckContext], str | None]:
    """Idle while the catalogue has no field of one of these kinds."""

    def idle(context: CheckContext) -> str | None:
        any_set = any(field.kind in kinds for field in _fields(context))
        return None if any_set else f"a field with kind = {' or '.join(repr(kind) for kind in kinds)}".replace("'", '"')

    return idle


def needs_roles(*choices: tuple[str, ...]) -> Callable[[CheckContext], str | None]:
    """Idle while the relations name no fields of the catalogue for all the roles of one of the choices."""

    def idle(context: CheckContext) -> str | None:
        roles_set = {role for role in context.store.relations.__struct_fields__
                 if getattr(context.store.relations, role) in context.live.fields}  # fmt: skip
        return (
            None
            if any(roles_set.issuperset(roles) for roles in choices)
            else f"{' and '.join(choices[0])} under [relations]"
        )

    return idle


def findings_of(name: str | None, items: pl.Series, what: pl.Series | str) -> pl.DataFrame:
    """Findings of one field: the items, and what is wrong with each, or with all."""
    if not items.len():
        return nothing()
    field, texts = (
        constant(column, items.len(), pl.String) if column is None or isinstance(column, str) else column
        for column in (name, what)
    )
    return pl.DataFrame({"item": items.cast(pl.Int64), "field": field, "what": texts}, schema=dict(RULE_FINDINGS))


def sentence(table: pl.DataFrame, form: str, *parts: str | pl.Expr) -> pl.Series:
    """A sentence about each row, with these parts in the places of the braces. The table is put in one piece, as
    Polars' `format` fails where the first of several is empty.
    """
    return table.rechunk().select(pl.format(form, *parts)).to_series()


def exactly(number: Decimal) -> pl.Expr:
    """A number of the store file in an expression. A literal of its own type would have Polars import NumPy, which
    takes longer than the checks of a small catalogue.
    """
    return pl.lit(f"{number:f}").cast(pl.Decimal(38, max(0, -int(number.as_tuple().exponent))))


def nothing() -> pl.DataFrame:
    """No finding."""
    return empty(RULE_FINDINGS)
