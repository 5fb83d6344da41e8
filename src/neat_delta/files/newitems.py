"""A list's new items as a file to be filled in: what is known of them, what is needed, the importer's defaults."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from neat_delta.core.base.model.layout import Layout
from neat_delta.core.base.support.errors import OutputError
from neat_delta.files.whole import write_new

if TYPE_CHECKING:
    import polars as pl

    from neat_delta.core.base.model.catalogue import Catalogue
    from neat_delta.core.base.model.store import Store

__all__ = ["write_new_items"]


def write_new_items(path: str, new: pl.DataFrame | None, live: Catalogue, store: Store | None) -> None:
    """Write them as .xlsx, or as delimited text like live. OutputError when the name ends otherwise, or there is a file
    that may be somebody's work.
    """
    ending = Path(path).suffix.lower()
    if ending not in {".csv", ".txt", ".xlsx"}:
        raise OutputError(f"{path}: new items are written as .csv or .xlsx. Name a file that ends like that.")
    if new is not None:
        write_new({path: _content(ending, path, new, live, store)}, otherwise="name another.")
    elif Path(path).exists():
        raise OutputError(
            f"{path}: there is a file of that name, and no new item lacks a code. Move it, or name another."
        )


def _content(ending: str, path: str, new: pl.DataFrame, live: Catalogue, store: Store | None) -> bytes:
    if ending == ".xlsx":
        from neat_delta.core.base.model.catalogue import as_catalogue
        from neat_delta.core.sheets.worksheet.cut import cut_worksheet
        from neat_delta.files.memory import packed
        from neat_delta.files.writers.worksheet import workbook

        worksheet = cut_worksheet(as_catalogue(new, path), store=store)
        return workbook(worksheet, live.source, len(live.fields), packed(worksheet.cells.head(0)))
    from neat_delta.files.writers.delimited import write_delimited

    separator = live.layout.separator or ","
    return write_delimited(new, Layout(separator=separator, bom=True), "The new items")
