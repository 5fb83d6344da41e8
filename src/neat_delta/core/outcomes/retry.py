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
from neat_delta.core.base.support.series import constant, filtered, gathered, not_null
from neat_delta.core.outcomes.confirm import Confirmed
from neat_delta.core.outcomes.landings import (
    ALTERED_BY_STORE,
    CANNOT_TELL,
    CHANGED_SINCE,
    NO_ITEM,
    Landing,
    was_altered,
)
from neat_delta.core.outcomes.results import sent_items
from neat_delta.core.outcomes.unsent import with_held
from neat_delta.core.outcomes.wanted import change_set_of

__all__ = ["bases_of", "believed", "left_alone", "not_taken_back", "rebased", "retry"]

NEVER = Removal()
"""Items are not removed by a value of theirs."""


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
    located, lacking = confirmed.located, confirmed.lacking
    altered_by_store = lacking["how"].str.contains(ALTERED_BY_STORE).fill_null(value=False)
    asked = _asked(changes, lacking) if clashes else constant(False, lacking.height)
    kept = (lacking["left"].is_null() | asked) & (~altered_by_store | altered)
    wanted, asked = filtered(lacking, kept), asked.filter(kept)
    verdict = gathered(changes.items["verdict"], wanted["item"]).cast(pl.String)
    present = not_null(gathered(located.places, wanted["item"]))
    verdict = verdict.set((verdict == "recoded") | ((verdict == "new") & present), "changed")
    verdict = verdict.set(wanted["field"].is_null() & (verdict != "new"), "gone")
    items = pl.DataFrame({"item": wanted["item"], "verdict": verdict})
    items = items.unique("item", keep="first", maintain_order=True)
    texts = wanted["again"].zip_with(~asked, wanted["meant"]).fill_null("").alias("after")
    cells = filtered(wanted[["item", "field"]].hstack([texts]), not_null(wanted["field"]))
    return change_set_of(changes, located, after, items, cells)


def _asked(changes: ChangeSet, lacking: pl.DataFrame) -> pl.Series:
    """Whether a cell that somebody changed since can be asked about by a sheet, with what stood before as its base. Of
    a new item nothing did; and of a list what was taken out since would be put in again, as a change that fits.
    """
    lists = [name for name, field in changes.header.settings.items() if field.kind == "list"]
    fits = pl.col("before").is_not_null() & ~pl.col("field").is_in([*changes.header.key, *lists])
    asked = pl.col("left").is_in([CHANGED_SINCE, CANNOT_TELL]) & fits
    return lacking.select(asked.fill_null(value=False)).to_series()


def bases_of(changes: ChangeSet, confirmed: Confirmed) -> dict[tuple[str, ...], dict[str, str]]:
    """What stood before in the cells that somebody changed since, by the items' keys as they are now, and by field."""
    bases: dict[tuple[str, ...], dict[str, str]] = {}
    asked = filtered(confirmed.lacking, _asked(changes, confirmed.lacking))
    for item, field, before in asked[["item", "field", "before"]].iter_rows():
        bases.setdefault(confirmed.located.keys.row(item), {})[field] = before
    return bases


def left_alone(confirmed: Confirmed) -> list[Listed]:
    """What did not land and is not sent again, as it is not as it was before: each with the reason."""
    left = filtered(confirmed.lacking, not_null(confirmed.lacking["left"]))
    keys = gathered(confirmed.keys, left["item"]).iter_rows(named=True)
    return [Listed(key, *row) for key, row in zip(keys, left[["field", "left"]].iter_rows(), strict=True)]


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
    steps = confirmed.lacking.filter(pl.col("field").is_not_null() & (pl.col("again") != pl.col("meant")))
    keys = gathered(confirmed.keys, steps["item"]).iter_rows(named=True)
    rows = steps.select("field", pl.col("now").fill_null(""), "again").iter_rows()
    return [Rebased(key, *row) for key, row in zip(keys, rows, strict=True)]
