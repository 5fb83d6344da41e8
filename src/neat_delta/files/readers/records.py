"""The records of a delimited text, told apart without reading them, so that what another file has as well is not read.

A record (a line, or several where a quoted cell has line breaks) has a fingerprint: two hashes of 64 bits of its bytes,
under seeds that are drawn anew for each run, so that nobody can make two records of one. Only text is indexed that
certainly is regular: each record has as many cells as the header, and each quote stands where it may (RFC 4180).
"""

from __future__ import annotations

import os
from collections import deque
from collections.abc import Callable, Generator, Iterator, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from contextlib import closing
from dataclasses import dataclass, replace
from functools import partial
from pathlib import PurePath
from typing import TYPE_CHECKING, TypeVar

import polars as pl
from blake3 import blake3

from neat_delta.core.base.support import sizes
from neat_delta.core.base.support.joins import met_by_hash
from neat_delta.core.base.support.progress import counting
from neat_delta.core.base.support.series import constant, in_one_piece, scattered, true_places
from neat_delta.files.footprint import release_memory
from neat_delta.files.parts import Parts
from neat_delta.files.readers.dialect import Dialect
from neat_delta.files.readers.splitting import split

if TYPE_CHECKING:
    import numpy as np
    from numpy.typing import NDArray

    Offsets = NDArray[np.int64]

__all__ = ["RecordIndex", "columns_of", "index_records", "joined"]

Result = TypeVar("Result")

SEEDS = tuple(int.from_bytes(os.urandom(8), "little") for _ in range(2))
STEP = int.from_bytes(os.urandom(8), "little") | 1
"""What the hash of a record's second line counts times, that of its third twice, and so on; odd, so that all count."""

NO_SEPARATOR = "\0"
"""Stands in no text of a table, so that Polars takes each line for one cell."""


@dataclass(frozen=True, slots=True)
class RecordIndex:
    """Where each record of a file begins (the first is the header) and the last one ends, in bytes; the `fingerprints`
    (`first`, `second`), and for each its place among those of a file like this one (`counterparts`), null where that
    lacks it; the text of those (`own`), unless they are many; and the digest of the file. There are no counterparts
    where few have one.
    """

    bounds: Offsets
    fingerprints: pl.DataFrame
    counterparts: pl.Series | None
    own: bytes
    digest: str


def index_records(
    parts: Parts,
    start: int,
    dialect: Dialect,
    width: int,
    others: pl.DataFrame | None = None,
    *,
    sparing: bool = False,
) -> RecordIndex | None:
    """The records of a file whose header begins at `start`; None where it is not certain that it is regular. `others`
    are those of a regular file of the same dialect and width: None, too, where most records of its beginning are not
    among them. Where quotes are many, reading all of it takes less time, and None says so, unless `sparing` memory is
    what counts.
    """
    import numpy as np

    marks = dialect.separator + dialect.quote
    if dialect.escape or dialect.end not in ("\n", "\r\n") or not marks.isascii() or len(dialect.separator) != 1:
        return None
    hasher = blake3(max_threads=blake3.AUTO)
    pieces, known = _pieces(parts, start, dialect, width, hasher), list[_PieceIndex]()
    count = counting(PurePath(parts.path).name, "bytes", parts.size)
    work = partial(_index_piece, dialect=dialect, width=width, checked=others is None, sparing=sparing)
    with closing(_in_parallel(pieces, work)) as piece_indexes:
        for piece in piece_indexes:
            if piece is None or (not known and others is not None and _is_unlike(piece.fingerprints, others)):
                return None
            known.append(piece)
            count(piece.end)
    if not known:
        return None
    bounds = np.concatenate([*(piece.starts for piece in known), np.array([known[-1].end])])
    fingerprints = in_one_piece(pl.concat([piece.fingerprints for piece in known]))
    del known
    if sparing:
        release_memory()
    index = RecordIndex(bounds, fingerprints, None, b"", hasher.hexdigest())
    return index if others is None else _beside(index, others, parts, dialect, width, sparing=sparing)


