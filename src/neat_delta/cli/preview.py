"""`neat-delta preview`: a change set as a person looks at it, or as a program reads it."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

import click

from neat_delta.cli.common import json_option, must_be_new, print_json, where_option, working

if TYPE_CHECKING:
    from polars import Series

    from neat_delta.core.catalogue import Catalogue
    from neat_delta.core.changes import ChangeSet
    from neat_delta.core.expressions import Condition
    from neat_delta.report.view import View

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
    "--check",
    "checks",
    multiple=True,
    metavar="CHECK",
    help="Only items in which CHECK found something: damage, slip, margin, …",
)
@click.option(
    "--level",
    "levels",
    multiple=True,
    type=click.Choice(["stop", "warn", "note"]),
    help="Only items with a finding of a check of this level; may be repeated.",
)
@click.option("--by", metavar="FIELD", help="The impact on each group of items with one value of FIELD, too.")
@click.option(
    "--keep-margin",
    "keep",
    type=click.Choice(["percent", "amount"]),
    help="Where a cost rises, the price that would keep the margin. Nothing is applied.",
)
@click.option(
    "--sort",
    type=click.Choice(["file", "key", "name", "size"]),
    default="file",
    show_default=True,
    help="Order of the items: as in live, by key, by name, or largest change in per cent first.",
)
@click.option("--all", "everything", is_flag=True, help=f"Show every item.  [default: the first {MOST}]")
@click.option("--workbook", metavar="FILE", help="Write a workbook (.xlsx) to sign off: a line for each changed cell.")
@click.option("--replace", is_flag=True, help="Overwrite the workbook if it is there.")
@click.option("--live", metavar="FILE", help="Where the live catalogue is now, for the items' names.")
@json_option
def preview(
    changes: str,
    fields: tuple[str, ...],
    skus: tuple[str, ...],
    verdicts: tuple[str, ...],
    where: str | None,
    checks: tuple[str, ...],
    levels: tuple[str, ...],
    by: str | None,
    keep: str | None,
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
    import neat_delta
    from neat_delta.core.impact import told
    from neat_delta.report.view import first, flagged, names_of, view

    wanted = _condition(where)
    if workbook is not None:
        must_be_new(workbook, ".xlsx", changes, replace=replace)
    with working(f"Reading {changes}"):
        found = neat_delta.read_changes(changes)
        needed = bool(live or where is not None or by is not None or keep is not None)
        catalogue, no_names = _live(found, changes, live, needed=needed)
        _must_be_there(changes, found.header.fields, fields, "it")
        _must_be_there(changes, catalogue.fields if catalogue else [], [by] if by is not None else [], "live")
        names = names_of(found, catalogue)
        every = view(
            found,
            names,
            wanted=_chosen(wanted, found, catalogue),
            flagged=flagged(found, checks, levels) if checks or levels else None,
            fields=fields,
            keys=skus,
            verdicts=verdicts,
            sort=sort,  # type: ignore[arg-type]
        )
        seen = every if everything else first(every, MOST)
        figures = neat_delta.figures(found)
        effect = told(found, catalogue, names.to_list(), by, keep)  # type: ignore[arg-type]
        if workbook is not None:
            _sign_off(every, workbook)
    if as_json:
        items = [{"name": name, "item": item} for item, name in zip(seen.changes.each(), seen.names, strict=True)]
        facts = {"header": found.header, "held": found.reasons(), "fields": figures, "impact": effect}
        print_json(facts | {"items_found": seen.found, "items": items})
        return 0
    from neat_delta.report import terminal as report

    console = report.terminal()
    narrowed = bool(fields or skus or verdicts or where or checks or levels)
    if not narrowed:
        report.print_accounts(console, found)
        report.print_findings(console, found)
        report.print_notes(console, found)
        console.print()
    if not (skus or verdicts or where or checks or levels):
        report.print_figures(console, [one for one in figures if not fields or one.field in fields])
    if not narrowed:
        report.print_impact(console, effect, by)
    if keep:
        report.print_suggestions(console, effect.suggestions, keep)
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


def _condition(where: str | None) -> Condition | None:
    if where is None:
        return None
    from neat_delta.core.expressions import condition

    return condition(where)


def _live(found: ChangeSet, changes: str, live: str | None, *, needed: bool) -> tuple[Catalogue | None, str]:
    """The live catalogue, or why there is none, where it is not needed."""
    import neat_delta
    from neat_delta.core.errors import NeatDeltaError

    try:
        return neat_delta.read_live(found, changes, live), ""
    except NeatDeltaError as error:
        if needed:
            raise
        return None, str(error)


def _must_be_there(changes: str, known: list[str], wanted: Sequence[str], what: str) -> None:
    from neat_delta.core.errors import ChangeSetError

    for field in wanted:
        if field not in known:
            raise ChangeSetError(f'{changes}: {what} has no field "{field}". Its fields are: {", ".join(known)}.')


def _chosen(wanted: Condition | None, found: ChangeSet, catalogue: Catalogue | None) -> Series | None:
    """The numbers of the items for which the condition holds; None where there is none."""
    if wanted is None or catalogue is None:
        return None
    from neat_delta.core.expressions import holds
    from neat_delta.report.view import rows_of

    return holds(wanted, rows_of(found, catalogue)).arg_true()


def _sign_off(every: View, path: str) -> None:
    """Write the workbook to sign off."""
    import polars as pl

    from neat_delta.files.whole import write_whole
    from neat_delta.report.workbook import workbook

    write_whole(path, [workbook(every.changes, pl.Series(every.names, dtype=pl.String))])
