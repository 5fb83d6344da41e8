"""A small spreadsheet: what cells of delimited text become when it opens them in some country, and what it saves.

Numbers, dates and truth become typed cells, as with a double click on the file; the rest stays text.
"""

from __future__ import annotations

import io
import re
from collections.abc import Sequence
from datetime import date, datetime
from typing import Literal

import xlsxwriter

from tests.made import open_document

Country = Literal["American", "British", "German"]
Cell = str | float | bool | date

MONTHS = ["jan", "feb", "mar", "apr", "may", "jun", "jul", "aug", "sep", "oct", "nov", "dec"]
THIS_YEAR = 2026


def opened(text: str, country: Country) -> Cell:
    """The cell that a spreadsheet makes of a text."""
    bare = text.strip()
    if bare.upper() in ({"WAHR", "FALSCH"} if country == "German" else {"TRUE", "FALSE"}):
        return bare.upper() in {"TRUE", "WAHR"}
    number = _number(bare, country)
    return number if number is not None else _day(bare, country) or text


def _number(text: str, country: Country) -> float | None:
    point, between = (",", ".") if country == "German" else (".", ",")
    text = re.sub(r"^€\s*|\s*€$", "", text) if country == "German" else re.sub(r"^\$", "", text)
    plain = rf"[+-]?(?:\d+|\d{{1,3}}(?:{re.escape(between)}\d{{3}})+)?(?:{re.escape(point)}\d*)?(?:[eE][+-]?\d{{1,2}})?"
    if not re.fullmatch(plain, text) or not re.search(r"^[+-]?[\d.,]*\d", text):
        return None
    return float(text.replace(between, "").replace(point, "."))


def _day(text: str, country: Country) -> date | None:
    marks = "." if country == "German" else "/"
    iso = re.fullmatch(r"(\d{4})[-/](\d{1,2})[-/](\d{1,2})(?:[T ](\d\d):(\d\d)(?::(\d\d))?)?", text)
    if iso:
        return _real(*map(int, iso.groups()[:3]), *(int(part or 0) for part in iso.groups()[3:]))
    three = re.fullmatch(rf"(\d{{1,2}})[{marks}-](\d{{1,2}})[{marks}-](\d{{4}})", text)
    if three:
        one, two, year = map(int, three.groups())
        return _real(year, one, two) if country == "American" else _real(year, two, one)
    two_parts = re.fullmatch(rf"(\d{{1,2}})[{re.escape(marks)}/-](\d{{1,2}})\.?", text)
    if two_parts:
        one, two = map(int, two_parts.groups())
        found = _real(THIS_YEAR, one, two) if country == "American" else _real(THIS_YEAR, two, one)
        return found or (_real(two + (2000 if two < 30 else 1900), one, 1) if len(two_parts[2]) == 2 else None)
    word = re.fullmatch(r"([A-Za-z]{3})-(\d{1,2})", text)
    if word and word[1].lower() in MONTHS and country != "German":
        return _real(THIS_YEAR, MONTHS.index(word[1].lower()) + 1, int(word[2]))
    return None


def _real(year: int, month: int, day: int, hour: int = 0, minute: int = 0, second: int = 0) -> date | None:
    try:
        found = datetime(year, month, day, hour, minute, second)
        return found if hour or minute or second else found.date()
    except ValueError:
        return None


def as_xlsx(headings: Sequence[str], rows: Sequence[Sequence[Cell]]) -> bytes:
    """A workbook with typed cells."""
    out = io.BytesIO()
    with xlsxwriter.Workbook(out, {"in_memory": True}) as book:
        sheet, days = book.add_worksheet("live"), book.add_format({"num_format": "m/d/yyyy"})
        times = book.add_format({"num_format": "m/d/yyyy h:mm:ss"})
        for column, heading in enumerate(headings):
            sheet.write_string(0, column, heading)
        for number, row in enumerate(rows, 1):
            for column, cell in enumerate(row):
                if isinstance(cell, bool):
                    sheet.write_boolean(number, column, cell)
                elif isinstance(cell, float):
                    sheet.write_number(number, column, cell)
                elif isinstance(cell, date):
                    sheet.write_datetime(number, column, cell, times if isinstance(cell, datetime) else days)
                elif cell:
                    sheet.write_string(number, column, cell)
    return out.getvalue()


def as_ods(headings: Sequence[str], rows: Sequence[Sequence[Cell]]) -> bytes:
    """The same as OpenDocument."""

    def xml(cell: Cell) -> str:
        if isinstance(cell, bool):
            return f'<table:table-cell office:value-type="boolean" office:boolean-value="{str(cell).lower()}"/>'
        if isinstance(cell, float):
            return f'<table:table-cell office:value-type="float" office:value="{cell:.15g}"/>'
        if isinstance(cell, date):
            return f'<table:table-cell office:value-type="date" office:date-value="{cell.isoformat()}"/>'
        text = cell.replace("&", "&amp;").replace("<", "&lt;")
        lines = "".join(f"<text:p>{line}</text:p>" for line in text.split("\n"))
        return (
            f'<table:table-cell office:value-type="string">{lines}</table:table-cell>'
            if cell
            else "<table:table-cell/>"
        )

    body = "".join(
        f"<table:table-row>{''.join(xml(cell) for cell in row)}</table:table-row>" for row in [list(headings), *rows]
    )
    return open_document(body, "live")


def as_csv_text(cell: Cell, country: Country) -> str:
    """The cell as the spreadsheet shows it, and saves it as delimited text."""
    point = "," if country == "German" else "."
    if isinstance(cell, bool):
        return (("FALSCH", "WAHR") if country == "German" else ("FALSE", "TRUE"))[cell]
    if isinstance(cell, float):
        return _shown(cell).replace(".", point)
    if isinstance(cell, date):
        form = {"American": "{0.month}/{0.day}/{0.year}", "British": "{0.day:02}/{0.month:02}/{0.year}"}
        said = form.get(country, "{0.day:02}.{0.month:02}.{0.year}").format(cell)
        return said + (cell.strftime(" %H:%M:%S") if isinstance(cell, datetime) else "")
    return cell


def _shown(number: float) -> str:
    """A number in eleven characters, as a narrow column has it."""
    whole = f"{number:.15g}"
    if abs(number) >= 1e11 and "e" not in whole:
        mantissa, _, power = f"{number:.5E}".partition("E")
        return f"{mantissa.rstrip('0').rstrip('.')}E{power}"
    return whole
