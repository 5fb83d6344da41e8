"""The answers of reviewers put to a change set. A clash that was let through is checked here, as it was not before."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from functools import cache, partial
from typing import TYPE_CHECKING

import msgspec
import polars as pl

from neat_delta.core.base.model.schemas import FINDINGS, empty
from neat_delta.core.base.model.store import Store
from neat_delta.core.compare.checks import check_changes
from neat_delta.core.compare.decide.consequences import settle
from neat_delta.core.compare.decide.decide import as_findings, decide
from neat_delta.core.compare.decide.policy import Policy, levels_of, standing_exceptions
from neat_delta.core.review.answers import Answers, SignedOff, sign_off
from neat_delta.core.sheets.match.keys import KeyIndex

if TYPE_CHECKING:
    from neat_delta.core.base.model.catalogue import Catalogue
    from neat_delta.core.base.model.changeset import ChangeSet

__all__ = ["answer"]


def answer(
    changes: ChangeSet,
    live: Catalogue,
    answers: Sequence[Answers],
    store: Store | None = None,
    *,
    today: str | None = None,
) -> SignedOff:
    """Sign off a change set, and check what clashed and is let through; what a check stops is held.

    `live` is the change set's own, with all of its fields; `store` says the levels of the checks, `today` (ISO 8601)
    which exceptions have ended. ChangeSetError as `sign_off`.

    >>> from neat_delta import as_catalogue, compare
    >>> live = as_catalogue({"sku": ["QA-1"], "price": ["9.90"]}, "live")
    >>> sheet = as_catalogue({"sku": ["QA-1"], "price": ["10.50"]}, "sheet")
    >>> answer(compare(live, sheet), live, []).changes.cells["held"].to_list()
    ['not signed off']
    """
    signed = sign_off(changes, answers)
    if not signed.released.height:
        return signed
    header = signed.changes.header
    by_now = header.store_by_now(store)
    levels_by_now = {"checks": by_now.checks, "largest_round": by_now.largest_round, "exceptions": by_now.exceptions}
    shop = msgspec.structs.replace(header.store, **levels_by_now)
    levels = levels_of(shop, learned=header.learned)
    findings = check_changes(signed.changes, live, shop, levels, empty(FINDINGS), new_values=header.new_values)
    of_released = pl.col("item").is_in(signed.released["item"].unique().implode()).fill_null(value=False)
    index = cache(lambda: KeyIndex.of(signed.changes.keys, header.compared_by))
    policy = Policy(accept=header.accepted, new_values=header.new_values)
    judged = partial(decide, index=index, policy=policy, exceptions=standing_exceptions(shop, today))
    decided = judged(findings.filter(of_released))
    before = as_findings(signed.changes).with_columns(done=pl.lit("held"))
    return replace(signed, changes=settle(signed.changes, pl.concat([before, decided]), live))
