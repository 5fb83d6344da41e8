"""A grid of typed cells, as workbooks hold them, and the catalogue that is in it."""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from itertools import chain
from typing import Any

import msgspec
import polars as pl

from neat_delta.core.base.model.catalogue import Origin, column_letter, listed
from neat_delta.core.base.model.layout import Format, Layout
from neat_delta.core.base.support.errors import CatalogueError
from neat_delta.core.base.support.series import scattered, true_places
from neat_delta.files.memory import digest
from neat_delta.files.readers.delimited import Text
from neat_delta.files.readers.dialect import header_place
from neat_delta.files.readers.headings import column_numbers, must_be_headings, unnamed_columns

__all__ = ["ERRORS", "MEMORY_COLUMN", "ORIGIN", "REMEMBERS", "Grid", "number", "to_text"]

ERRORS = ("#N/A", "#REF!", "#VALUE!", "#DIV/0!", "#NAME?", "#NULL!", "#NUM!", "#SPILL!", "#CALC!", "#GETTING_DATA")
"""What a spreadsheet shows where a formula failed."""

ORIGIN = "neat-delta"
"""The hidden sheet of a working sheet that says where it was cut from."""

ORIGIN_ROWS = {
    "path": "cut from",
    "blake3": "BLAKE3",
    "rows": "its rows",
    "fields": "its fields",
    "cut": "rows here",
}
REMEMBERS, MEMORY_COLUMN = "remembers (BLAKE3)", 2
"""Beside that word stands the digest of what the sheet remembers, which is in the third column, in pieces."""

"""What each fact of an origin is called there, in the first column; the second one has it."""

Value = str | float | int | bool | dt.date | dt.datetime | dt.time | dt.timedelta | None


@dataclass(slots=True)
class Grid:
    """One sheet of a workbook, by row and column from 0.

    `rows` are its typed cells. `displayed` are the cells whose text is not that of their value: codes with leading
    zeros by their format, errors. `uncomputed` are formulas without a value; `origin` are the cells of the sheet of
    that name. The rest is what a person should be told of.
    """

    rows: Sequence[Sequence[Value]]
    name: str
    others: list[str] = field(default_factory=list)
    displayed: dict[tuple[int, int], str] = field(default_factory=dict)
    uncomputed: list[tuple[int, int]] = field(default_factory=list)
    merged: list[str] = field(default_factory=list)
    hidden_rows: int = 0
    hidden_columns: list[int] = field(default_factory=list)
    filtered: bool = False
    origin: Sequence[Sequence[Value]] = ()


def number(value: float) -> str:
    """A spreadsheet's number as text, with its 15 digits at most, without exponent and without `.0`."""
    if value - value != 0:  # no number at all
        return ""
    text = f"{value:.15g}"
    if "e" in text:
        from decimal import Decimal

        text = f"{Decimal(text):f}"
    return "0" if text == "-0" else text


def _number_texts(values: list[float]) -> pl.Series:
    """`number` of many at once: only those that Polars would write otherwise are done one by one."""
    amounts = pl.Series(values, dtype=pl.Float64)
    texts = amounts.cast(pl.String).str.strip_suffix(".0")
    odd = (texts.str.len_bytes() > 15) | texts.str.contains("e", literal=True) | (texts == "-0") | ~amounts.is_finite()
    places = true_places(odd)
    return scattered(texts, places, [number(values[place]) for place in places]) if len(places) else texts


def _stamp(value: dt.datetime) -> str:
    return value.isoformat(timespec="seconds") if value.time() != dt.time() else value.date().isoformat()


def _length(value: dt.timedelta) -> str:
    seconds = round(value.total_seconds())
    return f"{seconds // 3600:02}:{seconds // 60 % 60:02}:{seconds % 60:02}"


