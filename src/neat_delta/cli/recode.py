"""`neat-delta recode`: a list of old and new codes in, a change set and its summary out."""

from __future__ import annotations

from datetime import date

import click

from neat_delta.cli.common import (
    accepts_from_options,
    column_mappings,
    json_option,
    key_option,
    layout_from_options,
    layout_options,
    must_fit,
    must_not_be_input,
    print_result,
    read_store_option,
    store_option,
    working,
    write_change_set,
)

__all__ = ["recode"]


@click.command(
    short_help="Give items of LIVE the new codes of a list.",
    epilog="\b\nExample, on the demo's files:\n  neat-delta recode live.csv codes.csv -o recoded.jsonl",
)
@click.argument("live")
@click.argument("codes")
@click.option("-o", "--output", metavar="FILE", help="Write the change set to FILE.")
@click.option(
    "--accept", multiple=True, metavar="CHECK[:WHICH]", help="Let through what a check found. May be repeated."
)
@click.option(
    "--map",
    "mapped",
    multiple=True,
    metavar="HEADING=FIELD",
    help='What a heading of CODES stands for: "Neu=new code". May be repeated.',
)
@store_option
@key_option
@layout_options(two=False)
@json_option
def recode(
    live: str,
    codes: str,
    output: str | None,
    accept: tuple[str, ...],
    mapped: tuple[str, ...],
    store: str | None,
    key: tuple[str, ...],
    as_json: bool,
) -> int:
    """Give the items of LIVE new codes: CODES has the old ones and, under "new code", the new ones.

    Nothing else changes but the links that point at an old code: parents, related items. A code that another item has
    and keeps is held, and so is one that two items would get. Codes may be passed on (A to B, B to C) and swapped:
    `write` puts the steps in an order that works, by way of a temporary code where it takes one.
    """
    import neat_delta

    if output:
        must_not_be_input(output, live, codes)
    store_file = read_store_option(store, live)
    shop, store_path = store_file or (None, None)
    said, _ = column_mappings(mapped, None, ())
    with working(f"Reading {live} and {codes}"):
        before = neat_delta.read(live, layout_from_options("live", shop.file.layout if shop else None))
        must_fit(store_file, before.fields)
        changes = neat_delta.recode(
            before,
            neat_delta.read(codes, layout_from_options("sheet"), like=before),
            store=shop,
            options=neat_delta.CompareOptions(
                columns=neat_delta.ColumnOptions(key, said),
                policy=neat_delta.Policy(accept=accepts_from_options(accept)),
                today=date.today().isoformat(),
            ),
        )
    if output:
        write_change_set(changes, output)
    return print_result(
        changes, output, store_path, shop, as_json=as_json, told=bool(key or (shop and shop.key.fields))
    )
