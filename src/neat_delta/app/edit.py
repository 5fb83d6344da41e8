"""Values by rule: what rules change in live, without a sheet."""

from __future__ import annotations

from collections.abc import Mapping
from typing import TYPE_CHECKING

from neat_delta.core.engine.options import CompareOptions
from neat_delta.core.engine.whole import compare
from neat_delta.core.rules.edited import edited

if TYPE_CHECKING:
    import polars as pl

    from neat_delta.core.model.catalogue import Catalogue
    from neat_delta.core.model.changeset import ChangeSet
    from neat_delta.core.model.rules import Rules
    from neat_delta.core.model.store import Store

__all__ = ["edit"]

DEFAULTS = CompareOptions()


def edit(
    live: Catalogue,
    rules: Rules,
    *,
    store: Store | None = None,
    options: CompareOptions = DEFAULTS,
    lookups: Mapping[str, pl.DataFrame] | None = None,
    values: Mapping[str, str] | None = None,
    path: str = "rules",
) -> ChangeSet:
    """The change set of what rules make of live. `lookups` are the tables that they name, `values` what `:name` stands
    for besides; `path` names them in messages. ConditionError names the rule and the word that means nothing there.

    >>> from neat_delta import as_catalogue
    >>> from neat_delta.core.model.rules import Rule, Rules
    >>> live = as_catalogue({"sku": ["QA-1", "QA-2"], "price": ["9.90", "20.00"]}, "live")
    >>> rules = Rules(rule=[Rule("spring", {"price": "ROUND(price * 1.05, 2)"}, where="price > 10")])
    >>> [(item.key, item.cells) for item in edit(live, rules).iter_items()]
    [({'sku': 'QA-2'}, {'price': ('20.00', '21.00')})]
    """
    import msgspec

    content = msgspec.json.encode([rules, dict(values or {})])
    sheet = edited(
        live,
        rules,
        store,
        key=options.columns.key,
        added=options.columns.added,
        lookups=lookups,
        values=values,
        path=path,
        content=content,
    )
    return compare(live, sheet, store=store, options=options)
