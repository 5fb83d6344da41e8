"""What cannot go as something else is held: a new item without what it needs, a link to what does not come, a value
that was computed from one that does not go.
"""

from __future__ import annotations

from typing import TYPE_CHECKING

import polars as pl

from neat_delta.core.base.model.reasons import ALONE, FOLLOWS, INCOMPLETE
from neat_delta.core.base.model.schemas import FINDINGS, empty, stopping
from neat_delta.core.base.model.store import Key, accompanying
from neat_delta.core.base.support.series import filtered, gathered, not_null, true_places
from neat_delta.core.compare.decide.decide import with_decisions
from neat_delta.core.sheets.match.keys import KeyIndex, stripped
from neat_delta.core.sheets.rekey.requests import waiting_codes
from neat_delta.core.sheets.rules.resting import left_alone, resting_on

if TYPE_CHECKING:
    from neat_delta.core.base.model.catalogue import Catalogue
    from neat_delta.core.base.model.changeset import ChangeSet

__all__ = ["consequences", "settle"]


def settle(changes: ChangeSet, decided: pl.DataFrame, live: Catalogue | None = None) -> ChangeSet:
    """The change set with that held for which a finding in `decided` says so, and what cannot go without it.

    With `live`, code changes that wait for one that is held are held, too.
    """
    changes = with_decisions(changes, decided)
    while (more := consequences(changes, live)).height:
        decided = pl.concat([decided, more.with_columns(done=pl.lit("held"))])
        changes = with_decisions(changes, decided)
    return changes


def consequences(changes: ChangeSet, live: Catalogue | None = None) -> pl.DataFrame:
    """Findings of what is not held and cannot go as it is; none once all that follows from what is held is held."""
    parts = [_dangling(changes), _incomplete(changes), _resting(changes), _alone(changes)]
    return pl.concat([waiting_codes(changes, live), *parts] if live is not None else parts)


def _incomplete(changes: ChangeSet) -> pl.DataFrame:
    """New items of which a cell is held without which they are not what was meant: a required field, their parent."""
    needed = [
        name
        for name, field in changes.header.settings.items()
        if field.required or (field.refers and field.kind == "code" and field.separator is None)
    ]
    if not needed or not changes.header.counts.new or changes.cells["held"].null_count() == changes.cells.height:
        return empty(FINDINGS)
    new = (pl.col("verdict") == "new") & pl.col("held").is_null()
    arriving = true_places(changes.items.select(new.alias("new")).to_series())
    lacking = changes.cells.filter(
        pl.col("held").is_not_null()
        & pl.col("item").is_in(arriving.implode())
        & pl.col("field").cast(pl.String).is_in(needed)
    )
    lacking = lacking.unique("item", keep="first", maintain_order=True)
    why = pl.format(INCOMPLETE + "{} is held", pl.col("field").cast(pl.String))
    reasons = lacking.rechunk().select("item", reason=why)
    return stopping(reasons, "incomplete")


def _dangling(changes: ChangeSet) -> pl.DataFrame:
    """Cells that point at a new item that is held, so that no item would have the code."""
    links = [name for name, field in changes.header.settings.items() if field.refers]
    if not links or not changes.header.counts.new:
        return empty(FINDINGS)
    waits = true_places(changes.items.select((pl.col("verdict") == "new") & pl.col("held").is_not_null()).to_series())
    cells = changes.sent().filter(pl.col("field").cast(pl.String).is_in(links))
    if not waits.len() or not cells.height:
        return empty(FINDINGS)
    key = changes.header.compared_by
    code = key.fields[0]
    lost = set(gathered(stripped(changes.keys, key), waits)[code])
    single = pl.concat(
        cells.filter(pl.col("field").cast(pl.String) == name).select(
            "item", pl.col("field").cast(pl.String),
            code=(pl.col("after").str.split(mark) if (mark := changes.header.settings[name].separator)
                  else pl.concat_list("after")),
        ).explode("code")
        for name in links
    )  # fmt: skip
    index = KeyIndex.of(pl.DataFrame({code: sorted(lost)}), Key([code], ignore_case=key.ignore_case))
    hit = single.filter(index.lookup(single.select(pl.col("code").alias(code))).is_not_null())
    why = pl.format(INCOMPLETE + "{} is held", pl.col("code").str.strip_chars())
    reasons = hit.unique(["item", "field"], keep="first", maintain_order=True).rechunk()
    reasons = reasons.select("item", "field", reason=why)
    return stopping(reasons, "follows", "incomplete")


def _resting(changes: ChangeSet) -> pl.DataFrame:
    """Computed cells that rest on one that is held, or in which live's own value was put back."""
    if not changes.computed.height:
        return empty(FINDINGS)
    field = pl.col("field").cast(pl.String)
    away = filtered(changes.cells, not_null(changes.cells["held"])).select("item", field, why=pl.lit("is held"))
    put_back = changes.damaged.filter((pl.col("done") == "repaired") & pl.col("item").is_not_null())
    put_back = put_back.select("item", field, why=pl.lit("was put back"))
    met = resting_on(changes, pl.concat([away, put_back]))
    reasons = changes.sent().select("item", field).join(met, on=["item", "field"], maintain_order="left").rechunk()
    reasons = reasons.select("item", "field", reason=pl.format(FOLLOWS + "{} {}", "read", "why"))
    return stopping(reasons, "follows")


def _alone(changes: ChangeSet) -> pl.DataFrame:
    """Cells that go only with another change of their item, where nothing else of it is sent."""
    beside = accompanying(changes.header.settings)
    if not beside:
        return empty(FINDINGS)
    sent = changes.sent().select("item", pl.col("field").cast(pl.String), "before")
    left = left_alone(sent, beside).filter(pl.col("before").is_not_null())
    return stopping(left.select("item", "field", reason=pl.lit(ALONE)), "follows")
