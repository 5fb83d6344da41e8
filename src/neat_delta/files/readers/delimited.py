"""Delimited text (RFC 4180 and what spreadsheets make of it), read.

Every cell stays the text that stands in the file. Polars does the splitting; what it would pass over
(rows that are too short) or report without a place is found here.
"""

from __future__ import annotations

import contextlib
import csv
import io
import re
from collections.abc import Callable, Collection
from dataclasses import dataclass, replace

import msgspec
import polars as pl

from neat_delta.core.base.model.catalogue import MARK, Origin, column_letter
from neat_delta.core.base.model.deferred import Cells, frame_of
from neat_delta.core.base.model.layout import SEPARATORS, Layout, encoding_name
from neat_delta.core.base.support import sizes
from neat_delta.core.base.support.errors import CatalogueError
from neat_delta.files.readers.dialect import (
    BOM,
    ENDS,
    SAMPLE,
    Dialect,
    NotUtf8Error,
    characters,
    dialect_of,
    header_of,
    must_be_text,
    quotes_all,
    sample_of,
)
from neat_delta.files.readers.encoding import BOMS, Known, codec, decoded, guess, of_head
from neat_delta.files.readers.headings import column_numbers, must_be_headings, unnamed_columns
from neat_delta.files.readers.splitting import scan, split

__all__ = ["Head", "Text", "head_of", "read_text", "text_of"]


@dataclass(frozen=True, slots=True)
class Text:
    """A table as it stands in a delimited text: its cells, or what reads them when they are asked for; the columns
    without a heading (from 1), its layout, notes, and where a working sheet was cut from; `regular` text has every
    quote and separator where it may stand. The encoding of a text may have been `guessed`. `memory` is what a working
    sheet remembers, packed (`files.memory`).
    """

    table: Cells
    unnamed: tuple[int, ...]
    layout: Layout
    notes: tuple[str, ...]
    origin: Origin | None = None
    regular: bool = False
    guessed: bool = False
    memory: str | None = None

    @property
    def cells(self) -> pl.DataFrame:
        """All cells."""
        return frame_of(self.table)


@dataclass(frozen=True, slots=True)
class Head:
    """What the first lines of a text show: its dialect, the number of the line with the headings and where in the text
    that begins, the `names` of all columns (those without a heading have a name that no heading has), its layout.
    """

    dialect: Dialect
    number: int
    start: int
    names: list[str]
    layout: Layout


def read_text(
    data: bytes,
    path: str,
    given: Layout | None = None,
    only: Collection[str] | None = None,
    words_of_live: Callable[[], Known] | None = None,
) -> Text:
    """The table in a file's bytes; `path` names it in errors, and is where they stand if they are mapped.

    What `given` leaves open is found out; the words and letters of live (`words_of_live`) tell its encoding. `only`
    these headings are read of text that is known to be regular.
    CatalogueError when it is no table; it says what is wrong, and where.
    """
    given = given or Layout()
    head = data[:SAMPLE]
    encoding, bom = of_head(head)
    if given.encoding:
        encoding = codec(given.encoding)
        bom = next((mark for mark, name in BOMS if head.startswith(mark) and encoding in {name, name[:6]}), b"")
    if encoding != "utf-8":
        return _read_utf8(decoded(data, encoding, path).encode(), path, given, encoding, bom=bool(bom), only=only)
    must_be_text(head, path)
    try:
        return _read_utf8(data, path, given, encoding, bom=bool(bom), only=only)
    except NotUtf8Error:
        if given.encoding or bom:
            decoded(data, encoding, path)  # says where
        encoding, sure = guess(data, path, words_of_live)
        text = _read_utf8(decoded(data, encoding, path).encode(), path, given, encoding, bom=False)
        if sure:
            return text
        note = f"its encoding, {encoding_name(encoding)}, is a guess; if letters look wrong, say it with ‹encoding›"
        return replace(text, notes=(*text.notes, note), guessed=True)


