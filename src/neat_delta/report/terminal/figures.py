"""Figures: per field, in money, by groups, over places."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

from rich.cells import cell_len
from rich.text import Text

from neat_delta.report.facts import (
    Grid,
    changed_grid,
    field_grid,
    impact_grid,
    records_grid,
    records_said,
    suggestions_grid,
    totals_grid,
)
from neat_delta.report.text import count, display_text

if TYPE_CHECKING:
    from neat_delta.core.review.figures import FieldFigures
    from neat_delta.core.review.impact import ImpactFacts, Suggestion
    from neat_delta.core.review.records import Records
    from neat_delta.core.review.totals import Total
from neat_delta.report.console import LISTED, Screen, result_table

__all__ = [
    "print_changed_fields",
    "print_figures",
    "print_impact",
    "print_records",
    "print_suggestions",
    "print_totals",
]


def print_figures(console: Screen, figures: Sequence[FieldFigures]) -> None:
    """Per field how many cells change, and for numbers how far up and down."""
    if figures:
        _print_grid(console, field_grid(figures))
        console.print()


def print_changed_fields(console: Screen, figures: Sequence[FieldFigures]) -> None:
    """Per field how many cells are to be sent and how many are held, and for numbers the largest change."""
    if figures:
        console.print()
        _print_grid(console, changed_grid(figures))


def print_impact(console: Screen, effect: ImpactFacts, by: str | None) -> None:
    """What the round does to prices, margins and stock, over all and by group."""
    groups = effect.groups
    if not groups or not groups[0].items or (by is None and not any((groups[0].before.margin, groups[0].after.margin))):
        return
    unit = f", in {groups[0].currency}" if groups[0].currency else ""
    console.print(f"impact of what is sent{unit}; the margin is price less cost, of one of each", style="bold")
    room = console.room(LISTED + 1)
    _print_grid(console, impact_grid(groups[:room], by))
    if room is not None and len(groups) > room:
        console.print(f"and {len(groups) - room:,} more groups; -v lists them")
    console.print()


def print_suggestions(console: Screen, prices: Sequence[Suggestion], keep: str) -> None:
    """The prices that would keep the margin where the cost rose."""
    what = "share of the price" if keep == "percent" else "amount"
    console.print(f"where the cost rises: the price that keeps the margin's {what}", style="bold")
    room = console.room(2 * LISTED)
    _print_grid(console, suggestions_grid(prices[:room]))
    console.print_rest(len(prices), room, indent="")
    console.print("Nothing of this is applied.\n")


def print_totals(console: Screen, sums: Sequence[Total]) -> None:
    """What items come to over their locations, before and after."""
    if sums:
        room = console.room()
        _print_grid(console, totals_grid(sums, room))
        if room is not None and len(sums) > room:
            console.print(f"  and {count(len(sums) - room, 'more item')} of which the total changes; -v lists them")
        console.print()


def print_records(console: Screen, touched_records: Records) -> None:
    """The open quotes and customers' prices that a changed cost touches."""
    console.print(f"records in {display_text(touched_records.path)}: {records_said(touched_records)}", style="bold")
    if touched_records.touched:
        room = console.room(2 * LISTED)
        _print_grid(console, records_grid(touched_records, room))
        console.print_rest(len(touched_records.touched), room, indent="")
        what = "share of the price" if touched_records.keep == "percent" else "amount"
        console.print(f"The last column is the price that restores the margin's {what}. Nothing of this is applied.")
    console.print()


WIDEST_WORD = 28


def _print_grid(console: Screen, grid: Grid) -> None:
    """A small table; where the terminal is narrow the last column of words takes more lines, and no other."""
    columns = [list(texts) for texts in zip(grid.headings, *grid.rows, strict=True)]
    widths = [max(map(cell_len, texts)) for texts in columns]
    last = grid.words - 1
    room = console.width - sum(widths) + widths[last] - 2 * len(widths)
    table = result_table(*grid.headings, right=range(grid.words, len(grid.headings)))
    table.columns[last].no_wrap, table.columns[last].overflow = False, "fold"
    table.columns[last].max_width = max(8, min(room, WIDEST_WORD))
    for row in list(zip(*columns, strict=True))[1:]:
        table.add_row(*map(Text, row))
    console.print(table)
