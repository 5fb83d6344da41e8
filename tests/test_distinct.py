"""Rows that are alike are worked on once, and nothing else comes of it than of working on each."""

import random
from unittest import mock

import polars as pl
from hypothesis import given
from hypothesis import strategies as st

from neat_delta.core.base.support.distinct import all_differ, deduplicate, map_distinct

TABLES = st.lists(st.tuples(st.sampled_from(["", "19.90", "21.50", "é"]), st.none() | st.sampled_from(["a", "b"])))


def table(rows: list[tuple[str, str | None]]) -> pl.DataFrame:
    return pl.DataFrame(rows, schema={"before": pl.String, "after": pl.String}, orient="row")


@given(TABLES)
def test_each_row_is_like_one_of_the_different_rows(as_of_many, rows):
    with as_of_many():
        found = deduplicate(table(rows))
        doubled = map_distinct(table(rows), lambda some: some.select(twice=pl.concat_str("before", "after", "before")))
    assert found.expand(found.rows).rows() == rows
    assert len(set(found.rows.rows())) == found.rows.height or found.which is None
    assert doubled["twice"].to_list() == [None if after is None else before + after + before for before, after in rows]
    assert all_differ(table(rows)) == (len(set(rows)) == len(rows))


def test_rows_whose_hashes_clash_are_still_told_apart(as_of_many):
    rows: list[tuple[str, str | None]] = [("19.90", "21.50"), ("9.90", "11.50")] * 3
    with as_of_many(), mock.patch.object(pl.DataFrame, "hash_rows", lambda self: pl.Series([7] * self.height)):
        assert deduplicate(table(rows)).rows.rows() == rows


def test_rows_that_hardly_repeat_are_taken_as_they_are():
    some = pl.DataFrame({"before": [str(one) for one in random.Random(7).choices(range(70_000), k=100_000)]})
    assert deduplicate(some).which is None
    assert deduplicate(some.with_columns(before=pl.lit("19.90"))).rows.height == 1
