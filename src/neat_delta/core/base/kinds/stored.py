"""What the store makes of a text by itself: it rounds, cuts, changes case, drops the zeros at a number's end. The store
file says so of a field (`stored_…`), and then what comes back so is what was sent.
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass
from decimal import ROUND_HALF_UP, Decimal

import msgspec
import polars as pl

from neat_delta.core.base.kinds import KINDS
from neat_delta.core.base.kinds.base import EXACT
from neat_delta.core.base.kinds.number import NUMBER_KINDS
from neat_delta.core.base.model.layout import Notation
from neat_delta.core.base.model.store import Field

__all__ = ["HABITS", "Habit", "as_stored", "habits_of", "has_habits", "stored_alike"]

HABITS = ("stored_decimals", "stored_length", "stored_case", "stored_zeros")
"""The settings of a field that say what the store makes of a text."""

ENOUGH, MOST = 3, Decimal("0.8")
"""A habit is proposed where so many cells came back so, and this share of those that it would alter."""


@dataclass(frozen=True, slots=True)
class Habit:
    """What the store seems to make of a field by itself: the setting and its value for the store file, and of how many
    sent cells that it would alter how many came back just so.
    """

    field: str
    setting: str
    value: int | str
    cells: int
    of: int

    def __str__(self) -> str:
        """As it is said to a person."""
        what = {
            "stored_decimals": f"rounds {self.field} to {self.value} decimals",
            "stored_length": f"cuts {self.field} after {self.value} characters",
            "stored_case": f"writes {self.field} in {self.value} case",
            "stored_zeros": f"cuts the zeros at the end of {self.field}",
        }
        return what[self.setting]


def has_habits(field: Field) -> bool:
    """Whether the store file says that the store alters what is sent in this field.

    >>> has_habits(Field(stored_length=60))
    True
    """
    return any(getattr(field, name) is not None for name in HABITS)


def as_stored(text: str, field: Field, mark: str = ".") -> str:
    """What the store makes of a text; `mark` is the decimal mark.

    >>> as_stored("9.95", Field("money", stored_decimals=1)), as_stored("veil", Field(stored_case="upper"))
    ('10.0', 'VEIL')
    """
    text = text[: field.stored_length]
    if field.stored_case is not None:
        text = text.upper() if field.stored_case == "upper" else text.lower()
    number = _decimal(text, mark)
    if field.stored_decimals is not None and number is not None and _places(number) > field.stored_decimals:
        rounded = number.quantize(Decimal(1).scaleb(-field.stored_decimals), ROUND_HALF_UP, EXACT)
        text = f"{rounded:f}".replace(".", mark)
    return _without_zeros(text, mark) if field.stored_zeros == "cut" else text


def stored_alike(meant: pl.Series, now: pl.Series, field: Field, writing: Notation) -> pl.Series:
    """Per cell whether `now` is what the store makes of the text that was `meant`; a number that lies just between two
    may be rounded to either.
    """
    mark = field.decimal_mark or writing.decimal_mark or "."
    if field.kind in NUMBER_KINDS:
        pairs = zip(*(_plain_numbers(texts, field, writing) for texts in (meant, now)), strict=True)
        places = field.stored_decimals
        alike = [a is not None and b is not None and _rounded_to(a, b, places) for a, b in pairs]
        return pl.Series(alike, dtype=pl.Boolean)
    out = []
    for text, other in zip(meant, now, strict=True):
        stored = None if text is None else as_stored(text, field, mark)
        out.append(stored is not None and other in {stored, stored.strip()})
    return pl.Series(out, dtype=pl.Boolean)


def _plain_numbers(texts: pl.Series | Sequence[str], field: Field, writing: Notation) -> list[Decimal | None]:
    """The numbers of texts; None for one that is none."""
    series = pl.Series(texts, dtype=pl.String).fill_null("")
    return [None if text is None else _decimal(text, ".") for text in KINDS[field.kind].read(series, field, writing)]


def _rounded_to(number: Decimal, to: Decimal, places: int | None) -> bool:
    if places is None:
        return number == to
    return _places(to) <= places and abs(number - to) * 2 <= Decimal(1).scaleb(-places)


def _places(number: Decimal) -> int:
    return max(0, -int(number.normalize(EXACT).as_tuple().exponent))


def _decimal(text: str, mark: str) -> Decimal | None:
    plain = text.strip().replace(mark, ".")
    return Decimal(plain) if re.fullmatch(r"[+-]?[0-9]+(\.[0-9]*)?", plain) else None


def _without_zeros(text: str, mark: str) -> str:
    point = re.escape(mark)
    return re.sub(rf"^([+-]?[0-9]+)(?:{point}0+|({point}[0-9]*?[1-9])0+)$", r"\1\2", text)


def habits_of(name: str, meant: Sequence[str], now: Sequence[str], field: Field, writing: Notation) -> list[Habit]:
    """The habits by which most of a field's sent texts (`meant`) came back as they are `now`.

    >>> habits_of("name", ["veil", "suit", "hat"], ["VEIL", "SUIT", "HAT"], Field(), Notation())
    [Habit(field='name', setting='stored_case', value='upper', cells=3, of=3)]
    """
    mark = field.decimal_mark or writing.decimal_mark or "."
    out = []
    for setting, value in _candidates(meant, now, field, writing):
        with_it = _with(field, setting, value)
        if field.kind in NUMBER_KINDS:
            first, other = (_plain_numbers(texts, field, writing) for texts in (meant, now))
            pairs = [(a, b) for a, b in zip(first, other, strict=True) if a is not None and _places(a) > int(value)]
            hits = sum(b is not None and _rounded_to(a, b, int(value)) for a, b in pairs)
            of = len(pairs)
        else:
            stored = [(as_stored(a, with_it, mark), a, b) for a, b in zip(meant, now, strict=True)]
            altered = [(kept, b) for kept, a, b in stored if kept != a]
            hits, of = sum(b in {kept, kept.strip()} for kept, b in altered), len(altered)
        if hits >= ENOUGH and hits >= of * MOST:
            out.append(Habit(name, setting, value, hits, of))
    return out


def _with(field: Field, setting: str, value: int | str) -> Field:
    return msgspec.structs.replace(field, **{setting: value})


def _candidates(
    meant: Sequence[str], now: Sequence[str], field: Field, writing: Notation
) -> list[tuple[str, int | str]]:
    """The habits that would explain the texts that came back altered."""
    altered = [(text, other) for text, other in zip(meant, now, strict=True) if text != other and other.strip()]
    out: list[tuple[str, int | str]] = []
    if field.kind in NUMBER_KINDS:
        numbers_now = _plain_numbers([other for _, other in altered], field, writing)
        places = [_places(number) for number in numbers_now if number is not None]
        return [("stored_decimals", max(places))] if places else []
    lengths = [len(other) for text, other in altered if len(other) < len(text) and text.startswith(other)]
    if lengths:
        out.append(("stored_length", max(lengths)))
    for case, change in (("upper", str.upper), ("lower", str.lower)):
        if any(change(text) == other for text, other in altered):
            out.append(("stored_case", case))
    mark = field.decimal_mark or writing.decimal_mark or "."
    if any(_without_zeros(text, mark) == other for text, other in altered):
        out.append(("stored_zeros", "cut"))
    return [(setting, value) for setting, value in out if getattr(field, setting) is None]
