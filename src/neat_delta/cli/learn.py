"""`neat-delta learn`: a catalogue in, a draft of the store file out."""

from __future__ import annotations

from typing import Any

import click

from neat_delta.app.requests import LearnRequest
from neat_delta.cli.common import (
    detail,
    json_option,
    layout_from_options,
    layout_options,
    must_not_be_input,
    print_json,
    screen,
    working,
)
from neat_delta.cli.options import asked, settings_options, verb

__all__ = ["learn"]


@verb(epilog="\b\nExample, on the demo's files:\n  neat-delta learn live.csv -o store.toml")
@click.argument("live")
@click.option("-o", "--output", metavar="FILE", help="Write the store file to FILE.  [default: shown, not written]")
@click.option("--replace", is_flag=True, help="Replace FILE if it is there already.")
@click.option(
    "--results",
    metavar="REPORT",
    help="Also draft what the store's reports of an import look like, from one of them; without -o, only that.",
)
@click.option("--table-schema", "descriptor", metavar="FILE", help="Also write an open Table Schema (Data Package).")
@json_option
@settings_options(LearnRequest)
@layout_options(two=False)
def learn(
    live: str,
    output: str | None,
    replace: bool,
    results: str | None,
    descriptor: str | None,
    as_json: bool,
    **settings: Any,  # noqa: ANN401 - those of the request
) -> int:
    """Draft the store file from LIVE, the store's export.

    It says how the store's files look, what an item is known by, and what sort of value each field holds, with the
    evidence in a comment. Read it through once, and keep it: every command takes it with --store, or finds it as
    neat-delta.toml.
    """
    import msgspec

    import neat_delta
    from neat_delta.files.storefile import draft, results_draft, table_schema
    from neat_delta.files.whole import write_new
    from neat_delta.report.settings import as_options

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
        text = draft(learned, catalogue, reported)
    contents = {output: text.encode()} if output else {}
    if descriptor:
        schema = msgspec.json.Encoder(decimal_format="number").encode(table_schema(learned.store))
        contents[descriptor] = msgspec.json.format(schema, indent=2) + b"\n"
    write_new(contents, replace=replace)
    if as_json:
        facts: dict[str, object] = {"output": output, "store": learned.store, "evidence": learned.evidence}
        if reported is not None:
            facts |= {"results": reported.form, "results_evidence": reported.evidence, "unknown": reported.unknown}
        print_json(facts | {"relations": learned.relations, "key": learned.key})
        return 0
    if not output:
        for note in catalogue.notes:
            click.echo(as_options(f"{live}: {note}"), err=True)
        unknown = reported.unknown if reported else ()
        settings_given = [
            f'# Nobody can tell what "{word}" means. Put it under done, warned, skipped or refused.\n'
            for word in unknown
        ]
        click.echo("".join([text if reported is None else results_draft(reported), *settings_given]), nl=False)
    else:
        from neat_delta.files.storefile import NAME
        from neat_delta.report import terminal as report
        from neat_delta.report.text import command

        if detail() != "waiting":
            report.print_learned(screen(), learned, catalogue)
        use = command("compare", live, "SHEET", *([] if output == NAME else ["--store", output]))
        click.echo(f"\nWrote {output}. Read it through, and use it:  {use}")
    if descriptor:
        click.echo(f"Wrote {descriptor}.", err=not output)
    return 0
