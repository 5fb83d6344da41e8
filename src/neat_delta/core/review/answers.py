"""What reviewers answered: yes or no for an item or a cell, and of a clash whose value it is to be. Several reviewers'
answers are one: a no is a no, and where two choose otherwise nothing is chosen.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Sequence
from dataclasses import dataclass, replace

import polars as pl

from neat_delta.core.base.model.changeset import ChangeSet
from neat_delta.core.base.model.manifest import Comment, Contradiction
from neat_delta.core.base.model.reasons import DIFFER, NOT_SIGNED, REFUSED, STORES
from neat_delta.core.base.model.schemas import RELEASED, Schema, conform, stopping
from neat_delta.core.base.support.errors import ChangeSetError
from neat_delta.core.base.support.series import filtered, gathered, not_null, true_places
from neat_delta.core.compare.decide.consequences import settle
from neat_delta.core.compare.decide.decide import as_findings
from neat_delta.core.review.clashes import clashing_cells

__all__ = ["ANSWERS", "CHOICES", "Answers", "SignedOff", "release", "sign_off"]

CHOICES = ("sheet", "store", "both")
"""What a clash may be answered: the sheet's value, the store's, or the store's with the sheet's difference."""

ANSWERS: Schema = {"item": pl.Int64, "field": pl.String, "answer": pl.String, "comment": pl.String}
"""Answers: the number of the item, the field (null: all of its cells that no answer is about), "yes", "no" or one of
`CHOICES` (null: only a comment), and what was said of it.
"""


@dataclass(frozen=True, slots=True)
class Answers:
    """The answers of one reviewer (`ANSWERS`), and the file they came from."""

    path: str
    table: pl.DataFrame


@dataclass(frozen=True, slots=True)
class SignedOff:
    """The change set with everything held that nobody said yes to, the clashing cells that were let through with their
    values (`RELEASED`), where reviewers contradict each other, and what they said besides.
    """

    changes: ChangeSet
    released: pl.DataFrame
    contradictions: list[Contradiction]
    comments: list[Comment]

    @property
    def sent(self) -> pl.DataFrame:
        """Those of the clashing cells that nothing holds (`RELEASED`)."""
        going = self.changes.sent().select("item", pl.col("field").cast(pl.String))
        return self.released.join(going, on=["item", "field"], how="semi", maintain_order="left")


def sign_off(changes: ChangeSet, answers: Sequence[Answers]) -> SignedOff:
    """Hold what the answers do not say yes to; one no is a no. A clash goes at the value that was chosen.

    ChangeSetError when a clash is answered with both that is no number.

    >>> from neat_delta import as_catalogue, compare
    >>> live = as_catalogue({"sku": ["QA-1", "QA-2"], "price": ["9.90", "20.00"]}, "live")
    >>> sheet = as_catalogue({"sku": ["QA-2", "QA-1"], "price": ["21.00", "10.50"]}, "sheet")
    >>> said = pl.DataFrame({"item": [0, 1], "field": [None, "price"], "answer": ["yes", "no"]})
    >>> signed = sign_off(compare(live, sheet), [Answers("answers.json", conform(said, ANSWERS))])
    >>> signed.changes.cells["held"].to_list()
    [None, 'answered no']
    """
    final, contradictions = _together(changes, answers)
    clashes = clashing_cells(changes)
    cells = changes.cells.select("item", pl.col("field").cast(pl.String), "held")
    cells = cells.join(clashes, on=["item", "field"], how="left", maintain_order="left")
    by_reviewer = cells[["item", "field"]].join(
        filtered(final, not_null(final["field"])), on=["item", "field"], how="left", maintain_order="left"
    )["answer"]
    of_items = filtered(final, ~not_null(final["field"])).select("item", of_item="answer")
    by_item = cells[["item"]].join(of_items, on="item", how="left", maintain_order="left")["of_item"]
    clash = cells["sheet"].is_not_null()
    choice = by_reviewer.zip_with(by_reviewer.is_not_null(), by_item)
    table = cells.with_columns(said=by_reviewer, of_item=by_item, choice=choice, clash=clash)
    impossible = table.filter(pl.col("clash") & (pl.col("said") == "both") & pl.col("both").is_null())
    if impossible.height:
        item, field = impossible[["item", "field"]].row(0)
        key = " / ".join(changes.keys.row(item))
        raise ChangeSetError(f"{key}, {field}: there is no sum of both. Answer sheet or store.")
    refused = (pl.col("choice") == "no") | (pl.col("of_item") == "no")
    going = pl.col("clash") & pl.col("said").is_in(["sheet", "both"]) & ~refused.fill_null(value=False)
    reason = (
        pl.when(refused)
        .then(pl.lit(REFUSED))
        .when(going)
        .then(None)
        .when(pl.col("clash") & (pl.col("said") == "store"))
        .then(pl.lit(STORES))
        .when(pl.col("clash") & (pl.col("said") == DIFFER))
        .then(pl.lit(DIFFER))
        .when(pl.col("clash"))
        .then(pl.col("held"))
        .when(pl.col("choice") == "yes")
        .then(None)
        .otherwise(pl.lit(NOT_SIGNED))
    )
    table = table.with_columns(reason=reason, going=going)
    value = pl.when(pl.col("said") == "both").then("both").otherwise("sheet")
    released = conform(table.filter("going").select("item", "field", after=value), RELEASED)
    kept = changes.cells["held"].set(table["clash"], None)  # what is said of a clash is said anew
    changes = replace(changes, cells=changes.cells.with_columns(held=kept))
    changes = release(changes, released)
    unsigned = filtered(table, not_null(table["reason"]))
    unsigned = unsigned.filter(gathered(changes.items["held"], unsigned["item"]).is_null())[["item", "field", "reason"]]
    # A new item of which no cell is sent would be an empty one; one that goes is removed only by a yes.
    yes = table.filter((pl.col("choice") == "yes") & pl.col("held").is_null())["item"].unique()
    yes = pl.concat([yes, filtered(of_items, of_items["of_item"] == "yes")["item"]])
    whole_items = pl.col("verdict").is_in(["new", "gone"]) & ~pl.int_range(pl.len()).is_in(yes.implode())
    empty_ones = true_places(changes.items.select(whole_items.alias("empty")).to_series())
    no = filtered(of_items, of_items["of_item"] == "no")["item"]
    items = pl.DataFrame({"item": empty_ones.cast(pl.Int64)}).with_columns(
        reason=pl.when(pl.col("item").is_in(no.implode())).then(pl.lit(REFUSED)).otherwise(pl.lit(NOT_SIGNED))
    )
    findings = stopping(pl.concat([unsigned, items], how="diagonal"), "sign-off")
    decided = pl.concat([as_findings(changes), findings]).with_columns(done=pl.lit("held"))
    return SignedOff(settle(changes, decided), released, contradictions, _comments(changes, answers))


def _comments(changes: ChangeSet, answers: Sequence[Answers]) -> list[Comment]:
    """What the reviewers said besides their answers."""
    return [
        Comment(changes.keys.row(item, named=True), field, comment, reviewer.path)
        for reviewer in answers
        for item, field, comment in reviewer.table[["item", "field", "comment"]].iter_rows()
        if comment and comment.strip()
    ]


def release(changes: ChangeSet, released: pl.DataFrame) -> ChangeSet:
    """The change set with these cells (`RELEASED`) not held by themselves, and at these values."""
    if not released.height:
        return changes
    cells = changes.cells.with_columns(of=pl.col("field").cast(pl.String))
    met = cells.join(
        released.rename({"after": "let"}), left_on=["item", "of"], right_on=["item", "field"], how="left",
        maintain_order="left",
    )  # fmt: skip
    let = pl.col("let").is_not_null()
    met = met.with_columns(held=pl.when(~let).then("held"), after=pl.when(let).then("let").otherwise("after")).select(
        changes.cells.columns
    )
    return replace(changes, cells=met)


def _together(changes: ChangeSet, answers: Sequence[Answers]) -> tuple[pl.DataFrame, list[Contradiction]]:
    """The answers of all reviewers as one (`ANSWERS`; a choice that is contradicted is `DIFFER`), and the
    contradictions.
    """
    if len(answers) == 1:
        return filtered(answers[0].table, not_null(answers[0].table["answer"])), []
    by_cell: defaultdict[tuple[int, str | None], list[tuple[str, str]]] = defaultdict(list)
    for reviewer in answers:
        for item, field, answer in reviewer.table[["item", "field", "answer"]].iter_rows():
            if answer is not None:
                by_cell[item, field].append((reviewer.path, answer))
    of_items = {item: those for (item, field), those in by_cell.items() if field is None}
    rows, contradictions = [], []
    for (item, field), those in by_cell.items():
        words = {answer for _, answer in those}
        # A no for the whole item is one for each of its cells.
        more = [vote for vote in of_items.get(item, ()) if field is not None and vote[0] not in {by for by, _ in those}]
        words_with = words | {answer for _, answer in more if answer == "no" or not words & {*CHOICES}}
        if len(words_with) > 1:
            contradictions.append(Contradiction(changes.keys.row(item, named=True), field, [*those, *more]))
        final = "no" if "no" in words_with else DIFFER if len(words & {*CHOICES}) > 1 else those[0][1]
        choices = words & {*CHOICES}
        if final == "yes" and choices:
            final = next(iter(choices))
        rows.append((item, field, final, None))
    return pl.DataFrame(rows, schema=dict(ANSWERS), orient="row"), contradictions
