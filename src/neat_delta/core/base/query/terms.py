"""What expressions are about and what their parts are: tables of texts, sorts of values, terms."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Literal

import polars as pl
from sqlglot import exp

from neat_delta.core.base.kinds.notation import ColumnNotation
from neat_delta.core.base.kinds.number import NUMBER_KINDS
from neat_delta.core.base.model.layout import Notation
from neat_delta.core.base.model.store import Field

__all__ = ["MOST_PLACES", "SORTS", "Own", "Rows", "Sort", "Term"]

Sort = Literal["number", "measure", "date", "flag", "list", "text", "truth", "null"]

SORTS: dict[str, Sort] = {
    **dict.fromkeys(NUMBER_KINDS, "number"),
    "measure": "measure",
    "date": "date",
    "flag": "flag",
    "list": "list",
}
"""What the fields of each kind are compared as; all others as text."""

MOST_PLACES = 30
"""So many decimals a number may have: with more, too few digits are left before its point."""


@dataclass(frozen=True, slots=True)
class Own:
    """The fields and the writing of a table that is not the store's own: a supplier's list, a table of rates.
    `notations` are those of columns that are read as a sheet's are.
    """

    settings: Mapping[str, Field]
    writing: Notation
    notations: Mapping[str, ColumnNotation] = field(default_factory=dict)


@dataclass(frozen=True, slots=True)
class Rows:
    """The rows that expressions are about: tables of texts by name, the one with the name "" for plain names.

    The tables have the same rows. `settings` are the fields that are more than text, `writing` how the tables write
    values; but for those tables that have their `own`. `values` are what `:name` stands for.
    """

    tables: Mapping[str, pl.DataFrame]
    settings: Mapping[str, Field]
    writing: Notation
    own: Mapping[str, Own] = field(default_factory=dict)
    values: Mapping[str, str] = field(default_factory=dict)

    def of_table(self, table: str) -> Own:
        """The fields and the writing of a table."""
        return self.own.get(table) or Own(self.settings, self.writing)


NO_SETTINGS = Field()


@dataclass(frozen=True, slots=True)
class Term:
    """A part of an expression: what it is compared as, its value, its text, and where it stands.

    `places` are a number's decimals, which are `fixed` where it was rounded to them; `unit` is a measure's. `settings`
    are those of the field called `field`, whose kind reads literals beside it, and `literal_text` a text literal as
    it was written. `meant` says where NULL is what was meant, not what is missing (None: nowhere).
    """

    sort: Sort
    value: pl.Expr
    node: exp.Expr
    text: pl.Expr | None = None
    places: int = 0
    unit: pl.Expr | None = None
    field: str | None = None
    settings: Field = NO_SETTINGS
    literal_text: str | None = None
    fixed: bool = False
    meant: pl.Expr | None = None
