"""Workbooks in OpenDocument (.ods; ISO/IEC 26300): values by calamine, and what it passes over by a walk through the
XML.

It passes over errors, flags, number formats that show leading zeros, formulas that were never computed, and all that
hides or merges cells.
"""

from __future__ import annotations

import re
from typing import Any
from xml.parsers import expat

from neat_delta.core.base.model.catalogue import column_letter
from neat_delta.core.base.support.errors import CatalogueError
from neat_delta.files.readers.grid import Grid
from neat_delta.files.readers.packed import must_be_bounded
from neat_delta.files.readers.xlsx import MOST_CELLS, calamine_rows, choose_sheet, opened, wanted_sheets

__all__ = ["read_ods"]

ODD = re.compile(
    rb'value-type="(?:error|boolean)"|visibility="|min-integer-digits="(?:[2-9]|[1-9][0-9])"|-spanned="|table:formula="'
)
"""What makes the walk through the XML worth its time."""

FARTHEST = 1_048_576


def read_ods(data: bytes, path: str, wanted: str | None) -> Grid:
    """One sheet of a workbook, the first or the one that is wanted. CatalogueError when it cannot be read."""
    archive = opened(data, path)
    kept = must_be_bounded(archive, len(data), path, ("META-INF/manifest.xml", "content.xml", "styles.xml"))
    if b"encryption-data" in kept.get("META-INF/manifest.xml", b""):
        raise CatalogueError(f"{path}: the workbook is locked with a password. Save it without one.")
    if "content.xml" not in kept:
        raise CatalogueError(f"{path}: the workbook is damaged. Open it in a spreadsheet and save it again.")
    content, styles = kept["content.xml"], kept.get("styles.xml", b"")
    walk = _Walk(content, styles, path)
    name = choose_sheet(walk.names, wanted, path)
    names = wanted_sheets(name, walk.names)
    grid = Grid([], name, [other for other in walk.names if other not in names])
    if ODD.search(content) or ODD.search(styles):
        walk.through(grid)
    _must_be_dense(content, path, name)
    grid.rows, *origin = calamine_rows(data, path, names)
    grid.origin = origin[0] if origin else ()
    return grid


def _must_be_dense(content: bytes, path: str, name: str) -> None:
    """A cell that holds something and is repeated a million times would take all memory."""
    times = [
        int(number)
        for number in re.findall(
            rb'<table:table-cell[^>]*number-columns-repeated="([0-9]+)"[^>]*office:value-type[^>]*>', content
        )
    ]
    if sum(times) > MOST_CELLS or any(number > 16_384 for number in times):
        raise CatalogueError(f'{path}: the sheet "{name}" repeats cells without end. Delete those far from the table.')


