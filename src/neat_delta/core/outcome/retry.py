"""Retrying: what did not land, as a change set against the catalogue as it is now, or as it is believed to be."""

from __future__ import annotations

from collections.abc import Collection

import polars as pl

from neat_delta.core.model.catalogue import Catalogue
from neat_delta.core.model.changeset import ChangeSet
from neat_delta.core.model.importer import Removal
from neat_delta.core.outcome.confirm import ALTERED, NEVER, Confirmed, Landing
from neat_delta.core.outcome.results import sent_items
from neat_delta.core.outcome.unsent import with_held
from neat_delta.core.outcome.wanted import Wanted, applied, change_set_of

__all__ = ["believed", "retry", "was_altered"]


def was_altered(one: Landing) -> bool:
    """Whether the store took a value and made another of it: rounded, cut, in other case.

    >>> was_altered(Landing({"sku": "QA-1"}, "price", "9.00", "9.90", "10", "differently", "rounded"))
    True
    """
    return one.how is not None and one.how.startswith(ALTERED)


def believed(changes: ChangeSet, live: Catalogue, done: Collection[int], removal: Removal = NEVER) -> Catalogue:
    """The catalogue as it is believed to be where nobody exported it: live, with what was sent of these items."""
    others = pl.Series([item for item in sent_items(changes) if item not in done], dtype=pl.Int64)
    unsent = pl.DataFrame({"item": others}).with_columns(field=pl.lit(None, pl.String), reason=pl.lit("not done"))
    return applied(with_held(changes, unsent), live, removal)


def retry(changes: ChangeSet, after: Catalogue, confirmed: Confirmed, *, altered: bool = False) -> ChangeSet:
    """What did not land, as a change set against the catalogue `after`; an item that is there no more is left out, and
    so is what the store altered by itself, unless `altered`.
    """
    located = confirmed.located
    verdicts = changes.items["verdict"]
    wanted: dict[int, Wanted] = {}
    for item, one in zip(confirmed.items, confirmed.trouble, strict=True):
        if was_altered(one) and not altered:
            continue
        verdict = {"recoded": "changed"}.get(verdicts[item], verdicts[item])
        _, cells = wanted.setdefault(item, ("gone" if one.field is None else verdict, {}))
        if one.field is not None:
            cells[one.field] = one.meant or ""
    for item, (verdict, cells) in list(wanted.items()):
        if verdict == "new" and located.places[item] is not None:
            wanted[item] = ("changed", cells)
        elif verdict == "changed" and located.places[item] is None:
            del wanted[item]
    return change_set_of(changes, located, after, wanted)
