"""A list's words and units in the store's language; and what a cell means of which live has several values."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from decimal import Decimal, InvalidOperation

import polars as pl

from neat_delta.core.base.model.lists import ListField, ListMapping, Number
from neat_delta.core.base.model.rules import Rule
from neat_delta.core.base.model.store import Field
from neat_delta.core.base.support.errors import CatalogueError
from neat_delta.core.base.support.nearest import nearest

__all__ = ["Translated", "merged_values", "translated_words", "unit_rules"]


UNIT = "the list's "
"""How the names begin of the rules that a list's description implies."""


@dataclass(frozen=True, slots=True)
class Translated:
    """A column in the store's words, and of the rows whose word is not listed what is wrong (null elsewhere)."""

    texts: pl.Series
    wrong: pl.Series


def translated_words(column: pl.Series, words: Mapping[str, str]) -> Translated:
    """A column of a list in the store's words; what is blank stays so, and what is not listed stays as it is.

    >>> made = translated_words(pl.Series(["Shop 2", "Shp 2", ""]), {"Shop 2": "ST-02"})
    >>> made.texts.to_list(), made.wrong.to_list()
    (['ST-02', 'Shp 2', ''], [None, '"Shp 2" is not among its words; the nearest is "Shop 2"', None])
    """
    bare = column.str.strip_chars()
    plain = {word.strip(): meaning for word, meaning in words.items()}
    by_word = {}
    for bare_word in bare.unique().drop_nulls():
        if bare_word and bare_word not in plain:
            near = nearest(bare_word, list(plain))
            by_word[bare_word] = f'"{bare_word}" is not among its words' + (
                f'; the nearest is "{near}"' if near else ""
            )
    wrong = bare.replace_strict(by_word, default=None, return_dtype=pl.String)
    return Translated(bare.replace(plain).zip_with(wrong.is_null(), column), wrong)


def unit_rules(mapping: ListMapping, headings: Mapping[str, str]) -> list[Rule]:
    """The rules by which a list's numbers get the store's unit; `headings` says what the list calls each field.
    CatalogueError when a number of the description is none, or the list does not have the field.
    """
    rules = []
    for name, field in mapping.fields.items():
        if field.per is None and field.factor is None and field.currency is None:
            continue
        if name not in headings:
            raise CatalogueError(
                f'The mapping\'s fields.{name} has a unit, and no heading of the list stands for "{name}". '
                "Say under [headings] which one does."
            )
        quoted = '"' + headings[name].replace('"', '""') + '"'
        expression, why = f"sheet.{quoted}", []
        if field.factor is not None:
            expression = f"{expression} * {_digits(field.factor, name)}"
            why.append(f"times {field.factor}")
        if field.currency is not None:
            expression = f"{expression} * {_digits(field.currency.rate, name)}"
            why.append(f"{field.currency.currency} at {field.currency.rate} on {field.currency.on}")
        if field.per is not None:
            expression = f"{expression} / {_digits(field.per, name)}"
            why.append(f"the list's is for {field.per}")
        if field.places is not None:
            expression = f"ROUND({expression}, {field.places})"
        rules.append(Rule(f"{UNIT}{name}", {name: expression}, why=field.why or ", ".join(why)))
    return rules


def _digits(number: Number, name: str) -> str:
    try:
        value = Decimal(str(number))
        if value.is_finite() and value > 0:
            return f"{value:f}"
    except InvalidOperation:
        pass
    what = f'The mapping\'s fields.{name} says "{number}", which is no number above 0'
    raise CatalogueError(f"{what}. Write one such as 12 or 0.5.")


def merged_values(before: pl.Series, added: pl.Series, field: Field, means: ListField) -> pl.Series:
    """The cells of a field of lists, once what the list says is added to live's values, or taken from them; nothing
    said leaves them as they are.

    >>> adds = ListField(means="adds")
    >>> merged_values(pl.Series(["a, b"]), pl.Series(["b,c"]), Field("list", separator=","), adds).to_list()
    ['a, b, c']
    """
    mark = field.separator or ","
    out = []
    for old, new in zip(before, added, strict=True):
        values = [part.strip() for part in new.split(mark) if part.strip()]
        values_there = [part.strip() for part in old.split(mark) if part.strip()]
        if means.means == "adds":
            more = [value for value in dict.fromkeys(values) if value not in values_there]
            values_after = [*values_there, *more] if more else None
        else:
            rest = [value for value in values_there if value not in values]
            values_after = rest if len(rest) < len(values_there) else None
        between = mark + " " if mark + " " in old else mark
        out.append(old if values_after is None else between.join(values_after))
    return pl.Series(out, dtype=pl.String)
