"""Slips: what a hand does to a whole column. Each is a statistic over the changed cells, with its threshold beside it.

One file for each sort; each slip is registered here, in one line. A cell belongs to the first that claims it.
"""

from __future__ import annotations

from collections.abc import Callable

import polars as pl

from neat_delta.core.slips.base import Round, Slip, forms
from neat_delta.core.slips.decimal import decimal_slip
from neat_delta.core.slips.filled import dragged, series
from neat_delta.core.slips.missing import missing, pasted_twice
from neat_delta.core.slips.moved import sideways, swapped
from neat_delta.core.slips.ordered import sorted_alone
from neat_delta.core.slips.replaced import replaced
from neat_delta.core.slips.shifted import shifted

__all__ = ["SLIPS", "Round", "Slip", "forms", "missing", "pasted_twice", "slips"]

SLIPS: tuple[Callable[[Round], list[Slip]], ...] = (
    swapped,
    sideways,
    shifted,
    sorted_alone,
    series,
    dragged,
    replaced,
    decimal_slip,
)


def slips(round_: Round) -> list[Slip]:
    """The slips of a round, in the order in which they are looked for."""
    found: list[Slip] = []
    for look in SLIPS:
        some = look(round_)
        if some:
            found += some
            taken = pl.concat([slip.cells for slip in some]).unique()
            round_ = round_.without(taken)
    return found
