"""What was sent: a change set as a folder of update files has it, without what that leaves out."""

from __future__ import annotations

from collections.abc import Sequence

import polars as pl

from neat_delta.core.decide.decide import as_findings, with_decisions
from neat_delta.core.model.catalogue import MARK
from neat_delta.core.model.changeset import ChangeSet
from neat_delta.core.model.manifest import Answered, Listed, Manifest
from neat_delta.core.model.schemas import RELEASED, conform, stopping
from neat_delta.core.review.answers import release

__all__ = ["as_sent"]


def as_sent(changes: ChangeSet, manifest: Manifest) -> ChangeSet:
    """The change set as a folder of update files has it: with the clashes that a reviewer let through, at the values
    that were chosen, and with that held, too, which its manifest lists as not sent.
    """
    return _without(_with_answered(changes, manifest.answered), manifest.not_sent)


def _with_answered(changes: ChangeSet, answered: Sequence[Answered]) -> ChangeSet:
    """The change set with the clashes let through that were answered."""
    if not answered:
        return changes
    key, said = changes.keys.columns, [MARK + "field", MARK + "after"]
    rows = [(*one.key.values(), one.field, one.after) for one in answered]
    table = pl.DataFrame(rows, schema=dict.fromkeys([*key, *said], pl.String), orient="row")
    met = table.join(changes.keys.with_row_index(MARK), on=key, how="inner", maintain_order="left")
    return release(changes, conform(met.select(item=MARK, field=said[0], after=said[1]), RELEASED))


def _without(changes: ChangeSet, listed: Sequence[Listed]) -> ChangeSet:
    """The change set with that held, too, which is listed."""
    key = changes.keys.columns
    said = [MARK + "field", MARK + "reason"]
    rows = [(*one.key.values(), one.field, one.reason) for one in listed]
    table = pl.DataFrame(rows, schema=dict.fromkeys([*key, *said], pl.String), orient="row")
    numbers = changes.keys.with_row_index(MARK)
    unsent = table.join(numbers, on=key, how="inner", maintain_order="left")
    unsent = unsent.select(item=MARK, field=said[0], reason=said[1])
    decided = pl.concat([as_findings(changes), stopping(unsent, "sign-off", "unsent")])
    return with_decisions(changes, decided.with_columns(done=pl.lit("held")))
