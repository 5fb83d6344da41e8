"""Locating: where the items of a change set stand in a later export, under the code that each has by then."""

from __future__ import annotations

from dataclasses import dataclass

import polars as pl

from neat_delta.core.match.keys import KeyIndex
from neat_delta.core.model.catalogue import Catalogue
from neat_delta.core.model.changeset import ChangeSet, code_changes

__all__ = ["Located", "locate"]


@dataclass(frozen=True, slots=True)
class Located:
    """The items of a change set in a later export.

    `keys` are the items' keys as the export writes them, the new code where it has landed; `places` their rows in it,
    null where they are not there; `live_rows` their rows in live, null for new ones; `live_places` the rows of all of
    live's rows in the export.
    """

    keys: pl.DataFrame
    places: pl.Series
    live_rows: pl.Series
    live_places: pl.Series


def locate(changes: ChangeSet, live: Catalogue, after: Catalogue) -> Located:
    """Locate the items in the export `after`: by the new code where it has landed, else by the old one.

    Where both codes are there (they were swapped, or passed on), the item is the one that agrees in more fields.
    """
    key = changes.header.compared_by
    index = KeyIndex.of(after.cells, key)
    rows = live.place(changes.items["live"])
    live_places = KeyIndex.of(live.cells, key).align(index)
    places = live_places.gather(rows)
    places = places.zip_with(rows.is_not_null(), index.lookup(changes.keys))
    keys = changes.keys
    codes = code_changes(changes.sent().with_columns(pl.col("field").cast(pl.String)), key.fields)
    if codes.height:
        wanted = changes.keys
        for (name,), field_codes in codes.group_by("field"):
            wanted = wanted.with_columns(wanted[str(name)].clone().scatter(field_codes["item"], field_codes["after"]))
        items = codes["item"].unique().sort()
        old, new = places.gather(items), KeyIndex.of(wanted.select(pl.all().gather(items)), key).align(index)
        landed = _landed(live, after, key.fields, rows.gather(items), old, new)
        come = pl.repeat(False, wanted.height, eager=True).scatter(items.filter(landed), True)
        keys = pl.DataFrame([wanted[name].zip_with(come, changes.keys[name]) for name in key.fields])
        places = places.scatter(items.filter(landed), new.filter(landed))
    there = places.is_not_null()
    keys = pl.DataFrame(
        [after.cells[name].gather(places).zip_with(there, keys[name]).alias(name) for name in key.fields]
    )
    in_live = rows.is_not_null()
    return Located(keys, places, rows, live_places.clone().scatter(rows.filter(in_live), places.filter(in_live)))


def _landed(
    live: Catalogue, after: Catalogue, key: list[str], rows: pl.Series, old: pl.Series, new: pl.Series
) -> pl.Series:
    """Per item whether it stands under its new code: at the place `new`, rather than at the place `old`."""
    same = [pl.repeat(0, rows.len(), dtype=pl.Int64, eager=True) for _ in (old, new)]
    for name in live.fields:
        if name not in key and name in after.fields:
            was = live.cells[name].gather(rows)
            same = [
                so_far + (after.cells[name].gather(at) == was).fill_null(value=False)
                for so_far, at in zip(same, (old, new), strict=True)
            ]
    return new.is_not_null() & (old.is_null() | (same[1] >= same[0]))
