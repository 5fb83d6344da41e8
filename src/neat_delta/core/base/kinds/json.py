"""JSON (RFC 8259) in a cell, by value: the order of an object's names and the white space between tokens mean
nothing.
"""

from __future__ import annotations

import json
import re
from decimal import Decimal
from typing import Any, NoReturn

import polars as pl

from neat_delta.core.base.kinds.base import EXACT, Kind, map_texts
from neat_delta.core.base.model.layout import Notation
from neat_delta.core.base.model.store import Field

__all__ = ["JSON"]


def _never(word: str) -> NoReturn:
    raise ValueError(word)  # NaN and Infinity are no JSON


def _plain(value: Any) -> Any:  # noqa: ANN401 - any JSON value
    """The value with its numbers in one form: 1, 1.0 and 10e-1 are the same."""
    if isinstance(value, Decimal):
        return {"\0": str(EXACT.normalize(value))}  # no object in a cell has such a name
    if isinstance(value, dict):
        return {name: _plain(inner) for name, inner in value.items()}
    return [_plain(inner) for inner in value] if isinstance(value, list) else value


def _value(text: str) -> str | None:
    try:
        value = json.loads(text, parse_float=Decimal, parse_int=Decimal, parse_constant=_never)
        return json.dumps(_plain(value), sort_keys=True, separators=(",", ":"))
    except (ValueError, ArithmeticError, RecursionError):
        return None


def _read(texts: pl.Series, field: Field, writing: Notation) -> pl.Series:
    del field, writing
    return map_texts(texts, _value)


TOKEN = re.compile(r'("(?:[^"\\]|\\.)*")|\s+')


def _copy(texts: pl.Series, field: Field, writing: Notation) -> pl.Series:
    """The text without the white space between its tokens."""
    del field, writing
    return map_texts(texts, lambda text: TOKEN.sub(lambda token: token[1] or "", text))


JSON = Kind("json", _read, article="", copy=_copy)
