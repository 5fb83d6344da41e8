"""Flags: yes or no, by the words of the field, or the file, or those that are plain in themselves."""

from __future__ import annotations

import polars as pl

from neat_delta.core.kinds.base import Kind
from neat_delta.core.layout import Writing
from neat_delta.core.store import Field

__all__ = ["FLAG", "WORDS"]

WORDS = (
    ("yes", "no"),
    ("true", "false"),
    ("1", "0"),
    ("y", "n"),
    ("on", "off"),
    ("ja", "nein"),
    ("oui", "non"),
    ("sí", "no"),
    ("да", "нет"),
    ("tak", "nie"),
    ("ano", "ne"),
)
"""The words that are plain in themselves, yes and no, the plainest first."""


def _words(field: Field, writing: Writing) -> tuple[list[str], list[str]]:
    yes, no = field.yes or writing.yes, field.no or writing.no
    return (list(yes), list(no)) if yes and no else ([], [])


def _read(texts: pl.Series, field: Field, writing: Writing) -> pl.Series:
    own = _words(field, writing)
    words = {word.lower(): value for pair in reversed(WORDS) for word, value in zip(pair, ("yes", "no"), strict=True)}
    words |= {word.lower(): value for said, value in zip(own, ("yes", "no"), strict=True) for word in said}
    return texts.str.strip_chars().str.to_lowercase().replace_strict(words, default=None, return_dtype=pl.String)


def _write(values: pl.Series, texts: pl.Series, field: Field, writing: Writing) -> pl.Series:
    yes, no = _words(field, writing)
    if not yes:
        return texts
    written = values.replace_strict({"yes": yes[0], "no": no[0]}, return_dtype=pl.String)
    return written.zip_with(~texts.is_in(pl.Series(yes + no).implode()), texts)


FLAG = Kind("flag", _read, _write)
