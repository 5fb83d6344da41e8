"""What a folder of update files holds and what it leaves out, as a plain value."""

from __future__ import annotations

import msgspec

from neat_delta.core.model.catalogue import Source
from neat_delta.core.model.changeset import HeldCount
from neat_delta.core.model.importer import Importer
from neat_delta.core.model.update import Action

__all__ = ["FORMAT", "VERSION", "Answered", "CellCounts", "Comment", "Contradiction", "Listed", "Manifest", "OutFile"]

FORMAT = "neat-delta updates"
VERSION = 1


class OutFile(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """A file of the folder: its name, what it is imported for, its rows, the cells that say something, its headings,
    and the BLAKE3 digest of its bytes.
    """

    file: str
    action: Action
    rows: int
    cells: int
    fields: list[str]
    blake3: str


class CellCounts(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """The cells of all update files: those that carry a change, those that name an item, those that the importer wants
    in every row, and those carried along at live's value, as a blank would empty them.
    """

    changed: int
    keys: int
    required: int
    carried: int


class Listed(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """A change that is named in the manifest with a reason; no field means the whole item."""

    key: dict[str, str]
    field: str | None
    reason: str


class Answered(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """A clash that a reviewer let through: the item, the field, and the text that is sent."""

    key: dict[str, str]
    field: str
    after: str


class Contradiction(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """A cell, or a whole item, of which reviewers said different things: each file with its answer."""

    key: dict[str, str]
    field: str | None
    said: list[tuple[str, str]]


class Comment(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """What a reviewer said of an item, or of a cell of it, and the file that it stands in."""

    key: dict[str, str]
    field: str | None
    comment: str
    file: str


class Manifest(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """What the folder holds, in import order, and what it leaves out.

    `key` are the headings of the key, `cells` those of the update files. `held_before` counts what the change set
    already holds, by reason, with what was not signed off; `held` lists what this importer cannot take, `one_way` what
    the undo cannot take back. `answered` lists the clashes that a reviewer let through, `contradictions` where
    reviewers said different things, `comments` what they said besides, and `not_sent` every change that is in none of
    the files, whatever holds it. `blake3` is the seal: the digest of all the rest, as JSON without white space.
    """

    format: str
    version: int
    key: list[str]
    live: Source
    sheet: Source
    importer: Importer
    update: list[OutFile]
    undo: list[OutFile]
    cells: CellCounts
    held_before: list[HeldCount]
    held: list[Listed]
    one_way: list[Listed]
    not_sent: list[Listed]
    answered: list[Answered] = []
    contradictions: list[Contradiction] = []
    comments: list[Comment] = []
    blake3: str = ""
