"""Assembling the change set of a run: its items, cells and header, before anything of it is held."""

from __future__ import annotations

from dataclasses import replace
from typing import TYPE_CHECKING

import polars as pl

from neat_delta.core.base.model.changeset import ChangeSet
from neat_delta.core.base.model.schemas import (
    COMPUTED_SCHEMA,
    ITEMS_SCHEMA,
    UNRESOLVED_SCHEMA,
    cells_schema,
    conform,
    empty,
)
from neat_delta.core.base.support.series import constant, filtered, gathered, not_null, scattered, with_series
from neat_delta.core.compare.assemble.cells import changed_cells, with_rules
from neat_delta.core.compare.assemble.header import header_of
from neat_delta.core.compare.assemble.items import changed_items, item_findings
from neat_delta.core.compare.assemble.summaries import damaged_cells, with_summaries
from neat_delta.core.compare.made import computed_cells, unresolved, with_defaults
from neat_delta.core.compare.round import Draft
from neat_delta.core.sheets.match.keys import stripped

if TYPE_CHECKING:
    from neat_delta.core.compare.round import Round

__all__ = ["assemble"]


def assemble(round_: Round) -> Round:
    """The change set of the cells that change, once live's own values are put back where that was decided."""
    live, rows, key, provenance = round_.aligned.live, round_.rows, round_.aligned.key, round_.rows.sheet.provenance
    changed = changed_cells(round_)
    places = changed_items(changed.cells, round_)
    here = {*rows.matched.fields, *changed.cells["field"].unique()}
    fields = [name for name in live.fields if name in here]
    none = constant(None, live.height + rows.matched.new.len() + 1, pl.UInt32)
    number = scattered(none, places["item"], pl.int_range(places.height, dtype=pl.UInt32, eager=True))

    def item_numbers(items: pl.Series) -> pl.Series:
        """The numbers that items have in the change set; null where they are not in it."""
        return gathered(number, items).cast(pl.Int64)

    named = {"item": item_numbers(changed.cells["item"]), "field": changed.cells["field"].cast(pl.Enum(fields))}
    cells = with_series(changed.cells, named).sort("item", "field")
    questions = unresolved(provenance, rows.sheet, key) if provenance else empty(UNRESOLVED_SCHEMA)
    rules, computed = list(provenance.rules) if provenance else [], empty(COMPUTED_SCHEMA)
    if provenance:
        computed = computed_cells(provenance, rows.matched, live.height, item_numbers, cells)
    if changed.filled.height:
        filled = changed.filled.with_columns(item=item_numbers(changed.filled["item"]))
        computed, rules = with_defaults(computed, rules, filled)
    items = pl.DataFrame(
        {"verdict": places["verdict"], "live": live.row(places["live"]), "sheet": rows.sheet.row(places["sheet"])}
    )
    keys = pl.concat(
        [
            gathered(live.select(key.fields).rechunk(), places["live"].drop_nulls()),
            gathered(stripped(rows.sheet, key), gathered(rows.matched.new, round_.arriving)),
        ]
    )
    draft = ChangeSet(
        header_of(round_, fields, changed, rules),
        keys,
        conform(items, ITEMS_SCHEMA),
        conform(cells, cells_schema(fields)),
        damaged_cells(round_, item_numbers),
        computed=computed,
        unresolved=questions,
    )
    if round_.merged:
        draft = replace(draft, meanwhile=round_.merged.meanwhile)
    draft = with_summaries(draft, round_, changed, places)
    item = item_numbers(round_.decided["item"])
    columns = {name: texts for name, texts in round_.decided.to_dict().items() if name != "cell"}
    decided = filtered(pl.DataFrame(columns | {"item": item}), not_null(item) | ~not_null(round_.decided["item"]))
    ruled = with_rules(cells, decided, round_.known, key.fields)
    findings = item_findings(cells, places, rows)
    return replace(round_, draft=Draft(draft, ruled, decided, findings))
