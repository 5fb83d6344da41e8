"""Writing a working sheet as a workbook (.xlsx) that is hard to damage (docs/sheet.md).

XlsxWriter makes the workbook; only the rows are laid out here, column by column, as a cell at a time takes four times
as long.
"""

from __future__ import annotations

import datetime as dt
import io
from typing import Any

import polars as pl
import xlsxwriter
from xlsxwriter.format import Format
from xlsxwriter.worksheet import Worksheet

from neat_delta.core.base.kinds import KINDS
from neat_delta.core.base.kinds.number import NUMBER_KINDS
from neat_delta.core.base.model.catalogue import Source, column_letter
from neat_delta.core.base.model.layout import Notation
from neat_delta.core.base.model.store import Field
from neat_delta.core.base.support.errors import OutputError
from neat_delta.core.base.support.series import constant, gathered, scattered, true_places
from neat_delta.core.sheets.worksheet.cut import Column, WorkingSheet
from neat_delta.files.memory import chunks_of, digest
from neat_delta.files.readers.grid import MEMORY_COLUMN, ORIGIN, ORIGIN_ROWS, REMEMBERS

__all__ = ["workbook"]

MOST_ROWS = 1_048_575
LONGEST_CELL = 32_767
EXACT_DIGITS = 15
"""What a spreadsheet has room for: rows under the header, characters in a cell, digits in a number."""

SPARE = 1_000
"""So many rows under the last one are ready for new items."""

WIDEST, NARROWEST = 44, 8
LINES = 2
"""Long texts are wrapped, and their rows are so many lines high."""

FEW = 12
"""A field without a list of values gets one to choose from when it has at most so many, each in five cells or more."""

SHADE, HEAD, INK, LINE = "#ECEAE4", "#2F4A43", "#FFFFFF", "#D5D1C7"


def workbook(sheet: WorkingSheet, live: Source, fields: int, memory: str | None = None) -> bytes:
    """The bytes of a workbook with the working sheet, and a hidden sheet that says where it was cut from, and what it
    remembers (`memory`, packed by `files.memory`; None: nothing).

    `fields` is how many live has. OutputError when a spreadsheet has no room for it. The same cut gives the same bytes.

    >>> from neat_delta import as_catalogue, cut_worksheet
    >>> live = as_catalogue({"sku": ["QA-1", "QA-2"], "price": ["9.90", "20.00"]}, "live")
    >>> workbook(cut_worksheet(live), live.source, 2)[:2]
    b'PK'
    """
    cells = sheet.cells
    _must_fit(cells)
    content = io.BytesIO()
    book = xlsxwriter.Workbook(content, {"in_memory": True})
    book.set_properties({"created": dt.datetime(2000, 1, 1)})
    page = book.add_worksheet("items", worksheet_class=_Page)
    origin = book.add_worksheet(ORIGIN)
    origin.hide()
    facts = {"path": live.path, "blake3": live.blake3, "rows": live.rows, "fields": fields, "cut": cells.height}
    origin.write_column(0, 0, list(ORIGIN_ROWS.values()))
    origin.write_column(0, 1, [facts[name] for name in ORIGIN_ROWS])
    if memory is not None:
        origin.write_row(len(ORIGIN_ROWS), 0, [REMEMBERS, digest(memory)])
        origin.write_column(0, MEMORY_COLUMN, chunks_of(memory))
    lists = MEMORY_COLUMN + 1  # the column of the hidden sheet for the next list of values
    head = book.add_format({"bold": True, "bg_color": HEAD, "font_color": INK, "valign": "vcenter", "text_wrap": True})
    for number, column in enumerate(sheet.columns):
        texts = cells[column.heading]
        form, body = _body(texts, column.settings, sheet.writing)
        width, long = _width(texts, column.heading)
        style = {"num_format": form, "valign": "top", "text_wrap": long, "border": 1, "border_color": LINE}
        style |= {"align": "left", "indent": 1} if form == TEXT_FORM else {}
        shade = {"bg_color": SHADE} if column.locked else {}
        own = book.add_format(style | shade | {"locked": column.locked})
        # A new item needs a code of its own, so under the last row the key is open.
        below = book.add_format({"num_format": form, "valign": "top", "text_wrap": long, "locked": False})
        page.set_column(number, number, width, below if column.key or not column.locked else own)
        page.write_string(0, number, column.heading, head)
        page.write_comment(0, number, _note(column), {"x_scale": 1.7, "y_scale": 0.8, "font_size": 9})
        page.add(number, body, own)
        if long:
            page.set_default_row(15 * LINES)
        values = [] if column.key else _choices(texts, column.settings)
        rule = _rule(column.settings)
        if values:
            letter = column_letter(lists + 1)
            origin.write_column(0, lists, values)
            lists += 1
            rule = {"validate": "list", "source": f"='{ORIGIN}'!${letter}$1:${letter}${len(values)}"}
            rule |= {"error_message": f"One of: {', '.join(values)}"[:255]}
        if rule is not None:
            suggested = values and column.settings.kind != "flag" and not column.settings.values
            rule |= {"error_title": column.heading[:32], "error_type": "warning" if suggested else "stop"}
            page.data_validation(1, number, min(cells.height + SPARE, MOST_ROWS), number, rule)
    page.set_row(0, 24)
    keys = sum(column.key for column in sheet.columns)
    page.freeze_panes(1, min(keys + 1, len(sheet.columns) - 1))
    page.autofilter(0, 0, cells.height, len(sheet.columns) - 1)
    page.protect(
        "", dict.fromkeys(("autofilter", "format_cells", "format_columns", "format_rows", "insert_rows"), True)
    )
    book.close()
    return content.getvalue()


