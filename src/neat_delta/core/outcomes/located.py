"""Locating: where the items of a change set stand in a later export, under the code that each has by then.

Rule: what code an item has by then follows from the order in which codes change: of a chain the last moves first, and
who takes part in a circle goes by way of a temporary code. Of the states that this allows, the one counts in which the
items agree the most with what stands there.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import polars as pl

from neat_delta.core.base.model.after import field_after
from neat_delta.core.base.model.catalogue import Catalogue
from neat_delta.core.base.model.changeset import ChangeSet, code_changes
from neat_delta.core.base.model.store import Field
from neat_delta.core.base.support.series import constant, filtered, gathered, not_null, scattered, true_places
from neat_delta.core.sheets.match.keys import KeyIndex, KeyText, key_text
from neat_delta.core.sheets.rekey.moves import Move, chains, temporary_codes

__all__ = ["Located", "locate"]


@dataclass(frozen=True, slots=True)
class Located:
    """The items of a change set in a later export.

    `keys` are the items' keys as the export writes them, the new code where it has landed; `places` their rows in it,
    null where they are not there; `live_rows` their rows in live, null for new ones; `live_places` the rows of all of
    live's rows in the export; `between` the items that stand under a temporary code.
    """

    keys: pl.DataFrame
    places: pl.Series
    live_rows: pl.Series
    live_places: pl.Series
    between: frozenset[int] = frozenset()


def locate(changes: ChangeSet, live: Catalogue, after: Catalogue) -> Located:
    """Locate the items in the export `after`: by the new code where it has landed, by a temporary one where the code
    change stopped half-way, else by the old one.
    """
    key = changes.header.compared_by
    index = KeyIndex.of(after, key)
    rows = live.place(changes.items["live"])
    live_places = KeyIndex.of(live, key).align(index)
    places = gathered(live_places, rows)
    new = true_places(~not_null(rows))
    places = scattered(places, new, index.lookup(gathered(changes.keys, new)))
    between = frozenset[int]()
    codes = code_changes(changes.sent().with_columns(pl.col("field").cast(pl.String)), key.fields)
    if codes.height:
        wanted = changes.keys
        for (name,), field_codes in codes.group_by("field"):
            wanted = wanted.with_columns(field_after(wanted[str(name)], field_codes))
        items = codes["item"].unique().sort()
        sides = {
            "old": gathered(places, items),
            "between": _temporary_places(changes, live, after, rows, items, wanted, index),
            "new": KeyIndex.of(gathered(wanted, items), key).align(index),
        }
        stands = _standings(changes, live, after, rows, items, wanted, sides)
        at = {side: pl.Series([state == side for state in stands], dtype=pl.Boolean) for side in sides}
        for side in ("between", "new"):
            places = scattered(places, items.filter(at[side]), sides[side].filter(at[side]))
        nowhere = pl.Series([state == "nowhere" for state in stands], dtype=pl.Boolean)
        places = scattered(places, items.filter(nowhere), None)
        between = frozenset(items.filter(at["between"]))
    present = not_null(places)
    keys = pl.DataFrame(
        [after.at(name, places).zip_with(present, changes.keys[name]).alias(name) for name in key.fields]
    )
    in_live = not_null(rows)
    live_places = scattered(live_places, rows.filter(in_live), places.filter(in_live))
    return Located(keys, places, rows, live_places, between)


def _temporary_places(
    changes: ChangeSet,
    live: Catalogue,
    after: Catalogue,
    rows: pl.Series,
    items: pl.Series,
    wanted: pl.DataFrame,
    index: KeyIndex,
) -> pl.Series:
    """Where the export has these items under a temporary code of ours, on the way there or back; null where not. Of the
    items of a swap, which have each other's on the way back, that one has it which agrees the most with what is there.
    """
    key = changes.header.compared_by
    named: list[tuple[int, KeyText]] = []
    for at, item in enumerate(items):
        old, new = changes.keys.row(item), wanted.row(item)
        if old != new:
            part = next(name for name, first, other in zip(key.fields, old, new, strict=True) if first != other)
            longest = changes.header.settings.get(part, Field()).longest
            moves = (Move(item, old, new), Move(item, new, old))
            named += [(at, code) for move in moves for code in temporary_codes(move, longest)]
    table = pl.DataFrame([code for _, code in named], schema=dict.fromkeys(key.fields, pl.String), orient="row")
    at_place = index.lookup(table).set(KeyIndex.of(live, key).lookup(table).is_not_null(), None)
    hits = true_places(not_null(at_place))
    ats, places = gathered(pl.Series([at for at, _ in named], dtype=pl.Int64), hits), gathered(at_place, hits)
    agreement = _agreement(changes, live, after, rows, gathered(items, ats), places)
    out: list[int | None] = [None] * items.len()
    taken: set[int] = set()
    for hit in sorted(range(hits.len()), key=lambda hit: (-agreement[hit], hit)):
        if out[ats[hit]] is None and places[hit] not in taken:
            out[ats[hit]] = places[hit]
            taken.add(places[hit])
    return pl.Series(out, dtype=pl.UInt32)


def _standings(
    changes: ChangeSet,
    live: Catalogue,
    after: Catalogue,
    rows: pl.Series,
    items: pl.Series,
    wanted: pl.DataFrame,
    sides: Mapping[str, pl.Series],
) -> list[str]:
    """Of each of these items under which code it stands: `old`, `between` or `new`; `nowhere` where nothing that has
    one of these can be it.
    """
    key = changes.header.compared_by
    agreement = {side: _agreement(changes, live, after, rows, items, places) for side, places in sides.items()}
    aside_there = not_null(sides["between"]).to_list()
    first: dict[KeyText, int] = {}  # items that share a key go together
    moves: list[Move] = []
    twins: list[int] = []
    for at, item in enumerate(items):
        old, new = key_text(changes.keys.row(item), key), key_text(wanted.row(item), key)
        twins.append(first.setdefault(old, at))
        if twins[-1] == at:
            moves.append(Move(at, old, new))
    stands = ["old"] * items.len()
    for chain, circle in chains(moves):
        places = [move.item for move in chain]
        aside = next((n for n, at in enumerate(places) if aside_there[at]), None)
        if circle and aside is not None:  # it is open where one of it has stepped aside
            places = places[aside:] + places[:aside]
        for part in _parts(places, aside_there):
            states = (0, len(part)) if circle and aside is None else range(len(part) + 1)
            best = max(states, key=lambda landed, part=part: (_score(part, landed, agreement), landed))
            for n, at in enumerate(part):
                stands[at] = "new" if n >= len(part) - best else "old"
        for at in places:
            stands[at] = "between" if aside_there[at] else stands[at]
            if not agreement[stands[at]][at]:
                stands[at] = "nowhere"
    return [stands[at] for at in twins]


def _parts(places: Sequence[int], aside_there: Sequence[bool]) -> list[list[int]]:
    """A chain in pieces between the items that stand under a temporary code."""
    parts: list[list[int]] = [[]]
    for at in places:
        if aside_there[at]:
            parts.append([])
        else:
            parts[-1].append(at)
    return [part for part in parts if part]


def _score(part: Sequence[int], landed: int, agreement: Mapping[str, Sequence[int]]) -> int:
    """How much the items agree with what stands there, were so many from the chain's end under their new codes."""
    return sum(agreement["new" if n >= len(part) - landed else "old"][at] for n, at in enumerate(part))


