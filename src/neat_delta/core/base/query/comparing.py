"""What comparing means: by the kinds of fields, in SQL's three truth values."""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping, Sequence
from decimal import Decimal
from functools import reduce
from operator import and_, or_

import polars as pl
from sqlglot import exp

from neat_delta.core.base.kinds import KINDS
from neat_delta.core.base.kinds.list import BETWEEN
from neat_delta.core.base.kinds.text import folded
from neat_delta.core.base.model.store import Field
from neat_delta.core.base.query.compile import Compiler, Meaning
from neat_delta.core.base.query.terms import Term
from neat_delta.core.base.support.errors import ConditionError
from neat_delta.core.base.support.series import true_places

__all__ = ["COMPARING", "pair", "same_places", "unlike"]

LONGEST_FORM = 1_000
"""A longer text for LIKE is no pattern that a person wrote."""


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


def pair(terms: Compiler, first: exp.Expr, other: exp.Expr) -> tuple[Term, Term]:
    """Two parts that are to be compared, a text literal being read like the field it stands beside."""
    left, right = terms.term(first), terms.term(other)
    if left.literal_text is not None and right.field is not None:
        left = terms.as_kind(left, right.settings, right.field)
    elif right.literal_text is not None and left.field is not None:
        right = terms.as_kind(right, left.settings, left.field)
    elif {left.sort, right.sort} == {"text", "date"}:
        left, right = (terms.as_kind(t, Field(kind="date"), "DATE") if t.literal_text else t for t in (left, right))
    if "null" in {left.sort, right.sort}:
        raise terms.at(first if left.sort == "null" else other, "NULL equals nothing: write IS NULL or IS NOT NULL")
    sorts = {"flag" if term.sort == "truth" else term.sort for term in (left, right)}
    if len(sorts) > 1:
        raise unlike(terms, left, right)
    return left, right


def unlike(terms: Compiler, left: Term, right: Term) -> ConditionError:
    """Why two parts cannot be compared."""
    first, other = (left, right) if left.field is not None else (right, left)
    if first.field is None:
        return terms.at(other.node, f"a {other.sort} cannot be compared with a {first.sort}")
    kind = KINDS[first.settings.kind]
    if isinstance(other.node, exp.Literal):
        like = f"'{other.node.name} g'" if first.sort == "measure" else f"'{other.node.name}'"
        return terms.at(other.node, f'"{first.field}" holds {kind or "text"}, so write it in quotes: {like}')
    return terms.at(other.node, f'"{first.field}" holds {kind}, and this is a {other.sort}')


def compared(terms: Compiler, node: exp.Expr) -> Term:
    if isinstance(node.expression, exp.Any):
        return member(terms, node, node.expression.this.unnest(), node.this)
    if isinstance(node.this, exp.Any):
        return member(terms, node, node.this.this.unnest(), node.expression)
    left, right = pair(terms, node.this, node.expression)
    return Term("truth", compare(terms, COMPARED[type(node)], left, right), node)


def compare(terms: Compiler, how: Callable[[pl.Expr, pl.Expr], pl.Expr], left: Term, right: Term) -> pl.Expr:
    first, other = same_places(terms, left, right)
    if left.sort == "list":
        if how not in {pl.Expr.eq, pl.Expr.ne}:
            raise terms.at(left.node, "lists are equal or not; none is less than another")
        first, other = (value.list.unique().list.sort().list.join(BETWEEN) for value in (first, other))
    answer = how(first, other)
    if left.unit is not None and right.unit is not None:
        answer = pl.when(left.unit == right.unit).then(answer)
    return answer


def same_places(terms: Compiler, left: Term, right: Term) -> tuple[pl.Expr, pl.Expr]:
    """The values of two parts, numbers with the same decimals."""
    del terms
    if left.sort not in {"number", "measure"} or left.places == right.places:
        return left.value, right.value
    wide = pl.Decimal(38, max(left.places, right.places))
    return left.value.cast(wide), right.value.cast(wide)


def member(terms: Compiler, node: exp.Expr, of: exp.Expr, node_in: exp.Expr) -> Term:
    """Whether a list has a value: `'gift' = ANY (tags)`, `'gift' IN (tags)`."""
    listed_values, value = terms.term(of), terms.term(node_in)
    if listed_values.sort != "list":
        raise terms.at(of, "this is no list")
    if value.sort != "text" or not isinstance(node, (exp.EQ, exp.NEQ, exp.In)):
        raise terms.at(node_in, "a list has texts: 'gift' = ANY (tags)")
    answer = listed_values.value.list.contains(value.value.str.strip_chars())
    return Term("truth", ~answer if isinstance(node, exp.NEQ) else answer, node)


def among(terms: Compiler, node: exp.Expr) -> Term:
    if isinstance(node.this, exp.Column) and all(isinstance(literal, exp.Literal) for literal in node.expressions):
        left = terms.term(node.this)
        if left.sort in {"text", "number", "date"}:
            return Term("truth", in_set(terms, left, node.expressions), node)
    answers = []
    for node_in in node.expressions:
        lists = isinstance(node_in, exp.Column) and terms.term(node_in).sort == "list"
        if lists and not isinstance(node.this, exp.Column):
            answers.append(member(terms, node, node_in, node.this).value)
        else:
            answers.append(compare(terms, pl.Expr.eq, *pair(terms, node.this, node_in)))
    return Term("truth", reduce(or_, answers), node)


