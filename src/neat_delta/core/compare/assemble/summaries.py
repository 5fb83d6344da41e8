"""What a person is told of a change set: its counts, and its findings, summed up."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable
from dataclasses import replace
from typing import TYPE_CHECKING

import msgspec
import polars as pl

from neat_delta.core.base.model.changeset import ChangeSet
from neat_delta.core.base.model.header import FindingSummary
from neat_delta.core.base.model.schemas import DAMAGED_SCHEMA, FLAGS_SCHEMA, conform, empty
from neat_delta.core.base.support.series import constant, filtered, gathered, not_null, scattered
from neat_delta.core.compare.assemble.cells import Changed
from neat_delta.core.compare.assemble.header import NOTHING
from neat_delta.core.compare.checks import CHECKS
from neat_delta.core.compare.detect.damage import DAMAGES
from neat_delta.core.compare.made import problems_said
from neat_delta.core.compare.rows import row_findings
from neat_delta.core.sheets.match.keys import KeyIndex, stripped

if TYPE_CHECKING:
    from neat_delta.core.compare.round import Round

__all__ = ["damaged_cells", "with_flags", "with_summaries"]


MOST_LOST = 100
"""So many of the rows that a working sheet lost are named."""


def with_summaries(draft: ChangeSet, round_: Round, changed: Changed, places: pl.DataFrame) -> ChangeSet:
    """The change set with its counts, and with what a person is told of damage, slips, rows and rows that were lost."""
    rows, matched, provenance, merged = round_.rows, round_.rows.matched, round_.rows.sheet.provenance, round_.merged
    verdicts = Counter(dict(places["verdict"].value_counts().iter_rows()))
    met = places.filter(pl.col("verdict").is_in(["changed", "recoded"]))["sheet"]
    lost = _lost(round_)
    counts = msgspec.structs.replace(
        NOTHING,
        same=matched.pairs.height - met.count(),
        changed=verdicts["changed"],
        recoded=verdicts["recoded"],
        unlisted=met.null_count(),
        absent=matched.gone.len() - met.null_count() - verdicts["gone"],
        departed=matched.new.len() - round_.arriving.len(),
        clashes=_clashes(round_.decided, changed.repaired),
        already=merged.already if merged else 0,
        merged=merged.merged if merged else 0,
        left_to_store=changed.left_to_store,
        meanwhile=merged.meanwhile.height if merged else 0,
        lost=lost.height,
        folded=provenance.folded if provenance else 0,
        copied=provenance.copied if provenance else 0,
        computed=draft.computed.height,
        unresolved=draft.unresolved.height,
        new=verdicts["new"],
        gone=verdicts["gone"],
        set_aside_live=sum(row.file == "live" for row in matched.set_aside),
        set_aside_sheet=sum(row.file == "sheet" for row in matched.set_aside),
        cells=draft.cells.height,
        blanks_kept=changed.kept,
        written_differently=sum(changed.rewritten.values()),
        damaged=draft.damaged.height,
        repaired=int((draft.damaged["done"] == "repaired").sum()),
    )
    summaries = [
        *row_findings(round_.aligned.live, rows, is_whole=round_.options.whole_sheet),
        *problems_said(draft.unresolved),
        *_damage_said(draft.damaged),
        *_slips_said(round_),
    ]
    lost_keys = stripped(lost.head(MOST_LOST), round_.aligned.key).rows(named=True)
    return replace(
        draft, header=msgspec.structs.replace(draft.header, counts=counts, findings=summaries, lost=lost_keys)
    )


def _clashes(decided: pl.DataFrame, repaired: pl.Series) -> int:
    """How many cells and items clash, without those in which live's own value is put back."""
    return decided.filter(
        (pl.col("source") == "clash") & ~pl.col("cell").is_in(repaired.implode()).fill_null(value=False)
    ).height


