"""Signing off in a workbook: a line for each changed cell, with a seal, and the answers that came back."""

from __future__ import annotations

from collections.abc import Sequence

import polars as pl
from blake3 import blake3

from neat_delta.core.base.model.catalogue import MARK, Catalogue
from neat_delta.core.base.model.changeset import ChangeSet
from neat_delta.core.base.model.schemas import conform
from neat_delta.core.base.support.errors import ChangeSetError
from neat_delta.core.base.support.series import gathered, scattered, true_places
from neat_delta.core.review.answers import ANSWERS, CHOICES, Answers
from neat_delta.core.review.clashes import clashing_cells

__all__ = [
    "ANSWER",
    "CLASH_COLUMNS",
    "COLUMNS",
    "as_workbook_text",
    "key_heading",
    "seals",
    "workbook_answers",
    "workbook_texts",
]

ANSWER = "answer"
SEAL = "seal"
COLUMNS = ("name", "field", "base", "before", "after", "both", "difference", ANSWER, "comment", "findings", SEAL)
"""The headings of a workbook to sign off, after those of the key."""

CLASH_COLUMNS = ("base", "both")
"""Those of them that are there only where the store has moved on: what stood there, and the sum of both changes."""

YES, NO = ("yes", "y"), ("no", "n")

LONGEST = 32_000
"""A cell of a workbook holds no more than 32,767 characters; of longer texts the part is shown that differs."""

AROUND = 200
"""So many characters before the first that differs are shown with it."""


def key_heading(name: str) -> str:
    """The heading of a key field: never that of another column."""
    return f"key: {name}"


def as_workbook_text(texts: pl.Expr) -> pl.Expr:
    """Texts as a workbook keeps them: with plain line ends, without control characters, cut to what a cell holds."""
    plain = texts.str.replace_all("\r\n?", "\n").str.replace_all(r"[\x00-\x08\x0b-\x1f\x7f\ufffe\uffff]", "")
    return plain.str.slice(0, LONGEST)


def workbook_texts(cells: pl.DataFrame) -> pl.DataFrame:
    """The texts `before` and `after` of cells as the workbook shows them. Of those that are too long for it, the part
    from shortly before the first character that differs, under a line that says so.
    """
    texts = cells.select(pl.col("before").fill_null(""), pl.col("after"))
    short = texts.select(as_workbook_text(pl.all()))
    long = true_places(texts.select(pl.max_horizontal(pl.all().str.len_chars()) > LONGEST).to_series())
    pairs = [_from_the_difference(*pair) for pair in gathered(texts, long).rows()]
    for place, name in enumerate(("before", "after")):
        parts = pl.Series([pair[place] for pair in pairs], dtype=pl.String)
        parts = parts.to_frame("part").select(as_workbook_text(pl.col("part"))).to_series()
        short = short.with_columns(scattered(short[name], long, parts))
    return short


def _from_the_difference(before: str, after: str) -> tuple[str, str]:
    """Two long texts from shortly before the first character that differs."""
    same = next((at for at, (letter, other) in enumerate(zip(before, after, strict=False)) if letter != other), None)
    start = max(0, (min(len(before), len(after)) if same is None else same) - AROUND)
    return tuple(  # type: ignore[return-value]
        f"[{len(text):,} characters, from character {start + 1:,}]\n{text[start:]}" if len(text) > LONGEST else text
        for text in (before, after)
    )


def seals(cells: pl.DataFrame, keys: pl.DataFrame) -> pl.Series:
    """What binds an answer to its cell: a digest of its key, field, and whole texts before and after."""
    rows = zip(gathered(keys, cells["item"]).rows(), cells[["field", "before", "after"]].rows(), strict=True)
    return pl.Series([f"b3-{_digest((*key, *cell))}" for key, cell in rows], dtype=pl.String)


def _digest(texts: Sequence[str | None]) -> str:
    hasher = blake3()
    for text in texts:
        data = b"" if text is None else text.encode("utf-8", "surrogatepass")
        hasher.update(b"-" if text is None else b"%d:" % len(data)).update(data)
    return hasher.hexdigest(16)


