"""Code changes as one importer can take them: which go, in which steps, and what becomes of the items' other cells."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace

import polars as pl

from neat_delta.core.match.keys import KeyIndex
from neat_delta.core.model.changeset import code_changes
from neat_delta.core.model.store import Field, Key
from neat_delta.core.model.update import ITEM
from neat_delta.core.plan.base import Step, Ways
from neat_delta.core.plan.possible import (
    CANNOT_CHANGE,
    CANNOT_FILL,
    CANNOT_SAY,
    CANNOT_TELL_APART,
    CANNOT_WRITE,
    LISTED,
    listed,
    named,
    refused,
    retired,
    staying,
    whole_rows,
)
from neat_delta.core.rekey.moves import FOLLOWS, Move, blocked, codes_in, ordered

__all__ = ["beside", "keyed", "recoded", "under"]

CANNOT_RECODE = "the importer cannot change this code"
CANNOT_CHAIN = "the importer makes an item anew under its new code, and cannot where that depends on another one"


def recoded(ways: Ways, step: Step) -> tuple[Step, pl.DataFrame, pl.DataFrame]:
    """The step with the codes that can change in `moves`, or as items that are made anew; the cells that these say; and
    the code changes, and the links that follow them, that cannot be: item, field, reason. The `keys` of `ways` are
    those afterwards.
    """
    is_code = pl.col("field").is_in(ways.key)
    cells, asked = step.cells.filter(~is_code), step.cells.filter(is_code)
    if not ways.changes.header.counts.recoded:
        return step, asked, pl.DataFrame(schema=LISTED)
    moves = _moves(ways, asked)
    arriving = set(step.added.select(ways.key).rows())
    replaces = ways.code_change == "replace"
    retires = replaces and ways.importer.removal.how == "value" and not ways.whole
    stay = retires or (replaces and ways.whole)
    why = _why_not(ways, moves, asked, cells)
    if stay:
        why |= {move.item: CANNOT_CHAIN for move in moves if move.old in arriving}
    going, steps = _steps(ways, moves, why, arriving, stay=stay)
    apart = replaces and (len(steps) > 1 or any(move.old in arriving for move in going))
    if apart and refused(ways, whole_rows(ways, _items(going))).height:
        why |= {move.item: CANNOT_CHAIN for move in going}  # an item that could not be made again if taken back
        going, steps, apart = [], [], False
    held = _held(ways, moves, why, asked, cells)
    cells = cells.join(held, on=["item", "field"], how="anti", maintain_order="left")
    said = asked.join(held, on=["item", "field"], how="anti", maintain_order="left")
    if not replaces:
        ways.keys = _keys_after(ways, going)
        return replace(step, cells=cells, moves=tuple(steps)), said, held
    rows = _made(ways, going, cells)
    items, anew = rows[ITEM], cells["item"].is_in(rows[ITEM].implode())
    said, cells = pl.concat([said, cells.filter(anew)]), cells.filter(~anew)
    if apart:
        return replace(step, cells=cells, moves=tuple(steps), made=rows), said, held
    added, removed = pl.concat([step.added, rows]), step.removed
    if retires:
        cells = pl.concat([cells, retired(ways, items)])
    else:
        removed = pl.concat([removed, named(ways, items)])
    return replace(step, cells=cells, added=added, removed=removed), said, held


def _moves(ways: Ways, asked: pl.DataFrame) -> list[Move]:
    """The code changes that are asked for; of items that share a key, only the first one's."""
    keys = ways.changes.keys.rows()
    first = ways.first() if ways.changes.header.shared else None
    moves: dict[int, Move] = {}
    for item, field, after in asked.select("item", "field", "after").iter_rows():
        place = ways.key.index(field)
        mine = item if first is None else first[item]
        now = moves.get(mine, Move(mine, keys[mine], keys[mine]))
        moves[mine] = replace(now, new=(*now.new[:place], after, *now.new[place + 1 :]))
    return list(moves.values())


def _items(moves: Sequence[Move]) -> pl.Series:
    return pl.Series(sorted({move.item for move in moves}), dtype=pl.Int64)


