"""Reading a store's report of an import as a table of texts: any table that a catalogue may be, XML of plain rows, the
table of an HTML page, JSON with the rows inside, a log of one line a row.
"""

from __future__ import annotations

import os
import re
from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import replace
from html.parser import HTMLParser
from xml.etree import ElementTree

import msgspec
import polars as pl

from neat_delta.core.base.infer.results import DraftedResults, draft_results, line_pattern
from neat_delta.core.base.model.layout import Layout
from neat_delta.core.base.model.results import ResultsForm
from neat_delta.core.base.support.errors import CatalogueError, FileError, StoreError
from neat_delta.files.readers.encoding import codec, decoded, guess, of_head
from neat_delta.files.readers.magic import binary_format
from neat_delta.files.readers.packed import unpack
from neat_delta.files.reading import read
from neat_delta.files.whole import AnyPath, Loaded, digest_of, load

__all__ = ["draft_report", "read_report"]


def read_report(path: AnyPath, form: ResultsForm | None = None, layout: Layout | None = None) -> pl.DataFrame:
    """The report's rows, every cell a text; of a log those of the lines that fit the form's pattern. FileError or
    CatalogueError when it is none: an empty file, a page that has no table.

    >>> from pathlib import Path
    >>> from tempfile import mkdtemp
    >>> path = Path(mkdtemp()) / "report.html"
    >>> _ = path.write_text("<table><tr><th>sku<th>result<tr><td>QA-1<td>imported</table>")
    >>> read_report(str(path)).rows()
    [('QA-1', 'imported')]
    """
    path = os.fspath(path)
    return _read(load(path), form, layout)


def _read(file: Loaded, form: ResultsForm | None, layout: Layout | None) -> pl.DataFrame:
    path = file.path
    if not file.data.strip():
        raise FileError(f"{path}: it is empty, so it says nothing of the import. Download the report again.")
    if form is not None and form.line is not None:
        return _log(_lines(file, layout), form.line, path)
    if binary_format(file.data) is None:
        data, _ = unpack(file.data, path)
        head = data.lstrip(b"\xef\xbb\xbf\xff\xfe \t\r\n\0")[:1]
        if binary_format(data) is None and head == b"<":
            return _markup(_text(data, path, layout), path)
        if binary_format(data) is None and head == b"{" and (rows := _rows_inside(data)) is not None:
            file = Loaded(path, rows, lambda: digest_of(rows))
    return read(file, layout).cells


def draft_report(
    path: AnyPath,
    live: pl.DataFrame,
    key: Sequence[str],
    headings: Mapping[str, str],
    layout: Layout | None = None,
) -> tuple[DraftedResults, pl.DataFrame]:
    r"""What a store's reports look like, guessed from one of a catalogue (`live`, its key fields, and what they are
    called where that is otherwise); and the report, read so. CatalogueError when nothing tells.

    >>> from pathlib import Path
    >>> from tempfile import mkdtemp
    >>> path = Path(mkdtemp()) / "report.csv"
    >>> _ = path.write_text("Article,Result\nQA-1,Imported\nQA-2,Rejected\n")
    >>> drafted, _ = draft_report(str(path), pl.DataFrame({"sku": ["QA-1", "QA-2"]}), ["sku"], {})
    >>> drafted.form.key, drafted.form.status
    (['Article'], 'Result')
    """
    path = os.fspath(path)
    problem, file = None, load(path)
    try:
        report = _read(file, None, layout)
        if report.width > 1:
            return draft_results(report, live, key, headings), report
    except CatalogueError as error:  # it may be a log
        problem = error
    if binary_format(file.data) is not None:
        raise problem or CatalogueError(f"{path}: it has one column only, which says nothing of a row.")
    try:
        lines = _lines(file, layout)
        pattern, hits = line_pattern(lines, list(live[key[0]]))
    except CatalogueError as error:
        raise (problem or error) from None
    report = _log(lines, pattern, path)
    drafted = draft_results(report, live, key, headings)
    evidence = drafted.evidence | {"line": f"{hits:,} of its lines have a code of live and say what became of it"}
    return replace(drafted, form=msgspec.structs.replace(drafted.form, line=pattern), evidence=evidence), report


def _lines(file: Loaded, layout: Layout | None) -> list[str]:
    """The lines of a log that are not blank."""
    data, _ = unpack(file.data, file.path)
    return [line for line in _text(data, file.path, layout).splitlines() if line.strip()]


def _text(data: bytes, path: str, layout: Layout | None) -> str:
    """The text of a file: in the encoding that is told, that it names itself, that its bytes show, or that fits."""
    encoding, _ = of_head(data)
    named = re.search(rb"""(?:encoding|charset)=["']?([\w-]+)""", data[:1000])
    if layout is not None and layout.encoding is not None:
        return decoded(data, codec(layout.encoding), path)
    if encoding == "utf-8" and named is not None:
        return decoded(data, codec(named[1].decode()), path)
    try:
        return decoded(data, encoding, path)
    except CatalogueError:
        return decoded(data, guess(data, path)[0], path)


def _log(lines: list[str], pattern: str, path: str) -> pl.DataFrame:
    try:
        compiled = re.compile(pattern)
    except re.error as error:
        raise StoreError(
            f"[results] line: it is no regular expression ({error}). Put it right in the store file."
        ) from None
    if not compiled.groupindex:
        raise StoreError("[results] line: it has no group with a name, such as (?P<key>[^ ]+).")
    rows = [match.groupdict("") for line in lines if (match := compiled.search(line))]
    if not rows:
        raise CatalogueError(f"{path}: no line of it is as [results] line in the store file says. Is it another log?")
    return pl.DataFrame(rows, schema=dict.fromkeys(compiled.groupindex, pl.String))


