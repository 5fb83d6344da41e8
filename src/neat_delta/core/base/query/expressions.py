"""Conditions and expressions over tables of texts: which rows hold, in which order they come, what value each gets."""

from __future__ import annotations

from dataclasses import dataclass

import polars as pl
import sqlglot
from polars.exceptions import PolarsError
from sqlglot import exp
from sqlglot.errors import SqlglotError

from neat_delta.core.base.kinds.list import BETWEEN
from neat_delta.core.base.query.comparing import COMPARING
from neat_delta.core.base.query.compile import Column, Compiler
from neat_delta.core.base.query.functions import WORKING, plain_number
from neat_delta.core.base.query.parse import Condition, Expression, condition, expression, parameters
from neat_delta.core.base.query.terms import Own, Rows, Sort, Term
from neat_delta.core.base.support.errors import ConditionError
from neat_delta.core.base.support.series import constant

__all__ = [
    "Condition",
    "Expression",
    "Own",
    "Rows",
    "Truth",
    "Values",
    "as_cells",
    "compute",
    "condition",
    "evaluate",
    "expression",
    "fields_read",
    "ordered",
    "parameters",
    "steps",
    "truth",
]

MEANINGS = {**WORKING, **COMPARING}

BEFORE_ORDER = "SELECT * ORDER BY "


def evaluate(wanted: Condition, rows: Rows) -> pl.Series:
    """For which rows a condition holds. ConditionError names the word that means nothing there.

    >>> from neat_delta import Field, Notation
    >>> rows = Rows({"": pl.DataFrame({"price": ["9.90", "20.00"]})}, {"price": Field("money")}, Notation())
    >>> evaluate(condition("price > 10"), rows).to_list()
    [False, True]
    """
    return truth(wanted, rows).holds


@dataclass(frozen=True, slots=True)
class Truth:
    """For which rows a condition `holds`, for which it is `unknown`, and the columns that it reads."""

    holds: pl.Series
    unknown: pl.Series
    inputs: list[Column]


def truth(wanted: Condition, rows: Rows) -> Truth:
    """A condition with all that is to be known of it. ConditionError as `evaluate`."""
    terms = Compiler(rows, wanted.text, MEANINGS)
    try:
        true = _column(terms, terms.truth(wanted.tree)).cast(pl.Boolean)
    except RecursionError:
        raise ConditionError("The condition is nested too deeply. Make several of it.") from None
    except PolarsError as error:
        raise _too_long(error, "condition") from None
    return Truth(true.fill_null(value=False), true.is_null(), terms.used)


@dataclass(frozen=True, slots=True)
class Values:
    """What an expression gives: a plain text a row (null: none), as values of its `sort` are written: a number with a
    point, a date in ISO 8601, "yes" and "no", a list with ASCII's unit separator. Numbers that were rounded have just
    those decimals (`fixed`). `meant` says of which rows NULL is what was meant; `inputs` are the columns it reads, and
    `failed` why a text of a row could not be read as what it was to be (null: it could).
    """

    texts: pl.Series
    meant: pl.Series
    sort: Sort
    fixed: bool
    inputs: list[Column]
    failed: pl.Series


def compute(wanted: Expression, rows: Rows) -> Values:
    """The value of an expression in every row. ConditionError names the word that means nothing there, and says when
    a number has too many digits to be exact.

    >>> from neat_delta import Field, Notation
    >>> rows = Rows({"": pl.DataFrame({"cost": ["10.05", ""]})}, {"cost": Field("money")}, Notation())
    >>> compute(expression("ROUND(cost * 1.1, 2)"), rows).texts.to_list()
    ['11.06', None]
    """
    terms = Compiler(rows, wanted.text, MEANINGS, "expression")
    try:
        term = terms.term(wanted.tree)
        texts, meant = _texts(terms, term), _column(terms, pl.lit(False) if term.meant is None else term.meant)
        failed = _column(terms, pl.coalesce(terms.failed) if terms.failed else pl.lit(None)).cast(pl.String)
    except RecursionError:
        raise ConditionError("The expression is nested too deeply. Make several rules of it.") from None
    except PolarsError as error:
        raise _too_long(error, "expression") from None
    meant = meant.cast(pl.Boolean).fill_null(value=False)
    return Values(texts, meant, term.sort, term.fixed, terms.used, failed)


def _texts(terms: Compiler, term: Term) -> pl.Series:
    value = term.value
    if term.sort == "number":
        text = value.cast(pl.String)
        value = text if term.fixed else plain_number(text)
    elif term.sort in {"flag", "truth"}:
        value = pl.when(value).then(pl.lit("yes")).when(~value).then(pl.lit("no"))
    elif term.sort == "list":
        value = value.list.join(BETWEEN)
    elif term.sort in {"text", "measure"}:
        value = term.text if term.text is not None else value
    return _column(terms, value).cast(pl.String)


