"""Files that are damaged, made to do harm, or no catalogue at all: one clear error each, in bounded memory."""

from __future__ import annotations

import gzip
import io
import random
import resource
import subprocess
import zipfile
from collections.abc import Callable
from pathlib import Path

import pytest

from neat_delta import NeatDeltaError, read
from tests import fuzz
from tests.conftest import LENGTH, PROGRAM, campaign, each_of, first_of
from tests.made import DATA, HEADINGS, ROWS, delimited, files_of_every_format, ods, xlsx, zipped

CORPUS = sorted((Path(__file__).parent / "corpus").iterdir())


def bomb(size: int) -> bytes:
    """A zip archive of a few hundred thousand bytes that unpacks to so many zeros."""
    out = io.BytesIO()
    with (
        zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as archive,
        archive.open("live.csv", "w", force_zip64=True) as member,
    ):
        for _ in range(size >> 20):
            member.write(bytes(1 << 20))
    return out.getvalue()


def altered(book: bytes, change: Callable[[str, bytes], bytes]) -> bytes:
    """A workbook whose parts were changed."""
    honest, out = zipfile.ZipFile(io.BytesIO(book)), io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as archive:
        for member in honest.infolist():
            stored = zipfile.ZIP_STORED if member.filename == "mimetype" else zipfile.ZIP_DEFLATED
            archive.writestr(member.filename, change(member.filename, honest.read(member)), stored)
    return out.getvalue()


def huge_workbook() -> bytes:
    """A small workbook whose sheet unpacks to far more than any table of its size."""
    blanks = b" " * (300 << 20)
    return altered(xlsx(HEADINGS, ROWS), lambda name, part: part + blanks if name.endswith("sheet1.xml") else part)


def far_apart() -> bytes:
    """A workbook with one cell in the last row and column."""
    far = b'<row r="1048576"><c r="XFD1048576"><v>1</v></c></row></sheetData>'
    return altered(xlsx(HEADINGS, ROWS), lambda _, part: part.replace(b"</sheetData>", far))


def with_entity() -> bytes:
    """A workbook that declares an entity of its own, as files made to do harm do."""
    old, new = (
        b"<office:document-content",
        b'<!DOCTYPE x [<!ENTITY a "aaaa">]><office:document-content table:formula="&a;"',
    )
    return altered(ods(HEADINGS, ROWS), lambda _, part: part.replace(old, new, 1))


def locked_ods() -> bytes:
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w") as archive:
        archive.writestr("mimetype", "application/vnd.oasis.opendocument.spreadsheet")
        archive.writestr("META-INF/manifest.xml", "<manifest:encryption-data/>")
        archive.writestr("content.xml", "garbled")
    return out.getvalue()


