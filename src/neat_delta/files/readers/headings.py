"""The headings of a table as it was read, in any format: what they must be, and which columns have none."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence

from neat_delta.core.base.model.catalogue import column_letter, listed
from neat_delta.core.base.support.errors import CatalogueError

__all__ = ["column_numbers", "must_be_headings", "unnamed_columns"]

MOST_COLUMNS = 16_384
"""A spreadsheet has no more."""


def must_be_headings(headings: Sequence[str], where: str) -> None:
    """CatalogueError, naming the file and the line (`where`), when a table cannot have these headings: there are too
    many, one stands twice or holds a zero character, or there is none.

    >>> must_be_headings(["sku", "", "price"], "live.csv, line 1")
    """
    if len(headings) > MOST_COLUMNS:
        raise CatalogueError(
            f"{where}: {len(headings):,} columns, and at most {MOST_COLUMNS:,} are read. Cut the file down; of "
            "delimited text, say with ‹separator› what stands between the cells."
        )
    if "\0" in "".join(headings):
        raise CatalogueError(f"{where}: a heading holds a zero character. Rename it.")
    for heading, times in Counter(headings).items():
        if times > 1 and heading.strip():
            columns = ", ".join(column_letter(n) for n, name in enumerate(headings, 1) if name == heading)
            raise CatalogueError(
                f'{where}: the heading "{listed([heading])}" stands in {times} columns ({columns}). '
                "Rename or remove one."
            )
    if not any(heading.strip() for heading in headings):
        raise CatalogueError(f"{where}: there are no headings. The fields must have names.")


def column_numbers(width: int) -> list[str]:
    """What stands for the headings of a table that has none: the numbers of its columns, from 1.

    >>> column_numbers(3)
    ['1', '2', '3']
    """
    return [str(number) for number in range(1, width + 1)]


def unnamed_columns(headings: Sequence[str]) -> tuple[int, ...]:
    """The columns, from 1, that have no heading: they are no field.

    >>> unnamed_columns(["sku", " ", "price"])
    (2,)
    """
    return tuple(place for place, heading in enumerate(headings, 1) if not heading.strip())
