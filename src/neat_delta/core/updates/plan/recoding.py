"""Code changes as one importer can take them: which go, in which steps, and what becomes of the items' other cells."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace
from typing import TYPE_CHECKING

import polars as pl

from neat_delta.core.base.model.after import retiring_cells
from neat_delta.core.base.model.changeset import code_changes
from neat_delta.core.base.model.schemas import NOT_SENT, empty
from neat_delta.core.base.model.store import Field, Key
from neat_delta.core.base.model.update import ITEM
from neat_delta.core.base.support.series import gathered, scattered
from neat_delta.core.sheets.match.keys import KeyIndex
from neat_delta.core.sheets.rekey.moves import FOLLOWS, Move, blocked_moves, codes_in, ordered
from neat_delta.core.updates.plan.feasible import (
    CANNOT_CHANGE,
    CANNOT_FILL,
    CANNOT_SAY,
    CANNOT_TELL_APART,
    CANNOT_WRITE,
    refused_additions,
    refused_removals,
    whole_rows,
    with_live_keys,
    with_reasons,
)

if TYPE_CHECKING:
    from neat_delta.core.updates.plan.base import PlanContext, Step

__all__ = ["carried_with_codes", "with_code_changes", "with_keys"]

CANNOT_RECODE = "the importer cannot change this code"


def with_code_changes(context: PlanContext, step: Step) -> tuple[Step, pl.DataFrame, pl.DataFrame, pl.DataFrame]:
    """The step with the codes that can change in `moves`, or as items that are made anew; the cells that these say;
    what cannot be: item, field, reason; and the items' keys afterwards.

    A row that the importer refuses must not make a later row find another item. So no item is made anew under a code
    that another one leaves in the same round: it would get that one's values, were it refused to go.
    """
    is_code = pl.col("field").is_in(context.key)
    cells, asked = step.cells.filter(~is_code), step.cells.filter(is_code)
    if not context.changes.header.counts.recoded:
        return step, asked, empty(NOT_SENT), context.changes.keys
    moves = _moves(context, asked)
    replaces = context.code_change == "replace"
    retires = replaces and context.importer.removal.how == "value" and not context.whole_catalogue
    why = _why_not(context, moves, asked, cells)
    going, steps = _steps(context, moves, why, set(step.added.select(context.key).rows()), stay=replaces)
    held = _held(context, moves, why, asked, cells)
    cells = cells.join(held, on=["item", "field"], how="anti", maintain_order="left")
    asked_codes = asked.join(held, on=["item", "field"], how="anti", maintain_order="left")
    if not replaces:
        return replace(step, cells=cells, moves=tuple(steps)), asked_codes, held, _keys_after(context, going)
    rows = _items_made_anew(context, going, cells)
    items, anew = rows[ITEM], cells["item"].is_in(rows[ITEM].implode())
    asked_codes, cells = pl.concat([asked_codes, cells.filter(anew)]), cells.filter(~anew)
    added, removed = pl.concat([step.added, rows]), step.removed
    if retires:
        cells = pl.concat([cells, retiring_cells(context.live, context.places, items, context.importer.removal)])
    else:
        removed = pl.concat([removed, with_live_keys(context, items)])
    return replace(step, cells=cells, added=added, removed=removed), asked_codes, held, context.changes.keys


def _moves(context: PlanContext, asked: pl.DataFrame) -> list[Move]:
    """The code changes that are asked for; of items that share a key, only the first one's."""
    keys = context.changes.keys.rows()
    first = context.first() if context.changes.header.shared else None
    moves: dict[int, Move] = {}
    for item, field, after in asked[["item", "field", "after"]].iter_rows():
        place = context.key.index(field)
        first_twin = item if first is None else first[item]
        now = moves.get(first_twin, Move(first_twin, keys[first_twin], keys[first_twin]))
        moves[first_twin] = replace(now, new=(*now.new[:place], after, *now.new[place + 1 :]))
    return list(moves.values())


def _items(moves: Sequence[Move]) -> pl.Series:
    return pl.Series(sorted({move.item for move in moves}), dtype=pl.Int64)


