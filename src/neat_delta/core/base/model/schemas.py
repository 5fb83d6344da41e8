"""The columns of every table that crosses a boundary, by name; and the one way in which a frame is made to fit."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from functools import cache
from typing import Any

import polars as pl

from neat_delta.core.base.support.series import constant

__all__ = [
    "CATALOGUE_FINDINGS",
    "CELL_FINDINGS",
    "CODE_CELLS",
    "COMPUTED_SCHEMA",
    "DAMAGED_SCHEMA",
    "FINDINGS",
    "FLAGS_SCHEMA",
    "ITEMS_SCHEMA",
    "LANDINGS",
    "MEANWHILE_SCHEMA",
    "NEAR_KEYS",
    "NOT_SENT",
    "PROBLEMS",
    "RELEASED",
    "RULE_FINDINGS",
    "TEXTS",
    "UNRESOLVED_SCHEMA",
    "WORKED",
    "Schema",
    "cells_schema",
    "conform",
    "empty",
    "stopping",
]

Schema = Mapping[str, pl.DataType | type[pl.DataType]]

TEXTS: Schema = {"field": pl.String, "pair": pl.UInt32, "new": pl.UInt32, "before": pl.String, "after": pl.String}
"""Cells whose texts differ: the row of `Matched.both` (null in a new item), the place in `Matched.new` (null in one
that live has), the texts in live (null in a new item) and in the sheet.
"""

NEAR_KEYS: Schema = {"live": pl.UInt32, "sheet": pl.UInt32, "damage": pl.String}
"""Items with nearly the same key: their places in both files, what a spreadsheet did to live's key (null: nothing)."""

LANDINGS: Schema = {
    "item": pl.Int64,
    "field": pl.String,
    "before": pl.String,
    "meant": pl.String,
    "now": pl.String,
    "outcome": pl.String,
    "how": pl.String,
    "new": pl.Boolean,
    "again": pl.String,
    "left": pl.String,
}
"""What became of changes that were sent: the item's number and the field (null: the item), what stood before, what was
meant, what stands now (null where there is none), the outcome and how it differs where that is plain, whether it is a
new item with nothing but its key; the text to send again (null: none), and why it is left alone (null: it is not).
"""

RULE_FINDINGS: Schema = {"item": pl.Int64, "field": pl.String, "what": pl.String}
"""What one check finds: the number of the item (null: the whole round), the field (null: none), what is wrong."""

FINDINGS: Schema = {
    "item": pl.Int64,
    "field": pl.String,
    "source": pl.String,
    "rule": pl.String,
    "level": pl.String,
    "reason": pl.String,
    "what": pl.String,
    "mendable": pl.Boolean,
}
"""What anybody says of a cell, an item (field null) or the whole round (item null, too): who says it (`damage`,
`slip`, `check`, `emptied`, …), by which rule, how bad it is (`stop`, `warn`, `note`), the reason for which the change
is held if it is, what is wrong in words, and whether live's own value is what was meant.
"""

CELL_FINDINGS: Schema = {**FINDINGS, "cell": pl.UInt32}
"""Findings, each with the number of the cell among those that differ that it is about (null: none)."""

ITEMS_SCHEMA: Schema = {"verdict": pl.String, "live": pl.Int64, "sheet": pl.Int64, "held": pl.String}
"""The items of a change set: verdict, row numbers in live and sheet (null: none), why it is held (null: it is not)."""

DAMAGED_SCHEMA: Schema = {
    "item": pl.Int64,
    "damage": pl.String,
    "key": pl.List(pl.String),
    "field": pl.String,
    "row": pl.Int64,
    "before": pl.String,
    "sheet": pl.String,
    "repair": pl.String,
    "done": pl.String,
}
"""Damaged cells, as in `Damaged`; `item` is its number in the change set, null where all its cells were put back."""

FLAGS_SCHEMA: Schema = {
    "item": pl.Int64,
    "check": pl.String,
    "level": pl.String,
    "field": pl.String,
    "row": pl.Int64,
    "value": pl.String,
    "what": pl.String,
    "done": pl.String,
}
"""What the checks say, as in `CheckFinding`; `item` is the number of the item, null for the whole round."""

MEANWHILE_SCHEMA: Schema = {
    "key": pl.List(pl.String),
    "field": pl.String,
    "row": pl.Int64,
    "base": pl.String,
    "live": pl.String,
}
"""What the store changed since the base, as in `Meanwhile`."""

