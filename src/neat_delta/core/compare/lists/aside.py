"""Rows of a list that are set aside, as the change set names them."""

from __future__ import annotations

from collections.abc import Iterable, Sequence

import polars as pl

from neat_delta.core.base.model.header import SetAside
from neat_delta.core.base.support.series import gathered

__all__ = ["rows_aside"]


def rows_aside(
    cells: pl.DataFrame, fields: Sequence[str], at: pl.Series, rows: pl.Series, reasons: Iterable[str]
) -> list[SetAside]:
    """The rows at these places of a list, shown by some of its columns; `rows` are their numbers in the file, `reasons`
    why each is set aside.

    >>> cells = pl.DataFrame({"sku": ["QA-1", "Total"]})
    >>> rows_aside(cells, ["sku"], pl.Series([1]), pl.Series([3]), ["a total"])
    [SetAside(file='sheet', row=3, key={'sku': 'Total'}, reason='a total')]
    """
    keys = gathered(cells.select(fields), at).rows(named=True)
    return [SetAside("sheet", row, key, reason) for row, key, reason in zip(rows, keys, reasons, strict=True)]
