"""What a change set comes to, in figures: per field, and per changed cell."""

from __future__ import annotations

import re
from decimal import ROUND_HALF_UP, Decimal

import msgspec
import polars as pl

from neat_delta.core.base.kinds import KINDS, exact_decimals
from neat_delta.core.base.kinds.base import EXACT as CONTEXT
from neat_delta.core.base.kinds.number import EXACT, NUMBER_KINDS
from neat_delta.core.base.model.changeset import ChangeSet, held
from neat_delta.core.base.model.header import Header
from neat_delta.core.base.model.store import Field
from neat_delta.core.base.support.series import filtered, not_null

__all__ = ["Differences", "FieldFigures", "amounts", "figures"]

PLAIN = re.compile(r"[+-]?[0-9]+(\.[0-9]+)?")

MOST_DIGITS = 30
"""Numbers of more digits are left out of the figures, and of nothing else."""


class FieldFigures(msgspec.Struct, frozen=True):
    """One field's changed cells, new items aside: how many are to be sent, and how many are held, by themselves or with
    their item.

    Of those to send, for a field of numbers also how many go up and down, and the most each way (None where none does).
    """

    field: str
    sent: int
    held: int
    number: bool
    up: int = 0
    down: int = 0
    most_up: Decimal | None = None
    most_down: Decimal | None = None


def figures(changes: ChangeSet) -> list[FieldFigures]:
    """The figures of every field in which cells of known items change, in live's order.

    >>> from neat_delta import as_catalogue, compare
    >>> live = as_catalogue({"sku": ["QA-1", "QA-2"], "price": ["9.90", "20.00"]}, "live")
    >>> sheet = as_catalogue({"sku": ["QA-2", "QA-1"], "price": ["20.00", "10.50"]}, "sheet")
    >>> [(one.field, one.sent) for one in figures(compare(live, sheet))]
    [('price', 1)]
    """
    cells = changes.cells.with_columns(stays=held(changes.items, changes.cells))
    in_live = filtered(cells, not_null(cells["before"])).sort("field")
    return [
        _of(changes.header, str(field), cells) for (field,), cells in in_live.group_by("field", maintain_order=True)
    ]


def amounts(header: Header, field: str, cells: pl.DataFrame) -> tuple[pl.Series, pl.Series] | None:
    """A field's cells before and after as exact decimals (null where blank or unreadable), or None if they are no
    numbers.

    They are numbers by the field's kind or, where it has none, when every one of them looks like one.
    """
    settings = header.settings.get(field, Field())
    texts = pl.concat([cells["before"], cells["after"]])
    if settings.kind in NUMBER_KINDS:
        values = KINDS[settings.kind].read(texts, settings, header.writing)
        exact_numbers: pl.Series | None = values.set(values.str.len_chars() > MOST_DIGITS, None).cast(
            EXACT, strict=False
        )
    else:
        exact_numbers = exact_decimals(texts) if settings.kind == "text" else None
    return None if exact_numbers is None else (exact_numbers[: cells.height], exact_numbers[cells.height :])


def _of(header: Header, field: str, changed: pl.DataFrame) -> FieldFigures:
    stay = int(changed["stays"].sum())
    values = amounts(header, field, changed)
    cells = changed.filter(~pl.col("stays"))
    if values is None:
        return FieldFigures(field, cells.height, stay, number=False)
    values = (values[0].filter(~changed["stays"]), values[1].filter(~changed["stays"]))
    step, steps = values[1] - values[0], Differences(header, cells)
    up, down = int((step > 0).sum()), int((step < 0).sum())

    def exact(place: int | None) -> Decimal | None:
        return None if place is None else steps.step(field, cells["before"][place], cells["after"][place])

    return FieldFigures(
        field,
        cells.height,
        stay,
        number=True,
        up=up,
        down=down,
        most_up=exact(step.arg_max()) if up else None,
        most_down=exact(step.arg_min()) if down else None,
    )


class Differences:
    """The differences of numbers in a change set's `cells`, one by one. The texts of a field are read all at once, when
    it is first asked about, as asking the engine about one costs as much as about thousands.
    """

    def __init__(self, header: Header, cells: pl.DataFrame) -> None:
        self.header, self.cells = header, cells
        self.known: dict[str, dict[str, Decimal | None]] = {}

    def step(self, field: str, before: str, after: str) -> Decimal | None:
        """After less before, exactly, with the longer one's decimals; None when one of them is blank or no number."""
        first, other = self._exact(field, before), self._exact(field, after)
        return None if first is None or other is None else other - first

    def per_cent(self, field: str, before: str, after: str) -> Decimal | None:
        """The difference in per cent of before, to one decimal, half up; None when there is none or before is 0."""
        step, base = self.step(field, before, after), self._exact(field, before)
        if step is None or not base:
            return None
        return (step * 100 / abs(base)).quantize(Decimal("0.1"), ROUND_HALF_UP)

    def _plain(self, text: str) -> bool:
        return (self.header.writing.decimal_mark or ".") == "." and PLAIN.fullmatch(text) is not None

    def _exact(self, field: str, text: str) -> Decimal | None:
        """A cell's number, with as many decimals as it is written with."""
        if self._plain(text):
            return Decimal(text)
        if field not in self.known:
            field_cells = self.cells.filter(pl.col("field").cast(pl.String) == field)
            texts = pl.concat([field_cells["before"], field_cells["after"]]).drop_nulls().unique()
            self.known[field] = self._read(field, [other_text for other_text in texts if not self._plain(other_text)])
        return self.known[field][text]

    def _read(self, field: str, texts: list[str]) -> dict[str, Decimal | None]:
        amounts: dict[str, Decimal | None] = {}
        settings = self.header.settings.get(field, Field())
        kind = KINDS[settings.kind if settings.kind in NUMBER_KINDS else "decimal"]
        mark = self.header.writing.decimal_mark or "."
        for text, value in zip(
            texts, kind.read(pl.Series(texts, dtype=pl.String), settings, self.header.writing), strict=True
        ):
            places = sum(letter.isdigit() for letter in text.rpartition(mark)[2]) if mark in text else 0
            number = None if value is None else Decimal(value)
            if number is not None and places:
                number = number.quantize(Decimal(1).scaleb(-places), context=CONTEXT)
            amounts[text] = number
        return amounts