def _read_utf8(
    data: bytes,
    path: str,
    given: Layout,
    encoding: str,
    *,
    bom: bool,
    only: Collection[str] | None = None,
) -> Text:
    data = (
        data if len(data) > sizes.BYTES_WORTH_NUMPY or not data.startswith(BOM) else data[len(BOM) :]
    )  # a large one is not copied
    sample = sample_of(data, path)
    if not sample.strip():
        raise CatalogueError(f"{path}: the file is empty. Export it again.")
    dialect = dialect_of(sample, given)
    if given.header_line == 0:
        _, first_row, _ = header_of(sample, dialect, 1, path)
        line = dialect.separator.join(column_numbers(len(first_row))) + dialect.end
        text = _read_utf8(
            line.encode() + data, path, msgspec.structs.replace(given, header_line=1), encoding, bom=bom, only=only
        )
        return replace(text, layout=msgspec.structs.replace(text.layout, header_line=0))
    head = head_of(sample, dialect, path, given, encoding, bom=bom)
    body: bytes = data
    if head.start:
        body = data[: len(BOM)].replace(BOM, b"") + data[len(BOM) :] if data[: len(BOM)] == BOM else data
        body = body[head.start :]
    end = dialect.end.encode()
    if not body[-4:].endswith(end) or body[-4:].endswith(end * 2):  # blank lines at the end are no rows
        body = body.rstrip(b"\r\n") + end
    _must_not_be_flooded(body, path)
    cells, regular = _parse(body, path, head, only)
    if not cells.height:
        raise CatalogueError(f"{path}: there is a header and no rows under it. Export it again.")
    return text_of(cells, head, regular=regular, known=only is not None)


def head_of(sample: str, dialect: Dialect, path: str, given: Layout, encoding: str, *, bom: bool) -> Head:
    """What a sample of a text, its first lines, shows. CatalogueError where there is no header."""
    number, header, start = header_of(sample, dialect, given.header_line, path)
    must_be_headings(header, f"{path}, line {number}")
    layout = Layout(
        separator=dialect.separator,
        line_end=ENDS[dialect.end],
        bom=bom if given.bom is None else given.bom,
        quote_all=given.quote_all
        if given.quote_all is not None
        else quotes_all(sample[characters(sample, start) :], header, dialect),
        encoding=encoding,
        quote=dialect.quote,
        escape=dialect.escape,
        header_line=number,
        format="delimited",
    )
    names = [heading if heading.strip() else _stand_in(place) for place, heading in enumerate(header, 1)]
    return Head(dialect, number, start, names, layout)


def text_of(cells: Cells, head: Head, *, regular: bool, known: bool = False) -> Text:
    """The text of these cells, without the columns that have no heading; what is to be said of them, unless it is
    `known`.
    """
    notes = []
    if head.number > 1:
        above = "line 1 is" if head.number == 2 else f"lines 1 to {head.number - 1} are"
        notes.append(f"{above} above the header and left out")
    unnamed = unnamed_columns([name if not name.startswith(MARK) else "" for name in head.names])
    filled = (place for place in unnamed if not known and (cells[_stand_in(place)] != "").any())
    notes += [f"column {column_letter(place)} has no heading and is left out" for place in filled]
    table = cells[[name for name in cells.columns if not name.startswith(MARK)]]
    return Text(table, unnamed, head.layout, tuple(notes), regular=regular)


def _stand_in(number: int) -> str:
    """A name that no heading has, for a column without one."""
    return f"{MARK}{number}"


LOOKED, BLOCKS, FLOOD = 1 << 16, 64, 1_000_000
"""So many blocks of so many bytes are looked at for blank lines; more than so many of them are no catalogue."""


