"""Values by rule: what rules change in live, without a sheet."""

from __future__ import annotations

from collections.abc import Mapping
from typing import TYPE_CHECKING, Any

import msgspec

from neat_delta.app.changes import Changes, in_hand
from neat_delta.app.inputs import as_compare, rules_of
from neat_delta.app.requests import EditRequest
from neat_delta.app.settings import request_of
from neat_delta.app.sources import Table, export_of, store_of
from neat_delta.core.base.model.rules import Rule, Rules
from neat_delta.core.base.support.errors import SettingError
from neat_delta.core.compare.round import Round
from neat_delta.core.engine.whole import run
from neat_delta.core.sheets.rules.edited import edited
from neat_delta.files.whole import AnyPath

if TYPE_CHECKING:
    import polars as pl

    from neat_delta.core.base.model.catalogue import Catalogue
    from neat_delta.core.base.model.store import Store

__all__ = ["edit"]


def edit(
    live: Table,
    rules: Rules | AnyPath | None = None,
    *,
    store: Store | AnyPath | None = None,
    lookups: Mapping[str, pl.DataFrame] | None = None,
    request: EditRequest | None = None,
    today: str | None = None,
    name: str | None = None,
    **settings: Any,  # noqa: ANN401 - those of `EditRequest`, which reads and checks them
) -> Changes:
    """The change set of what rules make of live: those of a file or given as they are, or what is to be `set`, in the
    items `where` it is. `lookups` are the tables that rules name, where no file does, and `name` is what messages call
    them. Inputs and settings as in `compare`. ConditionError names the rule and the word that means nothing there.

    >>> live = {"sku": ["QA-1", "QA-2"], "price": ["9.90", "20.00"]}
    >>> changes = edit(live, set={"price": "ROUND(price * 1.05, 2)"}, where="price > 10")
    >>> [(item.key, item.cells) for item in changes.iter_items()]
    [({'sku': 'QA-2'}, {'price': ('20.00', '21.00')})]
    """
    known = store_of(store)
    asked = request or request_of(EditRequest, settings)
    before = export_of(live, "live", known, deferred=True)
    book, path, tables = _rules(rules, asked, before, lookups)
    sheet = edited(
        before,
        book,
        known,
        key=asked.key,
        added=asked.add_field,
        lookups=tables,
        values=asked.let,
        path=name or path,
        content=msgspec.json.encode([book, asked.let]),
    )
    done = run(Round(before, sheet, known, as_compare(asked).options(today=today)))
    return in_hand(done.changes, before, known)


def _rules(
    rules: Rules | AnyPath | None, asked: EditRequest, live: Catalogue, lookups: Mapping[str, pl.DataFrame] | None
) -> tuple[Rules, str, Mapping[str, pl.DataFrame]]:
    """The rules that are asked for, what they are known by in messages, and the tables that they look up in."""
    if (rules is None) == (not asked.set):
        raise SettingError("set", 'say what to set, such as "price = ROUND(price * 1.05, 2)", or name ‹rules›.')
    if rules is not None and asked.where is not None:
        raise SettingError("where", "this goes with ‹set›. In a rules file each rule has its own where.")
    book, path, tables = rules_of(rules, live, lookups)
    return (book, path, tables) if book else (Rules(rule=[Rule("set", asked.set, asked.where)]), "rules", tables)
