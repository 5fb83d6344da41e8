"""The page that lies in a folder of update files, for whoever does the import."""

from __future__ import annotations

from neat_delta.core.base.model.importer import PATCHES
from neat_delta.core.base.model.manifest import Manifest, OutFile
from neat_delta.core.base.model.reasons import GONE
from neat_delta.core.base.model.update import Action

__all__ = ["read_me"]

PURPOSE: dict[Action, str] = {
    "recode": "gives items their new codes",
    "change": "changes items that are there",
    "add": "adds new items",
    "remove": "removes items",
}


def read_me(manifest: Manifest) -> str:
    """The page for whoever does the import: which file first, what it does, what to answer where the importer asks."""
    importer = manifest.importer
    lines = [
        "READ ME FIRST" if manifest.shop is None else f"READ ME FIRST: for {manifest.shop}",
        "",
        "Import these files, in this order:" if manifest.update else "There is nothing to import.",
    ]
    lines += [f"  {file.file}  {_rows(file)}, {PURPOSE[file.action]}" for file in manifest.update]
    answers = {
        "A blank cell": ""
        if importer.form in PATCHES
        else "clears the field."
        if importer.blanks == "clear"
        else "is left alone (skipped).",
        "Items are found by": f"{', '.join(manifest.key)}.",
        "Items missing in the file": "are left alone."
        if importer.missing == "kept"
        else "are deleted: these files hold the whole catalogue.",
    }
    if importer.form == "delimited" and manifest.update:
        answers["Encoding, separator"] = "as in the files you export, unless your store says otherwise."
    lines += _when_to_stop(manifest)
    if manifest.update:
        lines += ["", "Where the importer asks:"]
        lines += [f"  {question}: {answer}" for question, answer in answers.items() if answer]
        lines += ["", "If it should be taken back, import these in the same way:"]
        lines += [f"  {file.file}  {_rows(file)}, {PURPOSE[file.action]}" for file in manifest.undo] or ["  (nothing)"]
    lines += _left_out(manifest)
    lines += (
        [f"The undo cannot take back {len(manifest.one_way):,} of the changes; manifest.json lists them."]
        if (manifest.one_way)
        else []
    )
    lines += [
        "",
        "Afterwards export the catalogue again, and see whether it landed:",
        "  neat-delta confirm CHANGES EXPORT --files THIS-FOLDER",
    ]
    return "\n".join(lines) + "\n"


def _when_to_stop(manifest: Manifest) -> list[str]:
    """When the files that follow are not to be imported: what is undone stays so, and nothing lands elsewhere."""
    files = manifest.update
    if len(files) < 2:
        return []
    lines = ["", "When to stop:", "  If an import breaks off, leave the other files, and export the catalogue."]
    codes = [file.file for file in files if file.action == "recode"]
    if codes:
        lines.append(f"  If a row of {codes[0]} or a later file of new codes is refused, leave the files after it.")
    adds, removes = ([file.file for file in files if file.action == action] for action in ("add", "remove"))
    if adds and removes:
        lines.append(
            f"  If a row of {adds[-1]} is refused, leave {removes[0]}: it may remove what was to be made anew."
        )
    return [*lines, "  Then: neat-delta confirm CHANGES EXPORT --files THIS-FOLDER --retry FOLDER"]


def _left_out(manifest: Manifest) -> list[str]:
    """What is not in the files: what is held, and the items that the sheet did not have, which nobody asked about."""
    lines = []
    asked = [reason for reason in manifest.held_before if reason.reason != GONE]
    items = sum(reason.items for reason in asked) + sum(unsent.field is None for unsent in manifest.held)
    cells = sum(reason.cells for reason in asked) + sum(unsent.field is not None for unsent in manifest.held)
    if items or cells:
        parts = [
            f"{number:,} {what}{'' if number == 1 else 's'}"
            for number, what in ((items, "item"), (cells, "cell"))
            if number
        ]
        lines += ["", f"Not in these files, because it is held: {' and '.join(parts)}; manifest.json says why."]
    unasked = sum(reason.items for reason in manifest.held_before if reason.reason == GONE)
    if unasked:
        lines += ["", f"Items of the catalogue that the sheet did not have, which stay as they are: {unasked:,}."]
    return lines


def _rows(file: OutFile) -> str:
    return f"{file.rows:,} {'row' if file.rows == 1 else 'rows'}"
