"""What a made sheet brings along, by the items of a run: how its cells came about, and what could not be worked out."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING

import polars as pl

from neat_delta.core.base.model.header import FindingSummary
from neat_delta.core.base.model.reasons import LIST, RULE, SHEET
from neat_delta.core.base.model.rules import RuleText
from neat_delta.core.base.model.schemas import (
    CELL_FINDINGS,
    COMPUTED_SCHEMA,
    UNRESOLVED_SCHEMA,
    conform,
    empty,
    stopping,
)
from neat_delta.core.base.support.series import constant, gathered, scattered
from neat_delta.core.sheets.match.keys import stripped

if TYPE_CHECKING:
    from neat_delta.core.base.model.catalogue import Catalogue
    from neat_delta.core.base.model.provenance import Provenance
    from neat_delta.core.base.model.store import Key
    from neat_delta.core.sheets.match.rows import Matched

__all__ = ["computed_cells", "problem_findings", "problems_said", "unresolved", "with_defaults"]

STARTS = {"rule": RULE, "list": LIST, "sheet": SHEET}

BY_DEFAULT = "what the importer gives a new item that lacks it"


def _items(matched: Matched, height: int, live: int) -> pl.Series:
    """For each of the sheet's rows its item: live's rows, and after them the new ones; null where it has none."""
    items = constant(None, height, pl.Int64)
    items = scattered(items, matched.pairs["sheet"], matched.pairs["live"].cast(pl.Int64))
    return scattered(items, matched.new, pl.int_range(live, live + matched.new.len(), eager=True))


def _height(matched: Matched) -> int:
    return matched.keys["sheet"].keys.height


def problem_findings(provenance: Provenance, matched: Matched, live: int) -> pl.DataFrame:
    """What could not be worked out as findings (`CELL_FINDINGS`) that hold the cell; live has so many rows."""
    if not provenance.problems.height:
        return empty(CELL_FINDINGS)
    items = _items(matched, _height(matched), live)
    table = provenance.problems.with_columns(item=gathered(items, provenance.problems["place"])).drop_nulls("item")
    # What is wrong with the key is wrong with the item.
    table = table.with_columns(field=pl.when(~pl.col("field").is_in(matched.key)).then("field"))
    start = pl.col("source").replace_strict(STARTS, return_dtype=pl.String)
    table = table.with_columns(reason=pl.concat_str(start, "rule", pl.lit(": "), "what"))
    parts = [
        stopping(part[["item", "field", "reason"]], str(source), "made").with_columns(rule=part["rule"])
        for (source,), part in table.partition_by("source", as_dict=True, maintain_order=True).items()
    ]
    return conform(pl.concat(parts), CELL_FINDINGS) if parts else empty(CELL_FINDINGS)


def unresolved(provenance: Provenance, sheet: Catalogue, key: Key) -> pl.DataFrame:
    """What could not be worked out, by key and row of the sheet (`UNRESOLVED_SCHEMA`)."""
    problems = provenance.problems.unique(maintain_order=True)
    if not problems.height:
        return empty(UNRESOLVED_SCHEMA)
    keys = gathered(stripped(sheet, key), problems["place"])
    table = problems.with_columns(
        key=keys.select(pl.concat_list(pl.all())).to_series(), row=sheet.row(problems["place"].cast(pl.Int64))
    )
    return conform(table, UNRESOLVED_SCHEMA).sort("row", maintain_order=True)


def computed_cells(
    provenance: Provenance,
    matched: Matched,
    live: int,
    item_numbers: Callable[[pl.Series], pl.Series],
    cells: pl.DataFrame,
) -> pl.DataFrame:
    """The steps by which cells came about (`COMPUTED_SCHEMA`); `item_numbers` gives the items' in the change set."""
    if not provenance.worked.height:
        return empty(COMPUTED_SCHEMA)
    items = item_numbers(_items(matched, _height(matched), live))
    table = provenance.worked.with_columns(item=gathered(items, provenance.worked["place"]))
    order = pl.Enum(cells["field"].dtype.categories) if isinstance(cells["field"].dtype, pl.Enum) else pl.String
    table = table.filter(
        pl.col("item").is_not_null() & pl.col("field").is_in(cells["field"].cast(pl.String).unique().implode())
    )
    table = table.with_columns(pl.col("field").cast(order))
    table = table.join(cells[["item", "field"]], on=["item", "field"], how="semi", maintain_order="left")
    if not table["item"].is_sorted() or table["field"].n_unique() > 1 or (table["step"] > 0).any():
        table = table.sort("item", "field", "step")
    return conform(table, COMPUTED_SCHEMA)


def with_defaults(
    computed: pl.DataFrame, rules: list[RuleText], cells: pl.DataFrame
) -> tuple[pl.DataFrame, list[RuleText]]:
    """The steps and the rules, with those by which new items got `cells` (`item`, `field`, `after`) from the importer's
    defaults.
    """
    names = cells["field"].unique(maintain_order=True).to_list()
    rule_numbers = {name: len(rules) + place for place, name in enumerate(names)}
    table = cells.select(
        "item", "field", rule=pl.col("field").replace_strict(rule_numbers, return_dtype=pl.UInt16),
        inputs=pl.lit([], pl.List(pl.String)), result="after",
    )  # fmt: skip
    steps = pl.concat([conform(computed, COMPUTED_SCHEMA), conform(table, COMPUTED_SCHEMA)])
    return steps.sort("item", maintain_order=True), [
        *rules,
        *(RuleText("default", name, why=BY_DEFAULT) for name in names),
    ]


def problems_said(problems: pl.DataFrame) -> list[FindingSummary]:
    """What could not be worked out, as a person is told of it: by rule and field, with what is wrong most often."""
    out = []
    groups = problems.partition_by("source", "rule", "field", as_dict=True, maintain_order=True)
    for (source, rule, field), part in groups.items():
        what = part["what"].value_counts(sort=True)
        more = f", and {what.height - 1:,} others" if what.height > 1 else ""
        first, times = what.row(0)
        why = f"{first}{f' ({times:,} times)' if times > 1 else ''}{more}"
        out.append(
            FindingSummary(str(source), str(rule), [] if field is None else [str(field)], part.height, why, "held")
        )
    return out