WORKED: Schema = {
    "place": pl.UInt32,
    "field": pl.String,
    "step": pl.UInt16,
    "rule": pl.UInt16,
    "inputs": pl.List(pl.String),
    "result": pl.String,
}
"""How cells of a sheet came about: the place of the row, the field, which step of it (from 0), the number of the rule,
the texts that it read (null: blank) and the text that it gave.
"""

PROBLEMS: Schema = {
    "place": pl.UInt32,
    "field": pl.String,
    "source": pl.String,
    "rule": pl.String,
    "what": pl.String,
}
"""What could not be worked out: the place of the row, the field (null: the whole row), who says it (`rule`, `list`, or,
of several sheets of a round, `sheet`), by which rule, and what is wrong.
"""

COMPUTED_SCHEMA: Schema = {
    "item": pl.Int64,
    "field": pl.String,
    "rule": pl.UInt16,
    "inputs": pl.List(pl.String),
    "result": pl.String,
}
"""How the cells of a change set came about that were computed, step by step: as `WORKED`, by the number of the item."""

UNRESOLVED_SCHEMA: Schema = {
    "key": pl.List(pl.String),
    "row": pl.Int64,
    "field": pl.String,
    "source": pl.String,
    "rule": pl.String,
    "what": pl.String,
}
"""What could not be worked out, as in `Unresolved`."""

CODE_CELLS: Schema = {
    "place": pl.Int64,
    "field": pl.String,
    "before": pl.String,
    "after": pl.String,
    "reason": pl.String,
}
"""The cells by which codes change, and links follow them: live's place, the texts, why it cannot be (null: it can)."""

RELEASED: Schema = {"item": pl.Int64, "field": pl.String, "after": pl.String}
"""Cells that a reviewer let through: the number of the item, the field, the text to send."""

NOT_SENT: Schema = {"item": pl.Int64, "field": pl.String, "reason": pl.String}
"""What is not sent: the number of the item, the field (null: all of it), why."""

CATALOGUE_FINDINGS: Schema = {
    "check": pl.String,
    "level": pl.String,
    "key": pl.List(pl.String),
    "field": pl.String,
    "row": pl.Int64,
    "value": pl.String,
    "what": pl.String,
    "done": pl.String,
}
"""What the checks say of a catalogue by itself: as in `CheckFinding`, with the item's key."""


def cells_schema(fields: Sequence[str]) -> Schema:
    """The columns of `ChangeSet.cells`; the fields are an Enum, so that they sort in live's order."""
    return {
        "item": pl.Int64,
        "field": pl.Enum(list(fields)),
        "before": pl.String,
        "after": pl.String,
        "held": pl.String,
        "base": pl.String,
    }


def conform(frame: pl.DataFrame, schema: Schema) -> pl.DataFrame:
    """The frame with just these columns, in this order and of these types; those that it lacks are null.

    >>> conform(pl.DataFrame({"what": ["it is blank"], "item": [3]}), RULE_FINDINGS).rows()
    [(3, None, 'it is blank')]
    """
    own = {name: frame[name] for name in schema if name in frame.columns}
    columns = {
        name: own[name].cast(kind) if name in own else constant(None, frame.height, kind)
        for name, kind in schema.items()
    }
    return pl.DataFrame(columns)


def empty(schema: Schema) -> pl.DataFrame:
    """A frame of these columns without a row."""
    return _empty(tuple(schema.items())).clear()


@cache
def _empty(schema: tuple[tuple[str, Any], ...]) -> pl.DataFrame:
    return pl.DataFrame(schema=dict(schema))


def stopping(table: pl.DataFrame, source: str, rule: str | None = None) -> pl.DataFrame:
    """The rows (`item`, `field`, `reason`; what is lacking is null) as findings of a source that stop what they are
    about. The rule is called like the source, unless it is said.

    >>> stopping(pl.DataFrame({"item": [3], "reason": ["new"]}), "new").select("item", "source", "rule", "level").rows()
    [(3, 'new', 'new', 'stop')]
    """
    columns = {"source": source, "rule": rule or source, "level": "stop"}
    return conform(table.with_columns(pl.lit(text).alias(name) for name, text in columns.items()), FINDINGS)
