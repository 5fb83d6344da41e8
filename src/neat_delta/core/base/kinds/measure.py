"""Measures: a number with a unit; 0.25 l and 250 mL are equal. Exact, by the units' definitions (SI; international
yard and pound).
"""

from __future__ import annotations

import re
from decimal import Decimal
from functools import partial

import polars as pl

from neat_delta.core.base.kinds.base import EXACT, Kind, map_texts
from neat_delta.core.base.kinds.number import DECIMAL
from neat_delta.core.base.model.layout import Notation
from neat_delta.core.base.model.store import Field

__all__ = ["MEASURE", "UNITS"]

UNITS: dict[str, tuple[str, str]] = {
    "kg": ("1", "kg"),
    "g": ("0.001", "kg"),
    "mg": ("0.000001", "kg"),
    "t": ("1000", "kg"),
    "lb": ("0.45359237", "kg"),
    "lbs": ("0.45359237", "kg"),
    "oz": ("0.028349523125", "kg"),
    "l": ("1", "l"),
    "dl": ("0.1", "l"),
    "cl": ("0.01", "l"),
    "ml": ("0.001", "l"),
    "m": ("1", "m"),
    "dm": ("0.1", "m"),
    "cm": ("0.01", "m"),
    "mm": ("0.001", "m"),
    "km": ("1000", "m"),
    "in": ("0.0254", "m"),
    '"': ("0.0254", "m"),
    "ft": ("0.3048", "m"),
    "yd": ("0.9144", "m"),
    "m²": ("1", "m²"),
    "m2": ("1", "m²"),
    "cm²": ("0.0001", "m²"),
    "cm2": ("0.0001", "m²"),
    "m³": ("1000", "l"),
    "m3": ("1000", "l"),
    "cm³": ("0.001", "l"),
    "cm3": ("0.001", "l"),
    "s": ("1", "s"),
    "min": ("60", "s"),
    "h": ("3600", "s"),
    "w": ("1", "W"),
    "kw": ("1000", "W"),
    "v": ("1", "V"),
    "a": ("1", "A"),
    "°c": ("1", "°C"),
    "%": ("1", "%"),
    "pcs": ("1", "pcs"),
    "pc": ("1", "pcs"),
}
"""Units by their spelling in lower case: how many of the unit they are counted in, and that unit."""

SHAPE = re.compile(r"^([+−-]?[\d.,'’ \u00a0\u202f]*\d)[ \u00a0\u202f]*([^\d\s.,]\S*)$")


def _value(text: str, amounts: dict[str, str | None]) -> str | None:
    shape = SHAPE.match(text.strip())
    if shape is None or shape[2].lower() not in UNITS or amounts[shape[1]] is None:
        return None
    times, unit = UNITS[shape[2].lower()]
    exact = EXACT.normalize(EXACT.multiply(Decimal(amounts[shape[1]] or "0"), Decimal(times)))
    return f"{exact:f} {unit}"


def _read(texts: pl.Series, field: Field, writing: Notation) -> pl.Series:
    shapes = (SHAPE.match(text.strip()) for text in texts.unique())
    parts = pl.Series(sorted({shape[1] for shape in shapes if shape}), dtype=pl.String)
    amounts = dict(zip(parts, DECIMAL.read(parts, field, writing), strict=True))
    return map_texts(texts, partial(_value, amounts=amounts))


MEASURE = Kind("measure", _read)
