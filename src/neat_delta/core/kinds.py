"""What sort of value a cell holds, and what follows from it: when it is blank, when two are equal, when it is a number.

Equality has two steps. Two cells with the same text are equal in every kind, and that is decided for the
whole table at once (`compare`). Only for the cells whose text differs is the kind of their field asked, by `equal`.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import polars as pl

__all__ = ["TEXT", "Kind", "blank", "numbers"]


def blank(cell: pl.Expr) -> pl.Expr:
    """Whether a cell holds nothing but white space (Unicode's property White_Space)."""
    return cell.str.strip_chars().str.len_bytes() == 0


@dataclass(frozen=True, slots=True)
class Kind:
    """A sort of value. `equal` takes two columns of texts that differ and says where the values are the same."""

    name: str
    equal: Callable[[pl.Expr, pl.Expr], pl.Expr]


def _same_text(before: pl.Expr, after: pl.Expr) -> pl.Expr:
    """Exact text, but for white space: one blank is as blank as another."""
    return blank(before) & blank(after)


TEXT = Kind("text", _same_text)

PLAIN_NUMBER = r"^[+-]?(0|[1-9][0-9]{0,10})(\.[0-9]{1,6})?$"
"""Digits with a point, as most exports write them. A leading zero or 12 and more digits make it a code."""

DECIMAL = pl.Decimal(38, 6)


def numbers(texts: pl.Series) -> pl.Series | None:
    """The texts as exact decimals (null where blank), or None when any of them is something else than a number."""
    filled = texts.fill_null("").str.strip_chars()
    if not (filled.str.contains(PLAIN_NUMBER) | (filled == "")).all() or not (filled != "").any():
        return None
    return filled.replace("", None).cast(DECIMAL)
