"""Values that came to nothing or to their beginnings: amounts set to zero, texts cut at one length."""

from __future__ import annotations

import polars as pl

from neat_delta.core.base.support.series import filtered
from neat_delta.core.compare.detect.slips.base import Slip, SlipContext

__all__ = ["cut_at_one_length", "set_to_zero"]

LEAST_ZEROS = 5
"""So many amounts must have become 0, and half of all that change in the field."""

LEAST_CUT = 5
"""So many texts, all different, must end at one length, and be the beginnings of what they were."""


def set_to_zero(context: SlipContext) -> list[Slip]:
    """Fields of amounts in which most of what changes becomes 0. Stock sells out, so whole numbers are left alone."""
    slips = []
    for name, cells in context.by_field(LEAST_ZEROS).items():
        if context.kind(name) not in {"money", "decimal"}:
            continue
        zero_cells = filtered(cells, (cells["new"] == 0) & (cells["old"] != 0))
        if zero_cells.height >= LEAST_ZEROS and zero_cells.height * 2 >= cells.height:
            why = f"{zero_cells.height:,} of {cells.height:,} changed cells became 0"
            slips.append(Slip("amounts set to zero", [name], zero_cells["number"], why))
    return slips


def cut_at_one_length(context: SlipContext) -> list[Slip]:
    """Texts that are the beginnings of live's, all cut at the same length; nothing that changes is longer."""
    slips = []
    for name, cells in context.by_field(LEAST_CUT).items():
        if context.kind(name) not in {"text", "code", "choice", "list", "path", "link", "image"}:
            continue
        size, length = pl.col("raw").str.len_chars(), pl.col("before").str.len_chars()
        cut = cells.filter((pl.col("raw") != "") & (size < length) & (pl.col("before").str.head(size) == pl.col("raw")))
        if cut["raw"].n_unique() < LEAST_CUT:  # a category that moved one level up is no cut
            continue
        lengths = cut["raw"].str.len_chars()
        most = int(lengths.max() or 0)  # type: ignore[arg-type]
        at_most = (lengths >= most - 1).sum()  # a space at the end may be gone
        if at_most >= LEAST_CUT and at_most * 5 >= cut.height * 4 and cut.height * 2 >= cells.height:
            why = f"{cut.height:,} texts are the first {most:,} characters of what they were"
            slips.append(Slip("texts cut at one length", [name], cut["number"], why))
    return slips
