"""`neat-delta history`: what was changed, when, by which round, and what became of it."""

from __future__ import annotations

import re
from typing import TYPE_CHECKING

import click

from neat_delta.cli.common import output_options, print_json, screen, store_option
from neat_delta.cli.keeping import find_ledger, ledger_option
from neat_delta.cli.options import argument, option, verb

if TYPE_CHECKING:
    from neat_delta.core.base.model.history import HistoryChange
    from neat_delta.files.ledger.index import Index
    from neat_delta.files.ledger.ledger import Ledger

__all__ = ["history"]

ROUNDS_SHOWN = 20


@verb(epilog="\b\nExample, on the files of `neat-delta demo weeks`:\n  neat-delta history --sku QA-1035")
@argument("number", required=False, type=click.IntRange(1), metavar="[ROUND]")
@option("--sku", metavar="SKU", help="Every change of this item, under each code that it had.")
@option("--field", metavar="FIELD", help="Every change of this field.")
@option("--since", metavar="DAY", help="Only rounds that began on DAY or later: 2026-09-01.")
@option("--chart", metavar="FILE", help="With --field or --sku: draw how it went, as a picture (.png).")
@option("--page", metavar="FILE", help="Write all of it as one page for the browser (.html), to be searched.")
@option("--rebuild", is_flag=True, help="Make the index of the ledger anew from the folders of the rounds.")
@option("--all", "everything", is_flag=True, help="List comparisons, too, of which nothing was written.")
@option("--replace", is_flag=True, help="Overwrite the FILE of --chart or --page if it is there.")
@ledger_option
@store_option
@output_options
def history(
    number: int | None,
    sku: str | None,
    field: str | None,
    since: str | None,
    chart: str | None,
    page: str | None,
    rebuild: bool,
    everything: bool,
    replace: bool,
    store: str | None,
    as_json: bool,
) -> int:
    """Tell what rounds did: all of them, one of them step by step, or every change of an item or a field.

    The rounds stand in a ledger, a folder that `run` keeps, and that `compare`, `write`, `deliver`, `confirm` and
    `undo` join with --ledger, or when the store file says [ledger] folder = "rounds".
    """
    asked = [name for name, value in (("ROUND", number), ("--sku", sku), ("--field", field)) if value is not None]
    if len(asked) > 1:
        raise click.UsageError(f"{' and '.join(asked)} ask for different things; choose one of them.")
    if since is not None and not re.fullmatch(r"\d{4}-\d\d-\d\d", since):
        raise click.BadParameter(f"{since!r} is no day. Write it as 2026-09-01.", param_hint="--since")
    if chart is not None and field is None and sku is None:
        raise click.UsageError("--chart goes with --field or --sku: it draws how they went.")
    ledger = find_ledger(store)
    with ledger.index(rebuild=rebuild) as index:
        cells = _cells(index, number, sku, field, since)
        written = _write(index, cells, chart, page, since, field or sku or "", replace=replace)
        if as_json:
            _print_json(ledger, index, number, cells, since)
        else:
            _print(ledger, index, number, cells, since, asked=sku or field, everything=everything)
        for line in written:
            click.echo(line, err=as_json)
        for line in index.broken():
            click.echo(line, err=True)
        return 1 if index.broken() else 0


def _cells(
    index: Index, number: int | None, sku: str | None, field: str | None, since: str | None
) -> list[HistoryChange] | None:
    from neat_delta.app.history import field_history, item_history, round_history

    if number is not None:
        return round_history(index, number)
    if field is not None:
        return field_history(index, field, since or "")
    if sku is None:
        return None
    return [cell for cell in item_history(index, sku) if cell.day >= (since or "")]


def _print_json(
    ledger: Ledger, index: Index, number: int | None, cells: list[HistoryChange] | None, since: str | None
) -> None:
    from msgspec import UNSET

    from neat_delta.app.outputs import HistoryOutput

    rounds = [
        summary for summary in index.rounds() if summary.day >= (since or "") and number in {None, summary.number}
    ]
    print_json(
        HistoryOutput(
            ledger=str(ledger.folder), rounds=rounds if cells is None or number is not None else UNSET,
            steps=ledger.round(number).steps() if number is not None else UNSET,
            cells=UNSET if cells is None else cells, broken=index.broken(),
        )
    )  # fmt: skip


def _print(
    ledger: Ledger, index: Index, number: int | None, cells: list[HistoryChange] | None, since: str | None, *,
    asked: str | None, everything: bool,
) -> None:  # fmt: skip
    from neat_delta.report.history import print_cells, print_round_steps, print_rounds
    from neat_delta.report.text import count

    console = screen()
    if number is not None:
        folder = ledger.round(number)
        print_round_steps(console, folder.summary(), folder.steps(), cells or [])
        return
    if cells is not None:
        print_cells(console, cells, f"{asked}, {count(len({cell.round for cell in cells}), 'round')}")
        return
    rounds = [summary for summary in index.rounds() if summary.day >= (since or "")]
    listed = [summary for summary in rounds if everything or summary.state != "compared"]
    if not listed:
        click.echo(f"{ledger.folder}: no round was written yet.")
    else:
        print_rounds(console, listed, console.room(ROUNDS_SHOWN))
    if len(listed) < len(rounds):
        rest = count(len(rounds) - len(listed), "comparison")
        click.echo(f"  and {rest} of which nothing was written; --all lists them")


def _write(
    index: Index,
    cells: list[HistoryChange] | None,
    chart: str | None,
    page: str | None,
    since: str | None,
    title: str,
    *,
    replace: bool,
) -> list[str]:
    """Write the chart and the page that were asked for; what is to be said of them."""
    from neat_delta.files.whole import write_new

    contents, lines = dict[str, bytes](), list[str]()
    if chart is not None:
        from neat_delta.report.historychart import history_chart

        contents[chart] = history_chart(cells or [], title)
        lines.append(f"Wrote {chart}.")
    if page is not None:
        from neat_delta.app.history import with_sources
        from neat_delta.report.historypage import MOST, history_page

        rounds = [summary for summary in index.rounds() if summary.day >= (since or "")]
        every = (
            cells
            if cells is not None
            else with_sources(index, [c for summary in rounds for c in index.of_round(summary.number)])
        )
        contents[page] = history_page(rounds, every)
        rest = f" It has the last {MOST:,} of {len(every):,} changes." if len(every) > MOST else ""
        lines.append(f"Wrote {page}.{rest}")
    write_new(contents, replace=replace)
    return lines
