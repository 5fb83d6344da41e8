"""Choices: one of a few values, if the store file lists them; letter for letter, as the store would make a new one."""

from __future__ import annotations

import polars as pl

from neat_delta.core.kinds.base import Kind, only
from neat_delta.core.kinds.text import folded
from neat_delta.core.model.layout import Notation
from neat_delta.core.model.store import Field

__all__ = ["CHOICE"]


def _read(texts: pl.Series, field: Field, writing: Notation) -> pl.Series:
    del writing
    values = folded(texts)
    if not field.values:
        return values
    allowed = folded(pl.Series(field.values, dtype=pl.String))
    return only(values, values.is_in(allowed.implode()))


CHOICE = Kind("choice", _read)