def _lost(round_: Round) -> pl.DataFrame:
    """The keys of the rows that a working sheet was cut with and does not have any more."""
    key, cut_with = round_.aligned.key, round_.cut_with
    if cut_with is None:
        return empty(dict.fromkeys(key.fields, pl.String))
    returned = KeyIndex.of(round_.rows.sheet, key).lookup(cut_with).is_not_null()
    return cut_with.select(key.fields).filter(~returned)


def damaged_cells(round_: Round, item_numbers: Callable[[pl.Series], pl.Series]) -> pl.DataFrame:
    """The damaged cells one by one, by their row in the sheet and their field, with what was done; `item_numbers` gives
    those of items.
    """
    rows, matched = round_.rows, round_.rows.matched
    damage_findings = filtered(round_.decided, round_.decided["source"] == "damage")
    if not damage_findings.height:
        return empty(DAMAGED_SCHEMA)
    cells = gathered(round_.deltas, damage_findings["cell"])
    place = gathered(matched.pairs["sheet"], cells["pair"]).cast(pl.Int64)
    place = place.zip_with(not_null(place), gathered(matched.new, cells["new"]).cast(pl.Int64))
    keys = gathered(stripped(rows.sheet, round_.aligned.key), place)
    mendable = damage_findings["mendable"].fill_null(value=False)
    listed = pl.DataFrame(
        {
            "item": item_numbers(damage_findings["item"]),
            "damage": damage_findings["rule"],
            "key": keys.select(pl.concat_list(pl.all())).to_series(),
            "field": damage_findings["field"],
            "row": rows.sheet.row(place),
            "before": cells["before"],
            "sheet": cells["raw"],
            "repair": cells["before"].set(~mendable, None),
            "done": damage_findings["done"],
        }
    )
    order = pl.col("field").cast(pl.Enum(matched.fields))
    return conform(listed.sort("row", order, maintain_order=True), DAMAGED_SCHEMA)


def _damage_said(damaged: pl.DataFrame) -> list[FindingSummary]:
    """The damage as a person is told of it: by what happened, field and what was done."""
    groups = damaged.group_by("damage", "field", "done", maintain_order=True).len()
    return [
        FindingSummary("damage", name, [field], times, DAMAGES[name].why, done)
        for name, field, done, times in groups.iter_rows()
    ]


def _slips_said(round_: Round) -> list[FindingSummary]:
    """The slips as a person is told of them: one by one, in so many cells that are let through, and so many held."""
    of_slips = filtered(round_.decided, round_.decided["source"] == "slip")
    times = {(rule, done): count for rule, done, count in of_slips.group_by("rule", "done").len().iter_rows()}
    return [
        FindingSummary("slip", name, fields, times[str(number), done], why, done)
        for number, (name, fields, why) in enumerate(round_.detected.slips)
        for done in ("accepted", "held")
        if (str(number), done) in times
    ]


def with_flags(changes: ChangeSet, checked: pl.DataFrame) -> ChangeSet:
    """The change set with what the checks found, one by one (`flags`) and as a person is told of it."""
    if not checked.height:
        return changes
    of_items = scattered(constant(False, changes.items.height), checked["item"].drop_nulls(), True)
    place = filtered(changes.cells, gathered(of_items, changes.cells["item"]))
    texts = {"item": place["item"], "field": place["field"].cast(pl.String), "value": place["after"]}
    table = checked.hstack(
        [checked["rule"].alias("check"), gathered(changes.items["sheet"], checked["item"]).alias("row")]
    )
    table = table.join(pl.DataFrame(texts), on=["item", "field"], how="left", maintain_order="left")
    flags = conform(table, FLAGS_SCHEMA)
    groups = flags.group_by("check", "field", "done", maintain_order=True).len()
    flag_columns = [
        FindingSummary(name, name, [] if field is None else [field], times, CHECKS[name].does, done, CHECKS[name].do)
        for name, field, done, times in groups.iter_rows()
    ]
    counts = msgspec.structs.replace(changes.header.counts, flags=flags.height)
    header = msgspec.structs.replace(changes.header, counts=counts, findings=[*changes.header.findings, *flag_columns])
    return replace(changes, header=header, flags=flags)
