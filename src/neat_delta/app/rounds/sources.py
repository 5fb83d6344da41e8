"""The files of a round: fetched once, kept as they came, and looked at before anything is made of them.

Rule: what was kept is what is compared, written and proven, also when the round goes on days later.
"""

from __future__ import annotations

from collections.abc import Sequence
from contextlib import nullcontext
from dataclasses import dataclass
from fnmatch import fnmatchcase
from pathlib import Path, PurePath

import msgspec

from neat_delta.app.forms import seconds_of
from neat_delta.app.rounds.file import Limits, RoundFile, RoundSheet
from neat_delta.core.base.model.catalogue import Catalogue
from neat_delta.core.base.model.header import Header
from neat_delta.core.base.model.layout import Layout
from neat_delta.core.base.model.rounds import InputRole, KeptInput
from neat_delta.core.base.model.store import Store
from neat_delta.core.base.support.errors import NeatDeltaError, OutputError
from neat_delta.files.basefile import base_file_of, read_base, with_base
from neat_delta.files.ledger.folder import RoundFolder
from neat_delta.files.mappingfile import read_mapping
from neat_delta.files.reading import read, read_later
from neat_delta.files.sources import not_older_than
from neat_delta.files.sources.address import is_address
from neat_delta.files.sources.fetch import fetch, newest_of
from neat_delta.files.whole import digest_of, load, loaded

__all__ = [
    "RoundInputs",
    "SourceError",
    "changed_since",
    "fetch_live",
    "fetch_sources",
    "last_live_of",
    "must_be_believable",
    "read_kept",
    "read_kept_later",
    "read_sources",
    "with_rows",
]


class SourceError(NeatDeltaError):
    """A source is not what a round may be made of: too old, empty, much smaller than the last time, or the same."""


@dataclass(frozen=True, slots=True)
class RoundInputs:
    """The files of a round, read: live, and each sheet with the export that it was cut from (None: none was named, or
    the sheet remembers it). Rules on live have no sheet.
    """

    live: Catalogue
    sheets: tuple[Catalogue | None, ...]
    bases: tuple[Catalogue | None, ...]


def fetch_live(file: RoundFile, folder: RoundFolder) -> KeptInput:
    """Fetch the store's export, and keep it; FileError where it cannot be had, or is older than may be."""
    return _fetched(file, folder, "live", file.at.live)


def fetch_sources(file: RoundFile, folder: RoundFolder) -> list[KeptInput]:
    """Fetch all files of a round, and keep a copy of each."""
    kept = [fetch_live(file, folder)]
    for sheet in file.sheets:
        if sheet.at.file is not None:
            kept.append(_fetched(file, folder, "sheet", sheet.at.file))
            beside = None if is_address(sheet.at.file) else base_file_of(kept[-1].name)
            if beside is not None:
                kept.append(folder.keep("lookup", f"{sheet.at.file}.base", beside))
        if sheet.at.base not in {None, "last"}:
            kept.append(_fetched(file, folder, "base", str(sheet.at.base)))
    named: list[tuple[InputRole, str | None]] = [("codes", file.at.codes and file.place(file.at.codes))]
    named += [("store", file.store_path)]
    named += [(role, file.place(name)) for sheet in file.sheets for role, name in _described(sheet)]
    kept += [folder.keep(role, name, name) for role, name in dict.fromkeys(named) if name and Path(name).is_file()]
    return kept


def _described(sheet: RoundSheet) -> list[tuple[InputRole, str]]:
    named: list[tuple[InputRole, str | None]] = [("mapping", sheet.at.mapping), ("rules", sheet.at.rules)]
    return [(role, name) for role, name in named if name is not None]


def _fetched(file: RoundFile, folder: RoundFolder, role: InputRole, name: str) -> KeptInput:
    """Fetch one file and keep it, under its name without what is secret in it."""
    age = file.at.limits.older_than
    with nullcontext() if age is None or role == "base" else not_older_than(seconds_of(age)):
        if is_address(name):
            source = fetch(name)
            return folder.keep(role, source.address, str(source.path))
        place = newest_of(file.place(name))
        return folder.keep_bytes(role, place, load(place).data)


def read_sources(
    file: RoundFile,
    folder: RoundFolder,
    kept: Sequence[KeptInput],
    store: Store | None,
    last_live: tuple[str, bytes] | None,
) -> RoundInputs:
    """Read the files of a round as they are kept; `last_live` is the export of the round before, where one is asked
    for and there was one.
    """
    layout = store.file.layout if store else None
    live = read_kept(folder, next(entry for entry in kept if entry.role == "live"), layout)
    _must_be_same_files(file, kept)
    of_sheets = iter([entry for entry in kept if entry.role == "sheet"])
    of_bases = iter([entry for entry in kept if entry.role == "base"])
    remembered = {entry.name: entry for entry in kept if entry.role == "lookup"}
    sheets, bases = list[Catalogue | None](), list[Catalogue | None]()
    for sheet in file.sheets:
        base = None
        if sheet.at.base == "last" and last_live is not None:
            base = read(loaded(*last_live), layout)
        elif sheet.at.base not in {None, "last"}:
            entry = next(of_bases)
            base = read_base(loaded(entry.name, folder.unpacked(entry)), layout, live)
        bases.append(base)
        if sheet.at.file is None:
            sheets.append(None)
            continue
        described = read_mapping(file.place(sheet.at.mapping)).file if sheet.at.mapping else None
        catalogue = read_kept(folder, next(of_sheets), sheet.at.layout or described, like=live)
        memory = remembered.get(f"{sheet.at.file}.base")
        if memory is not None and catalogue.memory is None and catalogue.origin is None:
            catalogue = with_base(catalogue, folder.unpacked(memory), memory.name, needed=base is None)
        sheets.append(catalogue)
    return RoundInputs(live, tuple(sheets), tuple(bases))


