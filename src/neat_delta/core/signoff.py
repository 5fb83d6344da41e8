"""Signing off: which changes a reviewer said yes to, cell by cell, and that nothing else is sent."""

from __future__ import annotations

from dataclasses import replace

import msgspec
import polars as pl

from neat_delta.core.catalogue import Catalogue
from neat_delta.core.changes import ChangeSet, held
from neat_delta.core.checks import hold_incomplete
from neat_delta.core.errors import ChangeSetError

__all__ = ["ANSWER", "COLUMNS", "NOT_SIGNED", "REFUSED", "kept", "keyed", "signed_off"]

NOT_SIGNED, REFUSED = "not signed off", "answered no"
"""The reasons for which a change is held that a reviewer did not say yes to, or said no to."""

ANSWER = "answer"
COLUMNS = ("name", "field", "before", "after", "difference", ANSWER, "comment", "findings")
"""The headings of a workbook to sign off, after those of the key."""

YES, NO = ("yes", "y"), ("no", "n")

LONGEST = 32_000
"""A cell of a workbook holds no more than 32,767 characters; a longer text is shown by its beginning."""


def keyed(name: str) -> str:
    """The heading of a key field: never that of another column."""
    return f"key: {name}"


def kept(texts: pl.Expr) -> pl.Expr:
    """Texts as a workbook keeps them: with plain line ends, without control characters, cut to what a cell holds."""
    plain = texts.str.replace_all("\r\n?", "\n").str.replace_all(r"[\x00-\x08\x0b-\x1f\x7f\ufffe\uffff]", "")
    return plain.str.slice(0, LONGEST)


def signed_off(changes: ChangeSet, answers: Catalogue) -> ChangeSet:
    """The change set with everything held that the answers do not say yes to.

    `answers` is a workbook that was made of it, with its answers. ChangeSetError when it is none, when an answer is
    neither yes nor no, or is for a cell that says otherwise now: it must be asked again.
    """
    keys = [keyed(name) for name in changes.header.key]
    for heading in (*keys, "field", "before", "after", ANSWER):
        if heading not in answers.fields:
            raise ChangeSetError(
                f'{answers.path}: there is no heading "{heading}", so this is no workbook to sign off. Make one with '
                "`neat-delta preview CHANGES --workbook FILE.xlsx`."
            )
    given = answers.cells.with_columns(
        pl.col(ANSWER).str.strip_chars().str.to_lowercase(),
        row=answers.row(pl.int_range(answers.cells.height, eager=True)),
    ).filter(pl.col(ANSWER) != "")
    odd = given.filter(~pl.col(ANSWER).is_in([*YES, *NO]))
    if odd.height:
        row, text = odd.select("row", ANSWER).row(0)
        raise ChangeSetError(
            f'{answers.path}, row {row:,}: "{text}" is neither yes nor no. Answer yes, no, or nothing.'
        )
    twice = given.filter(pl.struct(*keys, "field").is_duplicated())
    if twice.height:
        raise ChangeSetError(
            f"{answers.path}, row {twice['row'][0]:,}: there are two answers for this cell. Leave one."
        )
    there = pl.DataFrame([changes.keys[name].alias(keyed(name)) for name in changes.header.key]).with_columns(
        kept(pl.all())
    )
    cells = changes.cells.with_row_index("number").select(
        "number", "item", pl.col("field").cast(pl.String), now_before=kept(pl.col("before").fill_null("")),
        now_after=kept(pl.col("after")),
    )  # fmt: skip
    cells = pl.concat([cells, there.select(pl.all().gather(cells["item"]))], how="horizontal")
    met = given.join(cells, on=[*keys, "field"], how="left", maintain_order="left")
    before, after = kept(pl.col("before")), kept(pl.col("after"))
    other = met.filter(pl.col("number").is_null() | (pl.col("now_before") != before) | (pl.col("now_after") != after))
    if other.height:
        one = other.row(0, named=True)
        key = " / ".join(one[name] for name in keys)
        now = (
            "no change is there any more"
            if one["number"] is None
            else f"it is {_step(one['now_before'], one['now_after'])} now"
        )
        raise ChangeSetError(
            f"{answers.path}, row {one['row']:,}: the answer for {key}, {one['field']} is for "
            f"{_step(one['before'], one['after'])}, and {now}. Make the workbook again, and ask again."
        )
    said = pl.repeat(None, changes.cells.height, dtype=pl.String, eager=True).scatter(met["number"], met[ANSWER])
    why = pl.when(said.is_in(YES)).then(None).when(said.is_in(NO)).then(pl.lit(REFUSED)).otherwise(pl.lit(NOT_SIGNED))
    with_item = changes.items["held"].gather(changes.cells["item"]).is_not_null()
    marked = changes.cells.with_columns(held=pl.when(with_item).then("held").otherwise(pl.coalesce("held", why)))
    # A new item of which no cell is sent would be an empty one.
    sent = marked.filter(pl.col("held").is_null())["item"].unique()
    whole = pl.col("verdict").is_in(["new", "gone"])  # of an item that goes, the workbook says nothing
    empty = whole & pl.col("held").is_null() & ~pl.int_range(pl.len()).is_in(sent.implode())
    items = changes.items.with_columns(held=pl.when(empty).then(pl.lit(NOT_SIGNED)).otherwise("held"))
    counts = msgspec.structs.replace(changes.header.counts, held_cells=int(held(items, marked).sum()))
    header = msgspec.structs.replace(changes.header, counts=counts)
    return hold_incomplete(replace(changes, header=header, items=items, cells=marked))


def _step(before: str, after: str) -> str:
    """A change, short enough for a message."""
    return " → ".join(f'"{text[:40]}"' if text else "blank" for text in (before, after))