TEXTS: dict[type, Callable[[Any], str]] = {
    str: str,
    float: number,
    int: str,
    bool: lambda value: "TRUE" if value else "FALSE",
    dt.datetime: _stamp,
    dt.date: dt.date.isoformat,
    dt.time: lambda value: value.isoformat(timespec="seconds"),
    dt.timedelta: _length,
    type(None): lambda _: "",
}


def to_text(grid: Grid, path: str, kind: Format, given: Layout | None = None) -> Text:
    """The table in a grid as texts: numbers without `.0`, dates by ISO 8601, the rest as a person sees it.

    CatalogueError when there is no table, or a formula in it has no value.
    """
    given = given or Layout()
    width = max((len(row) for row in grid.rows), default=0)
    if not width or not any(any(cell not in {"", None} for cell in row) for row in grid.rows):
        raise CatalogueError(f'{path}: the sheet "{grid.name}" is empty. {_elsewhere(grid)}')
    if grid.uncomputed:
        places = ", ".join(_cell(*place) for place in grid.uncomputed[:3])
        more = f" and {len(grid.uncomputed) - 3:,} more" if len(grid.uncomputed) > 3 else ""
        raise CatalogueError(
            f"{path}: the formula in {places}{more} has no computed value. Open the workbook in a spreadsheet, "
            "save it there, and use that file."
        )
    for row, column in grid.displayed:
        if row >= len(grid.rows) or column >= width:
            raise CatalogueError(f"{path}: the cell {_cell(row, column)} lies outside of its sheet. Save it again.")
    top = [
        [_display_text(grid, row, column, cell) for column, cell in enumerate(cells)]
        for row, cells in _first(grid.rows)
    ]
    place = given.header_line - 1 if given.header_line is not None else header_place(_padded(top, width))
    if place >= len(grid.rows):
        raise CatalogueError(f"{path}: there is no row {place + 1} for the header. Say with ‹header_line› which it is.")
    if place < 0:  # it has none
        header = column_numbers(width)
    else:
        header = [*top[place], *[""] * width][:width] if place < len(top) else _row(grid, place, width)
    must_be_headings(header, f"{path}, row {place + 1}")
    headings = [heading if heading.strip() else "" for heading in header]
    end = len(grid.rows)
    while end > place + 1 and all(cell in {"", None} for cell in grid.rows[end - 1]):
        end -= 1
    if end == place + 1:
        if grid.others:
            raise CatalogueError(
                f'{path}: the sheet "{grid.name}" has a header and no rows under it. {_elsewhere(grid)}'
            )
        raise CatalogueError(f"{path}: there is a header and no rows under it. Export it again.")
    texts = _texts(grid, place + 1, end, width)
    unnamed = unnamed_columns(headings)
    filled = [column for column in unnamed if (texts[column - 1] != "").any()]
    notes = _notes(grid, place) + [
        f"column {column_letter(bare_column)} has no heading and is left out" for bare_column in filled
    ]
    cells = {heading: column for heading, column in zip(headings, texts, strict=True) if heading}
    layout = Layout(header_line=place + 1, format=kind, sheet_name=grid.name)
    origin = _origin(grid)
    memory = _memory(grid) if origin is not None else None
    if memory == "":
        notes.append("what it remembers of the catalogue was lost when it was saved; ‹base› names what it was cut from")
    return Text(pl.DataFrame(cells), unnamed, layout, tuple(notes), origin, memory=memory or None)


def _memory(grid: Grid) -> str | None:
    """What a working sheet remembers, packed; "" where it is torn, None where there is none."""
    facts = {str(row[0]): row[1] for row in grid.origin if len(row) > 1}
    if not facts.get(REMEMBERS):
        return None
    text = "".join(str(row[MEMORY_COLUMN] or "") for row in grid.origin if len(row) > MEMORY_COLUMN)
    return text if digest(text) == facts[REMEMBERS] else ""


