"""Delimited text (RFC 4180 and what spreadsheets make of it): its dialect, reading it, writing it.

Every cell stays the text that stands in the file. Polars does the splitting; what it would pass over
(rows that are too short) or report without a place is found here.
"""

from __future__ import annotations

import contextlib
import csv
import io
import re
from collections import Counter
from collections.abc import Callable, Collection, Iterator
from dataclasses import dataclass, replace
from itertools import islice
from typing import Any, Literal

import msgspec
import polars as pl

from neat_delta.core.model.catalogue import MARK, Origin, column_letter
from neat_delta.core.model.layout import LINE_ENDS, SEPARATORS, Layout, encoding_name
from neat_delta.core.support import sizes
from neat_delta.core.support.errors import CatalogueError
from neat_delta.files.readers.encoding import BOMS, Known, codec, decoded, guess, of_head, written_in
from neat_delta.files.readers.headings import column_numbers, must_be_headings, unnamed_columns

__all__ = ["Text", "read_text", "write_delimited"]

BOM = b"\xef\xbb\xbf"
SAMPLE = 1 << 16
"""How many bytes of a file the layout is decided from."""

LONGEST_LINE = 1 << 20
"""The headings must end within so many bytes."""

HEADER_WITHIN = 30
"""Among so many rows the header is looked for, if the first one is none."""

ENDS: dict[str, Literal["LF", "CRLF", "CR"]] = {"\n": "LF", "\r\n": "CRLF", "\r": "CR"}

BINARY = (
    (b"PK\x03\x04", "a zip archive"),
    (b"\xd0\xcf\x11\xe0", "an Office document"),
    (b"%PDF", "a PDF"),
    (b"\x89PNG", "a PNG image"),
    (b"\xff\xd8\xff", "a JPEG image"),
    (b"GIF8", "a GIF image"),
    (b"\x1f\x8b", "a gzip archive"),
    (b"\x28\xb5\x2f\xfd", "a zstd archive"),
    (b"PAR1", "a Parquet file"),
)


@dataclass(frozen=True, slots=True)
class Text:
    """A table as it stands in a delimited text: its cells, the columns without a heading (from 1), its layout,
    notes, and where a working sheet was cut from; `regular` text has every quote and separator where it may stand. The
    encoding of a text may have been `guessed`. `memory` is what a working sheet remembers, packed (`files.memory`).
    """

    cells: pl.DataFrame
    unnamed: tuple[int, ...]
    layout: Layout
    notes: tuple[str, ...]
    origin: Origin | None = None
    regular: bool = False
    guessed: bool = False
    memory: str | None = None


@dataclass(frozen=True, slots=True)
class _Dialect:
    """A layout with nothing left open, for text that is UTF-8 by now; `end` are the characters of a line end."""

    separator: str
    end: str
    quote: str
    escape: str

    def rows(self, text: str, *, strict: bool = False) -> Iterator[list[str]]:
        """The rows as Python's reader has them."""
        return csv.reader(io.StringIO(text, newline=""), strict=strict, **self.settings)

    @property
    def settings(self) -> dict[str, Any]:
        return {
            "delimiter": self.separator,
            "quotechar": self.quote or None,
            "quoting": csv.QUOTE_MINIMAL if self.quote else csv.QUOTE_NONE,
            "escapechar": self.escape or None,
        }


def read_text(
    data: bytes,
    path: str,
    told: Layout | None = None,
    only: Collection[str] | None = None,
    words_of_live: Callable[[], Known] | None = None,
) -> Text:
    """The table in a file's bytes; `path` names it in errors, and is where they stand if they are mapped.

    What `told` leaves open is found out; the words and letters of live (`words_of_live`) tell its encoding. `only`
    these headings are read of text that is known to be regular.
    CatalogueError when it is no table; it says what is wrong, and where.
    """
    told = told or Layout()
    head = data[:SAMPLE]
    encoding, bom = of_head(head)
    if told.encoding:
        encoding = codec(told.encoding)
        bom = next((mark for mark, name in BOMS if head.startswith(mark) and encoding in {name, name[:6]}), b"")
    if encoding != "utf-8":
        return _read_utf8(decoded(data, encoding, path).encode(), path, told, encoding, bom=bool(bom), only=only)
    _must_be_text(head, path)
    try:
        return _read_utf8(data, path, told, encoding, bom=bool(bom), only=only)
    except _NotUtf8Error:
        if told.encoding or bom:
            decoded(data, encoding, path)  # says where
        encoding, sure = guess(data, path, words_of_live)
        text = _read_utf8(decoded(data, encoding, path).encode(), path, told, encoding, bom=False)
        if sure:
            return text
        note = f"its encoding, {encoding_name(encoding)}, is a guess; if letters look wrong, say it with ‹encoding›"
        return replace(text, notes=(*text.notes, note), guessed=True)


