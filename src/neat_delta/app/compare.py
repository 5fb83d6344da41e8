"""Comparing: what is given becomes catalogues, a list becomes a sheet, what is said over what files say is settled, and
the stages run. The one door to them for the command line, for a library's caller and for whoever comes next.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from typing import TYPE_CHECKING, Any

from neat_delta.app.changes import Changes, in_hand
from neat_delta.app.inputs import as_compare, read_inputs, translated
from neat_delta.app.requests import CompareRequest, RecodeRequest
from neat_delta.app.settings import request_of
from neat_delta.app.sources import Table, catalogue_of, export_of, store_of
from neat_delta.core.base.model.lists import ListMapping
from neat_delta.core.base.model.rules import Rules
from neat_delta.core.base.support.errors import SettingError
from neat_delta.core.compare.round import Round
from neat_delta.core.engine.whole import run
from neat_delta.files.whole import AnyPath

if TYPE_CHECKING:
    import polars as pl

    from neat_delta.core.base.model.store import Store
    from neat_delta.core.compare.lists.translate import TranslatedList

__all__ = ["compare", "recode", "translate"]


def compare(
    live: Table,
    sheet: Table,
    *,
    store: Store | AnyPath | None = None,
    base: Table | None = None,
    codes: Table | None = None,
    mapping: ListMapping | AnyPath | None = None,
    rules: Rules | AnyPath | None = None,
    lookups: Mapping[str, pl.DataFrame] | None = None,
    request: CompareRequest | None = None,
    today: str | None = None,
    **settings: Any,  # noqa: ANN401 - those of `CompareRequest`, which reads and checks them
) -> Changes:
    """What the sheet changes in live, keyed by item.

    `live`, `sheet`, `base` and `codes` are paths, catalogues or tables at hand (`app.sources.Table`). `store` says what
    is known of the store; without it, the fields' kinds are learned from a sample of live. The `settings` are those of
    `CompareRequest`, or the `request` has them: which columns, what is let through; what they leave open a list's
    `mapping` says, then the store file.
    `base` is the older export that the sheet was cut from, where the store has moved on since: then only what the
    sheet changed is a change, and what both changed clashes. A sheet that remembers its values is its own base.
    An item that live lacks is `new`, one that a `whole` sheet lacks is `gone`; a cell that is emptied, damaged, touched
    by a slip, unreadable or stopped by a check is in the change set, and held where nothing lets it through. The text
    after is the value as the store writes it. With a `mapping`, with `rules` (with the tables that they look up in, if
    no file names those), or with what is only said of a list, the sheet is a list in a language of its own. The `codes`
    that items get stand in the sheet beside the old ones, or in a list; with a list, an item is looked for in the sheet
    under its new code, too; what of a list is new and has no code is `without_code`. Standing exceptions end before
    `today` (ISO 8601; None: none has ended).

    SettingError for a setting that is none, CatalogueError when the two cannot be compared, StoreError and
    ConditionError for what a file says.

    >>> live = {"sku": ["QA-1", "QA-2"], "price": ["9.90", "20.00"]}
    >>> sheet = [{"sku": "QA-2", "price": "20.00"}, {"sku": "QA-1", "price": ""}]
    >>> [(item.key, item.cells) for item in compare(live, sheet, accept="emptied").iter_items()]
    [({'sku': 'QA-1'}, {'price': ('9.90', '')})]
    """
    asked = request or request_of(CompareRequest, settings)
    inputs = read_inputs(live, sheet, asked, store=store, mapping=mapping, base=base, of_a_list=rules is not None)
    described, within, edited, new = inputs.described, list[str](), inputs.sheet, None
    if described is not None:
        within, translated_list = described.whole_within, translated(inputs, rules, lookups)
        edited, new = translated_list.sheet, translated_list.new
    elif asked.let:
        raise SettingError("let", "this goes with ‹rules›, or with those of a list.")
    if asked.with_gone and not (inputs.asked.whole or within):
        raise SettingError(
            "with_gone",
            "this removes the items that the sheet lacks. If the sheet is meant to have every item, say ‹whole›, too.",
        )
    listed = None if codes is None else catalogue_of(codes, "codes", inputs.store, like=inputs.live)
    options = inputs.asked.options(within, today=today)
    done = run(Round(inputs.live, edited, inputs.store, options, listed, inputs.base))
    return replace(in_hand(done.changes, inputs.live, inputs.store), without_code=new)


def translate(
    live: Table,
    supplied: Table,
    mapping: ListMapping | AnyPath,
    store: Store | AnyPath | None = None,
    *,
    rules: Rules | AnyPath | None = None,
    lookups: Mapping[str, pl.DataFrame] | None = None,
    request: CompareRequest | None = None,
    **settings: Any,  # noqa: ANN401
) -> TranslatedList:
    """A list as a sheet of the store, which `compare` takes like any other; its inputs and settings are those of
    `compare`.

    >>> mapping = ListMapping(match_by=["barcode"], headings={"EAN": "barcode", "Trade": "cost"})
    >>> live = {"sku": ["QA-1"], "barcode": ["29001"], "cost": ["5.00"]}
    >>> translate(live, {"EAN": ["29001"], "Trade": ["5.20"]}, mapping).sheet.cells.rows(named=True)
    [{'sku': 'QA-1', 'barcode': '29001', 'cost': '5.20'}]
    """
    asked = request or request_of(CompareRequest, settings)
    return translated(read_inputs(live, supplied, asked, store=store, mapping=mapping), rules, lookups)


def recode(
    live: Table,
    codes: Table,
    *,
    store: Store | AnyPath | None = None,
    request: RecodeRequest | None = None,
    today: str | None = None,
    **settings: Any,  # noqa: ANN401 - those of `RecodeRequest`
) -> Changes:
    """The change set of a list of code changes: the key, and beside it the new code (`NEW_CODE`, or what is for it).

    Every row of the list is accounted for; items that it does not name are the same, but for links that follow a code.
    What cannot be is held with the reason: a code that another item has and keeps, or that two would get. Inputs and
    settings as in `compare`.

    >>> live = {"sku": ["QA-1", "QA-2"], "price": ["9.90", "20.00"]}
    >>> [item.cells for item in recode(live, {"sku": ["QA-1"], "new code": ["QA-9"]}).iter_items()]
    [{'sku': ('QA-1', 'QA-9')}]
    """
    known = store_of(store)
    asked = as_compare(request or request_of(RecodeRequest, settings))
    before = export_of(live, "live", known)
    listed = catalogue_of(codes, "codes", known, like=before)
    done = run(Round(before, listed, known, asked.options(today=today), listed_codes=True))
    return in_hand(done.changes, before, known)
