"""What a file shows at a glance: its beginning is read, and no more. The names in it, for what is only offered to a
person; and whether files are written alike, and how much memory they take, which decides how they are read, and nothing
that comes of it.

What a file is, is found out by `files.reading`.
"""

from __future__ import annotations

import csv
import io
import json
import math
import os
import tomllib
from pathlib import Path
from typing import Any

from neat_delta.files.footprint import fits

__all__ = ["fields_of_changes", "files_alike", "files_read_later", "headings_at_a_glance", "memory_of", "table_names"]

GLANCE_BYTES = 65_536
MARKS = ",;\t|"
"""What may stand between cells."""

LINES_ABOVE = 20
"""So many lines are looked at for the headings: titles may stand above them."""


def headings_at_a_glance(path: str) -> list[str]:
    """The headings of delimited text, or the names in the first object of JSON; none where that is not plain.

    >>> from importlib.resources import files
    >>> headings_at_a_glance(str(files("neat_delta.demo").joinpath("supplier.csv")))
    ['EAN', 'Article', 'Trade', 'RRP']
    """
    text = _beginning(path)
    if text.lstrip()[:1] in {"{", "["}:
        start = text.find("{")
        try:
            names, _ = json.JSONDecoder().raw_decode(text, max(start, 0))
        except ValueError:
            return []
        return list(names) if isinstance(names, dict) else []
    for line in csv.reader(io.StringIO(text), delimiter=_mark(text)):
        names = [name.strip() for name in line]
        if sum(map(bool, names)) > 1:
            return [name for name in names if name]
    return []


def files_read_later(live: object, sheet: object, *others: object) -> set[str]:
    """The paths of those that are files and are best read when they are asked for: those that are written alike, as
    only what differs is read of them then; and all of them where they take more memory as a whole than tables may.
    """
    paths = _paths(live, sheet, *others)
    if not fits(sum(memory_of(_size(path), _beginning(path)) for path in set(paths) if path)):
        return {path for path in paths if path and Path(path).is_file()}
    return files_alike(live, sheet, *others)


def memory_of(size: int, beginning: str) -> int:
    """How many bytes of memory a delimited text of this size takes in a comparison that reads it as a whole, as its
    beginning shows.

    >>> memory_of(1_000_000, "sku;price")
    4166666
    """
    cells = beginning.count(_mark(beginning)) + beginning.count("\n")
    return int(size * (1 + BYTES_A_CELL * cells / max(1, len(beginning))) * TIMES_OVER)


BYTES_A_CELL = 16
"""What each cell takes in a column of texts besides its text, if that has more than twelve bytes (Arrow's views)."""

TIMES_OVER = 1.5
"""A comparison takes so many times what its tables take as they are read."""


def files_alike(live: object, sheet: object, *others: object) -> set[str]:
    """The paths of those that are files and begin with the same line: exports of one store, as it seems, and what was
    made of one without another order of columns. None where live and the sheet do not, or where most rows in which both
    begin are another's by now.

    >>> from importlib.resources import files
    >>> live, supplier = (str(files("neat_delta.demo").joinpath(name)) for name in ("live.csv", "supplier.csv"))
    >>> files_alike(live, live) == {live}, files_alike(live, supplier), files_alike(live, None)
    (True, set(), set())
    """
    paths = _paths(live, sheet, *others)
    lines = {path: _lines(path) for path in paths}
    ours, theirs = lines[paths[0]], lines[paths[1]]
    if not ours or ours[:1] != theirs[:1]:
        return set()
    most = max(_bytes_to_meet(path, lines[path]) for path in paths[:2])
    if most > GLANCE_BYTES:
        ours, theirs = (_lines(path, most) for path in paths[:2])
    if _mostly_differ(ours[1:], theirs[1:]):
        return set()
    return {path for path in paths if lines[path][:1] == ours[:1]}


def _paths(*files: object) -> list[str]:
    """The paths of those that are files; "" for others."""
    return [os.fspath(each) if isinstance(each, str | os.PathLike) else "" for each in files]


def _size(path: str) -> int:
    """The size of a file; 0 where it is gone by now, which is said where it is read."""
    try:
        return Path(path).stat().st_size
    except (OSError, ValueError):
        return 0


def _lines(path: str, most: int = GLANCE_BYTES) -> list[str]:
    """The first lines of a file, as far as they have an end; none where it is no plain file."""
    return _beginning(path, most).split("\n")[:-1]


def _bytes_to_meet(path: str, lines: list[str]) -> int:
    """In how many bytes at the beginning of two files as long as this one, each in an order of its own, twice as many
    rows meet as say something: of n rows, those are in k of both, by chance, of which k * k is so many times n.
    """
    size, mean = _size(path), max(1, sum(map(len, lines)) // len(lines))
    return min(size, MOST_BYTES, math.isqrt(2 * LEAST_MET * size * mean))


MOST_BYTES = 1 << 23
"""No more than this of a file is read at a glance."""

LEAST_MET = 20
"""In so many rows both files must begin for what most of them are to say something."""


def _mostly_differ(lines: list[str], others: list[str]) -> bool:
    """Whether of the lines that begin with the same cell in both files, most are not the same."""
    mark = _mark("\n".join(lines[:LINES_ABOVE]))
    known = {line.partition(mark)[0]: line for line in others}
    met = [line == known[first] for line in lines if (first := line.partition(mark)[0]) in known]
    return len(met) >= LEAST_MET and sum(met) * 2 < len(met)


def _beginning(path: str, most: int = GLANCE_BYTES) -> str:
    """The first bytes of a file as text; none of it where it is no plain file, or no text."""
    try:
        place = Path(path)
        if not place.is_file():
            return ""
        with place.open("rb") as file:
            data = file.read(most)
    except (OSError, ValueError):
        return ""
    if data[:2] in {b"\xff\xfe", b"\xfe\xff"}:
        return data.decode("utf-16", errors="replace")
    if b"\0" in data:
        return ""
    try:
        return data.decode("utf-8-sig")
    except UnicodeDecodeError as error:
        cut_short = error.start > len(data) - 4  # a letter that was cut in two
        return data[: error.start].decode("utf-8-sig") if cut_short else data.decode("cp1252", errors="replace")


def _mark(text: str) -> str:
    """What stands between the cells: the mark that most of the first lines have, and have most often."""
    lines = text.splitlines()[:LINES_ABOVE]
    return max(MARKS, key=lambda mark: (sum(mark in line for line in lines), sum(line.count(mark) for line in lines)))


def fields_of_changes(path: str) -> list[str]:
    """The fields of a change set, from its first line.

    >>> fields_of_changes("there-is-none.jsonl")
    []
    """
    try:
        with Path(path).open("rb") as file:
            header = json.loads(file.readline())
    except (OSError, ValueError):
        return []
    fields = header.get("fields") if isinstance(header, dict) else None
    return [str(name) for name in fields] if isinstance(fields, list) else []


def table_names(path: str, table: str) -> list[str]:
    """The keys of a table in a TOML file, such as the fields of a store file; none where there is none.

    >>> from importlib.resources import files
    >>> table_names(str(files("neat_delta.demo").joinpath("soderbi.toml")), "headings")
    ['EAN', 'Trade']
    """
    try:
        parsed: dict[str, Any] = tomllib.loads(Path(path).read_text("utf-8"))
    except (OSError, ValueError):
        return []
    names = parsed.get(table)
    return list(names) if isinstance(names, dict) else []
