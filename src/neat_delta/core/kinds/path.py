"""Paths: levels from the outermost in (`Hives > Parts`), one path or several with a separator between them."""

from __future__ import annotations

import re

import polars as pl

from neat_delta.core.kinds.base import Kind, only
from neat_delta.core.kinds.list import joined
from neat_delta.core.kinds.text import folded
from neat_delta.core.layout import Writing
from neat_delta.core.store import Field

__all__ = ["PATH"]


def _read(texts: pl.Series, field: Field, writing: Writing) -> pl.Series:
    """A path with an empty level is none."""
    del writing
    levels = (field.levels or ">").strip() or field.levels or ">"
    tight = folded(texts).str.replace_all(rf"\s*{re.escape(levels)}\s*", levels.replace("$", "$$"))
    several = joined(tight, field.separator, ordered=False) if field.separator else tight
    mark = re.escape(levels)
    ends = rf"(?:^|\x1f){mark}|{mark}{mark}|{mark}(?:\x1f|$)"
    return only(several, ~several.str.contains(ends))


PATH = Kind("path", _read)
