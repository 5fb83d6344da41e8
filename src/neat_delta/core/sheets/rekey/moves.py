"""Code changes: whether items can get the codes that are wanted, in which order, and which links follow them."""

from __future__ import annotations

from collections import Counter, defaultdict
from collections.abc import Callable, Collection, Iterable, Iterator, Mapping, Sequence, Set
from dataclasses import dataclass, replace
from itertools import count, islice

import polars as pl

from neat_delta.core.base.model.store import Field
from neat_delta.core.base.support.series import true_places
from neat_delta.core.sheets.match.keys import KeyText

__all__ = [
    "BOTH",
    "FOLLOWS",
    "NEW_HAS",
    "TAKEN",
    "TWICE",
    "UNKNOWN",
    "Move",
    "blocked_moves",
    "codes_in",
    "follow",
    "links",
    "ordered",
    "temporary_codes",
]

TWICE = "code: two items would get it"
TAKEN = "code: another item has it"
NEW_HAS = "code: a new item has it"
BOTH = "code: the sheet has the old one and the new one"
UNKNOWN = "no item has that code"
FOLLOWS = "code: it points at a code that does not come"
"""The reasons for which a code change, or a link that follows one, is held."""


@dataclass(frozen=True, slots=True)
class Move:
    """One item's code change: the number of the item, its whole key before, its whole key after."""

    item: int
    old: KeyText
    new: KeyText


def blocked_moves(
    moves: Sequence[Move], standing: Collection[KeyText], arriving: Collection[KeyText] = (), *, stay: bool = False
) -> dict[int, str]:
    """The items whose code cannot change, and why: two would get one code, or an item has it that keeps it.

    `standing` are those of the new codes that items of the catalogue have, `arriving` those of new items. An item that
    is held keeps its code from others in turn. With `stay`, old codes stay taken for good.
    """
    wanted = Counter(move.new for move in moves)
    leaves = set() if stay else {move.old for move in moves}
    why: dict[int, str] = {}
    for move in moves:
        if wanted[move.new] > 1:
            why[move.item] = TWICE
        elif move.new in arriving:
            why[move.item] = NEW_HAS
        elif move.new in standing and move.new not in leaves:
            why[move.item] = TAKEN
    after = {move.new: move for move in moves}
    kept = [move for move in moves if move.item in why]
    while kept:
        waits = after.get(kept.pop().old)
        if waits is not None and waits.item not in why:
            why[waits.item] = TAKEN
            kept.append(waits)
    return why


def chains(moves: Sequence[Move]) -> Iterator[tuple[list[Move], bool]]:
    """The moves in chains, each taking the code that the next one leaves; and whether the chain is a circle."""
    by_old = {move.old: move for move in moves}
    wanted = {move.new for move in moves if move.new != move.old}
    seen: set[KeyText] = set()
    for circle in (False, True):
        for move in moves:
            if move.old in seen or (not circle and move.old in wanted):
                continue
            chain, next_move = [], by_old.get(move.old)
            while next_move is not None and next_move.old not in seen:
                chain.append(next_move)
                seen.add(next_move.old)
                next_move = by_old.get(next_move.new)
            yield chain, circle


def ordered(
    moves: Sequence[Move], most: int, taken: Callable[[KeyText], bool], longest: int | None
) -> list[list[Move]]:
    """The moves in steps: within a step none needs another one's code, so that it does not matter whether an importer
    reads row by row or a file at once.

    A circle goes by way of a temporary code (of at most `longest` characters, and none that is `taken`); where more
    than `most` steps were needed, all of a chain but its end does, and two are enough.
    """
    steps: defaultdict[int, list[Move]] = defaultdict(list)
    used = {move.new for move in moves}

    def aside(move: Move) -> KeyText:
        for code in _temporary(move, longest):
            if code not in used and not taken(code):
                used.add(code)
                return code
        raise AssertionError  # there is no end of numbers

    for chain, circle in chains(moves):
        number_of_steps = len(chain) + circle
        if number_of_steps <= max(most, 2):
            first = aside(chain[0]) if circle else chain[0].old
            for place, move in enumerate(chain):
                late = number_of_steps - 1 if circle and not place else len(chain) - 1 - place + circle
                steps[late].append(replace(move, old=first) if circle and not place else move)
            if circle:
                steps[0].append(replace(chain[0], new=first))
        else:
            for place, move in enumerate(chain):
                if place == len(chain) - 1 and not circle:
                    steps[0].append(move)
                else:
                    between = aside(move)
                    steps[0].append(replace(move, new=between))
                    steps[1].append(replace(move, old=between))
    return [sorted(steps[step], key=lambda move: move.item) for step in sorted(steps)]


def _temporary(move: Move, longest: int | None) -> Iterator[KeyText]:
    """Codes that say what they are for, in the place of the part of the key that changes."""
    part = next(place for place, (old, new) in enumerate(zip(move.old, move.new, strict=True)) if old != new)
    room = longest or len(move.old[part]) + 20
    for number in count():
        mark = f"-tmp{number or ''}"
        code = move.old[part][: max(room - len(mark), 0)] + mark
        yield (*move.old[:part], code[-room:] if len(code) > room else code, *move.old[part + 1 :])


LIKELY = 3
"""So many temporary codes of an item are looked for: the first is taken unless an item of the store has it."""


def temporary_codes(move: Move, longest: int | None) -> list[KeyText]:
    """The codes under which an item may stand while its code changes, the likeliest first.

    >>> temporary_codes(Move(0, ("QA-1",), ("QA-2",)), None)[0]
    ('QA-1-tmp',)
    """
    return list(islice(_temporary(move, longest), LIKELY))


def links(
    live: pl.DataFrame, fields: Mapping[str, Field], codes: Mapping[str, str], names: Iterable[str]
) -> pl.DataFrame:
    """The cells of the fields of these `names` in which an old code stands: `place`, `field`, `before`, and `after`
    with the new code.
    """
    schema = {"place": pl.Int64, "field": pl.String, "before": pl.String, "after": pl.String}
    parts = [pl.DataFrame(schema=schema)]
    for name in names if codes else ():
        field = fields[name]
        texts = live[name]
        if field.separator is None:
            naming = true_places(texts.str.strip_chars().is_in(list(codes)))
        else:
            naming = true_places(texts.str.contains_any(list(codes)))
        rows = [
            (place, name, text, follow(text, field, codes)) for place, text in zip(naming, texts[naming], strict=True)
        ]
        parts.append(pl.DataFrame([row for row in rows if row[2] != row[3]], schema=schema, orient="row"))
    return pl.concat(parts)


def follow(text: str, field: Field, codes: Mapping[str, str]) -> str:
    """The text of a field that names codes, with the old ones among them as the new ones."""
    parts = text.split(field.separator) if field.separator else [text]
    mended = []
    for part in parts:
        code = part.strip()
        mended.append(part.replace(code, codes[code]) if code in codes else part)
    return (field.separator or "").join(mended)


def codes_in(cells: pl.DataFrame, fields: Mapping[str, Field], codes: Set[str]) -> pl.DataFrame:
    """Those of the cells (`field`, `after` and others) that name one of these codes, of the fields that name codes."""
    naming = [name for name, field in fields.items() if field.refers]
    if not codes or not naming:
        return cells.clear()
    texts = cells.select(pl.col("field").cast(pl.String), "after").iter_rows()
    hit = [place for place, (name, text) in enumerate(texts) if name in naming and codes & _named(text, fields[name])]
    return cells[hit]


def _named(text: str, field: Field) -> set[str]:
    """The codes that a text names."""
    return {part.strip() for part in (text.split(field.separator) if field.separator else [text])}
