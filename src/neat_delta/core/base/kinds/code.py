"""Codes (barcodes, part numbers, tariff codes): every character counts, so 00417 and 417 are different."""

from __future__ import annotations

import polars as pl

from neat_delta.core.base.kinds.base import Kind
from neat_delta.core.base.model.layout import Notation
from neat_delta.core.base.model.store import Field

__all__ = ["CODE"]


def _read(texts: pl.Series, field: Field, writing: Notation) -> pl.Series:
    del field, writing
    return texts


CODE = Kind("code", _read, copy=_read)
