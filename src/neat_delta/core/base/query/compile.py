"""Compiling: a tree into a Polars expression over typed columns. What a name and a literal mean is said here; what an
operator or a function means, in `comparing` and in `functions`.

A field is compared by its kind: numbers as exact decimals, dates as dates, flags by their words, a list as a set. A
blank cell is NULL, and so is one that its kind cannot read; what is neither true nor false does not hold.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, replace
from decimal import Decimal
from typing import Any

import msgspec
import polars as pl
from sqlglot import exp

from neat_delta.core.base.kinds import KINDS
from neat_delta.core.base.kinds.list import BETWEEN
from neat_delta.core.base.kinds.notation import ColumnNotation, Reading, read_cells
from neat_delta.core.base.kinds.text import folded
from neat_delta.core.base.model.catalogue import listed
from neat_delta.core.base.model.layout import Notation
from neat_delta.core.base.model.store import Field
from neat_delta.core.base.query.parse import error_at
from neat_delta.core.base.query.terms import MOST_PLACES, SORTS, Rows, Sort, Term
from neat_delta.core.base.support.errors import ConditionError
from neat_delta.core.base.support.nearest import nearest
from neat_delta.core.base.support.series import constant, scattered, true_places

__all__ = ["Column", "Compiler", "Meaning"]

Meaning = Callable[["Compiler", exp.Expr], Term]
"""What a part of a tree means."""


@dataclass(frozen=True, slots=True)
class Column:
    """A column that an expression reads: its table and field, its settings, its texts (null where blank), which of them
    can be read, and why one may be two things (null: it is not).
    """

    table: str
    field: str
    settings: Field
    texts: pl.Series
    readable: pl.Series
    doubts: pl.Series

    @property
    def name(self) -> str:
        """As it is written in an expression.

        >>> from neat_delta.core.base.model.store import Field
        >>> Column("sheet", "Trade", Field(), pl.Series(), pl.Series(), pl.Series()).name
        'sheet.Trade'
        """
        return f"{self.table}.{self.field}" if self.table else self.field


class Compiler:
    """Turns a tree into an expression over `columns`, the typed columns that it needs. `meanings` says what each part
    of a tree means; a part of any other type is refused. `failed` says in which rows a text could not be read as what
    it was to be (null: it could).
    """

    def __init__(
        self,
        rows: Rows,
        source: str,
        meanings: Mapping[type[exp.Expr], Meaning],
        what: str = "condition",
        skip: int = 0,
    ) -> None:
        self.rows, self.meanings = rows, meanings
        self.source, self.what, self.skip = source, what, skip
        self.columns: dict[str, pl.Series] = {}
        self.known: dict[tuple[str, str], Term] = {}
        self.used: list[Column] = []
        self.failed: list[pl.Expr] = []
        self.height = rows.tables[""].height

    def truth(self, node: exp.Expr) -> pl.Expr:
        """A part that is true, false or unknown."""
        term = self.term(node)
        if term.sort == "null":
            return pl.lit(None, pl.Boolean)
        if term.sort not in {"truth", "flag"}:
            raise self.at(node, "this is a value and no condition; compare it with something, as in: price > 100")
        return term.value

    def term(self, node: exp.Expr) -> Term:
        """Any part."""
        meaning = self.meanings.get(type(node))
        if meaning is None or (isinstance(node, exp.In) and not node.expressions):
            raise self.at(node, "this means nothing here; docs/expressions.md has all that does")
        return meaning(self, node)

    def at(self, node: exp.Expr, what: str) -> ConditionError:
        """An error at the first word of a part."""
        return error_at(node, what, self.source, self.what, self.skip)

    def column(self, node: exp.Expr) -> Term:
        """A field of a table."""
        assert isinstance(node, exp.Column)
        table = node.table.casefold()
        cells = self.rows.tables.get(table)
        if cells is None or node.args.get("db"):
            tables = [name for name in self.rows.tables if name]
            hint = f"there are {' and '.join(tables)}" if tables else "write the field's name alone"
            raise self.at(node, f'there is no table "{node.table}"; {hint}')
        name = self.name(node, cells)
        if (table, name) in self.known:
            return replace(self.known[table, name], node=node)
        own = self.rows.of_table(table)
        field, prefix = own.settings.get(name, Field()), f"{len(self.known)}"
        if field.kind == "list":  # what is added to one is added in live's order
            field = msgspec.structs.replace(field, ordered=True)
        texts = folded(cells[name])
        texts = texts.set(texts == "", None)
        sort = SORTS.get(field.kind, "text")
        reading = _read_there(texts, field, own.writing, own.notations.get(name))
        value, places, unit = self.typed(reading.values, prefix, sort)
        self.columns[prefix + "text"] = texts
        text = pl.col(prefix + "text")
        self.used.append(Column(table, name, field, texts, self.columns[prefix].is_not_null(), reading.doubts))
        self.known[table, name] = Term(
            sort, value, node, text=text, places=places, unit=unit, field=name, settings=field
        )
        return self.known[table, name]

    def name(self, node: exp.Column, cells: pl.DataFrame) -> str:
        """The field that is meant: by its exact name, or without regard to case when that is one field."""
        name = node.name
        if name in cells.columns:
            return name
        alike = [field for field in cells.columns if field.casefold() == name.casefold()]
        if len(alike) == 1:
            return alike[0]
        near = nearest(name, cells.columns)
        hint = f'the nearest is "{near}"' if near else f"there are: {listed(cells.columns)}"
        if (node.this.quoted or isinstance(node.parent, exp.Predicate)) and not near:
            hint = f"for a text use single quotes: '{name}'"
        raise self.at(node, f'there is no field "{name}"; {hint}')

    def typed(self, values: pl.Series, prefix: str, sort: Sort) -> tuple[pl.Expr, int, pl.Expr | None]:
        """Values of a kind as typed columns: the expression for them, their decimals, their unit."""
        unit = None
        if sort == "measure":
            parts = values.str.split_exact(" ", 1).struct.unnest()
            values, self.columns[prefix + "unit"] = parts["field_0"], parts["field_1"]
            unit = pl.col(prefix + "unit")
        places = 0
        if sort in {"number", "measure"}:
            decimals = values.str.extract(r"\.([0-9]+)$").str.len_bytes().max()
            places = int(decimals) if isinstance(decimals, int) else 0
            if places > MOST_PLACES:
                raise ConditionError(
                    f"A number has {places} decimals, too many to be worked out exactly. ROUND it first."
                )
            values = values.cast(pl.Decimal(38, places))
        elif sort == "flag":
            values = values == "yes"
        elif sort == "list":
            values = values.str.split(BETWEEN)
        self.columns[prefix] = values
        return pl.col(prefix), places, unit

    def literal(self, node: exp.Expr) -> Term:
        """A text or a number."""
        if node.is_string:
            if not node.name.strip() and self.what == "condition":
                raise self.at(node, "a blank cell is NULL: write IS NULL or IS NOT NULL")
            return self.text(node.name, node)
        try:
            return self.number(Decimal(node.name), node)
        except ArithmeticError:
            raise self.at(node, "this is no number") from None

    def text(self, text: str, node: exp.Expr) -> Term:
        """A text that was said. It is compared without white space around it, as cells are; in its text that is kept,
        as it may be what another is joined with.
        """
        value = folded(pl.Series([text]))[0] if text.strip() else text
        return Term("text", pl.lit(value), node, text=pl.lit(text), literal_text=text)

    def number(self, number: Decimal, node: exp.Expr) -> Term:
        """A number that stands in the expression."""
        if not -MOST_PLACES < (places := max(0, -int(number.as_tuple().exponent))) <= MOST_PLACES:
            raise self.at(node, "this number has too many decimals")
        if number.adjusted() > 37 - places:
            raise self.at(node, "this number has too many digits")
        return Term("number", pl.lit(f"{number:f}").cast(pl.Decimal(38, places)), node, places=places)

    def parameter(self, node: exp.Expr) -> Term:
        """`:rate`: a value with a name; a number where it is one."""
        name = str(node.this)
        if name not in self.rows.values:
            near = nearest(name, list(self.rows.values))
            hint = f'did you mean ":{near}"?' if near else f"say what it is with ‹let› {name}=…"
            raise self.at(node, f'there is no value ":{name}"; {hint}')
        text = self.rows.values[name]
        try:
            number = Decimal(text)
            if not number.is_finite():
                raise ValueError
        except (ArithmeticError, ValueError):
            return self.text(text, node)
        return replace(self.number(number, node), literal_text=text)

    def as_kind(self, text: Term, field: Field, whose: str, writing: Notation | None = None) -> Term:
        """A text literal, read like the cells of a field; a number that has a name is what it is as a literal."""
        sort = SORTS.get(field.kind, "text")
        if text.sort == sort == "number":
            return text
        if sort == "text" and field.kind not in {"path", "json", "link", "image"}:
            return text if text.sort == "text" else self.text(str(text.literal_text), text.node)
        values = KINDS[field.kind].read(pl.Series([text.literal_text]), field, writing or self.rows.writing)
        if values.null_count():
            raise self.at(text.node, f"this is not {KINDS[field.kind]}, and {whose} is")
        value: Any = values[0]
        if sort == "flag":
            return replace(text, sort=sort, value=pl.lit(value == "yes"))
        if sort == "list":
            return replace(text, sort=sort, value=pl.lit(pl.Series([value.split(BETWEEN)])).first())
        unit = None
        if sort == "measure":
            value, _, name = value.partition(" ")
            unit = pl.lit(name)
        if sort in {"number", "measure"}:
            places = len(value.partition(".")[2])
            return replace(text, sort=sort, value=pl.lit(value).cast(pl.Decimal(38, places)), places=places, unit=unit)
        return replace(text, sort=sort, value=pl.lit(value))


def _read_there(texts: pl.Series, field: Field, writing: Notation, notation: ColumnNotation | None) -> Reading:
    """The values of texts (null where blank); null where they cannot be read, or may be two things."""
    filled = texts.is_not_null()
    if filled.all() and texts.len():
        reading = read_cells(texts, field, writing, notation)
        return replace(reading, values=reading.values.set(reading.doubts.is_not_null(), None))
    none = constant(None, texts.len(), pl.String)
    if not filled.any():
        return Reading(none, none, none)
    some, at = _read_there(texts.filter(filled), field, writing, notation), true_places(filled)
    return Reading(scattered(none, at, some.values), scattered(none, at, some.doubts), none)
