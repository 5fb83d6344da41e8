"""`neat-delta match`: which heading of the sheet is which field, with samples, before anything is compared."""

from __future__ import annotations

from typing import Any

import click

from neat_delta.app.requests import MatchRequest
from neat_delta.cli.common import (
    layout_from_options,
    layout_options,
    list_mapping,
    must_end_in,
    output_options,
    print_json,
    read_store_option,
    screen,
    store_arguments,
    store_option,
    working,
)
from neat_delta.cli.options import LISTS, argument, asked, option, settings_options, verb

__all__ = ["match"]


@verb(
    epilog="\b\nExample, on the demo's files:\n"
    "  neat-delta match live.csv supplier.csv --match-by barcode --save supplier.toml"
)
@argument("live")
@argument("sheet")
@option("--save", metavar="FILE", help="Keep the pairing in FILE, for `compare --mapping` and the next such sheet.")
@option("--replace", is_flag=True, help="Overwrite the FILE of --save if it is there.")
@store_option
@output_options
@option("--mapping", metavar="FILE", group=LISTS, help="The description of a list, as `match --save` drafts it.")
@settings_options(MatchRequest)
@layout_options(two=True)
def match(
    live: str,
    sheet: str,
    save: str | None,
    replace: bool,
    store: str | None,
    as_json: bool,
    mapping: str | None,
    **settings: Any,  # noqa: ANN401 - those of the request
) -> int:
    """Show which heading of SHEET is which field of LIVE, and how many of its rows have an item.

    A heading is paired by what you say (--map), by its exact name, by its name without case, spaces, underscores and
    hyphens, or by the other headings in the store file. Any other is left out, with the nearest field as a hint.
    """
    import neat_delta
    from neat_delta.files.mappingfile import mapping_text
    from neat_delta.files.whole import write_new

    request = asked(MatchRequest, settings)
    if live == sheet == "-":
        raise click.UsageError("Only one of LIVE and SHEET can be standard input.")
    if save:
        must_end_in(save, "", live, sheet, *([mapping] if mapping else []))
    store_file = read_store_option(store, live)
    shop, store_path = store_file or (None, None)
    known = list_mapping(mapping)
    with working(f"Reading {live} and {sheet}"):
        live_catalogue = neat_delta.read(live, layout_from_options("live", shop.file.layout if shop else None))
        layout = layout_from_options("sheet", known.file if known else None)
        sheet_catalogue = neat_delta.read(sheet, layout, like=live_catalogue)
        matches = neat_delta.match(live_catalogue, sheet_catalogue, shop, mapping=mapping, request=request)
    if save:
        write_new({save: mapping_text(matches.mapping, sheet, live, mapping).encode()}, replace=replace)
    if as_json:
        from neat_delta.app.outputs import MatchOutput

        print_json(
            MatchOutput(
                saved=save,
                store=store_path,
                key=matches.aligned.key.fields,
                rows=matches.rows,
                matched_by=matches.mapping.match_by,
                pairs=list(matches.samples),
            )
        )
    else:
        from neat_delta.report import terminal as report

        report.print_pairs(
            screen(),
            matches.aligned,
            sheet_catalogue,
            matches.samples,
            matches.rows,
            by=matches.mapping.match_by,
            store=store_path,
        )
        if save:
            from neat_delta.report.text import command

            use = command("compare", live, sheet, "--mapping", save, *store_arguments(store))
            click.echo(f"\nWrote {save}. Use it:  {use}")
    return 1 if any(row.how in {"unmatched", "not described"} for row in matches.samples) else 0
