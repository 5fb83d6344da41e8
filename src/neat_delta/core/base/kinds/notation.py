"""How a sheet writes numbers and dates: what each cell can mean, and when a cell may mean two things.

Rule: a cell is read by itself. Other cells of its field may only make it doubtful, or, where the whole column is
written otherwise than live is, show which notation that is.
"""

from __future__ import annotations

import re
from dataclasses import dataclass

import msgspec
import polars as pl

from neat_delta.core.base.kinds import KINDS
from neat_delta.core.base.kinds.date import ISO
from neat_delta.core.base.kinds.number import CURRENCY, NUMBER_KINDS, marks
from neat_delta.core.base.model.layout import Notation
from neat_delta.core.base.model.store import Field
from neat_delta.core.base.support import sizes
from neat_delta.core.base.support.series import constant, gathered, scattered, true_places

__all__ = [
    "AS_LIVE",
    "EITHER_DAY",
    "EITHER_MARK",
    "ColumnNotation",
    "Reading",
    "affixes",
    "date_reading",
    "notation_of",
    "number_reading",
    "one_reading",
    "read_cells",
]


@dataclass(frozen=True, slots=True)
class ColumnNotation:
    """How a sheet writes one field.

    `marks` are the decimal and the thousands mark (None: whichever is written), `form` is the date form; None where it
    writes as live does. `whole_column` says that the whole column shows it, and `odd` is a cell that only another
    notation can read. `places` is the most decimals that live has in this field, where that was needed.
    """

    marks: tuple[str, str | None] | None = None
    form: str | None = None
    whole_column: bool = False
    odd: str | None = None
    places: int | None = None

    def over(self, writing: Notation) -> Notation:
        """The writing of a table, with what this column has of its own."""
        decimal, thousands = self.marks or (None, None)
        own = {"decimal_mark": decimal, "thousands_mark": thousands, "date_form": self.form}
        return msgspec.structs.replace(writing, **{name: value for name, value in own.items() if value is not None})


AS_LIVE = ColumnNotation()
"""The notation of live."""


@dataclass(frozen=True, slots=True)
class Reading:
    """The values of some cells, null where they cannot be read; why a cell is doubtful (null: it is not); and whether
    it has another value in another notation.
    """

    values: pl.Series
    doubts: pl.Series
    either: pl.Series


TEXT = pl.col("text")
SPACES_OR_APOSTROPHE = "[ '’\u00a0\u202f]"
EITHER = r"^[+-]?[1-9][0-9]{0,2}[.,][0-9]{3}$"
"""Three digits after a mark, and one to three before it: the mark may stand before decimals, or between thousands."""

WITH_MARK = {
    mark: rf"^[+-]?(?:(?:[0-9]+|[1-9][0-9]{{0,2}}(?:(?:{re.escape(other)}|{SPACES_OR_APOSTROPHE})[0-9]{{3}})+)"
    rf"(?:{re.escape(mark)}[0-9]+)?|{re.escape(mark)}[0-9]+)$"
    for mark, other in ((".", ","), (",", "."))
}
"""All numbers that can be read where decimals have this mark, with or without marks between thousands."""

LEAST_EQUAL, LEAST_ALONE = 5, 3
"""So many cells of a column that is written otherwise as a whole must be live's own values: numbers, and dates that
have no other reading. A program does that, and a hand that sets new values does not.
"""


SPACE = "[ \u00a0\u202f]*"
AMOUNT = rf"(?s)^(?<sign>[+-]?)(?<head>(?:{CURRENCY}{SPACE})?)(?<bare>.*?)(?<tail>(?:{SPACE}{CURRENCY})?)$"


def affixes(texts: pl.Series) -> pl.DataFrame:
    """Texts of amounts taken apart: `sign`, what stands before the number (`head`), the number (`bare`), and what
    stands after it (`tail`). Heads and tails are currencies with their spaces, or empty.
    """
    text = TEXT.str.strip_chars().str.replace("^−", "-")
    return texts.to_frame("text").select(text.str.extract_groups(AMOUNT)).to_series().struct.unnest()


def _bare(texts: pl.Series, field: Field) -> pl.Series:
    """The numbers in texts, without outer white space and, in a field of money, without a currency."""
    if field.kind != "money":
        return texts.to_frame("text").select(TEXT.str.strip_chars().str.replace("^−", "-")).to_series()
    if texts.len() <= sizes.CELLS_READ_ONE_BY_ONE:
        return _without_affixes(texts)
    odd = true_places(~texts.str.contains(NUMBER_ALONE).fill_null(value=False))
    return scattered(texts.alias("text"), odd, _without_affixes(gathered(texts, odd)))