def _origin(grid: Grid) -> Origin | None:
    """Where a working sheet was cut from; None where its hidden sheet says nothing that can be understood."""
    origin_facts = {str(row[0]): row[1] for row in grid.origin if len(row) > 1}
    facts = {name: origin_facts.get(label) for name, label in ORIGIN_ROWS.items()}
    try:
        values = {name: int(value) if isinstance(value, int | float) else value for name, value in facts.items()}
        return msgspec.convert(values, Origin)
    except (msgspec.ValidationError, ValueError, OverflowError):  # no sheet of ours
        return None


def _texts(grid: Grid, start: int, end: int, width: int) -> list[pl.Series]:
    """The texts of the rows from `start` to before `end`, column by column."""
    body = [row if len(row) == width else [*row, *[None] * (width - len(row))] for row in grid.rows[start:end]]
    by_column: dict[int, dict[int, str]] = {}
    for (row, column), text in grid.displayed.items():
        if start <= row < end:
            by_column.setdefault(column, {})[row - start] = text
    flat = list(chain.from_iterable(body))
    columns = []
    for place in range(width):
        cells = flat[place::width]
        kinds = set(map(type, cells))
        if kinds == {float}:
            texts = _number_texts(cells)  # type: ignore[arg-type]
        elif kinds == {str}:
            texts = pl.Series(cells, dtype=pl.String)
        else:
            texts = pl.Series([TEXTS[type(cell)](cell) for cell in cells], dtype=pl.String)
        texts_shown = by_column.get(place)
        columns.append(scattered(texts, list(texts_shown), list(texts_shown.values())) if texts_shown else texts)
    return columns


def _first(rows: Sequence[Sequence[Value]]) -> list[tuple[int, Sequence[Value]]]:
    return list(enumerate(rows[:100]))


def _padded(rows: list[list[str]], width: int) -> list[list[str]]:
    return [[*row, *[""] * (width - len(row))] for row in rows]


def _row(grid: Grid, place: int, width: int) -> list[str]:
    texts = [_display_text(grid, place, column, cell) for column, cell in enumerate(grid.rows[place])]
    return [*texts, *[""] * (width - len(texts))]


def _display_text(grid: Grid, row: int, column: int, cell: Value) -> str:
    return grid.displayed.get((row, column)) or TEXTS[type(cell)](cell)


def _cell(row: int, column: int) -> str:
    return f"{column_letter(column + 1)}{row + 1}"


def _elsewhere(grid: Grid) -> str:
    names = listed([f'"{name}"' for name in grid.others], 8)
    return f"There are also: {names}. Name one with ‹sheet_name›." if names else "Save the table again."


def _notes(grid: Grid, place: int) -> list[str]:
    notes = []
    if grid.others:
        notes.append(f'read only the sheet "{grid.name}"; ‹sheet_name› reads another: {listed(grid.others, 8)}')
    if place:
        notes.append(("row 1 is" if place == 1 else f"rows 1 to {place} are") + " above the header and left out")
    hidden = [f"{grid.hidden_rows:,} hidden row{'s' * (grid.hidden_rows != 1)}"] if grid.hidden_rows else []
    if grid.hidden_columns:
        letters = listed([column_letter(n + 1) for n in grid.hidden_columns], 8)
        hidden.append(f"hidden column{'s' * (len(grid.hidden_columns) != 1)} {letters}")
    if hidden:
        notes.append(f"read like the others: {' and '.join(hidden)}{' (a filter is on)' if grid.filtered else ''}")
    if grid.merged:
        more = f" and {len(grid.merged) - 5:,} more" if len(grid.merged) > 5 else ""
        notes.append(f"merged cells hold their value only in the first: {', '.join(grid.merged[:5])}{more}")
    errors = [(place, text) for place, text in sorted(grid.displayed.items()) if text in ERRORS]
    if errors:
        first_errors = ", ".join(f"{_cell(*where)} {text}" for where, text in errors[:5])
        more = f" and {len(errors) - 5:,} more" if len(errors) > 5 else ""
        notes.append(f"{len(errors):,} cell{'s' * (len(errors) != 1)} with a formula that failed: {first_errors}{more}")
    return notes