def _why_not(ways: Ways, moves: Sequence[Move], asked: pl.DataFrame, cells: pl.DataFrame) -> dict[int, str]:
    """Why the importer cannot take a code change by itself."""
    why: dict[int, str] = {}
    place = ways.key.index(ways.code_field)
    for move in moves:
        others = move.old[:place] + move.old[place + 1 :] != move.new[:place] + move.new[place + 1 :]
        torn = ways.changes.header.shared and ways.code_change == "replace"  # it would make one item of several
        if ways.code_change == "never" or others or torn:
            why[move.item] = CANNOT_RECODE
        elif ways.importer.takes == "additions":
            why[move.item] = CANNOT_CHANGE
    texts = pl.Series([text for move in moves for text in (move.old[place], move.new[place])], dtype=pl.String)
    fits = ways.fit(texts).to_list()
    why |= {move.item: CANNOT_WRITE for move, *fit in zip(moves, fits[::2], fits[1::2], strict=True) if not all(fit)}
    if ways.changes.header.shared:
        uniform = ways.uniform(asked, back=False)
        why |= dict.fromkeys(ways.first().gather(asked["item"].filter(~uniform)), CANNOT_TELL_APART)
    items = _items(moves)
    if ways.code_change == "replace":
        rows = _made(ways, moves, cells)
        no = [refused(ways, rows)]
        if ways.importer.removal.how != "value" or ways.whole:
            no.append(staying(ways, named(ways, items)))
        why = dict(pl.concat(no).iter_rows()) | why
    else:
        for name in beside(ways):
            now = ways.now(name, items)
            unfit = (now.str.strip_chars() == "") & (name in ways.importer.carries)
            why = dict.fromkeys(items.filter(unfit), CANNOT_FILL + name) | why
            why = dict.fromkeys(items.filter(~ways.fit(now)), f"{CANNOT_WRITE}: {name}") | why
            if ways.importer.empties is not None:
                why = dict.fromkeys(items.filter(now == ways.importer.empties), f"{CANNOT_SAY}: {name}") | why
    return why


def _steps(
    ways: Ways, moves: Sequence[Move], why: dict[int, str], arriving: set[tuple[str, ...]], *, stay: bool
) -> tuple[list[Move], list[list[Move]]]:
    """The moves that go, and in which steps; what another item's code stands in the way of is added to `why`."""
    going = [move for move in moves if move.item not in why]
    there = KeyIndex.of(ways.live.cells, Key(ways.key)).existing([move.new for move in going])
    why |= blocked(going, there, arriving, stay=stay)
    going = [move for move in going if move.item not in why]
    longest = ways.changes.header.settings.get(ways.code_field, Field()).longest
    taken = set(ways.live.cells.select(ways.key).rows()) if _entangled(going) else set()
    return going, ordered(going, ways.most, taken.__contains__, longest)


def beside(ways: Ways) -> list[str]:
    """The fields that a row with a new code has, too, as every row of the files does; a patch moves an item as
    it is.
    """
    if ways.patches:
        return []
    wanted = set(ways.everywhere)
    return [name for name in ways.live.fields if name in wanted]


def _entangled(moves: Sequence[Move]) -> bool:
    olds = {move.old for move in moves}
    return any(move.new in olds for move in moves)


def _held(
    ways: Ways, moves: Sequence[Move], why: dict[int, str], asked: pl.DataFrame, cells: pl.DataFrame
) -> pl.DataFrame:
    """The code changes that cannot be, and the cells that would point at a code that does not come."""
    first = ways.first() if ways.changes.header.shared else None
    rows = [
        (item, field, why.get(item if first is None else first[item]))
        for item, field in asked.select("item", "field").iter_rows()
    ]
    held = listed(pl.DataFrame(rows, schema=LISTED, orient="row"))
    all_of_them = code_changes(ways.changes.cells, ways.key)
    here = {move.item for move in moves}
    stays = [move for move in _moves(ways, all_of_them) if move.item in why or move.item not in here]
    there = KeyIndex.of(ways.live.cells, Key(ways.key)).existing([move.new for move in stays])
    place = ways.key.index(ways.code_field)
    lost = {move.new[place] for move in stays if move.new not in there}
    cut_off = codes_in(cells, ways.changes.header.settings, lost).with_columns(reason=pl.lit(FOLLOWS))
    return pl.concat([held, listed(cut_off)])


def _keys_after(ways: Ways, moves: Sequence[Move]) -> pl.DataFrame:
    """The items' keys once their codes have changed."""
    new = {move.old: move.new for move in moves}
    if ways.changes.header.shared:
        rows = [new.get(key, key) for key in ways.changes.keys.rows()]
        return pl.DataFrame(rows, schema=ways.changes.keys.schema, orient="row")
    place = ways.key.index(ways.code_field)
    column = ways.changes.keys[ways.code_field].clone()
    column = column.scatter([move.item for move in moves], [move.new[place] for move in moves])
    return ways.changes.keys.with_columns(column.alias(ways.code_field))


def _made(ways: Ways, moves: Sequence[Move], cells: pl.DataFrame) -> pl.DataFrame:
    """Items as they are made anew: all that live has of them, with every change, under the new key."""
    return under(ways, whole_rows(ways, _items(moves), cells), {move.item: move.new for move in moves})


def keyed(ways: Ways, keys: Mapping[int, tuple[str, ...]]) -> pl.DataFrame:
    """Items by these keys."""
    rows = pl.DataFrame(list(keys.values()), schema=dict.fromkeys(ways.key, pl.String), orient="row")
    return rows.insert_column(0, pl.Series(ITEM, list(keys), dtype=pl.Int64))


def under(ways: Ways, rows: pl.DataFrame, keys: Mapping[int, tuple[str, ...]]) -> pl.DataFrame:
    """Those of the rows that are to have one of these keys, under it."""
    rows = rows.filter(pl.col(ITEM).is_in(list(keys)))
    some = keyed(ways, {item: keys[item] for item in rows[ITEM]})
    return rows.with_columns(some[name] for name in ways.key)
