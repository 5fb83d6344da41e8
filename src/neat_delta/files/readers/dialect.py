"""The dialect of delimited text, and where its header stands: told, or seen in a sample of it."""

from __future__ import annotations

import csv
import io
import re
from collections import Counter
from collections.abc import Iterator
from dataclasses import dataclass
from itertools import islice
from typing import Any, Literal

from neat_delta.core.base.model.layout import LINE_ENDS, SEPARATORS, Layout
from neat_delta.core.base.support.errors import CatalogueError

__all__ = [
    "BOM",
    "ENDS",
    "SAMPLE",
    "Dialect",
    "NotUtf8Error",
    "characters",
    "dialect_of",
    "header_of",
    "must_be_text",
    "quotes_all",
    "sample_of",
]


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
class Dialect:
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
        """What Python's reader is told of it."""
        return {
            "delimiter": self.separator,
            "quotechar": self.quote or None,
            "quoting": csv.QUOTE_MINIMAL if self.quote else csv.QUOTE_NONE,
            "escapechar": self.escape or None,
        }


class NotUtf8Error(Exception):
    """The bytes are not UTF-8, though it was not known before."""


def must_be_text(head: bytes, path: str) -> None:
    """CatalogueError where a file begins like one of another format."""
    for magic, what in BINARY:
        if head.startswith(magic):
            raise CatalogueError(f"{path}: this is {what}, and no table. Save the table as CSV and use that file.")
    nul = head.find(b"\0")
    if nul >= 0:
        raise CatalogueError(
            f"{path}: this is no text file (byte {nul + 1} is zero). Save the table as CSV and use that file."
        )


def sample_of(data: bytes, path: str) -> str:
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
        raise NotUtf8Error from None


def dialect_of(sample: str, given: Layout) -> Dialect:
    """What a sample shows, where it was not told."""
    quote = given.quote
    if quote is None:
        quote = '"'
        first = sample.splitlines()[0]
        if '"' not in sample and re.fullmatch(r"'[^']*'(?:[,;\t|]'[^']*')+", first):
            quote = "'"
    escape = given.escape
    if escape is None:
        escape = "\\" if quote and re.search(r"\\" + quote + rf"[^,;\t|\r\n{quote}]", sample) else ""
    end = LINE_ENDS[given.line_end] if given.line_end else _line_end(sample, quote)
    separator = given.separator or _separator(sample, quote, escape)
    return Dialect(separator, end, quote, escape)


def header_of(sample: str, dialect: Dialect, header_row: int | None, path: str) -> tuple[int, list[str], int]:
    """The row of the headings (from 1), the headings, and how many bytes stand above them."""
    lines: list[int] = []
    rows: list[list[str]] = []
    reader = csv.reader(io.StringIO(sample, newline=""), **dialect.settings)
    before = 0
    try:
        for row in islice(reader, max(100, header_row or 0)):
            rows.append(row)
            lines.append(before)
            before = reader.line_num
    except csv.Error as error:
        if "field larger" not in str(error):
            raise CatalogueError(
                f"{path}, line {before + 1}: it cannot be read as a table ({error}). Look at that line, and export it "
                "again."
            ) from None
        csv.field_size_limit(1 << 30)
        return header_of(sample, dialect, header_row, path)
    if header_row is not None and header_row > len(rows):
        raise CatalogueError(
            f"{path}: there is no line {header_row} for the header. Say with ‹header_line› which it is."
        )
    place = header_row - 1 if header_row is not None else header_place(rows)
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
        if len(names) * 2 > width and len(names) == len(set(names)) and not _mostly_numbers(row):
            return place
    return _first_filled(rows)


def _first_filled(rows: list[list[str]]) -> int:
    """The first row with anything in it; but numbers under a blank row are no headings."""
    place = next((n for n, row in enumerate(rows) if any(cell.strip() for cell in row)), 0)
    return 0 if rows and place and _mostly_numbers(rows[place]) else place


def _mostly_numbers(row: list[str]) -> bool:
    """Whether half of what stands in a row and more are numbers."""
    names = [cell.strip() for cell in row if cell.strip()]
    return sum(name.lstrip("+-").replace(".", "").replace(",", "").isdigit() for name in names) * 2 >= len(names)


def characters(sample: str, size: int) -> int:
    """How many characters the first bytes of a text are."""
    return len(sample.encode()[:size].decode())


def quotes_all(sample: str, header: list[str], dialect: Dialect) -> bool:
    """Whether every cell stands in quotes."""
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
        dialect = Dialect(separator, "\n", quote, escape)
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
