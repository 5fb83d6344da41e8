"""Delimited text, written."""

from __future__ import annotations

import io

import polars as pl

from neat_delta.core.base.model.layout import LINE_ENDS, Layout
from neat_delta.core.base.support.errors import CatalogueError
from neat_delta.files.readers.encoding import BOMS, written_in

__all__ = ["write_delimited"]


def write_delimited(cells: pl.DataFrame, layout: Layout, what: str = "The update file") -> bytes:
    r"""The bytes of a table in a layout, headings first.

    CatalogueError (naming `what`) when the layout cannot carry a cell: a letter that its encoding does not have, a
    separator or line end where it has no quotes.

    >>> cells = pl.DataFrame({"sku": ["QA-1"], "name": ["Veil, folding"]})
    >>> write_delimited(cells, Layout(separator=","), "the sheet")
    b'sku,name\nQA-1,"Veil, folding"\n'
    """
    separator, end = layout.separator or ",", LINE_ENDS[layout.line_end or "LF"]
    quote = '"' if layout.quote is None else layout.quote
    encoding = layout.encoding or "utf-8"
    if layout.escape or not quote:
        data = _escaped(cells, separator, end, quote, layout, what).encode()
    else:
        out = io.BytesIO()
        cells.with_columns(pl.all().replace("", None)).write_csv(
            out,
            separator=separator,
            line_terminator=end,
            quote_char=quote,
            quote_style="always" if layout.quote_all else "necessary",
        )
        data = out.getvalue()
    bom = next((mark for mark, name in BOMS if name == encoding), b"") if layout.bom else b""
    return bom + (data if encoding == "utf-8" else written_in(data.decode(), encoding, what))


def _escaped(cells: pl.DataFrame, separator: str, end: str, quote: str, layout: Layout, what: str) -> str:
    """A table as text with quotes escaped inside cells, or with no quotes at all."""
    table = pl.concat([pl.DataFrame({name: [name] for name in cells.columns}), cells.cast(pl.String)])
    marks = [separator, "\n", "\r", *([quote, layout.escape] if quote and layout.escape else [])]
    if not quote:
        if table.select(pl.any_horizontal(pl.all().str.contains_any(marks))).to_series().any():
            raise CatalogueError(
                f"{what}: a cell has a separator or a line break in it, and the store's files have no quotes for it. "
                "Change the cell, or say under [file] that there are quotes."
            )
        lines = table
    else:
        settings = quote, layout.escape or "", marks
        always = bool(layout.quote_all)
        lines = table.select(_quoted(pl.col(name), *settings, always=always).alias(name) for name in table.columns)
    rows = lines.select(pl.concat_str(pl.all(), separator=separator)).to_series()
    return "".join(f"{row}{end}" for row in rows)


def _quoted(cell: pl.Expr, quote: str, escape: str, marks: list[str], *, always: bool) -> pl.Expr:
    inside = cell.str.replace_many({escape: escape * 2, quote: escape + quote})
    wrapped = pl.concat_str(pl.lit(quote), inside, pl.lit(quote))
    return wrapped if always else pl.when(cell.str.contains_any(marks)).then(wrapped).otherwise(cell)
