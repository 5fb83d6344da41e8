"""Paths: levels from the outermost in (`Hives > Parts`), one path or several with a separator between them."""

from __future__ import annotations

import re

import polars as pl

from neat_delta.core.base.kinds.base import Kind, map_texts, only
from neat_delta.core.base.kinds.list import joined
from neat_delta.core.base.kinds.text import folded
from neat_delta.core.base.model.layout import Notation
from neat_delta.core.base.model.store import Field

__all__ = ["PATH", "spelt_like"]


def _mark(field: Field) -> str:
    """What stands between the levels, without the space around it."""
    return (field.levels or ">").strip() or field.levels or ">"


def _read(texts: pl.Series, field: Field, writing: Notation) -> pl.Series:
    """A path with an empty level is none."""
    del writing
    levels = _mark(field)
    tight = folded(texts).str.replace_all(rf"\s*{re.escape(levels)}\s*", levels.replace("$", "$$"))
    several = joined(tight, field.separator, ordered=False) if field.separator else tight
    mark = re.escape(levels)
    ends = rf"(?:^|\x1f){mark}|{mark}{mark}|{mark}(?:\x1f|$)"
    return only(several, ~several.str.contains(ends))


def spelt_like(live_paths: pl.Series, texts: pl.Series, field: Field) -> pl.Series:
    """The texts with every path that is one of the known ones, but for the space around its levels, spelt as that one:
    `Hives>Parts` becomes `Hives > Parts`. A path that is known in several spellings stays as it is. None has white
    space around it.
    """
    parts = live_paths.drop_nulls().unique()
    if field.separator:
        parts = parts.str.split(field.separator).explode()
    table = parts.to_frame("spelt").lazy().select(pl.col("spelt").str.strip_chars()).unique()
    known = table.filter(pl.col("spelt") != "").collect(engine="in-memory").to_series()
    mark = _mark(field)
    around = re.compile(rf"\s*{re.escape(mark)}\s*")
    spellings: dict[str, list[str]] = {}
    for spelt in known:
        spellings.setdefault(around.sub(mark, spelt), []).append(spelt)
    spelling = {value: spelt[0] for value, spelt in spellings.items() if len(spelt) == 1}

    def respelt(text: str) -> str:
        pieces = text.split(field.separator) if field.separator else [text]
        new = [spelling.get(around.sub(mark, piece.strip()), piece.strip()) for piece in pieces]
        if new == [piece.strip() for piece in pieces]:
            return text.strip()
        return (
            (field.separator or "")
            .join(
                piece.replace(piece.strip(), spelt, 1) if piece.strip() else piece
                for piece, spelt in zip(pieces, new, strict=True)
            )
            .strip()
        )

    return map_texts(texts, respelt)


PATH = Kind("path", _read)
