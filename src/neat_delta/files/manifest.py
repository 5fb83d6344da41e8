"""The manifest of a folder of update files: its names, its seal, whether all in the folder is as `write` wrote it."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import msgspec

from neat_delta.core.base.model.manifest import Manifest
from neat_delta.core.base.support.errors import FileError, OutputError
from neat_delta.files.journal import is_of_delivery
from neat_delta.files.readme import read_me
from neat_delta.files.whole import digest_of, read_whole

__all__ = ["MANIFEST", "NOT_EMPTY", "READ_ME", "read_manifest", "seal", "why_not_ours"]

MANIFEST, READ_ME = "manifest.json", "READ-ME-FIRST.txt"

NOT_EMPTY = "the folder is not empty. Name another, or add ‹replace› if all in it came from `write`."


def read_manifest(folder: str, *, is_input: bool = True) -> Manifest:
    """The manifest of a folder that `write_updates` made; OutputError when there is none, or its seal is broken. Where
    it is no input (it is looked at to know whether it is one), the folder may be replaced afterwards.
    """
    path = Path(folder) / MANIFEST
    try:
        data = read_whole(str(path)) if is_input else path.read_bytes()
        manifest, as_written = msgspec.json.decode(data, type=Manifest), msgspec.json.decode(data)
    except (FileError, OSError, msgspec.MsgspecError):
        raise OutputError(f"{folder}: this is no folder that `neat-delta write` made; it has no {MANIFEST}.") from None
    # Of what stands there, and not of what is known by now: an earlier version said less.
    if manifest.blake3 != _digest(as_written | {"blake3": ""}):
        raise OutputError(
            f"{folder}/{MANIFEST}: its seal is broken: it is not as `neat-delta write` wrote it. "
            "Write the files anew, and use that folder."
        )
    return manifest


def seal(manifest: Manifest) -> str:
    """The digest of a manifest without its seal."""
    return _digest(msgspec.structs.replace(manifest, blake3=""))


def _digest(unsealed: Manifest | dict[str, Any]) -> str:
    return digest_of(msgspec.json.encode(unsealed))


def why_not_ours(folder: Path) -> str | None:
    """Why a folder is not to be replaced; None where all in it was written by `write_updates`, and is as it was."""
    try:
        manifest = msgspec.json.decode((folder / MANIFEST).read_bytes(), type=Manifest)
        digests = {file.file: file.blake3 for file in manifest.update + manifest.undo}
        digests[READ_ME] = digest_of(read_me(manifest).encode())
        files = {file.name: file for file in folder.iterdir() if file.name != MANIFEST}
        other = [name for name in sorted(files) if digests.get(name) != digest_of(files[name].read_bytes())]
    except (OSError, msgspec.MsgspecError):
        return NOT_EMPTY
    if other and is_of_delivery(other[0]):
        return f"it was delivered, and {other[0]} in it says what went. Name another folder, or move it."
    if other:
        return (
            f"{other[0]} in it is not as `write` wrote it, and may be somebody's work. Name another folder, or move it."
        )
    return None