NUMBER_ALONE = "^[+-]?[0-9][0-9.,]*$"
"""Most amounts are nothing but a number, and taking texts apart is dear."""


def _without_affixes(texts: pl.Series) -> pl.Series:
    """Amounts without white space and currencies around them."""
    return affixes(texts).select(pl.concat_str("sign", "bare").fill_null("").alias("text")).to_series()


def _value(bare: pl.Expr, mark: str, field: Field) -> pl.Expr:
    """The values of texts in which decimals have this mark, whatever stands between thousands."""
    other = "," if mark == "." else "."
    number = bare.str.replace_all(f"{SPACES_OR_APOSTROPHE}|{re.escape(other)}", "").str.replace(mark, ".", literal=True)
    number = number.str.replace(r"^\+", "").str.replace(r"^(-?)0+", "$1")
    number = number.str.replace(r"(\.[0-9]*?)0+$", "$1").str.strip_chars_end(".")
    number = number.str.replace(r"^(-?)(\.|$)", "${1}0$2").replace("-0", "0")
    reads = bare.str.contains(WITH_MARK[mark])
    if field.kind == "integer":
        reads &= ~number.str.contains(".", literal=True)
    return pl.when(reads).then(number)


def read_cells(texts: pl.Series, field: Field, writing: Notation, notation: ColumnNotation | None) -> Reading:
    """The values of cells, none of them blank, as their kind reads them in a table that writes like live (no
    `notation`), or as a sheet's column is read: the one reading for whoever asks.

    >>> cells, price = pl.Series(["1.234,50", "1.350"]), Field("money", decimals=2)
    >>> read_cells(cells, price, Notation("."), AS_LIVE).doubts.to_list()
    [None, 'may be decimals or thousands']
    """
    if notation is not None and field.kind in NUMBER_KINDS:
        return number_reading(texts, field, writing, notation)
    if notation is not None and field.kind == "date":
        return date_reading(texts, field, writing, notation)
    none = constant(None, texts.len(), pl.String)
    return Reading(KINDS[field.kind].read(texts, field, writing), none, constant(False, texts.len()))


def number_reading(texts: pl.Series, field: Field, live: Notation, notation: ColumnNotation) -> Reading:
    """The values of a sheet's numbers, and which of them may mean two.

    A number with one mark and three digits after it is only read where the notation leaves no choice: in a field that
    has three decimals in live, or whose thousands have this mark. One that has more decimals than live's is doubtful.
    """
    none = constant(None, texts.len(), pl.String)
    no = constant(False, texts.len())
    if notation.marks is not None and notation.marks[1] is None:
        table = _bare(texts, field).to_frame()
        return Reading(table.select(value=_value(TEXT, notation.marks[0], field))["value"], none, no)
    if notation.marks is not None and not notation.whole_column:
        own = msgspec.structs.replace(field, decimal_mark=notation.marks[0], thousands_mark=notation.marks[1])
        return Reading(KINDS[field.kind].read(texts, own, live), none, no)
    point, other = notation.marks or marks(field, live)
    thousands = other or ""
    if notation == AS_LIVE or notation == ColumnNotation(
        places=notation.places
    ):  # most cells have one reading at a glance
        rest = true_places(~texts.str.contains(one_reading(field, point)))
        if rest.len() < texts.len():
            values = KINDS[field.kind].read(texts, field, live)
            if not rest.len():
                return Reading(values, none, no)
            careful = _careful_reading(gathered(texts, rest), field, point, thousands, notation)
            return Reading(
                scattered(values, rest, careful.values),
                scattered(none, rest, careful.doubts),
                scattered(no, rest, careful.either),
            )
    return _careful_reading(texts, field, point, thousands, notation)


def one_reading(field: Field, point: str) -> str:
    """What numbers look like that have one reading: no marks but live's own before one or two decimals."""
    most = 0 if field.kind == "integer" else field.decimals if field.decimals and field.decimals > 2 else 2
    decimals = rf"(?:{re.escape(point)}[0-9]{{1,{most}}})?" if most else ""
    return rf"^-?(?:0|[1-9][0-9]*){decimals}$"


