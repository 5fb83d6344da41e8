"""Dates and intervals, and the days between two dates."""

from __future__ import annotations

import polars as pl
from sqlglot import exp

from neat_delta.core.base.query.compile import Compiler
from neat_delta.core.base.query.terms import Term

__all__ = ["date_arithmetic"]

UNITS = {"DAY": "d", "WEEK": "w", "MONTH": "mo", "YEAR": "y"}


def date_arithmetic(terms: Compiler, node: exp.Expr) -> Term | None:
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
