"""What the steps of a round note in the ledger, for whoever keeps one: each in the folder of the round that it is of.

Rule: a step finds its round by the digest of the change set or the seal of the folder that it goes by; never by a name.
"""

from __future__ import annotations

import contextlib
from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING

import msgspec

from neat_delta.core.base.model.history import BETWEEN
from neat_delta.core.base.model.manifest import Manifest
from neat_delta.core.base.model.rounds import InputRole, KeptInput, RoundStep
from neat_delta.core.base.support.errors import NeatDeltaError, OutputError
from neat_delta.core.outcomes.unsent import as_sent
from neat_delta.core.review.waiting import sent_cells, waiting_counts
from neat_delta.files.changeset import read_changes
from neat_delta.files.ledger.cells import CellOutcome, write_outcomes
from neat_delta.files.ledger.folder import CHANGES, RoundFolder
from neat_delta.files.ledger.ledger import Ledger
from neat_delta.files.manifest import MANIFEST
from neat_delta.files.sources import cache
from neat_delta.files.sources.address import is_address
from neat_delta.files.whole import digest_of, read_whole, write_whole

if TYPE_CHECKING:
    from neat_delta.app.confirm import Outcome
    from neat_delta.core.base.model.catalogue import Source
    from neat_delta.core.base.model.changeset import ChangeSet
    from neat_delta.core.base.model.history import SetLater
    from neat_delta.core.outcomes.landings import Landing

__all__ = [
    "changes_in",
    "kept_of",
    "live_in",
    "must_have_gone",
    "must_have_undo",
    "note_compared",
    "note_comparison",
    "note_delivered",
    "note_outcome",
    "note_undone",
    "note_written",
    "restored",
    "sent_in",
    "set_later",
]

Files = Sequence[tuple[InputRole, str]]


def kept_of(folder: RoundFolder, role: InputRole, source: Source) -> KeptInput:
    """Keep a copy of a file as it was compared: where it still is, or is in the cache; its digest only, where not."""
    place = None if is_address(source.path) or source.path == "-" else Path(source.path)
    data = b""
    for path in (cache.cached(source.blake3), place):
        if path is not None and path.is_file():
            with contextlib.suppress(NeatDeltaError):
                data = read_whole(str(path))
                if digest_of(data) == source.blake3:
                    return folder.keep_bytes(role, source.path, data, rows=source.rows)
    return KeptInput(role, source.path, source.blake3, 0, source.rows)


def restored(folder: RoundFolder, kept: KeptInput) -> str:
    """The path of a file that is kept, as it was, in the cache; FileError where it is not kept any more."""
    return str(cache.put(folder.unpacked(kept), kept.blake3))


def changes_in(folder: RoundFolder) -> str:
    """The path of a round's change set; OutputError where it has none."""
    files = [step.file for step in folder.steps() if step.step == "compared"]
    if not files:
        raise OutputError(
            f"Round {folder.number} has no change set, as it came no further than its files. Name another."
        )
    return folder.place(files[-1])


def sent_in(folder: RoundFolder) -> str:
    """The last folder of what a round sent; OutputError where it sent nothing."""
    folders = [step.folder for step in folder.steps() if step.step == "written"]
    if not folders:
        raise OutputError(f"Round {folder.number} sent nothing, so there is nothing to take back. Name another.")
    return folder.place(folders[-1])


def must_have_gone(folder: RoundFolder) -> None:
    """OutputError where a round was given up, or failed, before any of its files went anywhere."""
    summary = folder.summary()
    if summary.state in {"closed", "failed"} and not summary.sent:
        raise OutputError(
            f"Round {folder.number} was given up before its files went anywhere, as far as was noted: taken back as if "
            "it had landed, it would undo what others did. If somebody imported them, say with ‹now› what stands there."
        )


def live_in(folder: RoundFolder) -> str:
    """The path of a round's live catalogue as it was then, in the cache; OutputError where it is not kept any more."""
    kept = folder.inputs("live")
    if not kept:
        raise OutputError(f"Round {folder.number} has no live catalogue: it was broken off before. Begin another.")
    if kept[0].kept is None or not Path(folder.place(kept[0].kept)).is_file():
        raise OutputError(
            f"Round {folder.number}: {kept[0].name} is not kept any more as it was then. Name a copy with ‹live›; "
            f"or import the undo files in {folder.path}, which take back all of the round whatever stands there by now."
        )
    return restored(folder, kept[0])


def set_later(ledger: Ledger, digest: str, left: Sequence[Landing]) -> list[SetLater]:
    """What rounds after the one of the change set of this digest set of what an undo leaves alone."""
    from neat_delta.core.base.model.history import SetLater

    round_ = ledger.find(digest)
    if round_ is None:
        return []
    cells = [(BETWEEN.join(landing.key.values()), landing.field) for landing in left if landing.field is not None]
    with ledger.index() as index:
        later = index.later(cells, round_.number)
    return [SetLater(cell.key.split(BETWEEN), cell.field, cell.number, cell.day, cell.after) for cell in later]


def note_comparison(ledger: Ledger, path: str, files: Files = (), by: str = "compare") -> RoundFolder:
    """Begin a round of the change set at this path, with copies of what it was made of, and of `files` besides. Where
    the ledger has that change set already, it is that round.
    """
    changes = read_changes(path)
    known = ledger.find(changes.digest)
    return known if known is not None else note_compared(ledger.begin(by), changes, read_whole(path), files)


