"""The plan: from a change set to the update tables and the undo tables of one importer."""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import replace
from typing import TYPE_CHECKING

import polars as pl

from neat_delta.core.base.model.after import CELL
from neat_delta.core.base.model.conflicts import unknown_fields
from neat_delta.core.base.model.reasons import ALONE, FOLLOWS
from neat_delta.core.base.model.schemas import NOT_SENT, conform, empty
from neat_delta.core.base.model.store import Store, accompanying
from neat_delta.core.base.model.update import ITEM, Plan
from neat_delta.core.base.support.errors import StoreError
from neat_delta.core.base.support.series import filtered, not_null
from neat_delta.core.sheets.rules.resting import left_alone, resting_on
from neat_delta.core.updates.plan.base import Fits, PlanContext, Step
from neat_delta.core.updates.plan.feasible import feasible_step, requested_step, step_back
from neat_delta.core.updates.plan.grouping import FILE_COST
from neat_delta.core.updates.plan.recoding import with_code_changes
from neat_delta.core.updates.plan.tables import everything, tables

if TYPE_CHECKING:
    from neat_delta.core.base.model.catalogue import Catalogue
    from neat_delta.core.base.model.changeset import ChangeSet
    from neat_delta.core.base.model.importer import Importer

__all__ = ["fields_needed", "plan"]


def _must_be_no_fields(live: Catalogue, importer: Importer) -> None:
    """StoreError where a column of the files, which is to be no field, is called as a field of live."""
    own = {"with_adjusted": [*importer.with_adjusted], "columns": [*importer.columns]}
    own["removal"] = [str(importer.removal.heading)] if importer.removal.how == "flag" else []
    own["code_change"] = [importer.code_change.heading] if importer.code_change.how == "row" else []
    for setting, names in own.items():
        for name in names:
            if name in live.fields:
                raise StoreError(
                    f'The store file says under [importer.{setting}] that "{name}" is a column of the files and no '
                    "field, and live has a field of that name, which an import would set. Call it otherwise."
                )


def _must_be_fields(changes: ChangeSet, live: Catalogue, importer: Importer) -> None:
    """StoreError where the importer's settings name a field that there is none of."""
    header = changes.header
    known = {*live.fields, *header.fields, *header.untouched, *header.unseen, *header.settings}
    for conflict in unknown_fields(Store(importer=importer), known):
        raise StoreError(f"The store file, under [{'.'.join(conflict.where)}]: {conflict.what}")


def fields_needed(changes: ChangeSet, importer: Importer, *, whole: bool = False) -> set[str] | None:
    """The fields of live, besides the key, that planning and proving these changes can look at; None for all of them.

    An importer leaves a field alone that no file has, so the others stay as they are whatever is imported. An item
    that goes away, or is made anew, must come back with all its fields.
    """
    gone = changes.items.filter(pl.col("held").is_null() & (pl.col("verdict") == "gone")).height
    if gone or whole or importer.missing == "deleted" or changes.header.counts.recoded:
        return None
    fields = set(changes.cells["field"].unique().cast(pl.String))
    fields |= {*importer.carries, *importer.needs, *importer.defaults, *importer.headings}
    if importer.columns:
        from neat_delta.core.base.query.expressions import fields_read  # and the parser of expressions

        read = {
            name.casefold() for column in importer.columns.values() for name in fields_read(column.expression or "1")
        }
        fields |= {name for name in (*changes.header.fields, *changes.header.untouched) if name.casefold() in read}
    return fields - {*importer.columns}


