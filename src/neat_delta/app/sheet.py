"""A working sheet, cut from live, as the bytes of a file."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Literal

from neat_delta.core.model.layout import Layout, Notation
from neat_delta.core.worksheet.cut import WorkingSheet, as_written, cut_worksheet

if TYPE_CHECKING:
    import polars as pl

    from neat_delta.core.model.catalogue import Catalogue
    from neat_delta.core.model.store import Store
    from neat_delta.core.query.expressions import Condition

__all__ = ["SheetFile", "SheetOptions", "sheet", "sheet_file"]


@dataclass(frozen=True, slots=True)
class SheetOptions:
    """What is cut: the items for which `where` holds and that `skus` names (None: any), with `fields` in their order
    (none: live's), sorted as `sort` says; `key` names the key fields. Of delimited text, `layout` and `writing` say how
    it is written. `memory` says that the sheet remembers what it was cut with; without, only from where and with which
    items.
    """

    key: Sequence[str] = ()
    where: Condition | None = None
    skus: Sequence[str] | None = None
    fields: Sequence[str] = ()
    sort: str | None = None
    layout: Layout = field(default_factory=Layout)
    writing: Notation = field(default_factory=Notation)
    memory: bool = True


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


ALL = SheetOptions()


def sheet(
    live: Catalogue, form: Literal["xlsx", "delimited"], store: Store | None = None, *, options: SheetOptions = ALL
) -> SheetFile:
    r"""Cut a working sheet from live, as a workbook or as delimited text. CatalogueError when a name is none or no item
    is left, ConditionError for what the condition or the order cannot mean.

    >>> from neat_delta import as_catalogue
    >>> live = as_catalogue({"sku": ["QA-1", "QA-2"], "price": ["9.90", "20.00"]}, "live")
    >>> sheet(live, "delimited", options=SheetOptions(skus=["QA-2"], layout=Layout(separator=","))).content
    b'sku,price\nQA-2,20.00\n'
    """
    made = cut_worksheet(
        live,
        store=store,
        key=options.key,
        where=options.where,
        skus=options.skus,
        fields=options.fields,
        sort=options.sort,
    )
    return sheet_file(made, live, form, options)


def sheet_file(
    made: WorkingSheet,
    live: Catalogue,
    form: Literal["xlsx", "delimited"],
    options: SheetOptions,
    remembered: pl.DataFrame | None = None,
) -> SheetFile:
    """A working sheet as the bytes of a file. It remembers its own cells, or those that are `remembered`: what its
    items were like in live where the sheet shows something else.
    """
    from neat_delta.core.model.catalogue import Origin
    from neat_delta.files.basefile import base_bytes
    from neat_delta.files.memory import packed

    known = made.cells if remembered is None else remembered
    if not options.memory:  # but which items it was cut with, and where from
        known = known.select(column.heading for column in made.columns if column.key)
    if form == "xlsx":
        from neat_delta.files.writers.worksheet import workbook

        memory = packed(known)
        content = workbook(made, live.source, len(live.fields), memory)
        return SheetFile(made, content, {}, None, len(memory) * 3 // 4 if options.memory else None)
    from neat_delta.files.readers.delimited import write_delimited

    cells, kept = as_written(made, options.writing)
    content = write_delimited(cells, options.layout, "The sheet")
    origin = Origin(live.path, live.digest(), live.cells.height, len(live.fields), cells.height)
    base = base_bytes(known, origin)
    return SheetFile(made, content, kept, base, len(base) if options.memory else None)