def in_set(terms: Compiler, left: Term, literals: Sequence[exp.Expr]) -> pl.Expr:
    """Whether a field has one of many values: they are read all at once, and looked up."""
    field = left.settings
    for literal in literals:
        if not literal.is_string and left.sort != "number":
            raise unlike(terms, left, terms.literal(literal))
        if not literal.is_string or not literal.name.strip():
            terms.literal(literal)  # says what is wrong with it
    strings = [literal for literal in literals if literal.is_string]
    values = folded(pl.Series([literal.name for literal in strings], dtype=pl.String))
    if left.sort != "text" or field.kind in {"path", "json", "link", "image"}:
        values = KINDS[field.kind].read(values, field, terms.rows.writing)
        for at in true_places(values.is_null()).head(1):
            raise terms.at(strings[at], f"this is not {KINDS[field.kind]}, and {left.field} is")
    if left.sort != "number":
        return left.value.is_in(values.unique().implode())
    amounts = [f"{Decimal(literal.name):f}" for literal in literals if not literal.is_string]
    values = pl.concat([values, pl.Series(amounts, dtype=pl.String)]).unique()
    places = max(left.places, *(len(text.partition(".")[2]) for text in values))
    wide = pl.Decimal(38, places)
    return left.value.cast(wide).is_in(values.cast(wide).implode())


def between(terms: Compiler, node: exp.Expr) -> Term:
    least, most = (pair(terms, node.this, node.args[name]) for name in ("low", "high"))
    return Term("truth", compare(terms, pl.Expr.ge, *least) & compare(terms, pl.Expr.le, *most), node)


def like(terms: Compiler, node: exp.Expr, escape: str = "") -> Term:
    """LIKE on the text of the cell, whatever its kind."""
    text, form = terms.term(node.this).text, node.expression
    if text is None:
        raise terms.at(node.this, "LIKE looks at a text")
    if not (isinstance(form, exp.Literal) and form.is_string):
        return _like_worked_out(terms, node, text, form, escape)
    if len(form.name) > LONGEST_FORM:
        raise terms.at(form, f"LIKE takes a text of at most {LONGEST_FORM:,} characters")
    parts = re.findall(rf"{re.escape(escape)}(.)|(.)" if escape else "()(.)", form.name, re.DOTALL)
    marks = {"%": ".*", "_": "."}
    pattern = "".join(re.escape(kept) if kept else marks.get(mark, re.escape(mark)) for kept, mark in parts)
    return _fitting(node, text, pl.lit(pattern))


def _like_worked_out(terms: Compiler, node: exp.Expr, text: pl.Expr, form: exp.Expr, escape: str) -> Term:
    """LIKE with a form that is worked out row by row: `'%' || maker || '%'`."""
    pattern = terms.term(form).text
    if pattern is None:
        raise terms.at(form, "LIKE takes a text, with % for any letters and _ for one")
    kept = {f"{escape}{mark}": put for mark, put in zip(("%", "_", escape), "\x01\x02\x03", strict=True)}
    if escape:
        pattern = pattern.str.replace_many(list(kept), list(kept.values()))
    pattern = pattern.str.replace_all(r"([\\.+*?()|\[\]{}^$#&~\-])", r"\$1")
    pattern = pattern.str.replace_many(["%", "_"], [".*", "."])
    if escape:
        pattern = pattern.str.replace_many(["\x01", "\x02", "\x03"], ["%", "_", re.escape(escape)])
    return _fitting(node, text, pattern)


def _fitting(node: exp.Expr, text: pl.Expr, pattern: pl.Expr) -> Term:
    """Whether a text is as a pattern says, as a whole."""
    case = "i" if isinstance(node, exp.ILike) else ""
    answer = text.str.contains(pl.concat_str(pl.lit(f"(?s{case})^(?:"), pattern, pl.lit(")$")))
    return Term("truth", ~answer if node.args.get("negate") else answer, node)


def escaped(terms: Compiler, node: exp.Expr) -> Term:
    mark = node.expression.name
    if not isinstance(node.this, (exp.Like, exp.ILike)) or len(mark) != 1:
        raise terms.at(node.expression, "ESCAPE takes one character in quotes")
    return like(terms, node.this, mark)


def is_(terms: Compiler, node: exp.Expr) -> Term:
    """IS NULL, IS TRUE, IS FALSE. A cell is NULL when it is blank."""
    term, what = terms.term(node.this), node.expression
    if isinstance(what, exp.Null):
        cell = term.text if term.field is not None and term.text is not None else term.value
        return Term("truth", cell.is_null(), node)
    if not isinstance(what, exp.Boolean):
        raise terms.at(what, "IS takes NULL, TRUE or FALSE")
    answer = terms.truth(node.this)
    return Term("truth", (answer if what.this else ~answer).fill_null(value=False), node)


def both(terms: Compiler, node: exp.Expr) -> Term:
    how = and_ if isinstance(node, exp.And) else or_
    return Term("truth", how(terms.truth(node.this), terms.truth(node.expression)), node)


def negated(terms: Compiler, node: exp.Expr) -> Term:
    return Term("truth", ~terms.truth(node.this), node)


def boolean(terms: Compiler, node: exp.Expr) -> Term:
    return Term("truth", pl.lit(bool(node.this)), node)


COMPARING: Mapping[type[exp.Expr], Meaning] = {
    exp.And: both,
    exp.Or: both,
    exp.Not: negated,
    **dict.fromkeys(COMPARED, compared),
    exp.In: among,
    exp.Between: between,
    exp.Like: like,
    exp.ILike: like,
    exp.Escape: escaped,
    exp.Is: is_,
    exp.Boolean: boolean,
}
"""What each part of a tree means that is true or false."""