def _must_not_be_flooded(body: bytes, path: str) -> None:
    """CatalogueError where there are more blank lines than anything else: each takes the memory of a whole row."""
    step = max(LOOKED, len(body) // BLOCKS)
    for start in range(0, len(body) if len(body) > FLOOD else 0, step):
        block = body[start : start + LOOKED]
        if (block.count(b"\n") + block.count(b"\r")) * 2 > len(block):
            blank = max(body.count(end * 4) * 4 for end in (b"\n", b"\r", b"\r\n"))
            if blank > FLOOD:
                raise CatalogueError(
                    f"{path}: {blank:,} of its lines are blank and follow one another. Delete them, or export it again."
                )
            return


def _parse(body: bytes, path: str, head: Head, only: Collection[str] | None) -> tuple[pl.DataFrame, bool]:
    """The cells under the header, by Polars where the file is regular, and whether it is; with `only`, that is known.
    The header is read like a row, and left out.
    """
    names, dialect = head.names, head.dialect
    if only is not None:
        wanted = [name for name in names if name in only]
        return split(body, names, dialect, wanted)[1:], True
    cells = None
    if not dialect.escape:
        running = scan(body, names, dialect).collect(background=True, engine="in-memory")
        try:  # while Polars reads
            zero = body.find(b"\0")
            regular, quoting = _quoting(body, dialect)
            returns = body.find(b"\r") >= 0
        finally:  # what was begun must be fetched, or its threads end the process
            with contextlib.suppress(pl.exceptions.PolarsError):
                cells = running.fetch_blocking()
        _must_have_no_zeros(zero, body, path, head.number)
        if not regular or (
            cells is not None
            and (_stray_line_ends(body, dialect, returns) or _too_short(body, cells, quoting, dialect, returns))
        ):
            cells = None
    else:
        _must_have_no_zeros(body.find(b"\0"), body, path, head.number)
    regular = cells is not None
    if cells is None:
        plain = Dialect(",", "\n", '"', "")
        cells = split(_regular(body, path, len(names), dialect, head.number), names, plain)
    return cells[1:], regular


# A quote opens where a cell begins, is doubled inside it, and closes where the cell ends (RFC 4180).
QUOTED = (
    rb"""%(q)s(?:(?<![^%(ends)s]%(q)s)|(?<=\A%(bom)s%(q)s))[^%(q)s]*+(?:%(q)s%(q)s[^%(q)s]*+)*+%(q)s(?![^%(ends)s])"""
)


def _quoting(body: bytes, dialect: Dialect) -> tuple[bool, int]:
    """Whether each quote stands where it may, and how many bytes quoting takes (less the quotes left in the text).

    Polars drops or moves other quotes without a word.
    """
    quote, ends = dialect.quote.encode(), dialect.separator.encode() + b"\r\n"
    if not quote:
        return True, 0
    if len(body) > sizes.BYTES_WORTH_NUMPY:  # NumPy is many times faster, once it is there
        return _quoting_of_large(body, quote, ends)
    quoted = QUOTED % {b"ends": re.escape(ends), b"bom": BOM, b"q": quote}
    cells = re.findall(quoted + rb"|" + quote, body)  # a quote that stands anywhere else is found by itself
    return quote not in cells, len(cells) + b"".join(cells).count(quote) // 2


def _quoting_of_large(body: bytes, quote: bytes, ends: bytes) -> tuple[bool, int]:
    """The same, a block at a time. Of all quotes, the first opens, the next closes, and so on; where one that opens
    stands right after one that closes, the two are one quote in a cell.
    """
    import numpy as np

    text = np.frombuffer(body, np.uint8)
    is_end = np.isin(np.arange(256), list(ends))
    first = len(BOM) if body[: len(BOM)] == BOM else 0
    right, quotes, doubled = True, 0, 0
    closed, rest = np.array([-2]), np.array([], int)  # the last that closed, and one that opened after it
    for start in range(0, len(body), sizes.BYTES_OF_A_BLOCK):
        quote_places = np.flatnonzero(text[start : start + sizes.BYTES_OF_A_BLOCK] == quote[0])
        quotes += quote_places.size
        quote_places = np.concatenate([rest, quote_places + start])
        rest = quote_places[quote_places.size // 2 * 2 :]
        opening, closing = quote_places[: quote_places.size - rest.size].reshape(-1, 2).T
        if not opening.size:
            continue
        before = np.concatenate([closed, closing[:-1]])
        closed = closing[-1:]
        doubtful = opening != before + 1
        doubled += doubtful.size - int(doubtful.sum())
        opening, before = opening[doubtful], before[doubtful]
        before = before[before >= 0]
        right &= bool((is_end[text[opening - 1]] | (opening == first)).all() and is_end[text[before + 1]].all())
    ended = closed[0] in {-2, len(body) - 1} or is_end[text[closed[0] + 1]]
    return bool(right and ended and not rest.size), quotes - doubled


def _must_have_no_zeros(zero: int, body: bytes, path: str, number: int) -> None:
    if zero >= 0:
        line = body[:zero].count(b"\n") + number
        raise CatalogueError(f"{path}, line {line:,}: there is a zero character in it. This is no table of text.")


def _stray_line_ends(body: bytes, dialect: Dialect, returns: bool) -> bool:
    """Whether there may be line ends of another sort than Polars is told of; `returns` says that there are CRs."""
    if dialect.end == "\r":
        return body.find(b"\n") >= 0
    return returns and re.search(rb"\r(?!\n)", body) is not None


def _too_short(body: bytes, cells: pl.DataFrame, quoting: int, dialect: Dialect, returns: bool) -> bool:
    """Whether a row has too few cells. Polars fills such a row: it ends in a blank cell, and separators are missing."""
    if cells.width == 1 or not (cells.to_series(-1) == "").any():
        return False
    bare = dialect.end == "\n" and not returns
    wanted = (cells.width - 1) * cells.height
    if bare or dialect.end != "\n":
        # What is no cell's text, quoting or line end is a separator. A line end shorter than the
        # dialect's makes this too few, never too many, so that enough are enough.
        text = sum(cells.select(pl.all().str.len_bytes().sum()).row(0))
        line_ends = len(dialect.end) * cells.height
        if len(body) - len(BOM) * body[:3].startswith(BOM) - text - quoting - line_ends == wanted:
            return False
    separator = dialect.separator
    inside = sum(cells.select(pl.all().str.count_matches(separator, literal=True).sum()).row(0))
    return bool(body.count(separator.encode()) - inside != wanted)


def _regular(body: bytes, path: str, width: int, dialect: Dialect, number: int) -> bytes:
    """The same table written by the book, for a file that Polars does not take as it is; `number` is the header's line.

    A quote inside an unquoted cell, escapes and blank lines among the rows are put right; anything else that
    is wrong is a CatalogueError with its line. Goes record by record: it is for the odd file only.
    """
    try:
        text = body.decode("utf-8-sig")
    except UnicodeDecodeError:
        raise NotUtf8Error from None
    out = io.StringIO(newline="")
    writer = csv.writer(out, lineterminator="\n", quoting=csv.QUOTE_ALL)
    csv.field_size_limit(max(csv.field_size_limit(), len(text) + 1))
    reader = csv.reader(io.StringIO(text, newline=""), strict=True, **dialect.settings)
    line = 0
    try:
        for row in reader:
            if row and len(row) != width:
                raise CatalogueError(_wrong_width(path, line + number, len(row), width, dialect))
            writer.writerow(row or [""] * width)
            line = reader.line_num
    except csv.Error as error:
        if "end of data" in str(error):
            what = "a quote opens here and is never closed"
        elif reader.line_num > line + 1:
            what = f"a quote opens here and closes inside a cell of line {reader.line_num + number - 1:,}"
        else:
            what = "a quoted cell goes on after its closing quote"
        raise CatalogueError(
            f"{path}, line {line + number:,}: {what}. A quote inside a cell must be doubled."
        ) from None
    return out.getvalue().encode()


def _wrong_width(path: str, line: int, width: int, wanted: int, dialect: Dialect) -> str:
    cells = "1 cell" if width == 1 else f"{width} cells"
    hint = (
        f"A cell with a {SEPARATORS.get(dialect.separator, repr(dialect.separator))} in it may need quotes."
        if width > wanted
        else "The row may be cut short, or a quote before it not closed."
    )
    return f"{path}, line {line:,}: {cells} where the header has {wanted}. {hint}"
