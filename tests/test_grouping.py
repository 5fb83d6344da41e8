"""Grouping fields into files: against every way there is, looked at one by one."""

from __future__ import annotations

import random
from itertools import combinations

import pytest
from hypothesis import strategies as st

from neat_delta.core.updates.plan.grouping import FILE_COST, Group, grouped
from tests.conftest import campaign, in_two_lengths

Sets = list[frozenset[int]]


def price(one: frozenset[int], files: tuple[frozenset[int], ...], never: frozenset[int]) -> int | None:
    """The fewest cells of a row of a set, all files that it is in together; None where these do not hold it."""
    best = None
    for many in range(1, len(files) + 1):
        for some in combinations(files, many):
            whole = frozenset().union(*some)
            once = sum(len(file & never) for file in some) == len(whole & never)
            if one <= whole and whole & never <= one and once:
                width = sum(map(len, some))
                best = width if best is None else min(best, width)
    return best


def cheapest(sets: Sets, rows: list[int], most: int, cost: int, never: frozenset[int]) -> tuple[int, int] | None:
    """Files too many, and what the best files come to, by trying all of them; None where so few hold nothing."""
    fields = sorted(frozenset().union(*sets))
    every = [frozenset(some) for many in range(1, len(fields) + 1) for some in combinations(fields, many)]
    best = None
    for many in range(1, most + 1):
        for files in combinations(every, many):
            each = [price(one, files, never) for one in sets]
            if None not in each:
                total = sum((wide or 0) * times for wide, times in zip(each, rows, strict=True)) + cost * many
                best = total if best is None else min(best, total)
    return None if best is None else (0, best)


def held_to_the_rules(groups: list[Group], sets: Sets, rows: list[int], never: frozenset[int]) -> int:
    """Every field of every set is told once, and nothing is carried that must not be; the cells of all rows."""
    for place, one in enumerate(sets):
        told = [group.parts[place] for group in groups if place in group.parts]
        assert sorted(field for part in told for field in part) == sorted(one) and all(told)
        for group in groups:
            if place in group.parts:
                assert group.parts[place] <= group.fields and group.fields & never <= group.parts[place]
    return sum(len(group.fields) * rows[place] for group in groups for place in group.parts)


@st.composite
def puzzles(draw):
    sets = draw(st.lists(st.frozensets(st.integers(0, 3), min_size=1), min_size=1, max_size=12, unique=True))
    rows = draw(st.lists(st.sampled_from([1, 2, 5, 20, 300]), min_size=len(sets), max_size=len(sets)))
    never = draw(st.frozensets(st.integers(0, 3), max_size=1))
    return sets, rows, draw(st.integers(1, 3)), draw(st.sampled_from([0, 1, FILE_COST])), never


@in_two_lengths(puzzles(), few=25, many=1_000)
def test_a_plan_is_within_two_percent_of_the_best(puzzle):
    sets, rows, most, cost, never = puzzle
    groups = grouped(sets, rows, most, cost, never)
    cells = held_to_the_rules(groups, sets, rows, never)
    best = cheapest(sets, rows, most, cost, never)
    if best is not None:
        assert len(groups) <= most
        assert cells + cost * len(groups) <= best[1] * 1.02


@pytest.mark.parametrize(
    "sets, rows, most, cost, files",
    [
        ([{0}, {1}, {2}, {3}, {4}, {5}], [1] * 6, 8, 20, [{0, 1, 2, 3, 4, 5}]),  # six edits in one file
        ([{0}, {1}, {2}, {3}, {4}, {5}], [1] * 6, 8, 0, [{0}, {1}, {2}, {3}, {4}, {5}]),
        ([{0}, {1}, {0, 1}], [500, 500, 500], 2, 20, [{0}, {1}]),  # one a field carries nothing
        ([{0, 1}, {1, 2}, {0, 2}, {0}], [90, 90, 90, 90], 3, 20, [{0}, {1}, {2}]),
        ([{0}, {0, 1}], [1000, 3], 1, 20, [{0, 1}]),
    ],
)
def test_plans_that_somebody_would_make(sets, rows, most, cost, files):
    groups = grouped([frozenset(one) for one in sets], rows, most, cost)
    assert sorted(sorted(group.fields) for group in groups) == sorted(map(sorted, files))


def test_items_are_told_in_one_file_where_a_row_is_worked_out_as_a_whole():
    sets = [frozenset({0}), frozenset({1}), frozenset({0, 1})]
    groups = grouped(sets, [500, 500, 500], 2, split=False)
    assert all(sum(place in group.parts for group in groups) == 1 for place in range(3)) and len(groups) <= 2


@pytest.mark.parametrize("many, fields", [(100, 30), (400, 70), pytest.param(3_000, 28, marks=campaign)])
def test_very_many_sets_are_grouped_and_none_is_lost(many, fields):
    rng = random.Random(1)
    sets = list({frozenset(rng.sample(range(fields), rng.randint(1, 9))) for _ in range(many)})
    rows = [rng.randint(1, 50) for _ in sets]
    never = frozenset({3})
    groups = grouped(sets, rows, 8, never=never)
    held_to_the_rules(groups, sets, rows, never)
    assert len(groups) <= 8