def note_compared(folder: RoundFolder, changes: ChangeSet, content: bytes, files: Files = ()) -> RoundFolder:
    """Keep a change set (`content` is its file's) in a round that began, with copies of what it was made of."""
    header = changes.header
    inputs = [kept_of(folder, "live", header.live)]
    if not header.by_rules:
        inputs.append(kept_of(folder, "sheet", header.sheet))
    if header.base is not None and not header.remembered:
        inputs.append(kept_of(folder, "base", header.base))
    inputs += [folder.keep(role, name, name) for role, name in files if Path(name).is_file()]
    folder.note(RoundStep("", "fetched", inputs=inputs))
    write_whole(folder.place(CHANGES), [content])
    folder.note(compared_step(changes, CHANGES, [] if header.by_rules else [header.sheet.path]))
    return folder


def compared_step(changes: ChangeSet, file: str, sheets: Sequence[str]) -> RoundStep:
    """The step of a comparison: the change set, what was compared, and how much is to be sent, and held."""
    counts = waiting_counts(changes)
    cells = sent_cells(changes)
    figures = {"items": counts["to_send"], "cells": cells, "held": changes.header.counts.held_cells}
    return RoundStep("", "compared", sheets=list(sheets), changes=changes.digest, file=file, counts=figures)


def note_written(ledger: Ledger, folder: str, manifest: Manifest, changes: str, files: Files = ()) -> RoundFolder:
    """Keep a copy of a folder of update files in its round, which begins now if nothing was noted of it before."""
    round_ = ledger.find(manifest.changes) or note_comparison(ledger, changes, by="write")
    if any(step.seal == manifest.blake3 for step in round_.steps()):
        return round_
    inputs = [round_.keep(role, name, name) for role, name in files if Path(name).is_file()]
    copied = round_.copy_folder(folder, "out")
    round_.note(written_step(read_changes(changes_in(round_)), manifest, copied, inputs))
    ledger.drop_old()
    return round_


def written_step(changes: ChangeSet, manifest: Manifest, folder: str, inputs: Sequence[KeptInput] = ()) -> RoundStep:
    """The step of writing: the folder, its seal, and of how many cells something is sent."""
    sent = as_sent(changes, manifest)
    counts = {"sent": sent_cells(sent), "items": waiting_counts(sent)["to_send"]}
    return RoundStep("", "written", inputs=list(inputs), folder=folder, seal=manifest.blake3, counts=counts)


def note_delivered(ledger: Ledger, manifest: Manifest, to: str, changes: str | None = None) -> RoundFolder | None:
    """Note that all of a folder arrived at an address (without what is secret in it)."""
    round_ = ledger.find(manifest.blake3) or ledger.find(manifest.changes)
    if round_ is None and changes is not None:
        round_ = note_comparison(ledger, changes, by="deliver")
    if round_ is not None:
        round_.note(RoundStep("", "delivered", to=to, seal=manifest.blake3))
    return round_


def note_outcome(ledger: Ledger, digest: str, outcome: Outcome, files: Files = ()) -> RoundFolder | None:
    """Note what became of the round of the change set of this digest, with copies of what was looked at."""
    round_ = ledger.find(digest)
    if round_ is None:
        return None
    inputs = [round_.keep(role, name, name) for role, name in files if Path(name).is_file()]
    round_.note(confirmed_step(round_, outcome, inputs))
    return round_


def confirmed_step(folder: RoundFolder, outcome: Outcome, inputs: Sequence[KeptInput] = ()) -> RoundStep:
    """Keep what became of each cell; the step that says so."""
    key, seen = outcome.sent.keys.columns, outcome.seen is not None
    table = outcome.to_frame()
    done = {"landed"} if seen else {"done", "warned"}
    others, landed, away = list[CellOutcome](), 0, 0
    for row in table.select(*key, "field", "outcome", "said").iter_rows():
        *texts, field, became, reported = row
        word = became if seen else reported
        landed += word in done
        away += word == "taken back"
        if word not in done or not seen:
            others.append(CellOutcome(texts, field, _outcome_words(word, reported, seen=seen)))
    counts = {
        "landed": landed,
        "otherwise": table.height - landed - away,
        "seen": int(seen),
        "all_done": int(outcome.all_done),
    }
    return RoundStep("", "confirmed", inputs=list(inputs), file=write_outcomes(folder, others), counts=counts)


def _outcome_words(word: str | None, reported: str | None, *, seen: bool) -> str:
    """What became of a cell, in words: as an export shows it, or as the store reports it."""
    if not seen:
        return "the store says nothing of it" if word is None else f"reported {word}"
    return f"{word} (reported {reported})" if reported not in {None, "done", "warned"} else str(word)


def note_undone(ledger: Ledger, digest: str, folder: str, manifest: Manifest) -> RoundFolder | None:
    """Keep a copy of a folder that takes back the round of the change set of this digest."""
    round_ = ledger.find(digest)
    if round_ is None or any(step.seal == manifest.blake3 for step in round_.steps()):
        return round_
    copied = round_.copy_folder(folder, "back")
    counts = {"undone": manifest.cells.changed + sum(file.rows for file in manifest.update if file.action != "change")}
    round_.note(RoundStep("", "undone", folder=copied, seal=manifest.blake3, counts=counts))
    return round_


def must_have_undo(ledger: Ledger, folder: str) -> None:
    """OutputError where a folder that is to be replaced has undo files that the ledger has no copy of."""
    try:
        manifest = msgspec.json.decode((Path(folder) / MANIFEST).read_bytes(), type=Manifest)
    except (OSError, msgspec.MsgspecError):  # whoever replaces it says what is wrong with it
        return
    if manifest.undo and ledger.find(manifest.blake3) is None:
        raise OutputError(
            f"{folder}: the ledger in {ledger.folder} has no copy of its undo files, so it is not replaced: nobody "
            "could take back then what it sent. Name another folder, or move this one elsewhere."
        )
