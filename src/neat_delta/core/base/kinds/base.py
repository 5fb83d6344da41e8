"""What every kind is: how a cell is read to a plain value, and how a value is written back.

A value is a text, too, in one plain form per kind: two cells are equal when their values are the same text.
Exact text is compared first, for the whole table at once (`compare`); kinds are asked only about cells that differ.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from decimal import Context

import polars as pl

from neat_delta.core.base.model.layout import Notation
from neat_delta.core.base.model.store import Field
from neat_delta.core.base.support.series import constant, gathered, scattered, true_places

__all__ = ["EXACT", "Kind", "as_it_stands", "blank", "folded", "folded_text", "map_texts", "only"]

EXACT = Context(prec=1_000_000)
"""Arithmetic that rounds no number a cell could hold."""


def blank(cell: pl.Expr) -> pl.Expr:
    """Whether a cell holds nothing but white space (Unicode's property White_Space)."""
    return cell.str.strip_chars().str.len_bytes() == 0


Read = Callable[[pl.Series, Field, Notation], pl.Series]
Write = Callable[[pl.Series, pl.Series, Field, Notation], pl.Series]


def as_it_stands(values: pl.Series, texts: pl.Series, field: Field, writing: Notation) -> pl.Series:
    """Write each value the way it was typed."""
    del values, field, writing
    return texts


def folded(texts: pl.Series) -> pl.Series:
    """Texts without the differences that nobody typed: normal form, line ends, outer white space."""
    plain = pl.col("text").str.strip_chars()
    unlike = plain.str.contains("[^\x00-\x0c\x0e-\x7f]").fill_null(value=False)  # the others are in that form
    seen = texts.alias("text").to_frame().select(plain.alias("plain"), unlike.alias("unlike"))
    odd, bare = true_places(seen["unlike"]), seen["plain"].alias(texts.name)
    if not odd.len():
        return bare
    plain_form = pl.col("text").str.replace_all("\r\n?", "\n").str.normalize("NFC").str.strip_chars()
    return scattered(bare, odd, gathered(texts, odd).to_frame("text").select(plain_form).to_series())


def folded_text(texts: pl.Series, field: Field, writing: Notation) -> pl.Series:
    """Any text, folded."""
    del field, writing
    return folded(texts)


@dataclass(frozen=True, slots=True)
class Kind:
    """A sort of value.

    `read` takes cells as they stand in a file, none of them blank, and gives their values, null where the kind cannot
    read one. `write` takes values and the cells they were read from, and gives the cells as the store writes them,
    null where it has no way to. Both are told the field's settings and how the file in question writes values.
    `copy` reads the cells of an edited copy: two are equal there if only what programs do by themselves lies between
    them (docs/equal.md), which is less than having one value.
    """

    name: str
    read: Read
    write: Write = as_it_stands
    article: str = "a"
    copy: Read = folded_text

    def __str__(self) -> str:
        """As in "this is not …"."""
        return f"{self.article} {self.name}".strip()


def map_texts(texts: pl.Series, change: Callable[[str], str | None]) -> pl.Series:
    """Change texts one by one, each different text once; for what no expression can do."""
    results = {text: change(text) for text in texts.unique()}
    return pl.Series([results[text] for text in texts], dtype=pl.String)


def only(texts: pl.Series, right: pl.Series) -> pl.Series:
    """The texts where `right` holds, null elsewhere."""
    return texts.zip_with(right, constant(None, len(texts), pl.String))
