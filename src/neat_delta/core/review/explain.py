"""How computed cells came about: for one item step by step, and of a whole run the results that stand out."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from decimal import Decimal
from typing import TYPE_CHECKING

import polars as pl

from neat_delta.core.base.kinds.notation import AS_LIVE
from neat_delta.core.base.kinds.number import amounts
from neat_delta.core.base.model.changeset import Row
from neat_delta.core.base.model.layout import Notation
from neat_delta.core.base.model.rules import RuleText
from neat_delta.core.base.model.store import Field
from neat_delta.core.base.query.expressions import Own, Rows, expression, steps
from neat_delta.core.base.support.errors import ChangeSetError
from neat_delta.core.base.support.series import filtered, not_null, true_places
from neat_delta.core.sheets.match.keys import KeyIndex

if TYPE_CHECKING:
    from neat_delta.core.base.model.changeset import ChangeSet

__all__ = ["ExplainedCell", "ExplainedItem", "Step", "Trial", "explain", "trials"]


@dataclass(frozen=True, slots=True)
class Step:
    """One step by which a cell came about: what was said (`rule`), the texts that it read by their names (None:
    blank), the parts of its expression with their values, inner ones first, and the text that it gave.
    """

    rule: RuleText
    inputs: list[tuple[str, str | None]]
    parts: list[tuple[str, str | None]]
    result: str


@dataclass(frozen=True, slots=True)
class ExplainedCell:
    """A computed cell: what live has, what it becomes, why it is held (None: it is not), and its steps."""

    field: str
    before: str | None
    after: str | None
    held: str | None
    steps: list[Step]


@dataclass(frozen=True, slots=True)
class ExplainedItem:
    """An item with its computed cells, its other changes, and what could not be worked out: field, rule and why."""

    key: dict[str, str]
    row: Row
    cells: list[ExplainedCell]
    typed: list[ExplainedCell] = field(default_factory=list)
    open_questions: list[tuple[str | None, str, str]] = field(default_factory=list)


def explain(changes: ChangeSet, sku: str) -> list[ExplainedItem]:
    """How the cells of the items came about that have this text in their key. ChangeSetError when there is none.

    >>> from neat_delta import as_catalogue, edit
    >>> from neat_delta.core.base.model.rules import Rule, Rules
    >>> live = as_catalogue({"sku": ["QA-1"], "cost": ["10.05"], "price": ["9.90"]}, "live")
    >>> changes = edit(live, Rules(rule=[Rule("retail", {"price": "ROUND(cost * 1.1, 2)"})]))
    >>> step = explain(changes, "QA-1")[0].cells[0].steps[0]
    >>> step.inputs, step.parts, step.result
    ([('cost', '10.05')], [('cost * 1.1', '11.055'), ('ROUND(cost * 1.1, 2)', '11.06')], '11.06')
    """
    header = changes.header
    index = KeyIndex.of(changes.keys, header.compared_by)
    places = true_places(index.naming([sku])).cast(pl.Int64)
    asked = {key: (row, questions) for key, row, questions in _open(changes, sku)}
    if not places.len() and not asked:
        raise ChangeSetError(f'nothing changes in an item with "{sku}" in its key; see what does without ‹explain›')
    out = []
    for number, item in zip(places, changes.choose(places).iter_items(), strict=True):
        held = {held_change.field: held_change.reason for held_change in item.held}
        computed = filtered(changes.computed, changes.computed["item"] == number)
        cells: list[ExplainedCell] = []
        typed: list[ExplainedCell] = []
        for name, (before, after) in item.cells.items():
            of_field = filtered(computed, computed["field"] == name)
            steps = [
                _step(header.rules[rule], inputs, result, header.writing)
                for rule, inputs, result in of_field[["rule", "inputs", "result"]].iter_rows()
            ]
            why = held.get(name) or held.get(None)
            (cells if steps else typed).append(ExplainedCell(name, before, after, why, steps))
        _, questions = asked.pop(tuple(item.key.values()), (None, []))
        out.append(ExplainedItem(item.key, item.row, cells, typed, questions))
    from neat_delta.core.base.model.changeset import Row

    for key, (row, questions) in asked.items():
        out.append(ExplainedItem(dict(zip(header.key, key, strict=True)), Row(None, row), [], [], questions))
    return out


Question = tuple[str | None, str, str]


def _open(changes: ChangeSet, sku: str) -> list[tuple[tuple[str, ...], int, list[Question]]]:
    """What could not be worked out of the items with this text in their key: key, row, questions."""
    table = changes.unresolved
    if not table.height:
        return []
    keys = table.select(pl.col("key").list.to_struct(fields=changes.header.key)).unnest("key")
    those = table.filter(KeyIndex.of(keys, changes.header.compared_by).naming([sku]))
    by_key: dict[tuple[str, ...], tuple[int, list[Question]]] = {}
    for key, row, name, rule, what in those[["key", "row", "field", "rule", "what"]].iter_rows():
        by_key.setdefault(tuple(key), (row, []))[1].append((name, rule, what))
    return [(key, row, questions) for key, (row, questions) in by_key.items()]


def _step(rule: RuleText, inputs: Sequence[str | None], result: str, writing: Notation) -> Step:
    named = list(zip([source.name for source in rule.inputs], inputs, strict=True))
    if rule.expression is None:
        return Step(rule, named, [], result)
    tables: dict[str, dict[str, list[str]]] = {"": {}}
    settings: dict[str, dict[str, Field]] = {"": {}}
    writings = {"": writing}
    for source, text in zip(rule.inputs, inputs, strict=True):
        table, _, name = (
            source.name.rpartition(".") if "." in source.name and source.writing is not None else ("", "", source.name)
        )
        if not table and source.name.startswith("live."):
            table, name = "live", source.name.removeprefix("live.")
        tables.setdefault(table, {})[name] = [text or ""]
        settings.setdefault(table, {})[name] = source.kind
        writings[table] = source.writing or writing
    frames = {name: pl.DataFrame(columns or {"": [""]}) for name, columns in tables.items()}
    careful = {name: dict.fromkeys(settings[name], AS_LIVE) for name in frames if name == "sheet"}
    own = {name: Own(settings[name], writings[name], careful.get(name, {})) for name in frames}
    rows = Rows(frames, settings[""], writing, own, rule.values)
    return Step(rule, named, steps(expression(rule.expression), rows), result)


@dataclass(frozen=True, slots=True)
class Trial:
    """What a run makes of one field: how many cells, and of these a sample spread over all of them, the least and the
    greatest results, and those that change most against live in proportion: the numbers of the cells.
    """

    field: str
    cells: int
    sample: pl.DataFrame
    least: pl.DataFrame
    greatest: pl.DataFrame
    oddest: pl.DataFrame


def trials(changes: ChangeSet, most: int, odd: int = 5) -> list[Trial]:
    """Per field what stands out among the cells that change: frames of `item`, `before`, `after`, `held`.

    >>> from neat_delta import as_catalogue, edit
    >>> from neat_delta.core.base.model.rules import Rule, Rules
    >>> live = as_catalogue({"sku": ["QA-1", "QA-2"], "price": ["9.90", "20.00"]}, "live")
    >>> trial = trials(edit(live, Rules(rule=[Rule("spring", {"price": "price + 1"})])), 20)[0]
    >>> trial.greatest["after"].to_list()
    ['21.00', '10.90']
    """
    header, out = changes.header, []
    for name in header.fields:
        cells = changes.cells.filter(pl.col("field").cast(pl.String) == name)[["item", "before", "after", "held"]]
        if not cells.height:
            continue
        setting = header.settings.get(name, Field())
        amounts_of = {side: amounts(cells[side].fill_null(""), setting, header.writing) for side in ("before", "after")}
        table = cells.with_columns(old=amounts_of["before"], new=amounts_of["after"])
        known = filtered(table, not_null(table["new"]))
        step = max(1, cells.height // most)
        odd_ones = known.filter(pl.col("old").is_not_null() & (pl.col("old") != 0))
        rate = _rates(odd_ones)
        out.append(
            Trial(
                name,
                cells.height,
                cells.gather_every(step).head(most),
                known.sort("new", maintain_order=True).head(odd).select(cells.columns),
                known.sort("new", descending=True, maintain_order=True).head(odd).select(cells.columns),
                odd_ones[rate.arg_sort(descending=True)].head(odd).select(cells.columns),
            )
        )
    return out


def _rates(table: pl.DataFrame) -> pl.Series:
    """How far each value goes up or down, in proportion: twice as much is as far as half as much."""
    first, other = pl.col("new").abs(), pl.col("old").abs()
    least = pl.min_horizontal(first, other)
    rate = pl.when(least > 0).then(pl.max_horizontal(first, other) / least).otherwise(pl.lit(Decimal(10**9)))
    return table.select(rate.alias("rate")).to_series()