class _NotUtf8Error(Exception):
    """The bytes are not UTF-8, though it was not known before."""


def _read_utf8(
    data: bytes,
    path: str,
    told: Layout,
    encoding: str,
    *,
    bom: bool,
    only: Collection[str] | None = None,
) -> Text:
    data = (
        data if len(data) > sizes.BYTES_WORTH_NUMPY or not data.startswith(BOM) else data[len(BOM) :]
    )  # a large one is not copied
    sample = _sample(data, path)
    if not sample.strip():
        raise CatalogueError(f"{path}: the file is empty. Export it again.")
    dialect = _dialect(sample, told)
    if told.header_line == 0:
        _, first_row, _ = _header(sample, dialect, 1, path)
        line = dialect.separator.join(column_numbers(len(first_row))) + dialect.end
        text = _read_utf8(
            line.encode() + data, path, msgspec.structs.replace(told, header_line=1), encoding, bom=bom, only=only
        )
        return replace(text, layout=msgspec.structs.replace(text.layout, header_line=0))
    number, header, start = _header(sample, dialect, told.header_line, path)
    must_be_headings(header, f"{path}, line {number}")
    body: bytes = data
    if start:
        body = data[: len(BOM)].replace(BOM, b"") + data[len(BOM) :] if data[: len(BOM)] == BOM else data
        body = body[start:]
    end = dialect.end.encode()
    if not body[-4:].endswith(end) or body[-4:].endswith(end * 2):  # blank lines at the end are no rows
        body = body.rstrip(b"\r\n") + end
    _must_not_be_flooded(body, path)
    cells, regular = _parse(body, path, header, dialect, number, only)
    if not cells.height:
        raise CatalogueError(f"{path}: there is a header and no rows under it. Export it again.")
    unnamed = unnamed_columns(header)
    layout = Layout(
        separator=dialect.separator,
        line_end=ENDS[dialect.end],
        bom=bom if told.bom is None else told.bom,
        quote_all=told.quote_all
        if told.quote_all is not None
        else _quotes_all(sample[_characters(sample, start) :], header, dialect),
        encoding=encoding,
        quote=dialect.quote,
        escape=dialect.escape,
        header_line=number,
        format="delimited",
    )
    notes = []
    if number > 1:
        above = "line 1 is" if number == 2 else f"lines 1 to {number - 1} are"
        notes.append(f"{above} above the header and left out")
    unread = () if only is None else unnamed
    filled = (place for place in unnamed if place not in unread and (cells[_stand_in(place)] != "").any())
    notes += [f"column {column_letter(place)} has no heading and is left out" for place in filled]
    return Text(
        cells.select(pl.exclude([_stand_in(place) for place in unnamed])),
        unnamed,
        layout,
        tuple(notes),
        regular=regular,
    )


def write_delimited(cells: pl.DataFrame, layout: Layout, what: str = "The update file") -> bytes:
    r"""The bytes of a table in a layout, headings first.

    CatalogueError (naming `what`) when the layout cannot carry a cell: a letter that its encoding does not have, a
    separator or line end where it has no quotes.

    >>> cells = pl.DataFrame({"sku": ["QA-1"], "name": ["Veil, folding"]})
    >>> write_delimited(cells, Layout(separator=","), "the sheet")
    b'sku,name\nQA-1,"Veil, folding"\n'
    """
    separator, end = layout.separator or ",", LINE_ENDS[layout.line_end or "LF"]
    quote = '"' if layout.quote is None else layout.quote
    encoding = layout.encoding or "utf-8"
    if layout.escape or not quote:
        data = _escaped(cells, separator, end, quote, layout, what).encode()
    else:
        out = io.BytesIO()
        cells.with_columns(pl.all().replace("", None)).write_csv(
            out,
            separator=separator,
            line_terminator=end,
            quote_char=quote,
            quote_style="always" if layout.quote_all else "necessary",
        )
        data = out.getvalue()
    bom = next((mark for mark, name in BOMS if name == encoding), b"") if layout.bom else b""
    return bom + (data if encoding == "utf-8" else written_in(data.decode(), encoding, what))


