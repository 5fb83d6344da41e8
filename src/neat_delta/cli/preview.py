"""`neat-delta preview`: a change set as a person looks at it, or as a program reads it."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from functools import partial
from typing import TYPE_CHECKING, Any

import click

from neat_delta.app.requests import PreviewRequest
from neat_delta.cli.common import (
    free_folder,
    header_facts,
    machine_options,
    make_folder,
    must_end_in,
    output_options,
    print_json,
    read_store_of_round,
    screen,
    skus_option,
    working,
)
from neat_delta.cli.keeping import joined_ledger, last_changes, ledger_option
from neat_delta.cli.options import argument, asked, option, settings_options, verb

if TYPE_CHECKING:
    from neat_delta.app.outputs import PreviewOutput
    from neat_delta.core.base.model.catalogue import Catalogue
    from neat_delta.core.base.model.changeset import ChangeSet
    from neat_delta.core.base.model.history import HistoryCell
    from neat_delta.core.review.facts import Facts
    from neat_delta.core.review.view import View
    from neat_delta.report.charts import Chart

__all__ = ["preview"]

MOST = 20

CHARTS = ("price-changes", "margins", "fields", "categories")


@verb(epilog="\b\nExample, on the demo's files:\n  neat-delta preview changes.jsonl --field price --sort size")
@argument("changes")
@option("--findings", is_flag=True, help="Show in full what was found: damage, slips, checks.")
@option("--all", "everything", is_flag=True, help=f"Show every item.  [default: the first {MOST}]")
@option(
    "--explain", "explained", metavar="SKU", help="Show how the computed cells of this item came about, step by step."
)
@option("--workbook", metavar="FILE", help="Write a workbook (.xlsx) to sign off: a line for each changed cell.")
@option("--page", metavar="FILE", help="Write a page (.html) for a browser: figures, charts and every item.")
@option("--charts", metavar="DIR", help="Write the charts (.png) into this folder.")
@option("--replace", is_flag=True, help="Overwrite the files to write if they are there.")
@option("--markdown", is_flag=True, help="Print it as Markdown, for a message or a ticket.")
@ledger_option
@machine_options
@output_options
@option("--live", metavar="FILE", help="Where the live catalogue is now, for the items' names.")
@option("--records", metavar="FILE", help="Open quotes or agreed prices by SKU: those that a changed cost touches.")
@settings_options(PreviewRequest)
@skus_option
def preview(
    changes: str,
    findings: bool,
    everything: bool,
    explained: str | None,
    workbook: str | None,
    page: str | None,
    charts: str | None,
    replace: bool,
    markdown: bool,
    as_json: bool,
    live: str | None,
    records: str | None,
    skus: str | None,
    **settings: Any,  # noqa: ANN401 - those of the request
) -> int:
    """Look at CHANGES, before and after.

    First where every row went and what waits for a person, then the figures per field of what is to be sent, then item
    by item. In a condition, a field is what it will
    be after the change; before.price is what it was. A page and a workbook have the same items, every one of them; the
    workbook has a column for yes or no, and `write --signed-off` sends what was answered yes.
    """
    import neat_delta
    from neat_delta.core.review.view import first
    from neat_delta.files.codes import read_codes

    if as_json and markdown:
        raise click.UsageError("--json and --markdown are two ways to print; choose one of them.")
    if explained is not None:
        return _explain(changes, explained, live, as_json=as_json)
    request = asked(PreviewRequest, settings)
    codes = [] if skus is None else read_codes(skus)
    outputs = [(workbook, ".xlsx"), (page, ".html")]
    outputs += [(f"{charts}/{name}.png", ".png") for name in CHARTS] if charts else []
    for path, ending in outputs:
        if path is not None:
            must_end_in(path, ending, changes)
    with working(f"Reading {changes}"):
        change_set = neat_delta.read_changes(changes)
        needed = bool(live or request.needs_live or charts or records)
        catalogue, no_names = _live(change_set, changes, live, needed=needed)
        quotes = neat_delta.read(records) if records is not None and catalogue else None
        facts = _facts(
            changes, partial(neat_delta.preview, change_set, catalogue, records=quotes, request=request, skus=codes)
        )
        seen = facts.view if everything else first(facts.view, MOST)
        written = _write(facts, workbook, page, charts, request.field, replace=replace)
    if as_json:
        print_json(_for_a_program(facts, seen))
        return 0
    if markdown:
        from neat_delta.report.message import message

        click.echo(message(facts, seen), nl=False)
        return 0
    _print(facts, seen, request, items_chosen=request.chooses_items or bool(codes), findings=findings)
    for line in written:
        click.echo(line)
    to_answer = workbook or page
    if to_answer is not None:
        from neat_delta.report.text import command

        send = command("write", changes, "--signed-off", workbook or "answers.json", "--to", free_folder("signed-off"))
        saves = "" if workbook else ", and its answers are saved as answers.json"
        click.echo(f"When {to_answer} is answered{saves}:  {send}")
    if no_names:
        click.echo(f"Names are not shown: {no_names}")
    return 0


def _explain(changes: str, sku: str, live: str | None, *, as_json: bool) -> int:
    """Show how the computed cells of an item came about, with its row as it came where the file is still the same, and
    what earlier rounds did to it.
    """
    import neat_delta
    from neat_delta.core.base.support.errors import ChangeSetError

    change_set = neat_delta.read_changes(changes)
    try:
        items = neat_delta.explain(change_set, sku)
    except ChangeSetError as error:
        raise ChangeSetError(f"{changes}: {error}.") from None
    earlier = _earlier(changes, [list(item.key.values()) for item in items], live)
    if as_json:
        from msgspec import UNSET

        from neat_delta.app.outputs import ExplainOutput
        from neat_delta.core.base.model.history import went_back

        rounds = UNSET if earlier is None else [went_back(cell) for cell in earlier]
        print_json(ExplainOutput(items=items, rounds=rounds))
        return 0
    from neat_delta.files.changeset import sheet_rows
    from neat_delta.report.explained import print_explained
    from neat_delta.report.history import print_last_changes

    rows = [item.row.sheet for item in items if item.row.sheet is not None]
    header = change_set.header
    print_explained(screen(), items, sheet_rows(header, changes, rows), by_rules=header.by_rules)
    print_last_changes(screen(), earlier or [])
    return 0


def _earlier(changes: str, keys: list[list[str]], live: str | None) -> list[HistoryCell] | None:
    """What rounds did to items before, if there is a ledger."""
    from neat_delta.core.base.model.history import BETWEEN
    from neat_delta.core.base.support.errors import NeatDeltaError

    try:
        ledger = joined_ledger(read_store_of_round(None, changes, live))
    except NeatDeltaError:  # which a preview needs for nothing else
        return None
    return None if ledger is None else last_changes([BETWEEN.join(key) for key in keys], ledger)


def _print(facts: Facts, seen: View, request: PreviewRequest, *, items_chosen: bool, findings: bool) -> None:
    """Print the preview for a person; of the summary what still is true of the items that were chosen."""
    from neat_delta.report import terminal as report

    console = screen()
    fields, keep = request.field, request.keep_margin
    narrowed = bool(fields) or items_chosen
    if console.detail == "waiting":
        report.print_clashes(console, facts.changes)
        report.print_findings(console, facts.changes)
        report.print_waiting(console, facts.changes)
        return
    if not narrowed:
        report.print_accounts(console, facts.changes)
        report.print_meanwhile(console, facts.changes)
        report.print_clashes(console, facts.changes)
        report.print_waiting(console, facts.changes)
        if not findings:
            report.print_findings_count(console, facts.changes.header)
        console.print()
    if not items_chosen:
        report.print_figures(console, [figures for figures in facts.figures if not fields or figures.field in fields])
    if not narrowed:
        report.print_impact(console, facts.effect, facts.by)
    report.print_totals(console, facts.totals)
    if findings:
        report.print_findings(console, facts.changes)
        console.print()
    if keep:
        report.print_suggestions(console, facts.effect.suggestions, keep)
    if facts.records is not None:
        report.print_records(console, facts.records)
    report.print_items(console, facts, seen)
    report.print_rest(console, len(seen.names), seen.matches, narrowed)


def _live(change_set: ChangeSet, changes: str, live: str | None, *, needed: bool) -> tuple[Catalogue | None, str]:
    """The live catalogue, or why there is none, where it is not needed."""
    import neat_delta
    from neat_delta.core.base.support.errors import NeatDeltaError

    try:
        return neat_delta.read_live(change_set, changes, live, deferred=True), ""
    except NeatDeltaError as error:
        if needed:
            raise
        return None, str(error)


def _facts(changes: str, gather: Callable[[], Facts]) -> Facts:
    """What is to be said; an error names the change set's file."""
    from neat_delta.core.base.support.errors import ChangeSetError

    try:
        return gather()
    except ChangeSetError as error:
        raise ChangeSetError(f"{changes}: {error}") from None


