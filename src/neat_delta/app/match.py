"""Which heading of a sheet is which field, and which rows have an item, before anything is compared."""

from __future__ import annotations

from collections import Counter
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import msgspec

from neat_delta.app.inputs import Inputs, as_compare, read_inputs, translated
from neat_delta.app.requests import MatchRequest
from neat_delta.app.settings import request_of
from neat_delta.app.sources import Table
from neat_delta.core.base.model.lists import ListMapping
from neat_delta.core.base.model.reasons import NEAR
from neat_delta.core.base.model.rules import Rules
from neat_delta.core.base.support.series import true_places
from neat_delta.core.review.samples import ColumnSample, MatchedRows, constant_samples, mapping_to_keep, samples
from neat_delta.core.sheets.match.keys import KeyIndex
from neat_delta.core.sheets.match.prepare import AlignedInputs, align_inputs
from neat_delta.core.sheets.match.rows import match_rows
from neat_delta.files.whole import AnyPath

if TYPE_CHECKING:
    from neat_delta.core.base.model.store import Store

__all__ = ["Matches", "match"]

SAMPLES = 3
"""So many values of each heading are shown."""


@dataclass(frozen=True, slots=True)
class Matches:
    """Two catalogues with their columns matched; each heading of the sheet with its field and a few values of both;
    what becomes of its rows; and what is worth keeping for the next such sheet.
    """

    aligned: AlignedInputs
    samples: list[ColumnSample]
    rows: MatchedRows
    mapping: ListMapping


def match(
    live: Table,
    sheet: Table,
    store: Store | AnyPath | None = None,
    *,
    mapping: ListMapping | AnyPath | None = None,
    request: MatchRequest | None = None,
    **settings: Any,  # noqa: ANN401 - those of `MatchRequest`, which reads and checks them
) -> Matches:
    """Match the headings of a sheet with live's fields, and its rows with live's items; with a `mapping` as that says
    of a list. Inputs and settings as in `compare`. CatalogueError when a name is none, two headings mean one field, or
    the sheet lacks what its rows are matched by.

    >>> live = {"sku": ["QA-1"], "cost": ["5.00"]}
    >>> matches = match(live, {"SKU": ["QA-1", "QA-9"], "Trade": ["5.20", "7.00"]})
    >>> [(one.heading, one.field) for one in matches.samples], matches.rows.matched, matches.rows.new
    ([('SKU', 'sku'), ('Trade', None)], 1, 1)
    """
    asked = as_compare(request or request_of(MatchRequest, settings))
    inputs = read_inputs(live, sheet, asked, store=store, mapping=mapping)
    if inputs.described is None:
        return _of_sheet(inputs)
    return _of_list(inputs, inputs.described)


def _of_sheet(inputs: Inputs) -> Matches:
    """A sheet that was cut from live."""
    columns, sheet = inputs.asked.options().columns, inputs.sheet
    aligned = align_inputs(inputs.live, sheet, store=inputs.store, columns=columns)
    matched = match_rows(aligned.live, aligned.sheet, aligned.key, bare=True)
    aside = [row.reason for row in matched.set_aside if row.file == "sheet"]
    rows = MatchedRows(sheet.height, matched.pairs.height, matched.new.len(), 0, _counted(aside))
    pair_samples = samples(aligned, sheet, matched.pairs, SAMPLES)
    return Matches(
        aligned, pair_samples, rows, mapping_to_keep(aligned.columns, ListMapping(match_by=aligned.key.fields))
    )


def _of_list(inputs: Inputs, mapping: ListMapping) -> Matches:
    """A list in a language of its own."""
    sheet, translated_list = inputs.sheet, translated(inputs, Rules())
    aligned = align_inputs(
        inputs.live, translated_list.sheet, store=inputs.store, columns=inputs.asked.options().columns
    )
    index = KeyIndex.of(aligned.live, aligned.key)
    place = index.lookup(aligned.sheet)
    number = aligned.sheet.row(true_places(place.is_not_null()))
    pairs = number.to_frame("row").with_columns(live=place.drop_nulls()).unique("row", maintain_order=True)
    pairs = pairs.select("live", sheet=sheet.place(pairs["row"]))
    provenance = translated_list.sheet.provenance
    aside = [row.reason for row in provenance.set_aside] if provenance else []
    folded = provenance.folded if provenance else 0
    new = aligned.sheet.row(true_places(place.is_null())).n_unique()
    rows = MatchedRows(sheet.height, pairs.height, new, folded, _counted(aside))
    list_samples = [*samples(aligned, sheet, pairs, SAMPLES), *constant_samples(aligned, mapping.constants, SAMPLES)]
    by = mapping.match_by or aligned.key.fields
    kept = mapping_to_keep(aligned.columns, msgspec.structs.replace(mapping, match_by=list(by)))
    return Matches(aligned, list_samples, rows, kept)


def _counted(reasons: list[str]) -> dict[str, int]:
    """How many rows were set aside for each sort of reason, the most frequent first."""
    sorts = (
        next((words for part, words in SORTS.items() if part in reason), reason.partition(":")[0]) for reason in reasons
    )
    return dict(Counter(sorts).most_common())


SORTS = {"are for one item": "several rows for one item", NEAR: "nearly an item's key"}
"""Reasons that differ from row to row, by a part of them, and what is said of all."""
