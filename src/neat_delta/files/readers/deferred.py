"""A regular delimited text as a source of columns and rows, each read from the file when it is asked for."""

from __future__ import annotations

import threading
from collections.abc import Callable, Collection, Mapping, Sequence
from functools import partial
from itertools import pairwise
from pathlib import PurePath
from typing import TYPE_CHECKING

import polars as pl

from neat_delta.core.base.model.deferred import Cells, DeferredTable
from neat_delta.core.base.support import sizes
from neat_delta.core.base.support.errors import CatalogueError
from neat_delta.core.base.support.progress import counting
from neat_delta.core.base.support.series import constant, gathered, in_one_piece, row_hashes, scattered, true_places
from neat_delta.core.base.support.workers import engaged
from neat_delta.files.footprint import fits, release_memory
from neat_delta.files.glance import memory_of
from neat_delta.files.parts import Parts
from neat_delta.files.readers.delimited import Head, Text, head_of, text_of
from neat_delta.files.readers.dialect import SAMPLE, Dialect, NotUtf8Error, dialect_of, must_be_text, sample_of
from neat_delta.files.readers.encoding import codec, of_head
from neat_delta.files.readers.records import RecordIndex, bytes_at_once, columns_of, index_records, of_records
from neat_delta.files.readers.splitting import split

if TYPE_CHECKING:
    from neat_delta.core.base.model.catalogue import Catalogue
    from neat_delta.core.base.model.deferred import RecordSource
    from neat_delta.core.base.model.layout import Layout

__all__ = ["read_columns_of", "read_deferred"]

HASHES_ADDED_AS_ONE = 1 << 32
"""So many hashes next to each other count as one in a sum, which has 64 bits as they have."""

HASH = "\0hash"
"""A column beside those of the file: no heading holds a zero character."""


