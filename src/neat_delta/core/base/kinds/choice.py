"""Choices: one of a few values, if the store file lists them; letter for letter, as the store would make a new one."""

from __future__ import annotations

import polars as pl

from neat_delta.core.base.kinds.base import Kind
from neat_delta.core.base.kinds.text import folded
from neat_delta.core.base.model.layout import Notation
from neat_delta.core.base.model.store import Field

__all__ = ["CHOICE", "chosen_like"]


def _read(texts: pl.Series, field: Field, writing: Notation) -> pl.Series:
    del writing
    values = folded(texts)
    if not field.values:
        return values
    allowed = folded(pl.Series(field.values, dtype=pl.String))
    known = pl.col("value").is_in(allowed.to_list())
    return values.to_frame("value").select(pl.when(known).then("value").alias(texts.name)).to_series()


def chosen_like(live: pl.Series, texts: pl.Series, field: Field) -> pl.Series:
    """The texts with every choice that live has, or that the field lists, spelt as that one, and none with white space
    around it. What is known in several spellings stays as it is.

    >>> chosen_like(pl.Series(["active"]), pl.Series([" active ", "hidden"]), Field("choice")).to_list()
    ['active', 'hidden']
    """
    spellings = pl.concat([live, pl.Series(field.values, dtype=pl.String)]).to_frame("spelt")
    spelt = spellings.select(pl.col("spelt").drop_nulls().unique().str.strip_chars().unique()).to_series()
    bare = texts.str.strip_chars()
    both = folded(pl.concat([spelt, bare]))
    known = pl.LazyFrame([spelt, both.head(spelt.len()).alias("value")]).filter(pl.col("value").is_unique())
    met = pl.LazyFrame({"value": both.tail(bare.len()), "said": bare})
    met = met.join(known, on="value", how="left", maintain_order="left")
    return met.select(pl.coalesce("spelt", "said")).collect(engine="in-memory").to_series()


CHOICE = Kind("choice", _read)
