"""Delimited text: every cell as it stands in the file, or one clear error that says where."""

from __future__ import annotations

import csv
import io

import pytest
from hypothesis import example
from hypothesis import strategies as st

from neat_delta import CatalogueError, Layout, read
from neat_delta.core.base.model.catalogue import column_letter
from neat_delta.core.base.support import sizes
from neat_delta.files.readers.delimited import read_text
from neat_delta.files.readers.dialect import ENDS
from tests.conftest import in_two_lengths

MAPPED = pytest.mark.parametrize("large", [0, 1 << 24], ids=["mapped", "read"])
"""Large files are mapped into memory, others read: both ways must give the same."""

RAGGED = st.lists(st.sampled_from(["a", "é", ",", ",", '"', '""', "\n", " ", '",', '\n"', ',"']), max_size=12).map(
    "".join
)


@st.composite
def texts(draw: st.DrawFn) -> str:
    """Files under a header of two or three fields: rows by the book, and rows that somebody typed."""
    width, end = draw(st.integers(2, 3)), draw(st.sampled_from(["\n", "\r\n"]))
    out = io.StringIO(newline="")
    out.write(",".join("xyz"[:width]) + end)
    for row in draw(
        st.lists(st.one_of(RAGGED, st.lists(RAGGED, min_size=width, max_size=width)), min_size=1, max_size=5)
    ):
        if isinstance(row, str):
            out.write(row.replace("\n", end) + end)
        else:
            quoted = draw(st.booleans())
            csv.writer(out, lineterminator=end, quoting=csv.QUOTE_ALL if quoted else csv.QUOTE_MINIMAL).writerow(row)
    text = out.getvalue()
    return text.rstrip("\r\n") if draw(st.booleans()) else text


def by_the_book(text: str) -> list[tuple[str, ...]] | None:
    """The rows under the header as Python's strict CSV reader has them, or None where they are no table."""
    try:
        header, *rows = csv.reader(io.StringIO(text.rstrip("\r\n"), newline=""), strict=True)
    except csv.Error:
        return None
    if not rows or any(row and len(row) != len(header) for row in rows):
        return None
    return [tuple(row or [""] * len(header)) for row in rows]


@in_two_lengths(texts(), st.sampled_from([sizes.BYTES_WORTH_NUMPY, 1, 2, 5]), few=100, many=1000)
@example(
    'x,y\n" ",""\n  ,"\n"\n,","\na"\n', sizes.BYTES_WORTH_NUMPY, "few"
)  # what a faster parser reads without a word, and otherwise
@example('x,y\n""a"",1\n', sizes.BYTES_WORTH_NUMPY, "few")
@example("x,y\n1\n2,3,", sizes.BYTES_WORTH_NUMPY, "few")
def test_every_file_is_read_by_the_book_or_refused(text, large):
    wanted = by_the_book(text)
    with pytest.MonkeyPatch.context() as patched:
        patched.setattr(sizes, "BYTES_WORTH_NUMPY", large)
        patched.setattr(sizes, "BYTES_OF_A_BLOCK", large)  # in blocks of so few bytes, every quote stands at an edge
        try:
            found = read_text(
                text.encode(),
                "made.csv",
                Layout(separator=",", line_end="CRLF" if "\r\n" in text else "LF", quote='"', escape="", header_line=1),
            ).cells.rows()
        except CatalogueError:
            found = None
    assert found == wanted


@pytest.mark.parametrize("separator", ",;\t|")
@pytest.mark.parametrize("end", ["\n", "\r\n", "\r"])
@pytest.mark.parametrize("start", ["", "\ufeff"])
@pytest.mark.parametrize("quoting", [csv.QUOTE_MINIMAL, csv.QUOTE_ALL])
@MAPPED
def test_the_dialect_is_found_out(put, monkeypatch, separator, end, start, quoting, large):
    monkeypatch.setattr(sizes, "BYTES_HASHED_BY_ALL_CORES", large)
    monkeypatch.setattr(sizes, "BYTES_WORTH_NUMPY", max(1, large))
    rows = [("QA-1", 'Frame, 1 3/8"', "19.90"), ("QA-2", f"Two{end}lines; a | and a\ttab", ""), ("007", "Crème", "5")]
    out = io.StringIO(newline="")
    csv.writer(out, delimiter=separator, lineterminator=end, quoting=quoting).writerows(
        [("sku", "name", "price"), *rows]
    )
    for tail in ("", end * 2):
        found = read(put("live.csv", start + out.getvalue() + tail))
        assert found.cells.rows() == rows
        assert found.layout == Layout(
            separator=separator,
            line_end=ENDS[end],
            bom=bool(start),
            quote_all=quoting == csv.QUOTE_ALL,
            encoding="utf-8",
            quote='"',
            escape="",
            header_line=1,
            format="delimited",
        )


