"""Cutting a working sheet from live: which items, which fields, in which order, and what a person may change in it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING

import msgspec
import polars as pl

from neat_delta.core.base.infer.headings import NAME_HEADINGS, plain_heading
from neat_delta.core.base.infer.learn import learn, with_writing
from neat_delta.core.base.kinds import KINDS
from neat_delta.core.base.kinds.number import NUMBER_KINDS
from neat_delta.core.base.model.catalogue import Catalogue
from neat_delta.core.base.model.layout import Notation
from neat_delta.core.base.model.store import Field, Store
from neat_delta.core.base.support.errors import CatalogueError
from neat_delta.core.base.support.nearest import did_you_mean
from neat_delta.core.base.support.series import gathered, scattered, true_places
from neat_delta.core.sheets.match.keys import KeyIndex
from neat_delta.core.sheets.match.prepare import prepare

if TYPE_CHECKING:
    from neat_delta.core.base.query.expressions import Condition

__all__ = ["Column", "WorkingSheet", "as_written", "cut_worksheet"]


@dataclass(frozen=True, slots=True)
class Column:
    """A column of a working sheet: its field, its heading, what the field holds, and whether it is to be changed.

    `locked` says that nobody is to change it: the key, and the fields that the store file locks.
    """

    field: str
    heading: str
    settings: Field
    locked: bool
    key: bool


@dataclass(frozen=True, slots=True)
class WorkingSheet:
    """A working sheet: its cells under its headings, its columns, how the cells write values, and the codes that were
    asked for and are not in live.
    """

    cells: pl.DataFrame
    columns: list[Column]
    writing: Notation
    missing: list[str]


def cut_worksheet(
    live: Catalogue,
    *,
    store: Store | None = None,
    key: Sequence[str] = (),
    where: Condition | None = None,
    skus: Sequence[str] | None = None,
    fields: Sequence[str] = (),
    sort: str | None = None,
) -> WorkingSheet:
    """Cut the items for which `where` holds and that `skus` names (None: any), with `fields` in their order (default:
    live's), sorted as `sort` says (default: as in live). The key always comes first, and the name second.

    Without a store file the kinds are learned from all of live. Raises CatalogueError when a name is none or no item is
    left, and ConditionError for what `where` or `sort` cannot mean.

    >>> from neat_delta import as_catalogue
    >>> live = as_catalogue({"sku": ["QA-1", "QA-2"], "price": ["9.90", "20.00"]}, "live")
    >>> cut_worksheet(live, skus=["QA-2"]).cells.rows()
    [('QA-2', '20.00')]
    """
    shop = with_writing(store, live) if store else learn(live, key).store
    prepared = prepare(live, shop, key)
    headings = {name: prepared.headings.get(name, name) for name in prepared.catalogue.fields}
    live, keys = prepared.catalogue, prepared.key.fields
    name_field = shop.key.name
    name = name_field if name_field in live.fields else plain_heading(live.fields, NAME_HEADINGS)
    for field in fields:
        if field not in live.fields:
            hint = did_you_mean(field, live.fields, f"It has: {', '.join(live.fields[:12])}.")
            raise CatalogueError(f'{live.path}: it has no field "{field}".{hint}')
    first = [*keys, *([name] if name is not None and name not in keys else [])]
    chosen = [*first, *(field for field in dict.fromkeys(fields or live.fields) if field not in first)]
    cells, missing = live.cells, list[str]()
    if skus is not None:
        cells, missing = _listed(cells, prepared.index, skus)
    if where is not None or sort is not None:
        from neat_delta.core.base.query.expressions import Rows, evaluate, ordered  # and the parser of expressions

    if where is not None:
        cells = cells.filter(evaluate(where, Rows({"": cells}, shop.fields, shop.writing)))
    if not cells.height:
        what = "None of these codes is in it" if skus is not None and where is None else "No item fits"
        raise CatalogueError(f"{live.path}: {what}, so there is nothing to cut. Ask for more.")
    if sort is not None:
        cells = cells[ordered(sort, Rows({"": cells}, shop.fields, shop.writing))]
    columns = []
    for field in chosen:
        settings, is_key = shop.fields.get(field, Field()), field in keys
        columns.append(Column(field, headings[field], settings, settings.locked or is_key, is_key))
    named = {column.field: column.heading for column in columns}
    return WorkingSheet(cells.select(chosen).rename(named), columns, shop.writing, missing)


def as_written(sheet: WorkingSheet, writing: Notation) -> tuple[pl.DataFrame, dict[str, int]]:
    """The cells with numbers and dates as `writing` says, where it says anything; and of each heading how many stay as
    they are, since they cannot be written so: a time under a form that has none.
    """
    settings_given = {
        name: getattr(writing, name) for name in writing.__struct_fields__ if getattr(writing, name) is not None
    }
    kept: dict[str, int] = {}
    if not settings_given:
        return sheet.cells, kept
    wanted, columns = msgspec.structs.replace(sheet.writing, **settings_given), []
    for column in sheet.columns:
        texts = sheet.cells[column.heading]
        if column.settings.kind in {*NUMBER_KINDS, "date"}:
            kind, settings = KINDS[column.settings.kind], column.settings
            if writing.date_form:
                settings = msgspec.structs.replace(settings, date_form=None)
            if writing.decimal_mark is not None or writing.thousands_mark is not None:
                settings = msgspec.structs.replace(settings, decimal_mark=None, thousands_mark=None)
            filled = true_places(texts != "")
            values = kind.read(gathered(texts, filled), column.settings, sheet.writing)
            readable = values.is_not_null()
            old = gathered(texts, filled).filter(readable)
            written = kind.write(values.filter(readable), old, settings, wanted)
            if written.null_count():
                kept[column.heading] = written.null_count()
            texts = scattered(texts, filled.filter(readable), written.zip_with(written.is_not_null(), old))
        columns.append(texts)
    return pl.DataFrame(columns), kept


def _listed(cells: pl.DataFrame, index: KeyIndex, skus: Sequence[str]) -> tuple[pl.DataFrame, list[str]]:
    """The rows with one of these codes in their key, in live's order, and the codes that no row has."""
    return cells.filter(index.naming(skus)), index.missing(skus)
