"""`neat-delta compare`: two catalogues in, a change set and its summary out."""

from __future__ import annotations

import sys
from datetime import date
from functools import partial
from importlib import import_module
from typing import TYPE_CHECKING

import click

from neat_delta.cli.common import (
    accepts_from_options,
    added_option,
    blanks_from_options,
    clashes_from_options,
    column_mappings,
    constant_option,
    images_in,
    images_option,
    json_option,
    key_option,
    layout_from_options,
    layout_options,
    let_option,
    list_mapping,
    mapping_options,
    must_describe,
    must_fit,
    must_not_be_input,
    notation_from_options,
    prefer_option,
    print_result,
    read_store_option,
    store_option,
    values_from_options,
    working,
    write_change_set,
)

if TYPE_CHECKING:
    from neat_delta.core.engine.options import CompareOptions
    from neat_delta.core.lists.translate import TranslatedList
    from neat_delta.core.model.catalogue import Catalogue
    from neat_delta.core.model.lists import ListMapping
    from neat_delta.core.model.store import Store

__all__ = ["compare"]


@click.command(epilog="\b\nExample, on the demo's files:\n  neat-delta compare live.csv sheet.csv -o changes.jsonl")
@click.argument("live")
@click.argument("sheet")
@click.option(
    "--base",
    metavar="FILE",
    help="The export that SHEET was cut from, if the store has moved on since: only what SHEET changed is sent.  "
    "[default: what a working sheet remembers]",
)
@click.option(
    "--clash",
    multiple=True,
    metavar="hold|sheet|live|FIELD=…",
    help="Cells that SHEET and the store both changed since: hold them, send SHEET's, leave the store's; in all "
    "fields, or in one: price=sheet. stock=add adds SHEET's difference to the store's number.  [default: hold]",
)
@constant_option
@prefer_option
@click.option(
    "--new-to", metavar="FILE", help="Write a list's new items without a code to FILE (.csv, .xlsx), to be filled in."
)
@click.option("--rules", "rules_file", metavar="FILE", help="Run the rules of this file on SHEET's items.")
@let_option
@click.option("-o", "--output", metavar="FILE", help="Write the change set to FILE (- for standard output).")
@click.option(
    "--blanks",
    multiple=True,
    metavar="hold|clear|keep[:FIELD]",
    help="Cells emptied in SHEET: hold them, clear the field, or keep what live has; in every field, or in one: "
    "clear:sale_price. May be repeated.  [default: hold]",
)
@click.option(
    "--repair",
    is_flag=True,
    help="Put live's own value back where only the writing was damaged.  [default: held]",
)
@click.option(
    "--accept",
    multiple=True,
    metavar="CHECK[:WHICH]",
    help="Let through what is held: damage, slip, emptied, near (keys), list, rule, stale, swapped or a check by its "
    "name, in one field or of one item: slip:price, emptied:QA-1001. May be repeated.",
)
@click.option(
    "--with-new-values",
    "new_values",
    multiple=True,
    metavar="FIELD",
    help="Send values of FIELD that live does not have; may be repeated.  [default: held]",
)
@click.option(
    "--exact",
    multiple=True,
    metavar="FIELD",
    help="Send every difference of text in FIELD, also what programs rewrite by themselves; may be repeated.",
)
@added_option
@images_option
@click.option("--with-new", is_flag=True, help="Send items that only SHEET has.  [default: held]")
@click.option(
    "--recode",
    "codes",
    metavar="FILE",
    help="A list of old and new codes: SHEET may have its items under the new ones.",
)
@click.option(
    "--likely-codes", metavar="FILE", help="Write the code changes that look likely to FILE, to look over for --recode."
)
@click.option(
    "--whole",
    is_flag=True,
    help="SHEET is meant to have every item: those that it lacks are gone.  [default: they are left alone]",
)
@click.option("--with-gone", is_flag=True, help="With --whole: remove the items that are gone.  [default: held]")
@store_option
@key_option
@click.option(
    "--accept-near-keys",
    "accept_near",
    is_flag=True,
    help="Take keys that miss one of live only by case, spaces, hyphens or leading zeros.  [default: reported]",
)
@mapping_options
@layout_options(two=True)
@json_option
def compare(  # noqa: PLR0912, PLR0915 - one option after another
    live: str,
    sheet: str,
    base: str | None,
    clash: tuple[str, ...],
    constants: tuple[str, ...],
    prefer: str | None,
    new_to: str | None,
    rules_file: str | None,
    let: tuple[str, ...],
    output: str | None,
    blanks: tuple[str, ...],
    repair: bool,
    accept: tuple[str, ...],
    new_values: tuple[str, ...],
    exact: tuple[str, ...],
    added: tuple[str, ...],
    images: str | None,
    with_new: bool,
    whole: bool,
    with_gone: bool,
    codes: str | None,
    likely_codes: str | None,
    store: str | None,
    key: tuple[str, ...],
    accept_near: bool,
    mapped: tuple[str, ...],
    only: str | None,
    ignore: tuple[str, ...],
    mapping: str | None,
    match_by: tuple[str, ...],
    as_json: bool,
) -> int:
    """Find what SHEET changes in LIVE, item by item.

    LIVE is the catalogue as the store exported it; SHEET is the edited copy, with any of its rows and
    columns in any order. Both may be delimited text (CSV) in any encoding, a workbook (.xlsx, .ods, .xls), JSON, JSON
    Lines or Parquet, packed or not; - is standard input. What a file is, is found out; the options below tell it
    instead, for one of them with live=, sheet= or base= before the value.

    Cells that a spreadsheet damaged, and whole columns that a hand slipped in, are found by holding SHEET against LIVE;
    they are held, with the reason. Then the checks look at what is to be sent.

    Items that SHEET lacks are left alone: a part of the catalogue is the normal case.
    """
    from neat_delta.core.support.background import submit
    from neat_delta.files.whole import load

    # Both files are fetched while Polars is being imported, and the second while the first is being parsed.
    if [live, sheet, base].count("-") > 1:
        raise click.UsageError("Only one of LIVE, SHEET and --base can be standard input.")
    fetching = [submit(partial(load, path)) for path in (live, sheet, *([base] if base else []))]
    report = submit(partial(import_module, "neat_delta.report.terminal"))

    import neat_delta
    from neat_delta.core.decide.policy import policy_of_list
    from neat_delta.core.support.errors import OutputError
    from neat_delta.files.basefile import read_base, with_base_file
    from neat_delta.files.changeset import change_lines
    from neat_delta.files.rulesfile import beside

    if output and output != "-":
        must_not_be_input(output, live, sheet, *([base] if base else []))
    store_file = read_store_option(store, live)
    shop, store_path = store_file or (None, None)
    meant, meant_in = blanks_from_options(blanks)
    choice, choice_in = clashes_from_options(clash)
    said, fields = column_mappings(mapped, only, ignore)
    known = list_mapping(mapping, match_by, constants, prefer, rules_file)
    if known is None and (let or new_to):
        raise click.UsageError("--let goes with --rules, and --new-to with --match-by or --mapping.")
    described = known or neat_delta.ListMapping()
    whole = whole or described.whole or (known is None and shop is not None and shop.sheets.whole)
    if with_gone and not (whole or described.whole_within):
        raise click.UsageError(
            "--with-gone removes the items that SHEET lacks. If SHEET is meant to have every item, say --whole, too."
        )
    options = neat_delta.CompareOptions(
        columns=neat_delta.ColumnOptions(key, said, None, fields, exact, added),
        policy=neat_delta.Policy(
            accept=accepts_from_options((*described.accept, *accept)),
            blanks=meant,
            blanks_in=meant_in,
            clash=choice,
            clash_in=choice_in,
            with_new=with_new,
            with_gone=with_gone,
            repair=repair,
            near_keys=accept_near,
            new_values=new_values,
        ).over(policy_of_list(described)),
        writing=notation_from_options(described.writing),
        images=images_in(images),
        today=date.today().isoformat(),
        whole=whole,
        within=described.whole_within,
    )
    with working(f"Reading {live} and {sheet}"):
        live_catalogue = neat_delta.read(
            fetching.pop(0)(), layout_from_options("live", shop.file.layout if shop else None)
        )
        must_fit(store_file, [*live_catalogue.fields, *added])
        must_describe(mapping, store_file, [*live_catalogue.fields, *added])
        layout = layout_from_options("sheet", described.file)
        sheet_catalogue = neat_delta.read(fetching.pop(0)(), layout, like=live_catalogue)
        older = None
        if base is not None:
            older = read_base(fetching.pop(0)(), layout_from_options("base"), live_catalogue)
        if sheet != "-":
            sheet_catalogue = with_base_file(sheet_catalogue, needed=older is None)
    new = None
    if known is not None:
        rules = rules_file or beside(known.rules, mapping)
        translated = _translated(live_catalogue, sheet_catalogue, known, shop, options, rules, let)
        sheet_catalogue, new = translated.sheet, translated.new
    with working("Comparing"):
        changes = neat_delta.compare(
            live_catalogue,
            sheet_catalogue,
            store=shop,
            options=options,
            codes=None if codes is None else neat_delta.read(codes, like=live_catalogue),
            base=older,
        )
    if likely_codes is not None:
        from neat_delta.files.codelist import write_code_list

        must_not_be_input(likely_codes, live, sheet, *([codes] if codes else []))
        write_code_list(likely_codes, changes.header)
    if new_to is not None:
        from neat_delta.files.newitems import write_new_items

        must_not_be_input(new_to, live, sheet)
        write_new_items(new_to, new, live_catalogue, shop)
    if output == "-":
        if as_json:
            raise OutputError("--json and -o - both want standard output. Give -o the name of a file.")
        for chunk in change_lines(changes):
            sys.stdout.buffer.write(chunk)
    elif output:
        write_change_set(changes, output)
    if not as_json and output != "-":
        report()
    status = print_result(
        changes, output, store_path, shop, as_json=as_json, told=bool(key or (shop and shop.key.fields))
    )
    if new_to is not None and not as_json and output != "-":
        from neat_delta.report.text import count

        written = (
            f"Wrote {new_to}: {count(new.height, 'new item')} without a code, to be filled in"
            if new is not None
            else (f"{new_to} was not written: no new item lacks a code")
        )
        click.echo(f"{written}.")
    return status


def _translated(
    live: Catalogue,
    supplied: Catalogue,
    mapping: ListMapping,
    store: Store | None,
    options: CompareOptions,
    rules_file: str | None,
    let: tuple[str, ...],
) -> TranslatedList:
    """A list as a sheet of the store, with what rules make of it."""
    import neat_delta
    from neat_delta.core.decide.policy import policy_of_store
    from neat_delta.core.model.store import Store
    from neat_delta.files.rulesfile import read_rules_with_tables

    rules, lookups = read_rules_with_tables(rules_file, live)
    policy = options.policy
    said = neat_delta.ListOptions(
        options.columns,
        policy.near_keys,
        policy.repair,
        rules,
        lookups,
        values_from_options(let),
        lambda name: policy.over(policy_of_store(store or Store(), [name])).blanks_of(name) == "keep",
        options.writing,
    )
    return neat_delta.translate(live, supplied, mapping, store, options=said)
