"""A catalogue as a table of texts, with what is known of the file it came from. Reading it is `files`' work."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import msgspec
import polars as pl

__all__ = ["FIRST_ROW", "MARK", "Catalogue", "Source", "stands_in_row"]


class Source(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """The file a catalogue was read from: its path as it was given, the SHA-256 of its bytes, its rows."""

    path: str
    sha256: str
    rows: int


@dataclass(frozen=True, slots=True)
class Catalogue:
    """One row an item, one column a field; every cell is the text that stands in the file, a blank is "".

    `path` names it in messages. `digest` gives the SHA-256 of its bytes; it is called late, as it may still be in
    the making. `unnamed` lists the columns (counted from 1) without a heading: they are no field, and not in `cells`.
    """

    cells: pl.DataFrame
    path: str
    digest: Callable[[], str]
    unnamed: tuple[int, ...] = ()

    @property
    def fields(self) -> list[str]:
        """The headings, in the file's order."""
        return self.cells.columns

    @property
    def source(self) -> Source:
        """The file it was read from, as a change set names it."""
        return Source(self.path, self.digest(), self.cells.height)


MARK = "\0"
"""A column name of our own beside the fields: no heading holds a zero character."""

FIRST_ROW = 2
"""The row number of a table's first item, as a spreadsheet shows it: the header is row 1."""


def stands_in_row(place: pl.Expr) -> pl.Expr:
    """The row number that a spreadsheet shows for the items at these places (counted from 0)."""
    return place.cast(pl.Int64) + FIRST_ROW
