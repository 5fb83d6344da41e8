"""Undoing: what takes the sent changes back, against the catalogue as it is now."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace

import msgspec
import polars as pl

from neat_delta.core.base.model.after import applied, rows_in_live
from neat_delta.core.base.model.catalogue import Catalogue
from neat_delta.core.base.model.changeset import ChangeSet
from neat_delta.core.base.model.importer import Importer, Removal
from neat_delta.core.base.model.store import Field
from neat_delta.core.base.model.update import ITEM
from neat_delta.core.base.support.series import constant, filtered, gathered, in_lines, not_null, scattered, true_places
from neat_delta.core.compare.diff.clashes import merged_list
from neat_delta.core.outcomes.confirm import Confirmed, confirm
from neat_delta.core.outcomes.landings import ALTERED_BY_STORE, NO_ITEM, PLAIN, Landing, landings_of, list_values
from neat_delta.core.outcomes.located import Located
from neat_delta.core.outcomes.wanted import change_set_of

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
    after = now if now is not None else applied(changes, live, removal)
    result = confirm(changes, live, after, importer)
    located = result.located
    halfway = pl.col("item").is_in([*located.between]) & pl.col("field").is_in(key)  # its old code again, at any rate
    by_itself = pl.col("how").str.contains(ALTERED_BY_STORE) if altered else pl.lit(value=False)
    other = result.lacking.filter(~(halfway | by_itself).fill_null(value=False))
    away = result.lacking.filter(pl.col("left") == NO_ITEM)["item"]
    left = landings_of(
        other.filter((pl.col("outcome") == "differently") | pl.col("item").is_in(away.implode())), changes.keys
    )
    sent = _as_they_stand(changes, located, after)
    standing, unclear = _ways_back(changes, sent, other)
    verdict, present = changes.items["verdict"], not_null(located.places)
    free = ~not_null(changes.items["held"])
    new = true_places(free & present & (verdict == "new")).cast(pl.Int64)
    gone, lost = (true_places(free & (verdict == "gone") & side).cast(pl.Int64) for side in (present, ~present))
    grown = _grown(changes, new, sent, located, after, importer)
    lost_cells = sent.join(standing, on=["item", "field"], how="anti")
    broken = new.is_in(lost_cells["item"].implode()) | new.is_in([*grown])
    complete = new.filter(~broken)
    left += _left_alone(unclear, [*new.filter(broken)], grown, result)
    retired = _retired(gone, live, located, after, removal)
    known = filtered(standing, gathered(verdict, standing["item"]) != "new")
    changed = pl.concat([known.select("item", "field", after="back"), retired])
    wanted = {"changed": changed["item"].unique(maintain_order=True), "gone": complete, "new": lost}
    items = pl.concat(
        [pl.DataFrame({"item": some}).with_columns(verdict=pl.lit(kind)) for kind, some in wanted.items()]
    )
    texts = in_lines(rows_in_live(live, located.live_rows, lost).drop(ITEM, *key), lost.alias("item"))
    texts = texts.cast({"text": pl.String})  # also where live has nothing but the key
    texts = filtered(texts, texts["text"].str.strip_chars() != "").rename({"text": "after"})
    codes = {*key} & {*changes.header.fields}
    fields = [name for name in live.fields if name in after.fields and (name not in key or name in codes)]
    header = msgspec.structs.replace(changes.header, fields=fields)
    return (
        change_set_of(replace(changes, header=header), located, after, items, pl.concat([changed, texts])),
        after,
        left,
    )


def _as_they_stand(changes: ChangeSet, located: Located, after: Catalogue) -> pl.DataFrame:
    """The cells that were sent (`item`, `field`, `before`, `after`), each with the text that stands there `now`, null
    where there is no item; not those of which nobody knows what stood there before.
    """
    sent = changes.sent().with_columns(pl.col("field").cast(pl.String), pl.col("item").cast(pl.Int64))
    sent = sent.filter(~(pl.col("field").is_in(changes.header.unseen) & pl.col("before").is_not_null()))
    now = after.texts(sent["field"], gathered(located.places, sent["item"]))
    return sent.select("item", "field", "before", "after", now=now)


def _ways_back(
    changes: ChangeSet, sent: pl.DataFrame, other: pl.DataFrame
) -> tuple[pl.DataFrame, list[tuple[int, Landing]]]:
    """The cells that stand as they were sent (all but those in which there is something `other`), each with the text
    that takes it `back`; and those of which nobody can tell what does, with the numbers of their items.
    """
    stands = filtered(sent, not_null(sent["now"]))
    stands = stands.join(other, on=["item", "field"], how="anti", maintain_order="left")
    stands = stands.with_columns(back=pl.col("before").fill_null(""))
    lists = {name: field for name, field in changes.header.settings.items() if field.kind == "list"}
    grown = pl.col("before").is_not_null() & (pl.col("now") != pl.col("after")) & pl.col("field").is_in([*lists])
    places = true_places(stands.select(grown).to_series())
    unclear = list[tuple[int, Landing]]()
    texts = list[str | None]()
    for item, name, before, meant, now, _ in gathered(stands, places).iter_rows():
        texts.append(_back(lists[name], before, meant, now))
        if texts[-1] is None:
            key = changes.keys.row(item, named=True)
            unclear.append((item, Landing(key, name, before, meant, now, "differently")))
    back = scattered(stands["back"], places, pl.Series(texts, dtype=pl.String))
    stands = stands.with_columns(back=back)
    return filtered(stands, not_null(back)), unclear


def _left_alone(
    unclear: Sequence[tuple[int, Landing]],
    broken: Sequence[int],
    grown: Mapping[int, list[Landing]],
    result: Confirmed,
) -> list[Landing]:
    """What is left alone besides what stands differently, item by item: what is `unclear`, and of the new items that
    stay, as they are not all as they were sent, what has come into them, or else what did not land.
    """
    troubled: dict[int, list[Landing]] = {}
    lacking = result.lacking.filter(pl.col("item").is_in(list(broken)))
    for item, landing in zip(lacking["item"], landings_of(lacking, result.keys), strict=True):
        troubled.setdefault(item, []).append(landing)
    left: dict[int, list[Landing]] = {}
    for item, landing in unclear:
        left.setdefault(item, []).append(landing)
    for item in broken:
        if not any(landing.outcome == "differently" for landing in troubled.get(item, ())):
            left.setdefault(item, []).extend(grown.get(item) or troubled.get(item, []))
    return [landing for item in sorted(left) for landing in left[item]]


def _retired(items: pl.Series, live: Catalogue, located: Located, after: Catalogue, removal: Removal) -> pl.DataFrame:
    """Of these items, which were to go away and are there, those that are retired: the cells that bring them back."""
    schema = {"item": pl.Int64, "field": pl.String, "after": pl.String}
    if removal.how != "value":
        return pl.DataFrame(schema=schema)
    name = str(removal.heading)
    retired = items.filter(after.at(name, gathered(located.places, items)) == removal.value)
    was = live.at(name, gathered(located.live_rows, retired))
    return pl.DataFrame({"item": retired, "field": constant(name, retired.len()), "after": was}, schema)


def _back(field: Field, before: str, meant: str, now: str) -> str | None:
    """What takes back a list that landed: the text before; or, where values came or went since, the list without what
    was added to it and with what was taken from it, whatever else is in it by now; None where that is not to be told.
    """
    if list_values(now, field) == list_values(meant, field):
        return before
    return merged_list(meant, now, before, field)


def _grown(
    changes: ChangeSet, items: pl.Series, sent: pl.DataFrame, located: Located, after: Catalogue, importer: Importer
) -> dict[int, list[Landing]]:
    """What stands in these new items by now where we sent nothing, but for what the importer fills in and what moves;
    by the items' numbers.
    """
    places, grown = gathered(located.places, items), dict[int, list[Landing]]()
    for name in after.fields if items.len() else ():
        if name in changes.header.key or changes.header.settings.get(name, Field()).moving:
            continue
        texts = after.at(name, places)
        ours = items.is_in(filtered(sent, sent["field"] == name)["item"].implode())
        came = (texts.str.strip_chars() != "") & (texts != importer.defaults.get(name, "")) & ~ours
        for item, text in zip(items.filter(came), texts.filter(came), strict=True):
            landing = Landing(changes.keys.row(item, named=True), name, None, "", text, "differently")
            grown.setdefault(item, []).append(landing)
    return grown
