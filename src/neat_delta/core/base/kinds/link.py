"""Links and images: an address (RFC 3986) or a file's name, or several in their order with a separator between them.

The scheme and the host of an address are the same in any case; nothing else is.
"""

from __future__ import annotations

import re

import polars as pl

from neat_delta.core.base.kinds.base import Kind, map_texts, only
from neat_delta.core.base.kinds.list import BETWEEN, joined
from neat_delta.core.base.kinds.text import folded
from neat_delta.core.base.model.layout import Notation
from neat_delta.core.base.model.store import Field

__all__ = ["IMAGE", "LINK"]

ADDRESS = re.compile(r"(?P<host>[A-Za-z][A-Za-z0-9+.-]*://[^/?#]*)(?P<rest>.*)", re.DOTALL)


def _normal_address(text: str) -> str:
    address = ADDRESS.fullmatch(text)
    return address["host"].lower() + address["rest"] if address else text


def _read(texts: pl.Series, field: Field, writing: Notation) -> pl.Series:
    del writing
    several = joined(texts, field.separator, ordered=True) if field.separator else folded(texts)
    return map_texts(several, lambda text: BETWEEN.join(_normal_address(part) for part in text.split(BETWEEN)))


def _read_link(texts: pl.Series, field: Field, writing: Notation) -> pl.Series:
    """A link has no white space in it."""
    values = _read(texts, field, writing)
    return only(values, ~values.str.contains(r"[\s--\x1f]"))


LINK = Kind("link", _read_link)
IMAGE = Kind("image", _read, article="an")
