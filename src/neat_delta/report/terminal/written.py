"""What was written, and what was left out of it."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

from rich.table import Table
from rich.text import Text

from neat_delta.core.base.model.changeset import (
    HeldCount,
)
from neat_delta.report.facts import (
    held_lines,
)
from neat_delta.report.text import count, display_text, key_text

if TYPE_CHECKING:
    from neat_delta.core.base.model.manifest import Listed, Manifest, OutFile
from neat_delta.report.console import Screen, print_entries, print_some, result_table

__all__ = ["print_contradictions", "print_held", "print_written"]


FOR = {"recode": "new codes", "change": "changes", "add": "new items", "remove": "removals"}
"""What a file is imported for."""


def print_written(console: Screen, folder: str, manifest: Manifest, dialect: str) -> None:
    """The files of an update folder, what is not in them, and what was proven."""
    if not manifest.update:
        console.print("Nothing is to be sent, so there is no update file.")
    elif console.detail != "waiting":
        _print_files(console, "to import, in this order", manifest.update)
        mirrored = list(map(_size, manifest.undo)) == list(map(_size, manifest.update))
        if mirrored and console.detail != "all":
            files = list(dict.fromkeys((manifest.undo[0].file, manifest.undo[-1].file)))
            takes = "takes" if len(files) == 1 else "take"
            console.print(f"{' to '.join(files)}, of the same rows and fields, {takes} it back")
        else:
            _print_files(console, "to take it back", manifest.undo)
        _print_cells(console, manifest)
    if manifest.held_before:
        lines = held_lines(manifest.held_before)
        if console.detail == "usual" and manifest.update:
            held = "; ".join(f"{line.reason} {line.much}" for line in lines)
            console.print(f"not in them, held by compare: {held}")
        else:
            console.print()
            console.print("held by compare", style="bold")
            print_held(console, manifest.held_before)
    console.print()
    _print_listed(console, "held here", manifest.held)
    _print_listed(console, "sent, but the undo cannot take it back", manifest.one_way)
    if manifest.update and console.detail != "waiting":
        back = "live again" + (", but for what is listed above" if manifest.one_way else "")
        console.print(Text("proven by replay on live", "bold green"))
        console.print("  the update files give exactly the target, and touch no other cell")
        console.print(f"  the undo files then give {back}\n")
    console.print(
        f"Wrote {count(len(manifest.update) + len(manifest.undo) + 2, 'file')} to {folder} ({dialect}).",
        soft_wrap=True,
    )


def _size(file: OutFile) -> tuple[str, int, int, list[str]]:
    """What two files have in common that mirror each other."""
    return file.action, file.rows, file.cells, file.fields


def _print_files(console: Screen, title: str, files: Sequence[OutFile]) -> None:
    if not files:
        return
    table = result_table(title, "for", "rows", "cells", "fields", right=(2, 3))
    for file in files:
        fields = Text(", ".join(display_text(field) for field in file.fields), overflow="fold")
        table.add_row(Text(file.file), FOR[file.action], f"{file.rows:,}", f"{file.cells:,}", fields)
    table.columns[4].no_wrap = False
    console.print(table)
    console.print()


def _print_cells(console: Screen, manifest: Manifest) -> None:
    """How many cells are imported and what for, and why they stand in so many files."""
    counts = manifest.cells
    parts = (
        (counts.changed, "changed"),
        (counts.keys, "key"),
        (counts.required, "required"),
        (counts.carried, "carried along"),
    )
    counted = ", ".join(f"{number:,} {what}" for number, what in parts if number)
    console.print(f"cells to import: {counted}")
    many = sum(file.action == "change" for file in manifest.update)
    if many > manifest.most_files:
        console.print(
            f"More files than --most-files {manifest.most_files}: a blank cell would empty its field, and a field "
            "is never carried along that is locked, moves by itself, is told as a difference, or has a cell held."
        )
    elif many > 1 and manifest.importer.blanks == "clear":
        console.print(
            "Several files, as a blank cell would empty its field. Fewer: --most-files N, or a higher --file-cost, "
            "which carry cells along.\nOnly if you are certain that your importer skips blanks, --importer-blanks "
            "skip makes it one."
        )


def print_contradictions(console: Screen, manifest: Manifest) -> None:
    """Where reviewers said different things (one no is a no, of two choices none is taken); and their comments."""
    lines = []
    for contradiction in manifest.contradictions:
        line = Text(
            f"  {key_text(contradiction.key)}"
            + ("" if contradiction.field is None else f"  {display_text(contradiction.field)}")
            + ": "
        )
        lines.append(line.append("; ".join(f"{answer} in {display_text(path)}" for path, answer in contradiction.said)))
    title = "reviewers said different things; not sent, as one no is a no and of two choices none is taken"
    print_some(console, title, lines)
    comments = []
    for comment in manifest.comments:
        where = key_text(comment.key) + ("" if comment.field is None else f"  {display_text(comment.field)}")
        comments.append(Text(f"  {where}: {display_text(comment.comment)}  ({display_text(comment.file)})"))
    print_some(console, "reviewers' comments", comments)
    if lines or comments:
        console.print()


def print_held(console: Screen, reasons: Sequence[HeldCount]) -> None:
    """How much is held, by reason."""
    table = Table.grid(padding=(0, 2, 0, 0))
    for no_wrap in (True, True, False):
        table.add_column(no_wrap=no_wrap, overflow="fold")
    for line in held_lines(reasons):
        table.add_row(Text(f"  {line.reason}", "bold"), Text(line.much, "bold"), line.way_out)
    console.print(table)


def _print_listed(console: Screen, title: str, listed: Sequence[Listed]) -> None:
    if not listed:
        return
    console.print(title, style="bold")
    lines = []
    for unsent in listed:
        where = key_text(unsent.key) + (f", {display_text(unsent.field)}" if unsent.field else "")
        lines.append(Text(f"  {where}: {unsent.reason}"))
    print_entries(console, lines, console.room())
    console.print()