class _Page(Worksheet):  # type: ignore[misc]
    """A worksheet whose rows under the header are laid out column by column."""

    def __init__(self) -> None:
        super().__init__()
        self.columns: list[tuple[int, pl.Series, Format]] = []

    def add(self, number: int, body: pl.Series, form: Format) -> None:
        """The cells of a column, as what stands in their elements after the style ("" for none)."""
        self.columns.append((number, body, form))

    def _write_dimension(self) -> None:
        self.dim_rowmax = self.columns[0][1].len()
        super()._write_dimension()

    def _write_rows(self) -> None:
        height, self.dim_rowmax = self.dim_rowmax, 0
        super()._write_rows()
        self.dim_rowmax = height
        table = pl.DataFrame([body.alias(str(number)) for number, body, _ in self.columns])
        for start in range(0, height, BATCH):
            self.fh.write(self._rows(table.slice(start, BATCH), start + 2))

    def _rows(self, table: pl.DataFrame, first: int) -> str:
        row = (pl.int_range(pl.len()) + first).cast(pl.String)
        parts = [pl.lit('<row r="'), row, pl.lit('">')]
        for number, _, form in self.columns:
            head = pl.concat_str(
                pl.lit(f'<c r="{column_letter(number + 1)}'), row, pl.lit(f'" s="{form._get_xf_index()}"')
            )
            body = pl.col(str(number))
            parts.append(pl.when(body != "").then(pl.concat_str(head, body)).otherwise(pl.lit("")))
        rows = table.select(pl.concat_str(*parts, pl.lit("</row>")).str.join(""))
        return str(rows.item())


BATCH = 10_000

TEXT_FORM = "@"
"""The format under which a spreadsheet takes what is typed as text."""


