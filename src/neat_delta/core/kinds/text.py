"""Text: the same after Unicode's normal form C, with any line end for any other, without outer white space."""

from __future__ import annotations

import polars as pl

from neat_delta.core.kinds.base import Kind
from neat_delta.core.layout import Writing
from neat_delta.core.store import Field

__all__ = ["TEXT", "folded"]


def folded(texts: pl.Series) -> pl.Series:
    """Texts without the differences that nobody typed: normal form, line ends, outer white space."""
    plain = texts.str.strip_chars()
    odd = plain.str.contains("[^\x00-\x0c\x0e-\x7f]").fill_null(value=False).arg_true()  # the others are in that form
    if not odd.len():
        return plain
    some = texts.gather(odd).str.replace_all("\r\n?", "\n").str.normalize("NFC").str.strip_chars()
    return plain.scatter(odd, some)


def _read(texts: pl.Series, field: Field, writing: Writing) -> pl.Series:
    del field, writing
    return folded(texts)


TEXT = Kind("text", _read, article="")
