"""What was never sent: what a folder of update files leaves out of its change set."""

from __future__ import annotations

from collections.abc import Sequence

import polars as pl

from neat_delta.core.decide.decide import as_findings, with_decisions
from neat_delta.core.model.catalogue import MARK
from neat_delta.core.model.changeset import ChangeSet
from neat_delta.core.model.manifest import Listed
from neat_delta.core.model.schemas import stopping

__all__ = ["without_unsent"]


def without_unsent(changes: ChangeSet, listed: Sequence[Listed]) -> ChangeSet:
    """The change set with that held, too, which a folder of update files does not have, as its manifest lists it: what
    its importer could not take, and what was not signed off.
    """
    key = changes.keys.columns
    said = [MARK + "field", MARK + "reason"]
    rows = [(*one.key.values(), one.field, one.reason) for one in listed]
    table = pl.DataFrame(rows, schema=dict.fromkeys([*key, *said], pl.String), orient="row")
    numbers = changes.keys.with_row_index(MARK)
    unsent = table.join(numbers, on=key, how="inner", maintain_order="left")
    unsent = unsent.select(item=MARK, field=said[0], reason=said[1])
    decided = pl.concat([as_findings(changes), stopping(unsent, "sign-off", "unsent")])
    return with_decisions(changes, decided.with_columns(done=pl.lit("held")))
