"""A regular delimited text as a source of columns and rows, each read from the file when it is asked for."""

from __future__ import annotations

import os
import threading
from collections.abc import Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import replace
from functools import partial
from itertools import pairwise
from pathlib import PurePath
from typing import TYPE_CHECKING

import polars as pl

from neat_delta.core.base.model.deferred import Cells, DeferredTable
from neat_delta.core.base.support import sizes
from neat_delta.core.base.support.errors import CatalogueError
from neat_delta.core.base.support.progress import counting
from neat_delta.core.base.support.series import constant, gathered, scattered, true_places
from neat_delta.files.parts import Parts
from neat_delta.files.readers.delimited import Text, head_of, text_of
from neat_delta.files.readers.dialect import SAMPLE, Dialect, NotUtf8Error, dialect_of, must_be_text, sample_of
from neat_delta.files.readers.encoding import codec, of_head
from neat_delta.files.readers.records import RecordIndex, index_records, joined
from neat_delta.files.readers.splitting import split

if TYPE_CHECKING:
    from neat_delta.core.base.model.catalogue import Catalogue
    from neat_delta.core.base.model.deferred import RecordSource
    from neat_delta.core.base.model.layout import Layout

__all__ = ["read_deferred"]


class TextRecords:
    """The rows of a file, whose columns go by `names`. What was read is kept; once much was asked for, all is read.
    What a text that is `like` this one has as well (`records.counterparts`) is not read again.
    """

    def __init__(
        self, parts: Parts, names: Sequence[str], dialect: Dialect, records: RecordIndex, like: TextRecords | None
    ) -> None:
        self.names, self.dialect, self.fingerprints = tuple(names), dialect, records.fingerprints.slice(1)
        self._parts, self._bounds, self._like, self._index = parts, records.bounds, like, replace(records, own=b"")
        self._columns: dict[str, pl.Series] = {}
        self._rows = pl.DataFrame(schema=dict.fromkeys(names, pl.String))
        self._place_of = constant(None, self.height, pl.UInt32)
        self._expected: list[str] = []
        self._lock = threading.RLock()
        self._counterparts: pl.Series | None = None
        if like is not None and records.counterparts is not None:
            self._counterparts = records.counterparts.slice(1)
            own = self._own_places()
            if own is not None:
                table = split(records.own, self.names, self.dialect).collect()
                self._keep(own, table.slice(table.height - own.len()))  # the header may be among them
                like.expect(self._counterparts, self._rows)

    @property
    def height(self) -> int:
        """How many rows there are: all records but the header."""
        return self.fingerprints.height

    def select(self, headings: Sequence[str]) -> pl.DataFrame:
        """These columns of all rows."""
        with self._lock:
            unread = [heading for heading in headings if heading not in self._columns]
            most = len(self._columns) + len(unread) > len(self.names) // sizes.COLUMNS_READ_APART
            own = self._own_places() if unread and not most else None
            if own is not None:
                self._columns |= self._shared(unread, own)
            elif unread:
                also = [name for name in self._expected if name not in unread and name not in self._columns]
                table = self._read_columns(list(self.names) if most else [*unread, *also])
                self._columns |= {heading: table[heading] for heading in table.columns}
            return pl.DataFrame([self._columns[heading] for heading in headings])

    def expect(self, counterparts: pl.Series, rows: pl.DataFrame) -> None:
        """Be ready for what is asked of the fields in which a text differs that has all rows but some in common with
        this one: the `counterparts` here, and the `rows` that are its own. Going through the file for one column takes
        nearly as long as for a few.
        """
        own = true_places(scattered(constant(True, self.height), counterparts.drop_nulls(), False))
        if own.len() == rows.height and own.len() * sizes.ROWS_READ_APART <= self.height:
            ours = self.rows(self.names, own)
            differ = [name for name in self.names if not ours[name].hash().sort().equals(rows[name].hash().sort())]
            self._expected = differ if len(differ) <= sizes.COLUMNS_EXPECTED else []

    def index_of_same(self, parts: Parts) -> RecordIndex | None:
        """The records of a file that is the same as this one to the byte; None where it is another."""
        if parts.size != self._parts.size or parts.digest() != self._index.digest:
            return None
        rows = pl.int_range(self.height, dtype=pl.UInt32, eager=True)
        counterparts = pl.concat([pl.Series([None], dtype=pl.UInt32), rows])
        own = parts.part(int(self._bounds[0]), int(self._bounds[1]))  # the header
        return replace(self._index, counterparts=counterparts, own=own)

    def _own_places(self) -> pl.Series | None:
        """The rows that the text like this one lacks, where they are few; None where they are many, or there is none
        like it.
        """
        own = None if self._counterparts is None else true_places(self._counterparts.is_null())
        return None if own is None or own.len() * sizes.ROWS_READ_APART > self.height else own

    def _shared(self, headings: Sequence[str], own: pl.Series) -> dict[str, pl.Series]:
        """Columns as the text like this one has them, with the cells of its own rows among them."""
        assert self._like is not None and self._counterparts is not None
        shared, rows = self._like.select(headings), self.rows(headings, own)
        row_numbers = pl.int_range(self._like.height, self._like.height + own.len(), dtype=pl.UInt32, eager=True)
        places = scattered(self._counterparts, own, row_numbers)
        both = pl.concat([shared, rows]).rechunk()
        return {heading: gathered(both[heading], places) for heading in headings}

    def _read_columns(self, headings: list[str]) -> pl.DataFrame:
        """These columns, piece by piece."""
        import numpy as np

        steps = np.arange(self._bounds[0], self._bounds[-1], sizes.BYTES_SCANNED_AT_ONCE)
        cuts = [*np.unique(np.searchsorted(self._bounds[:-1], steps)).tolist(), self._bounds.size - 1]
        with ThreadPoolExecutor(os.cpu_count()) as pool:
            spans = [(int(self._bounds[a]), int(self._bounds[b])) for a, b in pairwise(cuts)]
            count = counting(PurePath(self._parts.path).name, "bytes", self._parts.size)
            tables = []
            for (_, end), table in zip(spans, pool.map(partial(self._read_piece, headings), spans), strict=True):
                tables.append(table)
                count(end)
        return pl.concat(tables, rechunk=len(headings) < len(self.names)).slice(1)  # gathered faster from one piece

    def _read_piece(self, headings: list[str], span: tuple[int, int]) -> pl.DataFrame:
        return split(self._parts.part(*span), self.names, self.dialect).select(headings).collect()

    def rows(self, headings: Sequence[str], places: pl.Series) -> pl.DataFrame:
        """These columns of the rows at these places; null where the place is."""
        with self._lock:
            if all(heading in self._columns for heading in headings):
                return gathered(self.select(headings), places)
            places = places.cast(pl.UInt32)
            known = gathered(self._place_of, places)
            unread = places.filter(known.is_null() & places.is_not_null()).unique().sort()
            if (self._rows.height + unread.len()) * sizes.ROWS_READ_APART > self.height:
                return gathered(self.select(self.names)[list(headings)], places)
            if unread.len():
                self._read_rows(unread)
                known = gathered(self._place_of, places)
            return gathered(self._rows[list(headings)], known)

    def _read_rows(self, places: pl.Series) -> None:
        import numpy as np

        text = joined(self._parts, self._bounds, places.to_numpy().astype(np.int64) + 1)
        self._keep(places, split(text, self.names, self.dialect).collect())

    def _keep(self, places: pl.Series, table: pl.DataFrame) -> None:
        """Remember these rows, at these places."""
        row_numbers = pl.int_range(self._rows.height, self._rows.height + table.height, dtype=pl.UInt32, eager=True)
        self._place_of = scattered(self._place_of, places, row_numbers)
        self._rows = pl.concat([self._rows, table]).rechunk()

    def differ(self, other: RecordSource, places: pl.Series, other_places: pl.Series) -> pl.Series | None:
        """Of each row here and the one beside it in the other, whether any byte differs; None where the two have other
        columns, or write them otherwise.
        """
        if not isinstance(other, TextRecords) or not self.is_written_as(other.names, other.dialect):
            return None
        ours, theirs = gathered(self.fingerprints, places), gathered(other.fingerprints, other_places)
        return (ours["first"] != theirs["first"]) | (ours["second"] != theirs["second"])

    def is_written_as(self, names: Sequence[str], dialect: Dialect) -> bool:
        """Whether a text with these columns, in this dialect, has the same cells where it has the same bytes."""
        return (self.names, self.dialect) == (tuple(names), dialect)


