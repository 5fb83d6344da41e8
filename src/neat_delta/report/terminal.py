"""What the commands print for a person: readable at 80 columns and without colour."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Literal

from rich.cells import cell_len
from rich.console import Console
from rich.table import Table
from rich.text import Text

from neat_delta.core.catalogue import Catalogue
from neat_delta.core.changes import ChangeSet, HeldCount, Item
from neat_delta.core.figures import FieldFigures, difference, per_cent
from neat_delta.core.manifest import Listed, Manifest
from neat_delta.report.text import count, cut, key_text, shown, signed
from neat_delta.report.view import View

__all__ = [
    "print_accounts",
    "print_figures",
    "print_inputs",
    "print_items",
    "print_notes",
    "print_rest",
    "print_written",
    "terminal",
]

WIDEST = 110
"""On a wider terminal a line would tear before and after apart from the difference."""

LISTED = 10
"""How many of a list's entries are shown before the rest is only counted."""

WAY_OUT = {
    "emptied": "blank in the sheet; --blanks clear or keep decides",
    "new": "only in the sheet; --with-new sends them",
    "gone": "only in live; an item is never removed",
}
"""What each reason for holding means, and how to have it otherwise."""


def terminal() -> Console:
    """A console for reports. Rich finds the width, and leaves colour out without a terminal or with NO_COLOR."""
    console = Console(highlight=False, markup=False, emoji=False, soft_wrap=False)
    console.width = min(console.width, WIDEST)
    return console


def print_inputs(
    console: Console,
    live: tuple[Catalogue, str],
    sheet: tuple[Catalogue, str],
    key: Sequence[str],
    *,
    told: bool,
) -> None:
    """What was read, how it was understood, and by which key it was matched."""
    for name, (catalogue, dialect) in (("live", live), ("sheet", sheet)):
        size = f"{count(catalogue.cells.height, 'row')}, {count(len(catalogue.fields), 'field')}, {dialect}"
        console.print(Text.assemble((f"{name:<7}", "bold"), f"{shown(catalogue.path)}: {size}"))
        for number in catalogue.unnamed:
            console.print(f"       column {number} has no heading and is left out")
    how = "" if told else "  (the heading says so; --key names another)"
    console.print(Text.assemble(("key    ", "bold"), ", ".join(shown(field) for field in key), how))
    console.print()


def print_accounts(console: Console, changes: ChangeSet) -> None:
    """How many rows were read and where each went."""
    header, counts = changes.header, changes.header.counts
    table = _table("", "live", "sheet", right=(1, 2))
    for name, live, sheet, style in (
        ("same", counts.same, counts.same, ""),
        ("changed", counts.changed, counts.changed, ""),
        ("new", None, counts.new, "green"),
        ("gone", counts.gone, None, "bright_red"),
        ("set aside", counts.set_aside_live, counts.set_aside_sheet, "magenta"),
    ):
        table.add_row(Text(name, style), *("·" if number is None else f"{number:,}" for number in (live, sheet)))
    table.add_section()
    table.add_row("rows read", f"{header.live.rows:,}", f"{header.sheet.rows:,}", style="bold")
    console.print(table)


def print_notes(console: Console, changes: ChangeSet) -> None:
    """What is held, what was set aside, which headings were left out."""
    header, counts = changes.header, changes.header.counts
    sent = counts.cells - counts.held_cells
    console.print(f"\n{count(counts.cells, 'changed cell')}: {sent:,} to send, {counts.held_cells:,} held")
    reasons = changes.reasons()
    if reasons:
        console.print("\nheld, with the way to have it otherwise", style="bold")
        _print_held(console, reasons)
    if counts.blanks_kept:
        console.print(
            f"  {'dropped':<9}{count(counts.blanks_kept, 'cell'):<19}blank in the sheet; live keeps its value"
        )
    if header.set_aside:
        console.print("\nset aside, because nobody can say which item is meant", style="bold")
        for row in header.set_aside[:LISTED]:
            where = f"  {row.file} row {row.row:,}"
            console.print(cut(f"{where:<18} {key_text(row.key):<18} {row.reason}", console.width))
        if len(header.set_aside) > LISTED:
            console.print(f"  and {len(header.set_aside) - LISTED:,} more, all in line 1 of the change set")
    if header.ignored or header.untouched:
        console.print()
    for title, names in (
        ("ignored, as live has no such heading", header.ignored),
        ("left alone, as the sheet lacks them", header.untouched),
    ):
        if names:
            console.print(Text(f"{title}: " + ", ".join(shown(name) for name in names)))


