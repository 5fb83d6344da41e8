"""Findings: the damage and the slips among a round's changed cells, and what is done about each cell.

A damaged cell is held, repaired or accepted; a slip holds the cells that it touches, or is accepted.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import polars as pl

from neat_delta.core.detect.damage import DAMAGES
from neat_delta.core.detect.slips import Round, slips
from neat_delta.core.match.rows import Matched
from neat_delta.core.model.catalogue import Catalogue
from neat_delta.core.model.changeset import DAMAGED_SCHEMA, Accept, Finding
from neat_delta.core.model.layout import Writing
from neat_delta.core.model.reasons import DAMAGE, SLIP
from neat_delta.core.model.store import Field

__all__ = ["Looked", "look"]


@dataclass(frozen=True, slots=True)
class Looked:
    """The cells with what was done about them, the findings, and the damaged cells one by one."""

    cells: pl.DataFrame
    findings: list[Finding]
    damaged: pl.DataFrame


def look(
    cells: pl.DataFrame,
    turns: pl.DataFrame,
    live: Catalogue,
    sheet: Catalogue,
    matched: Matched,
    settings: Mapping[str, Field],
    writing: Writing,
    *,
    columns: Mapping[str, int],
    accept: Sequence[Accept] = (),
    repair: bool = False,
) -> Looked:
    """Look through cells whose text differs (`field`, `pair`, `new`, `before`, `after`, `raw`, `same`, `held`, the name
    of their `damage`, `turn`) for damage and slips.

    `turns` are the different ones that change, with their `slips.forms`, and `turn` says which of these a cell is.
    `columns` are the fields' places in the sheet. A damaged cell that is repaired becomes the `same`, with live's text
    as its `after`; one that is not, and one that a slip touches, is `held`, unless it is accepted.
    """
    some = cells.filter(~pl.col("same"))
    if not some.height:
        return Looked(cells, [], pl.DataFrame(schema=DAMAGED_SCHEMA))
    some = some.with_row_index("number").with_columns(place=_places(some, matched))
    findings: list[Finding] = []
    listed = pl.DataFrame(schema=DAMAGED_SCHEMA)
    if some["damage"].count():
        some, listed = _damage(some, sheet, matched, accept, repair=repair)
        findings += _grouped(listed)
    whole = some.filter(pl.col("damage").is_null() & pl.col("pair").is_not_null())
    if whole.height:
        found = slips(_round(whole, turns, live, sheet, matched, settings, writing, columns))
        for slip in found:
            numbers = slip.cells
            through = _through("slip", some.gather(numbers), sheet, matched, accept)
            for done, which in (("accepted", numbers.filter(through)), ("held", numbers.filter(~through))):
                if which.len():
                    findings.append(Finding("slip", slip.name, slip.fields, which.len(), slip.why, done))  # type: ignore[arg-type]
            reasons = pl.repeat(SLIP + slip.name, numbers.len() - int(through.sum()), dtype=pl.String, eager=True)
            some = some.with_columns(held=some["held"].scatter(numbers.filter(~through), reasons))
    changed = (~cells["same"]).arg_true()
    now = {name: cells[name].scatter(changed, some[name]) for name in ("after", "same", "held")}
    return Looked(cells.with_columns(**now), findings, listed)


def _round(
    cells: pl.DataFrame,
    turns: pl.DataFrame,
    live: Catalogue,
    sheet: Catalogue,
    matched: Matched,
    settings: Mapping[str, Field],
    writing: Writing,
    columns: Mapping[str, int],
) -> Round:
    """The cells as slips are looked for in them."""
    parts = {}
    some = cells.select("number", "pair", "place", "turn", of="field").sort("place", maintain_order=True)
    by_field = {name: part for (name,), part in some.partition_by("of", as_dict=True).items()}
    for name in (field for field in matched.fields if field in by_field):
        part = by_field[name].drop("of")
        parts[name] = part.drop("turn").hstack(turns[part["turn"]])
    at = pl.repeat(None, sheet.cells.height, dtype=pl.UInt32, eager=True)
    return Round(
        parts,
        settings,
        writing,
        columns,
        live.cells,
        sheet.cells,
        at.scatter(matched.both["sheet"], matched.both["live"]),
        matched.both["live"],
    )


def _places(cells: pl.DataFrame, matched: Matched) -> pl.Series:
    """The cells' rows in the sheet, from 0."""
    both = matched.both["sheet"].gather(cells["pair"]).cast(pl.Int64)
    return both.zip_with(both.is_not_null(), matched.new.gather(cells["new"]).cast(pl.Int64))


