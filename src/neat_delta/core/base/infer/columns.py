"""What one column shows of itself: its kind and the settings of that, each with what speaks for it."""

from __future__ import annotations

import re
from collections.abc import Iterator
from typing import Literal

import polars as pl

from neat_delta.core.base.infer.quantities import numbers_under
from neat_delta.core.base.infer.writing import NUMBER, could_be, currency_of
from neat_delta.core.base.kinds import KINDS
from neat_delta.core.base.kinds.date import FORMS, ISO
from neat_delta.core.base.kinds.flag import WORDS
from neat_delta.core.base.kinds.notation import affixes
from neat_delta.core.base.kinds.number import marks
from neat_delta.core.base.model.layout import Notation
from neat_delta.core.base.model.store import Field

__all__ = ["of_column"]


PROSE = re.compile(r"name|title|description|text|note|remark|comment|summary|meta", re.IGNORECASE)
"""What headings have in them under which people write freely: commas there separate no values."""


CATEGORY = re.compile(r"categor|kategori|catégor|categoría|path|taxonom|breadcrumb|категори", re.IGNORECASE)
"""What headings of paths have in them."""


IMAGE = r"(?i)\.(?:jpe?g|png|webp|gif|svg|avif|tiff?|bmp)(?:\?\S*)?$"


FEW = 12
"""At most so many different values make a choice; each must stand in five cells on average."""


def of_column(column: pl.Series, writing: Notation, is_key: bool, *, thorough: bool) -> tuple[Field, str]:
    """A column's settings and the evidence for them; its texts have no outer white space."""
    filled = column.filter(column != "")
    rows, filled_rows = column.len(), filled.len()
    if not filled_rows:
        return Field(), f"blank in all {rows:,} rows"
    field, evidence = None, ""
    for kind, every in LOOKS:
        if not could_be(filled, every) or (kind is _choice and not thorough):
            continue  # a sample cannot show that there is no other value to choose
        recognised = kind(column.name, filled, writing)
        if recognised:
            field, evidence = recognised
            break
    if is_key and (field is None or field.kind != "code"):
        field, evidence = Field(kind="code"), "the key"
    if thorough:
        unique = filled.n_unique() == filled_rows
        if field is None:
            evidence = f"{filled.n_unique():,} different texts in {filled_rows:,} cells"
        field = field or Field()
        settings = {name: getattr(field, name) for name in field.__struct_fields__}
        settings["required"] = filled_rows == rows
        settings["unique"] = unique and filled_rows == rows and field.kind == "code"
        field = Field(**settings)
        if filled_rows < rows:
            evidence += f", blank in {rows - filled_rows:,}"
    return field or Field(), evidence


Found = tuple[Field, str] | None


def _all(number: int, what: str) -> str:
    return f"{number:,} of {number:,} {what}"


def _code(name: str, filled: pl.Series, writing: Notation) -> Found:
    """Digits with a leading zero or 12 to 14 of them in any cell; or digits and letters in one word in every cell."""
    del name, writing
    number = filled.len()
    digits = filled.str.contains("^[0-9]+$")
    if digits.all():
        zeros = int(filled.str.contains("^0[0-9]").sum())
        long = int((filled.str.len_chars() >= 12).sum())
        evidence = (
            f"{zeros:,} of {number:,} have a leading zero"
            if zeros
            else f"{long:,} of {number:,} have 12 digits or more"
        )
        return (Field(kind="code"), evidence) if zeros or long else None
    if not filled.str.contains(r"\p{L}").any():
        return None
    words = filled.str.contains(r"^[\p{L}0-9][\p{L}0-9._/#+-]*$") & filled.str.contains("[0-9]")
    dates = filled.str.contains(r"^[0-9]{4}-[0-9]{2}-[0-9]{2}(?:T|$)").all()
    if not words.all() or dates or filled.str.contains(IMAGE).any() or _measure("", filled, Notation()):
        return None
    return Field(kind="code"), _all(number, "are letters and digits in one word")


