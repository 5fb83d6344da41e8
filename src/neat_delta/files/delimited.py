"""Delimited text (RFC 4180 and what spreadsheets make of it): its dialect, reading it, writing it.

Every cell stays the text that stands in the file. Polars does the splitting; what it would pass over
(rows that are too short) or report without a place is found here.
"""

from __future__ import annotations

import csv
import io
import mmap
import re
from collections import Counter
from dataclasses import dataclass
from itertools import islice

import polars as pl

from neat_delta.core.catalogue import MARK, Catalogue
from neat_delta.core.errors import CatalogueError
from neat_delta.files.whole import Loaded, load

__all__ = ["SEPARATORS", "Dialect", "read_delimited", "read_text", "write_delimited"]

SEPARATORS = {",": "comma", ";": "semicolon", "\t": "tab", "|": "pipe"}
"""The separators that are recognised, with their names."""

BOM = b"\xef\xbb\xbf"
SAMPLE = 1 << 16
"""How many bytes of a file the dialect is decided from."""

BINARY = (
    (b"PK\x03\x04", "a workbook or another zip archive"),
    (b"\xd0\xcf\x11\xe0", "an old workbook or another Office document"),
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
    """How a file writes its table: separator, line end, mark at the start (BOM), whether every cell is quoted."""

    separator: str = ","
    line_end: str = "\n"
    bom: bool = False
    quote_all: bool = False

    def __str__(self) -> str:
        """As the dialect is said to a person."""
        return f"{SEPARATORS[self.separator]}, UTF-8" + (" with BOM" if self.bom else "")


def read_delimited(file: str | Loaded, dialect: Dialect | None = None) -> tuple[Catalogue, Dialect]:
    """The catalogue in a file, and the file's dialect, which is found out unless it is given.

    `file` is a path, or the file loaded ahead. FileError when it cannot be read, CatalogueError when it is no
    table; it says what is wrong, and where.
    """
    if isinstance(file, str):
        file = load(file)
    cells, unnamed, dialect = read_text(file.data, file.path, dialect)
    return Catalogue(cells, file.path, file.digest, unnamed), dialect


def read_text(
    data: bytes | mmap.mmap, path: str, dialect: Dialect | None = None
) -> tuple[pl.DataFrame, tuple[int, ...], Dialect]:
    """The table in a file's bytes, the columns without a heading, and the dialect; `path` names it in errors."""
    head = data[:SAMPLE]
    _must_be_text(head, path)
    if not head.removeprefix(BOM).strip():
        raise CatalogueError(f"{path}: the file is empty. Export it again.")
    sample = _sample(data)
    dialect = dialect or _dialect(sample, head.startswith(BOM))
    body = data
    end = dialect.line_end.encode()
    if not data[-4:].endswith(end) or data[-4:].endswith(end * 2):  # blank lines at the end are no rows
        body = data[:].rstrip(b"\r\n") + end
    header = _first_row(sample, dialect.separator)
    _must_be_headings(header, path)
    cells = _parse(body, path, header, dialect)
    if not cells.height:
        raise CatalogueError(f"{path}: there is a header and no rows under it. Export it again.")
    unnamed = tuple(number for number, heading in enumerate(header, 1) if not heading.strip())
    return cells.select(pl.exclude([_stand_in(number) for number in unnamed])), unnamed, dialect


def write_delimited(cells: pl.DataFrame, dialect: Dialect) -> bytes:
    """The bytes of a table in a dialect."""
    out = io.BytesIO()
    cells.with_columns(pl.all().replace("", None)).write_csv(
        out,
        include_bom=dialect.bom,
        separator=dialect.separator,
        line_terminator=dialect.line_end,
        quote_style="always" if dialect.quote_all else "necessary",
    )
    return out.getvalue()


def _must_be_text(head: bytes, path: str) -> None:
    for magic, what in BINARY:
        if head.startswith(magic):
            raise CatalogueError(f"{path}: this is {what}, not a CSV file. Save it as CSV (UTF-8) and use that file.")
    if head.startswith((b"\xff\xfe", b"\xfe\xff")):
        raise CatalogueError(f"{path}: this is UTF-16 text. Save it as CSV (UTF-8) and use that file.")
    nul = head.find(b"\0")
    if nul >= 0:
        raise CatalogueError(
            f"{path}: this is no text file (byte {nul + 1} is zero). Save the table as CSV (UTF-8) and use that file."
        )


def _sample(data: bytes | mmap.mmap) -> str:
    """The first whole lines of a file as text; bytes that are not UTF-8 are told of when the whole file is read."""
    cut = data[:SAMPLE].removeprefix(BOM)
    if len(data) > SAMPLE:
        cut = cut[: max(cut.rfind(b"\n"), cut.rfind(b"\r")) + 1] or cut
    return cut.decode(errors="replace")


def _dialect(sample: str, bom: bool) -> Dialect:
    """The dialect that a sample shows."""
    separator = _separator(sample)
    quoted = separator.join('"' + heading.replace('"', '""') + '"' for heading in _first_row(sample, separator))
    return Dialect(separator, _line_end(sample), bom, quote_all=sample.startswith(quoted))


def _first_row(sample: str, separator: str) -> list[str]:
    return next(csv.reader(io.StringIO(sample, newline=""), delimiter=separator))


def _line_end(sample: str) -> str:
    """The line end of the first line that has one: CR LF, LF, or the CR alone of old."""
    unquoted = "".join(sample.split('"')[::2])
    first = min((place for place in (unquoted.find("\n"), unquoted.find("\r")) if place >= 0), default=-1)
    if first < 0 or unquoted[first] == "\n":
        return "\n"
    return "\r\n" if unquoted[first : first + 2] == "\r\n" else "\r"


def _separator(sample: str) -> str:
    """The separator by which most of the first rows have as many cells as the header, and that more than one."""

    def score(separator: str) -> tuple[float, int]:
        rows = [len(row) for row in islice(csv.reader(io.StringIO(sample, newline=""), delimiter=separator), 100)]
        width = rows[0] if rows else 0
        return (Counter(rows)[width] / len(rows) if width > 1 else 0.0, width)

    return max(SEPARATORS, key=score)


def _must_be_headings(header: list[str], path: str) -> None:
    for heading, times in Counter(header).items():
        if times > 1 and heading.strip():
            columns = ", ".join(column_letter(n) for n, name in enumerate(header, 1) if name == heading)
            raise CatalogueError(
                f'{path}, line 1: the heading "{heading}" stands in {times} columns ({columns}). Rename or remove one.'
            )
    if not any(heading.strip() for heading in header):
        raise CatalogueError(f"{path}, line 1: there are no headings. The first line must name the fields.")


def column_letter(number: int) -> str:
    """The letters a spreadsheet gives a column (1 is A, 27 is AA)."""
    letters = ""
    while number:
        number, rest = divmod(number - 1, 26)
        letters = chr(65 + rest) + letters
    return letters


def _stand_in(number: int) -> str:
    """A name that no heading has, for a column without one."""
    return f"{MARK}{number}"


def _parse(body: bytes | mmap.mmap, path: str, header: list[str], dialect: Dialect) -> pl.DataFrame:
    """The cells under the header, by Polars where the file is regular. The header is read like a row, and left out."""
    names = [heading if heading.strip() else _stand_in(number) for number, heading in enumerate(header, 1)]
    running = _split(body if isinstance(body, bytes) else path, names, dialect).collect(background=True)
    regular, quoting = _quoting(body, dialect)  # while Polars reads
    if isinstance(body, mmap.mmap) and hasattr(mmap, "MADV_DONTNEED"):
        body.madvise(mmap.MADV_DONTNEED)  # a second copy in memory is needed no more; looked at again, it comes back
    try:
        cells = running.fetch_blocking()
    except pl.exceptions.PolarsError:
        cells = None
    if cells is None or not regular or _stray_line_ends(body, dialect) or _too_short(body, cells, quoting, dialect):
        cells = _split(_regular(body[:], path, len(header), dialect), names, Dialect()).collect()
    return cells[1:]


def _split(source: bytes | str, names: list[str], dialect: Dialect) -> pl.LazyFrame:
    return pl.scan_csv(
        source,
        glob=False,
        has_header=False,  # else Polars pairs columns with the schema by name, and reads quotes in headings otherwise
        schema=dict.fromkeys(names, pl.String),
        empty_string_is_null=False,
        separator=dialect.separator,
        eol_char="\r" if dialect.line_end == "\r" else "\n",
    )


# A quote opens where a cell begins, is doubled inside it, and closes where the cell ends (RFC 4180).
QUOTED = rb'"(?:(?<![^%(ends)s]")|(?<=\A%(bom)s"))[^"]*+(?:""[^"]*+)*+"(?![^%(ends)s])'


def _quoting(body: bytes | mmap.mmap, dialect: Dialect) -> tuple[bool, int | None]:
    """Whether each quote stands where it may, and how many bytes quoting takes (less the quotes left in the text).

    Polars drops or moves other quotes without a word. In a file with so many quotes that counting the
    cells is dearer than looking for separators inside them, the number is None.
    """
    quoted = QUOTED % {b"ends": re.escape(dialect.separator.encode()) + rb"\r\n", b"bom": BOM}
    if body[:SAMPLE].count(b'"') > SAMPLE // 16:
        return re.fullmatch(rb'[^"]*+(?:' + quoted + rb'[^"]*+)*+', body) is not None, None
    cells = re.findall(quoted + rb'|"', body)  # a quote that stands anywhere else is found by itself
    return b'"' not in cells, len(cells) + b"".join(cells).count(b'"') // 2


def _stray_line_ends(body: bytes | mmap.mmap, dialect: Dialect) -> bool:
    """Whether there may be line ends of another sort than Polars is told of."""
    if dialect.line_end == "\r":
        return body.find(b"\n") >= 0
    return body.find(b"\r") >= 0 and re.search(rb"\r(?!\n)", body) is not None


def _too_short(body: bytes | mmap.mmap, cells: pl.DataFrame, quoting: int | None, dialect: Dialect) -> bool:
    """Whether a row has too few cells. Polars fills such a row: it ends in a blank cell, and separators are missing."""
    if cells.width == 1 or not (cells.to_series(-1) == "").any():
        return False
    bare = dialect.line_end == "\n" and body.find(b"\r") < 0
    wanted = (cells.width - 1) * cells.height
    if quoting is not None and (bare or dialect.line_end != "\n"):
        # What is no cell's text, quoting or line end is a separator. A line end shorter than the
        # dialect's makes this too few, never too many, so that enough are enough.
        text = sum(cells.select(pl.all().str.len_bytes().sum()).row(0))
        line_ends = len(dialect.line_end) * cells.height
        if len(body) - len(BOM) * body[:3].startswith(BOM) - text - quoting - line_ends == wanted:
            return False
    separator = dialect.separator
    inside = sum(cells.select(pl.all().str.count_matches(separator, literal=True).sum()).row(0))
    return bool(body[:].count(separator.encode()) - inside != wanted)


def _regular(body: bytes, path: str, width: int, dialect: Dialect) -> bytes:
    """The same table written by the book, for a file that Polars does not take as it is.

    A quote inside an unquoted cell and blank lines among the rows are put right; anything else that
    is wrong is a CatalogueError with its line. Goes record by record: it is for the odd file only.
    """
    text = _decoded(body, path)
    out = io.StringIO(newline="")
    writer = csv.writer(out, lineterminator="\n", quoting=csv.QUOTE_ALL)
    csv.field_size_limit(max(csv.field_size_limit(), len(text) + 1))
    reader = csv.reader(io.StringIO(text, newline=""), delimiter=dialect.separator, strict=True)
    line = 1
    try:
        for row in reader:
            if row and len(row) != width:
                raise CatalogueError(_wrong_width(path, line, len(row), width, dialect))
            writer.writerow(row or [""] * width)
            line = reader.line_num + 1
    except csv.Error as error:
        if "end of data" in str(error):
            what = "a quote opens here and is never closed"
        elif reader.line_num > line:
            what = f"a quote opens here and closes inside a cell of line {reader.line_num:,}"
        else:
            what = "a quoted cell goes on after its closing quote"
        raise CatalogueError(f"{path}, line {line:,}: {what}. A quote inside a cell must be doubled.") from None
    return out.getvalue().encode()


def _wrong_width(path: str, line: int, found: int, wanted: int, dialect: Dialect) -> str:
    cells = "1 cell" if found == 1 else f"{found} cells"
    hint = (
        f"A cell with a {SEPARATORS[dialect.separator]} in it may need quotes."
        if found > wanted
        else "The row may be cut short, or a quote before it not closed."
    )
    return f"{path}, line {line:,}: {cells} where the header has {wanted}. {hint}"


def _decoded(body: bytes, path: str) -> str:
    try:
        return body.decode("utf-8-sig")
    except UnicodeDecodeError as error:
        line = body.count(b"\n", 0, error.start) + 1
        column = error.start - body.rfind(b"\n", 0, error.start)
        raise CatalogueError(
            f"{path}, line {line:,}, byte {column:,} of it: 0x{body[error.start]:02X} is not UTF-8. "
            "Save the file again as CSV (UTF-8)."
        ) from None
