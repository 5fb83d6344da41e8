"""A pairing of headings as a person looks at it: each heading with its field, and a few values of both."""

from __future__ import annotations

import msgspec
import polars as pl

from neat_delta.core.infer.learn import learn_sample
from neat_delta.core.kinds import blank
from neat_delta.core.match.prepare import AlignedInputs
from neat_delta.core.match.rows import match_places
from neat_delta.core.model.catalogue import Catalogue
from neat_delta.core.model.lists import ListMapping
from neat_delta.core.model.store import Field

__all__ = ["ColumnSample", "mapping_to_keep", "samples"]


class ColumnSample(msgspec.Struct, frozen=True):
    """A heading of the sheet, the field it stands for and its kind, and values of the same items in both (sheet,
    live).
    """

    heading: str
    field: str | None
    how: str
    nearest: str | None
    kind: str | None
    sheet: list[str]
    live: list[str]


def samples(aligned: AlignedInputs, sheet: Catalogue, most: int) -> list[ColumnSample]:
    """The headings of the sheet in their order, each with at most so many values that are not blank.

    The values of a paired heading come from items that both files have, where there are any.
    """
    shop = aligned.store or learn_sample(
        aligned.live, aligned.key.fields, [one.field for one in aligned.columns if one.field is not None]
    )
    both = match_places(aligned.live, aligned.sheet, aligned.key)
    rows = []
    for one in aligned.columns:
        column = sheet.cells[one.heading]
        live_values: list[str] = []
        if one.field is None:
            ours = _some(column, most)
        else:
            mapping_to_keep = both.filter(~_blank(aligned.sheet.cells[one.field].gather(both["sheet"]))).head(most)
            ours = aligned.sheet.cells[one.field].gather(mapping_to_keep["sheet"]).to_list() or _some(column, most)
            known_to_live = one.field in aligned.live.fields  # which has no column of new codes
            live_values = (
                aligned.live.cells[one.field].gather(mapping_to_keep["live"]).to_list() if known_to_live else []
            )
            live_values = live_values or (_some(aligned.live.cells[one.field], most) if known_to_live else [])
        kind = shop.fields.get(one.field, Field()).kind if one.field is not None else None
        rows.append(ColumnSample(one.heading, one.field, one.how, one.nearest, kind, ours, live_values))
    return rows


def mapping_to_keep(aligned: AlignedInputs) -> ListMapping:
    """What is worth keeping for the next such list: what its rows are matched by, every heading that has a field, and
    what to ignore.
    """
    return ListMapping(
        match_by=aligned.key.fields,
        headings={one.heading: one.field for one in aligned.columns if one.field is not None},
        ignore=[one.heading for one in aligned.columns if one.how == "ignored"],
    )


def _some(column: pl.Series, most: int) -> list[str]:
    return column.filter(~_blank(column)).head(most).to_list()


def _blank(texts: pl.Series) -> pl.Series:
    return texts.to_frame("text").select(blank(pl.col("text"))).to_series()
