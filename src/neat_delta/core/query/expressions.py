"""Expressions over fields: the value expressions and search conditions of SQL (ISO/IEC 9075-2), as Polars expressions.

What a name, a literal and an operator mean is said here and nowhere else. A field is compared by its kind: numbers as
exact decimals, dates as dates, flags by their words, a list as a set. A blank cell is NULL, and so is one that its kind
cannot read; what is neither true nor false does not hold.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace
from decimal import Decimal
from functools import reduce
from operator import and_, or_
from typing import Any, Literal

import polars as pl
import sqlglot
from polars.exceptions import PolarsError
from sqlglot import exp
from sqlglot.errors import ParseError, SqlglotError

from neat_delta.core.kinds import KINDS
from neat_delta.core.kinds.list import BETWEEN
from neat_delta.core.kinds.number import NUMBER_KINDS
from neat_delta.core.kinds.text import folded
from neat_delta.core.model.catalogue import listed
from neat_delta.core.model.layout import Notation
from neat_delta.core.model.store import Field
from neat_delta.core.support.errors import ConditionError
from neat_delta.core.support.nearest import nearest

__all__ = ["Condition", "Rows", "condition", "evaluate", "ordered"]

Sort = Literal["number", "measure", "date", "flag", "list", "text", "truth", "null"]

SORTS: dict[str, Sort] = {
    **dict.fromkeys(NUMBER_KINDS, "number"),
    "measure": "measure",
    "date": "date",
    "flag": "flag",
    "list": "list",
}
"""What the fields of each kind are compared as; all others as text."""

QUOTIENT = 12
"""Decimals that a quotient is rounded to, over those of its terms."""

MOST_PLACES = 30

LONGEST_FORM = 1_000
"""A longer text for LIKE is no pattern that a person wrote."""


@dataclass(frozen=True, slots=True)
class Rows:
    """The rows that expressions are about: tables of texts by name, the one with the name "" for plain names.

    The tables have the same rows and fields. `settings` are the fields that are more than text, `writing` how the
    tables write values.
    """

    tables: Mapping[str, pl.DataFrame]
    settings: Mapping[str, Field]
    writing: Notation


@dataclass(frozen=True, slots=True)
class _Term:
    """A part of an expression: what it is compared as, its value, its text, and where it stands.

    `places` are a number's decimals, `unit` a measure's. `field` is the field whose kind reads literals beside it, and
    `said` a text literal as it was written.
    """

    sort: Sort
    value: pl.Expr
    node: exp.Expr
    text: pl.Expr | None = None
    places: int = 0
    unit: pl.Expr | None = None
    field: str | None = None
    said: str | None = None


@dataclass(frozen=True, slots=True)
class Condition:
    """A condition that was parsed: its text and its tree."""

    text: str
    tree: exp.Expr


def condition(text: str) -> Condition:
    """A condition, such as `price > 100 AND category LIKE 'Hives%'`. ConditionError where it is none.

    >>> str(condition("price > 100 AND category LIKE 'Hives%'").tree.key)
    'and'
    """
    try:
        return Condition(text, sqlglot.condition(text))
    except ParseError as error:
        place = error.errors[0] if error.errors else {}
        if not place:
            raise ConditionError("The condition is empty. Write one such as: price > 100 AND stock = 0") from None
        word, start = str(place["highlight"]), int(place["col"]) - len(str(place["highlight"]))
        what = "the condition ends too early" if not text[start + len(word) :].strip() else "this was not expected here"
        if re.fullmatch(r".*\d", text[:start].rstrip()) and word == ",":
            what = "numbers have a decimal point here: 19.90"
        elif word in {"]", "["} or "`" in text[max(0, start - 1) : start + 1]:
            what = "names with spaces go in double quotes"
        raise _error(word, start, what) from None
    except SqlglotError:
        start = next((n for n, mark in enumerate(text) if mark in "'\""), 0)
        raise _error(text[start:][:20], start, "a quote is not closed, here or later") from None
    except RecursionError:
        raise ConditionError("The condition is nested too deeply.") from None


def evaluate(wanted: Condition, rows: Rows) -> pl.Series:
    """For which rows a condition holds. ConditionError names the word that means nothing there.

    >>> rows = Rows({"": pl.DataFrame({"price": ["9.90", "20.00"]})}, {"price": Field("money")}, Notation())
    >>> evaluate(condition("price > 10"), rows).to_list()
    [False, True]
    """
    reader = _Reader(rows, wanted.text)
    try:
        truth = reader.truth(wanted.tree)
        table = pl.DataFrame(reader.columns) if reader.columns else pl.DataFrame({"": [0] * reader.height})
        return table.select(held=pl.repeat(True, pl.len()) & truth.fill_null(value=False))["held"]
    except RecursionError:
        raise ConditionError("The condition is nested too deeply.") from None
    except PolarsError as error:
        if "ecimal" not in str(error):
            raise
        raise ConditionError("A number in the condition has too many digits to be worked out exactly.") from None


BEFORE_ORDER = "SELECT * ORDER BY "


def ordered(text: str, rows: Rows) -> pl.Series:
    """The places of the rows in an order such as `category, price DESC`, by the fields' kinds; blanks come last, and
    what is equal stays as it is. ConditionError where it is none.
    """
    reader = _Reader(rows, BEFORE_ORDER + text, "order", len(BEFORE_ORDER))
    wrong = ConditionError("An order is made of fields with commas between them, such as: category, price DESC")
    try:
        tree = sqlglot.parse_one(BEFORE_ORDER + text)
    except (SqlglotError, RecursionError):
        raise wrong from None
    if {name for name, part in tree.args.items() if part} != {"expressions", "order"}:
        raise wrong
    by: list[pl.Expr] = []
    falling: list[bool] = []
    for one in tree.args["order"].expressions:
        if not isinstance(one.this, exp.Column):
            raise reader.at(one.this, "an order is made of fields")
        term = reader.column(one.this)
        for value in (term.unit, term.text if term.sort == "list" else term.value):
            if value is not None:
                by.append(value)
                falling.append(bool(one.args.get("desc")))
    table = pl.DataFrame(reader.columns).with_row_index("\0place")
    return table.sort(by, descending=falling, nulls_last=True, maintain_order=True)["\0place"]


class _Reader:
    """Turns a tree into an expression over `columns`, the typed columns that it needs."""

    def __init__(self, rows: Rows, source: str, what: str = "condition", skip: int = 0) -> None:
        self.rows = rows
        self.source, self.what, self.skip = source, what, skip
        self.columns: dict[str, pl.Series] = {}
        self.known: dict[tuple[str, str], _Term] = {}
        self.height = rows.tables[""].height

    def truth(self, node: exp.Expr) -> pl.Expr:
        """A part that is true, false or unknown."""
        term = self.term(node)
        if term.sort == "null":
            return pl.lit(None, pl.Boolean)
        if term.sort not in {"truth", "flag"}:
            raise self.at(node, "this is a value and no condition; compare it with something, as in: price > 100")
        return term.value

    def term(self, node: exp.Expr) -> _Term:
        """Any part."""
        read = READERS.get(type(node))
        if read is None or (isinstance(node, exp.In) and not node.expressions):
            raise self.at(node, "a condition cannot have this; it compares fields with values")
        return read(self, node)

    def at(self, node: exp.Expr, what: str) -> ConditionError:
        """An error at the first word of a part."""
        places: Sequence[exp.Expr] = [one for one in node.walk() if "start" in one.meta]
        if not places:
            return ConditionError(f'In the {self.what}, at "{node.sql()}": {what}.')
        first = min(places, key=lambda one: int(one.meta["start"]))
        start = int(first.meta["start"])
        word = self.source[start : int(first.meta["end"]) + 1]
        return _error(word, start - self.skip, what, self.what)

    # Names and literals.

    def column(self, node: exp.Expr) -> _Term:
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
        field, prefix = self.rows.settings.get(name, Field()), f"{len(self.known)}"
        texts = folded(cells[name])
        texts = texts.set(texts == "", None)
        sort = SORTS.get(field.kind, "text")
        value, places, unit = self.read(texts, field, prefix, sort)
        self.columns[prefix + "text"] = texts
        text = pl.col(prefix + "text")
        self.known[table, name] = _Term(sort, value, node, text=text, places=places, unit=unit, field=name)
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
        if node.this.quoted and not near:
            hint = f"for a text use single quotes: '{name}'"
        raise self.at(node, f'there is no field "{name}"; {hint}')

    def read(self, texts: pl.Series, field: Field, prefix: str, sort: Sort) -> tuple[pl.Expr, int, pl.Expr | None]:
        """Texts (null where blank) as typed columns: the expression for them, their decimals, their unit."""
        there = texts.is_not_null()
        values = pl.repeat(None, texts.len(), dtype=pl.String, eager=True)
        if there.any():
            read_values = KINDS[field.kind].read(texts.filter(there), field, self.rows.writing)
            values = values.scatter(there.arg_true(), read_values)
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
                raise ConditionError(f"A number has {places} decimals, too many to be worked out exactly.")
            values = values.cast(pl.Decimal(38, places))
        elif sort == "flag":
            values = values == "yes"
        elif sort == "list":
            values = values.str.split(BETWEEN)
        self.columns[prefix] = values
        return pl.col(prefix), places, unit

    def literal(self, node: exp.Expr) -> _Term:
        if node.is_string:
            if not node.name.strip():
                raise self.at(node, "a blank cell is NULL: write IS NULL or IS NOT NULL")
            text = pl.lit(folded(pl.Series([node.name]))[0])
            return _Term("text", text, node, text=text, said=node.name)
        number = Decimal(node.name)
        if not -MOST_PLACES < (places := max(0, -int(number.as_tuple().exponent))) <= MOST_PLACES:
            raise self.at(node, "this number has too many decimals")
        if number.adjusted() > 37 - places:
            raise self.at(node, "this number has too many digits")
        return _Term("number", pl.lit(f"{number:f}").cast(pl.Decimal(38, places)), node, places=places)

    def day(self, node: exp.Expr) -> _Term:
        """`DATE '2026-05-12'`, the only cast there is."""
        inner = node.this
        if not (node.args["to"].this == exp.DType.DATE and isinstance(inner, exp.Literal) and inner.is_string):
            raise self.at(
                inner, "a condition cannot turn one kind into another; fields have the kinds of the store file"
            )
        return self.as_kind(self.literal(inner), Field(kind="date"), "DATE")

    def as_kind(self, text: _Term, field: Field, whose: str) -> _Term:
        """A text literal, read like the cells of a field."""
        sort = SORTS.get(field.kind, "text")
        if sort == "text" and field.kind not in {"path", "json", "link", "image"}:
            return text
        values = KINDS[field.kind].read(pl.Series([text.said]), field, self.rows.writing)
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

    # Comparing.

    def pair(self, one: exp.Expr, other: exp.Expr) -> tuple[_Term, _Term]:
        """Two parts that are to be compared, a text literal being read like the field it stands beside."""
        left, right = self.term(one), self.term(other)
        if left.said is not None and right.field is not None:
            left = self.as_kind(left, self.rows.settings.get(right.field, Field()), right.field)
        elif right.said is not None and left.field is not None:
            right = self.as_kind(right, self.rows.settings.get(left.field, Field()), left.field)
        elif {left.sort, right.sort} == {"text", "date"}:
            left, right = (self.as_kind(t, Field(kind="date"), "DATE") if t.said else t for t in (left, right))
        if "null" in {left.sort, right.sort}:
            raise self.at(one if left.sort == "null" else other, "NULL equals nothing: write IS NULL or IS NOT NULL")
        sorts = {"flag" if term.sort == "truth" else term.sort for term in (left, right)}
        if len(sorts) > 1:
            raise self.unlike(left, right)
        return left, right

    def unlike(self, left: _Term, right: _Term) -> ConditionError:
        """Why two parts cannot be compared."""
        one, other = (left, right) if left.field is not None else (right, left)
        if one.field is None:
            return self.at(other.node, f"a {other.sort} cannot be compared with a {one.sort}")
        kind = KINDS[self.rows.settings.get(one.field, Field()).kind]
        if isinstance(other.node, exp.Literal):
            like = f"'{other.node.name} g'" if one.sort == "measure" else f"'{other.node.name}'"
            return self.at(other.node, f'"{one.field}" holds {kind or "text"}, so write it in quotes: {like}')
        return self.at(other.node, f'"{one.field}" holds {kind}, and this is a {other.sort}')

    def compared(self, node: exp.Expr) -> _Term:
        if isinstance(node.expression, exp.Any):
            return self.member(node, node.expression.this.unnest(), node.this)
        if isinstance(node.this, exp.Any):
            return self.member(node, node.this.this.unnest(), node.expression)
        left, right = self.pair(node.this, node.expression)
        return _Term("truth", self.compare(COMPARED[type(node)], left, right), node)

    def compare(self, how: Callable[[pl.Expr, pl.Expr], pl.Expr], left: _Term, right: _Term) -> pl.Expr:
        one, other = self.same_places(left, right)
        if left.sort == "list":
            if how not in {pl.Expr.eq, pl.Expr.ne}:
                raise self.at(left.node, "lists are equal or not; none is less than another")
            one, other = (value.list.unique().list.sort().list.join(BETWEEN) for value in (one, other))
        answer = how(one, other)
        if left.unit is not None and right.unit is not None:
            answer = pl.when(left.unit == right.unit).then(answer)
        return answer

    def same_places(self, left: _Term, right: _Term) -> tuple[pl.Expr, pl.Expr]:
        if left.sort not in {"number", "measure"} or left.places == right.places:
            return left.value, right.value
        wide = pl.Decimal(38, max(left.places, right.places))
        return left.value.cast(wide), right.value.cast(wide)

    def member(self, node: exp.Expr, of: exp.Expr, one: exp.Expr) -> _Term:
        """Whether a list has a value: `'gift' = ANY (tags)`, `'gift' IN (tags)`."""
        listed_values, value = self.term(of), self.term(one)
        if listed_values.sort != "list":
            raise self.at(of, "this is no list")
        if value.sort != "text" or not isinstance(node, (exp.EQ, exp.NEQ, exp.In)):
            raise self.at(one, "a list has texts: 'gift' = ANY (tags)")
        answer = listed_values.value.list.contains(value.value.str.strip_chars())
        return _Term("truth", ~answer if isinstance(node, exp.NEQ) else answer, node)

    def among(self, node: exp.Expr) -> _Term:
        if isinstance(node.this, exp.Column) and all(isinstance(one, exp.Literal) for one in node.expressions):
            left = self.term(node.this)
            if left.sort in {"text", "number", "date"}:
                return _Term("truth", self.in_set(left, node.expressions), node)
        answers = []
        for one in node.expressions:
            lists = isinstance(one, exp.Column) and self.term(one).sort == "list"
            if lists and not isinstance(node.this, exp.Column):
                answers.append(self.member(node, one, node.this).value)
            else:
                answers.append(self.compare(pl.Expr.eq, *self.pair(node.this, one)))
        return _Term("truth", reduce(or_, answers), node)

    def in_set(self, left: _Term, literals: Sequence[exp.Expr]) -> pl.Expr:
        """Whether a field has one of many values: they are read all at once, and looked up."""
        field = self.rows.settings.get(left.field or "", Field())
        for one in literals:
            if not one.is_string and left.sort != "number":
                raise self.unlike(left, self.literal(one))
            if not one.is_string or not one.name.strip():
                self.literal(one)  # says what is wrong with it
        said = [one for one in literals if one.is_string]
        values = folded(pl.Series([one.name for one in said], dtype=pl.String))
        if left.sort != "text" or field.kind in {"path", "json", "link", "image"}:
            values = KINDS[field.kind].read(values, field, self.rows.writing)
            for at in values.is_null().arg_true().head(1):
                raise self.at(said[at], f"this is not {KINDS[field.kind]}, and {left.field} is")
        if left.sort != "number":
            return left.value.is_in(values.unique().implode())
        numbers = [f"{Decimal(one.name):f}" for one in literals if not one.is_string]
        values = pl.concat([values, pl.Series(numbers, dtype=pl.String)]).unique()
        places = max(left.places, *(len(text.partition(".")[2]) for text in values))
        wide = pl.Decimal(38, places)
        return left.value.cast(wide).is_in(values.cast(wide).implode())

    def between(self, node: exp.Expr) -> _Term:
        least, most = (self.pair(node.this, node.args[name]) for name in ("low", "high"))
        return _Term("truth", self.compare(pl.Expr.ge, *least) & self.compare(pl.Expr.le, *most), node)

    def like(self, node: exp.Expr, escape: str = "") -> _Term:
        """LIKE on the text of the cell, whatever its kind."""
        text, form = self.term(node.this).text, node.expression
        if text is None:
            raise self.at(node.this, "LIKE looks at a text")
        if not (isinstance(form, exp.Literal) and form.is_string):
            raise self.at(form, "LIKE takes a text in single quotes, with % for any letters and _ for one")
        if len(form.name) > LONGEST_FORM:
            raise self.at(form, f"LIKE takes a text of at most {LONGEST_FORM:,} characters")
        parts = re.findall(rf"{re.escape(escape)}(.)|(.)" if escape else "()(.)", form.name, re.DOTALL)
        marks = {"%": ".*", "_": "."}
        pattern = "".join(re.escape(kept) if kept else marks.get(mark, re.escape(mark)) for kept, mark in parts)
        case = "i" if isinstance(node, exp.ILike) else ""
        answer = text.str.contains(f"(?s{case})^(?:{pattern})$")
        return _Term("truth", ~answer if node.args.get("negate") else answer, node)

    def escaped(self, node: exp.Expr) -> _Term:
        mark = node.expression.name
        if not isinstance(node.this, (exp.Like, exp.ILike)) or len(mark) != 1:
            raise self.at(node.expression, "ESCAPE takes one character in quotes")
        return self.like(node.this, mark)

    def is_(self, node: exp.Expr) -> _Term:
        """IS NULL, IS TRUE, IS FALSE. A cell is NULL when it is blank."""
        term, what = self.term(node.this), node.expression
        if isinstance(what, exp.Null):
            cell = term.text if term.field is not None and term.text is not None else term.value
            return _Term("truth", cell.is_null(), node)
        if not isinstance(what, exp.Boolean):
            raise self.at(what, "IS takes NULL, TRUE or FALSE")
        answer = self.truth(node.this)
        return _Term("truth", (answer if what.this else ~answer).fill_null(value=False), node)

    def both(self, node: exp.Expr) -> _Term:
        how = and_ if isinstance(node, exp.And) else or_
        return _Term("truth", how(self.truth(node.this), self.truth(node.expression)), node)

    def negated(self, node: exp.Expr) -> _Term:
        return _Term("truth", ~self.truth(node.this), node)

    def boolean(self, node: exp.Expr) -> _Term:
        return _Term("truth", pl.lit(bool(node.this)), node)

    # Working out.

    def number(self, node: exp.Expr) -> _Term:
        term = self.term(node)
        if term.sort != "number":
            raise self.at(node, "this is no number")
        return term

    def reckoned(self, node: exp.Expr) -> _Term:
        """Sum, difference and product exactly; a quotient rounded to 12 more decimals, and NULL when divided by 0."""
        left, right = self.number(node.this), self.number(node.expression)
        places = max(left.places, right.places)
        if isinstance(node, exp.Mul):
            places = left.places + right.places
        elif isinstance(node, exp.Div):
            places += QUOTIENT
        if places > MOST_PLACES:
            raise self.at(node, "this has too many decimals to be worked out exactly")
        one, other = (term.value.cast(pl.Decimal(38, places)) for term in (left, right))
        if isinstance(node, exp.Div):
            other = pl.when(other != 0).then(other)
        return _Term("number", RECKONED[type(node)](one, other), node, places=places)

    def minus(self, node: exp.Expr) -> _Term:
        term = self.number(node.this)
        return replace(term, value=-term.value, node=node, text=None, field=None)

    def absolute(self, node: exp.Expr) -> _Term:
        term = self.number(node.this)
        return replace(
            term, value=pl.when(term.value < 0).then(-term.value).otherwise(term.value), node=node, text=None
        )

    def texts(self, node: exp.Expr) -> pl.Expr:
        term = self.term(node)
        if term.text is None:
            raise self.at(node, "this is no text")
        return term.text

    def changed_text(self, node: exp.Expr) -> _Term:
        text = CHANGED[type(node)](self.texts(node.this))
        return _Term("text", text, node, text=text)

    def length(self, node: exp.Expr) -> _Term:
        return _Term("number", self.texts(node.this).str.len_chars().cast(pl.Decimal(38, 0)), node)

    def joined(self, node: exp.Expr) -> _Term:
        text = pl.concat_str(self.texts(node.this), self.texts(node.expression))
        return _Term("text", text, node, text=text)

    def first_of(self, node: exp.Expr) -> _Term:
        terms = [self.term(one) for one in (node.this, *node.expressions)]
        typed = next((term for term in terms if term.field is not None), terms[0])
        settings = self.rows.settings.get(typed.field or "", Field())
        terms = [self.as_kind(term, settings, typed.field or "") if term.said else term for term in terms]
        for term in terms:
            if term.sort != typed.sort:
                raise self.unlike(typed, term)
        places = max(term.places for term in terms)
        values = [term.value.cast(pl.Decimal(38, places)) if typed.sort == "number" else term.value for term in terms]
        texts = [term.text for term in terms if term.text is not None]
        text = pl.coalesce(texts) if len(texts) == len(terms) else None
        return _Term(typed.sort, pl.coalesce(values), node, text=text, places=places, field=typed.field)

    def null(self, node: exp.Expr) -> _Term:
        return _Term("null", pl.lit(None), node)


COMPARED: dict[type[exp.Expr], Callable[[pl.Expr, pl.Expr], pl.Expr]] = {
    exp.EQ: pl.Expr.eq,
    exp.NEQ: pl.Expr.ne,
    exp.GT: pl.Expr.gt,
    exp.GTE: pl.Expr.ge,
    exp.LT: pl.Expr.lt,
    exp.LTE: pl.Expr.le,
    exp.NullSafeEQ: pl.Expr.eq_missing,
    exp.NullSafeNEQ: pl.Expr.ne_missing,
}

RECKONED: dict[type[exp.Expr], Callable[[pl.Expr, pl.Expr], pl.Expr]] = {
    exp.Add: pl.Expr.add,
    exp.Sub: pl.Expr.sub,
    exp.Mul: pl.Expr.mul,
    exp.Div: pl.Expr.truediv,
}

CHANGED: dict[type[exp.Expr], Callable[[pl.Expr], pl.Expr]] = {
    exp.Lower: lambda text: text.str.to_lowercase(),
    exp.Upper: lambda text: text.str.to_uppercase(),
    exp.Trim: lambda text: text.str.strip_chars(),
}

READERS: dict[type[exp.Expr], Callable[[_Reader, exp.Expr], _Term]] = {
    exp.Column: _Reader.column,
    exp.Literal: _Reader.literal,
    exp.Boolean: _Reader.boolean,
    exp.Null: _Reader.null,
    exp.Cast: _Reader.day,
    exp.Paren: lambda self, node: self.term(node.this),
    exp.And: _Reader.both,
    exp.Or: _Reader.both,
    exp.Not: _Reader.negated,
    **dict.fromkeys(COMPARED, _Reader.compared),
    exp.In: _Reader.among,
    exp.Between: _Reader.between,
    exp.Like: _Reader.like,
    exp.ILike: _Reader.like,
    exp.Escape: _Reader.escaped,
    exp.Is: _Reader.is_,
    **dict.fromkeys(RECKONED, _Reader.reckoned),
    exp.Neg: _Reader.minus,
    exp.Abs: _Reader.absolute,
    **dict.fromkeys(CHANGED, _Reader.changed_text),
    exp.Length: _Reader.length,
    exp.DPipe: _Reader.joined,
    exp.Coalesce: _Reader.first_of,
}
"""What each part of a tree means; a part of any other type is refused."""


def _error(word: str, start: int, what: str, where: str = "condition") -> ConditionError:
    return ConditionError(f'In the {where}, at "{word}" (character {start + 1}): {what}.')
