"""A draft of a round file, from an earlier change set and the folder that was made of it."""

from __future__ import annotations

import os
from pathlib import Path
from typing import Any

import tomlkit

from neat_delta.core.base.model.changeset import ChangeSet
from neat_delta.core.base.model.manifest import Manifest
from neat_delta.core.base.model.rounds import KeptInput
from neat_delta.core.base.support.errors import ChangeSetError
from neat_delta.files.changeset import read_changes
from neat_delta.files.ledger.folder import STEPS, RoundFolder
from neat_delta.files.manifest import MANIFEST, read_manifest
from neat_delta.files.rounds import changes_of, folders_of
from neat_delta.files.sources.address import is_address
from neat_delta.report.settings import as_options

__all__ = ["draft_round_file"]


def draft_round_file(source: str, path: str) -> str:
    """The text of a round file that would do again what the change set at `source`, or the folder of update files
    there, did: as far as these show it, which the draft says. Paths are from the folder of `path` on.

    ChangeSetError where live or the sheet came from standard input, as nothing can be fetched from there again.
    """
    manifest = read_manifest(source) if (Path(source) / MANIFEST).is_file() else None
    name = source if manifest is None else changes_of(source, manifest)
    changes = read_changes(name)
    if manifest is None:
        rounds = [entry for entry in folders_of(changes.digest, name) if entry.manifest.purpose == "update"]
        manifest = rounds[-1].manifest if rounds else None
    header, kept = changes.header, _kept(name)
    if "-" in {header.live.path, header.sheet.path}:
        raise ChangeSetError(f"{name}: it was made of standard input, which is not there again. Draft it from another.")
    document = tomlkit.document()
    document.add(tomlkit.comment(f"A round, drafted from {Path(source).name}. Read it through, then:"))
    document.add(tomlkit.comment(as_options(f"  neat-delta run {Path(path).name} ‹print›")))
    document.add("version", tomlkit.item(1))
    document.add("live", tomlkit.item(_from(path, header.live.path)))
    document.add("folder", tomlkit.item("rounds"))
    store = manifest.store if manifest else None
    if store is not None and Path(store.name).name != "neat-delta.toml":
        document.add("store", tomlkit.item(_from(path, store.name)))
    document.add(tomlkit.nl())
    document.add("sheet", _sheet(changes, kept, path))
    write = _write(manifest)
    if write:
        document.add("write", tomlkit.item(write))
    limits = tomlkit.table()
    limits.add("held", "stop")
    limits["held"].comment('or "send the rest"')
    most = max(changes.items.height * 2, 10)
    limits.add("most_items", most)
    limits["most_items"].comment(f"this round had {changes.items.height:,}")
    document.add("limits", limits)
    for lines in (
        ("[sign_off]", "wanted = true"),
        ("[deliver]", 'to = ["polled"] # a folder, a server, the web, a table'),
        (
            "[tell]",
            'smtp = "smtps://mail.quillfern.example"',
            'sender = "prices@quillfern.example"',
            'to = ["anna@quillfern.example"]',
        ),
    ):  # fmt: skip
        document.add(tomlkit.nl())
        for line in lines:
            document.add(tomlkit.comment(line))
    return tomlkit.dumps(document)


def _kept(changes: str) -> list[KeptInput]:
    """The files of a round that is kept, where the change set stands in its folder."""
    folder = Path(changes).parent
    return RoundFolder(folder, 0).inputs() if (folder / STEPS).is_file() else []


def _from(path: str, name: str) -> str:
    """A path from the folder of the round file on."""
    return name if is_address(name) else os.path.relpath(name, Path(path).parent or ".")


def _sheet(changes: ChangeSet, kept: list[KeptInput], path: str) -> Any:  # noqa: ANN401 - of tomlkit
    """The sheet, with what the change set shows of how it was read and let through."""
    header, entries = changes.header, tomlkit.aot()
    entry = tomlkit.table()
    named = {entry.role: entry.name for entry in kept}
    if header.by_rules:
        entry.add("rules", _from(path, named.get("rules", "rules.toml")))
    else:
        entry.add("file", _from(path, header.sheet.path))
        if "mapping" in named:
            entry.add("mapping", _from(path, named["mapping"]))
        elif header.matched_by or header.rules:
            entry.add(
                tomlkit.comment('mapping = "…"  # it was a list: which description it had, the change set does not say')
            )
        if "rules" in named:
            entry.add("rules", _from(path, named["rules"]))
        if header.base is not None and not header.remembered:
            entry.add("base", "last")
    items, sent = changes.items, changes.sent()
    verdicts = items.filter(items["held"].is_null())["verdict"]
    settings: dict[str, object] = {
        "accept": [str(each) for each in header.accepted],
        "with_new_values": header.new_values,
        "add_field": header.unseen,
        "repair": header.counts.repaired > 0,
        "with_new": bool((verdicts == "new").any()),
        "whole": bool((items["verdict"] == "gone").any()),
        "with_gone": bool((verdicts == "gone").any()),
        "blanks": "clear" if ((sent["after"] == "") & (sent["before"] != "")).any() else "",
    }
    for name, value in settings.items():
        if value:
            entry.add(name, value)
    entries.append(entry)
    return entries


def _write(manifest: Manifest | None) -> dict[str, object]:
    """What `write` was asked for, where it was not what it does by itself."""
    if manifest is None:
        return {}
    settings: dict[str, object] = {}
    if manifest.store is None:
        settings["importer_blanks"] = manifest.importer.blanks
    if manifest.most_files != 8:
        settings["most_files"] = manifest.most_files
    if manifest.file_cost != 20:
        settings["file_cost"] = manifest.file_cost
    if manifest.whole:
        settings["whole_catalogue"] = True
    return settings
