"""A table of which only what is asked for is read: some columns, some rows, or all of it."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Protocol, overload

import polars as pl

__all__ = ["Cells", "DeferredTable", "RecordSource", "frame_of", "narrowed"]


class RecordSource(Protocol):
    """A file of which columns and rows can be read by themselves. Columns go by headings, rows by places."""

    @property
    def height(self) -> int:
        """How many rows there are."""
        ...

    @property
    def is_shared(self) -> bool:
        """Whether most rows are taken over from a file like this one, and not read again."""
        ...

    def select(self, headings: Sequence[str]) -> pl.DataFrame:
        """These columns of all rows."""
        ...

    def rows(self, headings: Sequence[str], places: pl.Series) -> pl.DataFrame:
        """These columns of the rows at these places; null where the place is."""
        ...

    def row_hashes(self, headings: Sequence[str], also: Sequence[str] = ()) -> pl.Series:
        """64 bits of hash of these columns of each row, as of a table at hand (`support.series.row_hashes`). The
        columns `also` stay at hand: they will be asked for next.
        """
        ...

    def differ(self, other: RecordSource, places: pl.Series, other_places: pl.Series) -> pl.Series | None:
        """Of each row here and the one beside it in the other, whether any byte differs; None where the two are not
        written alike, so that the bytes say nothing of the cells.
        """
        ...


@dataclass(frozen=True, slots=True)
class DeferredTable:
    """Columns of a file by the names of the fields that they are (`headings`: name to heading); as much of a data frame
    as a catalogue needs.
    """

    source: RecordSource
    headings: Mapping[str, str]

    @property
    def columns(self) -> list[str]:
        """The fields, in their order."""
        return list(self.headings)

    @property
    def height(self) -> int:
        """How many rows there are."""
        return self.source.height

    @overload
    def __getitem__(self, wanted: str) -> pl.Series: ...

    @overload
    def __getitem__(self, wanted: list[str]) -> DeferredTable: ...

    def __getitem__(self, wanted: str | list[str]) -> pl.Series | DeferredTable:
        """A field of all rows; or the table with these fields alone, in this order, of which nothing is read yet."""
        if isinstance(wanted, str):
            return self[[wanted]].frame()[wanted]
        return DeferredTable(self.source, {name: self.headings[name] for name in wanted})

    def frame(self) -> pl.DataFrame:
        """All rows."""
        return self._named(self.source.select(list(self.headings.values())))

    def rows(self, places: pl.Series) -> pl.DataFrame:
        """The rows at these places; null where the place is."""
        return self._named(self.source.rows(list(self.headings.values()), places))

    def row_hashes(self, names: Sequence[str], also: Sequence[str]) -> pl.Series:
        """64 bits of hash of these fields of each row. The fields `also` stay at hand: they will be asked for next."""
        return self.source.row_hashes([self.headings[name] for name in names], [self.headings[name] for name in also])

    def rename(self, names: Mapping[str, str]) -> DeferredTable:
        """The table with other names for some fields."""
        return DeferredTable(self.source, {names.get(name, name): heading for name, heading in self.headings.items()})

    def differ(
        self, other: DeferredTable, fields: Sequence[str], places: pl.Series, other_places: pl.Series
    ) -> pl.Series | None:
        """Of each row and the one beside it in another table, whether a cell of these fields may differ: where it says
        no, none does. None where that cannot be told without reading them.
        """
        if any(self.headings[name] != other.headings[name] for name in fields):
            return None
        return self.source.differ(other.source, places, other_places)

    def _named(self, table: pl.DataFrame) -> pl.DataFrame:
        table.columns = self.columns
        return table


Cells = pl.DataFrame | DeferredTable
"""A table of texts, or what reads it; either gives a column by its name, and the like of itself by several."""


def narrowed(cells: Cells, names: Sequence[str]) -> Cells:
    """These columns alone, in this order. Of a data frame an empty list would choose rows, none of them."""
    return cells[list(names)] if names or isinstance(cells, DeferredTable) else pl.DataFrame()


def frame_of(cells: Cells) -> pl.DataFrame:
    """All cells as a data frame."""
    return cells.frame() if isinstance(cells, DeferredTable) else cells