def _flag(name: str, filled: pl.Series, writing: Notation) -> Found:
    """The two words of a pair, both of them, or true or false alone; 1 and 0 may as well be a number."""
    del name, writing
    seen = filled.unique(maintain_order=True).to_list()
    if len(seen) > 4:
        return None
    if len(seen) == 1 and seen[0].lower() in {"true", "false"}:
        styled = str.upper if seen[0].isupper() else str.lower if seen[0].islower() else str.title
        seen = [styled("true"), styled("false")]
    for yes, no in WORDS:
        if {word.casefold() for word in seen} == {yes, no} and yes != "1":
            words = [[word for word in seen if word.casefold() == wanted] for wanted in (yes, no)]
            counted = " and ".join(
                f"{int((filled.str.to_lowercase() == yes_or_no).sum()):,} {yes_or_no}" for yes_or_no in (yes, no)
            )
            return Field(kind="flag", yes=words[0], no=words[1]), f"{counted}"
    return None


LEAST_LENGTH = 4
"""Whole numbers that all have so many digits or more, and as many as each other, are codes (postcodes, years)."""


def _number(name: str, filled: pl.Series, writing: Notation) -> Found:
    """A number in every cell, if neither the cells nor the heading say that it could be anything else."""
    number, says = filled.len(), numbers_under(name)
    currency = currency_of(filled)
    if currency is None:
        return None  # several currencies, or some with and some without
    if not currency and not BARE_NUMBER.match(filled[0]):
        return None
    for notation in _notations(filled, writing):
        field = _as_number(filled, notation, writing, currency, says)
        if field is None:
            continue
        only_integers = not filled.str.contains(rf"{re.escape(marks(field, notation)[0])}[0-9]").any()
        evidence = _number_said(field, number, says, only_integers=only_integers)
        doubt = _why_no_number(filled, field, notation, says)
        if doubt is None:
            return field, evidence
        return Field(), f"{evidence}, but {doubt}: if they are numbers, kind = {_settings_said(field)}"
    return None


def _settings_said(field: Field) -> str:
    decimals = f", decimals = {field.decimals}" if field.decimals is not None else ""
    return f'"{field.kind}"{decimals}'


def _number_said(field: Field, number: int, says: str, *, only_integers: bool) -> str:
    if only_integers:
        return _all(number, "are whole numbers") + (", and the heading says money" if says == "money" else "")
    what = "numbers, some with decimals" if field.decimals is None else f"decimals with {_places(field.decimals)}"
    return _all(number, f"are {what}") + (f", written {field.currency}" if field.currency else "")


def _notations(filled: pl.Series, writing: Notation) -> list[Notation]:
    """The ways in which a column's numbers may be written, by its own cells: the file's, and the other decimal mark."""
    marks_used = set(filled.str.extract_all(ANY_MARK).explode().drop_nulls().unique())
    if not marks_used:
        return [writing]
    point = writing.decimal_mark or "."
    other: Literal[".", ","] = "," if point == "." else "."
    ways = [writing, *(Notation(mark, between) for mark in (point, other) for between in ("", *BETWEEN[mark]))]
    return [
        notation
        for notation in dict.fromkeys(ways)
        if not notation.thousands_mark or notation.thousands_mark in marks_used
    ]


BARE_NUMBER = re.compile(r"[+−-]?[0-9.,'’ \u00a0\u202f]+$")


ANY_MARK = "[.,'’ \u00a0\u202f]"


BETWEEN: dict[str, tuple[str, ...]] = {
    ".": (",", " ", "\u00a0", "\u202f", "'", "’"),
    ",": (".", " ", "\u00a0", "\u202f", "'", "’"),
}


