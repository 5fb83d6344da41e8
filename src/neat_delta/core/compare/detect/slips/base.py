"""What every slip is, and what it is looked for in: the changed cells of one round, as a hand may have moved them."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace
from itertools import accumulate

import msgspec
import polars as pl

from neat_delta.core.base.kinds.number import EXACT, NUMBER_KINDS, amounts
from neat_delta.core.base.model.catalogue import Catalogue
from neat_delta.core.base.model.layout import Notation
from neat_delta.core.base.model.store import Field, reading_settings
from neat_delta.core.base.support import sizes
from neat_delta.core.base.support.series import constant, gathered, scattered, true_places

__all__ = ["Slip", "SlipContext", "forms", "keys", "runs", "with_twins"]


@dataclass(frozen=True, slots=True)
class Slip:
    """A slip: what happened, in which fields, to which cells (by their `number`), and how we know."""

    name: str
    fields: list[str]
    cells: pl.Series
    why: str


@dataclass(frozen=True, slots=True)
class SlipContext:
    """The changed cells of items that both files have.

    `parts` are the cells of each field in the sheet's order: `number` (from 0), `field`, `pair` (the item, in live's
    order), `place` (its row in the sheet, from 0), `before`, `after`, `raw` (the sheet's text as it stands there), and
    their `forms`. `columns` are the fields' places in the sheet; `live` and `sheet` are as read, `item_at` the row
    in live of each row of the sheet (null where none), `items` that of each pair.
    """

    parts: dict[str, pl.DataFrame]
    settings: Mapping[str, Field]
    writing: Notation
    columns: Mapping[str, int]
    live: Catalogue
    sheet: Catalogue
    item_at: pl.Series
    items: pl.Series

    def kind(self, name: str) -> str:
        """The kind of a field."""
        return self.settings.get(name, Field()).kind

    def by_field(self, least: int) -> dict[str, pl.DataFrame]:
        """The cells of each field in which at least so many change."""
        return {name: cells for name, cells in self.parts.items() if cells.height >= least}

    def without(self, slips: Sequence[Slip]) -> SlipContext:
        """The round without the cells of these slips."""
        cell_numbers = pl.concat([slip.cells for slip in slips])
        fields = {name for slip in slips for name in slip.fields}
        rest = {name: self.parts[name].filter(~pl.col("number").is_in(cell_numbers.implode())) for name in fields}
        return replace(self, parts={name: rest.get(name, cells) for name, cells in self.parts.items()})

    def had(self, names: Sequence[str], items: pl.Series) -> pl.DataFrame:
        """What live has in these fields of these items (null where there is no item), in the form of `ours`."""
        if not names:
            return pl.DataFrame()
        live = self.live.select(names)
        live = live.rechunk() if items.len() * 8 > live.height else live  # many are gathered faster from one piece
        return keys(gathered(live, items)).rechunk()


def forms(cells: pl.DataFrame, settings: Mapping[str, Field], writing: Notation) -> pl.DataFrame:
    """Cells (`field`, `before`, `after`, `raw`) as slips are looked for in them: also `ours`, `theirs` and `typed`,
    these three in a form in which 5 and 5.00 are the same; and, of numbers, `old` and `new`, what was and what will be
    exactly, null where unreadable.
    """
    names = {"before": "ours", "after": "theirs", "raw": "typed"}
    exact = {side: constant(None, cells.height, EXACT).alias(side) for side in ("old", "new")}
    alike: dict[bytes, list[str]] = {}  # what is read in the same way is read together
    for field in cells["field"].unique(maintain_order=True):
        settings_of_field = settings.get(field, Field())
        if settings_of_field.kind in NUMBER_KINDS:
            alike.setdefault(msgspec.json.encode(reading_settings(settings_of_field)), []).append(field)
    for fields in alike.values():
        at = true_places(cells["field"].is_in(fields))
        for side, text in (("old", "before"), ("new", "after")):
            exact[side] = scattered(exact[side], at, amounts(gathered(cells[text], at), settings[fields[0]], writing))
    slip_keys = keys(cells.select(pl.col(text).alias(name) for text, name in names.items()))
    return cells.hstack(slip_keys).rechunk().hstack(list(exact.values()))


TWINS = {"raw": "after", "typed": "theirs"}
"""What a cell has twice where nothing of it is sent otherwise than it was typed."""


def with_twins(cells: pl.DataFrame, work: Callable[[pl.DataFrame], pl.DataFrame]) -> pl.DataFrame:
    """What `work`, which takes rows, takes of these cells. Where `raw` is what is sent in all of them, the columns that
    are the same are taken once, and share their memory.

    >>> cells = pl.DataFrame({"raw": ["9.90", "8.00"], "after": ["9.90", "8.00"]})
    >>> with_twins(cells, lambda table: table[[1]]).rows(named=True)
    [{'after': '8.00', 'raw': '8.00'}]
    """
    if not cells["raw"].equals(cells["after"]):
        return work(cells)
    twins = {name: twin for name, twin in TWINS.items() if name in cells.columns}
    rows = work(cells.drop(list(twins)))
    return rows.with_columns(rows[twin].alias(name) for name, twin in twins.items())


def keys(texts: pl.DataFrame) -> pl.DataFrame:
    """Texts in a form in which two ways to write a number are the same.

    >>> keys(pl.DataFrame({"ours": [" 5.00"], "typed": ["5"]})).row(0)
    ('5', '5')
    """
    return texts.lazy().select(pl.all().str.strip_chars()).select(_key(pl.all())).collect(engine="in-memory")


def _key(bare: pl.Expr) -> pl.Expr:
    decimal = bare.str.contains(r"^-?[0-9]+(?:\.[0-9]*0|,[0-9]+)$")  # no other looks otherwise in that form
    plain = bare.str.replace(",", ".", literal=True).str.strip_chars_end("0").str.strip_chars_end(".")
    return pl.when(decimal).then(plain).otherwise(bare)


def gaps(places: pl.Series) -> pl.Series:
    """The rows from each place to the next: one less than there are places.

    >>> gaps(pl.Series([1, 2, 5])).to_list()
    [1, 3]
    """
    rows = places.cast(pl.Int64)
    return rows.slice(1) - rows.head(max(rows.len() - 1, 0))


def runs(holds: pl.Series, least: int) -> list[tuple[int, int]]:
    """The runs of true in a series that have at least so many values: where each starts, and its length.

    >>> runs(pl.Series([True, False, True, True, None]), 2)
    [(2, 2)]
    """
    places = true_places(holds).cast(pl.Int64)
    if places.len() < least:
        return []
    # A place less the number of those before it is one and the same all along a run.
    same = places - pl.int_range(places.len(), eager=True)
    if places.len() >= sizes.ROWS_COUNTED_BY_ENGINE:
        lengths = same.rle().struct.field("len").cast(pl.Int64)
        long = true_places(lengths >= least)
        starts = gathered(places, gathered(lengths.cum_sum() - lengths, long))
        return list(zip(starts, gathered(lengths, long), strict=True))
    counted = Counter(same.to_list())
    before = accumulate(counted.values(), initial=0)
    each = ((place + earlier, length) for (place, length), earlier in zip(counted.items(), before, strict=False))
    return [(start, length) for start, length in each if length >= least]
