"""Where cells of a sheet come from that nobody typed there: from a supplier's list in other words, or from rules."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from functools import partial

import polars as pl

from neat_delta.core.base.model.catalogue import MARK
from neat_delta.core.base.model.columns import ColumnMatch
from neat_delta.core.base.model.header import NearKey, SetAside
from neat_delta.core.base.model.rules import RuleText
from neat_delta.core.base.model.schemas import PROBLEMS, WORKED, empty

__all__ = ["Provenance", "placed_anew"]


@dataclass(frozen=True, slots=True)
class Provenance:
    """What is known of the making of a sheet.

    `columns` are the headings of the file that it was made of; None where there was none.
    `computed` says of a field which rows nobody typed; `worked` are the steps by which those came about (`WORKED`), and
    `problems` what could not be worked out (`PROBLEMS`), by the places of its rows; `rules` the texts of the rules that
    the steps name by their number.
    `set_aside` are rows of the file that are in no row of the sheet; `near` keys that nearly are one's; `folded` rows
    that went into another one's, and `copied` those that stand in the sheet once more. `matched_by` are the fields by
    which its rows found their items, if not by the key, and `nearly` the keys of live's items that rows nearly are.
    """

    columns: Sequence[ColumnMatch] | None = None
    computed: Mapping[str, pl.Series] = field(default_factory=dict)
    worked: pl.DataFrame = field(default_factory=partial(empty, WORKED))
    problems: pl.DataFrame = field(default_factory=partial(empty, PROBLEMS))
    rules: Sequence[RuleText] = ()
    set_aside: Sequence[SetAside] = ()
    near: Sequence[NearKey] = ()
    folded: int = 0
    copied: int = 0
    matched_by: Sequence[str] = ()
    nearly: pl.DataFrame | None = None

    @property
    def unseen_rows(self) -> int:
        """How many rows the file has more than the sheet."""
        return self.folded + len(self.set_aside) - self.copied


def placed_anew(table: pl.DataFrame, source: pl.Series) -> pl.DataFrame:
    """A table by places (`WORKED`, `PROBLEMS`) under those of the rows made of them: `source` has the old place of each
    new row, which may be there more than once; what has none is dropped.

    >>> table = pl.DataFrame({"place": [0, 2], "what": ["a", "b"]}, schema_overrides={"place": pl.UInt32})
    >>> placed_anew(table, pl.Series([2, 2])).rows()
    [(0, 'b'), (1, 'b')]
    """
    all_there = not (table["place"] >= source.len()).any()
    if all_there and source.cast(pl.Int64).equals(pl.int_range(source.len(), eager=True)):
        return table  # they have the same places
    place_numbers = pl.DataFrame({"place": source.cast(pl.UInt32)}).with_row_index(MARK)
    met = table.join(place_numbers, on="place", how="inner", maintain_order="left_right")
    return met.with_columns(place=pl.col(MARK)).select(table.columns)
