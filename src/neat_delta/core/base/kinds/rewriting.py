"""A table in another notation: numbers and dates as one file writes them, written as another does."""

from __future__ import annotations

from collections.abc import Mapping
from typing import TYPE_CHECKING

import polars as pl

from neat_delta.core.base.kinds import KINDS
from neat_delta.core.base.kinds.number import NUMBER_KINDS
from neat_delta.core.base.support.series import gathered, not_null, scattered, true_places

if TYPE_CHECKING:
    from neat_delta.core.base.model.layout import Notation
    from neat_delta.core.base.model.store import Field

__all__ = ["in_notation"]


def in_notation(table: pl.DataFrame, fields: Mapping[str, Field], seems: Notation, writing: Notation) -> pl.DataFrame:
    """A table with its numbers and dates as live writes them, where it `seems` to write them otherwise; what cannot be
    read stays.
    """
    columns = []
    marks = (seems.decimal_mark, seems.thousands_mark) != (writing.decimal_mark, writing.thousands_mark)
    for name in table.columns:
        field = fields.get(name)
        differs = field and ((field.kind in NUMBER_KINDS and marks) or
                             (field.kind == "date" and seems.date_form != writing.date_form))  # fmt: skip
        if not field or not differs:
            continue
        texts, kind = table[name], KINDS[field.kind]
        values = kind.read(texts, field, seems)
        readable = true_places(not_null(values) & (texts.str.strip_chars() != ""))
        old = gathered(texts, readable)
        written = kind.write(gathered(values, readable), old, field, writing)
        columns.append(scattered(texts.rechunk(), readable, written.zip_with(not_null(written), old)))
    return table.with_columns(columns) if columns else table
