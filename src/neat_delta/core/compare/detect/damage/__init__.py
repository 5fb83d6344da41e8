"""Damage: cells that came back other than anybody typed them, found by holding the sheet against live.

One file for each sort of value; each damage is registered in one line there, and each file here. The first that fits
a cell names it.
"""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence

import polars as pl

from neat_delta.core.base.infer.quantities import numbers_under
from neat_delta.core.base.kinds.number import marks
from neat_delta.core.base.model.deferred import Cells
from neat_delta.core.base.model.layout import Notation
from neat_delta.core.base.model.store import Field
from neat_delta.core.base.support import sizes
from neat_delta.core.base.support.series import constant, gathered, scattered, true_places
from neat_delta.core.compare.detect.damage.base import Damage
from neat_delta.core.compare.detect.damage.cells import CELL_DAMAGES
from neat_delta.core.compare.detect.damage.codes import CODE_DAMAGES
from neat_delta.core.compare.detect.damage.dates import DATES
from neat_delta.core.compare.detect.damage.numbers import NUMBER_DAMAGES
from neat_delta.core.compare.detect.damage.rewritten import REWRITTEN, is_correction
from neat_delta.core.compare.detect.damage.texts import TEXT_DAMAGES

__all__ = ["DAMAGES", "Damage", "damaged"]

NOTHING_SAID = Notation()

DAMAGES: dict[str, Damage] = {
    damage.name: damage for damage in (*CELL_DAMAGES, *CODE_DAMAGES, *DATES, *NUMBER_DAMAGES, *TEXT_DAMAGES, *REWRITTEN)
}


def damaged(
    cells: pl.DataFrame,
    settings: Mapping[str, Field],
    writing: Notation = NOTHING_SAID,
    live: Cells | None = None,
) -> pl.Series:
    """Per cell the name of its damage, or null. Of a cell there is the `field`, the text `before` (null where live has
    none), and `raw`, the sheet's text as it stands there. `writing` is how live writes values, and `live` its cells.
    """
    names_of_damage = constant(None, cells.height, pl.String)
    texts = cells.select(before=pl.col("before").fill_null("").str.strip_chars(), after=pl.col("raw").str.strip_chars())
    here = cells["field"].unique(maintain_order=True).to_list()
    kinds_of = {name: _kinds(name, settings.get(name, Field()).kind) for name in here}
    decimal_marks = {
        name: marks(settings.get(name, Field()), writing)[0] if len(kinds) == 1 else _only_mark(live, name)
        for name, kinds in kinds_of.items()
    }
    marked = cells["field"].replace_strict(decimal_marks, return_dtype=pl.String)
    texts = texts.hstack([marked.alias("mark")])
    # Fields that can be damaged in the same ways go together.
    groups: dict[tuple[str, ...], list[str]] = {}
    for field in here:
        kinds = kinds_of[field]
        names = tuple(name for name, damage in DAMAGES.items() if not kinds.isdisjoint(damage.kinds))
        groups.setdefault(names, []).append(field)
    if cells.height <= sizes.CELLS_ASKED_AT_ONCE:
        every = [damage for name, damage in DAMAGES.items() if any(name in names for names in groups)]
        of_field = {field: set(names) for names, fields in groups.items() for field in fields}
        names_of_damage = _first(every, texts, [of_field[field] for field in cells["field"]])
        return _without_corrections(names_of_damage, cells["field"], texts["before"], live)
    for names, fields in groups.items():
        places = true_places(cells["field"].is_in(fields))
        group_texts = gathered(texts, places) if len(groups) > 1 else texts
        names_of_damage = scattered(names_of_damage, places, _first([DAMAGES[name] for name in names], group_texts))
    return _without_corrections(names_of_damage, cells["field"], texts["before"], live)


def _without_corrections(names: pl.Series, fields: pl.Series, before: pl.Series, live: Cells | None) -> pl.Series:
    """The damage without that of cells in which live was damaged itself, as their columns show."""
    if names.null_count() == names.len():
        return names
    at = true_places((names == REWRITTEN[0].name).fill_null(value=False))
    asked = pl.DataFrame({"field": gathered(fields, at), "before": gathered(before, at)})
    corrects = {
        texts: is_correction(texts[1], None if live is None else live[texts[0]]) for texts in asked.unique().iter_rows()
    }
    rows = asked.rows()
    corrected = [place for place, row in zip(at, rows, strict=True) if corrects[row]]
    return scattered(names, pl.Series(corrected, dtype=pl.UInt32), None) if corrected else names


def _only_mark(live: Cells | None, name: str) -> str:
    """The one mark that live's cells of a field have before digits; what is in no text, where there are two or none."""
    marks = [mark for mark in ".," if live is not None and live[name].str.contains(rf"[{mark}]\d").any()]
    return marks[0] if len(marks) == 1 else "\0"


def _kinds(name: str, kind: str) -> set[str]:
    """The kinds whose damage a field can have: a text under a heading of amounts may be a number, too."""
    return {kind, "decimal"} if kind == "text" and numbers_under(name) in {"money", "quantity"} else {kind}


def _first(asked: Sequence[Damage], texts: pl.DataFrame, allowed: Sequence[Collection[str]] | None = None) -> pl.Series:
    """The name of the first of these damages that each cell has, or null; per cell only those that are `allowed`."""
    not_blank = pl.col("before") != ""
    asks = (
        (damage.pattern if damage.alone else not_blank & damage.pattern).fill_null(value=False).alias(damage.name)
        for damage in asked
    )
    few = texts.height <= sizes.CELLS_ASKED_AT_ONCE
    looks = texts.lazy().select(asks).collect(engine="in-memory" if few else "auto")  # a part of several is asked once
    times = looks.sum().row(0, named=True)
    first_names: list[str | None] = [None] * texts.height
    answers: dict[tuple[str, str, str], bool] = {}
    places = pl.int_range(texts.height, eager=True)
    for damage in asked:
        if not times[damage.name]:
            continue
        columns = (column.filter(looks[damage.name]) for column in (places, texts["before"], texts["after"]))
        for place, before, after in zip(*columns, strict=True):
            if first_names[place] is not None or (allowed is not None and damage.name not in allowed[place]):
                continue
            if damage.certain_of is None or _sure(damage, before, after, answers):
                first_names[place] = damage.name
    return pl.Series(first_names, dtype=pl.String)


def _sure(damage: Damage, before: str, after: str, answers: dict[tuple[str, str, str], bool]) -> bool:
    asked = (damage.name, before, after)
    if asked not in answers:
        assert damage.certain_of is not None
        answers[asked] = damage.certain_of(before, after)
    return answers[asked]
