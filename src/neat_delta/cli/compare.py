"""`neat-delta compare`: two catalogues in, a change set and its summary out."""

from __future__ import annotations

from datetime import date
from functools import partial
from importlib import import_module
from typing import TYPE_CHECKING, Any

import click

from neat_delta.app.requests import CompareRequest
from neat_delta.cli.common import (
    hand_over,
    layout_from_options,
    layout_options,
    list_mapping,
    must_fit,
    must_not_be_input,
    notation_from_options,
    output_options,
    read_store_option,
    store_option,
    working,
)
from neat_delta.cli.keeping import ledger_option
from neat_delta.cli.options import LISTS, argument, asked, option, settings_options, verb

if TYPE_CHECKING:
    import polars as pl

    from neat_delta.core.base.model.catalogue import Catalogue
    from neat_delta.core.base.model.rounds import InputRole
    from neat_delta.core.base.model.store import Store

__all__ = ["compare"]


@verb(epilog="\b\nExample, on the demo's files:\n  neat-delta compare live.csv sheet.csv -o changes.jsonl")
@argument("live")
@argument("sheet")
@option("-o", "--output", metavar="FILE", help="Write the change set to FILE (- for standard output).")
@option(
    "--base",
    metavar="FILE",
    help="The export that SHEET was cut from, if the store has moved on since: only what SHEET changed is sent.  "
    "[default: what a working sheet remembers]",
)
@store_option
@ledger_option
@output_options
@option(
    "--recode",
    "codes",
    metavar="FILE",
    help="A list of old and new codes: SHEET may have its items under the new ones.",
)
@option(
    "--likely-codes", metavar="FILE", help="Write the code changes that look likely to FILE, to look over for --recode."
)
@option("--mapping", metavar="FILE", group=LISTS, help="The description of a list, as `match --save` drafts it.")
@option(
    "--rules",
    "rules_file",
    metavar="FILE",
    group=LISTS,
    help="Run the rules of this file on SHEET's items.",
)
@option(
    "--new-to", metavar="FILE", group=LISTS,
    help="Write a list's new items without a code to FILE (.csv, .xlsx), to be filled in.",
)  # fmt: skip
@settings_options(CompareRequest)
@layout_options(two=True)
def compare(
    live: str,
    sheet: str,
    output: str | None,
    base: str | None,
    store: str | None,
    as_json: bool,
    codes: str | None,
    likely_codes: str | None,
    mapping: str | None,
    rules_file: str | None,
    new_to: str | None,
    **settings: Any,  # noqa: ANN401 - those of the request
) -> int:
    """Find what SHEET changes in LIVE, item by item.

    LIVE is the catalogue as the store exported it; SHEET is the edited copy, with any of its rows and
    columns in any order. Both may be delimited text (CSV) in any encoding, a workbook (.xlsx, .ods, .xls), JSON, JSON
    Lines or Parquet, packed or not; - is standard input. What a file is, is found out; the options in
    `neat-delta help files` tell it instead, for one of them with live=, sheet= or base= before the value.

    Cells that a spreadsheet damaged, and whole columns that a hand slipped in, are found by holding SHEET against LIVE;
    they are held, with the reason. Then the checks look at what is to be sent.

    Items that SHEET lacks are left alone: a part of the catalogue is the normal case.
    """
    from neat_delta.core.base.support.background import submit
    from neat_delta.files.glance import files_read_later
    from neat_delta.files.sources.address import is_address
    from neat_delta.files.whole import load

    # Both files are fetched while Polars is being imported, and the second while the first is being parsed.
    if [live, sheet, base].count("-") > 1:
        raise click.UsageError("Only one of LIVE, SHEET and --base can be standard input.")
    listed = bool(mapping or rules_file or settings["match_by"] or settings["constant"] or settings["prefer"])
    later = set[str]() if listed else files_read_later(live, sheet, base)
    fetching = [
        (lambda path=path: path) if is_address(path) or path in later else submit(partial(load, path))
        for path in (live, sheet, *([base] if base else []))
    ]
    report = submit(partial(import_module, "neat_delta.report.terminal"))

    import neat_delta
    from neat_delta.files.basefile import read_base, with_base_file

    if output and output != "-":
        must_not_be_input(output, live, sheet, *([base] if base else []))
    store_file = read_store_option(store, live)
    shop, store_path = store_file or (None, None)
    described = list_mapping(mapping)
    request = asked(CompareRequest, settings, writing=notation_from_options())
    if new_to and not listed:
        raise click.UsageError("--new-to goes with --match-by or --mapping.")
    with working(f"Reading {live} and {sheet}"):
        live_layout = layout_from_options("live", shop.file.layout if shop else None)
        live_catalogue = neat_delta.read(fetching.pop(0)(), live_layout, deferred=live in later)
        must_fit(store_file, [*live_catalogue.fields, *request.add_field])
        layout = layout_from_options("sheet", described.file if described else None)
        sheet_catalogue = neat_delta.read(fetching.pop(0)(), layout, like=live_catalogue, deferred=sheet in later)
        older = None
        if base is not None:
            older = read_base(fetching.pop(0)(), layout_from_options("base"), live_catalogue, deferred=base in later)
        if sheet != "-":
            sheet_catalogue = with_base_file(sheet_catalogue, live_catalogue, needed=older is None)
    with working("Comparing"):
        changes = neat_delta.compare(
            live_catalogue,
            sheet_catalogue,
            store=shop,
            base=older,
            codes=codes,
            mapping=mapping,
            rules=rules_file,
            request=request,
            today=date.today().isoformat(),
        )
    if likely_codes is not None:
        from neat_delta.files.codelist import write_code_list

        must_not_be_input(likely_codes, live, sheet, *([codes] if codes else []))
        write_code_list(likely_codes, changes.header)
    shop_name = None
    if new_to is not None:
        must_not_be_input(new_to, live, sheet)
        shop_name = _write_new(new_to, changes.without_code, live_catalogue, shop)
    if not as_json and output != "-":
        report()
    kinds_given = bool(request.key or (shop and shop.key.fields))
    files: list[tuple[InputRole, str | None]] = [("mapping", mapping), ("rules", rules_file), ("codes", codes)]
    way = sheet_catalogue.way if live_catalogue.is_deferred else "whole"
    status = hand_over(
        changes, output, store_path, shop, as_json=as_json, kinds_given=kinds_given, files=files, way=way
    )
    if shop_name is not None and not as_json and output != "-":
        click.echo(shop_name)
    return status


def _write_new(path: str, new: pl.DataFrame | None, live: Catalogue, store: Store | None) -> str:
    """Write a list's new items without a code, if there are any; what is to be said of it."""
    from neat_delta.files.newitems import write_new_items
    from neat_delta.report.text import count

    write_new_items(path, new, live, store)
    if new is None:
        return f"{path} was not written: no new item lacks a code."
    return f"Wrote {path}: {count(new.height, 'new item')} without a code, to be filled in."
