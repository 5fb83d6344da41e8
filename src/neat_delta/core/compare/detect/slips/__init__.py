"""Slips: what a hand does to a whole column. Each is a statistic over the changed cells, with its threshold beside it.

One file for each sort; each slip is registered here, in one line. A cell belongs to the first that claims it.
"""

from __future__ import annotations

from collections.abc import Callable

from neat_delta.core.base.model.choices import LooksAt
from neat_delta.core.compare.detect.slips.base import Slip, SlipContext, forms, with_twins
from neat_delta.core.compare.detect.slips.copied import column_over_another, keys_sorted_alone, row_over_others
from neat_delta.core.compare.detect.slips.days import dates_moved, years_far_off
from neat_delta.core.compare.detect.slips.decimal import decimal_slip
from neat_delta.core.compare.detect.slips.emptied import cut_at_one_length, set_to_zero
from neat_delta.core.compare.detect.slips.filled import dragged, series
from neat_delta.core.compare.detect.slips.missing import missing, pasted_twice
from neat_delta.core.compare.detect.slips.moved import sideways, swapped
from neat_delta.core.compare.detect.slips.ordered import sorted_alone, sorted_block
from neat_delta.core.compare.detect.slips.replaced import replaced
from neat_delta.core.compare.detect.slips.shifted import shifted

__all__ = ["SLIPS", "Slip", "SlipContext", "forms", "missing", "pasted_twice", "slips", "with_twins"]

SLIPS: dict[Callable[[SlipContext], list[Slip]], LooksAt] = {
    keys_sorted_alone: "column",
    row_over_others: "neighbours",
    swapped: "neighbours",
    column_over_another: "neighbours",
    sideways: "neighbours",
    shifted: "neighbours",
    sorted_alone: "column",
    sorted_block: "column",
    dates_moved: "column",
    years_far_off: "column",
    set_to_zero: "column",
    series: "neighbours",
    dragged: "neighbours",
    cut_at_one_length: "column",
    replaced: "column",
    decimal_slip: "column",
}
"""Each slip with what it looks at, in the order in which they are looked for."""


def slips(context: SlipContext) -> list[Slip]:
    """The slips of a round, in the order in which they are looked for."""
    detected: list[Slip] = []
    for look in SLIPS:
        of_this_sort = look(context)
        if of_this_sort:
            detected += of_this_sort
            context = context.without(of_this_sort)
    return detected
