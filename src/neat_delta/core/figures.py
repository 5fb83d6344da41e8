"""What a change set comes to, in figures: per field, and per changed cell."""

from __future__ import annotations

from decimal import ROUND_HALF_UP, Decimal

import msgspec
import polars as pl

from neat_delta.core.changes import ChangeSet
from neat_delta.core.kinds import numbers

__all__ = ["FieldFigures", "difference", "figures", "per_cent"]


class FieldFigures(msgspec.Struct, frozen=True):
    """One field's changed cells, new items aside: how many, how many are held by themselves.

    For a field of numbers also how many go up and down, and the most each way (None where none does).
    """

    field: str
    cells: int
    held: int
    number: bool
    up: int = 0
    down: int = 0
    most_up: Decimal | None = None
    most_down: Decimal | None = None


def figures(changes: ChangeSet) -> list[FieldFigures]:
    """The figures of every field in which cells of known items change, in live's order."""
    known = changes.cells.filter(pl.col("before").is_not_null())
    return [_of(str(field), cells) for (field,), cells in known.sort("field").group_by("field", maintain_order=True)]


def _of(field: str, cells: pl.DataFrame) -> FieldFigures:
    held = int(cells["held"].is_not_null().sum())
    values = numbers(pl.concat([cells["before"], cells["after"]]))
    if values is None:
        return FieldFigures(field, cells.height, held, number=False)
    step = values[cells.height :] - values[: cells.height]
    up, down = int((step > 0).sum()), int((step < 0).sum())

    def exact(place: int | None) -> Decimal | None:
        return None if place is None else difference(cells["before"][place], cells["after"][place])

    return FieldFigures(
        field,
        cells.height,
        held,
        number=True,
        up=up,
        down=down,
        most_up=exact(step.arg_max()) if up else None,
        most_down=exact(step.arg_min()) if down else None,
    )


def difference(before: str, after: str) -> Decimal | None:
    """After less before, exactly, with the longer one's decimals; None when one of them is blank."""
    if not before.strip() or not after.strip():
        return None
    return Decimal(after.strip()) - Decimal(before.strip())


def per_cent(before: str, after: str) -> Decimal | None:
    """The difference in per cent of before, to one decimal, half up; None when there is none or before is 0."""
    step = difference(before, after)
    if step is None or not Decimal(before):
        return None
    return (step * 100 / abs(Decimal(before))).quantize(Decimal("0.1"), ROUND_HALF_UP)
