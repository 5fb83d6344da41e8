"""The whole run in memory: two catalogues in, change set out. The stages, one after the other."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING

from neat_delta.core.engine.assemble import assemble
from neat_delta.core.engine.options import CompareOptions
from neat_delta.core.engine.round import Round
from neat_delta.core.engine.stages import check, decide, detect, diff, judge, match, merge, prepare

if TYPE_CHECKING:
    from neat_delta.core.model.catalogue import Catalogue
    from neat_delta.core.model.changeset import ChangeSet
    from neat_delta.core.model.store import Store

__all__ = ["STAGES", "compare", "recode", "run"]

DEFAULTS = CompareOptions()


def recode(
    live: Catalogue, codes: Catalogue, *, store: Store | None = None, options: CompareOptions = DEFAULTS
) -> ChangeSet:
    """The change set of a list of code changes: the key, and beside it the new code (`NEW_CODE`, or what is for it).

    Every row of the list is accounted for; items that it does not name are the same, but for links that follow a code.
    What cannot be is held with the reason: a code that another item has and keeps, or that two would get. Otherwise as
    `compare`.

    >>> from neat_delta import as_catalogue
    >>> live = as_catalogue({"sku": ["QA-1", "QA-2"], "price": ["9.90", "20.00"]}, "live")
    >>> codes = as_catalogue({"sku": ["QA-1"], "new code": ["QA-9"]}, "codes")
    >>> [item.cells for item in recode(live, codes).iter_items()]
    [{'sku': ('QA-1', 'QA-9')}]
    """
    return run(Round(live, codes, store, options, listed_codes=True)).changes


def compare(
    live: Catalogue,
    sheet: Catalogue,
    *,
    store: Store | None = None,
    options: CompareOptions = DEFAULTS,
    codes: Catalogue | None = None,
    base: Catalogue | None = None,
) -> ChangeSet:
    """What the sheet changes in live, keyed by item.

    `store` says what is known of the store; without it, the fields' kinds are learned from a sample of live. `options`
    are what is said besides: which columns, what is let through, how the sheet writes values.
    `base` is the older export that the sheet was cut from, where the store has moved on since: then only what the
    sheet changed is a change, and what both changed clashes. A sheet that remembers its values is its own base.
    An item that live lacks is `new`, one that a whole sheet lacks (`options.whole`) is `gone`; a cell that is emptied,
    damaged, touched by a slip, unreadable or stopped by a check is in the change set, and held where the policy does
    not let it through. The text after is the value as the store writes it. With a mapping that was kept
    (`options.columns.saved`) the sheet is a list in a language of its own: what is one value there is no change. The
    codes that items get stand in the sheet beside the old ones, or in a list (`codes`); with a list, an item is looked
    for in the sheet under its new code, too. Raises CatalogueError when the two cannot be compared.

    >>> from neat_delta import as_catalogue
    >>> live = as_catalogue({"sku": ["QA-1", "QA-2"], "price": ["9.90", "20.00"]}, "live")
    >>> sheet = as_catalogue({"sku": ["QA-2", "QA-1"], "price": ["20.00", "10.50"]}, "sheet")
    >>> [(item.key, item.cells) for item in compare(live, sheet).iter_items()]
    [({'sku': 'QA-1'}, {'price': ('9.90', '10.50')})]
    """
    return run(Round(live, sheet, store, options, codes, base)).changes


STAGES: tuple[Callable[[Round], Round], ...] = (
    prepare,
    match,
    diff,
    detect,
    merge,
    judge,
    assemble,
    check,
    decide,
)
"""In the order of the work: each takes a round and gives it with what it adds."""


def run(round_: Round) -> Round:
    """The round once it has gone through all the stages.

    >>> from neat_delta import as_catalogue
    >>> live = as_catalogue({"sku": ["QA-1"], "price": ["9.90"]}, "live")
    >>> sheet = as_catalogue({"sku": ["QA-1"], "price": ["10.50"]}, "sheet")
    >>> run(Round(live, sheet, None, CompareOptions())).changes.header.counts.changed
    1
    """
    for stage in STAGES:
        round_ = stage(round_)
    return round_