def _careful_reading(texts: pl.Series, field: Field, point: str, thousands: str, notation: ColumnNotation) -> Reading:
    bare = _bare(texts, field).to_frame()
    other = "," if point == "." else "."
    places = field.decimals if field.decimals is not None else notation.places
    either = TEXT.str.contains(EITHER)
    has = {mark: TEXT.str.contains(mark, literal=True) for mark in ".,"}
    as_point, as_other = _value(TEXT, point, field), _value(TEXT, other, field)
    if notation.whole_column:
        value, doubt = as_point, pl.lit(None, pl.String)
    else:
        decimal_fits = has[point] & pl.lit((places is None or places >= 3) and field.kind != "integer")
        plain = decimal_fits | (has[other] & pl.lit(thousands == other))
        value = pl.coalesce(as_point, as_other)
        doubt = pl.when(either & ~plain).then(pl.lit(EITHER_MARK))
        if notation.odd is not None:
            doubt = pl.when(either).then(pl.lit(f"{EITHER_MARK}, as the sheet has {notation.odd}"))
    if field.kind != "integer" and places is not None:
        long = value.str.extract(r"\.([0-9]+)$").str.len_chars() > max(places, 2)
        doubt = pl.when(long).then(pl.coalesce(doubt, pl.lit(more_decimals(places)))).otherwise(doubt)
    readings = bare.select(value.alias("value"), doubt.alias("doubt"), either.alias("either"))
    return Reading(readings["value"], readings["doubt"], readings["either"])


EITHER_MARK = "may be decimals or thousands"


def more_decimals(places: int) -> str:
    """Why a number is doubtful that has more decimals than live's."""
    return f"more decimals than the {places} that live has" if places else "decimals, and live has none"


SLASHED = {
    "DD/MM/YYYY": "MM/DD/YYYY",
    "MM/DD/YYYY": "DD/MM/YYYY",
    "DD-MM-YYYY": "MM-DD-YYYY",
    "MM-DD-YYYY": "DD-MM-YYYY",
}
"""The date forms that are taken for another, and for which."""

PLAIN_FORMS = ("DD.MM.YYYY", "YYYY/MM/DD", "YYYY.MM.DD")
"""The date forms that are taken for no other."""


def _day_form(form: str | None) -> str:
    """A date form without its time."""
    return re.split(r"[T ,]*hh", form or ISO)[0]


def _read(texts: pl.Series, form: str) -> pl.Series:
    return KINDS["date"].read(texts, Field("date", date_form=form), Notation())


def _first(*values: pl.Series) -> pl.Series:
    return pl.select(pl.coalesce(values)).to_series()


def date_reading(texts: pl.Series, field: Field, live: Notation, notation: ColumnNotation) -> Reading:
    """The values of a sheet's dates, and which of them may be two days.

    Live's own form and ISO 8601 are read, and those that cannot be taken for another; `05/06/2026` only where live has
    that form, or the whole column.
    """
    own = field.date_form or live.date_form or ISO
    none = constant(None, texts.len(), pl.String)
    no = constant(False, texts.len())
    if notation.form is not None:
        values = _read(texts, notation.form)
        if not notation.whole_column:
            return Reading(values, none, no)
        other_day = _read(texts, SLASHED[notation.form])
        either = (other_day != values).fill_null(value=False)
        return Reading(_first(values, _read(texts, own)), none, either)
    values = _read(texts, own)
    swapped = SLASHED.get(_day_form(own))
    doubts = none
    if values.null_count():
        values = _first(values, *(_read(texts, form) for form in PLAIN_FORMS))
        for form, other in FOREIGN:
            if not values.null_count() or form in {_day_form(own), swapped}:
                continue  # one of the two is live's, and what only the other can read is no date there
            first, two = _read(texts, form), _read(texts, other)
            both = (values.is_null() & (first != two)).fill_null(value=False)
            doubts = scattered(doubts, true_places(both), EITHER_DAY)
            values = _first(values, first, two)
    if notation.odd is not None and swapped is not None:
        both = (_read(texts, swapped) != values).fill_null(value=False)
        doubts = scattered(doubts, true_places(both), f"{EITHER_DAY}, as the sheet has {notation.odd}")
    return Reading(values, doubts, no)


FOREIGN = (("DD/MM/YYYY", "MM/DD/YYYY"), ("DD-MM-YYYY", "MM-DD-YYYY"))
EITHER_DAY = "may mean two days"


