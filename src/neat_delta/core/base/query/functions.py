"""What working out means: arithmetic in exact decimals, choices, texts, dates, lists, and `ENDS_AT`.

Rounding is half away from zero, as money is rounded. NULL in gives NULL out, but for COALESCE, CASE and lists.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import replace
from decimal import Decimal
from functools import reduce
from operator import and_

import polars as pl
from sqlglot import exp

from neat_delta.core.base.kinds import KINDS
from neat_delta.core.base.kinds.number import number_of
from neat_delta.core.base.model.store import Field
from neat_delta.core.base.query.comparing import pair, same_places, unlike
from neat_delta.core.base.query.compile import Compiler, Meaning
from neat_delta.core.base.query.terms import MOST_PLACES, Term

__all__ = ["WORKING"]

QUOTIENT = 14
"""Decimals that a quotient and its terms are rounded to, half to even, as Polars does."""

LONGEST_NUMBER, READ_PLACES = 24, 12
"""So many digits, and decimals, a text may have that CAST reads as a number."""

Exprs = Sequence[exp.Expr]

RECKONED: dict[type[exp.Expr], Callable[[pl.Expr, pl.Expr], pl.Expr]] = {
    exp.Add: pl.Expr.add,
    exp.Sub: pl.Expr.sub,
    exp.Mul: pl.Expr.mul,
    exp.Div: pl.Expr.truediv,
}

CHANGED: dict[type[exp.Expr], Callable[[pl.Expr], pl.Expr]] = {
    exp.Lower: lambda text: text.str.to_lowercase(),
    exp.Upper: lambda text: text.str.to_uppercase(),
}


# Numbers.


def number(terms: Compiler, node: exp.Expr) -> Term:
    term = terms.term(node)
    if term.sort != "number" and term.field is not None:
        kind = KINDS[term.settings.kind]
        hint = "; CAST(… AS DECIMAL) reads it as one" if term.sort == "text" else ""
        raise terms.at(node, f'"{term.field}" holds {kind or "text"}, which is no number{hint}')
    if term.sort != "number":
        raise terms.at(node, "this is no number")
    return term


def reckoned(terms: Compiler, node: exp.Expr) -> Term:
    """Sum, difference and product exactly; a quotient, and its terms, to 14 decimals; NULL when divided by 0."""
    if isinstance(node, (exp.Add, exp.Sub)) and (dates := _with_dates(terms, node)) is not None:
        return dates
    left, right = number(terms, node.this), number(terms, node.expression)
    places = max(left.places, right.places)
    if isinstance(node, exp.Mul):
        places = left.places + right.places
    elif isinstance(node, exp.Div):
        places = QUOTIENT  # and not of what the other rows have: no cell rests on another row's decimals
    if places > MOST_PLACES:
        raise terms.at(node, "this has too many decimals to be worked out exactly; ROUND a part of it first")
    first, other = (
        (term.value if term.places <= places else term.value.round(places)).cast(pl.Decimal(38, places))
        for term in (left, right)
    )
    if isinstance(node, exp.Div):
        other = pl.when(other != 0).then(other)
    return Term("number", RECKONED[type(node)](first, other), node, places=places)


def remainder(terms: Compiler, node: exp.Expr) -> Term:
    """MOD: what is left of a division, with the sign of what is divided; NULL when divided by 0."""
    left, right = number(terms, node.this), number(terms, node.expression)
    places = max(left.places, right.places)
    first, other = (term.value.cast(pl.Decimal(38, places)) for term in (left, right))
    size = _size(first) % _size(pl.when(other != 0).then(other))
    return Term("number", pl.when(first < 0).then(-size).otherwise(size), node, places=places)


def minus(terms: Compiler, node: exp.Expr) -> Term:
    term = number(terms, node.this)
    return Term("number", -term.value, node, places=term.places, fixed=term.fixed)


def absolute(terms: Compiler, node: exp.Expr) -> Term:
    term = number(terms, node.this)
    return Term("number", _size(term.value), node, places=term.places, fixed=term.fixed)


def _size(value: pl.Expr) -> pl.Expr:
    return pl.when(value < 0).then(-value).otherwise(value)


def rounded(terms: Compiler, node: exp.Expr) -> Term:
    """ROUND(x) and ROUND(x, 2)."""
    return _rounded(terms, node, node.this, node.args.get("decimals"), even=False)


def _rounded(terms: Compiler, node: exp.Expr, of: exp.Expr, to: exp.Expr | None, *, even: bool) -> Term:
    term, places = number(terms, of), 0 if to is None else _whole_literal(terms, to)
    if not -MOST_PLACES <= places <= MOST_PLACES:
        raise terms.at(node, f"between {-MOST_PLACES} and {MOST_PLACES} decimals can be asked for")
    value, scale = term.value, max(places, 0)
    if places < 0:  # to tens, hundreds: as so many of them
        up = -places
        wide = pl.Decimal(38, min(term.places + up, MOST_PLACES))
        value = value.cast(wide) * pl.lit(f"{Decimal(1).scaleb(places):f}").cast(wide)
    value = value.round(scale, mode="half_to_even" if even else "half_away_from_zero").cast(pl.Decimal(38, scale))
    if places < 0:
        value = value * pl.lit(f"{Decimal(1).scaleb(-places):f}").cast(pl.Decimal(38, 0))
    return Term("number", value, node, places=scale, fixed=True)


def _whole_literal(terms: Compiler, node: exp.Expr) -> int:
    negative = isinstance(node, exp.Neg)
    inner = node.this if negative else node
    if not isinstance(inner, exp.Literal) or inner.is_string or not inner.name.isdigit() or len(inner.name) > 3:
        raise terms.at(node, "this is to be a whole number, such as 2")
    return -int(inner.name) if negative else int(inner.name)


def to_whole(terms: Compiler, node: exp.Expr) -> Term:
    """CEIL and FLOOR."""
    term = number(terms, node.this)
    value = term.value.ceil() if isinstance(node, exp.Ceil) else term.value.floor()
    return Term("number", value.cast(pl.Decimal(38, 0)), node)


def ends_at(terms: Compiler, node: exp.Expr, given: Exprs) -> Term:
    """ENDS_AT(x, 0.90 [, 0.95 …] [, 'up'|'down'|'nearest']): the number next to x that ends so; of two as near, the
    greater. An ending below 1 is of every whole number, one below 10 of every ten, and so on. Nothing ends below zero.
    """
    last = given[-1] if given else node
    way = last.name.casefold() if isinstance(last, exp.Literal) and last.is_string else None
    endings = given[1:-1] if way else given[1:]
    if not given or not endings:
        raise terms.at(node, "ENDS_AT takes a number, one or more endings, and maybe 'up', 'down' or 'nearest'")
    if way not in {None, "up", "down", "nearest"}:
        raise terms.at(last, "this is to be 'up', 'down' or 'nearest'")
    term = number(terms, given[0])
    ups: list[tuple[pl.Expr, int]] = []
    downs: list[tuple[pl.Expr, int]] = []
    for ending in endings:
        if not isinstance(ending, exp.Literal) or ending.is_string or Decimal(ending.name) < 0:
            raise terms.at(ending, "an ending is a number such as 0.90")
        end = Decimal(ending.name)
        every = max(end.adjusted() + 1, 0) if end else 0
        places = max(term.places, -int(end.as_tuple().exponent), 0)
        if places + every > MOST_PLACES:
            raise terms.at(ending, "this has too many digits for an ending")
        wide, fine = pl.Decimal(38, places), pl.Decimal(38, places + every)
        value, shift = term.value.cast(wide), pl.lit(f"{end:f}").cast(wide)
        # How many whole ones (tens, hundreds) it is from the ending: exact, as it is a shift of the point.
        steps = (value - shift).cast(fine) * pl.lit(f"{Decimal(1).scaleb(-every):f}").cast(fine)
        for ends, rounded in ((ups, steps.ceil()), (downs, steps.floor())):
            candidates = rounded.cast(wide) * pl.lit(f"{Decimal(1).scaleb(every):f}").cast(wide) + shift
            ends.append((candidates, places))
    places = max(places for _, places in ups)
    wide = pl.Decimal(38, places)
    up, down = (
        [pl.when(candidates >= 0).then(candidates.cast(wide)) for candidates, _ in side] for side in (ups, downs)
    )
    above, below, value = pl.min_horizontal(up), pl.max_horizontal(down), term.value.cast(wide)
    nearest = pl.when(below.is_null() | (above - value <= value - below)).then(above).otherwise(below)
    result = {"up": above, "down": below}.get(way or "nearest", nearest)
    fixed = max(-int(Decimal(ending.name).as_tuple().exponent) for ending in endings)
    fixed = max(fixed, 0)
    result = pl.when(value.is_not_null()).then(result)
    return Term("number", result.cast(pl.Decimal(38, fixed)), node, places=fixed, fixed=True)


# Choices.


def alike(terms: Compiler, nodes: Exprs) -> list[Term]:
    """Parts of which one is chosen: of one sort, and numbers of the same decimals. A text literal is read like the
    field beside it; NULL is of any sort.
    """
    terms_of = [terms.term(node) for node in nodes]
    typed = next((term for term in terms_of if term.field is not None), None)
    if typed is not None:
        terms_of = [
            terms.as_kind(typed_term, typed.settings, typed.field or "") if typed_term.literal_text else typed_term
            for typed_term in terms_of
        ]
    real = [term for term in terms_of if term.sort != "null"]
    if not real:
        return terms_of
    first = typed or real[0]
    sort = "flag" if first.sort == "truth" else first.sort
    for term in real:
        if ("flag" if term.sort == "truth" else term.sort) != sort:
            raise unlike(terms, first, term)
    places = max(term.places for term in real)
    out = []
    for term in terms_of:
        value = term.value
        if sort in {"number", "measure"}:
            value = value.cast(pl.Decimal(38, places))
        out.append(replace(term, sort=sort, value=value, places=places))
    return out


def _chosen(
    terms_of: Sequence[Term], node: exp.Expr, value: pl.Expr, meant: pl.Expr | None, text: pl.Expr | None
) -> Term:
    typed = next((term for term in terms_of if term.field is not None), None)
    real = [term for term in terms_of if term.sort != "null"] or [terms_of[0]]
    fixed = all(term.fixed for term in real)
    return Term(
        real[0].sort, value, node, text=text, places=real[0].places, fixed=fixed, meant=meant,
        field=typed.field if typed else None, settings=typed.settings if typed else Field(),
        unit=pl.coalesce([t.unit for t in real if t.unit is not None]) if real[0].unit is not None else None,
    )  # fmt: skip


def _texts_of(terms_of: Sequence[Term]) -> list[pl.Expr] | None:
    """The texts of terms of which one is chosen, if all of them have one."""
    texts = [pl.lit(None, pl.String) if term.sort == "null" else term.text for term in terms_of]
    return None if any(text is None for text in texts) else [text for text in texts if text is not None]


def first_of(terms: Compiler, node: exp.Expr) -> Term:
    """COALESCE: the first that is not NULL."""
    terms_of = alike(terms, [node.this, *node.expressions])
    texts = _texts_of(terms_of)
    value = pl.coalesce([term.value for term in terms_of])
    text = None if texts is None else pl.coalesce(texts)
    return _chosen(terms_of, node, value, terms_of[-1].meant, text)


def unless(terms: Compiler, node: exp.Expr) -> Term:
    """NULLIF: NULL where both are the same."""
    left, right = pair(terms, node.this, node.expression)
    first, other = same_places(terms, left, right)
    same = (first == other).fill_null(value=False)
    if left.sort == "list":
        raise terms.at(node.this, "NULLIF does not look at lists")
    text = None if left.text is None else pl.when(~same).then(left.text)
    meant = same if left.meant is None else same | left.meant
    return replace(left, value=pl.when(~same).then(left.value), text=text, node=node, meant=meant)


def case(terms: Compiler, node: exp.Expr) -> Term:
    """CASE WHEN … THEN … ELSE … END, and CASE x WHEN … THEN … END."""
    conditions = []
    for branch in node.args["ifs"]:
        if node.this is None:
            conditions.append(terms.truth(branch.this))
        else:
            conditions.append(terms.truth(exp.EQ(this=node.this.copy(), expression=branch.this.copy())))
    otherwise = node.args.get("default")
    terms_of = alike(
        terms, [*(branch.args["true"] for branch in node.args["ifs"]), *([otherwise] if otherwise else [])]
    )

    def choose(parts: Sequence[pl.Expr], last: pl.Expr) -> pl.Expr:
        ends = parts[len(conditions)] if otherwise else last
        for holds, part in reversed(list(zip(conditions, parts, strict=False))):
            ends = pl.when(holds.fill_null(value=False)).then(part).otherwise(ends)
        return ends

    no = pl.lit(value=False)
    meant = choose([no if term.meant is None else term.meant for term in terms_of], no)
    texts = _texts_of(terms_of)
    nothing = pl.lit(None)
    value = choose([term.value for term in terms_of], nothing)
    return _chosen(terms_of, node, value, meant, None if texts is None else choose(texts, nothing))


def extreme(terms: Compiler, node: exp.Expr) -> Term:
    """GREATEST and LEAST; NULL where any of them is."""
    terms_of = alike(terms, [node.this, *node.expressions])
    if terms_of[0].sort not in {"number", "date", "text"}:
        raise terms.at(node, f"none of {terms_of[0].sort}s is the greatest")
    most, how = terms_of[0].value, pl.Expr.gt if isinstance(node, exp.Greatest) else pl.Expr.lt
    for term in terms_of[1:]:
        most = pl.when(how(term.value, most)).then(term.value).otherwise(most)
    all_known = reduce(and_, (term.value.is_not_null() for term in terms_of))
    value = pl.when(all_known).then(most)
    fixed = all(term.fixed for term in terms_of)
    text = value if terms_of[0].sort == "text" else None
    return Term(terms_of[0].sort, value, node, text=text, places=terms_of[0].places, fixed=fixed)


def null(terms: Compiler, node: exp.Expr) -> Term:
    del terms
    return Term("null", pl.lit(None), node, meant=pl.lit(value=True))


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


# Dates.

UNITS = {"DAY": "d", "WEEK": "w", "MONTH": "mo", "YEAR": "y"}


def _with_dates(terms: Compiler, node: exp.Expr) -> Term | None:
    """A date and an interval, or the days between two dates; None where these are no dates."""
    first, other = node.this, node.expression
    if isinstance(first, exp.Interval) and isinstance(node, exp.Add):
        first, other = other, first
    if isinstance(other, exp.Interval):
        return _shifted_date(terms, node, first, other)
    if not isinstance(node, exp.Sub):
        return None
    left, right = terms.term(first), terms.term(other)
    if {left.sort, right.sort} == {"date"}:
        days = [term.value.str.slice(0, 10).str.to_date("%Y-%m-%d", strict=False) for term in (left, right)]
        return Term("number", (days[0] - days[1]).dt.total_days().cast(pl.Decimal(38, 0)), node)
    return None


def _shifted_date(terms: Compiler, node: exp.Expr, date: exp.Expr, interval: exp.Expr) -> Term:
    term, unit = terms.term(date), str(interval.args.get("unit") or "").upper().removesuffix("S")
    count = interval.this
    if term.sort != "date":
        raise terms.at(date, "an interval is added to a date")
    digits = count.name if isinstance(count, exp.Literal) else ""
    if unit not in UNITS or not digits.isdigit() or len(digits) > 6:
        raise terms.at(interval, "an interval is such as INTERVAL '7' DAY: whole days, weeks, months or years")
    by = ("-" if isinstance(node, exp.Sub) else "") + digits + UNITS[unit]
    day = term.value.str.slice(0, 10).str.to_date("%Y-%m-%d", strict=False).dt.offset_by(by)
    day_text = pl.concat_str(day.dt.strftime("%Y-%m-%d"), term.value.str.slice(10))
    return Term("date", day_text, node)


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
        return _rounded(terms, node, given[0], given[1] if len(given) > 1 else None, even=True)
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
