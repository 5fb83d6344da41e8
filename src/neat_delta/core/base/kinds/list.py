"""Lists: several values in one cell with a separator between them; the same in any order unless the order is told to
count.
"""

from __future__ import annotations

import polars as pl

from neat_delta.core.base.kinds.base import Kind
from neat_delta.core.base.kinds.text import folded
from neat_delta.core.base.model.layout import Notation
from neat_delta.core.base.model.store import Field

__all__ = ["LIST", "joined"]

BETWEEN = "\x1f"
"""What stands between the parts in a value (ASCII's unit separator): no cell that a person typed has it."""


def joined(texts: pl.Series, separator: str, *, ordered: bool) -> pl.Series:
    """The parts without outer white space and empty ones; as a set unless they are ordered."""
    bare = pl.element().str.strip_chars()
    parts = pl.col("text").str.split(separator).list.eval(bare.filter(bare != ""))
    value = (parts if ordered else parts.list.unique().list.sort()).list.join(BETWEEN)
    return folded(texts).to_frame("text").select(value.alias(texts.name)).to_series()


def _read(texts: pl.Series, field: Field, writing: Notation) -> pl.Series:
    del writing
    return joined(texts, field.separator or ",", ordered=field.ordered)


LIST = Kind("list", _read)
