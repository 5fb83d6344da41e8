"""What was sent: a change set as a folder of update files has it, without what that leaves out."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import polars as pl

from neat_delta.core.base.model.catalogue import MARK
from neat_delta.core.base.model.changeset import ChangeSet
from neat_delta.core.base.model.manifest import Answered, Manifest, Rebased
from neat_delta.core.base.model.schemas import RELEASED, conform, stopping
from neat_delta.core.compare.decide.decide import as_findings, with_decisions
from neat_delta.core.review.answers import release

__all__ = ["as_sent", "with_held"]


def as_sent(changes: ChangeSet, manifest: Manifest) -> ChangeSet:
    """The change set as a folder of update files has it: with the clashes that a reviewer let through, at the values
    that were chosen, with the steps of a retry from where they began, and with that held, too, which its manifest lists
    as not sent.
    """
    listed = [(entry.key, entry.field, entry.reason) for entry in manifest.not_sent]
    unsent = _numbered(changes, listed).rename({"text": "reason"})
    return with_held(_with_rebased(_with_answered(changes, manifest.answered), manifest.rebased), unsent)


def _with_rebased(changes: ChangeSet, rebased: Sequence[Rebased]) -> ChangeSet:
    """The change set with the cells that were sent again as a step from another text; of one cell the last counts."""
    if not rebased:
        return changes
    sides = [
        _numbered(changes, [(step.key, step.field, getattr(step, side)) for step in rebased]).rename({"text": side})
        for side in ("before", "after")
    ]
    steps = sides[0].with_columns(sides[1]["after"]).unique(["item", "field"], keep="last")
    steps = steps.rename({"before": MARK + "before", "after": MARK + "after"})
    cells = changes.cells.with_columns(pl.col("field").cast(pl.String).alias(MARK + "field"))
    met = cells.join(steps.rename({"field": MARK + "field"}), on=["item", MARK + "field"], how="left",
                     maintain_order="left")  # fmt: skip
    sent = [pl.coalesce(MARK + side, side).alias(side) for side in ("before", "after")]
    return replace(changes, cells=met.with_columns(sent).select(changes.cells.columns))


def with_held(changes: ChangeSet, unsent: pl.DataFrame) -> ChangeSet:
    """The change set with that held, too, which is named by `item`, `field` (null for the whole item) and `reason`."""
    decided = pl.concat([as_findings(changes), stopping(unsent, "sign-off", "unsent")])
    return with_decisions(changes, decided.with_columns(done=pl.lit("held")))


def _with_answered(changes: ChangeSet, answered: Sequence[Answered]) -> ChangeSet:
    """The change set with the clashes let through that were answered."""
    if not answered:
        return changes
    answers = _numbered(changes, [(answer.key, answer.field, answer.after) for answer in answered])
    return release(changes, conform(answers.rename({"text": "after"}), RELEASED))


def _numbered(changes: ChangeSet, listed: Sequence[tuple[dict[str, str], str | None, str]]) -> pl.DataFrame:
    """What a manifest says of keys and fields, by the numbers of the items: `item`, `field`, `text`."""
    key, columns = changes.keys.columns, [MARK + "field", MARK + "text"]
    rows = [(*named.values(), field, text) for named, field, text in listed]
    table = pl.DataFrame(rows, schema=dict.fromkeys([*key, *columns], pl.String), orient="row")
    met = table.join(changes.keys.with_row_index(MARK), on=key, how="inner", maintain_order="left")
    return met.select(item=MARK, field=columns[0], text=columns[1])
