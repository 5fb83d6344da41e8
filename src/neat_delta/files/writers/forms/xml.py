"""Plain rows in XML 1.0: `<items><item><field name="sku">QA-1</field> …`. An item has only the fields it says something
of.
"""

from __future__ import annotations

from pathlib import Path
from xml.etree import ElementTree
from xml.sax.saxutils import escape, quoteattr

import polars as pl

from neat_delta.core.base.model.layout import Layout
from neat_delta.files.writers.forms.base import UpdateFormat, UpdateLayout, of_rows

__all__ = ["XML"]

LINE_END = {"\r": "&#13;"}
"""A parser would make a line feed of it (XML 1.0, 2.11)."""


def _write(cells: pl.DataFrame, shape: UpdateLayout) -> bytes:
    del shape
    names = [quoteattr(name, {**LINE_END, "\n": "&#10;", "\t": "&#9;"}) for name in cells.columns]
    lines = ['<?xml version="1.0" encoding="UTF-8"?>', "<items>"]
    for row in cells.iter_rows():
        rows_text = "".join(
            f"<field name={name}>{escape(text, LINE_END)}</field>"
            for name, text in zip(names, row, strict=True)
            if text is not None
        )
        lines.append(f"<item>{rows_text}</item>")
    return ("\n".join([*lines, "</items>"]) + "\n").encode()


def _read(path: Path, shape: UpdateLayout) -> pl.DataFrame:
    del shape
    items = ElementTree.fromstring(path.read_bytes())  # our own file
    return of_rows([{field.attrib["name"]: field.text or "" for field in item} for item in items])


def _hold(texts: pl.Series, layout: Layout) -> pl.Series:
    del layout
    return ~texts.str.contains(r"[\x00-\x08\x0b\x0c\x0e-\x1f\ufffe\uffff]")


XML = UpdateFormat(lambda _: ".xml", _write, _read, _hold)
