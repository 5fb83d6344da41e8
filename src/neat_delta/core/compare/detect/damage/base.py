"""What every sort of damage is: how it is seen in a cell that came back, and why nobody would have typed it."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import polars as pl

__all__ = ["AFTER", "ANY", "BEFORE", "CODES", "NUMBERS", "TEXTS", "Damage", "significant_digits"]

NUMBERS = ("integer", "decimal", "money")
CODES = ("code", "text", "choice", "measure")
"""The kinds whose cells may be made of digits that are no number."""
TEXTS = ("text", "choice", "code", "list", "path", "link", "image", "measure", "json")
ANY = (*TEXTS, *NUMBERS, "flag", "date")

BEFORE, AFTER = pl.col("before"), pl.col("after")
"""The two cells as a damage sees them: live's, and the sheet's as it stands there; both without outer white space."""


@dataclass(frozen=True, slots=True)
class Damage:
    """A sort of damage. It looks at a cell alone: all that it is given are the two texts, and live's decimal mark.

    `name` says what happened and `why` how we know, both as a person is told. Of the cells whose kind is one of
    `kinds`, those are damaged for which `pattern` holds, an expression over `BEFORE`, `AFTER` and `mark` (live's
    decimal mark), and, where an expression cannot tell, `certain_of` of the two texts as well. `certain` says that only
    the writing was damaged, by a program and by no editor: live's value is what was meant; `certain_where` says so of
    some cells. `alone` says that it is seen without live's value, too; `of_live` that it was made of that, so that a
    key can be known by it.
    """

    name: str
    why: str
    kinds: tuple[str, ...]
    pattern: pl.Expr
    certain_of: Callable[[str, str], bool] | None = None
    certain: bool = True
    certain_where: pl.Expr | None = None
    alone: bool = False
    of_live: bool = True


def significant_digits(text: pl.Expr) -> pl.Expr:
    """The digits of a text, without zeros before and after them."""
    return text.str.replace_all("[^0-9]", "").str.strip_chars("0")