def _damage(
    some: pl.DataFrame,
    sheet: Catalogue,
    matched: Matched,
    accept: Sequence[Accept],
    *,
    repair: bool,
) -> tuple[pl.DataFrame, pl.DataFrame]:
    """The cells with the damaged ones held or repaired, and these one by one."""
    at = some["damage"].is_not_null().arg_true()
    cells = some.gather(at)
    certain = pl.col("damage").is_in([name for name, damage in DAMAGES.items() if damage.certain])
    for name, damage in DAMAGES.items():
        if damage.certain_where is not None:
            certain |= (pl.col("damage") == name) & damage.certain_where
    done = pl.when("through").then(pl.lit("accepted")).when(certain & repair).then(pl.lit("repaired"))
    cells = cells.with_columns(through=_through("damage", cells, sheet, matched, accept))
    looked = cells.select(
        before=pl.col("before").str.strip_chars(),
        after=pl.col("raw").str.strip_chars(),
        through="through",
        damage="damage",
    )
    told = looked.select(done=done.otherwise(pl.lit("held")), certain=certain.fill_null(value=False))
    cells = cells.with_columns(told).with_columns(repair=pl.when("certain").then("before"))
    keys = sheet.cells.select(pl.col(matched.key).str.strip_chars()).gather(cells["place"])
    listed = cells.select("damage", "field", "before", "repair", "done", sheet="raw").with_columns(
        row=sheet.row(cells["place"]), key=keys.select(pl.concat_list(pl.all())).to_series()
    )
    put_back = cells["done"] == "repaired"
    held = cells["done"] == "held"
    reasons = pl.select(pl.concat_str(pl.lit(DAMAGE), cells["damage"])).to_series()
    some = some.with_columns(
        same=some["same"].scatter(at.filter(put_back), True),
        after=some["after"].scatter(at.filter(put_back), cells["before"].filter(put_back)),
        held=some["held"].scatter(at.filter(put_back), None).scatter(at.filter(held), reasons.filter(held)),
    )
    order = pl.col("field").cast(pl.Enum(matched.fields))
    return some, listed.sort("row", order, maintain_order=True).select(list(DAMAGED_SCHEMA)).cast(DAMAGED_SCHEMA)  # type: ignore[arg-type]


def _grouped(listed: pl.DataFrame) -> list[Finding]:
    """The damage as a person is told of it: by what happened, field and what was done."""
    groups = listed.group_by("damage", "field", "done", maintain_order=True).len()
    return [
        Finding("damage", name, [field], many, DAMAGES[name].why, done)
        for name, field, done, many in groups.iter_rows()
    ]


def _through(
    check: str, cells: pl.DataFrame, sheet: Catalogue, matched: Matched, accept: Sequence[Accept]
) -> pl.Series:
    """Which cells are let through: those of an accepted check, by field or by a part of the item's key."""
    asked = [one for one in accept if one.check == check]
    if any(one.which is None for one in asked):
        return pl.repeat(True, cells.height, eager=True)
    which = [one.which for one in asked]
    through = cells["field"].is_in(which)
    for part in matched.key if which else ():
        through |= sheet.cells[part].gather(cells["place"]).str.strip_chars().is_in(which).fill_null(value=False)
    return through
