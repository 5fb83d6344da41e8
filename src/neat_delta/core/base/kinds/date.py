"""Dates, with or without a time. The value is ISO 8601: `2026-05-12`, or `2026-05-12T10:30:00` if it is not midnight.
A `Z` for universal time is part of it.

ISO 8601 is always read, as it cannot be mistaken; any other form only where it was told or found out for the file.
"""

from __future__ import annotations

import re

import polars as pl

from neat_delta.core.base.kinds.base import Kind
from neat_delta.core.base.model.conflicts import FORM_WORDS
from neat_delta.core.base.model.layout import Notation
from neat_delta.core.base.model.store import Field

__all__ = ["DATE", "FORMS", "ISO"]

ISO = "YYYY-MM-DD"

FORMS = ("DD.MM.YYYY", "DD/MM/YYYY", "MM/DD/YYYY", "DD-MM-YYYY", "MM-DD-YYYY", "YYYY/MM/DD", "YYYY.MM.DD")
"""The other forms that are recognised; each with a time after it as well."""

TIME = r"(?:[T ](?<hh>[0-9]{2}):(?<mm>[0-9]{2})(?::(?<ss>[0-9]{2})(?:\.0+)?)?)?(?<zone>Z?)"


def _pattern(form: str) -> str:
    pattern = re.escape(form)
    for word in FORM_WORDS:
        digits = "{4}" if word == "YYYY" else "{2}" if form.startswith(ISO) or word in {"hh", "mm", "ss"} else "{1,2}"
        pattern = pattern.replace(word, f"(?<{word}>[0-9]{digits})")
    return f"^{pattern}$" if "hh" in form else f"^{pattern}{TIME}$"


def _parse(texts: pl.Series, form: str) -> pl.Series:
    parts = texts.str.extract_groups(_pattern(form)).struct.unnest()
    if parts["YYYY"].null_count() == parts.height:  # as in most columns that are tried
        return parts["YYYY"]
    year, month, day_, hour, minute, second, zone = (
        pl.col(word) if word in parts.columns else pl.lit(None, pl.String) for word in (*FORM_WORDS, "zone")
    )
    hour, minute, second = (part.fill_null("0").cast(pl.Int32, strict=False) for part in (hour, minute, second))
    day = pl.concat_str(year, month.str.zfill(2), day_.str.zfill(2), separator="-")
    day = day.str.to_date("%Y-%m-%d", strict=False).dt.strftime("%Y-%m-%d")
    time = pl.concat_str(*(part.cast(pl.String).str.zfill(2) for part in (hour, minute, second)), separator=":")
    value = pl.when(time == "00:00:00").then(day).otherwise(pl.concat_str(day, pl.lit("T"), time))
    right = (hour < 24) & (minute < 60) & (second < 60)
    zone = pl.lit("Z") if form.endswith("Z") else zone.fill_null("")
    return parts.select(pl.when(right).then(pl.concat_str(value, zone))).to_series()


def _read(texts: pl.Series, field: Field, writing: Notation) -> pl.Series:
    bare, form = texts.str.strip_chars(), field.date_form or writing.date_form or ISO
    dates = _parse(bare, ISO)
    if form == ISO:
        return dates
    parsed = _parse(bare, form)
    return parsed.zip_with(parsed.is_not_null(), dates)


def _write(values: pl.Series, texts: pl.Series, field: Field, writing: Notation) -> pl.Series:
    form = field.date_form or writing.date_form
    if form is None:  # live has dates with a time and without, all in ISO 8601
        return texts.zip_with(_parse(texts.str.strip_chars(), ISO).is_not_null(), values)
    parts = values.str.extract_groups(_pattern(ISO)).struct.unnest()
    # A time that the store has no place for would be lost, and so would its zone.
    fits = (pl.col("zone").fill_null("") == "Z") == form.endswith("Z")
    for word in FORM_WORDS[3:]:
        if word not in form:
            fits &= pl.col(word).fill_null("00") == "00"
    parts = parts.with_columns(pl.when(fits).then("YYYY").alias("YYYY"))
    pieces = [
        pl.col(piece).fill_null("00")
        if piece in FORM_WORDS[3:]
        else pl.col(piece)
        if piece in FORM_WORDS
        else pl.lit(piece)
        for piece in re.split("(" + "|".join(FORM_WORDS) + ")", form)
        if piece
    ]
    return parts.select(pl.concat_str(pieces)).to_series()


DATE = Kind("date", _read, _write)
