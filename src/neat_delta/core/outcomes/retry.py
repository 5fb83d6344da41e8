"""Retrying: what did not land, as a change set against the catalogue as it is now, or as it is believed to be.

Rule: only what still stands as it was before is sent again. What moved since stays as it is, and is listed.
"""

from __future__ import annotations

from collections.abc import Collection, Sequence

import polars as pl

from neat_delta.core.base.model.after import applied
from neat_delta.core.base.model.catalogue import Catalogue
from neat_delta.core.base.model.changeset import ChangeSet
from neat_delta.core.base.model.importer import Removal
from neat_delta.core.base.model.manifest import Listed, Rebased
from neat_delta.core.base.model.store import Field
from neat_delta.core.outcomes.confirm import Confirmed
from neat_delta.core.outcomes.landings import ALTERED, CANNOT_TELL, CHANGED_SINCE, NO_ITEM, Again, Landing
from neat_delta.core.outcomes.results import sent_items
from neat_delta.core.outcomes.unsent import with_held
from neat_delta.core.outcomes.wanted import change_set_of

__all__ = ["bases_of", "believed", "left_alone", "not_taken_back", "rebased", "retry", "was_altered"]

NEVER = Removal()
"""Items are not removed by a value of theirs."""


def was_altered(landing: Landing) -> bool:
    """Whether the store took a value and made another of it: rounded, cut, in other case.

    >>> was_altered(Landing({"sku": "QA-1"}, "price", "9.00", "9.90", "10", "differently", "rounded"))
    True
    """
    return landing.how is not None and landing.how.startswith(ALTERED)


def believed(changes: ChangeSet, live: Catalogue, done: Collection[int], removal: Removal = NEVER) -> Catalogue:
    """The catalogue as it is believed to be where nobody exported it: live, with what was sent of these items."""
    others = pl.Series([item for item in sent_items(changes) if item not in done], dtype=pl.Int64)
    unsent = pl.DataFrame({"item": others}).with_columns(field=pl.lit(None, pl.String), reason=pl.lit("not done"))
    return applied(with_held(changes, unsent), live, removal)


def retry(
    changes: ChangeSet, after: Catalogue, confirmed: Confirmed, *, altered: bool = False, clashes: bool = False
) -> ChangeSet:
    """What did not land and stands as it was before, as a change set against the catalogue `after`; what the store
    altered by itself is left out, unless `altered`. With `clashes` the cells that somebody changed since are in it,
    too, at the text that was meant: to be looked at (`bases_of`), and not to be sent.
    """
    located = confirmed.located
    verdicts = changes.items["verdict"]
    wanted: dict[int, str] = {}
    cells: list[tuple[int, str, str]] = []
    for item, landing, again in zip(confirmed.items, confirmed.trouble, confirmed.again, strict=True):
        clash = clashes and _asks(changes, landing, again)
        if (again.left is not None and not clash) or (was_altered(landing) and not altered):
            continue
        verdict = {"recoded": "changed"}.get(verdicts[item], verdicts[item])
        if verdict == "new" and located.places[item] is not None:
            verdict = "changed"
        wanted.setdefault(item, "gone" if landing.field is None and verdict != "new" else verdict)
        if landing.field is not None:
            cells.append((item, landing.field, (landing.meant if clash else again.text) or ""))
    items = pl.DataFrame(list(wanted.items()), {"item": pl.Int64, "verdict": pl.String}, orient="row")
    texts = pl.DataFrame(cells, {"item": pl.Int64, "field": pl.String, "after": pl.String}, orient="row")
    return change_set_of(changes, located, after, items, texts)


def _asks(changes: ChangeSet, landing: Landing, again: Again) -> bool:
    """Whether a cell that somebody changed since can be asked about by a sheet, with what stood before as its base. Of
    a new item nothing did; and of a list what was taken out since would be put in again, as a change that fits.
    """
    if again.left not in {CHANGED_SINCE, CANNOT_TELL} or landing.field is None or landing.before is None:
        return False
    return (
        landing.field not in changes.header.key and changes.header.settings.get(landing.field, Field()).kind != "list"
    )


def bases_of(changes: ChangeSet, confirmed: Confirmed) -> dict[tuple[str, ...], dict[str, str]]:
    """What stood before in the cells that somebody changed since, by the items' keys as they are now, and by field."""
    bases: dict[tuple[str, ...], dict[str, str]] = {}
    for item, landing, again in zip(confirmed.items, confirmed.trouble, confirmed.again, strict=True):
        if landing.field is not None and _asks(changes, landing, again):
            bases.setdefault(confirmed.located.keys.row(item), {})[landing.field] = landing.before or ""
    return bases


def left_alone(confirmed: Confirmed) -> list[Listed]:
    """What did not land and is not sent again, as it is not as it was before: each with the reason."""
    return [
        Listed(landing.key, landing.field, again.left)
        for landing, again in zip(confirmed.trouble, confirmed.again, strict=True)
        if again.left is not None
    ]


def not_taken_back(left: Sequence[Landing]) -> list[Listed]:
    """What an undo leaves alone, as it does not stand as it was sent: each with the reason.

    >>> [entry.reason for entry in not_taken_back([Landing({"sku": "QA-1"}, "price", "9", "10", "11", "differently")])]
    ['it is neither as it was nor as it was meant: somebody changed it since']
    """
    return [
        Listed(
            landing.key,
            landing.field,
            str(landing.how) if was_altered(landing) else NO_ITEM if landing.now is None else CHANGED_SINCE,
        )
        for landing in left
    ]


def rebased(confirmed: Confirmed) -> list[Rebased]:
    """The cells that are sent again at another text than was meant, as a step counts from what stands there now."""
    return [
        Rebased(landing.key, landing.field, landing.now or "", again.text)
        for landing, again in zip(confirmed.trouble, confirmed.again, strict=True)
        if landing.field is not None and again.text is not None and again.text != landing.meant
    ]
