"""Retrying: what did not land, as a change set against the catalogue as it is now."""

from __future__ import annotations

from neat_delta.core.model.catalogue import Catalogue
from neat_delta.core.model.changeset import ChangeSet
from neat_delta.core.outcome.confirm import Confirmed
from neat_delta.core.outcome.wanted import Wanted, change_set_of

__all__ = ["retry"]


def retry(changes: ChangeSet, after: Catalogue, confirmed: Confirmed) -> ChangeSet:
    """What did not land, as a change set against the catalogue `after`; an item that is there no more is left out."""
    located = confirmed.located
    verdicts = changes.items["verdict"]
    wanted: dict[int, Wanted] = {}
    for item, one in zip(confirmed.items, confirmed.trouble, strict=True):
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
