"""The cells of a round as its folder has them: what each was to become, by what, and what became of it."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from pathlib import Path

import msgspec
import polars as pl

from neat_delta.core.base.model.changeset import ChangeSet
from neat_delta.core.base.model.history import BETWEEN, LANDED, SENT, WRITTEN, RoundCell
from neat_delta.core.base.model.manifest import Listed, Manifest
from neat_delta.core.base.model.rounds import RoundState, RoundStep, RoundSummary, summary_of
from neat_delta.core.outcomes.unsent import as_sent
from neat_delta.files.changeset import read_changes
from neat_delta.files.ledger.folder import RoundFolder
from neat_delta.files.manifest import MANIFEST, read_manifest
from neat_delta.files.whole import read_whole, write_whole

__all__ = ["CellOutcome", "cells_of_round", "code_changes_of_round", "write_outcomes"]

WAITS, GIVEN_UP, PERHAPS = "waits", "given up", "perhaps sent"
PLANNED: dict[RoundState, str] = {"waits": WAITS, "closed": GIVEN_UP, "failed": GIVEN_UP}
"""What is said of cells of which no file was written, where it is another thing than that they are to be sent."""


class CellOutcome(msgspec.Struct, frozen=True, array_like=True):
    """What became of a cell that was sent, where that is another thing than that it landed: its key, its field (null:
    the item), and what became of it.
    """

    key: list[str]
    field: str | None
    outcome: str


def write_outcomes(folder: RoundFolder, outcomes: Sequence[CellOutcome]) -> str:
    """Keep what became of the cells that did not simply land; the name of the file."""
    names = (f"outcomes-{number}.jsonl" for number in range(1, 10_000))
    name = next(name for name in names if not (folder.path / name).exists())
    write_whole(folder.place(name), (msgspec.json.encode(outcome) + b"\n" for outcome in outcomes))
    return name


def cells_of_round(folder: RoundFolder, steps: Sequence[RoundStep]) -> Iterator[RoundCell]:
    """The cells of a round, as its files have them now."""
    compared = [step.file for step in steps if step.step == "compared" and step.file]
    if not compared or not (folder.path / compared[-1]).is_file():
        return
    changes = read_changes(folder.place(compared[-1]))
    sent = [step for step in steps if step.step == "written" and step.folder]
    manifest = None if not sent else read_manifest(folder.place(sent[-1].folder))
    rules = _rules(changes)
    changes = changes if manifest is None else as_sent(changes, manifest)
    outcomes = _outcomes(folder, steps)
    taken_back = _taken_back(folder, steps)
    sent_now = _words_of(summary_of(folder.number, folder.name, steps), written=manifest is not None)
    if any(step.step == "confirmed" and step.counts.get("seen") for step in steps):
        sent_now = LANDED
    keys = [BETWEEN.join(key) for key in changes.keys.iter_rows()]
    item_held = changes.items["held"].to_list()

    def state(item: int, field: str | None, held: str | None) -> tuple[str, bool]:
        why = item_held[item] or held
        if why is not None:
            return why, False
        key = keys[item]
        return outcomes.get((key, field), sent_now), taken_back is not None and (key, field) not in taken_back

    for item, verdict in enumerate(changes.items["verdict"]):
        if verdict in {"new", "gone"}:
            yield RoundCell(keys[item], "", None, verdict, "", *state(item, None, None))
    columns = (
        changes.cells["item"],
        changes.cells["field"].cast(pl.String),
        *changes.cells[["before", "after", "held"]],
    )
    for item, field, before, after, held in zip(*columns, strict=True):
        yield RoundCell(keys[item], field, before, after, rules.get((item, field), ""), *state(item, field, held))


def _words_of(round_: RoundSummary, *, written: bool) -> str:
    """What became of the cells of a round that are not held, as far as its steps say."""
    if not written:
        return PLANNED.get(round_.state, "to be sent")
    if round_.delivered:
        return SENT
    if round_.state in {"closed", "failed"}:
        return PERHAPS if round_.sent else GIVEN_UP
    return {"waits": WAITS, "delivering": PERHAPS}.get(round_.state, WRITTEN)


def code_changes_of_round(cells: Sequence[RoundCell], key: Sequence[str]) -> list[tuple[str, str]]:
    """The old and the new code of each item that got one; of keys of several fields none."""
    if len(key) != 1:
        return []
    return [(cell.key, cell.after) for cell in cells if cell.field == key[0] and cell.before and cell.after]


def _rules(changes: ChangeSet) -> dict[tuple[int, str], str]:
    """The name of the last rule by which each computed cell came about."""
    names = [rule.rule for rule in changes.header.rules]
    steps = changes.computed.select("item", pl.col("field").cast(pl.String), "rule")
    return {(item, field): names[rule] for item, field, rule in steps.iter_rows()}


def _outcomes(folder: RoundFolder, steps: Sequence[RoundStep]) -> dict[tuple[str, str | None], str]:
    """What became of the cells that did not simply land, when somebody looked last."""
    files = [step.file for step in steps if step.step == "confirmed" and step.file]
    if not files or not (folder.path / files[-1]).is_file():
        return {}
    lines = read_whole(folder.place(files[-1])).splitlines()
    outcomes = [msgspec.json.decode(line, type=CellOutcome) for line in lines]
    return {(BETWEEN.join(outcome.key), outcome.field): outcome.outcome for outcome in outcomes}


def _taken_back(folder: RoundFolder, steps: Sequence[RoundStep]) -> set[tuple[str, str | None]] | None:
    """What no undo took back, where there was one; None where there was none."""
    left: set[tuple[str, str | None]] | None = None
    for step in steps:
        if step.step == "undone" and step.folder and (Path(folder.place(step.folder)) / MANIFEST).is_file():
            manifest: Manifest = read_manifest(folder.place(step.folder))
            stays = {_place(outcome) for outcome in (*manifest.left, *manifest.held, *manifest.not_sent)}
            left = stays if left is None else left & stays
    return left


def _place(listed: Listed) -> tuple[str, str | None]:
    return BETWEEN.join(listed.key.values()), listed.field