def _escaped(cells: pl.DataFrame, separator: str, end: str, quote: str, layout: Layout, what: str) -> str:
    """A table as text with quotes escaped inside cells, or with no quotes at all."""
    whole = pl.concat([pl.DataFrame({name: [name] for name in cells.columns}), cells.cast(pl.String)])
    marks = [separator, "\n", "\r", *([quote, layout.escape] if quote and layout.escape else [])]
    if not quote:
        if whole.select(pl.any_horizontal(pl.all().str.contains_any(marks))).to_series().any():
            raise CatalogueError(
                f"{what}: a cell has a separator or a line break in it, and the store's files have no quotes for it."
            )
        lines = whole
    else:
        settings = quote, layout.escape or "", marks
        always = bool(layout.quote_all)
        lines = whole.select(_quoted(pl.col(name), *settings, always=always).alias(name) for name in whole.columns)
    rows = lines.select(pl.concat_str(pl.all(), separator=separator)).to_series()
    return "".join(f"{row}{end}" for row in rows)


def _quoted(cell: pl.Expr, quote: str, escape: str, marks: list[str], *, always: bool) -> pl.Expr:
    inside = cell.str.replace_many({escape: escape * 2, quote: escape + quote})
    wrapped = pl.concat_str(pl.lit(quote), inside, pl.lit(quote))
    return wrapped if always else pl.when(cell.str.contains_any(marks)).then(wrapped).otherwise(cell)


def _must_be_text(head: bytes, path: str) -> None:
    for magic, what in BINARY:
        if head.startswith(magic):
            raise CatalogueError(f"{path}: this is {what}, and no table. Save the table as CSV and use that file.")
    nul = head.find(b"\0")
    if nul >= 0:
        raise CatalogueError(
            f"{path}: this is no text file (byte {nul + 1} is zero). Save the table as CSV and use that file."
        )


def _sample(data: bytes, path: str) -> str:
    """The first whole lines of a file as text."""
    size = SAMPLE
    cut = data[:size].removeprefix(BOM)
    if len(data) > size:
        while b"\n" not in cut and b"\r" not in cut and size < min(len(data), LONGEST_LINE):
            size *= 4
            cut = data[:size].removeprefix(BOM)
        end = max(cut.rfind(b"\n"), cut.rfind(b"\r")) + 1
        if not end and len(data) > size:
            raise CatalogueError(
                f"{path}: the first line is longer than {size:,} bytes. The line ends may have been lost; "
                "export it again."
            )
        cut = cut[:end] or cut
    try:
        return cut.decode()
    except UnicodeDecodeError:
        raise _NotUtf8Error from None


def _dialect(sample: str, told: Layout) -> _Dialect:
    """What a sample shows, where it was not told."""
    quote = told.quote
    if quote is None:
        quote = '"'
        first = sample.splitlines()[0]
        if '"' not in sample and re.fullmatch(r"'[^']*'(?:[,;\t|]'[^']*')+", first):
            quote = "'"
    escape = told.escape
    if escape is None:
        escape = "\\" if quote and re.search(r"\\" + quote + rf"[^,;\t|\r\n{quote}]", sample) else ""
    end = LINE_ENDS[told.line_end] if told.line_end else _line_end(sample, quote)
    separator = told.separator or _separator(sample, quote, escape)
    return _Dialect(separator, end, quote, escape)