def _why_not(context: PlanContext, moves: Sequence[Move], asked: pl.DataFrame, cells: pl.DataFrame) -> dict[int, str]:
    """Why the importer cannot take a code change by itself."""
    why: dict[int, str] = {}
    place = context.key.index(context.code_field)
    for move in moves:
        others = move.old[:place] + move.old[place + 1 :] != move.new[:place] + move.new[place + 1 :]
        torn = context.changes.header.shared and context.code_change == "replace"  # it would make one item of several
        if context.code_change == "never" or others or torn:
            why[move.item] = CANNOT_RECODE
        elif context.importer.takes == "additions":
            why[move.item] = CANNOT_CHANGE
    texts = pl.Series([text for move in moves for text in (move.old[place], move.new[place])], dtype=pl.String)
    fits = context.fit(texts).to_list()
    why |= {move.item: CANNOT_WRITE for move, *fit in zip(moves, fits[::2], fits[1::2], strict=True) if not all(fit)}
    if context.changes.header.shared:
        uniform = context.uniform(asked, back=False)
        why |= dict.fromkeys(gathered(context.first(), asked["item"].filter(~uniform)), CANNOT_TELL_APART)
    items = _items(moves)
    if context.code_change == "replace":
        rows = _items_made_anew(context, moves, cells)
        no = [refused_additions(context, rows)]
        if context.importer.removal.how != "value" or context.whole_catalogue:
            no.append(refused_removals(context, with_live_keys(context, items)))
        why = dict(pl.concat(no).iter_rows()) | why
    else:
        for name in carried_with_codes(context):
            now = context.now(name, items)
            unfit = (now.str.strip_chars() == "") & (name in context.importer.carries)
            why = dict.fromkeys(items.filter(unfit), CANNOT_FILL + name) | why
            why = dict.fromkeys(items.filter(~context.fit(now)), f"{CANNOT_WRITE}: {name}") | why
            if context.importer.empties is not None:
                why = dict.fromkeys(items.filter(now == context.importer.empties), f"{CANNOT_SAY}: {name}") | why
    return why


def _steps(
    context: PlanContext, moves: Sequence[Move], why: dict[int, str], arriving: set[tuple[str, ...]], *, stay: bool
) -> tuple[list[Move], list[list[Move]]]:
    """The moves that go, and in which steps; what another item's code stands in the way of is added to `why`."""
    going = [move for move in moves if move.item not in why]
    existing = KeyIndex.of(context.live, Key(context.key)).existing([move.new for move in going])
    why |= blocked_moves(going, existing, arriving, stay=stay)
    going = [move for move in going if move.item not in why]
    longest = context.changes.header.settings.get(context.code_field, Field()).longest
    taken = set(context.live.select(context.key).rows()) if _entangled(going) else set()
    return going, ordered(going, context.most, taken.__contains__, longest)


def carried_with_codes(context: PlanContext) -> list[str]:
    """The fields that a row with a new code has, too, as every row of the files does; a patch moves an item as
    it is.
    """
    if context.patches:
        return []
    wanted = set(context.everywhere)
    return [name for name in context.live.fields if name in wanted]


def _entangled(moves: Sequence[Move]) -> bool:
    olds = {move.old for move in moves}
    return any(move.new in olds for move in moves)


def _held(
    context: PlanContext,
    moves: Sequence[Move],
    why: dict[int, str],
    asked: pl.DataFrame,
    cells: pl.DataFrame,
) -> pl.DataFrame:
    """The code changes that cannot be, and the cells that would point at a code that does not come."""
    first = context.first() if context.changes.header.shared else None
    rows = [
        (item, field, why.get(item if first is None else first[item]))
        for item, field in asked[["item", "field"]].iter_rows()
    ]
    held = with_reasons(pl.DataFrame(rows, schema=dict(NOT_SENT), orient="row"))
    all_of_them = code_changes(context.changes.cells, context.key)
    here = {move.item for move in moves}
    stays = [move for move in _moves(context, all_of_them) if move.item in why or move.item not in here]
    existing = KeyIndex.of(context.live, Key(context.key)).existing([move.new for move in stays])
    place = context.key.index(context.code_field)
    lost = {move.new[place] for move in stays if move.new not in existing}
    cut_off = codes_in(cells, context.changes.header.settings, lost).with_columns(reason=pl.lit(FOLLOWS))
    return pl.concat([held, with_reasons(cut_off)])


def _keys_after(context: PlanContext, moves: Sequence[Move]) -> pl.DataFrame:
    """The items' keys once their codes have changed."""
    new = {move.old: move.new for move in moves}
    if context.changes.header.shared:
        rows = [new.get(key, key) for key in context.changes.keys.rows()]
        return pl.DataFrame(rows, schema=context.changes.keys.schema, orient="row")
    place = context.key.index(context.code_field)
    column = context.changes.keys[context.code_field]
    column = scattered(column, [move.item for move in moves], [move.new[place] for move in moves])
    return context.changes.keys.with_columns(column.alias(context.code_field))


def _items_made_anew(context: PlanContext, moves: Sequence[Move], cells: pl.DataFrame) -> pl.DataFrame:
    """Items as they are made anew: all that live has of them, with every change, under the new key."""
    rows = whole_rows(context, _items(moves), cells)
    new = {move.item: move.new for move in moves}
    keyed_rows = with_keys(context, {item: new[item] for item in rows[ITEM]})
    return rows.with_columns(keyed_rows[name] for name in context.key)


def with_keys(context: PlanContext, keys: Mapping[int, tuple[str, ...]]) -> pl.DataFrame:
    """Items by these keys."""
    rows = pl.DataFrame(list(keys.values()), schema=dict.fromkeys(context.key, pl.String), orient="row")
    return rows.insert_column(0, pl.Series(ITEM, list(keys), dtype=pl.Int64))