PLAIN = delimited(HEADINGS, ROWS)
BOOK = xlsx(HEADINGS, ROWS)
BAD = {
    "truncated zip": (lambda: zipped(PLAIN * 99, "live.csv")[:-60], "the zip archive is cut short or damaged"),
    "truncated workbook": (lambda: BOOK[: len(BOOK) // 2], "the workbook is cut short or damaged"),
    "truncated gzip": (lambda: gzip.compress(PLAIN)[:-20], "the gzip archive is cut short"),
    "damaged gzip": (
        lambda: gzip.compress(PLAIN)[:30] + b"xxxx" + gzip.compress(PLAIN)[34:],
        "the gzip archive is damaged",
    ),
    "locked workbook": ((DATA / "locked.xlsx").read_bytes, "locked with a password. Save it without one"),
    "locked ods": (locked_ods, "locked with a password. Save it without one"),
    "zip bomb": (lambda: bomb(600 << 20), "it unpacks to more than 64 MB"),
    "gzip bomb": (lambda: gzip.compress(bytes(10 << 20)) * 30, "it unpacks to more than 64 MB"),
    "huge workbook": (huge_workbook, "it unpacks to more than 64 MB"),
    "cells far apart": (far_apart, "reaches over 1,048,576 rows and 16,384 columns. Delete the cells far from"),
    "100 MB on one line": (lambda: b"sku,price," * 10_000_000, "the first line is longer than"),
    "100 MB in one row": (
        lambda: b"sku,price\nQA-1," + b"x," * 50_000_000,
        "line 2: 50000002 cells where the header has 2",
    ),
    "NULs": (lambda: b"sku,price\nQA-1,5\n" * 9_000 + b"QA-2,\0\0\n", "line 18,001: there is a zero character in it"),
    "nothing but NULs": (lambda: bytes(100_000), "this is no text file (byte 1 is zero)"),
    "mixed encodings": (
        lambda: "sku,name\nQA-1,Crème\nQA-2,Größe\n".encode() + "QA-3,Piège\n".encode("cp1252"),
        "line 4: this is not UTF-8, and other lines are; the file mixes two encodings",
    ),
    "20,000 columns": (
        lambda: b",".join(b"h%d" % n for n in range(20_000)) + b"\n" + b"," * 19_999 + b"\n",
        "20,000 columns, and at most 16,384 are read",
    ),
    "random bytes": (lambda: random.Random(1).randbytes(200_000), ""),
    "a picture": (lambda: b"\x89PNG\r\n\x1a\n" + bytes(99), "this is a PNG image, and no table"),
    "an object": (lambda: b'{"products": [{"sku": "QA-1"}]', "it is no JSON object"),
    "damaged Parquet": (lambda: b"PAR1" + bytes(99) + b"PAR1", "the Parquet file cannot be read"),
    "an entity of its own": (
        with_entity,
        "declares entities of its own",
    ),
}


LARGE = ("zip bomb", "huge workbook", "cells far apart", "100 MB on one line", "20,000 columns", "an entity of its own")
"""Those that would take much memory, of those that are small for what is in them, or large."""


def _bounded() -> None:
    resource.setrlimit(resource.RLIMIT_AS, (6 << 30, 6 << 30))


def must_be_one_clear_error(done: subprocess.CompletedProcess[str], message: str, bad: Path, data: bytes) -> None:
    assert (done.returncode, done.stdout) == (2, "")
    assert done.stderr.startswith("Error: bad")
    assert done.stderr.count("\n") == 1
    assert message in done.stderr
    assert bad.read_bytes() == data  # inputs stay as they are


@pytest.mark.parametrize(
    "content, message",
    [
        pytest.param(*case, id=name, marks=campaign if "100 MB" in name else ())
        for name, case in BAD.items()
        if name not in LARGE
    ],
)
def test_a_bad_file_is_one_clear_error(put, tmp_path, run, content, message):
    put("sheet.csv", PLAIN)
    data = content()
    put("bad", data)
    done = run("compare", "bad", "sheet.csv")
    must_be_one_clear_error(done, message, tmp_path / "bad", data)


@pytest.mark.parametrize(
    "content, message",
    [pytest.param(*case, marks=() if name in LARGE[2:5] else campaign, id=name) for name, case in BAD.items()],
)
def test_a_bad_file_is_one_clear_error_in_bounded_memory(put, tmp_path, content, message):
    put("sheet.csv", PLAIN)
    data = content()
    put("bad", data)
    done = subprocess.run(
        [PROGRAM, "compare", "bad", "sheet.csv"],
        cwd=tmp_path,
        capture_output=True,
        text=True,
        check=False,
        timeout=60,  # far more than it takes: it must not hang
        preexec_fn=_bounded,
    )
    must_be_one_clear_error(done, message, tmp_path / "bad", data)


@pytest.mark.parametrize("file", CORPUS, ids=[file.name for file in CORPUS])
def test_what_fuzzing_found_is_read_or_refused(file):
    assert fuzz.one(file.read_bytes()) is None


@pytest.mark.parametrize("inputs", first_of([40, 400], 1))
def test_spoiled_files_are_read_or_refused(inputs):
    """A few of what `python -m tests.fuzz` does by the hundred thousand."""
    said: list[str] = []
    assert fuzz.fuzz(inputs, 7, said.append, None) == 0, said


@pytest.mark.parametrize("places", first_of([3, 20 * LENGTH], 1))
@pytest.mark.parametrize("name, content", each_of(2, files_of_every_format().items()), ids=files_of_every_format())
def test_a_file_that_is_cut_short_anywhere_is_read_or_refused(name, content, places):
    del name
    for end in range(0, len(content), max(1, len(content) // places)):
        assert fuzz.one(content[:end]) is None


def test_a_message_never_breaks_the_line(put):
    with pytest.raises(NeatDeltaError) as error:
        read(put("live.csv", '"a\nb","a\nb"\n1,2\n'))
    assert 'the heading "a↵b" stands in 2 columns (A, B)' in str(error.value)