def _header(sample: str, dialect: _Dialect, told: int | None, path: str) -> tuple[int, list[str], int]:
    """The row of the headings (from 1), the headings, and how many bytes stand above them."""
    lines: list[int] = []
    rows: list[list[str]] = []
    reader = csv.reader(io.StringIO(sample, newline=""), **dialect.settings)
    before = 0
    try:
        for row in islice(reader, max(100, told or 0)):
            rows.append(row)
            lines.append(before)
            before = reader.line_num
    except csv.Error as error:
        if "field larger" not in str(error):
            raise CatalogueError(f"{path}, line {before + 1}: it cannot be read as a table ({error}).") from None
        csv.field_size_limit(1 << 30)
        return _header(sample, dialect, told, path)
    if told is not None and told > len(rows):
        raise CatalogueError(f"{path}: there is no line {told} for the header.")
    place = told - 1 if told is not None else header_place(rows)
    above = io.StringIO(sample, newline="")
    skipped = "".join(islice(above, lines[place]))
    return place + 1, rows[place] or [""], len(skipped.encode())


def header_place(rows: list[list[str]]) -> int:
    """Which of the first rows (from 0) holds the headings: the first one, unless those above it plainly are titles.

    A title leaves most columns blank; the headings fill most of them, are all different, and few of them are numbers.
    """
    filled = [sum(bool(cell.strip()) for cell in row) for row in rows]
    width = max((number for number, _ in Counter(len(row) for row in rows if any(row)).most_common(1)), default=0)
    most = max(filled[:HEADER_WITHIN], default=0)
    if not rows or width < 2 or filled[0] * 2 > width or filled[0] * 2 > most:
        return _first_filled(rows)
    for place, row in enumerate(rows[:HEADER_WITHIN]):
        names = [cell.strip() for cell in row if cell.strip()]
        if len(names) * 2 > width and len(names) == len(set(names)) and not _numbers(row):
            return place
    return _first_filled(rows)


def _first_filled(rows: list[list[str]]) -> int:
    """The first row with anything in it; but numbers under a blank row are no headings."""
    place = next((n for n, row in enumerate(rows) if any(cell.strip() for cell in row)), 0)
    return 0 if rows and place and _numbers(rows[place]) else place


def _numbers(row: list[str]) -> bool:
    """Whether half of what stands in a row and more are numbers."""
    names = [cell.strip() for cell in row if cell.strip()]
    return sum(name.lstrip("+-").replace(".", "").replace(",", "").isdigit() for name in names) * 2 >= len(names)


def _characters(sample: str, size: int) -> int:
    """How many characters the first bytes of a text are."""
    return len(sample.encode()[:size].decode())


def _quotes_all(sample: str, header: list[str], dialect: _Dialect) -> bool:
    quote = dialect.quote
    if not quote:
        return False
    return sample.startswith(
        dialect.separator.join(quote + heading.replace(quote, quote * 2) + quote for heading in header)
    )


def _line_end(sample: str, quote: str) -> str:
    """The line end of the first line that has one: CR LF, LF, or the CR alone of old."""
    unquoted = "".join(sample.split(quote)[::2]) if quote else sample
    first = min((place for place in (unquoted.find("\n"), unquoted.find("\r")) if place >= 0), default=-1)
    if first < 0 or unquoted[first] == "\n":
        return "\n"
    return "\r\n" if unquoted[first : first + 2] == "\r\n" else "\r"


def _separator(sample: str, quote: str, escape: str) -> str:
    """The separator by which most of the first rows are equally wide, and that more than one cell."""

    def score(separator: str) -> tuple[float, int]:
        dialect = _Dialect(separator, "\n", quote, escape)
        try:
            rows = [len(row) for row in islice(dialect.rows(sample), 100) if row]
        except csv.Error:
            return (0.0, 0)
        width, times = Counter(rows).most_common(1)[0] if rows else (0, 0)
        first = rows[0] if rows else 0
        if first > 1 and rows.count(first) * 2 >= times:  # the header's own width, if it is nearly as common
            width, times = first, rows.count(first)
        return (times / len(rows) if width > 1 else 0.0, width)

    return max(SEPARATORS, key=score)


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


