"""`neat-delta recode`: a list of old and new codes in, a change set and its summary out."""

from __future__ import annotations

from datetime import date
from typing import Any

from neat_delta.app.requests import RecodeRequest
from neat_delta.cli.common import (
    hand_over,
    layout_from_options,
    layout_options,
    must_fit,
    must_not_be_input,
    output_options,
    read_store_option,
    store_option,
    working,
)
from neat_delta.cli.keeping import ledger_option
from neat_delta.cli.options import argument, asked, option, settings_options, verb

__all__ = ["recode"]


@verb(
    epilog="\b\nExample, on the demo's files:\n  neat-delta recode live.csv codes.csv -o recoded.jsonl",
)
@argument("live")
@argument("codes")
@option("-o", "--output", metavar="FILE", help="Write the change set to FILE (- for standard output).")
@store_option
@ledger_option
@output_options
@settings_options(RecodeRequest)
@layout_options(two=False)
def recode(
    live: str,
    codes: str,
    output: str | None,
    store: str | None,
    as_json: bool,
    **settings: Any,  # noqa: ANN401 - those of the request
) -> int:
    """Give the items of LIVE new codes: CODES has the old ones and, under "new code", the new ones.

    Nothing else changes but the links that point at an old code: parents, related items. A code that another item has
    and keeps is held, and so is one that two items would get. Codes may be passed on (A to B, B to C) and swapped:
    `write` puts the steps in an order that works, by way of a temporary code where it takes one.
    """
    import neat_delta

    request = asked(RecodeRequest, settings)
    if output and output != "-":
        must_not_be_input(output, live, codes)
    store_file = read_store_option(store, live)
    shop, store_path = store_file or (None, None)
    with working(f"Reading {live} and {codes}"):
        before = neat_delta.read(live, layout_from_options("live", shop.file.layout if shop else None))
        must_fit(store_file, before.fields)
        listed = neat_delta.read(codes, layout_from_options("sheet"), like=before)
        changes = neat_delta.recode(before, listed, store=shop, request=request, today=date.today().isoformat())
    kinds_given = bool(request.key or (shop and shop.key.fields))
    return hand_over(changes, output, store_path, shop, as_json=as_json, kinds_given=kinds_given)
