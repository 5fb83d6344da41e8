"""What a folder of update files holds and what it leaves out, as a plain value."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal

import msgspec

from neat_delta.core.base.model.catalogue import Source
from neat_delta.core.base.model.changeset import HeldCount
from neat_delta.core.base.model.importer import Importer
from neat_delta.core.base.model.layout import Layout
from neat_delta.core.base.model.update import Action

__all__ = [
    "FORMAT",
    "VERSION",
    "Answered",
    "CellCounts",
    "Comment",
    "Contradiction",
    "Listed",
    "Manifest",
    "OutFile",
    "Purpose",
    "Rebased",
    "StoreFile",
    "Turn",
]

FORMAT = "neat-delta updates"
VERSION = 1

Purpose = Literal["update", "retry", "undo"]
"""What a folder is for: what a change set sends, what did not land of an earlier folder, what takes all of it back."""


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


class Rebased(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """A cell that was sent again as a step from where it stood by then: the item, the field, the text there and the
    text that was meant.
    """

    key: dict[str, str]
    field: str
    before: str
    after: str


class StoreFile(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """The store file that the files were made with: its name and the BLAKE3 digest of its bytes."""

    name: str
    blake3: str


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
    """What the folder holds, in import order, what it was made for, and what it leaves out.

    `key` are the headings of the key, `cells` those of the update files. `held_before` counts what the change set
    already holds, by reason, with what was not signed off; `held` lists what this importer cannot take, `one_way` what
    the undo cannot take back. `answered` lists the clashes that a reviewer let through, `contradictions` where
    reviewers said different things, `comments` what they said besides, and `not_sent` every change of the round that is
    in none of its files, with the reason.

    `purpose` is what the files are for: `update`, `retry` (what did not land of an earlier folder) or `undo`. `changes`
    is the digest of the change set that the round is of ("" where it was in no file), `store` the store file, `shop`
    which store that describes, `importer` the importer as it was used, with `most_files`, `file_cost` and `whole`.
    `before` are the seals of the earlier folders of the round, the first one first; a retry has all of the first one's
    `not_sent` and `answered`, and says in `left` what it leaves alone, and in `rebased` what it sends as a step from
    another text than the change set has. `layout` is how delimited files of the round look, those of later turns, too.
    `blake3` is the seal: the digest of all the rest, as JSON without white space.
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
    purpose: Purpose = "update"
    changes: str = ""
    store: StoreFile | None = None
    shop: str | None = None
    most_files: int = 8
    file_cost: int = 20
    whole: bool = False
    before: list[str] = []
    left: list[Listed] = []
    rebased: list[Rebased] = []
    layout: Layout | None = None
    blake3: str = ""


@dataclass(frozen=True, slots=True)
class Turn:
    """What a folder is written for, besides its change set: its purpose, the digest of the round's change set, the
    store file; and of a later turn the manifest that it goes on from, what it leaves alone, and the steps that it sends
    from another text.
    """

    purpose: Purpose = "update"
    changes: str = ""
    store: StoreFile | None = None
    earlier: Manifest | None = None
    left: Sequence[Listed] = ()
    rebased: Sequence[Rebased] = ()