class _Walk:
    """One pass through `content.xml`. `names` are the sheets; `through` fills a grid with what is odd in its sheet."""

    def __init__(self, content: bytes, styles: bytes, path: str) -> None:
        self.content, self.own_styles, self.path = content, styles, path
        self.names = [
            name.decode().replace("&amp;", "&").replace("&quot;", '"').replace("&lt;", "<").replace("&gt;", ">")
            for name in re.findall(rb'<table:table\s[^>]*?table:name="([^"]*)"', content)
        ]

    def through(self, grid: Grid) -> None:
        """Tell a grid what is odd in it."""
        self.grid = grid
        self.inside = False
        self.row = self.column = 0
        self.rows = self.columns = 1
        self.cell: dict[str, str] | None = None
        self.text: list[str] | None = None
        self.places: dict[str, int] = {}
        self.styles: dict[str, str] = {}
        self.data_style = ""
        self.defaults: list[tuple[int, str]] = []
        for part in (self.own_styles, self.content):
            if part:
                self._parse(part)

    def _parse(self, part: bytes) -> None:
        parser = expat.ParserCreate()
        parser.StartElementHandler, parser.EndElementHandler = self._start, self._end
        parser.CharacterDataHandler = self._characters
        parser.EntityDeclHandler = self._entity
        parser.buffer_text = True
        try:
            parser.Parse(part, True)
        except expat.ExpatError as error:
            raise CatalogueError(
                f"{self.path}: the workbook is damaged ({error}). Open it in a spreadsheet and save it again."
            ) from None

    def _entity(self, *_: Any) -> None:  # noqa: ANN401 - as expat calls it
        raise CatalogueError(
            f"{self.path}: the workbook declares entities of its own, which no spreadsheet does. Save it with one."
        )

    def _start(self, name: str, attributes: dict[str, str]) -> None:
        if name == "number:number-style":
            self.data_style = attributes.get("style:name", "")
        elif name == "number:number" and self.data_style:
            if attributes.get("number:decimal-places", "0") == "0" and attributes.get("number:grouping") != "true":
                self.places[self.data_style] = int(attributes.get("number:min-integer-digits", "0"))
        elif name == "style:style" and attributes.get("style:family") == "table-cell":
            data = attributes.get(
                "style:data-style-name", self.styles.get(attributes.get("style:parent-style-name", ""), "")
            )
            self.styles[attributes.get("style:name", "")] = data
        elif name == "table:table":
            self.inside = attributes.get("table:name") == self.grid.name
            self.row = self.column = 0
        elif self.inside:
            self._in_table(name, attributes)

    def _in_table(self, name: str, attributes: dict[str, str]) -> None:
        if name == "table:table-column":
            times = int(attributes.get("table:number-columns-repeated", "1"))
            if attributes.get("table:visibility") and self.column < 16_000:
                self.grid.hidden_columns += range(self.column, self.column + min(times, 64))
            self.defaults += [(self.column, attributes.get("table:default-cell-style-name", ""))]
            self.column += times
        elif name == "table:table-row":
            self.column, self.rows = 0, int(attributes.get("table:number-rows-repeated", "1"))
            if attributes.get("table:visibility") and self.row + self.rows < FARTHEST:
                self.grid.hidden_rows += self.rows
                self.grid.filtered |= attributes["table:visibility"] == "filter"
        elif name in {"table:table-cell", "table:covered-table-cell"}:
            self.columns = int(attributes.get("table:number-columns-repeated", "1"))
            self.cell, self.text = attributes, None
        elif name == "text:p" and self.cell is not None:
            self.text = [] if self.text is None else [*self.text, "\n"]

    def _characters(self, text: str) -> None:
        if self.inside and self.text is not None:
            self.text.append(text)

    def _end(self, name: str) -> None:
        if name == "number:number-style":
            self.data_style = ""
        elif name == "table:table":
            self.inside = False
        elif self.inside and name == "table:table-row":
            self.row += self.rows
        elif self.inside and name in {"table:table-cell", "table:covered-table-cell"} and self.cell is not None:
            self._of_cell(self.cell, "".join(self.text or ()))
            self.column += self.columns
            self.cell = self.text = None

    def _of_cell(self, cell: dict[str, str], text: str) -> None:
        kind = cell.get("calcext:value-type") or cell.get("office:value-type")
        across, down = (int(cell.get(f"table:number-{way}-spanned", "1")) for way in ("columns", "rows"))
        if across * down > 1:
            first, last = column_letter(self.column + 1), column_letter(self.column + across)
            self.grid.merged.append(f"{first}{self.row + 1}:{last}{self.row + down}")
        display = None
        plain = kind == "float" and (text in {"TRUE", "FALSE"} or (text.isdigit() and self._padded(cell)))
        if plain or kind in {"error", "boolean"}:
            display = text
        elif cell.get("table:formula") and kind is None:
            self.grid.uncomputed.append((self.row, self.column))
        if display is not None:
            for row in range(self.row, self.row + min(self.rows, FARTHEST)):
                for column in range(self.column, self.column + self.columns):
                    self.grid.displayed[row, column] = display

    def _padded(self, cell: dict[str, str]) -> bool:
        style = cell.get("table:style-name")
        if style is None:
            style = next((name for column, name in reversed(self.defaults) if column <= self.column), "")
        return self.places.get(self.styles.get(style, ""), 0) > 1
