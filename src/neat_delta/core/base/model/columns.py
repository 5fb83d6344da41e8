"""Which heading of a sheet stands for which field: as it was said, and as it came out."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from dataclasses import dataclass
from typing import Literal

import msgspec

__all__ = ["ColumnMapping", "ColumnMatch", "ColumnOptions", "How"]

How = Literal[
    "told",
    "same name",
    "same but for case and marks",
    "in the store file",
    "ignored",
    "not asked for",
    "not described",
    "unmatched",
]


class ColumnMapping(msgspec.Struct, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """What a person says of a sheet's headings: the field that each stands for, and those to ignore."""

    headings: dict[str, str] = {}
    ignore: list[str] = []


class ColumnMatch(msgspec.Struct, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """A heading of the sheet, the field it stands for (None where it is left out), and why.

    `nearest` is the field whose name comes nearest to an unmatched heading: a suggestion for a person, used for
    nothing; or the one that a heading would stand for that was left out as somebody said. `column` is where it stands
    in the file, from 1.
    """

    heading: str
    field: str | None
    how: How
    nearest: str | None = None
    column: int = 0


@dataclass(frozen=True, slots=True)
class ColumnOptions:
    """What is said of columns: the `key` fields (none: the store file's, or the heading that is plainly the SKU); which
    headings mean which fields, as a person says (`mapping`); the `only` fields that are wanted (none: all); those in
    which every difference of text counts (`exact`); and fields that the store has though its export lacks them
    (`added`).
    """

    key: Sequence[str] = ()
    mapping: ColumnMapping | None = None
    only: Collection[str] = ()
    exact: Collection[str] = ()
    added: Sequence[str] = ()
