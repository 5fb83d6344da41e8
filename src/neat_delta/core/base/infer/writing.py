"""How a file writes numbers and dates, by those of its cells that can be read in one way only."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Iterable, Iterator, Sequence

import polars as pl

from neat_delta.core.base.kinds import KINDS
from neat_delta.core.base.kinds.date import FORMS
from neat_delta.core.base.kinds.notation import affixes
from neat_delta.core.base.kinds.number import CURRENCY, NUMBER_KINDS, marks
from neat_delta.core.base.model.layout import Notation
from neat_delta.core.base.model.store import Field
from neat_delta.core.base.support import sizes
from neat_delta.core.base.support.series import numbered

__all__ = [
    "GLANCED",
    "NUMBER",
    "NUMBERS",
    "could_be",
    "currency_of",
    "date_form_of",
    "having_currency",
    "same_notation",
    "writing_of",
]


NUMBERS = (*NUMBER_KINDS, "measure")
"""The kinds whose cells have a decimal mark."""


def currency_of(column: pl.Series) -> str | None:
    """The currency around all of a column's amounts, with # for the number: `€#`; "" for none, None if they differ."""
    if not having_currency(column.head(GLANCED).to_frame()):
        return ""
    parts = affixes(column.filter(column.str.strip_chars() != ""))[["head", "tail"]].unique()
    return f"{parts['head'][0]}#{parts['tail'][0]}" if parts.height == 1 else None


def having_currency(columns: pl.DataFrame) -> list[str]:
    """The columns in a cell of which a currency stands."""
    if not columns.width:
        return []
    having = columns.select(pl.all().str.contains(CURRENCY).any()).row(0, named=True)
    return [name for name, has_one in having.items() if has_one]


def same_notation(field: Field, writing: Notation) -> str:
    """What all numbers of a field look like that are written as it says, without a zero too many."""
    point, thousands = (re.escape(mark) for mark in marks(field, writing))
    integer_form = rf"(?:0|[1-9][0-9]{{0,2}}(?:{thousands}[0-9]{{3}})*)" if thousands else "(?:0|[1-9][0-9]*)"
    decimals = rf"(?:{point}[0-9]*[1-9])?"
    if field.kind == "integer":
        decimals = ""
    elif field.decimals is not None:
        decimals = rf"{point}[0-9]{{{field.decimals}}}" if field.decimals else ""
    head, _, tail = (re.escape(part) for part in (field.currency or "#").partition("#"))
    return rf"^\s*[−-]?{head}[−-]?{integer_form}{decimals}{tail}\s*$"


# What the cells of numbers look like in each way of writing; the ways differ in what they take a mark for.
LOOSE = r"^[+−-]?\d[\d., '’\u00a0\u202f]*$"


EVIDENCE = {
    "point": r"^[^.]*\.(?:\d{1,2}|\d{4,})$|\d[, '’\u00a0\u202f]\d{3}\.\d+$",
    "comma": r"^[^,]*,(?:\d{1,2}|\d{4,})$|\d[. '’\u00a0\u202f]\d{3},\d+$",
    ",": r"^[+−-]?\d{1,3}(?:(?:,\d{3})+\.\d+|(?:,\d{3}){2,})$",
    ".": r"^[+−-]?\d{1,3}(?:(?:\.\d{3})+,\d+|(?:\.\d{3}){2,})$",
    " ": r"^[+−-]?\d{1,3}(?:[ \u00a0\u202f]\d{3})+(?:[.,]\d+)?$",
    "'": r"^[+−-]?\d{1,3}(?:['’]\d{3})+(?:[.,]\d+)?$",
}
"""What speaks for a decimal mark, and for each thousands mark. `1.234` speaks for neither: it may mean either."""


PLAIN = r"^[0-9]+(?:\.[0-9]{1,2})?$"
"""Most numbers look like this, and a closer look is not cheap: they speak for a point, if they have one."""


BARE = rf"^[+−-]?\s*(?:{CURRENCY})?\s*|\s*(?:{CURRENCY})?$"


