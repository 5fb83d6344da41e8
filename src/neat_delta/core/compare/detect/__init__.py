"""Damage and slips: what a program or a hand did to cells. Emits findings and decides nothing."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from functools import partial
from typing import TYPE_CHECKING

import polars as pl

from neat_delta.core.base.model.reasons import DAMAGE, SLIP
from neat_delta.core.base.model.schemas import CELL_FINDINGS, conform, empty
from neat_delta.core.base.support.series import constant, filtered, gathered, not_null, scattered
from neat_delta.core.compare.detect.damage import DAMAGES
from neat_delta.core.compare.detect.slips import SlipContext, slips, with_twins

if TYPE_CHECKING:
    from neat_delta.core.base.model.catalogue import Catalogue
    from neat_delta.core.base.model.layout import Notation
    from neat_delta.core.base.model.store import Field
    from neat_delta.core.sheets.match.rows import Matched

__all__ = ["DetectInputs", "Detected", "detect"]


@dataclass(frozen=True, slots=True)
class Detected:
    """The findings, each with the number of its `cell` among those that were looked at; and of each slip, in the order
    in which they were looked for, its name, its fields and how we know.
    """

    findings: pl.DataFrame
    slips: list[tuple[str, list[str], str]]


@dataclass(frozen=True, slots=True)
class DetectInputs:
    """What cells are looked at against: both files and their rows, the fields' settings, how live writes values, and
    the `columns` of the fields in the sheet.
    """

    live: Catalogue
    sheet: Catalogue
    matched: Matched
    settings: Mapping[str, Field]
    writing: Notation
    columns: Mapping[str, int]


def detect(deltas: pl.DataFrame, forms: pl.DataFrame, inputs: DetectInputs) -> Detected:
    """Look through the cells that differ (`deltas`: `item`, `pair`, `new`, `field`, `before`, `after`, `raw`, `same`,
    the name of their `damage`, `form`) for damage and slips.

    `forms` are the different ones that change, in the form in which slips are looked for (`slips.forms`), and `form`
    says which of these a cell is. A damaged cell is no part of a slip, and nor is one that nobody typed (`computed`).
    """
    changed = deltas.with_row_index("cell").filter(~pl.col("same"))
    if not changed.height:
        return Detected(empty(CELL_FINDINGS), [])
    findings, named = [empty(CELL_FINDINGS)], []
    if changed["damage"].count():
        findings.append(_damage(filtered(changed, not_null(changed["damage"]))))
    of_a_slip = ~not_null(changed["damage"]) & not_null(changed["pair"])
    if "computed" in changed.columns:
        of_a_slip &= ~changed["computed"]
    of_slips = filtered(changed, of_a_slip)
    if of_slips.height:
        context = _context(of_slips, forms, inputs)
        for number, slip in enumerate(slips(context)):
            cells = changed[["cell", "item", "field"]].join(
                slip.cells.to_frame("cell"), on="cell", how="semi", maintain_order="left"
            )
            columns = {"source": "slip", "rule": str(number), "level": "stop", "reason": SLIP + slip.name}
            findings.append(
                conform(cells.with_columns(pl.lit(text).alias(name) for name, text in columns.items()), CELL_FINDINGS)
            )
            named.append((slip.name, slip.fields, slip.why))
    return Detected(pl.concat(findings), named)


def _damage(cells: pl.DataFrame) -> pl.DataFrame:
    """The findings of damaged cells: live's own value is what was meant where only the writing was damaged."""
    certain = pl.col("damage").is_in([name for name, damage in DAMAGES.items() if damage.certain])
    for name, damage in DAMAGES.items():
        if damage.certain_where is not None:
            certain |= (pl.col("damage") == name) & damage.certain_where
    bare = cells.select("damage", before=pl.col("before").str.strip_chars(), after=pl.col("raw").str.strip_chars())
    table = cells.with_columns(
        source=pl.lit("damage"),
        rule="damage",
        level=pl.lit("stop"),
        reason=pl.concat_str(pl.lit(DAMAGE), "damage"),
        mendable=bare.select(certain.fill_null(value=False)).to_series(),
    )
    return conform(table, CELL_FINDINGS)


def _context(cells: pl.DataFrame, forms: pl.DataFrame, inputs: DetectInputs) -> SlipContext:
    """The cells as slips are looked for in them."""
    matched = inputs.matched
    parts = {}
    place = gathered(matched.pairs["sheet"], cells["pair"]).cast(pl.Int64)
    columns = {"number": cells["cell"], "pair": cells["pair"], "place": place, "form": cells["form"]}
    placed = pl.DataFrame(columns | {"of": cells["field"]}).sort("place", maintain_order=True)
    by_field = {part["of"][0]: part for part in placed.partition_by("of")}
    for name in (field for field in matched.fields if field in by_field):
        part = by_field[name]
        parts[name] = pl.DataFrame([part["number"], part["pair"], part["place"]]).hstack(
            with_twins(forms, partial(gathered, places=part["form"]))
        )
    at = constant(None, inputs.sheet.height, pl.UInt32)
    return SlipContext(
        parts,
        inputs.settings,
        inputs.writing,
        inputs.columns,
        inputs.live,
        inputs.sheet,
        scattered(at, matched.pairs["sheet"], matched.pairs["live"]),
        matched.pairs["live"],
    )
