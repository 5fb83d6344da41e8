"""The records of a delimited text, told apart without reading them, so that what another file has as well is not read.

A record (a line, or several where a quoted cell has line breaks) has a fingerprint: two hashes of 64 bits of its bytes,
under seeds that are drawn anew for each run, so that nobody can make two records of one. Only text is indexed that
certainly is regular: each record has as many cells as the header, and each quote stands where it may (RFC 4180).
"""

from __future__ import annotations

import os
from collections.abc import Callable, Generator, Iterable, Iterator, Sequence
from contextlib import closing
from dataclasses import dataclass, replace
from functools import partial
from pathlib import PurePath
from typing import TYPE_CHECKING, NamedTuple, TypeVar

import polars as pl
from blake3 import blake3

from neat_delta.core.base.support import sizes
from neat_delta.core.base.support.joins import met_by_hash
from neat_delta.core.base.support.progress import counting
from neat_delta.core.base.support.series import constant, in_one_piece, scattered, true_places
from neat_delta.core.base.support.workers import engaged
from neat_delta.files.footprint import release_memory
from neat_delta.files.parts import Parts
from neat_delta.files.readers.dialect import Dialect
from neat_delta.files.readers.splitting import split

if TYPE_CHECKING:
    import numpy as np
    from numpy.typing import NDArray

    Offsets = NDArray[np.int64]

__all__ = ["RecordIndex", "bytes_at_once", "columns_of", "index_records", "of_records"]

Result = TypeVar("Result")


class Seeds(NamedTuple):
    """What fingerprints are made with: the seeds of both hashes, and what the hash of a record's second line counts
    times, that of its third twice, and so on; odd, so that all count.
    """

    first: int
    second: int
    step: int


def _drawn() -> int:
    return int.from_bytes(os.urandom(8), "little")


SEEDS = Seeds(_drawn(), _drawn(), _drawn() | 1)
"""Those of this run, wherever its pieces are worked on."""

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
    known, count = list[_PieceIndex](), counting(PurePath(parts.path).name, "bytes", parts.size)
    work = partial(_index_piece, dialect=dialect, width=width, checked=others is None, sparing=sparing, seeds=SEEDS)
    pieces, digest = _by_pieces(parts, start, dialect, width, work)
    with closing(pieces):
        for piece in pieces:
            if piece is None or (not known and others is not None and _is_unlike(piece.fingerprints, others)):
                return None
            known.append(piece)
            count(piece.end)
    if not known:
        return None
    bounds = np.concatenate([*(piece.records["start"] for piece in known), np.array([known[-1].end])])
    fingerprints = in_one_piece(pl.concat([piece.fingerprints for piece in known]))
    del known
    if sparing:
        release_memory()
    index = RecordIndex(bounds, fingerprints, None, b"", digest())
    return index if others is None else _beside(index, others, parts, dialect, width, sparing=sparing)


def _beside(
    index: RecordIndex, others: pl.DataFrame, parts: Parts, dialect: Dialect, width: int, *, sparing: bool
) -> RecordIndex | None:
    """An index with the counterparts of its records among `others`; None where one that has none is not regular."""
    counterparts = _counterparts(index.fingerprints, others)
    missing = true_places(counterparts.is_null())
    is_few, own = missing.len() * sizes.ROWS_READ_APART <= counterparts.len(), list[bytes]()
    is_kept = is_few and (missing.len() <= sizes.ROWS_KEPT or not sparing)
    pieces = of_records(
        parts, index.bounds, missing.to_numpy(), partial(_regular_text, dialect=dialect, width=width, sparing=sparing)
    )
    with closing(pieces):
        for text in pieces:
            if text is None:
                return None
            own += [text] if is_kept else []
    return replace(index, counterparts=counterparts if is_few else None, own=b"".join(own))