def _column(terms: Compiler, value: pl.Expr) -> pl.Series:
    """An expression over the columns that it needs, in every row."""
    table = pl.DataFrame(terms.columns) if terms.columns else pl.DataFrame({"": [0] * terms.height})
    column = table.select(value=value)["value"]
    # Of literals alone Polars makes one row.
    return column if column.len() == terms.height else constant(column[0], terms.height, column.dtype)


def _too_long(error: PolarsError, what: str) -> ConditionError:
    if not any(word in str(error) for word in ("ecimal", "overflow", "conversion")):
        raise error
    return ConditionError(f"A number in the {what} has too many digits to be worked out exactly.")


def fields_read(text: str) -> list[str]:
    """The names of the fields that an expression reads, each once. ConditionError where it is none.

    >>> fields_read("ROUND(cost * 1.1, 2) + cost")
    ['cost']
    """
    return list(dict.fromkeys(column.name for column in expression(text).tree.find_all(exp.Column)))


def as_cells(values: Values, decimal_mark: str) -> pl.Series:
    """Values as the cells of a column that is no field: blank where there is none.

    >>> from neat_delta import Field, Notation
    >>> rows = Rows({"": pl.DataFrame({"cost": ["10.00"]})}, {"cost": Field("money")}, Notation())
    >>> as_cells(compute(expression("ROUND(cost, 2)"), rows), ",").to_list()
    ['10,00']
    """
    texts = values.texts.fill_null("")
    if values.sort == "number":
        return texts.str.replace(".", decimal_mark, literal=True)
    return texts.str.replace_all(BETWEEN, ",", literal=True) if values.sort == "list" else texts


def steps(wanted: Expression, rows: Rows) -> list[tuple[str, str | None]]:
    """How the value of the first row came about: each part of the expression but names and literals, the inner ones
    first, with its value (None: none).

    >>> from neat_delta import Field, Notation
    >>> rows = Rows({"": pl.DataFrame({"cost": ["10.05"]})}, {"cost": Field("money")}, Notation())
    >>> steps(expression("ROUND(cost * 1.1, 2)"), rows)
    [('cost * 1.1', '11.055'), ('ROUND(cost * 1.1, 2)', '11.06')]
    """
    parts = [node for node in _inner_first(wanted.tree) if not isinstance(node, PLAIN)]
    out: dict[str, str | None] = {}
    for node in parts:
        terms = Compiler(rows, wanted.text, MEANINGS, "expression")
        try:
            term = terms.term(node)
            out[node.sql()] = _texts(terms, term)[0]
        except (ConditionError, PolarsError):
            continue  # a part that means something only in its place, such as an interval
    return list(out.items())


PLAIN = (
    exp.Column,
    exp.Literal,
    exp.Placeholder,
    exp.Identifier,
    exp.Null,
    exp.Paren,
    exp.Neg,
    exp.DataType,
    exp.Boolean,
    exp.If,
)


def _inner_first(node: exp.Expr) -> list[exp.Expr]:
    out: list[exp.Expr] = []
    for child in node.iter_expressions():
        out += _inner_first(child)
    return [*out, node]


def ordered(text: str, rows: Rows) -> pl.Series:
    """The places of the rows in an order such as `category, price DESC`, by the fields' kinds; blanks come last, and
    what is equal stays as it is. ConditionError where it is none.
    """
    terms = Compiler(rows, BEFORE_ORDER + text, MEANINGS, "order", len(BEFORE_ORDER))
    wrong = ConditionError("An order is made of fields with commas between them, such as: category, price DESC")
    try:
        tree = sqlglot.parse_one(BEFORE_ORDER + text)
    except (SqlglotError, RecursionError):
        raise wrong from None
    if {name for name, part in tree.args.items() if part} != {"expressions", "order"}:
        raise wrong
    by: list[pl.Expr] = []
    falling: list[bool] = []
    for ordering in tree.args["order"].expressions:
        if not isinstance(ordering.this, exp.Column):
            raise terms.at(ordering.this, "an order is made of fields")
        term = terms.column(ordering.this)
        for value in (term.unit, term.text if term.sort == "list" else term.value):
            if value is not None:
                by.append(value)
                falling.append(bool(ordering.args.get("desc")))
    table = pl.DataFrame(terms.columns).with_row_index("\0place")
    return table.sort(by, descending=falling, nulls_last=True, maintain_order=True)["\0place"]
