"""The folder that goes to the store: update files, undo files and the manifest, proven before it gets its name."""

from __future__ import annotations

from pathlib import Path

import msgspec
import polars as pl

from neat_delta.core.catalogue import Catalogue, renamed
from neat_delta.core.changes import ChangeSet
from neat_delta.core.fold import fold, unfold
from neat_delta.core.importer import Importer
from neat_delta.core.layout import Layout
from neat_delta.core.manifest import FORMAT, VERSION, Listed, Manifest, OutFile
from neat_delta.core.proof import prove
from neat_delta.core.update import Plan, Table, plan
from neat_delta.files.delimited import read_text, write_delimited
from neat_delta.files.whole import digest_of, new_folder

__all__ = ["layout_of", "write_updates"]

MANIFEST = "manifest.json"


def write_updates(
    changes: ChangeSet,
    live: Catalogue,
    importer: Importer,
    folder: str,
    *,
    replace: bool = False,
) -> Manifest:
    """Write a change set's update and undo files and their manifest into a new folder, and prove them.

    The files are in live's layout, or CSV where that is no delimited text. They are read back from disk and replayed
    on `live`; the folder gets its name only when that gives the target exactly, and live again. `replace` lets it
    take the place of a folder in which everything was written by this function. Raises ProofError or OutputError;
    then nothing is there.
    """
    planned = plan(changes, live, importer)
    layout = layout_of(live)
    with new_folder(folder, lambda place: replace and _is_ours(place)) as partial:
        manifest = Manifest(
            format=FORMAT,
            version=VERSION,
            live=changes.header.live,
            sheet=changes.header.sheet,
            importer=importer,
            update=_write_tables(partial, "update", planned.update, changes, live, layout),
            undo=_write_tables(partial, "undo", planned.undo, changes, live, layout),
            held_before=changes.reasons(),
            held=_listed(changes, planned, "held"),
            one_way=_listed(changes, planned, "one_way"),
        )
        (partial / MANIFEST).write_bytes(msgspec.json.format(msgspec.json.encode(manifest), indent=2) + b"\n")
        read = {
            file.file: _read_back(partial / file.file, changes, live, layout)
            for file in manifest.update + manifest.undo
        }
        prove(
            live,
            changes,
            planned,
            (read[file.file] for file in manifest.update),
            (read[file.file] for file in manifest.undo),
            importer,
        )
    return manifest


def layout_of(live: Catalogue) -> Layout:
    """The layout of the update files for a catalogue: its own, with nothing above the headings, if that is delimited
    text.
    """
    if live.layout.format != "delimited":
        return Layout(format="delimited", header_line=1)
    return msgspec.structs.replace(live.layout, header_line=1, packing=None)


def _write_tables(
    folder: Path, name: str, tables: tuple[Table, ...], changes: ChangeSet, live: Catalogue, layout: Layout
) -> list[OutFile]:
    files = []
    digits = len(str(len(tables)))
    for number, table in enumerate(tables, 1):
        lines = unfold(table.cells, live.continued.fields) if live.continued else table.cells
        headings = {field: heading for field, heading in changes.header.headings.items() if field in lines.columns}
        lines = lines.rename(headings)
        file = f"{name}-{number:0{digits}}.csv"
        data = write_delimited(lines, layout, f"{name} file {number}")
        (folder / file).write_bytes(data)
        digest = digest_of(data)
        files.append(OutFile(file, lines.height, table.changed, lines.columns, digest))
    return files


def _read_back(file: Path, changes: ChangeSet, live: Catalogue, layout: Layout) -> pl.DataFrame:
    """An update file as it stands on disk, under the names of live's fields."""
    cells = read_text(file.read_bytes(), file.name, layout).cells
    fields = {heading: name for name, heading in changes.header.headings.items()}
    found = renamed(
        Catalogue(cells, file.name, lambda: "", first=2), {h: f for h, f in fields.items() if h in cells.columns}
    )
    return fold(found, changes.header.key, live.continued).cells


def _listed(changes: ChangeSet, planned: Plan, what: str) -> list[Listed]:
    if what == "held":
        rows = planned.held.select("item", "field", "held")
    else:
        rows = planned.one_way.select("item", "field", "reason")
    names = changes.keys.columns
    keys = changes.keys.gather(rows["item"]).iter_rows()
    return [
        Listed(dict(zip(names, key, strict=True)), field, reason)
        for key, (_, field, reason) in zip(keys, rows.iter_rows(), strict=True)
    ]


def _is_ours(folder: Path) -> bool:
    """Whether all that is in a folder was written by `write_updates`, and as it stands there."""
    try:
        manifest = msgspec.json.decode((folder / MANIFEST).read_bytes(), type=Manifest)
        digests = {file.file: file.blake3 for file in manifest.update + manifest.undo}
        there = {file.name: file for file in folder.iterdir()}
        there.pop(MANIFEST)
        return there.keys() == digests.keys() and all(
            digest_of(file.read_bytes()) == digests[name] for name, file in there.items()
        )
    except (OSError, msgspec.MsgspecError):
        return False
