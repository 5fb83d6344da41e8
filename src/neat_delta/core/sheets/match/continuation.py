"""One product on several lines: the lines under it, with a blank key, folded into its lists, and unfolded again."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace
from functools import reduce
from operator import or_

import polars as pl

from neat_delta.core.base.kinds import blank
from neat_delta.core.base.model.catalogue import MARK, Catalogue
from neat_delta.core.base.model.store import Continued
from neat_delta.core.base.support.errors import CatalogueError
from neat_delta.core.base.support.series import constant, gathered, true_places

__all__ = ["merge_lines", "split_lines"]


def merge_lines(catalogue: Catalogue, key: Sequence[str], continued: Continued | None) -> Catalogue:
    """The catalogue with each item on one row.

    A line continues the item above it when its key is blank and it holds something in the continued fields. What stands
    there is added to the item's value, after the field's separator. Lines that are wholly blank, or stand above all
    items, stay as they are. CatalogueError when a line continues a field that is not said to be continued, or a value
    has the separator in it.
    """
    if continued is None or not all(field in catalogue.fields for field in key):
        return catalogue
    separators = {name: mark for name, mark in continued.fields.items() if name in catalogue.fields}
    cells = catalogue.cells
    keyless = cells.select(pl.all_horizontal(blank(pl.col(list(key))))).to_series()
    has = {name: ~cells.select(blank(pl.col(name))).to_series() for name in cells.columns if name not in key}
    further = keyless & reduce(or_, (has[name] for name in separators), keyless & False)
    further &= (~keyless).cum_sum() > 0
    if not further.any():
        return replace(catalogue, continued=continued)
    row_numbers = catalogue.row(pl.Series(range(cells.height), dtype=pl.Int64))
    for name, filled in has.items():
        stray = true_places(further & filled)
        if name not in separators and stray.len():
            raise CatalogueError(
                f"{catalogue.path}, row {row_numbers[stray[0]]:,}: it has no key, so it continues the item above, and "
                f'its "{name}" is not among the continued fields. Mend the row, or list the field in the store file.'
            )
    for name, mark in separators.items():
        wrong = (
            has[name] & (cells[name].str.contains(mark, literal=True)) & (further | further.shift(-1, fill_value=False))
        )
        if wrong.any():
            row = row_numbers[true_places(wrong)[0]]
            raise CatalogueError(
                f'{catalogue.path}, row {row:,}: "{name}" has the separator {mark!r} in it, and values on '
                "several lines. Choose another separator for the field in the store file."
            )
    item = (~further).cum_sum()
    folded = cells.filter(~further)
    for name, mark in separators.items():
        parts = pl.DataFrame({"item": item, "part": cells[name], "has": has[name], "own": ~further})
        lists = (
            parts.filter(pl.col("has") | pl.col("own"))
            .group_by("item", maintain_order=True)
            .agg(
                pl.when(pl.col("has").sum() > 1)
                .then(pl.col("part").filter(pl.col("has")).str.join(mark))
                .otherwise(pl.col("part").filter(pl.col("has")).first())
                .first()
                .alias("part"),
                pl.col("part").first().alias("own"),
            )
        )
        folded = folded.with_columns(lists.select(pl.coalesce("part", "own")).to_series().alias(name))
    lines = int(further.sum())
    note = "1 line without a key continues" if lines == 1 else f"{lines:,} lines without a key continue"
    return replace(
        catalogue,
        table=folded,
        row_numbers=row_numbers.filter(~further),
        continued=continued,
        notes=(*catalogue.notes, f"{note} the item above"),
    )


def split_lines(cells: pl.DataFrame, continued: Mapping[str, str]) -> pl.DataFrame:
    """Rows whose continued fields hold several values as several lines, the further ones with a blank key."""
    names = [name for name in cells.columns if name in continued]
    if not names:
        return cells
    lists = cells.select(pl.col(name).str.split(continued[name]) for name in names)
    lines = lists.select(pl.max_horizontal(pl.all().list.len()).alias(MARK)).to_series()
    place = cells.select(pl.int_ranges(0, lines)).to_series()
    item = pl.DataFrame({"item": range(cells.height), "line": place}).explode("line")
    first = item["line"] == 0
    out = {}
    for name in cells.columns:
        if name in names:
            taken = pl.DataFrame({"list": gathered(lists[name], item["item"]), "line": item["line"]})
            out[name] = taken.select(
                pl.col("list").list.get(pl.col("line"), null_on_oob=True).fill_null("")
            ).to_series()
        else:
            texts = gathered(cells[name], item["item"])
            out[name] = texts.zip_with(first, constant("", texts.len()))
    return pl.DataFrame(out)
