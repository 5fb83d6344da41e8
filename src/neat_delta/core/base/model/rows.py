"""Rows of a database's table as plain values: what is to become of one, and what stands there otherwise."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Literal

__all__ = ["NULL", "Dialect", "Difference", "RowChange", "Texts"]

Dialect = Literal["postgresql", "mysql", "sqlite"]
"""Whose SQL it is; MariaDB's is MySQL's."""

NULL = r"\N"
"""NULL as a cell of a column that can hold text, as PostgreSQL's and MySQL's own text formats write it."""

Texts = Mapping[str, str]
"""The texts of a row's cells, by its columns."""


@dataclass(frozen=True, slots=True)
class RowChange:
    """A row to be changed, by its columns: its `key` as it is now, what stood there `before`, and what is to stand
    there `after`. One that is added has no `before`, one that is removed no `after`. Of one that is added `in_full` a
    blank cell is meant, too; of another it is left to the table what stands there.
    """

    key: Texts
    before: Texts = field(default_factory=dict)
    after: Texts = field(default_factory=dict)
    in_full: bool = False


@dataclass(frozen=True, slots=True)
class Difference:
    """A cell that is otherwise than when the change was planned: what stood there, what is meant, and what stands there
    `now` (None: there is no such row). Without a field it is a row that should not be there, or is there several times.
    """

    key: Texts
    field: str | None
    before: str | None
    after: str | None
    now: str | None