def _body(texts: pl.Series, field: Field, writing: Notation) -> tuple[str, pl.Series]:
    """A column's number format and, per cell, what its element holds: a number, a date or a text, "" where blank."""
    form, values = TEXT_FORM, constant(None, texts.len(), pl.String)
    filled = true_places(texts != "")
    if field.kind in {*NUMBER_KINDS, "date"} and filled.len():
        read = KINDS[field.kind].read(gathered(texts, filled), field, writing)
        form, cell_values = _of_numbers(read, field) if field.kind != "date" else _of_dates(read, field, writing)
        values = scattered(values, filled, cell_values)
    text = pl.col("text")
    kept = pl.when(text != text.str.strip_chars()).then(pl.lit(' xml:space="preserve"')).otherwise(pl.lit(""))
    inline = pl.concat_str(pl.lit(' t="inlineStr"><is><t'), kept, pl.lit(">"), _escaped(text), pl.lit("</t></is></c>"))
    return form, pl.DataFrame({"text": texts, "value": values}).select(
        pl.when(pl.col("value").is_not_null())
        .then(pl.concat_str(pl.lit("><v>"), pl.col("value"), pl.lit("</v></c>")))
        .when(text != "")
        .then(inline)
        .otherwise(pl.lit(""))
    ).to_series()


def _escaped(text: pl.Expr) -> pl.Expr:
    """A text within XML; control characters, and what looks like one already escaped, by their number (ISO/IEC 29500,
    ST_Xstring).
    """
    text = text.str.replace_all("\r\n", "\n", literal=True).str.replace_all("_(x[0-9A-Fa-f]{4}_)", "_x005F_$1")
    marks = {chr(n): f"_x{n:04X}_" for n in (*range(9), 11, 12, *range(13, 32), 0xFFFE, 0xFFFF)}
    return text.str.replace_many({"&": "&amp;", "<": "&lt;", ">": "&gt;"} | marks)


def _of_numbers(values: pl.Series, field: Field) -> tuple[str, pl.Series]:
    """The format with the store's decimals, and the numbers that a spreadsheet holds exactly; others stay texts."""
    digits = values.str.replace_all("[^0-9]", "").str.strip_chars_start("0").str.len_bytes()
    exact = values.set(digits > EXACT_DIGITS, None)
    places = exact.str.extract(r"\.([0-9]+)$").str.len_bytes().fill_null(0)
    most = field.decimals if field.decimals is not None else places.max()
    same = field.decimals is not None or field.kind == "money"
    if not isinstance(most, int) or not most:
        return "0" if field.kind == "integer" else "General", exact
    return (f"0.{'0' * most}" if same else "General"), exact


def _of_dates(values: pl.Series, field: Field, writing: Notation) -> tuple[str, pl.Series]:
    """The format of live's dates, and the days since 30 December 1899, with the time as their fraction."""
    form = field.date_form or writing.date_form or "YYYY-MM-DD"
    form_shown = form.replace("mm", "MM").replace("T", "\\T").lower()
    stamp = values.str.to_datetime("%Y-%m-%dT%H:%M:%S", strict=False)
    day = values.str.slice(0, 10).str.to_date("%Y-%m-%d", strict=False)
    serial = (day - dt.date(1899, 12, 30)).dt.total_days()
    seconds = (stamp - day.cast(pl.Datetime)).dt.total_seconds().fill_null(0)
    texts = serial.cast(pl.String)
    timed = true_places(seconds > 0)
    parts = (gathered(seconds, timed).cast(pl.Float64) / 86_400).cast(pl.String).str.slice(1, 12)
    texts = scattered(texts, timed, gathered(texts, timed) + parts)
    zoned = values.str.ends_with("Z").fill_null(value=False)  # which no cell of a spreadsheet can hold
    return form_shown, texts.set((serial < FIRST_DAY) | zoned, None)


FIRST_DAY = 61
"""1 March 1900: before it, spreadsheets do not agree on the days."""