def workbook_answers(changes: ChangeSet, answers: Catalogue) -> Answers:
    """The answers that stand in a workbook to sign off, cell by cell.

    ChangeSetError when it is none, when an answer is none of those that a cell may have, or is for a cell that says
    otherwise now: it must be asked again.

    >>> from neat_delta import as_catalogue, compare
    >>> live = as_catalogue({"sku": ["QA-1", "QA-2"], "price": ["9.90", "20.00"]}, "live")
    >>> sheet = as_catalogue({"sku": ["QA-2", "QA-1"], "price": ["20.00", "10.50"]}, "sheet")
    >>> changes = compare(live, sheet)
    >>> none = as_catalogue({"key: sku": [], "field": [], "before": [], "after": [], "answer": [], "seal": []})
    >>> workbook_answers(changes, none).table.height
    0
    """
    keys = [key_heading(name) for name in changes.header.key]
    for heading in (*keys, "field", "before", "after", ANSWER, SEAL):
        if heading not in answers.fields:
            raise ChangeSetError(
                f'{answers.path}: there is no heading "{heading}", so this is no workbook to sign off. Make one by '
                "preview, with ‹workbook›."
            )
    given = answers.cells.with_columns(
        pl.col(ANSWER).str.strip_chars().str.to_lowercase(),
        row=answers.row(pl.int_range(answers.cells.height, eager=True)),
    ).filter(pl.col(ANSWER) != "")
    odd = given.filter(~pl.col(ANSWER).is_in([*YES, *NO, *CHOICES]))
    if odd.height:
        row, text = odd.select("row", ANSWER).row(0)
        more = "Answer yes, no, or nothing."
        if changes.header.base is not None:
            more = "Answer yes, no, or nothing; and of a clash sheet, store or both."
        raise ChangeSetError(f'{answers.path}, row {row:,}: "{text}" is neither yes nor no. {more}')
    by = [*keys, "field"]
    if changes.header.shared:  # items that share a key are told apart by their seals, and by their order
        given = given.with_columns(pl.col(SEAL).str.strip_chars())
        given = given.with_columns(pl.int_range(pl.len()).over(*by, SEAL).alias(MARK))
        by = [*by, SEAL, MARK]
    twice = given.filter(pl.struct(by).is_duplicated())
    if twice.height:
        raise ChangeSetError(
            f"{answers.path}, row {twice['row'][0]:,}: there are two answers for this cell. Leave one."
        )
    rows = pl.DataFrame([changes.keys[name].alias(key_heading(name)) for name in changes.header.key]).with_columns(
        as_workbook_text(pl.all())
    )
    cells = changes.cells.with_row_index("number").select("number", "item", pl.col("field").cast(pl.String))
    now = workbook_texts(changes.cells)
    cells = cells.with_columns(now["before"].alias("now_before"), now["after"].alias("now_after"))
    cells = pl.concat([cells, gathered(rows, cells["item"])], how="horizontal")
    if changes.header.shared:
        cells = cells.with_columns(seals(changes.cells, changes.keys).alias(SEAL))
        cells = cells.with_columns(pl.int_range(pl.len()).over(*keys, "field", SEAL).alias(MARK))
    met = given.join(cells, on=by, how="left", maintain_order="left")
    answered = met["number"].drop_nulls()
    sealed = pl.DataFrame([answered, seals(changes.cells[answered], changes.keys).alias("now_seal")])
    met = met.join(sealed, on="number", how="left", maintain_order="left")
    before, after = as_workbook_text(pl.col("before")), as_workbook_text(pl.col("after"))
    other = met.filter(
        pl.col("number").is_null()
        | (pl.col("now_before") != before)
        | (pl.col("now_after") != after)
        | (pl.col("now_seal") != pl.col(SEAL).str.strip_chars())
    )
    if other.height:
        row_cells = other.row(0, named=True)
        key = " / ".join(row_cells[name] for name in keys)
        same = (row_cells["before"], row_cells["after"]) == (row_cells["now_before"], row_cells["now_after"])
        if row_cells["number"] is None:
            why = "no change is there any more"
        elif same:
            why = "its seal is broken"
        else:
            why = f"it is {_step(row_cells['now_before'], row_cells['now_after'])} now"
        raise ChangeSetError(
            f"{answers.path}, row {row_cells['row']:,}: the answer for {key}, {row_cells['field']} is for "
            f"{_step(row_cells['before'], row_cells['after'])}, and {why}. Make the workbook again, and ask again."
        )
    return Answers(answers.path, _as_answers(changes, met, answers.path))


def _as_answers(changes: ChangeSet, met: pl.DataFrame, path: str) -> pl.DataFrame:
    """The rows of a workbook with an answer, each with the `number` of its cell, as `ANSWERS`."""
    answers = met.select(
        "number", "comment" if "comment" in met.columns else pl.lit(None, pl.String).alias("comment"),
        answer=pl.col(ANSWER).replace({"y": "yes", "n": "no"}),
    )  # fmt: skip
    table = gathered(changes.cells.select("item", pl.col("field").cast(pl.String)), answers["number"]).hstack(answers)
    clashing = clashing_cells(changes).select("item", "field", clash=pl.lit(value=True))
    table = table.join(clashing, on=["item", "field"], how="left", maintain_order="left")
    wrong = table.filter(pl.col("clash").is_null() & pl.col("answer").is_in(CHOICES))
    if wrong.height:
        item, field, text = wrong[["item", "field", "answer"]].row(0)
        key = " / ".join(changes.keys.row(item))
        raise ChangeSetError(
            f'{path}: "{text}" is no answer for {key}, {field}, as the store did not change it; write yes or no.'
        )
    of_clash = pl.col("clash").fill_null(value=False)
    answer = pl.when(of_clash & (pl.col("answer") == "yes")).then(pl.lit("sheet")).otherwise("answer")
    return conform(table.with_columns(answer=answer), ANSWERS)


def _step(before: str, after: str) -> str:
    """A change, short enough for a message."""
    return " → ".join(f'"{text[:40]}"' if text else "blank" for text in (before, after))