def plan(
    changes: ChangeSet,
    live: Catalogue,
    importer: Importer,
    *,
    most_files: int = 8,
    file_cost: int = FILE_COST,
    whole: bool = False,
    fits: Fits | None = None,
    questioned: Collection[str] = (),
) -> Plan:
    """The update and undo tables of a change set for an importer, in live's order of fields.

    Where blanks clear, at most `most_files` tables change items, unless fields that are never carried (locked, moving,
    told as a difference, with a cell that is held) need more; `file_cost` is how many cells may be carried along to
    save one. `whole` writes every item, for an importer that deletes what a file does not have;
    without it that is a StoreError. `fits` says which texts the files can hold (None: all); fields that are
    `questioned` are not carried, as those of which a cell is held. Where several items share a
    key, one row is for all of them.

    >>> from neat_delta import Importer, as_catalogue, compare
    >>> live = as_catalogue({"sku": ["QA-1", "QA-2"], "price": ["9.90", "20.00"]}, "live")
    >>> sheet = as_catalogue({"sku": ["QA-2", "QA-1"], "price": ["20.00", "10.50"]}, "sheet")
    >>> planned = plan(compare(live, sheet), live, Importer("skip"))
    >>> planned.update[0].cells.rows(named=True)
    [{'sku': 'QA-1', 'price': '10.50'}]
    """
    if importer.missing == "deleted" and not whole:
        raise StoreError(
            "The importer deletes items that a file does not have, as the store file says, and a file of the changes "
            "alone would delete the rest of the catalogue. Turn that off in the importer and in the store file "
            '(missing = "kept"), or write the whole catalogue with ‹whole_catalogue›.'
        )
    _must_be_no_fields(live, importer)
    _must_be_fields(changes, live, importer)
    new_items = pl.DataFrame(schema={ITEM: pl.Int64, **live.cells.schema})
    places = live.place(changes.items["live"])
    context = PlanContext(
        changes,
        live,
        importer,
        whole,
        fits,
        most_files,
        file_cost,
        frozenset(questioned),
        changes.keys,
        new_items,
        places,
    )
    step, codes, held_codes, keys_after = with_code_changes(context, requested_step(context))
    forth, held = feasible_step(context, step)
    while (resting := _resting(changes, forth, held)).height:
        step = replace(step, cells=step.cells.join(resting, on=["item", "field"], how="anti", maintain_order="left"))
        forth, more = feasible_step(context, step)
        held = pl.concat([held, resting, more]).unique(["item", "field"], keep="first", maintain_order=True)
    context = replace(context, new_items=forth.added)
    write = everything if whole else tables
    update = tuple(write(context, forth))
    context = replace(context, keys=keys_after)
    back, one_way = feasible_step(context, step_back(context, forth))
    new = filtered(changes.cells, ~not_null(changes.cells["before"])).with_columns(pl.col("field").cast(pl.String))
    new = new.filter(pl.col("item").is_in(forth.added[ITEM].implode()) & pl.col("held").is_null())
    in_place = forth.cells.select(CELL)
    added, removed = forth.added, forth.removed[ITEM]
    if forth.moves:
        in_place = pl.concat([in_place, codes])
    return Plan(
        update=update,
        undo=tuple(write(context, back)),
        sent=pl.concat([forth.cells.select(CELL), new.select(CELL), codes]).sort("item", maintain_order=True),
        set=in_place,
        added=added,
        removed=removed,
        held=pl.concat([held_codes, held]).sort("item", maintain_order=True),
        one_way=one_way,
    )


def _resting(changes: ChangeSet, step: Step, held: pl.DataFrame) -> pl.DataFrame:
    """What of a step was computed from a cell that the importer cannot take, or goes only with others, of which none
    is left (`NOT_SENT`).
    """
    if not held.height:
        return empty(NOT_SENT)
    alone = left_alone(step.cells, accompanying(changes.header.settings))
    if alone.height:
        return conform(alone.with_columns(reason=pl.lit(ALONE)), NOT_SENT)
    if not changes.computed.height:
        return empty(NOT_SENT)
    away = filtered(held, not_null(held["field"])).select("item", "field", why=pl.lit("is not sent"))
    met = resting_on(changes, away).join(step.cells, on=["item", "field"], how="semi", maintain_order="left")
    return conform(met.rechunk().with_columns(reason=pl.format(FOLLOWS + "{} {}", "read", "why")), NOT_SENT)