def print_figures(console: Console, figures: Sequence[FieldFigures]) -> None:
    """Per field how many cells change, and for numbers how far up and down."""
    table = _table("field", "cells", "held", "up", "at most", "down", "at most", right=(1, 2, 3, 4, 5, 6))
    for field in figures:
        table.add_row(
            cut(shown(field.field), 30),
            f"{field.cells:,}",
            f"{field.held:,}" if field.held else "",
            f"{field.up:,}" if field.up else "",
            signed(field.most_up),
            f"{field.down:,}" if field.down else "",
            signed(field.most_down),
        )
    console.print(table)


def print_items(console: Console, view: View, figures: Sequence[FieldFigures]) -> None:
    """Item by item: key, name, rows, and each cell before and after, with the difference for numbers."""
    number_fields = {field.field for field in figures if field.number}
    items = list(view.changes.each())
    widest = max((cell_len(shown(field)) for item in items for field in item.cells), default=0)
    for item, name in zip(items, view.names, strict=True):
        _print_head(console, item, name)
        held = {held.field: held.reason for held in item.held}
        for field, (before, after) in item.cells.items():
            line = Text("    ").append(cut(shown(field), 24).ljust(min(widest, 24) + 2), "dim")
            note = held.get(field)
            _print_cell(console, line, before, after or "", note, field in number_fields)


def print_rest(console: Console, printed: int, found: int, narrowed: bool) -> None:
    """How many items were shown of how many, and how to see the others."""
    if not found:
        console.print("No item fits." if narrowed else "Nothing differs.")
    elif printed < found:
        more = "--all shows them all; --field, --sku and --verdict narrow them down; --sort orders them"
        console.print(f"\n{printed:,} of {count(found, 'item')} shown. {more}.", style="bold")


def print_written(console: Console, folder: str, manifest: Manifest, dialect: str) -> None:
    """The files of an update folder, what is not in them, and what was proven."""
    if not manifest.update:
        console.print("Nothing is to be sent, so there is no update file.")
    for title, files in (("to import, in this order", manifest.update), ("to take it back", manifest.undo)):
        if files:
            table = _table(title, "rows", "cells", "fields", right=(1, 2))
            for file in files:
                fields = ", ".join(shown(field) for field in file.fields)
                table.add_row(Text(file.file), f"{file.rows:,}", f"{file.cells:,}", Text(fields, overflow="fold"))
            table.columns[3].no_wrap = False
            console.print(table)
            console.print()
    if len(manifest.update) > 1 and manifest.importer.blanks == "clear":
        console.print(
            "One file for each set of fields that change together, as a blank cell would\n"
            "empty its field. If your importer skips blanks, --importer-blanks skip makes it\n"
            "one file.\n"
        )
    if manifest.held_before:
        console.print("held by compare", style="bold")
        _print_held(console, manifest.held_before)
    _print_listed(console, "held here", manifest.held)
    _print_listed(console, "sent, but the undo cannot take it back", manifest.one_way)
    if manifest.update:
        back = "live again" + (", but for what is listed above" if manifest.one_way else "")
        console.print(Text("\nproven by replay on live", "bold green"))
        console.print("  the update files give exactly the target, and touch no other cell")
        console.print(f"  the undo files then give {back}\n")
    console.print(
        f"Wrote {count(len(manifest.update) + len(manifest.undo) + 1, 'file')} to {folder} ({dialect}).",
        soft_wrap=True,
    )


