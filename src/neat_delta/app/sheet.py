"""A working sheet, cut from live, as the bytes of a file."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any, Literal

from neat_delta.app.requests import SheetRequest
from neat_delta.app.settings import request_of
from neat_delta.app.sources import Table, export_of, store_of
from neat_delta.core.base.model.layout import Layout, Notation
from neat_delta.core.sheets.worksheet.cut import WorkingSheet, as_written, cut_worksheet
from neat_delta.files.whole import AnyPath

if TYPE_CHECKING:
    import polars as pl

    from neat_delta.core.base.model.catalogue import Catalogue
    from neat_delta.core.base.model.store import Store

__all__ = ["SheetFile", "sheet", "sheet_file"]

PLAIN, AS_LIVE = Layout(), Notation()


@dataclass(frozen=True, slots=True)
class SheetFile:
    """A working sheet and the bytes of its file; of delimited text, how many cells of each heading stay as live writes
    them, as they cannot be written otherwise. Delimited text remembers what it was cut with in a file beside it, of
    which these are the bytes (`base`); `remembers` is how many bytes that takes (None: it does not).
    """

    sheet: WorkingSheet
    content: bytes
    kept: dict[str, int]
    base: bytes | None = None
    remembers: int | None = None


def sheet(
    live: Table,
    form: Literal["xlsx", "delimited"],
    store: Store | AnyPath | None = None,
    *,
    skus: Sequence[str] | None = None,
    layout: Layout = PLAIN,
    writing: Notation = AS_LIVE,
    request: SheetRequest | None = None,
    **settings: Any,  # noqa: ANN401 - those of `SheetRequest`, which reads and checks them
) -> SheetFile:
    r"""Cut a working sheet from live, as a workbook or as delimited text: the items that the settings choose and `skus`
    name (None: any). Of delimited text, `layout` and `writing` say how it is written. CatalogueError when a name is
    none or no item is left, ConditionError for what the condition or the order cannot mean.

    >>> live = {"sku": ["QA-1", "QA-2"], "price": ["9.90", "20.00"]}
    >>> sheet(live, "delimited", where="price > 10", layout=Layout(separator=",")).content
    b'sku,price\nQA-2,20.00\n'
    """
    known, asked = store_of(store), request or request_of(SheetRequest, settings)
    given, where = export_of(live, "live", known), None
    if asked.where is not None:
        from neat_delta.core.base.query.expressions import condition  # and the parser of expressions

        where = condition(asked.where)
    worksheet = cut_worksheet(
        given,
        store=known,
        key=asked.key,
        where=where,
        skus=skus,
        fields=asked.fields,
        sort=asked.sort,
    )
    return sheet_file(worksheet, given, form, layout=layout, writing=writing, memory=not asked.no_memory)


def sheet_file(
    sheet_file: WorkingSheet,
    live: Catalogue,
    form: Literal["xlsx", "delimited"],
    remembered: pl.DataFrame | None = None,
    *,
    layout: Layout = PLAIN,
    writing: Notation = AS_LIVE,
    memory: bool = True,
) -> SheetFile:
    """A working sheet as the bytes of a file. It remembers its own cells, or those that are `remembered`: what its
    items were like in live where the sheet shows something else.
    """
    from neat_delta.core.base.model.catalogue import Origin
    from neat_delta.files.basefile import base_bytes
    from neat_delta.files.memory import packed

    known = sheet_file.cells if remembered is None else remembered
    if not memory:  # but which items it was cut with, and where from
        known = known.select(column.heading for column in sheet_file.columns if column.key)
    if form == "xlsx":
        from neat_delta.files.writers.worksheet import workbook

        kept_in_it = packed(known)
        content = workbook(sheet_file, live.source, len(live.fields), kept_in_it)
        return SheetFile(sheet_file, content, {}, None, len(kept_in_it) * 3 // 4 if memory else None)
    from neat_delta.files.writers.delimited import write_delimited

    cells, kept = as_written(sheet_file, writing)
    content = write_delimited(cells, layout, "The sheet")
    origin = Origin(live.path, live.digest(), live.height, len(live.fields), cells.height)
    base = base_bytes(known, origin)
    return SheetFile(sheet_file, content, kept, base, len(base) if memory else None)