def read_deferred(parts: Parts, given: Layout, like: Catalogue | None = None) -> tuple[Text, str] | None:
    """A text whose cells are read when they are asked for, and the digest of its file; None where it has to be read as
    a whole: it is not plainly UTF-8 and delimited, is not regular, or most of it is not in the text `like` it.
    """
    begin = parts.part(0, 2 * SAMPLE)
    encoding, mark = of_head(begin)
    as_utf8 = given.encoding is None or codec(given.encoding) == "utf-8"
    if encoding != "utf-8" or not as_utf8 or given.header_line == 0:
        return None
    try:
        must_be_text(begin, parts.path)
        sample = sample_of(begin, parts.path)
        head = head_of(sample, dialect_of(sample, given), parts.path, given, encoding, bom=bool(mark))
    except (CatalogueError, NotUtf8Error):  # which is said where all is read
        return None
    other = None if like is None else _records_of(like.table)
    other = other if other is not None and other.is_written_as(head.names, head.dialect) else None
    fingerprints = None if other is None else other.fingerprints
    records = None if other is None else other.index_of_same(parts)
    if records is None:
        records = index_records(parts, len(mark) + head.start, head.dialect, len(head.names), fingerprints)
    if records is None or records.fingerprints.height < 2:
        return None
    source = TextRecords(parts, head.names, head.dialect, records, other)
    table = DeferredTable(source, dict(zip(head.names, head.names, strict=True)))
    return text_of(table, head, regular=True), records.digest


def _records_of(table: Cells) -> TextRecords | None:
    """The text whose records a catalogue's table is read from, if it is."""
    source = table.source if isinstance(table, DeferredTable) else None
    return source if isinstance(source, TextRecords) else None
