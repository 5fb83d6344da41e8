"""Text: the same after Unicode's normal form C, with any line end for any other, without outer white space."""

from __future__ import annotations

import polars as pl

from neat_delta.core.kinds.base import Kind
from neat_delta.core.layout import Writing
from neat_delta.core.store import Field

__all__ = ["TEXT", "folded"]


def folded(texts: pl.Series) -> pl.Series:
    """Texts without the differences that nobody typed: normal form, line ends, outer white space."""
    return texts.str.replace_all("\r\n?", "\n").str.normalize("NFC").str.strip_chars()


def _read(texts: pl.Series, field: Field, writing: Writing) -> pl.Series:
    del field, writing
    return folded(texts)


TEXT = Kind("text", _read, article="")