def _print_held(console: Console, reasons: Sequence[HeldCount]) -> None:
    for held in reasons:
        what = ", ".join(count(n, unit) for n, unit in ((held.items, "item"), (held.cells, "cell")) if n)
        console.print(Text.assemble((f"  {held.reason:<9}{what:<19}", "bold"), WAY_OUT.get(held.reason, "")))


def _print_listed(console: Console, title: str, listed: Sequence[Listed]) -> None:
    if not listed:
        return
    console.print(title, style="bold")
    for one in listed[:LISTED]:
        where = key_text(one.key) + (f", {shown(one.field)}" if one.field else "")
        console.print(cut(f"  {where}: {one.reason}", console.width))
    if len(listed) > LISTED:
        console.print(f"  and {len(listed) - LISTED:,} more, all in manifest.json")


def _print_head(console: Console, item: Item, name: str) -> None:
    style = {"changed": "", "new": "green", "gone": "bright_red"}[item.verdict]
    rows = " ".join(f"{file} row {row:,}" for file, row in (("live", item.row.live), ("sheet", item.row.sheet)) if row)
    verdict: str = "" if item.verdict == "changed" else item.verdict
    if any(held.field is None for held in item.held):
        verdict += ", held"
    tail = "  ".join(part for part in (verdict, rows) if part)
    key = key_text(item.key)
    room = console.width - cell_len(key) - cell_len(tail) - 4
    head = Text.assemble((key, f"bold {style}".strip()), "  ", cut(shown(name), max(room, 8)) if name else "")
    head.append(" " * max(2, console.width - cell_len(head.plain) - cell_len(tail)))
    console.print(head.append(tail, "dim"), overflow="ellipsis", no_wrap=True)


def _print_cell(console: Console, line: Text, before: str | None, after: str, note: str | None, number: bool) -> None:
    """A change on one line when it fits, else on two."""
    tail = ""
    if number and before is not None:
        step, share = difference(before, after), per_cent(before, after)
        tail = signed(step) + (f"  {signed(share, ' %'):>9}" if share is not None else "")
    if note:
        tail = f"held: {note}"
    new = shown(after)
    if before is None:
        console.print(line.append(cut(new, console.width - cell_len(line.plain))))
        return
    old = shown(before)
    room = console.width - cell_len(line.plain)
    both = cell_len(old) + 3 + cell_len(new)
    if both + (cell_len(tail) + 2 if tail else 0) <= room:
        line.append(old, "bright_red").append(" → ").append(new, "green")
        if tail:
            line.append(" " * (room - both - cell_len(tail))).append(tail, "magenta" if note else "")
        console.print(line)
        return
    indent = cell_len(line.plain)
    first, second = _around_the_difference(old, new, room - 2 - (cell_len(tail) + 2 if tail else 0))
    line.append("  ").append(first, "bright_red")
    console.print(line)
    below = Text(" " * indent).append("→ ").append(second, "green")
    if tail:
        below.append(" " * max(2, console.width - cell_len(below.plain) - cell_len(tail)))
        below.append(tail, "magenta" if note else "")
    console.print(below)


def _around_the_difference(before: str, after: str, room: int) -> tuple[str, str]:
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


def _table(*headings: str, right: Sequence[int] = ()) -> Table:
    """A plain table: no frame, a line under the headings, numbers to the right."""
    table = Table(box=None, pad_edge=False, padding=(0, 2, 0, 0), show_edge=False, header_style="bold")
    for number, heading in enumerate(headings):
        justify: Literal["right", "left"] = "right" if number in right else "left"
        table.add_column(heading, justify=justify, no_wrap=True)
    return table