def _must_be_same_files(file: RoundFile, kept: Sequence[KeptInput]) -> None:
    """OutputError where the round file names other files by now than those that were kept, wherever it is called from,
    and wherever all of it was moved to.
    """
    named = [sheet.at.file for sheet in file.sheets if sheet.at.file is not None]
    had = [entry.name for entry in kept if entry.role == "sheet"]
    bases = [sheet for sheet in file.sheets if sheet.at.base not in {None, "last"}]
    live = _folder_before(next(entry.name for entry in kept if entry.role == "live"), file.at.live)
    folders = [_folder_before(old, name) for old, name in zip(had, named, strict=False) if not is_address(name)]
    if (
        len(named) != len(had)
        or len(bases) != sum(entry.role == "base" for entry in kept)
        or None in folders
        or len({*folders, *([] if live is None or is_address(file.at.live) else [live])} - {ANYWHERE}) > 1
    ):
        raise OutputError(
            f"{file.path}: it names other sheets than this round was begun with ({', '.join(had) or 'none'}). ‹close› "
            "it, and begin another."
        )


ANYWHERE = ("",)
"""Where a path is said in full."""


def _folder_before(path: str, name: str) -> tuple[str, ...] | None:
    """The folder from which on a path is what a round file calls `name` (whose last part may be a pattern); None where
    it is not.
    """
    if PurePath(name).is_absolute():
        return ANYWHERE if path == name or fnmatchcase(path, name) else None
    parts, known = PurePath(name).parts, PurePath(path).parts
    begin = len(known) - len(parts)
    same = begin >= 0 and all(
        end == part or fnmatchcase(end, part) for end, part in zip(known[begin:], parts, strict=True)
    )
    return known[:begin] if same else None


def read_kept(
    folder: RoundFolder, kept: KeptInput, layout: Layout | None, *, like: Catalogue | None = None
) -> Catalogue:
    """A file of a round as it is kept, read under the name that it came by."""
    return read(loaded(kept.name, folder.unpacked(kept)), layout, like=like)


def read_kept_later(
    folder: RoundFolder, kept: KeptInput, store: Store | None, before: Catalogue, header: Header
) -> Catalogue:
    """A later export of the store as it is kept, under the name that it came by; `before` is the one that the change
    set of this `header` is of.
    """
    layout = store.file.layout if store is not None else Layout()
    return read_later(loaded(kept.name, folder.unpacked(kept)), layout, before, header.key_headings)


def must_be_believable(limits: Limits, kept: Sequence[KeptInput], before: Sequence[KeptInput]) -> None:
    """SourceError where a source of a round is empty, has much fewer rows than the last time (`before`), or is the same
    as then where it may not be. Each has its rows with it.
    """
    now, then = ([entry for entry in files if entry.role in {"live", "sheet"}] for files in (kept, before))
    known = then if [entry.role for entry in then] == [entry.role for entry in now] else [None] * len(now)
    for entry, old in zip(now, known, strict=True):
        if not entry.rows:
            raise SourceError(
                f"{entry.name}: it has no rows, so something went wrong where it was made. Ask for a new one."
            )
        if old is not None and old.rows and entry.rows < old.rows * (100 - limits.smaller) / 100:
            raise SourceError(
                f"{entry.name}: it has {entry.rows:,} rows, and had {old.rows:,} the last time; more than "
                f"{limits.smaller} % are missing. Look whether it is whole; [limits] smaller says how many may be."
            )
        if old is not None and limits.unchanged == "stop" and old.blake3 == entry.blake3:
            raise SourceError(
                f"{entry.name}: it is the same as the last time, byte for byte, so perhaps nobody made a new one. "
                '[limits] unchanged = "go on" lets that pass.'
            )


def with_rows(kept: Sequence[KeptInput], inputs: RoundInputs) -> list[KeptInput]:
    """The files of a round, live and its sheets with how many rows they have."""
    rows = iter([inputs.live.height, *(entry.height for entry in inputs.sheets if entry is not None)])
    return [
        msgspec.structs.replace(entry, rows=next(rows)) if entry.role in {"live", "sheet"} else entry for entry in kept
    ]


def changed_since(file: RoundFile, kept: Sequence[KeptInput]) -> list[str]:
    """The sheets of a round that are other files by now than were kept, of those that stand on this machine."""
    names = [sheet.at.file for sheet in file.sheets if sheet.at.file is not None]
    sheets = [entry for entry in kept if entry.role == "sheet"]
    return [
        file.place(name) for name, entry in zip(names, sheets, strict=True)
        if not is_address(name) and Path(file.place(name)).is_file()
        and digest_of(Path(file.place(name)).read_bytes()) != entry.blake3
    ]  # fmt: skip


def last_live_of(folder: RoundFolder | None) -> tuple[str, bytes] | None:
    """The export of a round as it was kept: its name and its bytes; None without a round."""
    kept = [] if folder is None else folder.inputs("live")
    return (kept[0].name, folder.unpacked(kept[0])) if kept and folder is not None else None
