"""Arithmetic in exact decimals, rounding, and `ENDS_AT`. Rounding is half away from zero, as money is rounded."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from decimal import Decimal

import polars as pl
from sqlglot import exp

from neat_delta.core.base.kinds import KINDS
from neat_delta.core.base.query.compile import Compiler
from neat_delta.core.base.query.dates import date_arithmetic
from neat_delta.core.base.query.terms import MOST_PLACES, Term

__all__ = [
    "RECKONED",
    "absolute",
    "ends_at",
    "minus",
    "number",
    "reckoned",
    "remainder",
    "rounded",
    "rounded_to",
    "to_whole",
]

QUOTIENT = 14
"""Decimals that a quotient and its terms are rounded to, half to even, as Polars does."""

Exprs = Sequence[exp.Expr]

RECKONED: dict[type[exp.Expr], Callable[[pl.Expr, pl.Expr], pl.Expr]] = {
    exp.Add: pl.Expr.add,
    exp.Sub: pl.Expr.sub,
    exp.Mul: pl.Expr.mul,
    exp.Div: pl.Expr.truediv,
}


def number(terms: Compiler, node: exp.Expr) -> Term:
    """A part that must be a number; ConditionError where it is none."""
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
    if isinstance(node, (exp.Add, exp.Sub)) and (dates := date_arithmetic(terms, node)) is not None:
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
    """-x."""
    term = number(terms, node.this)
    return Term("number", -term.value, node, places=term.places, fixed=term.fixed)


def absolute(terms: Compiler, node: exp.Expr) -> Term:
    """ABS(x)."""
    term = number(terms, node.this)
    return Term("number", _size(term.value), node, places=term.places, fixed=term.fixed)


def _size(value: pl.Expr) -> pl.Expr:
    return pl.when(value < 0).then(-value).otherwise(value)


def rounded(terms: Compiler, node: exp.Expr) -> Term:
    """ROUND(x) and ROUND(x, 2)."""
    return rounded_to(terms, node, node.this, node.args.get("decimals"), even=False)


def rounded_to(terms: Compiler, node: exp.Expr, of: exp.Expr, to: exp.Expr | None, *, even: bool) -> Term:
    """A number rounded to so many decimals (below 0: to tens, hundreds), half away from zero or half to `even`."""
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
