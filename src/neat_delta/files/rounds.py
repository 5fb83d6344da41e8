"""The folder of a round: which one a change set was written into, and whether its files are still as they were written.

Rule: what a round was made for goes with its folder. A folder of another change set, or one that takes back, is
refused; where none is named, the one is taken that was made of this change set, the last of its turns.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

import msgspec

from neat_delta.core.base.model.changeset import ChangeSet
from neat_delta.core.base.model.manifest import Manifest, StoreFile
from neat_delta.core.base.model.store import Store
from neat_delta.core.base.support.errors import OutputError
from neat_delta.files.changeset import digest_in
from neat_delta.files.manifest import MANIFEST, read_manifest
from neat_delta.files.whole import digest_of, read_whole

if TYPE_CHECKING:
    from neat_delta.core.outcomes.confirm import TakenBack

__all__ = [
    "Round",
    "are_older",
    "changes_of",
    "edited_files",
    "fields_of_round",
    "folders_of",
    "handed_over",
    "must_be_as_written",
    "round_of",
    "same_store",
    "store_file",
    "undone_since",
    "with_importer",
]


@dataclass(frozen=True, slots=True)
class Round:
    """A folder of update files with its manifest, and whether nobody named it."""

    folder: str
    manifest: Manifest
    by_digest: bool = False


def round_of(changes: ChangeSet, path: str, folder: str | None) -> Round | None:
    """The folder that the change set at `path` was written into: the one that was told, or the last turn of those that
    stand beside it or in the working folder. None where there is none; OutputError where it is another one's, where it
    takes back, and where there are several and none goes on from all the others.
    """
    if folder is not None:
        manifest = read_manifest(folder)
        if manifest.purpose == "undo":
            raise OutputError(
                f"{folder}: its files take a change set back. Name the folder that `write` made, or the last that "
                "`confirm` wrote with ‹retry›."
            )
        if manifest.changes != changes.digest:
            raise OutputError(
                f"{folder}: it was written for another change set than {path} (for one of {manifest.live.path} and "
                f"{manifest.sheet.path}, as they were then). Name the folder that was made of this one, or write it "
                "anew."
            )
        return Round(folder, manifest)
    rounds = [round_ for round_ in folders_of(changes.digest, path) if round_.manifest.purpose != "undo"]
    if not rounds:
        return None
    seals = {round_.manifest.blake3 for round_ in rounds}
    last = [round_ for round_ in rounds if seals <= {*round_.manifest.before, round_.manifest.blake3}]
    if not last:
        names = ", ".join(round_.folder for round_ in rounds)
        raise OutputError(
            f"{path}: several folders were made of it: {names}. Name the one that was imported (‹files›)."
        )
    return Round(last[-1].folder, read_manifest(last[-1].folder), by_digest=True)


def fields_of_round(changes: ChangeSet, path: str, folder: str | None) -> set[str] | None:
    """The fields of live that a round can have changed, and those that its importer wants beside them, where nobody
    looks at an export; None: all of them, or nobody knows. Of an item that comes, or goes, all is needed. OutputError
    as `round_of`, which has the parameters.
    """
    from neat_delta.core.updates.plan import fields_needed  # which a comparison has no need of

    counts = changes.header.counts
    round_ = None if counts.new or counts.gone else round_of(changes, path, folder)
    return None if round_ is None else fields_needed(changes, round_.manifest.importer, whole=round_.manifest.whole)


def changes_of(folder: str, manifest: Manifest) -> str:
    """The change set that a folder was made of: beside it, or in the working folder. OutputError where none is there,
    as nobody can tell then what was meant.
    """
    for parent in dict.fromkeys((Path(folder).parent, Path())):
        for path in sorted(parent.glob("*.jsonl")):
            if manifest.changes and digest_in(str(path)) == manifest.changes:
                return str(path)
    raise OutputError(
        f"{folder}: the change set that it was made of is not beside it, and not here. Say where the "
        "change set is now (`changes`), and name this folder with it."
    )


def folders_of(digest: str, path: str) -> list[Round]:
    """The folders beside the change set at `path`, and in the working folder, that were made of the one of this
    digest.
    """
    here, beside = Path(), Path(path).parent
    out: dict[Path, Round] = {}
    for parent in dict.fromkeys((here, beside)) if digest and path != "-" else ():
        try:
            folders = sorted(path_in for path_in in parent.iterdir() if (path_in / MANIFEST).is_file())
        except OSError:  # nobody may look into it
            continue
        for folder in folders:
            try:
                manifest = read_manifest(str(folder), is_input=False)
            except OutputError:
                continue
            if manifest.changes == digest:
                out.setdefault(folder.resolve(), Round(str(folder), manifest, by_digest=True))
    return list(out.values())


def edited_files(round_: Round, *, undo: bool = False) -> list[str]:
    """The update files of a folder (or its undo files) that are not as they were written; one that is not there any
    more was perhaps handed over, and is no edited one.
    """
    files = round_.manifest.undo if undo else round_.manifest.update
    files_there = [file for file in files if (Path(round_.folder) / file.file).is_file()]
    return [
        file.file for file in files_there if digest_of(read_whole(str(Path(round_.folder) / file.file))) != file.blake3
    ]


def handed_over(round_: Round) -> bool:
    """Whether an update file of what `write` made is not there any more: moved, perhaps, to where it is imported."""
    files = round_.manifest.update
    return round_.manifest.purpose == "update" and not all(
        (Path(round_.folder) / file.file).is_file() for file in files
    )


def are_older(reports: Sequence[str], round_: Round) -> bool:
    """Whether all these reports were last changed before the folder was written, so that they tell of an earlier
    import. Of what is no file of this machine nobody knows.
    """
    try:
        changed = [Path(report).stat().st_mtime_ns for report in reports]
    except (OSError, ValueError):
        return False
    return bool(changed) and max(changed) + CLOCK_STEP < _written(round_)


def undone_since(round_: Round) -> TakenBack | None:
    """The undos that were written after this folder, beside it or in the working folder, for it or for an earlier turn
    of its round, and have files; None where there is none.
    """
    from neat_delta.core.outcomes.confirm import TakenBack

    turns = {*round_.manifest.before, round_.manifest.blake3}
    undos = [
        other for other in folders_of(round_.manifest.changes, round_.folder)
        if other.manifest.purpose == "undo" and turns & {*other.manifest.before}
        and other.manifest.update and _written(other) >= _written(round_)
    ]  # fmt: skip
    stay = [
        {(tuple(entry.key.values()), entry.field) for entry in (*listed.left, *listed.held, *listed.not_sent)}
        for listed in (other.manifest for other in undos)
    ]
    return TakenBack(tuple(other.folder for other in undos), frozenset(set.intersection(*stay))) if undos else None


def _written(round_: Round) -> int:
    """When a folder was written, in nanoseconds; 0 where nobody can tell."""
    try:
        return (Path(round_.folder) / MANIFEST).stat().st_mtime_ns
    except OSError:
        return 0


CLOCK_STEP = 2_000_000_000
"""Nanoseconds: no file system has the time of a file less exactly."""


def must_be_as_written(round_: Round, what: str, *, undo: bool = False) -> None:
    """OutputError where an update file was edited since it was written: `what` cannot be done then."""
    edited = edited_files(round_, undo=undo)
    if edited:
        raise OutputError(
            f"{round_.folder}/{edited[0]}: it was edited since `write` made it, so what it says was never planned, and "
            f"{what}. Write the files anew into another folder; what is to be otherwise is said in the sheet."
        )


def store_file(path: str | None) -> StoreFile | None:
    """What a manifest says of the store file at this path."""
    return None if path is None else StoreFile(path, digest_of(read_whole(path)))


def same_store(round_: Round, path: str | None) -> bool:
    """Whether the store file at this path is the one that the folder was written with, as it was then."""
    known = round_.manifest.store
    return (known is None and path is None) or (
        known is not None and path is not None and known.blake3 == digest_of(read_whole(path))
    )


def with_importer(round_: Round | None, store: Store) -> Store:
    """A store with the importer that the folder was made for: what it was then, and as it was used."""
    return store if round_ is None else msgspec.structs.replace(store, importer=round_.manifest.importer)
