"""A working sheet of what the store refused: the values as they were meant, the store's message beside each."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING, Literal

import polars as pl

from neat_delta.app.outcome import confirm_changes, retry
from neat_delta.app.sheet import PLAIN, SheetFile, sheet_file
from neat_delta.core.base.model.catalogue import Catalogue
from neat_delta.core.base.model.changeset import ChangeSet
from neat_delta.core.base.model.importer import NEW_CODE
from neat_delta.core.base.model.layout import Layout
from neat_delta.core.base.model.results import message_heading
from neat_delta.core.base.model.store import Field, Relations, Store
from neat_delta.core.base.support.errors import CatalogueError
from neat_delta.core.base.support.series import true_places
from neat_delta.core.outcomes.confirm import with_taken_back
from neat_delta.core.outcomes.retry import bases_of
from neat_delta.core.sheets.worksheet.cut import Column, cut_worksheet

if TYPE_CHECKING:
    from neat_delta.app.confirm import Outcome
    from neat_delta.core.outcomes.confirm import Confirmed

__all__ = ["Mended", "lacking_of", "mend", "mend_outcome"]

NO_BASES: Mapping[tuple[str, ...], Mapping[str, str]] = {}


@dataclass(frozen=True, slots=True)
class Mended:
    """A sheet to mend: its file, how many items are in it, and how many removals are not, as nothing of them can be
    edited.
    """

    file: SheetFile
    items: int
    removals: int


def mend(
    again: ChangeSet,
    now: Catalogue,
    messages: Mapping[tuple[str, ...], str],
    form: Literal["xlsx", "delimited"],
    store: Store | None = None,
    layout: Layout = PLAIN,
    bases: Mapping[tuple[str, ...], Mapping[str, str]] = NO_BASES,
    before: Catalogue | None = None,
) -> Mended:
    """The sheet of what is to be sent again (`retry`: a change set, and the catalogue as it is `now`), with the values
    that were meant; `messages` are the store's, by key. It remembers `now` as its base; of cells that somebody changed
    since what stood `before` (`bases`, by key and field), and that it was cut from there, so that `compare` asks whose
    value it is to be.

    >>> from neat_delta import as_catalogue, compare, confirm_changes, retry
    >>> live = as_catalogue({"sku": ["QA-1", "QA-2"], "price": ["9.90", "20.00"]}, "live")
    >>> changes = compare(live, as_catalogue({"sku": ["QA-1"], "price": ["10.50"]}, "sheet"))
    >>> again, now = retry(changes, live, confirm_changes(changes, live, live))
    >>> mend(again, now, {("QA-1",): "too high"}, "delimited").file.sheet.cells.rows()
    [('QA-1', 'too high', '10.50')]
    """
    header, verdicts = again.header, again.items["verdict"]
    key = list(header.key)
    kept = true_places(verdicts != "gone")
    if not kept.len():
        raise CatalogueError(f"{now.path}: only removals are left, which no sheet can say. Send them again (`retry`).")
    meant: dict[int, dict[str, str]] = {}
    for item, name, text in again.cells.select("item", pl.col("field").cast(pl.String), "after").iter_rows():
        meant.setdefault(item, {})[name] = text
    rows, base_rows = _rows(again, now, kept, meant, bases)
    codes = {}
    if (verdicts == "recoded").any():
        new = [[text for name, text in meant.get(item, {}).items() if name in key] for item in kept]
        codes = {NEW_CODE: [texts[0] if texts else "" for texts in new]}
    headings = header.headings | {name: field.heading for name, field in header.settings.items() if field.heading}
    named = {name: headings.get(name, name) for name in now.fields}
    fields = _fields(again, header.store.relations, now.fields)
    shop = header.store_by_now(store)
    wanted = pl.DataFrame(rows, schema=dict.fromkeys(now.fields, pl.String), orient="row").rename(named)
    worksheet = cut_worksheet(replace(now, table=wanted, row_numbers=None), store=shop, key=key, fields=fields)
    remembered = None
    if base_rows:
        was = pl.DataFrame(base_rows, schema=dict.fromkeys(now.fields, pl.String), orient="row").rename(named)
        remembered = cut_worksheet(replace(now, table=was, row_numbers=None), store=shop, key=key, fields=fields).cells
    notes = [messages.get(again.keys.row(item), "") for item in kept]
    heading = message_heading(worksheet.cells.columns)
    more = {heading: notes} | codes
    extra = [Column(name, name, Field(), name == heading, False) for name in more]
    at = sum(column.key for column in worksheet.columns)
    columns = [*worksheet.columns[:at], *extra, *worksheet.columns[at:]]
    cells = worksheet.cells.with_columns(pl.Series(name, texts, dtype=pl.String) for name, texts in more.items())
    worksheet = replace(worksheet, columns=columns, cells=cells.select(column.heading for column in columns))
    removals = verdicts.len() - kept.len()
    return Mended(
        sheet_file(worksheet, before if bases and before else now, form, remembered, layout=layout),
        kept.len(),
        removals,
    )


def lacking_of(looked: Outcome, sent: ChangeSet, before: Catalogue, store: Store | None) -> Confirmed:
    """What did not land; where nobody looked, only items of which the store says that they were not done."""
    if looked.seen is not None:
        return looked.seen
    assert looked.results is not None
    lacking, by_item = confirm_changes(sent, before, looked.now, store), looked.results.by_item
    undone = [item for item, result in by_item.items() if result.status in {"refused", "skipped"}]
    lacking = replace(lacking, lacking=lacking.lacking.filter(pl.col("item").is_in(undone)))
    return with_taken_back(lacking, looked.undone)


def mend_outcome(
    looked: Outcome,
    sent: ChangeSet,
    before: Catalogue,
    form: Literal["xlsx", "delimited"],
    store: Store | None = None,
    layout: Layout = PLAIN,
    *,
    altered: bool = False,
) -> Mended | int:
    """The sheet of what did not land of what was `sent`, with the store's message beside each item; or how many
    removals are left, where nothing else is, of which no sheet can say anything.
    """
    lacking = lacking_of(looked, sent, before, store)
    again, export = retry(sent, looked.now, lacking, store, altered=altered, clashes=True)
    removals = int((again.items["verdict"] == "gone").sum())
    if again.items.height <= removals:
        return removals
    keys = lacking.located.keys  # under the code that an item has by now
    messages = (
        {keys.row(testimony.item): testimony.message for testimony in looked.both.testimonies} if looked.both else {}
    )
    return mend(again, export, messages, form, store, layout, bases_of(sent, lacking), before)


def _rows(
    again: ChangeSet,
    now: Catalogue,
    kept: pl.Series,
    meant: Mapping[int, Mapping[str, str]],
    bases: Mapping[tuple[str, ...], Mapping[str, str]],
) -> tuple[list[dict[str, str]], list[dict[str, str]]]:
    """The items as they are meant, and those of them that are there as they are now; under the names of the fields."""
    places = now.place(again.items["live"])
    rows, base = [], []
    for item in kept:
        place = places[item]
        row = dict.fromkeys(now.fields, "") if place is None else now.cells.row(place, named=True)
        if place is not None:
            base.append(row | dict(bases.get(again.keys.row(item), {})))
        cells = {name: text for name, text in meant.get(item, {}).items() if name not in again.keys.columns}
        rows.append(row | again.keys.row(item, named=True) | cells)
    return rows, base


def _fields(again: ChangeSet, relations: Relations, fields: list[str]) -> list[str]:
    """The fields to be seen: those that were sent, and those that stand in a relation to one of them."""
    sent = {*again.cells["field"].cast(pl.String)}
    related = {getattr(relations, role) for role in relations.__struct_fields__} & {*fields}
    return [name for name in fields if name in sent or (name in related and sent & related)]
