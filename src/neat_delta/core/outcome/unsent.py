"""What was never sent: what a folder of update files leaves out of its change set."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import polars as pl

from neat_delta.core.model.changeset import ChangeSet
from neat_delta.core.model.manifest import Listed

__all__ = ["held_back"]


def held_back(changes: ChangeSet, listed: Sequence[Listed]) -> ChangeSet:
    """The change set with that held, too, which a folder of update files does not have, as its manifest lists it: what
    its importer could not take, and what was not signed off.
    """
    why = {(tuple(one.key.values()), one.field): one.reason for one in listed}
    keys = changes.keys.rows()
    items = [held or why.get((keys[item], None)) for item, held in enumerate(changes.items["held"])]
    cells = [
        held or why.get((keys[item], field))
        for item, field, held in changes.cells.select("item", "field", "held").rows()
    ]
    return replace(
        changes,
        items=changes.items.with_columns(held=pl.Series(items, dtype=pl.String)),
        cells=changes.cells.with_columns(held=pl.Series(cells, dtype=pl.String)),
    )
