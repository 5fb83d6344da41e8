"""Texts that a spreadsheet took for a number, a fraction, a per cent, a time or a day, and wrote as it writes those."""

from __future__ import annotations

import polars as pl

from neat_delta.core.base.kinds.number import CURRENCY
from neat_delta.core.compare.detect.damage.base import AFTER, BEFORE, TEXTS, Damage, significant_digits
from neat_delta.core.sheets.spreadsheet.reading import DIGITS, rewritten

__all__ = ["REWRITTEN", "is_correction"]

VALUE = r"^[(+−-]?\s*(?:\p{Sc}|\p{L}+)?[\s./-]*[+−-]?\d[\d.,:/'’\s()−-]*(?:[eE][+-]?\d+)?\s*(?:%|\p{Sc}|\p{L}+)?"
VALUE += r"[\s./-]*\d*(?:,?\s+\d{1,2}:\d\d[\d:.]*(?:\s*[AaPp][Mm])?)?\s*[)−-]?$|^\d{4}-\d\d-\d\d[T ]\d\d:\d\d"
"""What a text can look like that is a value to a spreadsheet; a glance that spares most cells the closer look."""

WRITTEN = r"^[(+−-]?(?:\p{Sc}|\p{Lu}{3}|kr)?\s*[+−-]?[\d.,:/'’ \u00a0\u202f-]*\d(?:[eE][+-]?\d+)?"
WRITTEN += r"\s*(?:%|AM|PM|\p{Sc}|\p{Lu}{3}|kr)?[)−-]?$|^PT\d|^\d{4}-\d\d-\d\dT"
"""How all values look that a spreadsheet writes by itself, but for months by their name."""

PLAIN_BOTH = BEFORE.str.contains(r"^\d+(?:[.,]\d+)?$") & AFTER.str.contains(r"^\d+(?:[.,]\d+)?$")

AS_TYPED = r"^\+|^[−-]?0\d+(?:[.,]\d*)?$|^[−-]?\d+[.,]\d*0$"
"""What no spreadsheet writes: a plus, zeros in front, zeros behind the decimals."""

AS_WRITTEN = r"^-?(?:0|[1-9]\d{0,14})(?:[.,](?:[1-9]|\d[1-9]|\d{3,13}[1-9]))?$|^-?\d+[.,]\d{12,}$"
"""A number as a spreadsheet writes it: it would write the same again, and what stands there now is a correction."""

OWN_FORMS = (r"^-?[1-9]\d{2,}[.,]0$", r"^-?\d{1,3}(?:[.,'’ \u00a0\u202f]\d{3})+$", r"\d%$", rf"^{CURRENCY}|{CURRENCY}$")
"""What a spreadsheet may have made of another text before: 417.0, 48,213, 7%, € 5. Of one that is so in half of live's
cells it makes what it does; a single one among others was damaged then, and what stands there now is its correction.
"""


def is_correction(before: str, live: pl.Series | None) -> bool:
    """Whether a text of live's was damaged itself, and is put right, as its column shows."""
    form = next((own_form for own_form in OWN_FORMS if pl.Series([before]).str.contains(own_form)[0]), None)
    if form is None or live is None:
        return form is not None
    filled = live.filter(live.str.strip_chars() != "")
    return int(filled.str.strip_chars().str.contains(form).sum()) * 2 < filled.len()


REWRITTEN = (
    Damage(
        "rewritten as a value",
        "a spreadsheet takes live's text for a value, and this is how it writes it",
        TEXTS,
        BEFORE.str.contains(r"\d")
        & (BEFORE.str.len_chars() <= 40)
        & (AFTER.str.len_chars() <= 320)
        & AFTER.str.contains(WRITTEN)
        & ~AFTER.str.contains(AS_TYPED)
        & ~BEFORE.str.contains(AS_WRITTEN)
        & BEFORE.str.contains(VALUE)
        & ~(
            PLAIN_BOTH & (BEFORE.str.len_chars() <= DIGITS) & (significant_digits(BEFORE) != significant_digits(AFTER))
        ),
        rewritten,
        certain=False,
    ),
)
