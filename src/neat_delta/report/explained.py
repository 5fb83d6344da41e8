"""Computed cells in the terminal: one item step by step, what a trial comes to, what could not be worked out."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

from rich.padding import Padding
from rich.text import Text

from neat_delta.report.terminal import Screen, result_table
from neat_delta.report.text import count, cut, display_text, key_text

if TYPE_CHECKING:
    import polars as pl

    from neat_delta.core.base.model.changeset import ChangeSet
    from neat_delta.core.review.explain import ExplainedCell, ExplainedItem, Step, Trial

__all__ = ["print_explained", "print_trials", "print_unresolved"]

LISTED = 12
"""So many of what could not be worked out are listed."""


def print_explained(
    console: Screen, items: Sequence[ExplainedItem], raw: dict[int, dict[str, str]], *, by_rules: bool
) -> None:
    """Items with each computed cell step by step; `raw` are the rows as they came, by their number in the sheet. Where
    all was done `by_rules`, there was no sheet.
    """
    for item in items:
        places = [f"{name} row {row:,}" for name, row in _rows(item, by_rules=by_rules)]
        console.print(Text(key_text(item.key), "bold").append(f"  {', '.join(places)}", "dim"))
        came = raw.get(item.row.sheet or 0)
        if came:
            console.print("\n  the row as it came", style="bold")
            _print_pairs(
                console, [(display_text(name), display_text(text)) for name, text in came.items() if text.strip()]
            )
        for cell in item.cells:
            _print_cell(console, cell)
        if item.typed:
            console.print("\n  as it stands there, not computed", style="bold")
            _print_pairs(console, [(display_text(typed.field), _change(typed)) for typed in item.typed])
        if item.open_questions:
            console.print("\n  could not be worked out, so it stays as it is", style="bold magenta")
            for name, rule, what in item.open_questions:
                console.print(
                    Padding(
                        Text(f"{display_text(name or 'the row')}, by {display_text(rule)}: {display_text(what)}"),
                        (0, 0, 0, 4),
                    )
                )
        console.print()


def _rows(item: ExplainedItem, *, by_rules: bool) -> list[tuple[str, int]]:
    rows = [("live", item.row.live), ("sheet", None if by_rules else item.row.sheet)]
    return [(name, row) for name, row in rows if row]


def _print_pairs(console: Screen, pairs: Sequence[tuple[str, str]]) -> None:
    widest = min(max((len(name) for name, _ in pairs), default=0), 30)
    for name, text in pairs:
        line = Text("    ").append(cut(name, 30).ljust(widest + 2), "dim").append(text)
        console.print(line, overflow="fold")


def _change(cell: ExplainedCell) -> str:
    before = "(new)" if cell.before is None else display_text(cell.before) or "(blank)"
    return f"{before} → {display_text(cell.after or '') or '(blank)'}" + (f"  held: {cell.held}" if cell.held else "")


def _print_cell(console: Screen, cell: ExplainedCell) -> None:
    console.print()
    head = Text("  ").append(display_text(cell.field), "bold")
    before = "nothing" if cell.before is None else display_text(cell.before) or "(blank)"
    head.append(f"  live has {before}, and it becomes ").append(display_text(cell.after or "") or "(blank)", "green")
    if cell.held:
        head.append(f"  held: {cell.held}", "magenta")
    console.print(head, overflow="fold")
    for number, step in enumerate(cell.steps, 1):
        _print_step(console, number, step)


def _print_step(console: Screen, number: int, step: Step) -> None:
    rule = step.rule
    line = Text(f"    {number}. ").append(display_text(rule.rule), "bold")
    if rule.why:
        line.append(f"  {display_text(rule.why)}", "dim")
    console.print(line, overflow="fold")
    if rule.where:
        console.print(Text(f"       where {display_text(rule.where)}", "dim"), overflow="fold")
    named = [f"{display_text(name)} = {display_text(text) if text else '(blank)'}" for name, text in step.inputs]
    named += [f":{name} = {display_text(text)}" for name, text in rule.values.items()]
    if named:
        console.print(Text("       with " + ", ".join(named)), overflow="fold")
    parts = [*step.parts[:-1], (rule.expression or "", step.result)] if rule.expression else []
    widest = min(max((len(display_text(source)) for source, _ in parts), default=0), 60)
    for source, value in parts:
        line = Text("       ").append(display_text(source).ljust(widest), "dim").append(" = ")
        console.print(
            line.append("(blank)" if value in (None, "") else display_text(str(value)), "green"), overflow="fold"
        )
    if not parts:
        console.print(Text("       gives ").append(display_text(step.result) or "(blank)", "green"), overflow="fold")


def print_trials(console: Screen, changes: ChangeSet, names: pl.Series, shown_trials: Sequence[Trial]) -> None:
    """Per field a sample of the results, the least, the greatest, and those farthest from live's values; `names` are
    those of the items.
    """
    if not shown_trials:
        console.print("The rules change nothing.")
    for trial in shown_trials:
        complete = trial.sample.height == trial.cells
        parts = [("all of them" if complete else f"a sample of {trial.sample.height}", trial.sample)]
        if not complete:
            parts += [("the least", trial.least), ("the greatest", trial.greatest), ("the oddest", trial.oddest)]
        widest = max(len(names[item]) for _, cells in parts for item in cells["item"]) if trial.cells else 0
        console.print(Text(f"{display_text(trial.field)}: {count(trial.cells, 'cell')} would change\n", "bold"))
        headings = ["", *([""] if widest else []), "live has", "becomes", "times", ""]
        table = result_table(*headings, right=(2, 3, 4) if widest else (1, 2, 3))
        for title, cells in parts:
            if cells.height:
                table.add_row(Text(f"  {title}", "bold"))
                for row in cells.select("item", "before", "after", "held").iter_rows():
                    table.add_row(*_trial_cells(changes, names if widest else None, *row))
                table.add_section()
        console.print(table)
        console.print()


def _trial_cells(
    changes: ChangeSet, names: pl.Series | None, item: int, before: str | None, after: str, held: str | None
) -> list[Text]:
    key = key_text(changes.keys.row(item, named=True))
    name = [] if names is None else [Text(cut(display_text(names[item]), NAME_ROOM), "dim")]
    return [
        Text(f"    {key}"),
        *name,
        Text(display_text(before or "") or "(blank)", "bright_red"),
        Text(display_text(after) or "(blank)", "green"),
        Text(_times(before, after)),
        Text(f"held: {held}" if held else "", "magenta"),
    ]


NAME_ROOM = 30
"""So much of an item's name is shown."""


def _times(before: str | None, after: str) -> str:
    """How many times as much it becomes, of plain numbers."""
    from decimal import Decimal, InvalidOperation

    try:
        old, new = Decimal((before or "").replace(",", ".")), Decimal(after.replace(",", "."))
        return f"× {new / old:.2f}" if old else ""
    except (InvalidOperation, ValueError):
        return ""


def print_unresolved(console: Screen, changes: ChangeSet, most: int = LISTED) -> None:
    """What could not be worked out, item by item."""
    table = changes.unresolved
    if not table.height:
        return
    console.print(f"{count(table.height, 'cell')} could not be worked out, and stay as they are:", style="bold magenta")
    for key, row, name, rule, what in table.head(most).select("key", "row", "field", "rule", "what").iter_rows():
        item = " / ".join(display_text(part) for part in key)
        line = f"  {item}, row {row:,}, {display_text(name or 'all')}: {display_text(what)} ({rule})"
        console.print(Text(line), overflow="fold")
    if table.height > most:
        console.print(f"  and {table.height - most:,} more, all in the change set")
