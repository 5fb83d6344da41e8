"""Undoing: what takes the sent changes back, against the catalogue as it is now."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import replace
from itertools import groupby
from operator import itemgetter

import msgspec
import polars as pl

from neat_delta.core.diff.clashes import merged_list
from neat_delta.core.model.catalogue import Catalogue
from neat_delta.core.model.changeset import ChangeSet
from neat_delta.core.model.importer import Importer
from neat_delta.core.model.store import Field
from neat_delta.core.outcome.confirm import NO_ITEM, PLAIN, Landing, confirm, list_values
from neat_delta.core.outcome.located import Located
from neat_delta.core.outcome.retry import was_altered
from neat_delta.core.outcome.wanted import Wanted, applied, change_set_of
from neat_delta.core.support.series import gathered

__all__ = ["revert"]


def revert(
    changes: ChangeSet,
    live: Catalogue,
    now: Catalogue | None = None,
    importer: Importer = PLAIN,
    *,
    altered: bool = False,
) -> tuple[ChangeSet, Catalogue, list[Landing]]:
    """What takes the sent changes back, as a change set against the catalogue as it is `now` (None: with every change
    landed), that catalogue, and what is left alone, since it does not stand as we set it: somebody changed it since, or
    the item is not there any more, under any code of the round.

    What stands as it was before needs nothing; what the store rounded or cut by itself is taken back if `altered`. A
    new item is removed only if all of it stands just as it was sent, what was left blank included; one that was removed
    comes back as live had it.
    """
    key, removal = changes.header.key, importer.removal
    retires = str(removal.heading) if removal.how == "value" else None
    after = now if now is not None else applied(changes, live, removal)
    result = confirm(changes, live, after, importer)
    troubles = list(zip(result.items, result.trouble, strict=True))
    halfway = {(item, name) for item in result.located.between for name in key}  # its old code again, at any rate
    taken = halfway | {(item, one.field) for item, one in troubles if altered and was_altered(one)}
    other = {(item, one.field) for item, one in troubles} - taken
    away = {item for item, again in zip(result.items, result.again, strict=True) if again.left == NO_ITEM}
    left = [one for item, one in troubles
            if (one.outcome == "differently" or item in away) and (item, one.field) not in taken]  # fmt: skip
    located = result.located
    there, places, verdicts = located.places.to_list(), located.live_rows.to_list(), changes.items["verdict"].to_list()
    troubled: dict[int, list[Landing]] = {}
    for item, one in troubles:
        troubled.setdefault(item, []).append(one)
    wanted: dict[int, Wanted] = {}
    lists = {name: field for name, field in changes.header.settings.items() if field.kind == "list"}
    for number, cells in _as_they_stand(changes, located, after):
        stands, unclear = _standing(changes, number, cells, there[number], other, lists)
        left += unclear
        if verdicts[number] in {"changed", "recoded"}:
            if stands:
                wanted[number] = ("changed", stands)
        elif there[number] is not None:
            grown = _grown(changes, number, {one[0] for one in cells}, after, there[number], importer)
            if len(stands) == len(cells) and not grown:
                wanted[number] = ("gone", {})
            elif not any(one.outcome == "differently" for one in troubled.get(number, ())):
                left += grown or troubled.get(number, [])
    items = changes.items.with_row_index("item").filter((pl.col("verdict") == "gone") & pl.col("held").is_null())
    for number in items["item"]:
        if retires is not None and there[number] is not None:
            if after.cells[retires][there[number]] == removal.value:
                wanted[number] = ("changed", {retires: live.cells[retires][places[number]]})
        elif there[number] is None:
            row = live.cells.row(places[number], named=True)
            wanted[number] = ("new", {name: text for name, text in row.items() if name not in key and text.strip()})
    codes = {*key} & {*changes.header.fields}
    fields = [name for name in live.fields if name in after.fields and (name not in key or name in codes)]
    header = msgspec.structs.replace(changes.header, fields=fields)
    return change_set_of(replace(changes, header=header), located, after, wanted), after, left


_Sent = tuple[str, str | None, str, str | None]
"""A cell that was sent: its field, the text before, the text meant, and the text that stands there now."""


def _as_they_stand(changes: ChangeSet, located: Located, after: Catalogue) -> Iterator[tuple[int, list[_Sent]]]:
    """The items of which something was sent, in their order, each with its cells; not those of which nobody knows what
    stood there before.
    """
    sent = changes.sent().with_columns(pl.col("field").cast(pl.String))
    sent = sent.filter(~(pl.col("field").is_in(changes.header.unseen) & pl.col("before").is_not_null()))
    now = after.texts(sent["field"], gathered(located.places, sent["item"]))
    rows = sent.select("item", "field", "before", "after", now=now).iter_rows()
    for item, cells in groupby(rows, key=itemgetter(0)):
        yield item, [cell[1:] for cell in cells]


def _standing(
    changes: ChangeSet,
    item: int,
    cells: list[_Sent],
    place: int | None,
    other: set[tuple[int, str | None]],
    lists: Mapping[str, Field],
) -> tuple[dict[str, str], list[Landing]]:
    """What takes back the cells of an item that stand as they were sent, by field; and those that do, and of which
    nobody can tell what takes them back.
    """
    stands, unclear = dict[str, str](), list[Landing]()
    for field, before, meant, now in cells:
        if place is None or (item, field) in other:
            continue
        back = _back(lists.get(field), before, meant, now)
        if back is None:
            unclear.append(Landing(changes.keys.row(item, named=True), field, before, meant, now, "differently"))
        else:
            stands[field] = back
    return stands, unclear


def _back(field: Field | None, before: str | None, meant: str, now: str | None) -> str | None:
    """What takes a cell back that landed: the text before; or, where its `field` is one of lists, the list without what
    was added to it and with what was taken from it, whatever else is in it by now; None where that is not to be told.
    """
    if field is None or before is None or now is None or list_values(now, field) == list_values(meant, field):
        return before or ""
    return merged_list(meant, now, before, field)


def _grown(
    changes: ChangeSet, item: int, sent: set[str], after: Catalogue, place: int, importer: Importer
) -> list[Landing]:
    """What stands in a new item by now where we sent nothing, but for what the importer fills in and what moves."""
    key = changes.keys.row(item, named=True)
    grown = []
    for name, text in after.cells.row(place, named=True).items():
        moving = changes.header.settings.get(name, Field()).moving
        if name in sent or name in key or moving or not text.strip() or text == importer.defaults.get(name):
            continue
        grown.append(Landing(key, name, None, "", text, "differently"))
    return grown
