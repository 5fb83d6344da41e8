"""What a folder of update files holds and what it leaves out, as a plain value."""

from __future__ import annotations

import msgspec

from neat_delta.core.catalogue import Source
from neat_delta.core.changes import HeldCount
from neat_delta.core.importer import Importer

__all__ = ["FORMAT", "VERSION", "Listed", "Manifest", "OutFile"]

FORMAT = "neat-delta updates"
VERSION = 1


class OutFile(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """A file of the folder: its name, rows, changed cells, headings, and the BLAKE3 digest of its bytes."""

    file: str
    rows: int
    cells: int
    fields: list[str]
    blake3: str


class Listed(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """A change that is named in the manifest with a reason; no field means the whole item."""

    key: dict[str, str]
    field: str | None
    reason: str


class Manifest(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """What the folder holds, in import order, and what it leaves out.

    `held_before` counts what the change set already holds, by reason; `held` lists the
    cells that this importer cannot take; `one_way` what the undo files cannot take back.
    """

    format: str
    version: int
    live: Source
    sheet: Source
    importer: Importer
    update: list[OutFile]
    undo: list[OutFile]
    held_before: list[HeldCount]
    held: list[Listed]
    one_way: list[Listed]
