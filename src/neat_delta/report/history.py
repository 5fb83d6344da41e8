"""Rounds that are kept, on the terminal: which there were, one of them step by step, and what they did to an item."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import PurePath
from typing import TYPE_CHECKING

from rich.cells import cell_len
from rich.text import Text

from neat_delta.core.base.model.history import BETWEEN
from neat_delta.report.console import print_some, result_table
from neat_delta.report.text import count, cut, display_text

if TYPE_CHECKING:
    from neat_delta.core.base.model.history import HistoryCell, HistoryChange, SetLater
    from neat_delta.core.base.model.rounds import RoundStep, RoundSummary
    from neat_delta.report.terminal import Screen

__all__ = ["print_cells", "print_going_back", "print_last_changes", "print_later", "print_round_steps", "print_rounds"]

STATES = {
    "begun": "broken off",
    "compared": "nothing written",
    "waits": "waits",
    "written": "written",
    "delivering": "broken off",
    "delivered": "delivered",
    "open": "not all landed",
    "done": "done",
    "failed": "failed",
    "closed": "closed",
}
"""How far a round is, in words."""

STYLES = {
    "waits": "magenta",
    "begun": "magenta",
    "delivering": "magenta",
    "open": "yellow",
    "failed": "red",
    "done": "green",
}


def print_rounds(console: Screen, rounds: Sequence[RoundSummary], room: int | None) -> None:
    """The rounds as a table, the last ones or all (None)."""
    table = result_table("round", "day", "what", "sent", "held", "landed", "undo", "", right=(0, 3, 4, 5, 6))
    table.columns[2].no_wrap, table.columns[2].max_width = False, max(12, console.width - 60)
    listed = rounds if room is None else rounds[-room:]
    for round_ in listed:
        table.add_row(
            str(round_.number),
            round_.day,
            Text(sources_said(round_)),
            "" if round_.state in {"begun", "compared"} else f"{round_.sent:,}",
            f"{round_.held:,}" if round_.held else "",
            "" if round_.landed is None else f"{round_.landed:,}",
            f"{round_.undone:,}" if round_.undone else "",
            Text(STATES[round_.state], STYLES.get(round_.state, "")),
        )
    console.print(table)
    if len(listed) < len(rounds):
        console.print(f"  and {count(len(rounds) - len(listed), 'earlier round')}; -v lists them")


def sources_said(round_: RoundSummary) -> str:
    """What a round was about: the round file that it was of, and its sheets and lists."""
    names = ", ".join(display_text(PurePath(name).name) for name in round_.sheets) or "rules"
    return names if round_.by in {"compare", "write", "deliver"} else f"{round_.by}: {names}"


def print_round_steps(
    console: Screen, round_: RoundSummary, steps: Sequence[RoundStep], cells: Sequence[HistoryChange]
) -> None:
    """One round, step by step, and the cells of it."""
    console.print(
        f"Round {round_.number}, begun on {round_.at.replace('T', ' at ').rstrip('Z')} UTC: {STATES[round_.state]}",
        style="bold",
    )
    table = result_table("  at", "step", "")
    for step in steps:
        table.add_row(
            f"  {step.at[5:16].replace('T', ' ')}", STEP_WORDS[step.step], Text(step_said(step), overflow="fold")
        )
    table.columns[2].no_wrap = False
    console.print(table)
    if cells:
        print_cells(console, cells, "cells", with_round=False)


STEP_WORDS = {
    "waits": "waits for",
    "confirmed": "looked at",
    "began": "began",
    "fetched": "has",
    "undone": "undo written",
}
STEP_WORDS |= {
    name: name for name in ("compared", "answered", "written", "delivering", "delivered", "failed", "closed")
}


def step_said(step: RoundStep) -> str:
    """What a step did, in a line."""
    counts, names = step.counts, ", ".join(f"{entry.role} {display_text(entry.name)}" for entry in step.inputs)
    of_items = f"{{}} of {count(counts.get('items', 0), 'item')}"
    words = {
        "began": f"by {step.by}",
        "compared": of_items.format(count(counts.get("cells", 0), "cell"))
        + f" to send, {counts.get('held', 0):,} held",
        "written": f"{step.folder}: " + of_items.format(count(counts.get("sent", 0), "cell")),
        "delivering": f"to {display_text(step.to)}",
        "delivered": f"to {display_text(step.to)}",
        "confirmed": f"{counts.get('landed', 0):,} landed, {counts.get('otherwise', 0):,} did not"
        + (f": {names}" if names else ""),
        "undone": f"{count(counts.get('undone', 0), 'cell')}: {step.folder}",
    }
    words_said = words.get(step.step, names)
    return "; ".join([*([words_said] if words_said else []), *step.why])


def print_cells(console: Screen, cells: Sequence[HistoryChange], title: str, *, with_round: bool = True) -> None:
    """Cells as rounds changed them, the last of them or all; of one round, the first of them. A column that says the
    same in every row stands in the title.
    """
    room = console.room(20)
    listed = cells if room is None else cells[-room:] if with_round else cells[:room]
    columns = {
        "round": [str(cell.round) for cell in listed] if with_round else [],
        "day": [cell.day for cell in listed] if with_round else [],
        "item": [display_text(" / ".join(cell.key)) for cell in listed],
        "field": [cell.field or "(item)" for cell in listed],
        "before": [_text(cell.before) for cell in listed],
        "after": [_text(cell.after) for cell in listed],
        "what became of it": [state_said(cell) for cell in listed],
    }
    asked = {"item", "field"} if with_round else set()
    kept = {name: texts for name, texts in columns.items() if texts and not (name in asked and len({*texts}) == 1)}
    widths = {name: max(map(cell_len, [name, *texts])) for name, texts in kept.items()}
    became = "what became of it"
    room_at_all = console.width - sum(width + 2 for name, width in widths.items() if name != became) - 4
    state_width = min(widths[became], max(len(became), room_at_all - 12))
    names = [name for name in kept if name != became]
    table = result_table(f"  {names[0]}", *names[1:], "by", became)
    for column, width in ((-1, state_width), (-2, max(8, room_at_all - state_width))):  # in full, on several lines
        table.columns[column].no_wrap, table.columns[column].max_width = False, width
        table.columns[column].overflow = "fold"
    for place, cell in enumerate(listed):
        first, *rest = [kept[name][place] for name in names]
        table.add_row(f"  {first}", *rest, Text(origin_said(cell), "dim"), Text(state_said(cell), _style(cell)))
    console.print(f"\n{title}", style="bold")
    console.print(table)
    console.print_rest(len(cells), room)


def _text(text: str | None) -> str:
    return "" if text is None else cut(display_text(text), 24)


def _style(cell: HistoryChange) -> str:
    if cell.undone:
        return "dim"
    return {"landed": "green", "written": "", "sent": "", "to be sent": ""}.get(cell.state, "magenta")


def state_said(cell: HistoryChange) -> str:
    """What became of a cell, in words."""
    return f"{cell.state}; undo written" if cell.undone else cell.state


def origin_said(cell: HistoryChange) -> str:
    """Where a cell came from: the rule, the sheets and lists of its round, and who said yes."""
    names = ", ".join(PurePath(name).name for name in cell.sheets)
    rule = PurePath(cell.rule).name if cell.rule in cell.sheets else cell.rule
    origin = rule if rule and (len(cell.sheets) != 1 or rule == names) else f"{rule} ({names})" if rule else names
    signed = ", ".join(PurePath(name).name for name in cell.signed)
    return display_text(f"{origin}; yes: {signed}" if signed else origin or "rules")


def went_back_said(cell: HistoryCell) -> str:
    """What an earlier round did to a cell, in a line."""
    key = display_text(cell.key.replace(BETWEEN, " / "))
    before, after = display_text(cell.before or ""), display_text(cell.after or "")
    return f"{key}, {cell.field}: round {cell.number} ({cell.day}) changed this from {before} to {after}"


def print_going_back(console: Screen, back: Sequence[HistoryCell]) -> None:
    """The cells that go back to what an earlier round had changed them from."""
    print_some(
        console,
        "goes back to what it was before an earlier round",
        [Text(f"  {went_back_said(cell)}") for cell in back],
    )


def print_later(console: Screen, later: Sequence[SetLater]) -> None:
    """What later rounds set of what an undo leaves alone."""
    lines = []
    for entry in later:
        key, after = display_text(" / ".join(entry.key)), display_text(entry.after or "")
        lines.append(Text(f"  {key}, {entry.field}: round {entry.round} ({entry.day}) set {after}"))
    print_some(console, "set by a later round", lines)
    console.print()


def print_last_changes(console: Screen, cells: Sequence[HistoryCell]) -> None:
    """The last changes of an item by rounds."""
    lines = [
        Text(
            f"  round {cell.number} ({cell.day}): {cell.field or 'item'} {display_text(cell.before or '')} → "
            f"{display_text(cell.after or '')}, {cell.state}{'; undo written' if cell.undone else ''}"
        )
        for cell in cells
    ]
    print_some(console, "earlier rounds", lines, everything=True)
