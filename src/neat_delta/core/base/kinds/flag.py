"""Flags: yes or no, by the words of the field, or the file, or those that are plain in themselves."""

from __future__ import annotations

from collections.abc import Mapping

import polars as pl

from neat_delta.core.base.kinds.base import Kind
from neat_delta.core.base.model.layout import Notation
from neat_delta.core.base.model.store import Field

__all__ = ["FALSE", "FLAG", "TRUE", "WORDS"]

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


TRUE = ["TRUE", "WAHR", "VRAI", "VERDADERO", "VERO", "WAAR", "VERDADEIRO", "PRAWDA", "PRAVDA", "IGAZ", "SANT", "SAND"]
TRUE += ["TOSI", "ИСТИНА", "ІСТИНА", "ADEVĂRAT", "DOĞRU", "ΑΛΗΘΕΣ", "ISTINA"]
FALSE = ["FALSE", "FALSCH", "FAUX", "FALSO", "ONWAAR", "FAŁSZ", "NEPRAVDA", "HAMIS", "FALSKT", "FALSK", "USAND"]
FALSE += ["EPÄTOSI", "ЛОЖЬ", "ХИБНІСТЬ", "FALS", "YANLIŞ", "ΨΕΥΔΕΣ", "NEISTINA"]
"""Truth as spreadsheets write it, in the languages they speak."""


def _words(field: Field, writing: Notation) -> tuple[list[str], list[str]]:
    yes, no = field.yes or writing.yes, field.no or writing.no
    return (list(yes), list(no)) if yes and no else ([], [])


def _read(texts: pl.Series, field: Field, writing: Notation) -> pl.Series:
    own = _words(field, writing)
    words = {word.lower(): value for pair in reversed(WORDS) for word, value in zip(pair, ("yes", "no"), strict=True)}
    words |= {word.lower(): value for own_words, value in zip(own, ("yes", "no"), strict=True) for word in own_words}
    return _replaced(texts, LOWER, words)


LOWER = pl.col("text").str.strip_chars().str.to_lowercase()


def _replaced(texts: pl.Series, word: pl.Expr, words: Mapping[str, str]) -> pl.Series:
    """What each text's `word` stands for; null where it is none of them."""
    value = word.replace_strict(words, default=None, return_dtype=pl.String)
    return texts.to_frame("text").select(value.alias(texts.name)).to_series()


def _write(values: pl.Series, texts: pl.Series, field: Field, writing: Notation) -> pl.Series:
    yes, no = _words(field, writing)
    if not yes:
        return texts
    written = values.replace_strict({"yes": yes[0], "no": no[0]}, return_dtype=pl.String)
    return written.zip_with(~texts.is_in(pl.Series(yes + no).implode()), texts)


def _copy(texts: pl.Series, field: Field, writing: Notation) -> pl.Series:
    """The field's own words in any case; for true and false also a spreadsheet's words for these. No other word is
    taken for one of them, whatever it means elsewhere.
    """
    words: dict[str, str] = {}
    programs: dict[str, str] = {}
    for own_words, value, program in zip(_words(field, writing), ("yes", "no"), (TRUE, FALSE), strict=True):
        own = {word.lower() for word in own_words}
        words |= dict.fromkeys(own, value)
        programs |= dict.fromkeys(program if own & {"true", "false"} else (), value)
    if not words:
        return _read(texts, field, writing)
    values = _replaced(texts, LOWER, words)
    if not programs:
        return values
    other = _replaced(texts, pl.col("text").str.strip_chars(), programs)
    return pl.select(pl.coalesce(values, other)).to_series()


FLAG = Kind("flag", _read, _write, copy=_copy)
