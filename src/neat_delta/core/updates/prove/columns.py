"""The importer's columns that are no fields, worked out once more from the items as they will be."""

from __future__ import annotations

from collections.abc import Iterable
from typing import TYPE_CHECKING

import polars as pl

from neat_delta.core.base.model.importer import REASON
from neat_delta.core.base.query.expressions import Rows, as_cells, compute, expression
from neat_delta.core.base.support.errors import ProofError
from neat_delta.core.base.support.series import constant

if TYPE_CHECKING:
    from neat_delta.core.base.model.header import Header
    from neat_delta.core.base.model.importer import Importer
    from neat_delta.core.base.model.update import Action

__all__ = ["columns_hold"]


def columns_hold(
    after: pl.DataFrame, tables: Iterable[tuple[Action, pl.DataFrame]], header: Header, importer: Importer
) -> None:
    """ProofError unless the importer's columns that are no fields have what the items come to."""
    for name, column in importer.columns.items():
        for action, table in tables:
            if action not in {"add", "change"}:
                continue
            if name not in table.columns:
                raise ProofError(f'a row of the update table lacks "{name}", which the importer wants.')
            wanted = constant(column.text or "", table.height, pl.String)
            if column.expression is not None:
                rows = table.select(header.key).join(after, on=header.key, how="left", maintain_order="left")
                values = compute(expression(column.expression), Rows({"": rows}, header.settings, header.writing))
                wanted = as_cells(values, header.writing.decimal_mark or ".")
            if name == REASON and column.expression is None:
                # Of a whole catalogue it stands beside what changes; it says nothing of the item that could be proven.
                wanted = pl.select(
                    pl.when(table[name].fill_null("") == "").then(pl.lit("")).otherwise(wanted)
                ).to_series()
            if not header.shared and not (table[name].fill_null("") == wanted).all():
                raise ProofError(f'"{name}" is not what its expression gives for the items as they will be.')