def _as_number(filled: pl.Series, notation: Notation, file: Notation, currency: str, says: str) -> Field | None:
    """The settings with which all cells are numbers in this notation, or None; what is as in the whole file is not
    said.
    """
    point, thousands = marks(Field(), notation)
    parts = affixes(filled) if currency else None
    bare = filled if parts is None else pl.select(pl.concat_str(parts["sign"], parts["bare"])).to_series()
    group = re.escape(thousands)
    integer_form = rf"(?:[0-9]+|[0-9]{{1,3}}(?:{group}[0-9]{{3}})+)" if thousands else "[0-9]+"
    if not bare.str.contains(rf"^[−-]?{integer_form}(?:{re.escape(point)}[0-9]+)?$").all():
        return None
    places = bare.str.extract(rf"{re.escape(point)}([0-9]+)$").str.len_chars().fill_null(0)
    least, most = int(places.min() or 0), int(places.max() or 0)  # type: ignore[arg-type]
    money, file_point = bool(currency) or says == "money", file.decimal_mark or "."
    decimals = most if least == most else None
    kind: Literal["money", "integer", "decimal"] = "money" if money else "decimal" if most else "integer"
    return Field(
        kind=kind,
        decimals=decimals if kind != "integer" and most else None,
        decimal_mark=notation.decimal_mark if point != file_point and (most or thousands == file_point) else None,
        thousands_mark=thousands if thousands != (file.thousands_mark or "") else None,
        currency=currency or None,
    )


def _why_no_number(filled: pl.Series, field: Field, notation: Notation, says: str) -> str | None:
    """What speaks against a column's cells being numbers, though all of them could be; None where nothing does."""
    return next(_against_numbers(filled, field, notation, says), None)


def _against_numbers(filled: pl.Series, field: Field, notation: Notation, says: str) -> Iterator[str]:
    point, thousands = marks(field, notation)
    bare = filled
    if field.currency:
        bare, letters = affixes(filled)["bare"], re.sub(r"[#\s]", "", field.currency)
        if letters.isascii() and letters.isalpha() and says != "money" and field.decimals != 2:
            yield "the three letters may be no currency"
    if bare.str.contains("^[−-]?0[0-9]").any():
        yield "some have zeros in front"
    if says == "code":
        yield "the heading is one of codes"
    either = bare.str.contains(r"^[−-]?[1-9][0-9]{0,2}[.,][0-9]{3}$")
    if either.any() and not _plain_marks(bare, point, thousands):
        yield "the mark may stand before decimals, or between thousands"
    marked = bare.str.contains(re.escape(point))
    if field.decimals is None and marked.any() and bare.filter(marked).str.ends_with("0").any():
        yield "some are written with zeros at the end, and others without"
    if thousands and bare.str.contains("[0-9]{4}").any():
        yield "some are written with marks between thousands, and others without"
    if not says:
        yield from _against_unnamed(bare, field, point)


def _against_unnamed(bare: pl.Series, field: Field, point: str) -> Iterator[str]:
    """What speaks against numbers under a heading that does not say what they are."""
    lengths, digits = bare.str.len_chars(), bare.str.extract("^[−-]?([0-9]+)", 1).str.len_chars()
    if lengths.n_unique() == 1 and bare.n_unique() > 1 and int(digits.min() or 0) >= LEAST_LENGTH:  # type: ignore[arg-type]
        yield "all have as many digits, as codes do"
    elif field.kind == "integer":
        return
    elif field.decimals in {None, 1}:
        yield "numbers of versions, sizes and days look like that"
    elif field.decimals == 2 and _all_days(bare, point):
        yield "all could be a day and a month"


def _plain_marks(bare: pl.Series, point: str, thousands: str) -> bool:
    """Whether some cells show what the mark before three digits is: 0.250 and 1234.567 decimals, 1.234,50 thousands."""
    decimal = bare.str.contains(
        rf"^[−-]?(?:0|[0-9]{{4,}}){re.escape(point)}[0-9]+$|{re.escape(point)}(?:[0-9]{{1,2}}|[0-9]{{4,}})$"
    )
    if bool(decimal.any()):
        return True
    mark = re.escape(thousands)
    return bool(thousands) and bool(bare.str.contains(rf"[0-9]{mark}[0-9]{{3}}{mark}[0-9]{{3}}").any())


