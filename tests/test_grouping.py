"""Grouping fields into files: against every way there is, looked at one by one."""

from __future__ import annotations

import random
from collections.abc import Iterator

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from neat_delta.core.plan import grouping
from neat_delta.core.plan.grouping import Group, grouped

Sets = list[frozenset[int]]


def partitions(places: list[int]) -> Iterator[list[list[int]]]:
    """Every way to put these into groups."""
    if not places:
        yield []
        return
    first, *rest = places
    for some in partitions(rest):
        yield [[first], *some]
        for at in range(len(some)):
            yield [*some[:at], [first, *some[at]], *some[at + 1 :]]


def cells(sets: Sets, rows: list[int], groups: list[list[int]]) -> int:
    return sum(
        len(frozenset().union(*(sets[one] for one in group))) * sum(rows[one] for one in group) for group in groups
    )


def cheapest(sets: Sets, rows: list[int], most: int, never: frozenset[int]) -> tuple[int, int]:
    """Cells and files of the best grouping, by trying them all."""
    apart = len({one & never for one in sets})
    return min(
        (cells(sets, rows, groups), len(groups))
        for groups in partitions(list(range(len(sets))))
        if len(groups) <= max(most, apart) and all(len({sets[one] & never for one in group}) == 1 for group in groups)
    )


def plain(found: list[Group]) -> list[list[int]]:
    return [list(group.members) for group in found]


SETS = st.lists(st.frozensets(st.integers(0, 5), min_size=1), min_size=1, max_size=7, unique=True)


@given(SETS, st.data(), st.integers(1, 5), st.frozensets(st.integers(0, 5), max_size=2))
@settings(max_examples=300)
def test_few_sets_are_grouped_as_cheaply_as_can_be(sets, data, most, never):
    rows = data.draw(st.lists(st.integers(1, 40), min_size=len(sets), max_size=len(sets)))
    found = grouped(sets, rows, most, never)
    assert sorted(one for group in found for one in group.members) == list(range(len(sets)))
    for group in found:
        assert group.fields == frozenset().union(*(sets[one] for one in group.members))
        assert len({sets[one] & never for one in group.members}) == 1
    assert (cells(sets, rows, plain(found)), len(found)) == cheapest(sets, rows, most, never)


@pytest.mark.parametrize("seed", range(60))
def test_the_way_for_many_sets_comes_near_the_cheapest(seed, monkeypatch):
    """Where all ways can still be tried: never more than a quarter dearer, and mostly the same."""
    rng = random.Random(seed)
    sets = list({frozenset(rng.sample(range(6), rng.randint(1, 4))) for _ in range(8)})
    rows = [rng.randint(1, 500) for _ in sets]
    best, _ = cheapest(sets, rows, 3, frozenset())
    monkeypatch.setattr(grouping, "FEW", 0)
    found = plain(grouped(sets, rows, 3))
    assert len(found) <= 3 and cells(sets, rows, found) <= best * 1.25


def test_thousands_of_sets_are_grouped_and_none_is_lost():
    rng = random.Random(1)
    sets = list({frozenset(rng.sample(range(28), rng.randint(1, 9))) for _ in range(3_000)})
    rows = [rng.randint(1, 50) for _ in sets]
    never = frozenset({3})
    found = grouped(sets, rows, 8, never)
    assert sorted(one for group in found for one in group.members) == list(range(len(sets)))
    assert len(found) <= 8 and all(len({sets[one] & never for one in group.members}) == 1 for group in found)