def _rows_inside(data: bytes) -> bytes | None:
    """The longest list of objects in a JSON object, as it stands there."""
    try:
        outer = msgspec.json.decode(data, type=dict[str, msgspec.Raw])
        lists = [bytes(value) for value in outer.values() if bytes(value)[:1] == b"["]
        return max((part for part in lists if part[1:].lstrip()[:1] == b"{"), key=len, default=None)
    except (msgspec.MsgspecError, RecursionError):
        return None


def _markup(text: str, path: str) -> pl.DataFrame:
    start = re.sub(r"<!--.*?-->", "", text[:20_000], flags=re.DOTALL)
    if re.search(r"<(!doctype html|html|head|body|table|div|p)\b", start, re.IGNORECASE):
        return _page(text, path)
    return _xml(text, path)


class _Tables(HTMLParser):
    """The tables of a page, each as rows of texts."""

    def __init__(self) -> None:
        super().__init__()
        self.tables: list[list[list[str]]] = []
        self.title, self.inside, self.words, self.wide = "", list[int](), "", 1
        self.open = self.cell = False

    def handle_starttag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        if tag in {"table", "tr", "td", "th"}:  # whose end tags may be left out
            self._end_of_cell()
        if tag == "table":
            self.tables.append([])
            self.inside.append(len(self.tables) - 1)
        elif tag == "tr" and self.inside:
            self.tables[self.inside[-1]].append([])
        elif tag in {"td", "th", "title"}:
            wide = dict(attrs).get("colspan") or "1"
            self.open, self.cell, self.words = True, tag != "title", ""
            self.wide = int(wide) if wide.isdecimal() else 1
        elif tag == "br":
            self.words += "\n"

    def handle_endtag(self, tag: str) -> None:
        if tag == "title":
            self.title, self.open = " ".join(self.words.split()), False
        elif tag in {"td", "th", "tr"}:
            self._end_of_cell()
        elif tag == "table" and self.inside:
            self._end_of_cell()
            self.inside.pop()

    def _end_of_cell(self) -> None:
        if self.open and self.cell and self.inside and self.tables[self.inside[-1]]:
            text = "\n".join(" ".join(line.split()) for line in self.words.split("\n")).strip()
            self.tables[self.inside[-1]][-1] += [text] * min(self.wide, 1000)
        self.open = self.open and not self.cell

    def handle_data(self, data: str) -> None:
        if self.open:
            self.words += data


def _page(text: str, path: str) -> pl.DataFrame:
    page = _Tables()
    page.feed(text)
    page.close()
    tables = [[row for row in table if any(row)] for table in page.tables]
    best = max(tables, key=len, default=[])
    if len(best) < 2:
        title = f', "{page.title}"' if page.title else ""
        raise FileError(
            f"{path}: this is a web page{title}, and no table is in it. It may be an error page or one to sign in; "
            "download the report again."
        )
    return _table(best[0], best[1:], path)


def _table(headings: list[str], rows: list[list[str]], path: str) -> pl.DataFrame:
    repeated = [name for name, times in Counter(headings).items() if times > 1 and name]
    if repeated:
        raise CatalogueError(f'{path}: the heading "{repeated[0]}" stands there twice. Rename one.')
    wide = [at for at, name in enumerate(headings) if name]
    cells = [[row[at] if at < len(row) else "" for at in wide] for row in rows]
    return pl.DataFrame(cells, schema=dict.fromkeys((headings[at] for at in wide), pl.String), orient="row")


def _xml(text: str, path: str) -> pl.DataFrame:
    if re.search(r"<!(DOCTYPE|ENTITY)", text[:20_000]):  # no entities of a stranger's
        raise FileError(f"{path}: this XML has a document type, which is not read. Export plain rows.")
    try:
        root = ElementTree.fromstring(re.sub(r"^\s*<\?xml[^>]*\?>", "", text))
    except ElementTree.ParseError as error:
        raise FileError(f"{path}: it is no XML ({error}). Download it again.") from None
    best, many = root, 0
    for element in root.iter():
        tags = Counter(child.tag for child in element)
        most = max(tags.values(), default=0)
        if most > many and any(len(child) or child.attrib for child in element):
            best, many = element, most
    rows = [_row(child) for child in best]
    names = dict.fromkeys(name for row in rows for name in row)
    if not names:
        raise FileError(f"{path}: no rows are in this XML. Download it again.")
    return pl.DataFrame({name: pl.Series([row.get(name, "") for row in rows], dtype=pl.String) for name in names})


def _row(element: ElementTree.Element) -> dict[str, str]:
    """The attributes and the child elements of a row; one with a name is called so."""
    out = {_bare(name): text for name, text in element.attrib.items()}
    for child in element:
        name = next(
            (child.attrib[attribute] for attribute in ("name", "field", "key") if attribute in child.attrib),
            _bare(child.tag),
        )
        out[name] = "".join(child.itertext()).strip()
    if not len(element) and (text := (element.text or "").strip()):
        out.setdefault("text", text)
    return out


def _bare(tag: str) -> str:
    return tag.rpartition("}")[2]