def notation_of(
    cells: pl.DataFrame, field: Field, live: Notation, writing: Notation, column: pl.Series, live_column: pl.Series
) -> ColumnNotation:
    """How a sheet writes one field, by its cells that differ from live (`before`, `after`), by the `writing` that
    was said, and where these leave a doubt by the whole `column`.
    """
    if field.kind == "date":
        if writing.date_form is not None:
            return ColumnNotation(form=writing.date_form)
        return _of_dates(cells, field, live, column)
    if writing.decimal_mark is not None or writing.thousands_mark is not None:
        point, thousands = marks(field, live)
        point = writing.decimal_mark or point
        if writing.thousands_mark is None and writing.decimal_mark is not None:
            return ColumnNotation(marks=(point, None))
        mark = writing.thousands_mark if writing.thousands_mark is not None else thousands
        return ColumnNotation(marks=(point, "" if mark == point else mark))
    return _of_numbers(cells, field, live, column, live_column)


def _of_dates(cells: pl.DataFrame, field: Field, live: Notation, column: pl.Series) -> ColumnNotation:
    own = field.date_form or live.date_form or ISO
    distinct = cells.select("before", pl.col("after").str.strip_chars()).unique()
    foreign = distinct.filter(_read(distinct["after"], own).is_null() & (pl.col("after") != ""))
    if not foreign.height:
        return AS_LIVE
    texts = column.str.strip_chars().unique()
    texts = texts.filter(texts != "")
    was = _read(foreign["before"].fill_null(""), own)
    for form, other in SLASHED.items():
        if form == _day_form(own) or _first(_read(texts, form), _read(texts, ISO)).null_count():
            continue
        alone = _read(foreign["after"], form).set(_read(foreign["after"], other).is_not_null(), None)
        if int((alone == was).sum()) >= LEAST_ALONE:
            return ColumnNotation(form=form, whole_column=True)
    swapped = SLASHED.get(_day_form(own))
    if swapped is None:
        return AS_LIVE
    odd = foreign["after"].filter(_read(foreign["after"], swapped).is_not_null()).sort()
    return ColumnNotation(odd=odd[0]) if odd.len() else AS_LIVE


def _of_numbers(
    cells: pl.DataFrame, field: Field, live: Notation, column: pl.Series, live_column: pl.Series
) -> ColumnNotation:
    point, thousands = marks(field, live)
    other = "," if point == "." else "."
    odd_cells = cells.filter(~pl.col("after").str.contains(one_reading(field, point)))
    with_marks = int(odd_cells["after"].str.contains("[.,]").sum())
    odd_cells = odd_cells.unique() if odd_cells.height > sizes.CELLS_READ_ONE_BY_ONE else odd_cells
    if not odd_cells.height:
        return AS_LIVE
    table = pl.DataFrame({"text": _bare(odd_cells["after"], field), "before": odd_cells["before"].fill_null("")})
    looks = table.select(
        either=TEXT.str.contains(EITHER),
        other=TEXT.str.contains("[.,]") & TEXT.str.contains(WITH_MARK[other]) & ~TEXT.str.contains(WITH_MARK[point]),
        long=TEXT.str.contains(r"[.,][0-9]{3,}$"),
    )
    places = _most_places(live_column, field, point) if looks["long"].any() and field.decimals is None else None
    if not (looks["other"].any() or looks["either"].any()):
        return ColumnNotation(places=places)
    texts = _bare(column, field).to_frame().filter(TEXT != "")
    if texts.filter(TEXT.str.contains("[.,]")).height > with_marks:  # others are written as live is
        return _with_odd(table.filter(looks["other"])["text"], places)
    was = KINDS[field.kind].read(table["before"], field, live)
    for decimal in (other, point):
        between = "," if decimal == "." else "."
        if (decimal, between) == (point, thousands) or not texts.select(
            TEXT.str.contains(WITH_MARK[decimal]).all()
        ).item():
            continue
        equal = int((table.select(value=_value(TEXT, decimal, field))["value"] == was).sum())
        if equal >= LEAST_EQUAL or (equal > 1 and equal == table.height):
            return ColumnNotation(marks=(decimal, between), whole_column=True, places=places)
    return _with_odd(table.filter(looks["other"])["text"], places)


def _with_odd(texts: pl.Series, places: int | None) -> ColumnNotation:
    """Live's notation, beside which these texts are odd."""
    return ColumnNotation(odd=texts.sort()[0] if texts.len() else None, places=places)


def _most_places(column: pl.Series, field: Field, point: str) -> int:
    texts = _bare(column, field).to_frame()
    most = texts.select(TEXT.str.extract(rf"{re.escape(point)}([0-9]+)$").str.len_chars().max()).item()
    return int(most or 0)