def _all_days(bare: pl.Series, point: str) -> bool:
    """Whether all cells could be a day and a month: 24.12, 03.11."""
    parts = bare.str.extract_groups(rf"^([0-9]{{1,2}}){re.escape(point)}([0-9]{{2}})$").struct.unnest()
    if parts.width != 2 or parts.to_series(0).has_nulls():
        return False
    day, month = (parts.to_series(place).cast(pl.Int32) for place in (0, 1))
    return bool((day.is_between(1, 31) & month.is_between(1, 12)).all())


def _places(number: int) -> str:
    return "1 place" if number == 1 else f"{number} places"


def _date(name: str, filled: pl.Series, writing: Notation) -> Found:
    """Every cell a date in one form, and in no other that would mean another day."""
    del name, writing
    number = filled.len()
    if not filled[0][:1].isdigit() or not filled.str.contains(r"^[0-9]{1,4}[./-][0-9]{1,2}[./-][0-9]{1,4}").all():
        return None
    fits = []
    for form in (ISO, *FORMS):
        values = KINDS["date"].read(filled, Field(date_form=form), Notation())
        if not values.has_nulls():
            fits.append(form)
            if form == ISO:
                break
    if len(fits) > 1:
        forms = " or ".join(fits)
        return Field(), f'{_all(number, "are dates")}, {forms}: say which with kind = "date" and date_form'
    if not fits:
        return None
    form = fits[0]
    timed = filled.str.extract(r"([T ])[0-9]{2}:[0-9]{2}(:[0-9]{2})?Z?$").drop_nulls()
    if timed.len():
        seconds = filled.str.contains(r"[T ][0-9]{2}:[0-9]{2}:[0-9]{2}")
        zones = filled.str.ends_with("Z")
        if timed.len() < number or max(timed.n_unique(), seconds.n_unique(), zones.n_unique()) > 1:
            return Field(kind="date", date_form=None if form == ISO else form), _all(number, f"are dates, {form}")
        form += timed[0] + ("hh:mm:ss" if seconds[0] else "hh:mm") + ("Z" if zones[0] else "")
    padded = filled.str.len_chars().n_unique() == 1
    return Field(kind="date", date_form=form if padded or form != ISO else None), _all(number, f"are dates, {form}")


def _measure(name: str, filled: pl.Series, writing: Notation) -> Found:
    del name
    if not filled.str.contains(r"^[+−-]?[\d., ]*\d\s*[^\d\s.,]\S{0,4}$").all():
        return None
    if KINDS["measure"].read(filled, Field(), writing).has_nulls():
        return None
    return Field(kind="measure"), _all(filled.len(), "are numbers with a unit")


def _json(name: str, filled: pl.Series, writing: Notation) -> Found:
    del name
    if not filled.str.contains(r"^[\[{]").all() or KINDS["json"].read(filled, Field(), writing).has_nulls():
        return None
    return Field(kind="json"), _all(filled.len(), "are JSON")


def _image(name: str, filled: pl.Series, writing: Notation) -> Found:
    del name, writing
    for separator in (None, "|", ";", ","):
        parts = filled.str.split(separator).explode().str.strip_chars() if separator else filled
        parts = parts.filter(parts != "")
        if parts.len() and (parts.str.contains(IMAGE) & ~parts.str.contains(r"[|;,]|\s\S*\.\w+\s")).all():
            several = int(filled.str.contains(separator, literal=True).sum()) if separator else 0
            evidence = f", {several:,} with several" if several else ""
            return Field(kind="image", separator=separator), _all(filled.len(), "are images") + evidence
    return None


def _link(name: str, filled: pl.Series, writing: Notation) -> Found:
    del name, writing
    for separator in (None, "|", ";", ","):
        parts = filled.str.split(separator).explode().str.strip_chars() if separator else filled
        if parts.str.contains(r"^(?:https?|ftp)://[^\s|;,]+$").all():
            return Field(kind="link", separator=separator), _all(filled.len(), "are addresses")
    return None


