"""The items one by one, before and after."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

from rich.cells import cell_len
from rich.padding import Padding
from rich.text import Text

from neat_delta.core.base.model.header import Header
from neat_delta.core.review.cells import CellView, ItemView, item_views
from neat_delta.report.console import Screen
from neat_delta.report.text import count, cut, display_text, key_text, signed
from neat_delta.report.words import Piece, added_and_removed, pieces

if TYPE_CHECKING:
    from neat_delta.core.review.facts import Facts
    from neat_delta.core.review.view import View


__all__ = ["around_the_difference", "print_items", "print_rest"]


def print_items(console: Screen, facts: Facts, view: View) -> None:
    """Item by item: key, name, rows, and each cell before and after, with the difference for numbers."""
    number_fields = {field.field for field in facts.figures if field.number}
    items = list(item_views(facts, view))
    widest = max((cell_len(display_text(cell.field)) for item in items for cell in item.cells), default=0)
    for item in items:
        _print_head(console, item)
        for cell in item.cells:
            line = Text("    ").append(cut(display_text(cell.field), 24).ljust(min(widest, 24) + 2), "dim")
            _print_cell(console, view.changes.header, cell, line, number=cell.field in number_fields)


def print_rest(console: Screen, printed: int, total: int, narrowed: bool) -> None:
    """How many items were shown of how many, and how to see the others."""
    if not total:
        console.print("No item fits." if narrowed else "Nothing differs.")
    elif printed < total:
        more = "--all shows them all; --field, --sku and --verdict narrow them down; --sort orders them"
        console.print(f"\n{printed:,} of {count(total, 'item')} shown. {more}.", style="bold")


def _print_head(console: Screen, item: ItemView) -> None:
    style = {"changed": "", "recoded": "cyan", "new": "green", "gone": "bright_red"}[item.verdict]
    rows = " ".join(f"{file} row {row:,}" for file, row in (("live", item.row.live), ("sheet", item.row.sheet)) if row)
    verdict: str = "" if item.verdict == "changed" else item.verdict
    if item.held is not None:
        verdict += ", held"
    tail = "  ".join(part for part in (verdict, rows) if part)
    key = key_text(item.key)
    room = console.width - cell_len(key) - cell_len(tail) - 4
    head = Text.assemble(
        (key, f"bold {style}".strip()), "  ", cut(display_text(item.name), max(room, 8)) if item.name else ""
    )
    head.append(" " * max(2, console.width - cell_len(head.plain) - cell_len(tail)))
    console.print(head.append(tail, "dim"), overflow="ellipsis", no_wrap=True)


def _print_cell(console: Screen, header: Header, cell: CellView, line: Text, *, number: bool) -> None:
    """A change, with how far it goes or why it is held; a long reason stands below it, in full."""
    tail = signed(cell.step) + (f"  {signed(cell.per_cent, ' %'):>9}" if cell.per_cent is not None else "")
    reason, indent = f"held: {cell.held}", cell_len(line.plain)
    change = cell_len(display_text(cell.before or "")) + 3 + cell_len(display_text(cell.after))
    room = console.width - indent
    if not cell.held:
        _print_change(console, header, cell, line, tail, number=number)
    elif min(change, room // 2) + cell_len(reason) + 2 <= room:
        _print_change(console, header, cell, line, reason, number=number)
    else:
        _print_change(console, header, cell, line, "", number=number)
        console.print(Padding(Text(reason, "magenta", overflow="fold"), (0, 0, 0, indent)))


def _print_change(console: Screen, header: Header, cell: CellView, line: Text, tail: str, *, number: bool) -> None:
    """A change on one line when it fits, else on two. What is held has not the colour of what comes."""
    field, before, after, note = cell.field, cell.before, cell.after, cell.held
    coming, new = "magenta" if note else "green", display_text(after)
    if before is None:
        console.print(line.append(cut(new, console.width - cell_len(line.plain))))
        return
    old = display_text(before)
    room = console.width - cell_len(line.plain)
    settings = header.settings.get(field)
    if settings is not None and settings.kind == "list" and before.strip() and after.strip():
        _print_list(console, line, added_and_removed(before, after, settings.separator or ","), tail)
        return
    both = cell_len(old) + 3 + cell_len(new)
    if both + (cell_len(tail) + 2 if tail else 0) <= room:
        line.append(old, "bright_red").append(" → ").append(new, coming)
        if tail:
            line.append(" " * (room - both - cell_len(tail))).append(tail, "magenta" if note else "")
        console.print(line)
        return
    indent = cell_len(line.plain)
    if not number and _print_pieces(console, line, pieces(before, after), tail, coming):
        return
    first, second = around_the_difference(old, new, room - 2 - (cell_len(tail) + 2 if tail else 0))
    line.append("  ").append(first, "bright_red")
    console.print(line)
    below = Text(" " * indent).append("→ ").append(second, coming)
    if tail:
        below.append(" " * max(2, console.width - cell_len(below.plain) - cell_len(tail)))
        below.append(tail, "magenta" if note else "")
    console.print(below)


def _print_list(console: Screen, line: Text, changed: tuple[list[str], list[str]], tail: str) -> None:
    """A list's change: what was added and what was removed; or that only its order is another one."""
    added, removed = ([display_text(value) for value in values] for values in changed)
    for sign, values, style in (("+", added, "green"), ("−", removed, "bright_red")):
        for value in values:
            line.append(f"{sign} {value}  ", style)
    if not (added or removed):
        line.append("the same values in another order  ")
    line.truncate(console.width - (cell_len(tail) + 2 if tail else 0), overflow="ellipsis")
    if tail:
        line.append(" " * max(2, console.width - cell_len(line.plain) - cell_len(tail))).append(tail, "magenta")
    console.print(line)


def _print_pieces(console: Screen, line: Text, places: Sequence[Piece], tail: str, coming: str) -> bool:
    """A long text's change: the words that differ, with a few around them; False where these are no shorter."""
    indent, most = cell_len(line.plain), PLACES
    if not 0 < len(places) <= 2 * most:
        return False
    for number, piece in enumerate(places[:most]):
        start = line if not number else Text(" " * indent)
        room = console.width - indent - 3
        lead, old, new, trail = (
            display_text(text) if text else "" for text in (piece.lead, piece.old, piece.new, piece.trail)
        )
        if cell_len(lead) > room // 4:
            lead = "…" + lead[-(room // 4) :]
        start.append(lead, "dim").append(cut(old, room // 3) or "∅", "bright_red")
        start.append(" → ").append(cut(new, room // 3) or "∅", coming).append(trail, "dim")
        start.truncate(console.width, overflow="ellipsis")
        console.print(start)
    rest = f"and {count(len(places) - most, 'more place')}" if len(places) > most else ""
    if rest or tail:
        below = Text(" " * indent + rest, "dim")
        below.append(" " * max(2, console.width - cell_len(below.plain) - cell_len(tail))).append(tail, "magenta")
        console.print(below if tail else Text(below.plain.rstrip(), "dim"))
    return True


PLACES = 3
"""So many places where a text differs are shown."""


def around_the_difference(before: str, after: str, room: int) -> tuple[str, str]:
    """Two long texts cut so that the first place where they differ can be seen."""
    if cell_len(before) <= room and cell_len(after) <= room:
        return before, after
    same = next(
        (n for n, (a, b) in enumerate(zip(before, after, strict=False)) if a != b),
        min(len(before), len(after)),
    )
    skip = max(0, same - room // 3)
    lead = "…" if skip else ""
    return cut(lead + before[skip:], room), cut(lead + after[skip:], room)