def _agreement(
    changes: ChangeSet, live: Catalogue, after: Catalogue, rows: pl.Series, items: pl.Series, places: pl.Series
) -> list[int]:
    """Per item in how many fields that have a text it is, at this place, as live had it or as it was to become, and one
    more, as it is there; 0 where there is none, and where what stands there is plainly something else.
    """
    same = constant(0, items.len(), pl.Int64)
    looked = same
    sent = changes.sent().with_columns(pl.col("field").cast(pl.String))
    for name in live.fields:
        moving = changes.header.settings.get(name, Field()).moving
        if name not in changes.header.key and name in after.fields and not moving:
            now, was = after.at(name, places), live.at(name, gathered(rows, items))
            cells = filtered(sent, sent["field"] == name)[["item", "after"]]
            met = pl.DataFrame({"item": items}).join(cells, on="item", how="left", maintain_order="left")["after"]
            agrees = ((now == was) | (now == met).fill_null(value=False)).fill_null(value=False)
            says = (was.fill_null("").str.strip_chars() != "").cast(pl.Int64)
            same, looked = same + agrees.cast(pl.Int64) * says, looked + says
    other = (looked >= FEW) & (same * 2 < looked)
    return (same + 1).set(other | places.is_null(), 0).to_list()


FEW = 3
"""Of an item with fewer fields that have a text nobody can tell by them whether it is another one."""