def writing_of(columns: Iterable[pl.Series], otherwise: Notation | None = None) -> Notation:
    """How a file writes numbers, by those cells that can be read in one way only: `19,90`, `1.234,50`.

    Where nothing or both speak, it is `otherwise`. When that is None, a decimal point, and only columns that hold
    nothing but digits and marks, or currency signs, are looked at; else the columns are known to be numbers.
    """
    fallback_known = otherwise is not None
    otherwise = otherwise or Notation(".", "")
    point = comma = 0
    groups: Counter[str] = Counter()
    for table in _together(column for column in columns if fallback_known or could_be(column, NUMBER)):
        counted = _evidence(table, fallback_known=fallback_known)
        point += counted.pop("decimals") + counted.pop("point")
        comma += counted.pop("comma")
        groups.update(counted)
    if bool(point) == bool(comma):
        return otherwise
    decimal = "." if point else ","
    groups.pop(decimal, None)
    mark, times = max(groups.items(), key=lambda group: group[1])
    if not times:
        mark = (otherwise.thousands_mark or "") if decimal == otherwise.decimal_mark else ""
    return Notation(decimal, mark, otherwise.date_form, otherwise.yes, otherwise.no)  # type: ignore[arg-type]


def _together(columns: Iterable[pl.Series]) -> Iterator[pl.DataFrame]:
    """Columns as tables of `of`, the number of the column, and `text`, without outer white space."""
    batch: list[pl.Series] = []
    cells = 0
    for column in columns:
        batch.append(column)
        cells += column.len()
        if cells >= sizes.CELLS_LEARNED_TOGETHER:
            yield _laid_together(batch)
            batch, cells = [], 0
    if batch:
        yield _laid_together(batch)


def _laid_together(columns: Sequence[pl.Series]) -> pl.DataFrame:
    of = numbered([column.len() for column in columns])
    texts = pl.concat([column.alias("text") for column in columns])
    return pl.DataFrame([of.alias("of"), texts.str.strip_chars()])


def _evidence(table: pl.DataFrame, *, fallback_known: bool) -> dict[str, int]:
    """How many cells speak for each mark, in the columns that could be numbers, and in how many of these decimals stand
    behind a point.
    """
    text = pl.col("text")
    looks = table.filter(text != "").with_columns(plain=text.str.contains(PLAIN))
    point = looks["of"].filter(looks["plain"] & looks["text"].str.contains(".", literal=True)).unique()
    if looks["plain"].all():
        return dict.fromkeys(EVIDENCE, 0) | {"decimals": point.len()}
    odd = looks.filter(~pl.col("plain")).select("of", text.str.replace_all(BARE, ""))
    odd = odd.with_columns(likely=text.str.contains(LOOSE))
    if not fallback_known:  # a column in which one cell could be no number says nothing
        other = odd.filter(~pl.col("likely"))["of"].unique().implode()
        odd, point = odd.filter(~pl.col("of").is_in(other)), point.filter(~point.is_in(other))
    seen = odd.filter("likely").select(text.str.contains(form).sum().alias(name) for name, form in EVIDENCE.items())
    return seen.row(0, named=True) | {"decimals": point.len()}


def could_be(texts: pl.Series, every: re.Pattern[str] | None) -> bool:
    """Whether the first cells look like it: a glance that spares many columns the closer look."""
    first = (text.strip() for text in texts.head(GLANCED) if text)
    return every is None or all(every.search(text) for text in first if text)


def date_form_of(texts: pl.Series, otherwise: str | None) -> str | None:
    """The one form in which a sheet writes dates, where it is not the one they are known by; `otherwise` if in doubt.

    A form must read nine in ten of the cells that the known form does not read, and no other form as many.
    """
    if not texts.len():
        return otherwise
    bare = texts.str.strip_chars()
    readable = KINDS["date"].read(bare, Field(date_form=otherwise), Notation())
    odd = bare.filter(readable.is_null() & (bare != ""))
    if not odd.len():
        return otherwise
    fits = [
        form
        for form in FORMS
        if KINDS["date"].read(odd, Field(date_form=form), Notation()).null_count() * 10 <= odd.len()
    ]
    return fits[0] if len(fits) == 1 else otherwise


GLANCED = 20


NUMBER = re.compile(r"^\D{0,6}[\d., '’\u00a0\u202f]*\d\D{0,6}$")
