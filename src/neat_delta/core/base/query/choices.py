"""Choosing among values: COALESCE, NULLIF, CASE, GREATEST and LEAST."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from functools import reduce
from operator import and_

import polars as pl
from sqlglot import exp

from neat_delta.core.base.model.store import Field
from neat_delta.core.base.query.comparing import pair, same_places, unlike
from neat_delta.core.base.query.compile import Compiler
from neat_delta.core.base.query.terms import Term

__all__ = ["case", "extreme", "first_of", "null", "unless"]

Exprs = Sequence[exp.Expr]


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
    """NULL: of any sort, and meant so."""
    del terms
    return Term("null", pl.lit(None), node, meant=pl.lit(value=True))
