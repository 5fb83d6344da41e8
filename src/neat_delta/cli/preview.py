"""`neat-delta preview`: a change set as a person looks at it, or as a program reads it."""

from __future__ import annotations

import click

from neat_delta.cli.common import json_option, must_be_new, print_json, where_option, working

__all__ = ["preview"]

MOST = 20


@click.command(epilog="\b\nExample, on the demo's files:\n  neat-delta preview changes.jsonl --field price --sort size")
@click.argument("changes")
@click.option("--field", "fields", multiple=True, metavar="FIELD", help="Only changes of FIELD; may be repeated.")
@click.option("--sku", "skus", multiple=True, metavar="SKU", help="Only the item with this key; may be repeated.")
@click.option(
    "--verdict",
    "verdicts",
    multiple=True,
    type=click.Choice(["changed", "new", "gone"]),
    help="Only items of this verdict; may be repeated.",
)
@where_option
@click.option(
    "--sort",
    type=click.Choice(["file", "key", "name", "size"]),
    default="file",
    show_default=True,
    help="Order of the items: as in live, by key, by name, or largest change in per cent first.",
)
@click.option("--all", "everything", is_flag=True, help=f"Show every item.  [default: the first {MOST}]")
@click.option("--workbook", metavar="FILE", help="Write a workbook (.xlsx) to sign off: a line for each changed cell.")
@click.option("--replace", is_flag=True, help="Overwrite FILE if it is there.")
@click.option("--live", metavar="FILE", help="Where the live catalogue is now, for the items' names.")
@json_option
def preview(
    changes: str,
    fields: tuple[str, ...],
    skus: tuple[str, ...],
    verdicts: tuple[str, ...],
    where: str | None,
    sort: str,
    everything: bool,
    workbook: str | None,
    replace: bool,
    live: str | None,
    as_json: bool,
) -> int:
    """Look at CHANGES, before and after.

    First where every row went, then the figures per field, then item by item. In a condition, a field is what it will
    be after the change; before.price is what it was. A workbook has the same items, every one of them, with a column
    for yes or no; `write --signed-off` sends what was answered yes.
    """
    import polars as pl

    import neat_delta
    from neat_delta.core.errors import ChangeSetError, NeatDeltaError
    from neat_delta.core.expressions import condition, holds
    from neat_delta.files.whole import write_whole
    from neat_delta.report.view import names_of, rows_of, view
    from neat_delta.report.workbook import workbook as to_sign_off

    wanted = None if where is None else condition(where)
    if workbook is not None:
        must_be_new(workbook, ".xlsx", changes, replace=replace)
    with working(f"Reading {changes}"):
        found = neat_delta.read_changes(changes)
        for field in fields:
            if field not in found.header.fields:
                known = ", ".join(found.header.fields)
                raise ChangeSetError(f'{changes}: it has no field "{field}". Its fields are: {known}.')
        catalogue, no_names = None, ""
        try:
            catalogue = neat_delta.read_live(found, changes, live)
        except NeatDeltaError as error:
            if live or where is not None:
                raise
            no_names = str(error)
        chosen = None
        if wanted is not None and catalogue is not None:
            chosen = holds(wanted, rows_of(found, catalogue)).arg_true()
        seen = view(
            found,
            names_of(found, catalogue),
            wanted=chosen,
            fields=fields,
            keys=skus,
            verdicts=verdicts,
            sort=sort,  # type: ignore[arg-type]
            most=None if everything else MOST,
        )
        figures = neat_delta.figures(found)
        if workbook is not None:
            every = view(
                found,
                names_of(found, catalogue),
                fields=fields,
                wanted=chosen,
                keys=skus,
                verdicts=verdicts,
                sort=sort,  # type: ignore[arg-type]
            )
            write_whole(workbook, [to_sign_off(every.changes, pl.Series(every.names, dtype=pl.String))])
    if as_json:
        print_json(
            {
                "header": found.header,
                "held": found.reasons(),
                "fields": figures,
                "items_found": seen.found,
                "items": [
                    {"name": name, "item": item} for item, name in zip(seen.changes.each(), seen.names, strict=True)
                ],
            }
        )
        return 0
    from neat_delta.report import terminal as report

    console = report.terminal()
    narrowed = bool(fields or skus or verdicts or where)
    if not narrowed:
        report.print_accounts(console, found)
        report.print_findings(console, found)
        report.print_notes(console, found)
        console.print()
    if figures and not (skus or verdicts or where):
        report.print_figures(console, [one for one in figures if not fields or one.field in fields])
        console.print()
    report.print_items(console, seen, figures)
    report.print_rest(console, len(seen.names), seen.found, narrowed)
    if workbook is not None:
        console.print(
            f"\nWrote {workbook}. When it is answered:  neat-delta write {changes} --signed-off {workbook} --to out",
            soft_wrap=True,
        )
    if no_names:
        console.print(f"Names are not shown: {no_names}", soft_wrap=True)
    return 0
