"""`neat-delta learn`: a catalogue in, a draft of the store file out."""

from __future__ import annotations

import sys
from collections.abc import Mapping
from typing import TYPE_CHECKING, Any

import click

from neat_delta.app.requests import LearnRequest
from neat_delta.cli.common import (
    layout_from_options,
    layout_options,
    must_not_be_input,
    output_options,
    print_json,
    screen,
    working,
)
from neat_delta.cli.options import argument, asked, option, settings_options, verb
from neat_delta.report.settings import as_options

if TYPE_CHECKING:
    from neat_delta.core.base.infer.learn import Learned
    from neat_delta.core.base.model.catalogue import Catalogue

__all__ = ["learn"]


@verb(epilog="\b\nExample, on the demo's files:\n  neat-delta learn live.csv -o store.toml")
@argument("live")
@option("-o", "--output", metavar="FILE", help="Write the store file to FILE.  [default: shown, not written]")
@option("--replace", is_flag=True, help="Replace FILE if it is there already.")
@option(
    "--results",
    metavar="REPORT",
    help="Also draft what the store's reports of an import look like, from one of them; without -o, only that.",
)
@option("--no-questions", is_flag=True, help="Ask nothing, also on a terminal.")
@option("--table-schema", "descriptor", metavar="FILE", help="Also write an open Table Schema (Data Package).")
@output_options
@settings_options(LearnRequest)
@layout_options(two=False)
def learn(
    live: str,
    output: str | None,
    replace: bool,
    results: str | None,
    no_questions: bool,
    descriptor: str | None,
    as_json: bool,
    **settings: Any,  # noqa: ANN401 - those of the request
) -> int:
    """Draft the store file from LIVE, the store's export.

    It says how the store's files look, what an item is known by, and what sort of value each field holds, with the
    evidence in a comment. Read it through once, and keep it: every command takes it with --store, or finds it as
    neat-delta.toml. On a terminal it asks the four things that no export shows.
    """
    from pathlib import Path

    import neat_delta
    from neat_delta.files.draft import draft, results_draft
    from neat_delta.files.whole import write_new

    for path in (output, descriptor):
        if path:
            must_not_be_input(path, live, *([results] if results else []))
    with working(f"Learning from {live}"):
        catalogue = neat_delta.read(live, layout_from_options("live"))
        key = asked(LearnRequest, settings).key
        learned = neat_delta.learn(catalogue, key)
        reported = None
        if results is not None:
            from neat_delta.core.sheets.match.prepare import prepare
            from neat_delta.files.reports import draft_report

            prepared = prepare(catalogue, learned.store, key)
            cells, fields = prepared.catalogue.cells, prepared.key.fields
            reported, _ = draft_report(results, cells, fields, prepared.headings)
    asks = not (as_json or no_questions) and sys.stdin.isatty() and sys.stdout.isatty()
    written = output is None or (Path(output).exists() and not replace)  # then no answer would change anything
    answers = _answers() if asks and not written else {}
    text = draft(learned, catalogue, reported, answers)
    contents = {output: text.encode()} if output else {}
    if descriptor:
        contents[descriptor] = _table_schema(learned)
    write_new(contents, replace=replace)
    if as_json:
        from neat_delta.app.outputs import LearnOutput

        of_report: dict[str, Any] = {}
        if reported is not None:
            of_report = {"results": reported.form, "results_evidence": reported.evidence, "unknown": reported.unknown}
        print_json(
            LearnOutput(
                output=output,
                store=learned.store,
                evidence=learned.evidence,
                relations=learned.relations,
                key=learned.key,
                **of_report,
            )
        )
        return 0
    if output:
        _say(learned, catalogue, output, answers)
    else:
        for note in catalogue.notes:
            click.echo(as_options(f"{live}: {note}"), err=True)
        unknown = reported.unknown if reported else ()
        settings_given = [
            f'# Nobody can tell what "{word}" means. Put it under done, warned, skipped or refused.\n'
            for word in unknown
        ]
        click.echo("".join([text if reported is None else results_draft(reported), *settings_given]), nl=False)
    if descriptor:
        click.echo(f"Wrote {descriptor}.", err=not output)
    return 0


def _answers() -> dict[str, str]:
    """Ask what no export shows; the answers by their settings, without those that nobody knows."""
    from neat_delta.core.base.infer.questions import QUESTIONS

    answers = {}
    click.echo("Four things that no export shows. Return is for: I don't know.\n")
    for question in QUESTIONS:
        values = list(question.answers)
        click.secho(question.asks, bold=True)
        for number, value in enumerate(values, 1):
            click.echo(f"  {number}  {question.answers[value]}")
        unknown = len(values) + 1
        click.echo(f"  {unknown}  I don't know; till then: {question.until_then}")
        chosen = click.prompt("Answer", type=click.IntRange(1, unknown), default=unknown)
        if chosen != unknown:
            answers[question.setting] = values[chosen - 1]
        click.echo()
    return answers


def _table_schema(learned: Learned) -> bytes:
    """An open Table Schema of what was learned."""
    import msgspec

    from neat_delta.files.schemas import table_schema

    schema = msgspec.json.Encoder(decimal_format="number").encode(table_schema(learned.store))
    return msgspec.json.format(schema, indent=2) + b"\n"


def _say(learned: Learned, catalogue: Catalogue, output: str, answers: Mapping[str, str]) -> None:
    """Say what was learned, what nobody has said yet, and how to go on."""
    from neat_delta.core.base.infer.questions import QUESTIONS
    from neat_delta.files.storefile import NAME
    from neat_delta.report import terminal as report
    from neat_delta.report.text import command

    console = screen()
    if console.detail != "waiting":
        report.print_learned(console, learned, catalogue)
    still = [question.setting for question in QUESTIONS if question.setting not in answers]
    report.print_questions(console, still, output)
    use = command("compare", catalogue.path, "SHEET", *([] if output == NAME else ["--store", output]))
    click.echo(f"Wrote {output}. Read it through, and use it:  {use}")
