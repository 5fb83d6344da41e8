"""A list of code changes as a file: CSV, the key as live calls it, and the new code beside it."""

from __future__ import annotations

import polars as pl

from neat_delta.core.base.model.header import Header
from neat_delta.core.base.model.importer import NEW_CODE
from neat_delta.core.base.model.layout import Layout
from neat_delta.files.whole import write_new
from neat_delta.files.writers.delimited import write_delimited

__all__ = ["write_code_list"]

LAYOUT = Layout(format="delimited", encoding="utf-8", separator=",", quote='"', line_end="LF", header_line=1)


def write_code_list(path: str, header: Header) -> None:
    """Write the likely code changes of a change set as a list to look over; OutputError when there is a file already,
    as somebody may have looked it over.
    """
    rows = [
        header.key_headings,
        *(list(likely.old.values()) for likely in header.likely),
    ]
    changed = [
        next(new for old, new in zip(likely.old.values(), likely.new.values(), strict=True) if old != new)
        for likely in header.likely
    ]
    columns = {name: [row[place] for row in rows[1:]] for place, name in enumerate(rows[0])}
    cells = pl.DataFrame({**columns, NEW_CODE: changed}, schema=dict.fromkeys([*columns, NEW_CODE], pl.String))
    write_new({path: write_delimited(cells, LAYOUT, path)}, otherwise="name another.")