class TextRecords:
    """The rows of a file, whose columns go by `names`. What was read is kept; once much was asked for, all is read.
    What a text that is `like` this one has as well (`records.counterparts`) is not read again. Where it is to be
    `sparing` with memory, what is likely to be asked for is read with the first of it that is.
    """

    def __init__(
        self,
        parts: Parts,
        names: Sequence[str],
        dialect: Dialect,
        records: RecordIndex,
        like: TextRecords | None,
        *,
        sparing: bool = False,
    ) -> None:
        self.names, self.dialect, self.height = tuple(names), dialect, records.fingerprints.height - 1
        self._parts, self._bounds, self._digest, self._sparing = parts, records.bounds, records.digest, sparing
        self._most_kept = sizes.ROWS_KEPT if sparing else self.height
        self._fingerprints: pl.DataFrame | None = records.fingerprints
        self._columns: dict[str, pl.Series] = {}
        self._forget_rows()
        self._expected: list[str] = []
        self._hashes: dict[tuple[str, ...], pl.Series] = {}
        self._lock = threading.RLock()
        self._like: TextRecords | None = None
        if like is not None and records.counterparts is not None:
            self._like, self._counterparts, self._fingerprints = like, records.counterparts.slice(1), None
            own = self._own_places()
            if records.own:
                table = split(records.own, self.names, self.dialect)
                self._keep(own, table.slice(table.height - own.len()))  # the header may be among them
            like.expect(self._counterparts, own.len(), self._sums(own))

    @property
    def is_shared(self) -> bool:
        """Whether most rows are taken over from the text like this one."""
        return self._like is not None

    @property
    def fingerprints(self) -> pl.DataFrame | None:
        """Those of all rows; None where another has the same rows, and theirs."""
        return None if self._fingerprints is None else self._fingerprints.slice(1)

    def select(self, headings: Sequence[str]) -> pl.DataFrame:
        """These columns of all rows."""
        with self._lock:
            unread = [heading for heading in headings if heading not in self._columns]
            most = len(self._columns) + len(unread) > len(self.names) // sizes.COLUMNS_READ_APART
            if unread and not most and self.is_shared:
                self._columns |= self._shared(unread)
            elif unread:
                is_time = not self._sparing or not {*unread}.isdisjoint(self._expected)
                expected = self._expected if is_time else []
                also = [name for name in expected if name not in unread and name not in self._columns]
                table = self._read_columns(list(self.names) if most else [*unread, *also])
                self._columns |= {heading: table[heading] for heading in table.columns}
            return pl.DataFrame([self._columns[heading] for heading in headings])

    def row_hashes(self, headings: Sequence[str], also: Sequence[str] = ()) -> pl.Series:
        """64 bits of hash of these columns of each row; the columns `also` are kept, as long as all is gone through."""
        with self._lock:
            if all(heading in self._columns for heading in headings):
                return row_hashes(self.select(headings))
            if tuple(headings) not in self._hashes:
                kept = [heading for heading in also if heading not in self._columns]

                hashes = partial(_hashes_beside, of=headings, kept=kept)
                table = in_one_piece(self._by_pieces(list(dict.fromkeys([*headings, *kept])), hashes))
                self._hashes = {tuple(headings): table[HASH]}
                self._columns |= {heading: table[heading] for heading in kept}
            return self._hashes[tuple(headings)]

    def expect(self, counterparts: pl.Series, own_rows: int, sums: Mapping[str, int]) -> None:
        """Be ready for what is asked of the fields in which a text differs that has all rows but some in common with
        this one: the `counterparts` here, and the `sums` of so many rows of its `own`. Going through the file for one
        column takes nearly as long as for a few.
        """
        own = true_places(scattered(constant(True, self.height), counterparts.drop_nulls(), False))
        if own.len() == own_rows and own_rows * sizes.ROWS_READ_APART <= self.height:
            ours = self._sums(own)
            differ = [name for name in self.names if ours[name] != sums[name]]
            self._expected = differ if len(differ) <= sizes.COLUMNS_EXPECTED else []

    def _sums(self, places: pl.Series) -> dict[str, int]:
        """Of each column the hashes of these rows, added up: the same for the same texts in any order."""
        sums = dict.fromkeys(self.names, 0)
        for start in range(0, places.len(), sizes.ROWS_COMPARED_AT_ONCE):
            some = self.rows(self.names, places.slice(start, sizes.ROWS_COMPARED_AT_ONCE))
            sums = {name: total + int((some[name].hash() // HASHES_ADDED_AS_ONE).sum()) for name, total in sums.items()}
        return sums

    def index_of_same(self, parts: Parts) -> RecordIndex | None:
        """The records of a file that is the same as this one to the byte; None where it is another."""
        if self._fingerprints is None or parts.size != self._parts.size or parts.digest() != self._digest:
            return None
        rows = pl.int_range(self.height, dtype=pl.UInt32, eager=True)
        counterparts = pl.concat([pl.Series([None], dtype=pl.UInt32), rows])
        own = parts.part(int(self._bounds[0]), int(self._bounds[1]))  # the header
        return RecordIndex(self._bounds, self._fingerprints, counterparts, own, self._digest)

    def _own_places(self) -> pl.Series:
        """The rows that the text like this one lacks."""
        return true_places(self._counterparts.is_null())

    def _shared(self, headings: Sequence[str]) -> dict[str, pl.Series]:
        """Columns as the text like this one has them, with the cells of its own rows among them."""
        assert self._like is not None
        own = self._own_places()
        shared, rows = self._like.select(headings), self.rows(headings, own)
        row_numbers = pl.int_range(self._like.height, self._like.height + own.len(), dtype=pl.UInt32, eager=True)
        places = scattered(self._counterparts, own, row_numbers)
        both = pl.concat([shared, rows]).rechunk()
        return {heading: gathered(both[heading], places) for heading in headings}

    def _read_columns(self, headings: list[str]) -> pl.DataFrame:
        """These columns of all rows."""
        if len(headings) == len(self.names):
            return self._by_pieces(headings)
        return in_one_piece(self._by_pieces(headings))  # from which it is gathered faster

    def _by_pieces(
        self, headings: list[str], of_piece: Callable[[pl.DataFrame], pl.DataFrame] | None = None
    ) -> pl.DataFrame:
        """These columns, or what becomes of them, piece by piece, of all rows."""
        import numpy as np

        steps = np.arange(self._bounds[0], self._bounds[-1], bytes_at_once(sizes.BYTES_SCANNED_AT_ONCE))
        cuts = [*np.unique(np.searchsorted(self._bounds[:-1], steps)).tolist(), self._bounds.size - 1]
        spans = [(int(self._bounds[a]), int(self._bounds[b])) for a, b in pairwise(cuts)]
        work = partial(_of_span, self._parts, self.names, self.dialect, headings, of_piece)
        count = counting(PurePath(self._parts.path).name, "bytes", self._parts.size)
        tables = list[pl.DataFrame]()
        pieces = engaged().map(work, spans, lambda span: self._rows_of(*span))
        for (_, end), table in zip(spans, pieces, strict=True):
            tables.append(table)
            count(end)
        return pl.concat(tables).slice(1)

    def _rows_of(self, start: int, end: int) -> str:
        """The rows of a piece, as an error names them: the header is the first of the file."""
        first, last = self._bounds.searchsorted([start, end])
        return f"{self._parts.path}, rows {first + 1:,} to {last:,}"

    def rows(self, headings: Sequence[str], places: pl.Series) -> pl.DataFrame:
        """These columns of the rows at these places; null where the place is."""
        with self._lock:
            if all(heading in self._columns for heading in headings):
                return gathered(self.select(headings), places)
            places = places.cast(pl.UInt32)
            known = gathered(self._place_of, places)
            unread = places.filter(known.is_null() & places.is_not_null()).unique().sort()
            if (self._rows.height + unread.len()) * sizes.ROWS_READ_APART > self.height:
                return gathered(self.select(headings), places)
            if unread.len() and self._rows.height + unread.len() > self._most_kept:
                self._forget_rows()
                unread = places.drop_nulls().unique().sort()
            if unread.len() > self._most_kept:
                return gathered(
                    self._read_rows(headings, unread), unread.search_sorted(places).set(places.is_null(), None)
                )
            if unread.len():
                self._keep(unread, self._read_rows(self.names, unread))
                known = gathered(self._place_of, places)
            return gathered(self._rows[list(headings)], known)

    def _read_rows(self, headings: Sequence[str], places: pl.Series) -> pl.DataFrame:
        """These columns of the rows at these places, in ascending order."""
        import numpy as np

        work = partial(split, names=self.names, dialect=self.dialect, wanted=headings)
        records = places.to_numpy().astype(np.int64) + 1
        return pl.concat(of_records(self._parts, self._bounds, records, work), rechunk=True)

    def _forget_rows(self) -> None:
        self._rows = pl.DataFrame(schema=dict.fromkeys(self.names, pl.String))
        self._place_of = constant(None, self.height, pl.UInt32)

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
        if (self._like or self) is (other._like or other):
            ours, theirs = self._origins(places), other._origins(other_places)
            return (ours != theirs).fill_null(value=True)
        if self.fingerprints is None or other.fingerprints is None:
            return None
        before, after = gathered(self.fingerprints, places), gathered(other.fingerprints, other_places)
        return (before["first"] != after["first"]) | (before["second"] != after["second"])

    def _origins(self, places: pl.Series) -> pl.Series:
        """The rows of the text like this one that are the same as these; null where it has none. Of one that was not
        read beside another, these themselves.
        """
        return places if self._like is None else gathered(self._counterparts, places)

    def is_written_as(self, names: Sequence[str], dialect: Dialect) -> bool:
        """Whether a text with these columns, in this dialect, has the same cells where it has the same bytes."""
        return (self.names, self.dialect) == (tuple(names), dialect)


def _of_span(
    parts: Parts,
    names: Sequence[str],
    dialect: Dialect,
    headings: Sequence[str],
    of_piece: Callable[[pl.DataFrame], pl.DataFrame] | None,
    span: tuple[int, int],
) -> pl.DataFrame:
    table = split(parts.part(*span), names, dialect, headings)
    return table if of_piece is None else of_piece(table)


def _hashes_beside(table: pl.DataFrame, of: Sequence[str], kept: Sequence[str]) -> pl.DataFrame:
    """64 bits of hash `of` these columns of each row, beside the columns that are `kept`."""
    hashes = row_hashes(table.select(of)).alias(HASH)
    return pl.DataFrame([hashes, *(table[heading] for heading in kept)])


def read_deferred(parts: Parts, given: Layout, like: Catalogue | None = None) -> tuple[Text, str] | None:
    """A text whose cells are read when they are asked for, and the digest of its file; None where it has to be read as
    a whole: it is not plainly UTF-8 and delimited, or is not regular. What the text `like` it has as well is not read
    again, where that is most of it.
    """
    beginning = _beginning(parts, given)
    if beginning is None:
        return None
    head, start = beginning
    other = None if like is None else _records_of(like.table)
    other = other if other is not None and other.is_written_as(head.names, head.dialect) else None
    sample = parts.part(0, SAMPLE).decode(errors="replace")
    sparing = not fits(memory_of(2 * parts.size, sample))  # with another one like it
    index = partial(index_records, parts, start, head.dialect, len(head.names), sparing=sparing)
    records = None
    if other is not None and other.fingerprints is not None:
        records = other.index_of_same(parts) or index(other.fingerprints)
    if records is None:
        records = index()
    if records is None or records.fingerprints.height < 2:
        return None
    source = TextRecords(parts, head.names, head.dialect, records, other, sparing=sparing)
    if sparing:
        release_memory()
    table = DeferredTable(source, dict(zip(head.names, head.names, strict=True)))
    return text_of(table, head, regular=True), records.digest


def read_columns_of(parts: Parts, given: Layout, only: Collection[str]) -> tuple[Text, str] | None:
    """Only these columns of a text that is known to be regular, and the digest of its file; None where it has to be
    read as a whole: it is not plainly UTF-8 and delimited.
    """
    beginning = _beginning(parts, given)
    if beginning is None:
        return None
    head, start = beginning
    columns = columns_of(parts, start, head.names, head.dialect, [name for name in head.names if name in only])
    return None if columns is None else (text_of(columns[0], head, regular=True, known=True), columns[1])


def _beginning(parts: Parts, given: Layout) -> tuple[Head, int] | None:
    """What the beginning of a text shows, and where its header begins in the file; None where that is not plainly UTF-8
    and delimited.
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
    return head, len(mark) + head.start


def _records_of(table: Cells) -> TextRecords | None:
    """The text whose records a catalogue's table is read from, if it is."""
    source = table.source if isinstance(table, DeferredTable) else None
    return source if isinstance(source, TextRecords) else None
