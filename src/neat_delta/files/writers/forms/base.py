"""What every form of update file is: how a table becomes bytes, and bytes a table again."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from pathlib import Path

import polars as pl

from neat_delta.core.base.model.layout import Layout
from neat_delta.core.base.model.update import Action

__all__ = ["UpdateFormat", "UpdateLayout", "of_rows"]


@dataclass(frozen=True, slots=True)
class UpdateLayout:
    """What a form is told besides the table: the layout of delimited text, the headings of the key, what the file is
    for, and the file's name.
    """

    layout: Layout
    key: Sequence[str]
    action: Action
    name: str


@dataclass(frozen=True, slots=True)
class UpdateFormat:
    """A form: the `ending` of its files in a layout, `write` for a table (null where nothing is said), `read` for a
    file of it, and which texts it can `hold`.
    """

    ending: Callable[[Layout], str]
    write: Callable[[pl.DataFrame, UpdateLayout], bytes]
    read: Callable[[Path, UpdateLayout], pl.DataFrame]
    hold: Callable[[pl.Series, Layout], pl.Series]


def of_rows(rows: Sequence[dict[str, str | None]]) -> pl.DataFrame:
    """Rows that say something of some fields each, as a table with null for the others."""
    names = dict.fromkeys(name for row in rows for name in row)
    return pl.DataFrame({name: pl.Series([row.get(name) for row in rows], dtype=pl.String) for name in names})
