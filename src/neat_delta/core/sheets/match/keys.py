"""Keys: how they are compared, which rows have one, which share one, and where a key stands. Nothing else knows that.

Rule: keys are the same without outer white space and, where the store file says so (`key.ignore_case`), without case.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from functools import reduce
from operator import and_, or_
from typing import Protocol

import polars as pl

from neat_delta.core.base.kinds import blank
from neat_delta.core.base.model.catalogue import MARK
from neat_delta.core.base.model.store import Key
from neat_delta.core.base.support import sizes
from neat_delta.core.base.support.distinct import all_differ
from neat_delta.core.base.support.joins import met_by_hash, parts_of
from neat_delta.core.base.support.series import constant, gathered, scattered

__all__ = ["Columns", "KeyIndex", "KeyText", "comparable", "key_text", "key_texts", "stripped"]

KeyText = tuple[str, ...]
"""The texts of one key, a text for each of its fields."""


class Columns(Protocol):
    """What gives columns by their names: a data frame, or a catalogue."""

    def select(self, names: list[str], /) -> pl.DataFrame:
        """These columns."""
        ...


def stripped(table: Columns, key: Key) -> pl.DataFrame:
    """The key columns of a table as a person is shown them: without outer white space."""
    return _key_columns(table, key).select(pl.col(key.fields).str.strip_chars())


def comparable(table: Columns, key: Key) -> pl.DataFrame:
    """The key columns of a table (one row an item) in the form in which equal texts are equal keys.

    >>> comparable(pl.DataFrame({"sku": [" QA-1", "qa-1"]}), Key(["sku"], ignore_case=True))["sku"].to_list()
    ['qa-1', 'qa-1']
    """
    texts, columns = pl.col(key.fields).str.strip_chars(), _key_columns(table, key)[key.fields]
    keys = columns.select(texts.str.to_lowercase() if key.ignore_case else texts)
    return (columns if keys.equals(columns) else keys).rechunk()  # as a rule they are, and the copy can go


def _key_columns(table: Columns, key: Key) -> pl.DataFrame:
    return table if isinstance(table, pl.DataFrame) else table.select(key.fields)


def key_text(texts: Iterable[str], key: Key) -> KeyText:
    """One key in the form in which equal texts are equal keys.

    >>> key_text(["qa-1 "], Key(["sku"]))
    ('qa-1',)
    """
    return tuple([text.strip().lower() for text in texts] if key.ignore_case else [text.strip() for text in texts])


def key_texts(columns: Sequence[pl.Series], key: Key) -> list[KeyText]:
    """The keys that stand in columns, one for each of the fields, in the form in which equal texts are equal keys.

    >>> key_texts([pl.Series(["qa-1 ", "QA-2"])], Key(["sku"], ignore_case=True))
    [('qa-1',), ('qa-2',)]
    """
    table = pl.DataFrame([column.alias(str(place)) for place, column in enumerate(columns)])
    return comparable(table, Key(table.columns, ignore_case=key.ignore_case)).rows()


def _all_rows(table: pl.DataFrame) -> pl.Series:
    return pl.int_range(table.height, dtype=pl.UInt32, eager=True)


@dataclass(frozen=True, slots=True)
class KeyIndex:
    """The keys of a table's rows, in `comparable` form; rows are counted from 0.

    >>> index = KeyIndex.of(pl.DataFrame({"sku": ["A", "B", " A"]}), Key(["sku"]))
    >>> index.repeated.to_list(), index.lookup(pl.DataFrame({"sku": ["B ", "C"]})).to_list()
    ([True, False, True], [1, None])
    """

    keys: pl.DataFrame
    key: Key

    @classmethod
    def of(cls, table: Columns, key: Key) -> KeyIndex:
        """The index of a table that has the key's fields as columns."""
        return cls(comparable(table, key), key)

    @property
    def blank(self) -> pl.Series:
        """Per row whether a part of its key is blank."""
        return self.keys.select(reduce(or_, (blank(pl.col(name)) for name in self.keys.columns))).to_series()

    @property
    def repeated(self) -> pl.Series:
        """Per row whether another row has its key."""
        if all_differ(self.keys):
            return constant(False, self.keys.height)
        return self.keys.select(pl.struct(self.keys.columns).is_duplicated()).to_series()

    def lookup(self, table: Columns) -> pl.Series:
        """Per row of a table with the key's fields, the first row of the index with its key; null where none has it."""
        wanted, once = comparable(table, self.key), all_differ(self.keys)
        if once and wanted.equals(self.keys):  # two exports of one store, as a rule
            return _all_rows(wanted)
        index_rows = self.keys.with_row_index(MARK)
        index_rows = index_rows if once else index_rows.unique(self.key.fields, keep="first")
        if wanted.height < sizes.ROWS_JOINED_BY_HASH:
            if index_rows.height >= sizes.ROWS_JOINED_BY_HASH:  # of which a join would make a table in memory
                index_rows = index_rows.join(wanted, on=self.key.fields, how="semi", maintain_order="left")
            return wanted.join(index_rows, on=self.key.fields, how="left", maintain_order="left")[MARK]
        met = KeyIndex(wanted, self.key).pairs(self, _all_rows(wanted), index_rows[MARK])
        return scattered(constant(None, wanted.height, pl.UInt32), met["row"], met["other"])

    def align(self, other: KeyIndex) -> pl.Series:
        """Per row of this index the row of another with its key; of rows that share a key the first is the other's
        first, the second its second. Null where there is none, or the key is blank.
        """
        if all_differ(self.keys):
            return other.lookup(self.keys).set(self.blank, None)
        sides = []
        for index in (self, other):
            rank = pl.int_range(pl.len()).over(index.key.fields)
            sides.append(index.keys.with_columns(rank.alias(MARK)))
        other_keys = sides[1].with_row_index(MARK + MARK)
        rows = sides[0].join(other_keys, on=[*self.key.fields, MARK], how="left", maintain_order="left")[MARK + MARK]
        return rows.set(self.blank, None)

    def pairs(self, other: KeyIndex, rows: pl.Series, other_rows: pl.Series) -> pl.DataFrame:
        """Among these rows of this index and of another, those with the same key: `row` and `other`, by `row`.

        Joining on a hash of the key is twice as fast as on its text. Of the candidates, those stay whose keys are the
        same, which is looked at some rows at a time.
        """
        candidates = met_by_hash(
            pl.DataFrame({"row": rows, "hash": gathered(self.keys.hash_rows(), rows)}),
            pl.DataFrame({"other": other_rows, "hash": gathered(other.keys.hash_rows(), other_rows)}),
            ["hash"],
        )
        # A row fits one of the other at most, so that its order is all there is to keep; sorting is cheapest.
        candidates, same = candidates.sort("row").rechunk(), []
        for some in candidates.iter_slices(1 + candidates.height // parts_of(candidates.height)):
            ours, theirs = gathered(self.keys, some["row"]), gathered(other.keys, some["other"])
            same.append(reduce(and_, (ours[name] == theirs[name] for name in self.key.fields)))
        return candidates[["row", "other"]].filter(pl.concat(same)) if same else candidates[["row", "other"]]

    def existing(self, keys: Sequence[KeyText]) -> set[KeyText]:
        """Those of the keys (in any form) that a row has, as they were given."""
        wanted = pl.DataFrame(keys, schema=dict.fromkeys(self.key.fields, pl.String), orient="row")
        present = self.lookup(wanted).is_not_null()
        return {key for key, stands in zip(keys, present, strict=True) if stands}

    def naming(self, texts: Iterable[str]) -> pl.Series:
        """Per row whether one of the texts is a part of its key."""
        wanted = pl.Series([text for (text,) in map(self._part, texts)], dtype=pl.String).implode()
        return reduce(or_, (self.keys[name].is_in(wanted).fill_null(value=False) for name in self.key.fields))

    def missing(self, texts: Iterable[str]) -> list[str]:
        """Those of the texts that are a part of no row's key, as they were given."""
        parts = set(pl.concat([self.keys[name] for name in self.key.fields]).unique())
        return [text for text in texts if self._part(text)[0] not in parts]

    def _part(self, text: str) -> KeyText:
        return key_text([text], self.key)
