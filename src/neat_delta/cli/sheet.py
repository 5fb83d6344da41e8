"""`neat-delta sheet`: a working sheet, cut from live, that is hard to damage."""

from __future__ import annotations

import sys
from typing import Any

import click

from neat_delta.app.requests import SheetRequest
from neat_delta.cli.common import (
    layout_from_options,
    layout_options,
    must_end_in,
    must_fit,
    notation_from_options,
    output_options,
    print_json,
    read_store_option,
    screen,
    skus_option,
    store_arguments,
    store_option,
    working,
    worksheet_form,
    write_worksheet,
)
from neat_delta.cli.options import argument, asked, option, settings_options, verb

__all__ = ["sheet"]


@verb(
    epilog="\b\nExample, on the demo's files:\n"
    "  neat-delta sheet live.csv -o wax.xlsx --where \"category = 'Wax'\" --fields price,cost,stock"
)
@argument("live")
@option(
    "-o",
    "--output",
    metavar="FILE",
    required=True,
    help="The sheet to write: a workbook (.xlsx) or delimited text (.csv, .tsv, .txt).",
)
@option("--replace", is_flag=True, help="Overwrite FILE if it is there.")
@store_option
@output_options
@settings_options(SheetRequest)
@skus_option
@layout_options(two=True)
def sheet(
    live: str,
    output: str,
    replace: bool,
    store: str | None,
    as_json: bool,
    skus: str | None,
    **settings: Any,  # noqa: ANN401 - those of the request
) -> int:
    """Cut a working sheet from LIVE, to be edited offline.

    In a workbook, codes are text, so that no zero is lost; numbers and dates are what they are; the key and
    locked fields are protected and shaded; values are checked as they are typed, by what the store file says;
    each heading has a note. `compare` knows such a sheet again. For delimited text, sheet= before the value of
    a layout option says how the sheet is written, live= how LIVE is read.
    """
    from pathlib import PurePath

    import neat_delta
    from neat_delta.files.codes import read_codes

    form, written = worksheet_form(output)
    inputs = [live, *([skus] if skus else [])]
    must_end_in(output, PurePath(output).suffix.lower(), *inputs)
    if live == skus == "-":
        raise click.UsageError("Only one of LIVE and --skus can be standard input.")
    request = asked(SheetRequest, settings)
    store_file = read_store_option(store, live)
    shop, store_path = store_file or (None, None)
    codes = None if skus is None else read_codes(skus)
    with working(f"Reading {live}"):
        catalogue = neat_delta.read(live, layout_from_options("live", shop.file.layout if shop else None))
        must_fit(store_file, catalogue.fields)
    layout, writing = layout_from_options("sheet", written), notation_from_options()
    with working(f"Writing {output}"):
        cut = neat_delta.sheet(catalogue, form, shop, skus=codes, layout=layout, writing=writing, request=request)
        beside = write_worksheet(cut, output, *inputs, replace=replace)
    worksheet, kept = cut.sheet, cut.kept
    if as_json:
        from neat_delta.app.outputs import SheetOutput

        print_json(
            SheetOutput(
                store=store_path,
                live=catalogue.source,
                output=output,
                items=worksheet.cells.height,
                fields=worksheet.cells.columns,
                missing=list(worksheet.missing),
                kept=dict(kept),
                base=beside,
                remembers=cut.remembers,
            )
        )
    else:
        from neat_delta.report import terminal as report
        from neat_delta.report.text import command

        compare = command("compare", live, output, *store_arguments(store))
        console, size = screen(), cut.remembers
        report.print_sheet(console, worksheet, catalogue, output, kept, compare, remembers=size, beside=beside)
    sys.stdout.flush()
    return 1 if worksheet.missing else 0
