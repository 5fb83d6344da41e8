"""A change set as a workbook to sign off: one line a changed cell, with room for an answer (docs/previewing.md)."""

from __future__ import annotations

import datetime as dt
import io
from itertools import pairwise
from typing import TYPE_CHECKING

import polars as pl
import xlsxwriter

from neat_delta.core.base.support.errors import OutputError
from neat_delta.core.base.support.series import gathered
from neat_delta.core.review.answers import CHOICES
from neat_delta.core.review.cells import item_views
from neat_delta.core.review.signoff import (
    ANSWER,
    CLASH_COLUMNS,
    COLUMNS,
    LONGEST,
    as_workbook_text,
    key_heading,
    seals,
    workbook_texts,
)

if TYPE_CHECKING:
    from xlsxwriter.worksheet import Worksheet

    from neat_delta.core.review.facts import Facts

__all__ = ["workbook"]

MOST_ROWS = 1_048_575
WIDTHS = {
    "name": 24,
    "field": 11,
    "before": 15,
    "after": 15,
    "difference": 10,
    "findings": 24,
    ANSWER: 9,
    "comment": 18,
}
HEAD, INK, SHADE, OPEN, LINE = "#2F4A43", "#FFFFFF", "#ECEAE4", "#FFF8E1", "#D5D1C7"


def workbook(facts: Facts) -> bytes:
    """The bytes of a workbook with every changed cell of the items that are looked at, in their order.

    Everything but answer and comment is protected. What starts like a formula stays text. OutputError when there are
    more cells than a sheet has rows. The same change set gives the same bytes.
    """
    changes, cells = facts.view.changes, facts.view.changes.cells
    if cells.height > MOST_ROWS:
        what = f"{cells.height:,} changed cells are more than a workbook has rows ({MOST_ROWS:,})"
        raise OutputError(f"{what}. Narrow the preview down.")
    content = io.BytesIO()
    book = xlsxwriter.Workbook(content, {"in_memory": True})
    book.set_properties({"created": dt.datetime(2000, 1, 1)})
    page = book.add_worksheet("changes")
    style = {"num_format": "@", "valign": "top", "text_wrap": True, "border": 1, "border_color": LINE}
    plain, shaded = book.add_format(style), book.add_format(style | {"bg_color": SHADE})
    number = book.add_format(style | {"num_format": "+0.00##;-0.00##;0", "align": "right"})
    answer = book.add_format(style | {"bg_color": OPEN, "locked": False})
    head = book.add_format({"bold": True, "bg_color": HEAD, "font_color": INK, "text_wrap": True})
    keys = [key_heading(name) for name in changes.header.key]
    three = changes.header.base is not None
    headings = [*keys, *(column for column in COLUMNS if three or column not in CLASH_COLUMNS)]
    for place, heading in enumerate(headings):
        page.set_column(place, place, WIDTHS.get(heading, 11))
        page.write_string(0, place, heading, head)
    texts = gathered(changes.keys.select(as_workbook_text(pl.all())), cells["item"])
    sealed, clashing = seals(cells, changes.keys), list[int]()
    lines = [(item, cell) for item in item_views(facts, facts.view) for cell in item.cells]
    rows = enumerate(zip(lines, texts.rows(), *workbook_texts(cells), sealed, strict=True), 1)
    for row, ((item, cell), key, before, after, seal) in rows:
        reason = cell.held or item.held
        form = shaded if reason else plain
        remarks = [f"held: {reason}"] if reason else []
        remarks += [remark.what for remark in cell.remarks if remark.check != "damage" and remark.what not in remarks]
        clash = cell.clash
        old, both = (cell.base or "", "") if clash is None else (clash.base, clash.both or "")
        stands = (old, before, after, both) if three else (before, after)
        texts_of_cell = [*key, item.name, cell.field, *stands]
        for place, text in enumerate(texts_of_cell):
            page.write_string(row, place, text[:LONGEST], form)
        place = len(texts_of_cell)
        if cell.step is None or reason:
            page.write_blank(row, place, None, form)
        else:
            page.write_number(row, place, float(cell.step), number)  # it is only shown
        page.write_blank(row, place + 1, None, form if reason and (clash is None or item.held) else answer)
        if clash is not None and not item.held:
            choices = [choice for choice in CHOICES if choice != "both" or clash.both is not None]
            page.data_validation(row, place + 1, row, place + 1, _one_of(choices))
            clashing.append(row)
        page.write_blank(row, place + 2, None, answer)
        page.write_string(row, place + 3, "; ".join(remarks)[:1_000], form)
        page.write_string(row, place + 4, seal, form)
    at = headings.index(ANSWER)
    for start, end in _between(clashing, max(cells.height, 1)):
        page.data_validation(start, at, end, at, _one_of(["yes", "no"]))
    _finish(page, max(cells.height, 1), len(headings) - 1, len(keys) + 1)
    book.close()
    return content.getvalue()


def _finish(page: Worksheet, last: int, seal: int, still: int) -> None:
    """Hide the column of the seals, keep the first columns in sight, and protect what is not to be changed."""
    page.set_column(seal, seal, None, None, {"hidden": True})
    page.freeze_panes(1, still)
    page.autofilter(0, 0, last, seal)
    page.protect("", dict.fromkeys(("autofilter", "format_cells", "format_columns", "format_rows"), True))


def _one_of(words: list[str]) -> dict[str, object]:
    """That a cell takes one of these words, or nothing."""
    choices = f"{', '.join(words)}, or nothing"
    return {"validate": "list", "source": words, "error_title": "answer", "error_message": choices}


def _between(rows: list[int], last: int) -> list[tuple[int, int]]:
    """The runs of rows from 1 to the last that are none of these."""
    edges = [0, *rows, last + 1]
    return [(start + 1, end - 1) for start, end in pairwise(edges) if start + 1 < end]
