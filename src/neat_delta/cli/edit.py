"""`neat-delta edit`: values by rule, without a sheet."""

from __future__ import annotations

from datetime import date
from typing import TYPE_CHECKING, Any

import click

from neat_delta.app.requests import EditRequest
from neat_delta.cli.common import (
    hand_over,
    layout_from_options,
    layout_options,
    must_be_one_output,
    must_fit,
    must_not_be_input,
    output_options,
    print_json,
    read_store_option,
    screen,
    status_of,
    store_option,
    working,
)
from neat_delta.cli.keeping import ledger_option
from neat_delta.cli.options import argument, asked, option, settings_options, verb

if TYPE_CHECKING:
    import polars as pl

    from neat_delta.core.base.model.catalogue import Catalogue
    from neat_delta.core.base.model.changeset import ChangeSet

__all__ = ["edit"]


@verb(
    epilog="\b\nExample, on the demo's files:\n"
    '  neat-delta edit live.csv --set "price = ROUND(price * 1.05, 2)" --where "category LIKE \'Hives%\'" -o edit.jsonl'
)
@argument("live")
@option("-o", "--output", metavar="FILE", help="Write the change set to FILE (- for standard output).")
@option("--rules", "rules_file", metavar="FILE", help="Run the rules of this file.")
@option(
    "--try", "sample", type=click.IntRange(1, 1000), metavar="N", help="Show N of the results, the least, the greatest "
    "and the oddest; write nothing."
)  # fmt: skip
@store_option
@ledger_option
@output_options
@settings_options(EditRequest)
@layout_options(two=False)
def edit(
    live: str,
    output: str | None,
    rules_file: str | None,
    sample: int | None,
    store: str | None,
    as_json: bool,
    **settings: Any,  # noqa: ANN401 - those of the request
) -> int:
    """Change LIVE by rule: what to set, and in which items.

    An expression is one of SQL: fields by their names, + - * /, ROUND, CASE, COALESCE, GREATEST, LEAST and the others
    in docs/expressions.md, and ENDS_AT(price, 0.90). Numbers are exact decimals. A value whose input is blank or cannot
    be read is not guessed: it is reported, and the cell stays as it is.
    """
    import neat_delta

    request = asked(EditRequest, settings)
    if bool(request.set) == bool(rules_file):
        raise click.UsageError('Say what to set, as --set "price = ROUND(price * 1.05, 2)", or name the --rules FILE.')
    if rules_file and request.where is not None:
        raise click.UsageError("--where goes with --set. In a rules file each rule has its own where.")
    if output and output != "-":
        must_not_be_input(output, live, *([rules_file] if rules_file else []))
    must_be_one_output(output, as_json=as_json)
    store_file = read_store_option(store, live)
    shop, store_path = store_file or (None, None)
    with working(f"Reading {live}"):
        layout = layout_from_options("live", shop.file.layout if shop else None)
        catalogue = neat_delta.read(live, layout, deferred=True)
        must_fit(store_file, [*catalogue.fields, *request.add_field])
    with working("Working out"):
        changes = neat_delta.edit(
            catalogue,
            rules_file,
            store=shop,
            request=request,
            today=date.today().isoformat(),
            name=rules_file or "--set",
        )
    if sample is not None:
        return _show(changes, catalogue, sample, as_json=as_json)
    kinds_given = bool(request.key or (shop and shop.key.fields))
    return hand_over(
        changes, output, store_path, shop, as_json=as_json, kinds_given=kinds_given, files=[("rules", rules_file)]
    )


def _show(changes: ChangeSet, live: Catalogue, most: int, *, as_json: bool) -> int:
    """Show the results that stand out."""
    from neat_delta.core.review.explain import trials
    from neat_delta.core.review.view import names_of

    examples = trials(changes, most)
    if as_json:
        from neat_delta.app.outputs import EditTrials, TrialCell, TrialFacts

        def cells(table: pl.DataFrame) -> list[TrialCell]:
            return [TrialCell(changes.keys.row(item, named=True), *texts) for item, *texts in table.iter_rows()]

        sides = ("sample", "least", "greatest", "oddest")
        trials_by_field = {
            trial.field: TrialFacts(trial.cells, *(cells(getattr(trial, side)) for side in sides)) for trial in examples
        }
        print_json(EditTrials(fields=trials_by_field))
        return status_of(changes)
    from neat_delta.report.explained import print_trials, print_unresolved

    console = screen()
    print_trials(console, changes, names_of(changes, live), examples)
    print_unresolved(console, changes, most)
    console.print("\nNothing was written. To keep this:  -o changes.jsonl instead of --try", soft_wrap=True)
    return status_of(changes)
