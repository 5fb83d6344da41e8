"""The proof: what the update files really do to live, against what they were meant to do."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import TYPE_CHECKING

import polars as pl

from neat_delta.core.base.model.after import catalogue_after, with_cells, without
from neat_delta.core.base.model.catalogue import MARK, Catalogue
from neat_delta.core.base.model.update import ITEM, Action, Plan
from neat_delta.core.base.support.errors import ProofError
from neat_delta.core.base.support.series import filtered, gathered, not_null, true_places
from neat_delta.core.updates.prove.replay import replay

if TYPE_CHECKING:
    from neat_delta.core.base.model.changeset import ChangeSet
    from neat_delta.core.base.model.importer import Importer
    from neat_delta.core.base.model.store import Field

__all__ = ["must_be_target", "prove", "target"]


def target(live: Catalogue, changes: ChangeSet, plan: Plan) -> pl.DataFrame:
    """What live is to become: its cells as they are set, what is removed gone, what is added at the end.

    >>> from neat_delta import Importer, as_catalogue, compare, plan
    >>> live = as_catalogue({"sku": ["QA-1", "QA-2"], "price": ["9.90", "20.00"]}, "live")
    >>> sheet = as_catalogue({"sku": ["QA-2", "QA-1"], "price": ["20.00", "10.50"]}, "sheet")
    >>> changes = compare(live, sheet)
    >>> target(live, changes, plan(changes, live, Importer("skip")))["price"].to_list()
    ['10.50', '20.00']
    """
    return catalogue_after(live, live.place(changes.items["live"]), plan.set, plan.removed, plan.added)


def target_of_undo(live: Catalogue, changes: ChangeSet, plan: Plan) -> pl.DataFrame:
    """What is left once everything is taken back: live, what was removed and came back at its end, but for what the
    plan lists as one way.
    """
    stays = filtered(plan.one_way, not_null(plan.one_way["field"]))[["item", "field"]]
    wanted = with_cells(live.cells, live.place(changes.items["live"]), plan.set.join(stays, on=["item", "field"]))
    of_items = filtered(plan.one_way, ~not_null(plan.one_way["field"]))["item"]
    removed_places = gathered(live.place(changes.items["live"]), plan.removed)
    lost = plan.removed.filter(plan.removed.is_in(of_items.implode()))
    back = gathered(wanted, removed_places.filter(~plan.removed.is_in(lost.implode())))
    kept = plan.added.filter(pl.col(ITEM).is_in(of_items.implode())).select(live.fields)
    remaining = without(wanted, removed_places)
    return pl.concat([remaining, kept, back]) if kept.height + back.height else remaining


def prove(
    live: Catalogue,
    changes: ChangeSet,
    plan: Plan,
    update: Iterable[tuple[Action, pl.DataFrame]],
    undo: Iterable[tuple[Action, pl.DataFrame]],
    importer: Importer,
) -> None:
    """Replay the tables as they were written, each with what it is imported for; ProofError unless they do exactly what
    the plan says.

    The update tables, in order, turn live into the target with no other cell touched; the undo tables turn that into
    live again, but for what the plan lists as one way. Lists that the importer takes by marks are held against each
    other by their values.

    >>> from neat_delta import Importer, as_catalogue, compare, plan
    >>> live = as_catalogue({"sku": ["QA-1", "QA-2"], "price": ["9.90", "20.00"]}, "live")
    >>> sheet = as_catalogue({"sku": ["QA-2", "QA-1"], "price": ["20.00", "10.50"]}, "sheet")
    >>> changes, importer = compare(live, sheet), Importer("skip")
    >>> planned = plan(changes, live, importer)
    >>> tables = [[(one.action, one.cells) for one in some] for some in (planned.update, planned.undo)]
    >>> prove(live, changes, planned, *tables, importer)  # says nothing when all is well
    """
    header = changes.header
    marked = _marked_lists(changes, importer)

    def played(cells: pl.DataFrame, tables: Iterable[tuple[Action, pl.DataFrame]], *, forth: bool) -> pl.DataFrame:
        for action, table in tables:
            cells = replay(
                cells,
                table,
                header.key,
                importer,
                shared=header.shared,
                action=action,
                separators={name: field.separator or "," for name, field in marked.items()},
                decimal_mark=header.writing.decimal_mark or ".",
            )
            if importer.columns and forth:
                from neat_delta.core.updates.prove.columns import columns_hold  # and the parser of expressions

                columns_hold(cells, [(action, table)], header, importer)
        return cells

    after = played(live.cells, update, forth=True)
    must_be_target(after, live, changes, plan, importer, "replaying the update files")
    again = played(after, undo, forth=False)
    order = _order(live, changes, plan, importer)
    wanted = target_of_undo(live, changes, plan)
    _same(again, wanted, header.key, "replaying the undo files", "live", marked, order)


def must_be_target(
    after: pl.DataFrame, live: Catalogue, changes: ChangeSet, plan: Plan, importer: Importer, by: str
) -> None:
    """ProofError unless a catalogue is the one that live is to become; `by` says how it came about."""
    wanted, order = target(live, changes, plan), _order(live, changes, plan, importer)
    _same(after, wanted, changes.header.key, by, "the target", _marked_lists(changes, importer), order)


def _marked_lists(changes: ChangeSet, importer: Importer) -> dict[str, Field]:
    """The lists that are told by what is added and taken away, so that their values may stand in another order."""
    lists = {name: field for name, field in changes.header.settings.items() if field.kind == "list"}
    return lists if importer.lists == "marked" else {}


def _order(live: Catalogue, changes: ChangeSet, plan: Plan, importer: Importer) -> list[str]:
    """By what two catalogues are sorted before they are held against each other, where their order says nothing."""
    anew = gathered(live.place(changes.items["live"]), plan.added[ITEM]).count()
    return changes.header.key if importer.missing == "deleted" or anew else []


def _same(
    replayed: pl.DataFrame,
    wanted: pl.DataFrame,
    key: list[str],
    by: str,
    what: str,
    lists: Mapping[str, Field],
    order: list[str],
) -> None:
    if replayed.columns != wanted.columns or replayed.height != wanted.height:
        raise ProofError(f"{by} gives {replayed.height:,} items where {what} has {wanted.height:,}.")
    if order:  # where the whole catalogue is written, or items are made anew, their order says nothing
        replayed, wanted = replayed.sort(order), wanted.sort(order)
    both = pl.concat([replayed, wanted.rename(lambda name: MARK + name)], how="horizontal")
    other = both.select((pl.col(name) != pl.col(MARK + name)).any() for name in wanted.columns).row(0)
    for field in (name for name, differs in zip(wanted.columns, other, strict=True) if differs):
        differs = true_places(replayed[field] != wanted[field])
        if field in lists:
            list_field = lists[field]
            differs = differs.filter(
                pl.Series(
                    [
                        _values(replayed[field][at], list_field) != _values(wanted[field][at], list_field)
                        for at in differs
                    ],
                    dtype=pl.Boolean,
                )
            )
        if differs.len():
            item = ", ".join(wanted.select(key).row(differs[0]))
            raise ProofError(
                f"{by} does not give {what}: {item}, {field}: "
                f"{replayed[field][differs[0]]!r} where {wanted[field][differs[0]]!r} is wanted."
            )


def _values(text: str, field: Field) -> list[str]:
    """A list's values, in their order where that means something."""
    values = [value.strip() for value in text.split((field.separator or ",").strip() or " ") if value.strip()]
    return values if field.ordered else sorted(values)
