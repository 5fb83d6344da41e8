"""Several sheets and lists of one round as one sheet: each was compared by itself, and what each of them changes stands
in it, once.

Rule: what was held in a sheet stays held, with the reason. Where two say different things of one cell, the stated
winner counts, or nobody does: the cell is held, and both values are named.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Literal

import msgspec
import polars as pl

from neat_delta.core.base.model.catalogue import Catalogue, listed
from neat_delta.core.base.model.importer import NEW_CODE
from neat_delta.core.base.model.provenance import Provenance
from neat_delta.core.base.model.rules import RuleText
from neat_delta.core.base.model.schemas import PROBLEMS, WORKED, Schema, conform, empty
from neat_delta.core.base.model.store import Key
from neat_delta.core.base.support.errors import CatalogueError
from neat_delta.core.base.support.series import gathered
from neat_delta.core.sheets.match.keys import KeyIndex

if TYPE_CHECKING:
    from neat_delta.core.base.model.changeset import ChangeSet
    from neat_delta.core.base.model.header import SetAside

__all__ = ["Overlap", "Part", "combine"]

Overlap = Literal["hold", "first", "last"]
"""What holds where two sheets say different things of one cell: neither, or the first or the last of them."""

KeyTexts = tuple[str, ...]


@dataclass(frozen=True, slots=True)
class Part:
    """A sheet or list of a round: its name, what it changes by itself, and, of a list, under the fields' names what it
    says of each item besides its key, as a list states what is the same, too (None: a sheet that was edited).
    """

    name: str
    changes: ChangeSet
    stated: pl.DataFrame | None = None


@dataclass(slots=True)
class _Cell:
    """What a sheet says of a cell: which one, the text, why it is held there."""

    part: int
    text: str
    held: str | None = None


@dataclass(slots=True)
class _Combined:
    """What all parts say, by key; the problems of items and cells; the steps by which cells came about."""

    cells: dict[KeyTexts, dict[str, list[_Cell]]] = field(default_factory=dict)
    items: dict[KeyTexts, list[tuple[int, str]]] = field(default_factory=dict)
    live_rows: dict[KeyTexts, int | None] = field(default_factory=dict)
    steps: list[tuple[KeyTexts, str, int, int, list[str | None], str]] = field(default_factory=list)
    rules: list[RuleText] = field(default_factory=list)


def combine(live: Catalogue, parts: Sequence[Part], overlap: Overlap = "hold") -> Catalogue:
    """One sheet of what all parts change, under the fields' names, for `compare`: an item a row, what none of them says
    as `live` has it (its own, under the fields' names). CatalogueError where a part says that items are gone: that the
    others lack them means nothing.

    >>> from neat_delta import as_catalogue, compare
    >>> live = as_catalogue({"sku": ["QA-1", "QA-2"], "price": ["9.90", "20.00"], "stock": ["4", "5"]}, "live")
    >>> prices = compare(live, as_catalogue({"sku": ["QA-1"], "price": ["10.50"]}, "prices"))
    >>> counts = compare(live, as_catalogue({"sku": ["QA-1", "QA-2"], "stock": ["3", "5"]}, "counts"))
    >>> combine(live, [Part("prices", prices), Part("counts", counts)]).cells.rows()
    [('QA-1', '10.50', '3')]
    """
    key = parts[0].changes.header.key
    combined = _Combined()
    for number, part in enumerate(parts):
        _must_fit(part, live, key)
        _add_changes(combined, number, part, key)
    for number, part in enumerate(parts):
        if part.stated is not None:
            _add_stated(combined, number, part.stated, key, live, parts[0].changes.header.compared_by.ignore_case)
    return _sheet_of(combined, live, parts, key, overlap)


def _must_fit(part: Part, live: Catalogue, key: Sequence[str]) -> None:
    """CatalogueError where a part cannot be one of several."""
    header = part.changes.header
    if list(header.key) != list(key):
        raise CatalogueError(
            f"{part.name}: its items are known by {listed(header.key)}, and those of the sheet before it by "
            f"{listed(key)}. Name one ‹key› for the whole round."
        )
    lacking = [name for name in header.fields if name not in live.fields]
    if lacking:
        raise CatalogueError(
            f"{part.name}: {listed(lacking)} is no field of live. Name it with ‹add_field› for the whole round."
        )
    if (part.changes.items["verdict"] == "gone").any():
        raise CatalogueError(
            f"{part.name}: it is meant to have every item, and it is not the only sheet of this round. Leave ‹whole› "
            "out, or make a round of its own of it."
        )


def _add_changes(combined: _Combined, number: int, part: Part, key: Sequence[str]) -> None:
    """What a part changes, and what is held of it."""
    changes = part.changes
    keys = list(changes.keys.iter_rows())
    columns = changes.items.select("verdict", "live", "held")
    for texts, (_, row, held) in zip(keys, columns.iter_rows(), strict=True):
        combined.cells.setdefault(texts, {})
        combined.live_rows.setdefault(texts, row)
        if held is not None:
            combined.items.setdefault(texts, []).append((number, held))
    cells = changes.cells.select("item", pl.col("field").cast(pl.String), "after", "held")
    for item, name, after, held in cells.iter_rows():
        called = NEW_CODE if name in key else name
        combined.cells[keys[item]].setdefault(called, []).append(_Cell(number, after or "", held))
    start = len(combined.rules)
    combined.rules += changes.header.rules
    steps = changes.computed.select("item", pl.col("field").cast(pl.String), "rule", "inputs", "result")
    for item, name, rule, inputs, result in steps.iter_rows():
        if name not in key:
            combined.steps.append((keys[item], name, number, start + rule, inputs, result))


def _add_stated(
    combined: _Combined, number: int, stated: pl.DataFrame, key: Sequence[str], live: Catalogue, ignore_case: bool
) -> None:
    """Of cells that other parts change, what a list says of them that is as live has it."""
    wanted = [texts for texts, cells in combined.cells.items() if combined.live_rows[texts] is not None and cells]
    if not wanted:
        return
    index = KeyIndex.of(stated.select(key), Key(list(key), ignore_case=ignore_case))
    table = pl.DataFrame(wanted, schema=dict.fromkeys(key, pl.String), orient="row")
    places = index.lookup(table)
    rows = live.place(pl.Series([combined.live_rows[texts] for texts in wanted], dtype=pl.Int64))
    for texts, place, row in zip(wanted, places, rows, strict=True):
        for name, cells in combined.cells[texts].items() if place is not None and row is not None else ():
            if name not in stated.columns or any(cell.part == number for cell in cells):
                continue
            if str(stated[name][place] or "").strip():  # a blank says nothing
                cells.append(_Cell(number, live.cells[name][row]))
                cells.sort(key=lambda cell: cell.part)


def _sheet_of(
    combined: _Combined, live: Catalogue, parts: Sequence[Part], key: Sequence[str], overlap: Overlap
) -> Catalogue:
    """The sheet, with what could not be settled."""
    places = dict(
        zip(combined.live_rows, live.place(pl.Series([*combined.live_rows.values()], dtype=pl.Int64)), strict=True)
    )
    if not places and live.height:  # nothing is changed: an item as it is says so
        texts = live.select(key).row(0)
        places[texts], combined.cells[texts] = 0, {}
    order = sorted(places, key=lambda texts: (places[texts] is None, places[texts] or 0))
    others = [name for name in live.fields if name not in key]
    fields = [name for name in others if any(name in cells for cells in combined.cells.values())] or others[:1]
    columns = {name: [texts[at] for texts in order] for at, name in enumerate(key)}
    in_live = (
        gathered(live.select(fields), pl.Series([places[texts] for texts in order], dtype=pl.Int64)) if fields else None
    )
    columns |= {name: [text or "" for text in in_live[name]] for name in fields} if in_live is not None else {}
    if any(NEW_CODE in cells for cells in combined.cells.values()):
        columns[NEW_CODE] = [""] * len(order)
    problems = list[tuple[int, str | None, str, str, str]]()
    taken = dict[tuple[KeyTexts, str], int]()
    for place, texts in enumerate(order):
        problems += [(place, None, "sheet", parts[number].name, why) for number, why in combined.items.get(texts, ())]
        for name, cells in combined.cells[texts].items():
            chosen, why = _chosen(cells, parts, overlap)
            if name in columns:
                columns[name][place] = chosen.text
                taken[texts, name] = chosen.part
            if why is not None:
                problems.append((place, key[0] if name == NEW_CODE else name, "sheet", *why))
    row_places = {texts: place for place, texts in enumerate(order)}
    of_rules: dict[tuple[KeyTexts, str, int], list[tuple[int, list[str | None], str]]] = {}
    for texts, name, part, rule, inputs, result in combined.steps:
        of_rules.setdefault((texts, name, part), []).append((rule, inputs, result))
    rules, of_sheet = list(combined.rules), dict[tuple[int, str], int]()
    steps, computed_rows = list[tuple[int, str, int, int, list[str | None], str]](), dict[str, list[int]]()
    for (texts, name), part in taken.items():
        place, of_cell = row_places[texts], of_rules.get((texts, name, part), [])
        if of_cell:
            computed_rows.setdefault(name, []).append(place)
        elif (part, name) not in of_sheet:
            of_sheet[part, name] = len(rules)
            rules.append(RuleText(parts[part].name, name, why="the sheet that has it"))
        own = of_cell or [(of_sheet[part, name], list[str | None](), columns[name][place])]
        steps += [(place, name, step, *parts_of) for step, parts_of in enumerate(own)]
    cells_table = pl.DataFrame(columns, schema=dict.fromkeys(columns, pl.String))
    height = cells_table.height
    everything = pl.int_range(height, eager=True)
    aside = [_set_aside(part, row) for part in parts for row in part.changes.header.set_aside if row.file == "sheet"]
    provenance = Provenance(
        computed={name: everything.is_in(sorted({*rows})) for name, rows in computed_rows.items()},
        worked=_table(steps, WORKED),
        problems=_table(problems, PROBLEMS),
        rules=rules,
        set_aside=aside,
    )
    name = " + ".join(part.name for part in parts)
    return Catalogue(
        cells_table,
        name,
        lambda: "",
        notes=(f"made of {listed([part.name for part in parts])}",),
        provenance=provenance,
    )


def _table(rows: Sequence[tuple[object, ...]], schema: Schema) -> pl.DataFrame:
    return conform(pl.DataFrame(rows, schema=dict(schema), orient="row"), schema) if rows else empty(schema)


def _set_aside(part: Part, row: SetAside) -> SetAside:
    """A row of a part that was set aside, with the part's name."""
    return msgspec.structs.replace(row, reason=f"{part.name}: {row.reason}")


def _chosen(cells: Sequence[_Cell], parts: Sequence[Part], overlap: Overlap) -> tuple[_Cell, tuple[str, str] | None]:
    """Which of those that say something of a cell counts; and why it is held, if it is: by which sheet, and what."""
    if len({cell.text for cell in cells}) == 1:
        held = next((cell for cell in cells if cell.held is not None), None)
        return cells[0], None if held is None else (parts[held.part].name, str(held.held))
    if overlap == "hold":
        values = ", ".join(f"{parts[cell.part].name} has {cell.text or '(blank)'}" for cell in cells)
        return cells[0], ("two sheets", values)
    winner = cells[0] if overlap == "first" else cells[-1]
    return winner, None if winner.held is None else (parts[winner.part].name, winner.held)