def _write(
    facts: Facts, workbook: str | None, page: str | None, charts: str | None, fields: Sequence[str], *, replace: bool
) -> list[str]:
    """Write the files that were asked for, all of them or none; what is to be said of them."""
    from neat_delta.files.whole import write_new

    written, contents = list[str](), dict[str, bytes]()
    drawn: list[Chart] = []
    if page is not None or charts is not None:
        from neat_delta.report.charts import charts as drawn_of

        drawn = drawn_of(facts.changes, facts.live, facts.category)
    if workbook is not None:
        from neat_delta.report.workbook import workbook as sheet

        contents[workbook] = sheet(facts)
        written.append(f"Wrote {workbook}.")
    if page is not None:
        from neat_delta.files.changelines import digest_of_changes
        from neat_delta.report.page import MOST as HELD
        from neat_delta.report.page import page as html

        contents[page] = html(facts, drawn, digest_of_changes(facts.changes), fields)
        most = f" It has the first {HELD:,} of {facts.view.matches:,} items." if facts.view.matches > HELD else ""
        written.append(f"Wrote {page}.{most}")
    if charts is not None:
        from neat_delta.report.charts import as_png

        make_folder(charts)
        contents |= {f"{charts}/{chart.name}.png": as_png(chart) for chart in drawn}
        written.append(f"Wrote {', '.join(chart.name for chart in drawn) or 'no chart'} to {charts}.")
    write_new(contents, replace=replace)
    return written


def _for_a_program(facts: Facts, seen: View) -> PreviewOutput:
    """The facts that --json prints."""
    from msgspec import UNSET

    from neat_delta.app.outputs import PreviewItem, PreviewOutput
    from neat_delta.core.review.waiting import waiting_counts

    change_set = facts.changes
    return PreviewOutput(
        **waiting_counts(change_set),
        header=header_facts(change_set.header),
        reasons=change_set.reasons(),
        fields=list(facts.figures),
        impact=facts.effect,
        records=UNSET if facts.records is None else facts.records,
        totals=list(facts.totals) or UNSET,
        items_found=seen.matches,
        items=[PreviewItem(name, item) for item, name in zip(seen.changes.iter_items(), seen.names, strict=True)],
    )
