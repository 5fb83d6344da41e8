"""Damage: cells that came back other than anybody typed them, found by holding the sheet against live.

One file for each sort of value; each damage is registered in one line there, and each file here. The first that fits
a cell names it.
"""

from __future__ import annotations

from collections.abc import Mapping

import polars as pl

from neat_delta.core.damage.base import Damage
from neat_delta.core.damage.cells import CELL_DAMAGES
from neat_delta.core.damage.codes import CODE_DAMAGES
from neat_delta.core.damage.dates import DATES
from neat_delta.core.damage.numbers import NUMBER_DAMAGES
from neat_delta.core.damage.texts import TEXT_DAMAGES
from neat_delta.core.store import Field

__all__ = ["DAMAGES", "Damage", "damaged"]

DAMAGES: dict[str, Damage] = {
    damage.name: damage for damage in (*CELL_DAMAGES, *CODE_DAMAGES, *DATES, *NUMBER_DAMAGES, *TEXT_DAMAGES)
}


def damaged(cells: pl.DataFrame, settings: Mapping[str, Field]) -> pl.Series:
    """Per cell the name of its damage, or null. Of a cell there is the `field`, the text `before` (null where live has
    none), and `raw`, the sheet's text as it stands there.
    """
    found = pl.repeat(None, cells.height, dtype=pl.String, eager=True)
    by_kind: dict[str, list[str]] = {}
    for field in cells["field"].unique(maintain_order=True):
        by_kind.setdefault(settings.get(field, Field()).kind, []).append(field)
    for kind, fields in by_kind.items():
        places = cells["field"].is_in(fields).arg_true()
        texts = cells.select(
            before=pl.col("before").fill_null("").str.strip_chars(), after=pl.col("raw").str.strip_chars()
        )
        found = found.scatter(places, _of_kind(texts.gather(places) if len(by_kind) > 1 else texts, kind))
    return found


def _of_kind(texts: pl.DataFrame, kind: str) -> pl.Series:
    """The names of the damages of cells of one kind."""
    asked = [damage for damage in DAMAGES.values() if kind in damage.kinds]
    there = pl.col("before") != ""
    looks = texts.select(
        (damage.look if damage.alone else there & damage.look).fill_null(value=False).alias(damage.name)
        for damage in asked
    )
    found: list[str | None] = [None] * texts.height
    known: dict[tuple[str, str, str], bool] = {}
    for damage in asked:
        places = looks[damage.name].arg_true()
        if not places.len():
            continue
        for place, before, after in zip(places, *texts.gather(places), strict=True):
            if found[place] is None and (damage.sure is None or _sure(damage, before, after, known)):
                found[place] = damage.name
    return pl.Series(found, dtype=pl.String)


def _sure(damage: Damage, before: str, after: str, known: dict[tuple[str, str, str], bool]) -> bool:
    asked = (damage.name, before, after)
    if asked not in known:
        assert damage.sure is not None
        known[asked] = damage.sure(before, after)
    return known[asked]
