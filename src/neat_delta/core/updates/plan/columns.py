"""The importer's columns that are no fields: the same text in every row, or an expression over the item."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING

import polars as pl

from neat_delta.core.base.model.catalogue import MARK
from neat_delta.core.base.query.expressions import Rows, as_cells, compute, expression, fields_read
from neat_delta.core.base.support.series import constant

if TYPE_CHECKING:
    from neat_delta.core.updates.plan.base import PlanContext

__all__ = ["output_columns"]


def output_columns(context: PlanContext, of: Callable[[str], pl.Series], height: int) -> dict[str, pl.Series]:
    """The columns by their headings; `of` gives the texts of a field as they will be."""
    header, columns = context.changes.header, {}
    for name, column in context.importer.columns.items():
        if column.expression is None:
            columns[name] = constant(column.text or "", height, pl.String)
            continue
        read = {field_read.casefold() for field_read in fields_read(column.expression)}
        state = pl.DataFrame({MARK: constant("", height, pl.String)}).with_columns(
            of(known).alias(known) for known in context.live.fields if known.casefold() in read
        )
        values = compute(expression(column.expression), Rows({"": state}, header.settings, header.writing))
        columns[name] = as_cells(values, header.writing.decimal_mark or ".")
    return columns
