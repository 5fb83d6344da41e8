"""`neat-delta compare`: two catalogues in, a change set and its summary out."""

from __future__ import annotations

import sys
from functools import partial
from importlib import import_module

import click

from neat_delta.cli.common import json_option, print_json, working

__all__ = ["compare"]


@click.command(epilog="\b\nExample, on the demo's files:\n  neat-delta compare live.csv sheet.csv -o changes.jsonl")
@click.argument("live")
@click.argument("sheet")
@click.option("-o", "--output", metavar="FILE", help="Write the change set to FILE (- for standard output).")
@click.option(
    "--key",
    multiple=True,
    metavar="FIELD",
    help="The field an item is known by; repeat it for a key of several fields.  [default: the SKU's heading]",
)
@click.option(
    "--blanks",
    type=click.Choice(["hold", "clear", "keep"]),
    default="hold",
    show_default=True,
    help="Cells emptied in SHEET: hold them, clear the field, or keep what live has.",
)
@click.option("--with-new", is_flag=True, help="Send items that only SHEET has.  [default: held]")
@json_option
def compare(
    live: str,
    sheet: str,
    output: str | None,
    key: tuple[str, ...],
    blanks: str,
    with_new: bool,
    as_json: bool,
) -> int:
    """Find what SHEET changes in LIVE, item by item.

    LIVE is the catalogue as the store exported it; SHEET is the edited copy, with any of its rows and
    columns in any order. Both are CSV in UTF-8, separated by comma, semicolon, tab or pipe.
    """
    from neat_delta.files.whole import in_background, load

    # Both files are fetched while Polars is being imported, and the second while the first is being parsed.
    fetching = [in_background(partial(load, path)) for path in (live, sheet)]
    report = in_background(partial(import_module, "neat_delta.report.terminal"))

    import neat_delta
    from neat_delta.core.errors import OutputError
    from neat_delta.files.changeset import change_lines

    if output and output != "-":
        _must_not_be_input(output, live, sheet)
    with working(f"Reading {live} and {sheet}"):
        live_catalogue, live_dialect = neat_delta.read_delimited(fetching.pop(0)())
        sheet_catalogue, sheet_dialect = neat_delta.read_delimited(fetching.pop(0)())
    with working("Comparing"):
        changes = neat_delta.compare(
            live_catalogue,
            sheet_catalogue,
            key=key,
            blanks=blanks,  # type: ignore[arg-type]
            with_new=with_new,
        )
    if output == "-":
        if as_json:
            raise OutputError("--json and -o - both want standard output. Give -o the name of a file.")
        for chunk in change_lines(changes):
            sys.stdout.buffer.write(chunk)
    elif output:
        neat_delta.write_changes(changes, output)
    header = changes.header
    held = header.counts.held_cells or changes.items["held"].count()
    if as_json:
        print_json({"output": output, "header": header, "held": changes.reasons()})
    elif output != "-":
        terminal = report()
        console = terminal.terminal()
        terminal.print_inputs(
            console,
            (live_catalogue, str(live_dialect)),
            (sheet_catalogue, str(sheet_dialect)),
            header.key,
            told=bool(key),
        )
        terminal.print_accounts(console, changes)
        terminal.print_notes(console, changes)
        if output:
            console.print(f"\nWrote {output}. Look at it:  neat-delta preview {output}", soft_wrap=True)
        else:
            console.print("\nNothing was written. To keep this:  add -o changes.jsonl", soft_wrap=True)
    return 1 if held or header.set_aside else 0


def _must_not_be_input(output: str, *inputs: str) -> None:
    from pathlib import Path

    from neat_delta.core.errors import OutputError

    place = Path(output)
    for name in inputs:
        if place.exists() and Path(name).exists() and place.samefile(name):
            raise OutputError(f"{output}: this is an input, and inputs are never modified. Name another file with -o.")
