"""A replace-all that hit more fields than meant: the same words exchanged in fields that hold different things."""

from __future__ import annotations

import re
from collections import Counter

import polars as pl

from neat_delta.core.base.kinds.number import NUMBER_KINDS
from neat_delta.core.base.support.series import spread
from neat_delta.core.compare.detect.slips.base import Slip, SlipContext

__all__ = ["replaced"]

LEAST = 10
"""So many cells must have the same piece exchanged, three or more in each of two sorts of fields."""

SAMPLE = 4_000
"""Cells that are looked at for what may have been exchanged."""

TOKENS = re.compile(r"\w+|\s+|[^\w\s]")


def replaced(context: SlipContext) -> list[Slip]:
    """Pieces of text that were exchanged for another in fields of different sorts, codes or image names among them.

    In one of the fields the piece must be a part of the cell: a value set to another in two fields is an edit.
    """
    if len(context.by_field(3)) < 2:
        return []
    filled = pl.concat(context.by_field(1).values()).filter((pl.col("ours") != "") & (pl.col("theirs") != ""))
    if filled.height < LEAST:
        return []
    slips, taken = [], pl.Series([], dtype=filled.schema["number"])
    for old, new in _candidates(filled):
        rest = filled.filter(~pl.col("number").is_in(taken.implode()))
        hit = rest.filter(
            pl.col("before").str.contains(old, literal=True)
            & (
                pl.col("before").str.replace_all(old, new, literal=True).str.strip_chars()
                == pl.col("after").str.strip_chars()
            )
        )
        counted = hit.group_by("field", maintain_order=True).agg(
            pl.len(), part=(pl.col("before").str.strip_chars() != old).any()
        )
        sorts = Counter[str]()
        for field, times_in_field in counted[["field", "len"]].iter_rows():
            kind = context.kind(field)
            sorts["number" if kind in NUMBER_KINDS else kind] += times_in_field
        if (
            hit.height >= LEAST
            and sum(times_in_field >= 3 for times_in_field in sorts.values()) >= 2
            and counted["part"].any()
        ):
            why = f'"{old[:30]}" became "{new[:30]}" in {hit.height:,} cells of {counted.height} fields'
            slips.append(
                Slip("replaced in more fields than one", counted["field"].to_list(), hit["number"].sort(), why)
            )
            taken = pl.concat([taken, hit["number"]])
    return slips


def _candidates(cells: pl.DataFrame) -> list[tuple[str, str]]:
    """The pieces that were exchanged most often, in whole words and in letters, that more than one field shows."""
    sample = spread(cells, SAMPLE)
    fields: dict[tuple[str, str], set[str]] = {}
    times: Counter[tuple[str, str]] = Counter()
    for field, before, after in sample[["field", "before", "after"]].iter_rows():
        if len(before) > 5_000 or len(after) > 5_000:
            continue
        for parts in (TOKENS.findall, list):
            pieces_that_differ = _piece(parts(before), parts(after))
            if pieces_that_differ is not None:
                times[pieces_that_differ] += 1
                fields.setdefault(pieces_that_differ, set()).add(field)
    return [pair for pair, times_seen in times.most_common(20) if times_seen >= 3 and len(fields[pair]) >= 2]


def _piece(before: list[str], after: list[str]) -> tuple[str, str] | None:
    """What stands between the beginning and the end that two texts have in common; None when it is nothing in one."""
    most = min(len(before), len(after))
    start = next((n for n in range(most) if before[n] != after[n]), most)
    end = next((n for n in range(most - start) if before[-1 - n] != after[-1 - n]), most - start)
    old, new = "".join(before[start : len(before) - end]), "".join(after[start : len(after) - end])
    return (old, new) if old else None