def of_records(parts: Parts, bounds: Offsets, places: Offsets, work: Callable[[bytes], Result]) -> Generator[Result]:
    """What becomes of these records, one after the other, no more at once than a piece has."""
    import numpy as np

    begins, ends = bounds[places], bounds[places + 1]
    cuts = np.flatnonzero(np.diff(np.cumsum(ends - begins) // bytes_at_once(sizes.BYTES_OF_A_PIECE))) + 1
    groups = [
        (group_begins, group_ends)
        for group_begins, group_ends in zip(np.split(begins, cuts), np.split(ends, cuts), strict=True)
        if group_begins.size
    ]
    of_group = partial(_of_group, parts, work)
    yield from engaged().map(of_group, groups, lambda spans: _bytes_named(parts, spans[0][0], spans[1][-1]))


def bytes_at_once(here: int) -> int:
    """So many bytes are worked on in one go: as many as threads of this process take, or as other workers do."""
    return max(here, sizes.BYTES_OF_A_WORKERS_PIECE) if engaged().elsewhere else here


def _bytes_named(parts: Parts, start: int, end: int) -> str:
    """What an error calls a piece of a file."""
    return f"{parts.path}, bytes {start:,} to {end:,}"


def _of_group(parts: Parts, work: Callable[[bytes], Result], spans: tuple[Offsets, Offsets]) -> Result:
    return work(_joined(parts, *spans))


def _regular_text(text: bytes, dialect: Dialect, width: int, *, sparing: bool) -> bytes | None:
    """Some records, if they are regular."""
    end = dialect.end.encode()
    is_regular = _index_piece(text.removesuffix(end) + end, 0, dialect, width, sparing=sparing) is not None
    return text if is_regular else None


class _PieceIndex(NamedTuple):
    """The records of a piece: where each begins in the file (`start`) and its fingerprint (`first`, `second`); and
    where the last one ends.
    """

    records: pl.DataFrame
    end: int

    @property
    def fingerprints(self) -> pl.DataFrame:
        """The fingerprints alone."""
        return self.records[["first", "second"]]


def columns_of(
    parts: Parts, start: int, names: Sequence[str], dialect: Dialect, wanted: Sequence[str]
) -> tuple[pl.DataFrame, str] | None:
    """The `wanted` columns of a file that is known to be regular and whose header begins at `start`, piece by piece, so
    that no more of it is ever at hand; and the digest of the file. None where it cannot be seen where records end.
    """
    tables, count = list[pl.DataFrame](), counting(PurePath(parts.path).name, "bytes", parts.size)
    work = partial(_columns_of_piece, names=names, dialect=dialect, wanted=wanted)
    pieces, digest = _by_pieces(parts, start, dialect, len(names), work)
    with closing(pieces):
        for piece in pieces:
            if piece is None:
                return None
            tables.append(piece[0])
            count(piece[1])
    return (pl.concat(tables).slice(1), digest()) if tables else None


def _columns_of_piece(
    text: bytes, at: int, names: Sequence[str], dialect: Dialect, wanted: Sequence[str]
) -> tuple[pl.DataFrame, int] | None:
    """The `wanted` columns of a piece that begins at this place in the file, and where it ends."""
    if dialect.quote and text.count(dialect.quote.encode()) % 2:  # it was cut inside a quoted cell
        return None
    try:
        return split(text, names, dialect, wanted), at + len(text)
    except pl.exceptions.PolarsError:  # it is another file by now
        return None


class _Span(NamedTuple):
    """Where a piece of a file stands; the line that ends the `last` one has no end of its own."""

    start: int
    end: int
    last: bool

    def with_end(self, text: bytes, dialect: Dialect) -> bytes:
        """The text of the piece, all of whose lines have an end."""
        return text + dialect.end.encode() if self.last else text


def _by_pieces(
    parts: Parts, start: int, dialect: Dialect, width: int, work: Callable[[bytes, int], Result | None]
) -> tuple[Generator[Result | None], Callable[[], str]]:
    """What becomes of each piece of a text (`_spans`), in order, and once all have come, the digest of the file."""
    workers, spans = engaged(), _spans(parts, start, dialect, width)
    if workers.elsewhere:
        digest = workers.submit(parts.digest)
        return workers.map(
            partial(_of_span, parts, dialect, work), spans, lambda span: _bytes_named(parts, *span[:2])
        ), digest
    hasher = blake3(max_threads=blake3.AUTO)
    return workers.map(partial(_of_text, work), _hashed(parts, spans, dialect, hasher)), hasher.hexdigest


def _of_text(work: Callable[[bytes, int], Result], piece: tuple[bytes, int]) -> Result:
    return work(*piece)


def _of_span(parts: Parts, dialect: Dialect, work: Callable[[bytes, int], Result | None], span: _Span) -> Result | None:
    return work(span.with_end(parts.part(span.start, span.end), dialect), span.start)


def _hashed(parts: Parts, spans: Iterable[_Span], dialect: Dialect, hasher: blake3) -> Iterator[tuple[bytes, int]]:
    """The text of each piece, and where it begins in the file, all of which is hashed on the way."""
    end = 0
    for span in spans:
        for between in (parts.part(end, span.start), parts.part(span.start, span.end)):
            hasher.update(between)
        yield span.with_end(between, dialect), span.start
        end = span.end
    for begin in range(end, parts.size, sizes.BYTES_OF_A_PIECE):
        hasher.update(parts.part(begin, begin + sizes.BYTES_OF_A_PIECE))


def _spans(parts: Parts, start: int, dialect: Dialect, width: int) -> Iterator[_Span]:
    """Where the pieces of a text stand, of which each begins and ends with a record, as it seems; without blank lines
    at its end.
    """
    at, last = start, _end_of_content(parts, start)
    while at < last:
        cut = _cut(parts, at, last, dialect, width)
        yield _Span(at, cut, cut == last)
        at = cut


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
    piece = bytes_at_once(sizes.BYTES_OF_A_PIECE)
    stop = start + piece
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
        stop += piece
    return last


def _index_piece(
    text: bytes,
    at: int,
    dialect: Dialect,
    width: int,
    *,
    checked: bool = True,
    sparing: bool = False,
    seeds: Seeds = SEEDS,
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
    starts, hashes = ends - lengths, [lines.hash(seed).to_numpy() for seed in (seeds.first, seeds.second)]
    quotes = np.flatnonzero(data == ord(dialect.quote)) if dialect.quote else np.array([], np.int64)
    are_many = quotes.size * sizes.BYTES_A_QUOTE > max(data.size, sizes.BYTES_OF_A_PIECE)
    if quotes.size % 2 or (are_many and not sparing):
        return None
    if quotes.size:
        first = np.flatnonzero(np.searchsorted(quotes, starts) % 2 == 0)
        if first.size < starts.size:
            line = np.arange(starts.size) - np.repeat(first, np.diff(np.append(first, starts.size)))
            powers = np.cumprod(
                np.append(np.uint64(1), np.full(int(line.max()), seeds.step, np.uint64)), dtype=np.uint64
            )
            hashes = [np.add.reduceat(hash_ * powers[line], first) for hash_ in hashes]
            starts = starts[first]
    if checked and not _is_regular(data, starts, quotes, dialect, width):
        return None
    end = at + data.size - len(dialect.end)
    return _PieceIndex(pl.DataFrame({"start": starts + at, "first": hashes[0], "second": hashes[1]}), end)


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


def _joined(parts: Parts, begins: Offsets, ends: Offsets) -> bytes:
    """The records that begin and end there, in ascending order, one after the other. Where they lie close to each other
    they are taken out of pieces of the file: asking the system for each by itself takes longer then.
    """
    import numpy as np

    texts = bytearray()
    for group in np.split(np.arange(begins.size), np.flatnonzero(np.diff(begins // sizes.BYTES_OF_A_PIECE)) + 1):
        if group.size and ends[group[-1]] - begins[group[0]] > group.size * sizes.BYTES_A_RECORD_APART:
            texts += b"".join([parts.part(int(begins[at]), int(ends[at])) for at in group])
        elif group.size:
            begin = int(begins[group[0]])
            view = memoryview(parts.part(begin, int(ends[group[-1]])))
            spans = zip((begins[group] - begin).tolist(), (ends[group] - begin).tolist(), strict=True)
            texts += b"".join([view[a:b] for a, b in spans])  # no more of the file is kept
    return bytes(texts)
