"""From the value of an expression to the text of a field, as the store writes it; or why that cannot be."""

from __future__ import annotations

from dataclasses import replace

import msgspec
import polars as pl

from neat_delta.core.base.kinds import KINDS
from neat_delta.core.base.kinds.list import BETWEEN
from neat_delta.core.base.kinds.number import NUMBER_KINDS
from neat_delta.core.base.model.layout import Notation
from neat_delta.core.base.model.store import Field
from neat_delta.core.base.query.expressions import Values
from neat_delta.core.base.query.functions import plain_number
from neat_delta.core.base.query.terms import SORTS
from neat_delta.core.base.support.errors import ConditionError
from neat_delta.core.base.support.series import constant, gathered, scattered, true_places

__all__ = ["written"]


def written(
    values: Values, name: str, field: Field, writing: Notation, before: pl.Series
) -> tuple[pl.Series, pl.Series]:
    """The texts of a field for its values (null where there is none, "" where blank was meant), and what is wrong with
    those that cannot be written. `before` are the texts so far: a list is written with the marks that it has.

    ConditionError when the expression gives another sort of value than the field holds.
    """
    sort = SORTS.get(field.kind, "text")
    gives = "flag" if values.sort == "truth" else values.sort
    unread = _nothing(values.texts)
    if gives == "text" and sort in {"flag", "date", "list"}:  # words are read like the field's cells
        values, unread = _read(values, field, writing)
        gives = sort
    if gives not in {"null", sort} and not (gives == "text" and sort == "measure"):
        hint = "; CAST(… AS TEXT) makes it a text" if sort == "text" else ""
        raise ConditionError(f'"{name}" holds {KINDS[field.kind] or "text"}, and this gives a {gives}{hint}.')
    meant = values.meant & (values.texts.is_null() | (values.texts == "").fill_null(value=False))
    plain = values.texts.set(values.texts == "", None)
    is_number = plain.is_not_null()
    some, at = plain.filter(is_number), true_places(is_number)
    wrong = unread
    if sort == "number" and some.len():
        texts, why = _with_decimals(some, values, name, field, writing)
        wrong = scattered(wrong, at, why)
    elif sort == "list":
        texts = _lists(some, before.filter(is_number), field)
    elif sort in {"date", "flag"} and some.len():
        texts = KINDS[field.kind].write(some, some, field, writing)
        why = pl.select(pl.when(texts.is_null()).then(pl.format("the store has no way to write {}", some))).to_series()
        wrong = scattered(wrong, at, why)
    else:
        texts = some
    out = scattered(_nothing(plain), at, texts) if some.len() else _nothing(plain)
    return out.set(meant, ""), wrong


def _read(values: Values, field: Field, writing: Notation) -> tuple[Values, pl.Series]:
    """Texts as values of a field's kind, a list in the order in which it was written; and what is wrong with those that
    it cannot read.
    """
    kind = KINDS[field.kind]
    if field.kind == "list":
        field = msgspec.structs.replace(field, ordered=True)
    filled = values.texts.is_not_null() & (values.texts != "")
    read = kind.read(values.texts.filter(filled), field, writing)
    bad = true_places(filled).filter(read.is_null())
    what = pl.select(pl.format('"{}" is not {}', gathered(values.texts, bad), pl.lit(str(kind)))).to_series()
    texts = scattered(_nothing(values.texts), true_places(filled), read) if filled.any() else values.texts
    return replace(values, texts=texts), scattered(_nothing(values.texts), bad, what) if bad.len() else _nothing(texts)


def _nothing(like: pl.Series) -> pl.Series:
    return constant(None, like.len(), pl.String)


def _with_decimals(
    plain: pl.Series, values: Values, name: str, field: Field, writing: Notation
) -> tuple[pl.Series, pl.Series]:
    """Numbers with the field's decimals; more than it has are an error of the rule, never cut off."""
    most = 0 if field.kind == "integer" else field.decimals
    texts = plain
    if values.fixed and most is not None:  # zeros that only the rounding put there are none that are lost
        texts = texts.to_frame("text").select(plain_number(pl.col("text"))).to_series()
    places = texts.str.extract(r"\.([0-9]+)$").str.len_bytes().fill_null(0)
    wrong = constant(None, plain.len(), pl.String)
    if most is not None and (places > most).any():
        what = pl.format(
            "it comes to {}, of {} decimals, and {} has {}: ROUND(…, {}) in the rule",
            texts, places, pl.lit(name), pl.lit(most), pl.lit(most),
        )  # fmt: skip
        wrong = pl.select(pl.when(places > most).then(what)).to_series()
    form = field
    if values.fixed and most is None:
        form = msgspec.structs.replace(field, decimals=int(places.max() or 0))  # type: ignore[arg-type]
    assert field.kind in NUMBER_KINDS
    texts = KINDS[field.kind].write(texts, texts, form, writing)
    if field.currency is not None:
        head, _, tail = field.currency.partition("#")
        sign, digits = (texts.str.extract(part, 1) for part in ("^(-?)", "^-?(.*)$"))
        texts = pl.select(pl.concat_str(sign, pl.lit(head), digits, pl.lit(tail))).to_series()
    return texts.set(wrong.is_not_null(), None), wrong


def _lists(values: pl.Series, before: pl.Series, field: Field) -> pl.Series:
    mark = field.separator or ","
    spaced = before.str.contains(mark + " ", literal=True).fill_null(value=False)
    table = pl.DataFrame({"value": values, "mark": constant(mark, values.len()).set(spaced, mark + " ")})
    return table.select(pl.col("value").str.split(BETWEEN).list.join(pl.col("mark"))).to_series()
