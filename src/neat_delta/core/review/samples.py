"""A pairing of headings as a person looks at it: each heading with its field, and a few values of both."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

import msgspec
import polars as pl

from neat_delta.core.base.infer.learn import learn_sample
from neat_delta.core.base.kinds import blank
from neat_delta.core.base.model.catalogue import Catalogue
from neat_delta.core.base.model.columns import ColumnMatch
from neat_delta.core.base.model.lists import ListMapping
from neat_delta.core.base.model.store import Field
from neat_delta.core.base.support.series import gathered
from neat_delta.core.sheets.match.prepare import AlignedInputs

__all__ = ["ColumnSample", "MatchedRows", "constant_samples", "mapping_to_keep", "samples"]


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


class MatchedRows(msgspec.Struct, frozen=True):
    """What becomes of the rows of a file: how many were `read`, how many have an item of live (`matched`), how many are
    `new`, went into another one's row (`folded`), and are set aside, by the reason.
    """

    read: int
    matched: int
    new: int
    folded: int
    set_aside: dict[str, int]


def samples(aligned: AlignedInputs, sheet: Catalogue, pairs: pl.DataFrame, most: int) -> list[ColumnSample]:
    """The headings of the sheet in their order, each with at most so many values that are not blank.

    The values of a paired heading come from items that both have: `pairs` has their places in `live` and in the
    `sheet`. Where there is no such value, nothing of live's stands beside it.
    """
    kinds = _kinds(aligned)
    rows = []
    for match in aligned.columns:
        column = sheet.column(match.heading)
        ours, live_values = _some(column, most), list[str]()
        if match.field is not None and (both := _met(pairs, column, most)).height:
            ours = gathered(column, both["sheet"]).to_list()
            if match.field in aligned.live.fields:  # which has no column of new codes
                live_values = aligned.live.at(match.field, both["live"]).to_list()
        kind = kinds.get(match.field, Field()).kind if match.field is not None else None
        rows.append(ColumnSample(match.heading, match.field, match.how, match.nearest, kind, ours, live_values))
    return rows


def constant_samples(aligned: AlignedInputs, constants: Mapping[str, str], most: int) -> list[ColumnSample]:
    """The fields that are the same in every row of a list, as samples without a heading."""
    if not constants:
        return []
    kinds, cells = _kinds(aligned), aligned.live.cells
    return [
        ColumnSample(
            "", name, "constant", None, kinds.get(name, Field()).kind, [text], _some(cells[name].unique(), most)
        )
        for name, text in constants.items()
    ]


def _kinds(aligned: AlignedInputs) -> Mapping[str, Field]:
    """The fields' settings: the store file's, or as live looks."""
    named = [match.field for match in aligned.columns if match.field in aligned.live.fields]
    shop = aligned.store or learn_sample(aligned.live, aligned.key.fields, [str(name) for name in named])
    return shop.fields


def _met(pairs: pl.DataFrame, column: pl.Series, most: int) -> pl.DataFrame:
    """The first of the items that both have in which a column says something."""
    return pairs.filter(~_blank(gathered(column, pairs["sheet"]))).head(most)


def mapping_to_keep(columns: Sequence[ColumnMatch], mapping: ListMapping) -> ListMapping:
    """The mapping with what is worth keeping for the next such list: every heading that has a field, and what to
    ignore, beside what it says of headings that this list does not have.
    """
    shaped = {mapping.spread.by, mapping.spread.value} if mapping.spread else set[str]()
    shaped |= set(mapping.stack.columns) if mapping.stack else set()
    headings = {match.heading for match in columns}
    named = {match.heading: match.field for match in columns if match.field is not None and match.heading not in shaped}
    ignored = [match.heading for match in columns if match.how == "ignored"]
    return msgspec.structs.replace(
        mapping,
        headings={heading: name for heading, name in mapping.headings.items() if heading not in headings} | named,
        ignore=[*(heading for heading in mapping.ignore if heading not in headings), *ignored],
    )


def _some(column: pl.Series, most: int) -> list[str]:
    return column.filter(~_blank(column)).head(most).to_list()


def _blank(texts: pl.Series) -> pl.Series:
    return texts.to_frame("text").select(blank(pl.col("text"))).to_series()
