"""The shape of a list: a row for each location put onto columns, and columns put onto rows."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field

import polars as pl

from neat_delta.core.base.kinds import blank
from neat_delta.core.base.model.catalogue import MARK, Catalogue, listed
from neat_delta.core.base.model.header import SetAside
from neat_delta.core.base.model.lists import ListMapping, Spread, Stack
from neat_delta.core.base.support.errors import CatalogueError
from neat_delta.core.base.support.nearest import did_you_mean, nearest
from neat_delta.core.base.support.series import gathered, true_places
from neat_delta.core.compare.lists.aside import rows_aside
from neat_delta.core.sheets.match.rows import SAME_ROW

__all__ = ["Reshaped", "reshape"]


@dataclass(frozen=True, slots=True)
class Reshaped:
    """A list's rows in the store's shape: under headings or, where they were made, fields; the number of each row in
    the file; which cells nothing was said for (`absent`, by field); the rows set aside; and how many went into another
    one's, or stand more than once.
    """

    cells: pl.DataFrame
    rows: pl.Series
    absent: dict[str, pl.Series] = field(default_factory=dict)
    set_aside: list[SetAside] = field(default_factory=list)
    folded: int = 0
    copied: int = 0


def reshape(catalogue: Catalogue, mapping: ListMapping, used: Sequence[str]) -> Reshaped:
    """The list in the store's shape; `used` are the headings that mean something. CatalogueError when a heading that
    the description names is not there.
    """
    rows = catalogue.row(pl.int_range(catalogue.height, eager=True))
    if mapping.spread is not None:
        return _spread(catalogue, rows, mapping.spread, used)
    if mapping.stack is not None:
        return _stacked(catalogue, rows, mapping.stack)
    return Reshaped(catalogue.cells, rows)


def _must_have(catalogue: Catalogue, headings: Sequence[str], where: str) -> None:
    for heading in headings:
        if heading not in catalogue.fields:
            hint = did_you_mean(heading, catalogue.fields, f"It has: {listed(catalogue.fields)}.")
            raise CatalogueError(f'{catalogue.path}: {where} names "{heading}", and there is no such heading.{hint}')


def _spread(catalogue: Catalogue, rows: pl.Series, spread: Spread, used: Sequence[str]) -> Reshaped:
    """A row for each group of rows that agree in the other headings, with a column for each word."""
    _must_have(catalogue, [spread.by, spread.value], "spread")
    others = [name for name in used if name not in {spread.by, spread.value}]
    words = {word.strip(): name for word, name in spread.columns.items()}
    table = catalogue.select([*others, spread.by, spread.value])
    word = table[spread.by].str.strip_chars()
    unknown = {
        unknown_word: _unknown(unknown_word, list(words), spread.by)
        for unknown_word in word.unique()
        if unknown_word not in words
    }
    reasons = word.replace_strict(unknown, default=None, return_dtype=pl.String)
    empty_row = table.select(pl.all_horizontal(blank(pl.all()))).to_series()
    reasons = reasons.set(empty_row, "blank row")
    value = table[spread.value].str.strip_chars()
    seen = pl.DataFrame({**{name: table[name].str.strip_chars() for name in others}, MARK: word, MARK * 2: value})
    by = [*others, MARK]
    differ = seen.select(pl.col(MARK * 2).n_unique().over(by) > 1).to_series() & reasons.is_null()
    again = seen.select(pl.int_range(pl.len()).over(by) > 0).to_series() & ~differ & reasons.is_null()
    reasons = reasons.set(again, SAME_ROW).set(differ, "contradicts another row of the same place")
    keep = reasons.is_null()
    kept = seen.filter(keep).with_columns(rows.filter(keep).alias(MARK * 3))
    spread_rows = kept.group_by(others, maintain_order=True).agg(
        pl.col(MARK * 3).first(),
        *(pl.col(MARK * 2).filter(pl.col(MARK).is_in([w for w, f in words.items() if f == name])).first().alias(name)
          for name in dict.fromkeys(words.values())),
    )  # fmt: skip
    fields = list(dict.fromkeys(words.values()))
    absent = {name: spread_rows[name].is_null() for name in fields}
    cells = spread_rows.select([*others, *fields]).fill_null("")
    at = true_places(reasons.is_not_null())
    aside = rows_aside(catalogue.cells, [*others, spread.by], at, gathered(rows, at), gathered(reasons, at))
    return Reshaped(
        cells, spread_rows[MARK * 3], absent, aside,
        kept.height - spread_rows.height,
    )  # fmt: skip


def _unknown(word: str, words: Sequence[str], name: str) -> str:
    near = nearest(word, words)
    return f'unknown {name} "{word}"' + (f'; the nearest is "{near}"' if near else "") if word else f"no {name}"


def _stacked(catalogue: Catalogue, rows: pl.Series, stack: Stack) -> Reshaped:
    """A row for each of the columns that has something."""
    headings = list(stack.columns)
    _must_have(catalogue, headings, "stack")
    others = [name for name in catalogue.fields if name not in headings]
    if stack.by == stack.value:
        raise CatalogueError(
            f'{catalogue.path}: stack makes one field, "{stack.by}", of the columns and of what is in them. Name two.'
        )
    for name in [name for name in (stack.by, stack.value) if name in others]:
        raise CatalogueError(
            f'{catalogue.path}: stack makes the field "{name}", and there is a heading of that name. Leave that column '
            "out of the list, or rename it."
        )
    table = catalogue.cells.with_columns(rows.alias(MARK))
    long = table.unpivot(headings, index=[*others, MARK], variable_name=stack.by, value_name=stack.value)
    order = {heading: number for number, heading in enumerate(headings)}
    long = long.filter(~blank(pl.col(stack.value))).sort(
        MARK, pl.col(stack.by).replace_strict(order, return_dtype=pl.Int64), maintain_order=True
    )
    long = long.with_columns(pl.col(stack.by).replace_strict(stack.columns, return_dtype=pl.String))
    nothing = table.select(pl.all_horizontal(blank(pl.col(headings)))).to_series()
    reasons = pl.select(pl.when(nothing).then(pl.lit("no value in any of its columns"))).to_series()
    copied = long.height - (table.height - int(nothing.sum()))
    at = true_places(reasons.is_not_null())
    aside = rows_aside(catalogue.cells, others, at, gathered(rows, at), gathered(reasons, at))
    return Reshaped(long.drop(MARK), long[MARK], set_aside=aside, copied=copied)