def _path(name: str, filled: pl.Series, writing: Notation) -> Found:
    """Half the cells and more have levels, or any where the heading says category, and the first level repeats."""
    number = filled.len()
    if PROSE.search(name) or filled.str.contains(r"<\w+[ />]").any():
        return None
    if not filled.str.contains("[>/»]").any():
        return None
    for levels in (" > ", ">", " / ", " » ", "//"):
        deep = int(filled.str.contains(levels, literal=True).sum())
        tops = filled.str.split(levels).list.first()
        few = 1 if CATEGORY.search(name) else number / 2
        if deep < few or tops.n_unique() * 3 > max(number, 6):
            continue
        separator = next((mark for mark in ("|", ";") if filled.str.contains(mark, literal=True).any()), None)
        field = Field(kind="path", levels=levels, separator=separator)
        if not KINDS["path"].read(filled, field, writing).has_nulls():
            several = f", several with {separator} between" if separator else ""
            return field, f"{deep:,} of {number:,} have levels{several}"
    return None


def _list(name: str, filled: pl.Series, writing: Notation) -> Found:
    """A tenth of the cells and more have several values; these repeat, and stand now first, now later.

    In a text such as `Long hive, 8 frames` each part has a place of its own.
    """
    del writing
    number = filled.len()
    if PROSE.search(name) or filled.str.contains(r"<\w+[ />]|[.!?] ").any():
        return None
    if not filled.str.contains("[|;,]").any():
        return None
    for separator in ("|", ";", ", ", ","):
        parts = filled.filter(filled.str.contains(separator, literal=True)).str.split(separator)
        if parts.len() * 10 < number or parts.len() < 3:
            continue
        where = pl.DataFrame({"part": parts, "cell": range(parts.len())}).with_columns(
            place=pl.int_ranges(0, pl.col("part").list.len())
        )
        flat = where.explode("part", "place").with_columns(pl.col("part").str.strip_chars())
        if (flat["part"].str.len_chars() > 40).any() or flat["part"].n_unique() * 2 > flat.height:
            continue
        moves = (
            flat.group_by("part")
            .agg(n=pl.len(), first=(pl.col("place") == 0).any(), later=(pl.col("place") > 0).any())
            .filter(pl.col("n") > 1)
        )
        both = int((moves["first"] & moves["later"]).sum())
        if moves.height and both * 3 >= moves.height:
            evidence = (
                f"{parts.len():,} of {number:,} have several values, {flat['part'].n_unique():,} different in all"
            )
            return Field(kind="list", separator=separator.strip()), evidence
    return None


def _choice(name: str, filled: pl.Series, writing: Notation) -> Found:
    del name, writing
    counted = filled.value_counts(sort=True)
    few = counted.height
    if few > FEW or filled.len() < few * 5 or filled.len() < 20 or (filled.str.len_chars() > 40).any():
        return None
    values = sorted(counted.to_series(0))
    return Field(
        kind="choice", values=values
    ), f"{few} different {'value' if few == 1 else 'values'} in {filled.len():,} cells"


LOOKS = (
    (_code, re.compile(r"^(?=\S*\d)\S+$")),
    (_flag, re.compile(r"^\w{1,6}$")),
    (_number, NUMBER),
    (_date, re.compile(r"^\d{1,4}[./-]\d{1,2}[./-]\d")),
    (_measure, re.compile(r"\d\s*[^\d\s.,]\S{0,4}$")),
    (_json, re.compile(r"^[\[{]")),
    (_image, re.compile(r"\.\w{3,4}(?:\?\S*)?\s*(?:[|;,]|$)")),
    (_link, re.compile(r"^(?:https?|ftp)://")),
    (_path, None),
    (_list, None),
    (_choice, None),
)
"""How kinds are recognised, in this order, each with what its every cell looks like at a glance."""
