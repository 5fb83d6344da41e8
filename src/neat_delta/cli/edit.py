"""`neat-delta edit`: values by rule, without a sheet."""

from __future__ import annotations

import sys
from datetime import date
from typing import TYPE_CHECKING

import click

from neat_delta.cli.common import (
    accepts_from_options,
    added_option,
    json_option,
    key_option,
    layout_from_options,
    layout_options,
    let_option,
    must_fit,
    must_not_be_input,
    print_json,
    print_result,
    read_store_option,
    status_of,
    store_option,
    values_from_options,
    working,
    write_change_set,
)

if TYPE_CHECKING:
    from neat_delta.core.model.catalogue import Catalogue
    from neat_delta.core.model.changeset import ChangeSet
    from neat_delta.core.model.rules import Rules

__all__ = ["edit"]


@click.command(
    epilog="\b\nExample, on the demo's files:\n"
    '  neat-delta edit live.csv --set "price = ROUND(price * 1.05, 2)" --where "category LIKE \'Hives%\'" -o edit.jsonl'
)
@click.argument("live")
@click.option(
    "--set",
    "sets",
    multiple=True,
    metavar="FIELD = EXPRESSION",
    help='The field and its new value, as in SQL: "price = ROUND(price * 1.05, 2)". May be repeated.',
)
@click.option("--where", metavar="CONDITION", help="With --set: only in the items for which it holds.")
@click.option("--rules", "rules_file", metavar="FILE", help="Run the rules of this file.")
@let_option
@click.option(
    "--try", "sample", type=click.IntRange(1, 1000), metavar="N", help="Show N of the results, the least, the greatest "
    "and the oddest; write nothing."
)  # fmt: skip
@click.option("-o", "--output", metavar="FILE", help="Write the change set to FILE (- for standard output).")
@click.option(
    "--accept",
    multiple=True,
    metavar="CHECK[:WHICH]",
    help="Let through what a check holds by its name, or a rule: in one field or of one item: margin:QA-1001. May be "
    "repeated.",
)
@click.option(
    "--with-new-values",
    "new_values",
    multiple=True,
    metavar="FIELD",
    help="Send values of FIELD that live does not have; may be repeated.  [default: held]",
)
@added_option
@store_option
@key_option
@layout_options(two=False)
@json_option
def edit(
    live: str,
    sets: tuple[str, ...],
    where: str | None,
    rules_file: str | None,
    let: tuple[str, ...],
    sample: int | None,
    output: str | None,
    accept: tuple[str, ...],
    new_values: tuple[str, ...],
    added: tuple[str, ...],
    store: str | None,
    key: tuple[str, ...],
    as_json: bool,
) -> int:
    """Change LIVE by rule: what to set, and in which items.

    An expression is one of SQL: fields by their names, + - * /, ROUND, CASE, COALESCE, GREATEST, LEAST and the others
    in docs/expressions.md, and ENDS_AT(price, 0.90). Numbers are exact decimals. A value whose input is blank or cannot
    be read is not guessed: it is reported, and the cell stays as it is.
    """
    import neat_delta
    from neat_delta.core.support.errors import OutputError
    from neat_delta.files.changeset import change_lines
    from neat_delta.files.rulesfile import read_lookups

    rules, path = _rules(sets, where, rules_file)
    if output and output != "-":
        must_not_be_input(output, live, *([rules_file] if rules_file else []))
    if output == "-" and as_json:
        raise OutputError("--json and -o - both want standard output. Give -o the name of a file.")
    store_file = read_store_option(store, live)
    shop, store_path = store_file or (None, None)
    options = neat_delta.CompareOptions(
        columns=neat_delta.ColumnOptions(key, added=added),
        policy=neat_delta.Policy(accept=accepts_from_options(accept), new_values=new_values),
        today=date.today().isoformat(),
    )
    with working(f"Reading {live}"):
        catalogue = neat_delta.read(live, layout_from_options("live", shop.file.layout if shop else None))
        must_fit(store_file, [*catalogue.fields, *added])
        lookups = read_lookups(rules, path, catalogue)
    with working("Working out"):
        changes = neat_delta.edit(
            catalogue, rules, store=shop, options=options, lookups=lookups, values=values_from_options(let), path=path
        )
    if sample is not None:
        return _show(changes, catalogue, sample, as_json=as_json)
    if output == "-":
        for chunk in change_lines(changes):
            sys.stdout.buffer.write(chunk)
    elif output:
        write_change_set(changes, output)
    return print_result(
        changes, output, store_path, shop, as_json=as_json, told=bool(key or (shop and shop.key.fields))
    )


def _rules(sets: tuple[str, ...], where: str | None, rules_file: str | None) -> tuple[Rules, str]:
    """The rules that the options say, and what they are known by."""
    from neat_delta.core.model.rules import Rule, Rules
    from neat_delta.files.rulesfile import read_rules

    if bool(sets) == bool(rules_file):
        raise click.UsageError('Say what to set, as --set "price = ROUND(price * 1.05, 2)", or name the --rules FILE.')
    if rules_file:
        if where is not None:
            raise click.UsageError("--where goes with --set. In a rules file each rule has its own where.")
        return read_rules(rules_file), rules_file
    said: dict[str, str] = {}
    for one in sets:
        name, mark, value = one.partition("=")
        name = name.strip().strip('"')
        if not mark or not name or not value.strip():
            raise click.BadParameter(
                f'{one!r} is not FIELD = EXPRESSION, such as "price = ROUND(price * 1.05, 2)".', param_hint="--set"
            )
        if name in said:
            raise click.BadParameter(f'"{name}" is set twice.', param_hint="--set")
        said[name] = value.strip()
    return Rules(rule=[Rule("set", said, where)]), "--set"


def _show(changes: ChangeSet, live: Catalogue, most: int, *, as_json: bool) -> int:
    """Show the results that stand out."""
    from neat_delta.core.review.explain import trials
    from neat_delta.core.review.view import names_of

    shown = trials(changes, most)
    if as_json:
        sides = ("sample", "least", "greatest", "oddest")
        print_json(
            {
                one.field: {"cells": one.cells}
                | {
                    side: [
                        {"key": changes.keys.row(item, named=True), "before": before, "after": after, "held": held}
                        for item, before, after, held in getattr(one, side).iter_rows()
                    ]
                    for side in sides
                }
                for one in shown
            }
        )
        return status_of(changes)
    from neat_delta.report.explained import print_trials, print_unresolved
    from neat_delta.report.terminal import terminal

    console = terminal()
    print_trials(console, changes, names_of(changes, live), shown)
    print_unresolved(console, changes, most)
    console.print("\nNothing was written. To keep this:  -o changes.jsonl instead of --try", soft_wrap=True)
    return status_of(changes)