def _beside(
    index: RecordIndex, others: pl.DataFrame, parts: Parts, dialect: Dialect, width: int, *, sparing: bool
) -> RecordIndex | None:
    """An index with the counterparts of its records among `others`; None where one that has none is not regular."""
    counterparts = _counterparts(index.fingerprints, others)
    missing = true_places(counterparts.is_null())
    is_few, own = missing.len() * sizes.ROWS_READ_APART <= counterparts.len(), list[bytes]()
    is_kept = is_few and missing.len() <= sizes.ROWS_KEPT
    end = dialect.end.encode()
    for text in _in_pieces(parts, index.bounds, missing.to_numpy()):
        if _index_piece(text.removesuffix(end) + end, 0, dialect, width, sparing=sparing) is None:
            return None
        own += [text] if is_kept else []
    return replace(index, counterparts=counterparts if is_few else None, own=b"".join(own))


def _in_pieces(parts: Parts, bounds: Offsets, places: Offsets) -> Iterator[bytes]:
    """These records, one after the other, no more at once than a piece has."""
    import numpy as np

    ends = np.cumsum(bounds[places + 1] - bounds[places])
    for group in np.split(places, np.flatnonzero(np.diff(ends // sizes.BYTES_OF_A_PIECE)) + 1):
        if group.size:
            yield joined(parts, bounds, group)


@dataclass(frozen=True, slots=True)
class _PieceIndex:
    """The records of a piece: where each begins in the file and the last one ends, and their fingerprints."""

    starts: Offsets
    end: int
    fingerprints: pl.DataFrame


def columns_of(
    parts: Parts, start: int, names: Sequence[str], dialect: Dialect, wanted: Sequence[str]
) -> tuple[pl.DataFrame, str] | None:
    """The `wanted` columns of a file that is known to be regular and whose header begins at `start`, piece by piece, so
    that no more of it is ever at hand; and the digest of the file. None where it cannot be seen where records end.
    """

    def of_piece(text: bytes, at: int) -> tuple[pl.DataFrame, int] | None:
        if dialect.quote and text.count(dialect.quote.encode()) % 2:  # it was cut inside a quoted cell
            return None
        try:
            return split(text, names, dialect, wanted), at + len(text)
        except pl.exceptions.PolarsError:  # it is another file by now
            return None

    hasher, tables = blake3(max_threads=blake3.AUTO), list[pl.DataFrame]()
    count = counting(PurePath(parts.path).name, "bytes", parts.size)
    with closing(_in_parallel(_pieces(parts, start, dialect, len(names), hasher), of_piece)) as pieces:
        for piece in pieces:
            if piece is None:
                return None
            tables.append(piece[0])
            count(piece[1])
    return (pl.concat(tables).slice(1), hasher.hexdigest()) if tables else None


def _in_parallel(
    pieces: Iterator[tuple[bytes, int]], work: Callable[[bytes, int], Result | None]
) -> Generator[Result | None]:
    """What becomes of each piece, in order; as many pieces at once as there are cores, and no more are at hand."""
    cores = os.cpu_count() or 1
    running: deque[Future[Result | None]] = deque()
    with ThreadPoolExecutor(cores) as pool:
        for text, at in pieces:
            running.append(pool.submit(work, text, at))
            if len(running) > cores:
                yield running.popleft().result()
        while running:
            yield running.popleft().result()


def _pieces(parts: Parts, start: int, dialect: Dialect, width: int, hasher: blake3) -> Iterator[tuple[bytes, int]]:
    """The text in pieces that begin and end with a record, as it seems, and where each begins in the file. Blank lines
    at the end are left out, and a last line has an end.
    """
    hasher.update(parts.part(0, start))
    at, last = start, _end_of_content(parts, start)
    while at < last:
        cut = _cut(parts, at, last, dialect, width)
        text = parts.part(at, cut)
        hasher.update(text)
        yield (text if cut < last else text + dialect.end.encode()), at
        at = cut
    for begin in range(last, parts.size, sizes.BYTES_OF_A_PIECE):
        hasher.update(parts.part(begin, min(begin + sizes.BYTES_OF_A_PIECE, parts.size)))


def _end_of_content(parts: Parts, start: int) -> int:
    """Where the last line ends that is not blank; `start`, where there is none after that."""
    at = parts.size
    while at > start:
        begin = max(start, at - LOOKED_AT)
        text = parts.part(begin, at).rstrip(b"\r\n")
        if text:
            return begin + len(text)
        at = begin
    return start


LOOKED_AT = 1 << 16
"""Among so many bytes at the end of a piece, a line is looked for that certainly is a whole record."""


def _cut(parts: Parts, start: int, last: int, dialect: Dialect, width: int) -> int:
    """Where a record ends, as it seems, some way after this one begins: before a line that has all cells and no quotes;
    without such a line, by the number of quotes before. The `last` end, where nothing shows it.
    """
    stop = start + sizes.BYTES_OF_A_PIECE
    if stop >= last:
        return last
    begin = max(start, stop - LOOKED_AT)
    text = parts.part(begin, stop)
    quote, separator = dialect.quote.encode(), dialect.separator.encode()
    line_end = text.rfind(b"\n")
    while line_end >= 0:
        before = text.rfind(b"\n", 0, line_end)
        line = text[before + 1 : line_end]
        if before >= 0 and not (quote and quote in line) and line.count(separator) == width - 1:
            return begin + before + 1
        line_end = before
    while stop < last:  # a long record, or none without quotes
        text = parts.part(start, stop)
        line_end = text.rfind(b"\n")
        while line_end >= 0 and quote and text.count(quote, 0, line_end) % 2:
            line_end = text.rfind(b"\n", 0, line_end)
        if line_end >= 0:
            return start + line_end + 1
        stop += sizes.BYTES_OF_A_PIECE
    return last


def _index_piece(
    text: bytes, at: int, dialect: Dialect, width: int, *, checked: bool = True, sparing: bool = False
) -> _PieceIndex | None:
    """The records of a piece that begins at this place in the file; None where one of them is not regular, which is
    looked at if it is to be `checked`, where it cannot be seen where they end, or where quotes are too many, unless
    memory is what counts (`sparing`).
    """
    import numpy as np

    if b"\0" in text or not _has_one_line_end(text, dialect):
        return None
    data = np.frombuffer(text, np.uint8)
    try:
        lines = _lines(text)
    except pl.exceptions.PolarsError:  # no UTF-8
        return None
    lengths = lines.str.len_bytes().cast(pl.Int64).to_numpy() + len(dialect.end)
    ends = np.cumsum(lengths)
    if not ends.size or ends[-1] != data.size:
        return None
    starts, hashes = ends - lengths, [lines.hash(seed).to_numpy() for seed in SEEDS]
    quotes = np.flatnonzero(data == ord(dialect.quote)) if dialect.quote else np.array([], np.int64)
    are_many = quotes.size * sizes.BYTES_A_QUOTE > max(data.size, sizes.BYTES_OF_A_PIECE)
    if quotes.size % 2 or (are_many and not sparing):
        return None
    if quotes.size:
        first = np.flatnonzero(np.searchsorted(quotes, starts) % 2 == 0)
        if first.size < starts.size:
            line = np.arange(starts.size) - np.repeat(first, np.diff(np.append(first, starts.size)))
            powers = np.cumprod(np.append(np.uint64(1), np.full(int(line.max()), STEP, np.uint64)), dtype=np.uint64)
            hashes = [np.add.reduceat(hash_ * powers[line], first) for hash_ in hashes]
            starts = starts[first]
    if checked and not _is_regular(data, starts, quotes, dialect, width):
        return None
    end = at + data.size - len(dialect.end)
    return _PieceIndex(starts + at, end, pl.DataFrame({"first": hashes[0], "second": hashes[1]}))


def _has_one_line_end(text: bytes, dialect: Dialect) -> bool:
    """Whether each line ends as the dialect says: Polars leaves a CR out that stands before a LF."""
    if dialect.end == "\n":
        return b"\r" not in text
    return text.count(b"\r\n") == text.count(b"\r") == text.count(b"\n")


def _lines(text: bytes) -> pl.Series:
    lines = pl.read_csv(
        text,
        has_header=False,
        schema={"line": pl.String},
        separator=NO_SEPARATOR,
        quote_char=None,
        empty_string_is_null=False,
    )
    return lines.to_series().rechunk()


def _is_regular(data: NDArray[np.uint8], starts: Offsets, quotes: Offsets, dialect: Dialect, width: int) -> bool:
    """Whether each record has so many cells, and each quote opens a cell, closes it, or is doubled."""
    import numpy as np

    separators = _Counter(data == ord(dialect.separator))
    counts = np.diff(separators.before(np.append(starts, data.size)))
    if quotes.size:
        is_end = np.isin(np.arange(256), [ord(dialect.separator), 10, 13])
        opening, closing_ = quotes.reshape(-1, 2).T
        doubled = opening[1:] == closing_[:-1] + 1
        opens, closes = opening[np.append(True, ~doubled)], closing_[np.append(~doubled, True)]
        if not ((is_end[data[opens - 1]] | (opens == 0)).all() and is_end[data[closes + 1]].all()):
            return False
        inside = separators.before(closing_) - separators.before(opening)
        np.subtract.at(counts, np.searchsorted(starts, opening, side="right") - 1, inside)
    return bool((counts == width - 1).all())


class _Counter:
    """How often something is true before any place: bits counted 64 at a time."""

    def __init__(self, mask: NDArray[np.bool_]) -> None:
        import numpy as np

        bits = np.packbits(mask, bitorder="little")
        self.words = np.append(bits, np.zeros(-bits.size % 8 + 8, np.uint8)).view(np.uint64)
        self.sums = np.append(0, np.cumsum(np.bitwise_count(self.words), dtype=np.int64))

    def before(self, places: Offsets) -> Offsets:
        """How often it is true before each of these places."""
        import numpy as np

        word, rest = places >> 6, (places & 63).astype(np.uint64)
        low = self.words[word] & ((np.uint64(1) << rest) - np.uint64(1))
        counts: Offsets = self.sums[word] + np.bitwise_count(low)
        return counts


def _is_unlike(fingerprints: pl.DataFrame, others: pl.DataFrame) -> bool:
    """Whether most records of the first piece of a file are not among those of another, as a glance shows."""
    if fingerprints.height < sizes.RECORDS_AT_A_GLANCE:
        return False
    glance = fingerprints["first"].gather_every(fingerprints.height // sizes.RECORDS_AT_A_GLANCE)
    return int(others["first"].is_in(glance.implode()).sum()) * 2 < glance.n_unique()


def _counterparts(fingerprints: pl.DataFrame, others: pl.DataFrame) -> pl.Series:
    """The place of each record among others, any of them where several are the same; null where it is not there."""
    if fingerprints.equals(others):
        return pl.int_range(fingerprints.height, dtype=pl.UInt32, eager=True)
    ours, theirs = fingerprints.with_row_index("place"), others.with_row_index("counterpart")
    if others["first"].n_unique() < others.height:  # blank rows by the thousand, in both
        theirs = theirs.unique(["first", "second"], keep="any")
    met = met_by_hash(ours, theirs, ["first", "second"])
    return scattered(constant(None, fingerprints.height, pl.UInt32), met["place"], met["counterpart"])


def joined(parts: Parts, bounds: Offsets, places: Offsets) -> bytes:
    """These records, by their places in ascending order, one after the other. Where they lie close to each other they
    are taken out of pieces of the file: asking the system for each by itself takes longer then.
    """
    import numpy as np

    texts = bytearray()
    begins, ends = bounds[places], bounds[places + 1]
    for group in np.split(np.arange(places.size), np.flatnonzero(np.diff(begins // sizes.BYTES_OF_A_PIECE)) + 1):
        if group.size and ends[group[-1]] - begins[group[0]] > group.size * sizes.BYTES_A_RECORD_APART:
            texts += b"".join([parts.part(int(begins[at]), int(ends[at])) for at in group])
        elif group.size:
            begin = int(begins[group[0]])
            view = memoryview(parts.part(begin, int(ends[group[-1]])))
            spans = zip((begins[group] - begin).tolist(), (ends[group] - begin).tolist(), strict=True)
            texts += b"".join([view[a:b] for a, b in spans])  # no more of the file is kept
    return bytes(texts)