def _must_fit(cells: pl.DataFrame) -> None:
    if cells.height > MOST_ROWS:
        raise OutputError(
            f"{cells.height:,} items are more than a workbook has rows ({MOST_ROWS:,}). Cut fewer with ‹where›, or "
            "write .csv."
        )
    longest = cells.select(pl.all().str.len_chars().max()).row(0, named=True)
    for heading, length in longest.items():
        if (length or 0) > LONGEST_CELL:
            raise OutputError(
                f'A cell of "{heading}" has {length:,} characters, and a workbook has room for {LONGEST_CELL:,}. Leave '
                "that field out with ‹fields›, or write .csv."
            )


def _width(texts: pl.Series, heading: str) -> tuple[float, bool]:
    """How wide a column must be for nearly all of its cells, and whether some need several lines even so."""
    lengths = texts.str.len_chars()
    usual = lengths.quantile(0.98) or 0
    lines = bool((texts.str.contains("\n", literal=True) | (lengths > 2 * WIDEST)).any())
    return min(max(usual + 2, len(heading) + 4, NARROWEST), WIDEST), lines or usual > WIDEST


def _choices(texts: pl.Series, field: Field) -> list[str]:
    """The values to choose from: the store's own, the words of a flag, or the few that live has."""
    if field.kind == "flag":
        return [(field.yes or ["yes"])[0], (field.no or ["no"])[0]] if field.yes and field.no else []
    if field.kind != "choice" and (field.kind != "text" or field.unique):
        return []
    if field.values:
        return field.values
    seen = texts.filter(texts != "").unique()
    if not 0 < seen.len() <= FEW or texts.len() < 5 * seen.len() or seen.str.contains("\n", literal=True).any():
        return []
    return seen.sort().to_list()


def _rule(field: Field) -> dict[str, Any] | None:
    """What may be typed into a field, as a spreadsheet checks it."""
    if field.kind in NUMBER_KINDS:
        least, most = field.least, field.most
        bounds = {"minimum": least if least is not None else -FAR, "maximum": most if most is not None else FAR}
        if least is not None and most is None:
            bounds = {"criteria": ">=", "value": least}
        rule = {"validate": "integer" if field.kind == "integer" else "decimal", "criteria": "between"} | bounds
        return rule | {"error_message": f"{_sentence(field)} Type the number alone."}
    if field.kind == "date":
        rule = {"validate": "date", "criteria": ">=", "value": dt.date(1900, 3, 1)}
        return rule | {"error_message": "A date."}
    if field.longest is not None:
        rule = {"validate": "length", "criteria": "<=", "value": field.longest}
        return rule | {"error_message": f"At most {field.longest:,} characters."}
    return None


FAR = 10**EXACT_DIGITS


def _sentence(field: Field) -> str:
    """What a field holds, in one sentence."""
    sentence = str(KINDS[field.kind]).removeprefix("an ").removeprefix("a ").capitalize()
    if field.kind == "integer":
        sentence = "Whole number"
    if field.decimals:
        sentence += f" with {field.decimals} decimals"
    for word, bound in (("at least", field.least), ("at most", field.most)):
        if bound is not None:
            sentence += f", {word} {bound}"
    return f"{sentence}."


def _note(column: Column) -> str:
    """What stands beside a heading: the field's kind and rules."""
    field, lines = column.settings, []
    if column.field != column.heading:
        lines.append(f"The field {column.field}.")
    lines.append(_sentence(field))
    if column.key:
        lines.append("What the item is known by: it is not changed here.")
    elif column.locked:
        lines.append("Locked: it is not changed here.")
    else:
        if field.kind == "flag" and field.yes and field.no:
            lines.append(f"{field.yes[0]} or {field.no[0]}.")
        if field.values:
            lines.append("Only the values of its list.")
        if field.separator:
            lines.append(f'Several values have "{field.separator}" between them.')
        if field.levels:
            lines.append(f'Its levels have "{field.levels.strip()}" between them.')
        if field.longest is not None:
            lines.append(f"At most {field.longest:,} characters.")
        lines.append("Never blank." if field.required else "May be blank; a cell you empty is asked about.")
    return "\n".join(lines)
