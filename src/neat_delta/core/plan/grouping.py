"""Grouping: which sets of fields go into one file together, so that the files carry the fewest cells.

Where a blank cell empties its field, a row has a value in every column of its file. Items that change the same fields
fit together without a cell too many; to have no more than so many files, others are put together, too, and a cell
that does not change is carried along.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from functools import cache
from itertools import combinations

__all__ = ["Group", "grouped"]

FEW, MANY = 11, 120
"""Up to `FEW` sets all ways of grouping them are looked at; beyond, sets are joined pair by pair, and of more than
`MANY` only the largest to begin with.
"""


@dataclass(frozen=True, slots=True)
class Group:
    """Sets that share a file, by their places, and the fields of that file."""

    members: tuple[int, ...]
    fields: frozenset[int]


def grouped(
    sets: Sequence[frozenset[int]], rows: Sequence[int], most: int, never: frozenset[int] = frozenset()
) -> list[Group]:
    """The grouping of different sets of fields, each with so many rows, that sends the fewest cells in at most `most`
    files; the fewest files among equals. Fields in `never` are not carried: sets that differ in one stay apart, and
    where there are more of such sorts than files, there is a file for each.

    Exact up to `FEW` sets; beyond, the two groups are joined whose joining costs the least, until there are few enough,
    and then sets move to groups where they cost less. The order is that of the first member.
    """
    sorts: dict[frozenset[int], list[int]] = {}
    for place, one in enumerate(sets):
        sorts.setdefault(one & never, []).append(place)
    room = max(most, len(sorts))
    exact = len(sets) <= FEW and len(sets) > room
    best_groups = _best(sets, rows, room, never) if exact else _joined(sets, rows, room, never)
    groups = [Group(tuple(sorted(one)), _union(sets, one)) for one in best_groups]
    return sorted(groups, key=lambda group: group.members)


def _union(sets: Sequence[frozenset[int]], members: Sequence[int]) -> frozenset[int]:
    return frozenset().union(*(sets[place] for place in members))


def _cost(sets: Sequence[frozenset[int]], rows: Sequence[int], members: Sequence[int]) -> int:
    return len(_union(sets, members)) * sum(rows[place] for place in members)


def _best(
    sets: Sequence[frozenset[int]], rows: Sequence[int], most: int, never: frozenset[int]
) -> list[tuple[int, ...]]:
    """The cheapest grouping, by looking at all of them: the first set left goes with each choice of the others."""

    def together(chosen: int) -> tuple[int, ...]:
        return tuple(place for place in range(len(sets)) if chosen >> place & 1)

    @cache
    def cost(chosen: int) -> int | None:
        members = together(chosen)
        if len({sets[place] & never for place in members}) > 1:
            return None
        return _cost(sets, rows, members)

    @cache
    def best(left: int, files: int) -> tuple[int, int, tuple[int, ...]] | None:
        if not left:
            return 0, 0, ()
        if not files:
            return None
        first = left & -left
        cheapest = None
        for parts in _parts(left ^ first):
            here = cost(parts | first)
            rest = best(left ^ first ^ parts, files - 1) if here is not None else None
            if here is not None and rest is not None:
                one = (here + rest[0], 1 + rest[1], (parts | first, *rest[2]))
                cheapest = one if cheapest is None else min(cheapest, one)
        return cheapest

    chosen = best((1 << len(sets)) - 1, most)
    assert chosen is not None
    return [together(one) for one in chosen[2]]


def _parts(chosen: int) -> Iterator[int]:
    """All parts of a choice, itself and nothing among them."""
    part = chosen
    while True:
        yield part
        if not part:
            return
        part = (part - 1) & chosen


def _joined(
    sets: Sequence[frozenset[int]], rows: Sequence[int], most: int, never: frozenset[int]
) -> list[tuple[int, ...]]:
    """Joined pair by pair, cheapest first, until there are few enough; then sets move where that is cheaper."""
    groups = _seeded(sets, rows, never)
    fields = {one: _union(sets, members) for one, members in groups.items()}
    rows_of = {one: sum(rows[place] for place in members) for one, members in groups.items()}
    dearer: dict[tuple[int, int], int] = {}

    def price(one: int, other: int) -> None:
        if fields[one] & never == fields[other] & never:
            both = len(fields[one] | fields[other]) * (rows_of[one] + rows_of[other])
            dearer[one, other] = both - len(fields[one]) * rows_of[one] - len(fields[other]) * rows_of[other]

    if len(groups) > most:
        for one, other in combinations(sorted(groups), 2):
            price(one, other)
    while len(groups) > most:
        one, other = min(dearer, key=lambda pair: (dearer[pair], pair))
        groups[one] += groups.pop(other)
        fields[one] |= fields.pop(other)
        rows_of[one] += rows_of.pop(other)
        dearer = {pair: more for pair, more in dearer.items() if not {one, other} & set(pair)}
        for third in groups:
            if third != one:
                price(min(one, third), max(one, third))
    member_sets = [tuple(members) for members in groups.values()]
    return _moved(sets, rows, member_sets, never) if most < len(sets) <= MANY else member_sets


def _seeded(sets: Sequence[frozenset[int]], rows: Sequence[int], never: frozenset[int]) -> dict[int, list[int]]:
    """Each set by itself; of very many, those with the most rows, and the others with the one where they cost least."""
    if len(sets) <= MANY:
        return {place: [place] for place in range(len(sets))}
    by_rows = sorted(range(len(sets)), key=lambda place: (-rows[place], place))
    sorts = {sets[place] & never: place for place in reversed(by_rows)}
    seeds = sorted({*by_rows[:MANY], *sorts.values()})
    groups = {seed: [seed] for seed in seeds}
    fields, rows_of = {seed: sets[seed] for seed in seeds}, {seed: rows[seed] for seed in seeds}
    for place in by_rows:
        if place in groups:
            continue
        fitting = [seed for seed in seeds if sets[seed] & never == sets[place] & never]

        def more(seed: int, place: int = place) -> tuple[int, int]:
            both = len(fields[seed] | sets[place]) * (rows_of[seed] + rows[place])
            return both - len(fields[seed]) * rows_of[seed], seed

        best = min(fitting, key=more)
        groups[best].append(place)
        fields[best] |= sets[place]
        rows_of[best] += rows[place]
    return groups


ROUNDS = 4


def _moved(
    sets: Sequence[frozenset[int]], rows: Sequence[int], groups: list[tuple[int, ...]], never: frozenset[int]
) -> list[tuple[int, ...]]:
    """Each set in turn goes to the group where it costs the least."""
    where = [list(one) for one in groups]
    for _ in range(ROUNDS):
        better = False
        for place, one in enumerate(sets):
            home = next(group for group in where if place in group)
            rest = [other for other in home if other != place]
            gain = _cost(sets, rows, home) - (_cost(sets, rows, rest) if rest else 0)
            costs = [
                (_cost(sets, rows, [*group, place]) - _cost(sets, rows, group), at)
                for at, group in enumerate(where)
                if group is not home and group and sets[group[0]] & never == one & never
            ]
            if costs and min(costs)[0] < gain:
                home.remove(place)
                where[min(costs)[1]].append(place)
                better = True
        where = [group for group in where if group]
        if not better:
            break
    return [tuple(group) for group in where]