def _parse(
    body: bytes,
    path: str,
    header: list[str],
    dialect: _Dialect,
    number: int,
    only: Collection[str] | None = None,
) -> tuple[pl.DataFrame, bool]:
    """The cells under the header, by Polars where the file is regular, and whether it is; with `only`, that is known.
    The header is read like a row, and left out.
    """
    names = [heading if heading.strip() else _stand_in(place) for place, heading in enumerate(header, 1)]
    if only is not None:
        wanted = [name for name in names if name in only]
        return _split(body, names, dialect).select(wanted).collect()[1:], True
    cells = None
    if not dialect.escape:
        running = _split(body, names, dialect).collect(background=True)
        try:  # while Polars reads
            zero = body.find(b"\0")
            regular, quoting = _quoting(body, dialect)
            returns = body.find(b"\r") >= 0
        finally:  # what was begun must be fetched, or its threads end the process
            with contextlib.suppress(pl.exceptions.PolarsError):
                cells = running.fetch_blocking()
        _must_have_no_zeros(zero, body, path, number)
        if not regular or (
            cells is not None
            and (_stray_line_ends(body, dialect, returns) or _too_short(body, cells, quoting, dialect, returns))
        ):
            cells = None
    else:
        _must_have_no_zeros(body.find(b"\0"), body, path, number)
    regular = cells is not None
    if cells is None:
        plain = _Dialect(",", "\n", '"', "")
        cells = _split(_regular(body, path, len(header), dialect, number), names, plain).collect()
    return cells[1:], regular


def _split(source: bytes, names: list[str], dialect: _Dialect) -> pl.LazyFrame:
    return pl.scan_csv(
        source,
        glob=False,
        has_header=False,  # else Polars pairs columns with the schema by name, and reads quotes in headings otherwise
        schema=dict.fromkeys(names, pl.String),
        empty_string_is_null=False,
        separator=dialect.separator,
        quote_char=dialect.quote or None,
        eol_char="\r" if dialect.end == "\r" else "\n",
    )


# A quote opens where a cell begins, is doubled inside it, and closes where the cell ends (RFC 4180).
QUOTED = (
    rb"""%(q)s(?:(?<![^%(ends)s]%(q)s)|(?<=\A%(bom)s%(q)s))[^%(q)s]*+(?:%(q)s%(q)s[^%(q)s]*+)*+%(q)s(?![^%(ends)s])"""
)


def _quoting(body: bytes, dialect: _Dialect) -> tuple[bool, int]:
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
        apart = opening != before + 1
        doubled += apart.size - int(apart.sum())
        opening, before = opening[apart], before[apart]
        before = before[before >= 0]
        right &= bool((is_end[text[opening - 1]] | (opening == first)).all() and is_end[text[before + 1]].all())
    ended = closed[0] in {-2, len(body) - 1} or is_end[text[closed[0] + 1]]
    return bool(right and ended and not rest.size), quotes - doubled


def _must_have_no_zeros(zero: int, body: bytes, path: str, number: int) -> None:
    if zero >= 0:
        line = body[:zero].count(b"\n") + number
        raise CatalogueError(f"{path}, line {line:,}: there is a zero character in it. This is no table of text.")


def _stray_line_ends(body: bytes, dialect: _Dialect, returns: bool) -> bool:
    """Whether there may be line ends of another sort than Polars is told of; `returns` says that there are CRs."""
    if dialect.end == "\r":
        return body.find(b"\n") >= 0
    return returns and re.search(rb"\r(?!\n)", body) is not None


def _too_short(body: bytes, cells: pl.DataFrame, quoting: int, dialect: _Dialect, returns: bool) -> bool:
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


def _regular(body: bytes, path: str, width: int, dialect: _Dialect, number: int) -> bytes:
    """The same table written by the book, for a file that Polars does not take as it is; `number` is the header's line.

    A quote inside an unquoted cell, escapes and blank lines among the rows are put right; anything else that
    is wrong is a CatalogueError with its line. Goes record by record: it is for the odd file only.
    """
    try:
        text = body.decode("utf-8-sig")
    except UnicodeDecodeError:
        raise _NotUtf8Error from None
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


def _wrong_width(path: str, line: int, width: int, wanted: int, dialect: _Dialect) -> str:
    cells = "1 cell" if width == 1 else f"{width} cells"
    hint = (
        f"A cell with a {SEPARATORS.get(dialect.separator, repr(dialect.separator))} in it may need quotes."
        if width > wanted
        else "The row may be cut short, or a quote before it not closed."
    )
    return f"{path}, line {line:,}: {cells} where the header has {wanted}. {hint}"