@MAPPED
def test_odd_but_plain_files_are_read(put, monkeypatch, large):
    """Quotes inside unquoted cells, blank lines among the rows, mixed line ends, columns without a heading."""
    monkeypatch.setattr(sizes, "BYTES_HASHED_BY_ALL_CORES", large)
    found = read(put("live.csv", 'sku,name,\nQA-1,5" pipe,\r\n\nQA-2,say "hm",note\n'))
    assert found.cells.rows() == [("QA-1", '5" pipe'), ("", ""), ("QA-2", 'say "hm"')]
    assert found.unnamed == (3,)


BAD = {
    "empty": (b"", "the file is empty"),
    "blank": (b"\xef\xbb\xbf \n\n", "the file is empty"),
    "header only": (b"sku,price\n", "a header and no rows"),
    "workbook": (b"PK\x03\x04rest", "the zip archive is cut short or damaged"),
    "image": (b"\x89PNG\r\n\x1a\n", "this is a PNG image"),
    "zeros": (b"sku,price\n\x00\x01,2\n", "this is no text file (byte 11 is zero)"),
    "two encodings": (
        "sku,name\nQA-1,Crème\nQA-2,Größe\n".encode() + b"QA-3,Cr\xe8me\n",
        "line 4: this is not UTF-8, and other lines are; the file mixes two encodings",
    ),
    "too many": (b"sku,price\nQA-1,1\nQA-2,1,20\n", "line 3: 3 cells where the header has 2. A cell with a comma"),
    "too few": (b"sku,price,stock\nQA-1,1,2\nQA-2,1\n", "line 3: 2 cells where the header has 3"),
    "too few and too many": (b"a;b;c\n1;2\n1;2;3;4\n", "line 2: 2 cells where the header has 3"),
    "open quote": (b'sku,name\nQA-1,"open\nQA-2,x\n', "line 2: a quote opens here and is never closed"),
    "open quote on the last line": (b'sku,name\nQA-1,x\nQA-2,"open', "line 3: a quote opens here"),
    "quote closed too late": (
        b'sku,name\nQA-1,"open\nQA-2,"x"\n',
        "line 2: a quote opens here and closes inside a cell of line 3",
    ),
    "after the quote": (b'sku,name\nQA-1,"a"b\n', "line 2: a quoted cell goes on after its closing quote"),
    "lines in a cell before": (b'sku,name\nQA-1,"a\nb"\nQA-2\n', "line 4: 1 cell where the header has 2"),
    "same heading": (b"sku,price,price\n1,2,3\n", 'line 1: the heading "price" stands in 2 columns (B, C)'),
    "no headings": (b",,\n1,2,3\n", "line 1: there are no headings"),
}


@pytest.mark.parametrize("content, message", BAD.values(), ids=BAD)
@MAPPED
def test_a_bad_file_is_one_clear_error(put, monkeypatch, large, content, message):
    monkeypatch.setattr(sizes, "BYTES_HASHED_BY_ALL_CORES", large)
    path = put("live.csv", content)
    with pytest.raises(CatalogueError) as error:
        read(path)
    assert str(error.value).startswith(path)
    assert message in str(error.value)
    assert "\n" not in str(error.value)


def test_column_letters_are_those_of_a_spreadsheet():
    assert [column_letter(n) for n in (1, 26, 27, 52, 53, 702, 703)] == ["A", "Z", "AA", "AZ", "BA", "ZZ", "AAA"]
