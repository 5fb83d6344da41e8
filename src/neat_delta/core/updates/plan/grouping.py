"""Grouping: which fields of which items go into one file together.

Where a blank cell empties its field, a row has a value in every column of its file. So a plan is the least of two
things together: the cells that are carried along though they do not change, and a cost for each file, within a number
of files. An item may be split over several files; a field that is never carried stands once, in rows that change it.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from itertools import combinations, permutations
from math import comb
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    import numpy as np

__all__ = ["FILE_COST", "Group", "grouped"]

FILE_COST = 20
"""What one more file is worth, in cells: carrying so many along is better than handling another file."""

MANY, ATOMS, FILES = 120, 40, 8
"""Up to so many different sets, fields that do not go together anyway, and files, the ways to group are searched."""

FEW, LOOKS = 700, 6_000
"""Up to so many groupings all of them are looked at; in a search so many at the most."""

Files = tuple[int, ...]
"""The fields of each file, as bits."""


@dataclass(frozen=True, slots=True)
class Group:
    """A file: the sets that have rows in it, by their places, each with the fields that it tells there; and all fields
    of the file.
    """

    parts: dict[int, frozenset[int]]
    fields: frozenset[int]


def grouped(
    sets: Sequence[frozenset[int]],
    rows: Sequence[int],
    most: int,
    cost: int = FILE_COST,
    never: frozenset[int] = frozenset(),
    *,
    split: bool = True,
) -> list[Group]:
    """The grouping of different sets of fields, each with so many rows, that carries the fewest cells, a file counting
    as so many more (`cost`), in at most `most` files; the fewest rows among equals. Fields in `never` are not carried:
    where they need more files than `most`, there are so many more. Without `split` a set is told in one file.

    >>> [(sorted(group.fields), sorted(group.parts)) for group in grouped([frozenset([0]), frozenset([1])], [1, 1], 8)]
    [([0, 1], [0, 1])]
    >>> [sorted(group.fields) for group in grouped([frozenset([0]), frozenset([1])], [1, 30], 8)]
    [[0], [1]]
    """
    puzzle = _Puzzle.of(sets, rows, never, cost, split=split)
    best = _planned(puzzle, most)
    return puzzle.groups(best.files, best.covers)


@dataclass(frozen=True, slots=True)
class _Puzzle:
    """What is to be grouped. Fields that every set has together, or not at all, are one: an atom, with its weight."""

    atoms: list[frozenset[int]]
    weights: list[int]
    sets: list[int]
    rows: list[int]
    never: int
    cost: int
    split: bool
    as_array: np.ndarray
    rows_array: np.ndarray

    @classmethod
    def of(
        cls, sets: Sequence[frozenset[int]], rows: Sequence[int], never: frozenset[int], cost: int, *, split: bool
    ) -> _Puzzle:
        import numpy as np

        together: dict[tuple[bool, frozenset[int]], set[int]] = {}
        for field in sorted(frozenset().union(*sets)):
            where = frozenset(place for place, field_set in enumerate(sets) if field in field_set)
            together.setdefault((field in never, where), set()).add(field)
        atoms = [frozenset(fields) for fields in together.values()]
        bits = [sum(1 << bit for bit, atom in enumerate(atoms) if atom <= field_set) for field_set in sets]
        not_carried = sum(1 << bit for bit, atom in enumerate(atoms) if atom <= never)
        arrays = (np.array(values, dtype=np.int64) for values in (bits if len(atoms) <= ATOMS else [0], rows))
        return cls(atoms, [len(atom) for atom in atoms], bits, list(rows), not_carried, cost, split, *arrays)

    def width(self, file: int) -> int:
        """How many fields a file has."""
        return sum(self.weights[bit] for bit in _bits(file))

    def is_least(self, plan: _Plan, most: int) -> bool:
        """Whether no grouping can be better: one file carries nothing, or files cost nothing and carry nothing."""
        over, carried = plan.price(self, most)[0], self.carried(plan, most)
        return not over and not carried and (len(plan.files) == 1 or not self.cost)

    def carried(self, plan: _Plan, most: int) -> int:
        """How many cells a plan carries along."""
        changed = sum(rows * self.width(atoms_of) for atoms_of, rows in zip(self.sets, self.rows, strict=True))
        return plan.price(self, most)[1] - self.cost * len(plan.files) - changed

    def price(self, files: Files) -> tuple[int, int] | None:
        """What files come to: all cells of their rows and the cost of the files; and the rows. None where they do not
        hold every set.
        """
        cells, parts = _Subsets.of(self, files).cheapest(self.as_array)
        if cells.max() >= UNFIT:
            return None
        return int(cells @ self.rows_array) + self.cost * len(files), int(parts @ self.rows_array)

    def covers(self, files: Files) -> list[list[int]] | None:
        """Of each set the places of the files that it has a row in; None where they do not hold every set."""
        chosen = _Subsets.of(self, files).chosen(self.as_array)
        return None if chosen is None else [list(_bits(cover)) for cover in chosen]

    def groups(self, files: Files, covers: Sequence[Sequence[int]]) -> list[Group]:
        """Files with what each set tells in them: what an earlier one tells is not told again."""
        parts: list[dict[int, frozenset[int]]] = [{} for _ in files]
        for place, cover in enumerate(covers):
            fixed = 0
            for at in cover:
                new = self.sets[place] & files[at] & ~fixed
                fixed |= new
                parts[at][place] = self.fields(new)
        groups = [Group(part, self.fields(file)) for part, file in zip(parts, files, strict=True) if part]
        return sorted(groups, key=lambda group: sorted(group.parts))

    def fields(self, bits: int) -> frozenset[int]:
        """The fields of these atoms."""
        return frozenset().union(*(self.atoms[bit] for bit in _bits(bits)))


UNFIT = 1 << 40
"""The cells of what is no way to tell a set."""


@dataclass(frozen=True, slots=True)
class _Subsets:
    """All choices of some files: the fields that they have together, their width, and how many they are."""

    union: np.ndarray
    width: np.ndarray
    many: np.ndarray
    never: int

    @classmethod
    def of(cls, puzzle: _Puzzle, files: Files) -> _Subsets:
        import numpy as np

        unions, widths, counts = [0], [0], [0]
        for file in files:
            wide, never = puzzle.width(file), file & puzzle.never
            groups_told = range(len(unions))  # what is never carried is told once
            widths += [UNFIT if unions[at] & never else widths[at] + wide for at in groups_told]
            counts += [counts[at] + 1 for at in groups_told]
            unions += [unions[at] | file for at in groups_told]
        union, width, many = (np.array(values, dtype=np.int64) for values in (unions, widths, counts))
        if not puzzle.split:
            width = np.where(many > 1, UNFIT, width)
        width[0] = UNFIT  # a set is told in some file
        return cls(union, width, many, puzzle.never)

    def _prices(self, sets: np.ndarray) -> np.ndarray:
        import numpy as np

        holds = (sets[:, None] & ~self.union[None, :]) == 0
        safe = (self.union[None, :] & self.never & ~sets[:, None]) == 0
        return np.where(holds & safe, np.minimum(self.width, UNFIT) * 64 + self.many, UNFIT * 64)

    def cheapest(self, sets: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """Of each set the fewest cells of a row of it, all files together, and how many files that takes."""
        best = self._prices(sets).min(axis=1)
        return best // 64, best % 64

    def chosen(self, sets: np.ndarray) -> list[int] | None:
        """Of each set the choice of files; None where a set fits none."""
        import numpy as np

        prices = self._prices(sets)
        best = prices.argmin(axis=1)
        unfit = prices[np.arange(len(sets)), best] >= UNFIT * 64
        return None if unfit.any() else best.tolist()


def _bits(number: int) -> Iterator[int]:
    place = 0
    while number:
        if number & 1:
            yield place
        number >>= 1
        place += 1


@dataclass(frozen=True, slots=True)
class _Plan:
    """Files, and of each set the places of the files that it has a row in."""

    files: Files
    covers: list[list[int]]

    def price(self, puzzle: _Puzzle, most: int) -> tuple[int, int, int]:
        """How many files there are too many; the cells and the cost of the files; the rows."""
        widths = [puzzle.width(file) for file in self.files]
        priced = zip(self.covers, puzzle.rows, strict=True)
        cells = sum(rows * sum(widths[at] for at in cover) for cover, rows in priced)
        many = sum(rows * len(cover) for cover, rows in zip(self.covers, puzzle.rows, strict=True))
        return max(len(self.files) - most, 0), cells + puzzle.cost * len(self.files), many


def _planned(puzzle: _Puzzle, most: int) -> _Plan:
    """The best grouping that is looked at: whole sets joined, fields joined where sets may be split, and what a search
    makes of these.
    """
    plans = [_by_sets(puzzle, most)]
    if puzzle.split:
        plans.append(_by_fields(puzzle, most))
    best = min(plans, key=lambda plan: plan.price(puzzle, most))
    room = min(max(most, len(best.files)), FILES)
    if puzzle.cost and len(best.files) <= most:  # more files than these cost more by themselves
        room = min(room, (puzzle.carried(best, most) + puzzle.cost * len(best.files) - 1) // puzzle.cost)
    if len(puzzle.sets) > MANY or len(puzzle.atoms) > ATOMS or puzzle.is_least(best, most):
        return best
    every = range(1, 1 << len(puzzle.atoms))
    if sum(comb(len(every), many) for many in range(1, room + 1)) <= FEW:
        starts = [tuple(files) for many in range(1, room + 1) for files in combinations(every, many)]
        priced = [(price, files) for files in starts if (price := puzzle.price(files)) is not None]
        covers = puzzle.covers(min(priced)[1]) if priced else None
        plans = [best] if covers is None else [best, _Plan(min(priced)[1], covers)]
        return min(plans, key=lambda plan: plan.price(puzzle, most))
    looks = [LOOKS]
    starts = [plan.files for plan in sorted(plans, key=lambda plan: plan.price(puzzle, most))]
    for begun in dict.fromkeys((*starts, *_with_heaviest(puzzle, room))):
        price = puzzle.price(begun) if len(begun) <= room else None
        if price is not None:
            files = _improved(puzzle, price, begun, room, looks)
            covers = puzzle.covers(files)
            assert covers is not None
            best = min(best, _Plan(files, covers), key=lambda plan: plan.price(puzzle, most))
    return best


def _with_heaviest(puzzle: _Puzzle, room: int) -> Iterator[Files]:
    """The sets with the most rows in files of their own, and one of all fields beside them."""
    every = (1 << len(puzzle.atoms)) - 1
    by_rows = sorted(zip(puzzle.sets, puzzle.rows, strict=True), key=lambda entry: (-entry[1], entry[0]))
    for many in range(1, room):
        yield tuple(sorted({every, *(fields_of for fields_of, _ in by_rows[:many])}))


def _by_fields(puzzle: _Puzzle, most: int) -> _Plan:
    """Every field in one file: begun with a file for each, which are joined where that saves more than it carries, or
    as there are too many.
    """

    def users(file: int) -> list[int]:
        return [place for place, fields in enumerate(puzzle.sets) if fields & file]

    def cells(file: int) -> int | None:
        places = users(file)
        if any(file & puzzle.never & ~puzzle.sets[place] for place in places):
            return None
        return puzzle.width(file) * sum(puzzle.rows[place] for place in places)

    files = _joined({1 << bit: cells(1 << bit) or 0 for bit in range(len(puzzle.atoms))}, cells, puzzle.cost, most)
    return _Plan(files, [[at for at, file in enumerate(files) if file & fields] for fields in puzzle.sets])


def _joined(priced: dict[int, int], cells: Callable[[int], int | None], cost: int, most: int) -> Files:
    """Files joined pair by pair, the cheapest first, while that saves something, or there are too many of them."""
    dearer: dict[tuple[int, int], int] = {}

    def look(first: int, other: int) -> None:
        both = cells(first | other)
        if both is not None:
            dearer[first, other] = both - priced[first] - priced[other] - cost

    files_left = list(priced)
    for place, file_there in enumerate(files_left):
        for other in files_left[:place]:
            look(file_there, other)
    while dearer:
        pair = min(dearer, key=lambda pair: (dearer[pair], pair))
        if dearer[pair] >= 0 and len(files_left) <= most:
            break
        file_there, other = pair
        both = cells(file_there | other)
        assert both is not None
        files_left = [file for file in files_left if file not in pair]
        dearer = {pair: more for pair, more in dearer.items() if not {file_there, other} & {*pair}}
        priced[file_there | other] = both
        for third in files_left:
            look(file_there | other, third)
        files_left.append(file_there | other)
    return tuple(sorted(files_left))


def _by_sets(puzzle: _Puzzle, most: int) -> _Plan:
    """Every set in one file: joined pair by pair, the cheapest first; of very many those with the fewest rows at once
    with the one where they cost least; then sets move to where they cost less.
    """
    groups = [[place] for place in sorted(range(len(puzzle.sets)), key=lambda place: (-puzzle.rows[place], place))]
    late = groups[MANY:]
    groups = groups[:MANY]

    def union(members: Sequence[int]) -> int:
        fields = 0
        for place in members:
            fields |= puzzle.sets[place]
        return fields

    def cells(members: Sequence[int]) -> int:
        return puzzle.width(union(members)) * sum(puzzle.rows[place] for place in members)

    def fits(first: Sequence[int], other: Sequence[int]) -> bool:
        return (puzzle.sets[first[0]] ^ puzzle.sets[other[0]]) & puzzle.never == 0

    for alone in late:
        fitting = [group for group in groups if fits(group, alone)]
        if fitting:
            min(fitting, key=lambda group, alone=alone: cells([*group, *alone]) - cells(group)).extend(alone)  # type: ignore[misc]
        else:
            groups.append(alone)
    number = {id(group): at for at, group in enumerate(groups)}
    dearer = {
        (number[id(group)], number[id(other)]): cells(group + other) - cells(group) - cells(other) - puzzle.cost
        for at, group in enumerate(groups)
        for other in groups[:at]
        if fits(group, other)
    }
    by_number = dict(enumerate(groups))
    while dearer:
        pair = min(dearer, key=lambda pair: (dearer[pair], pair))
        if dearer[pair] >= 0 and len(by_number) <= most:
            break
        first, other = pair
        by_number[first] = by_number[first] + by_number.pop(other)
        dearer = {both: more for both, more in dearer.items() if not {first, other} & {*both}}
        for third, members in by_number.items():
            if third != first and fits(by_number[first], members):
                both = (max(first, third), min(first, third))
                dearer[both] = (
                    cells(by_number[first] + members) - cells(by_number[first]) - cells(members) - puzzle.cost
                )
    files = tuple(union(members) for members in by_number.values())
    covers: list[list[int]] = [[] for _ in puzzle.sets]
    for at, members in enumerate(by_number.values()):
        for place in members:
            covers[place] = [at]
    return _Plan(files, covers)


def _improved(puzzle: _Puzzle, price: tuple[int, int], files: Files, room: int, looks: list[int]) -> Files:
    """Files that are changed step by step, each time to better ones, while there are any near."""
    better = True
    while better and looks[0] > 0:
        better = False
        for near in _near(puzzle, files, room):
            looks[0] -= 1
            other = puzzle.price(near)
            if other is not None and other < price:
                price, files, better = other, near, True
                break
            if looks[0] <= 0:
                break
    return files


def _near(puzzle: _Puzzle, files: Files, room: int) -> Iterator[Files]:
    """What is one step away: a file less, two joined, a field more or less or elsewhere, a file more."""
    places, atoms = range(len(files)), [1 << bit for bit in range(len(puzzle.atoms))]

    def with_(changed: dict[int, int], *more: int) -> Files:
        kept = [changed.get(at, file) for at, file in enumerate(files)]
        return tuple(sorted({file for file in (*kept, *more) if file}))

    for at in places:
        yield with_({at: 0})
        for other in range(at):
            yield with_({at: files[at] | files[other], other: 0})
        for atom in atoms:
            yield with_({at: files[at] ^ atom})
    parts = list(dict.fromkeys((*puzzle.sets, *atoms))) if len(files) < room else []
    for part in parts:
        yield with_({}, part)
        for at in places:
            yield with_({at: files[at] & ~part}, files[at] & part)
    for at, other in permutations(places, 2):
        yield with_({at: files[at] & ~files[other]})
        for atom in atoms:
            if files[at] & atom and not files[other] & atom:
                yield with_({at: files[at] ^ atom, other: files[other] | atom})
