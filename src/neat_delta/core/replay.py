"""The store's importer as a pure function: a catalogue and an update table in, the catalogue afterwards out.

It is written from the importer's rules and shares no code with `update`, so that one can prove the other.
"""

from __future__ import annotations

from collections.abc import Sequence

import polars as pl

from neat_delta.core.catalogue import MARK
from neat_delta.core.errors import ProofError
from neat_delta.core.importer import Importer

__all__ = ["replay"]


def replay(
    catalogue: pl.DataFrame, update: pl.DataFrame, key: Sequence[str], importer: Importer, *, shared: bool = False
) -> pl.DataFrame:
    """The catalogue after the importer has read one update table.

    A row finds its item by the exact key; one with an unknown key becomes a new item at the end, blank where the table
    has no column. A cell sets its field; a blank cell (nothing but white space) is left alone by an importer that
    skips blanks, and sets the field to what it holds by one that clears.
    Raises ProofError where an importer would refuse or guess: a heading the catalogue lacks, a key field
    missing, a blank key, a key that stands twice in the table or on two items; but where the key is `shared`, a row
    sets all the items that have it.
    """
    keys = list(key)
    for heading in update.columns:
        if heading not in catalogue.columns:
            raise ProofError(f'the update table has a heading the catalogue lacks: "{heading}".')
    for field in keys:
        if field not in update.columns:
            raise ProofError(f'the update table lacks the key field "{field}".')
        if (update[field].str.strip_chars() == "").any():
            raise ProofError(f'a row of the update table has a blank key field "{field}".')
    if update.select(keys).is_duplicated().any():
        raise ProofError("a key stands twice in one update table.")

    ours, theirs = MARK + "item", MARK + "row"
    found = catalogue.select(keys).with_row_index(ours).join(update.select(keys).with_row_index(theirs), on=keys)
    item, row = found[ours], found[theirs]
    if not shared and row.is_duplicated().any():
        raise ProofError("a row of the update table fits more than one item of the catalogue.")
    fresh = update.filter(~pl.repeat(False, update.height, eager=True).scatter(row, True))

    after = catalogue
    for field in update.columns:
        if field in keys:
            continue
        values = update[field].gather(row)
        takes = (values.str.strip_chars() != "") if importer.blanks == "skip" else values.is_not_null()
        column = catalogue[field].clone().scatter(item.filter(takes), values.filter(takes))
        after = after.with_columns(column.alias(field))
    if fresh.height:
        blank = [pl.lit("").alias(field) for field in catalogue.columns if field not in fresh.columns]
        after = pl.concat([after, fresh.with_columns(blank).select(catalogue.columns)])
    return after
