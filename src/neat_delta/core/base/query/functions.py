"""What each part of an expression means that gives a value: casting, texts and lists here, the rest in files beside.

NULL in gives NULL out, but for COALESCE, CASE and lists.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import replace

import polars as pl
from sqlglot import exp

from neat_delta.core.base.kinds.number import number_of
from neat_delta.core.base.model.store import Field
from neat_delta.core.base.query.arithmetic import (
    RECKONED,
    absolute,
    ends_at,
    minus,
    number,
    reckoned,
    remainder,
    rounded,
    rounded_to,
    to_whole,
)
from neat_delta.core.base.query.choices import case, extreme, first_of, null, unless
from neat_delta.core.base.query.compile import Compiler, Meaning
from neat_delta.core.base.query.terms import MOST_PLACES, Term

__all__ = ["WORKING"]

LONGEST_NUMBER, READ_PLACES = 24, 12
"""So many digits, and decimals, a text may have that CAST reads as a number."""

CHANGED: dict[type[exp.Expr], Callable[[pl.Expr], pl.Expr]] = {
    exp.Lower: lambda text: text.str.to_lowercase(),
    exp.Upper: lambda text: text.str.to_uppercase(),
}


# Casting.


def cast(terms: Compiler, node: exp.Expr) -> Term:
    """CAST AS DECIMAL, DECIMAL(9, 2), INTEGER, TEXT, DATE."""
    to, inner = node.args["to"], node.this
    name, sizes = to.this, [int(size.name) for size in to.expressions if size.name.isdigit()]
    if name in exp.DType and name == exp.DType.DATE:
        return _as_date(terms, inner)
    term = terms.term(inner)
    if name in {exp.DType.TEXT, exp.DType.VARCHAR, exp.DType.CHAR}:
        return _as_text(terms, term, node)
    if name in {exp.DType.DECIMAL, exp.DType.INT, exp.DType.BIGINT}:
        term = _as_number(terms, term, node)
        places = 0 if name != exp.DType.DECIMAL else sizes[1] if len(sizes) > 1 else 0 if sizes else None
        if places is None:
            return term
        if places > MOST_PLACES:
            raise terms.at(node, "this has too many decimals")
        value = term.value.round(places, mode="half_away_from_zero").cast(pl.Decimal(38, places))
        return replace(term, value=value, places=places, fixed=True, text=None, field=None)
    raise terms.at(inner, "CAST gives DECIMAL, INTEGER, TEXT or DATE")


def _as_date(terms: Compiler, inner: exp.Expr) -> Term:
    day = Field(kind="date")
    if isinstance(inner, exp.Literal) and inner.is_string:
        return terms.as_kind(terms.literal(inner), day, "DATE")
    term = terms.term(inner)
    if term.literal_text is not None:
        return terms.as_kind(term, day, "DATE")
    if term.sort == "date":
        return term
    if term.sort != "text":
        raise terms.at(inner, "this is no date")
    iso = term.value.str.extract(r"^([0-9]{4}-[0-9]{2}-[0-9]{2})$").str.to_date("%Y-%m-%d", strict=False)
    _note_unread(terms, term.value, iso, "date")
    return Term("date", iso.dt.strftime("%Y-%m-%d"), inner)


def _note_unread(terms: Compiler, text: pl.Expr, value: pl.Expr, what: str) -> None:
    """Keep which texts are not what CAST was to make of them."""
    unread = text.is_not_null() & (text != "") & value.is_null()
    terms.failed.append(pl.when(unread).then(pl.format('"{}" is no {}', text.str.slice(0, 40), pl.lit(what))))


def _as_text(terms: Compiler, term: Term, node: exp.Expr) -> Term:
    if term.sort == "number" and term.field is None:
        number_text = term.value.cast(pl.String)
        number_text = number_text if term.fixed else plain_number(number_text)
        return Term("text", number_text, node, text=number_text)
    text = term.value if term.text is None and term.sort in {"text", "date"} else term.text
    if text is None:
        raise terms.at(node.this, "this cannot be made a text")
    return Term("text", text, node, text=text)


def plain_number(text: pl.Expr) -> pl.Expr:
    """The text of a decimal without zeros that say nothing."""
    return pl.when(text.str.contains(".", literal=True)).then(
        text.str.strip_chars_end("0").str.strip_chars_end(".")
    ).otherwise(text)  # fmt: skip


def _as_number(terms: Compiler, term: Term, node: exp.Expr) -> Term:
    if term.sort == "number":
        return term
    if term.sort != "text":
        raise terms.at(node.this, "this is no number, and no text either")
    table = node.this.table.casefold() if isinstance(node.this, exp.Column) else ""
    text = number_of(term.value, Field(kind="decimal"), terms.rows.of_table(table).writing)
    fits = (text.str.len_bytes() <= LONGEST_NUMBER) & (
        text.str.extract(r"\.([0-9]+)$").str.len_bytes().fill_null(0) <= READ_PLACES
    )
    value = pl.when(fits).then(text).cast(pl.Decimal(38, READ_PLACES))
    _note_unread(terms, term.value, value, "number")
    return Term("number", value, node, places=READ_PLACES)


# Texts.


def texts(terms: Compiler, node: exp.Expr) -> pl.Expr:
    term = terms.term(node)
    if term.text is None:
        raise terms.at(node, "this is no text; CAST(… AS TEXT) makes it one")
    return term.text


def changed_text(terms: Compiler, node: exp.Expr) -> Term:
    text = CHANGED[type(node)](texts(terms, node.this))
    return Term("text", text, node, text=text)


def trimmed(terms: Compiler, node: exp.Expr) -> Term:
    """TRIM(x), TRIM(LEADING '0' FROM x)."""
    text, what = texts(terms, node.this), node.args.get("expression")
    marks = None
    if what is not None:
        if not (isinstance(what, exp.Literal) and what.is_string):
            raise terms.at(what, "TRIM takes the letters to take away in single quotes")
        marks = what.name
    way = (node.args.get("position") or "BOTH").upper()
    how = {"LEADING": text.str.strip_chars_start, "TRAILING": text.str.strip_chars_end}.get(way, text.str.strip_chars)
    text = how(marks)
    return Term("text", text, node, text=text)


def length(terms: Compiler, node: exp.Expr) -> Term:
    return Term("number", texts(terms, node.this).str.len_chars().cast(pl.Decimal(38, 0)), node)


def joined(terms: Compiler, node: exp.Expr) -> Term:
    text = pl.concat_str(texts(terms, node.this), texts(terms, node.expression))
    return Term("text", text, node, text=text)


def replaced(terms: Compiler, node: exp.Expr) -> Term:
    """REPLACE(x, 'old', 'new'): every occurrence."""
    new = node.args.get("replacement")
    text, old = texts(terms, node.this), texts(terms, node.expression)
    put = pl.lit("") if new is None else texts(terms, new)
    text = pl.when(old.is_not_null() & put.is_not_null()).then(text)  # as many rows as the others have
    done = text.str.split(old).list.join(put)
    text = pl.when(old == "").then(text).otherwise(done)
    return Term("text", text, node, text=text)


def part(terms: Compiler, node: exp.Expr) -> Term:
    """SUBSTRING(x FROM 2 FOR 3), SUBSTRING(x, 2, 3): letters are counted from 1."""
    text, start = texts(terms, node.this), node.args.get("start")
    if start is None:
        raise terms.at(node, "SUBSTRING needs the letter to start at, counted from 1")
    first = number(terms, start).value.cast(pl.Int64)
    at = pl.max_horizontal(first, 1) - 1
    if (for_ := node.args.get("length")) is None:
        text = text.str.slice(at)
    else:
        end = first + number(terms, for_).value.cast(pl.Int64) - 1
        text = text.str.slice(at, pl.max_horizontal(end - at, 0))
    text = pl.when(first.is_not_null()).then(text)
    return Term("text", text, node, text=text)


def position(terms: Compiler, node: exp.Expr) -> Term:
    """POSITION('x' IN y): the letter at which it starts, from 1; 0 where it is not there."""
    text, sought = texts(terms, node.this), texts(terms, node.args["substr"])
    before = text.str.split(sought).list.first().str.len_chars()
    at = pl.when(sought == "").then(1).when(text.str.contains(sought, literal=True)).then(before + 1).otherwise(0)
    at = pl.when(text.is_not_null() & sought.is_not_null()).then(at)
    return Term("number", at.cast(pl.Decimal(38, 0)), node)


# Lists, and what has no part of the grammar of its own.


def with_value(terms: Compiler, node: exp.Expr) -> Term:
    """ARRAY_APPEND(tags, 'gift'): the list with a value that it may have already; of a blank one, that value."""
    values, wanted = _list_and_value(terms, node.this, node.expression)
    some = values.fill_null(pl.lit(pl.Series([[]], dtype=pl.List(pl.String))).first())
    added = pl.when(some.list.contains(wanted)).then(some).otherwise(pl.concat_list(some, wanted))
    return Term("list", added, node)


def without_value(terms: Compiler, node: exp.Expr) -> Term:
    """ARRAY_REMOVE(tags, 'gift'): the list without a value."""
    values, _ = _list_and_value(terms, node.this, node.expression)
    if not (isinstance(node.expression, exp.Literal) and node.expression.is_string):
        raise terms.at(node.expression, "ARRAY_REMOVE takes the value in single quotes")
    rest = values.list.eval(pl.element().filter(pl.element() != node.expression.name.strip()))
    return Term("list", rest, node, meant=rest.list.len() == 0)


def _list_and_value(terms: Compiler, of: exp.Expr, wanted: exp.Expr) -> tuple[pl.Expr, pl.Expr]:
    values, value = terms.term(of), terms.term(wanted)
    if values.sort != "list":
        raise terms.at(of, "this is no list")
    if value.sort != "text":
        raise terms.at(wanted, "a list has texts")
    return values.value, value.value.str.strip_chars()


def named(terms: Compiler, node: exp.Expr) -> Term:
    """The functions that the parser has no part of its own for."""
    name, given = str(node.this).upper(), list(node.expressions)
    if name == "ENDS_AT":
        return ends_at(terms, node, given)
    if name == "ROUND_EVEN" and 1 <= len(given) <= 2:
        return rounded_to(terms, node, given[0], given[1] if len(given) > 1 else None, even=True)
    raise terms.at(node, f"there is no function {name}; docs/expressions.md has all there are")


WORKING: Mapping[type[exp.Expr], Meaning] = {
    exp.Column: Compiler.column,
    exp.Literal: Compiler.literal,
    exp.Placeholder: Compiler.parameter,
    exp.Null: null,
    exp.Cast: cast,
    exp.Paren: lambda terms, node: terms.term(node.this),
    **dict.fromkeys(RECKONED, reckoned),
    exp.Mod: remainder,
    exp.Neg: minus,
    exp.Abs: absolute,
    exp.Round: rounded,
    exp.Ceil: to_whole,
    exp.Floor: to_whole,
    exp.Coalesce: first_of,
    exp.Nullif: unless,
    exp.Case: case,
    exp.Greatest: extreme,
    exp.Least: extreme,
    **dict.fromkeys(CHANGED, changed_text),
    exp.Trim: trimmed,
    exp.Length: length,
    exp.DPipe: joined,
    exp.Replace: replaced,
    exp.Substring: part,
    exp.StrPosition: position,
    exp.ArrayAppend: with_value,
    exp.ArrayRemove: without_value,
    exp.Anonymous: named,
}
"""What each part of a tree means that gives a value; a part of any other type is refused."""
