"""From cells whose text differs to changes: which are the same after all, which cannot be read, what is sent of each.

Rule: what is sent is the text as it was typed, or the same value in live's whole writing. Cells are the same only where
a program does by itself what lies between them (docs/equal.md), unless the store file says otherwise of a field.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

import msgspec
import polars as pl

from neat_delta.core.base.infer.writing import NUMBERS, date_form_of, writing_of
from neat_delta.core.base.kinds import KINDS, Kind
from neat_delta.core.base.kinds.base import folded
from neat_delta.core.base.kinds.notation import (
    AS_LIVE,
    EITHER_DAY,
    EITHER_MARK,
    ColumnNotation,
    affixes,
    date_reading,
    notation_of,
    number_reading,
    one_reading,
)
from neat_delta.core.base.kinds.number import NUMBER_KINDS, marks
from neat_delta.core.base.model.deferred import Cells
from neat_delta.core.base.model.layout import Notation
from neat_delta.core.base.model.reasons import DOUBT, NOT
from neat_delta.core.base.model.schemas import empty
from neat_delta.core.base.model.store import Field, reading_settings
from neat_delta.core.base.support.series import constant, filtered, gathered, not_null, scattered, true_places

__all__ = ["by_value", "equal", "kinds_said", "notations", "reason", "sheet_writing"]

BY_VALUE_IN_A_LIST = ("list", "path", "measure", "json", "link", "image", "flag")
"""The kinds that are compared by value in a list that was not cut from live; numbers and dates nearly are, anyhow."""


def sheet_writing(cells: pl.DataFrame, settings: Mapping[str, Field], live: Notation, writing: Notation) -> Notation:
    """How the sheet seems to write values, to be shown: as told, or as most of its cells that differ, or like live."""

    def of(*kinds: str) -> pl.Series:
        fields = [name for name, field in settings.items() if field.kind in kinds]
        return cells.filter(pl.col("field").is_in(fields))["after"]

    seems = writing_of([of(*NUMBERS)], live)
    form = date_form_of(of("date"), live.date_form)
    settings_given = {
        name: getattr(writing, name) for name in writing.__struct_fields__ if getattr(writing, name) is not None
    }
    return msgspec.structs.replace(seems, **({"date_form": form} | settings_given))


def notations(
    cells: pl.DataFrame,
    settings: Mapping[str, Field],
    live: Notation,
    writing: Notation,
    sheet: Cells,
    live_cells: Cells,
) -> dict[str, ColumnNotation]:
    """How the sheet writes each field of numbers or dates, by its cells that differ (`field`, `before`, `after`), its
    whole column, and live's.
    """
    by_field = {}
    plain = set() if writing.decimal_mark or writing.thousands_mark else _plain_fields(cells, settings, live)
    for name in cells["field"].unique(maintain_order=True):
        field = settings.get(name, Field())
        if field.kind in {*NUMBER_KINDS, "date"} and name not in plain:
            field_cells = filtered(cells, cells["field"] == name)[["before", "after"]]
            notation = notation_of(field_cells, field, live, writing, sheet[name], live_cells[name])
            if notation != AS_LIVE:
                by_field[name] = notation
    return by_field


def _plain_fields(cells: pl.DataFrame, settings: Mapping[str, Field], live: Notation) -> set[str]:
    """The fields of numbers in whose cells nothing has more than one reading; those that read alike are asked together,
    as one question of the engine costs as much as hundreds of cells.
    """
    alike: dict[str, list[str]] = {}
    for name in cells["field"].unique():
        field = settings.get(name, Field())
        if field.kind in NUMBER_KINDS:
            alike.setdefault(one_reading(field, marks(field, live)[0]), []).append(name)
    plain: set[str] = set()
    for form, names in alike.items():
        other = cells.filter(pl.col("field").is_in(names) & ~pl.col("after").str.contains(form))
        plain |= {*names} - set(other["field"].to_list())
    return plain


def by_value(
    cells: pl.DataFrame,
    settings: Mapping[str, Field],
    live: Notation,
    notations: Mapping[str, ColumnNotation],
    *,
    learned: bool,
    of_a_list: bool = False,
) -> pl.DataFrame:
    """Cells (`field`, `before`, `after`; before may be null), in their order, with what the kinds of their fields say.

    `after` becomes the text to send. `same` says that nothing changes; `held` is why the cell must be held, or null.
    Where a kind was only `learned` and cannot read live's text, both are texts. A sheet that is a list in a language of
    its own (`of_a_list`) is compared by value.
    """
    groups: dict[tuple[bytes, ColumnNotation], list[str]] = {}
    for name in cells["field"].unique(maintain_order=True):
        field = reading_settings(settings[name])
        if of_a_list and field.same is None and field.kind in BY_VALUE_IN_A_LIST:
            field = msgspec.structs.replace(field, same="value")
        groups.setdefault((msgspec.json.encode(field), notations.get(name, AS_LIVE)), []).append(name)
    texts = cells.select(pl.col("before").fill_null(""), "after")
    parts, places = [empty(_KIND_READINGS)], []
    for (encoded, notation), at in zip(groups, _places(cells["field"], list(groups.values())), strict=True):
        field = msgspec.json.decode(encoded, type=Field)
        parts.append(_kind_readings(texts if len(groups) == 1 else texts[at], field, live, notation))
        places.append(at)
    read_cells = pl.concat(parts)
    if len(groups) > 1:
        read_cells = read_cells[pl.concat(places).arg_sort()]
    return cells.with_columns(_outcome(texts.hstack(read_cells), learned=learned))


def _places(fields: pl.Series, groups: list[list[str]]) -> list[pl.Series]:
    """The places of the cells of each group of fields."""
    if len(groups) < 2:
        return [pl.int_range(fields.len(), dtype=pl.UInt32, eager=True) for _ in groups]
    number = {name: at for at, names in enumerate(groups) for name in names}
    group_numbers = fields.replace_strict(number, return_dtype=pl.UInt32).alias("group")
    parts = pl.DataFrame([pl.int_range(fields.len(), dtype=pl.UInt32, eager=True).alias("place"), group_numbers])
    by_group = {part["group"][0]: part["place"] for part in parts.partition_by("group")}
    return [by_group[at] for at in range(len(groups))]


_KIND_READINGS = {
    "equal": pl.Boolean,
    "doubt": pl.String,
    "written": pl.String,
    "reads_before": pl.Boolean,
    "reads": pl.Boolean,
    "exact": pl.Boolean,
    "code": pl.Boolean,
    "unread": pl.String,
}
"""What kinds say of cells: `_Read`, whether each side can be read, whether the field is compared as text or a code, and
what to say where it cannot be read.
"""


def _kind_readings(texts: pl.DataFrame, field: Field, live: Notation, notation: ColumnNotation) -> pl.DataFrame:
    """What its kind says of the cells of one group of fields (`_KIND_READINGS`)."""
    kind, after, height = KINDS[field.kind], texts["after"], texts.height
    read, exact = _read(kind, texts["before"], after, field, live, notation), field.same == "text"
    columns = {
        "equal": read.equal,
        "doubt": constant(None, height, pl.String) if exact else read.doubts,
        "written": after if exact else read.written,
        "reads_before": not_null(read.before),
        "reads": not_null(read.after),
        "exact": constant(exact, height),
        "code": constant(field.kind == "code", height),
        "unread": constant(reason(kind), height, pl.String),
    }
    return pl.DataFrame(columns)


def _outcome(cells: pl.DataFrame, *, learned: bool) -> pl.DataFrame:
    """What `by_value` says of cells (`before`, `after`, `_KIND_READINGS`): `after`, `same`, `held`."""
    bare = folded(pl.concat([cells["before"], cells["after"]]))
    table = cells.with_columns(text_before=bare.head(cells.height), text=bare.tail(cells.height))
    no_text, no_text_before = pl.col("text") == "", pl.col("text_before") == ""
    reads, reads_before = pl.col("reads") & ~no_text, pl.col("reads_before") & ~no_text_before
    doubtful = pl.col("doubt").is_not_null()
    same = (no_text & no_text_before) | (pl.col("equal").fill_null(value=False) & reads & reads_before & ~doubtful)
    same |= ~pl.col("code") & (pl.col("text") == pl.col("text_before"))
    same = pl.when("exact").then(pl.col("before") == pl.col("after")).otherwise(same)
    only_text = (~reads_before & ~no_text_before) if learned else pl.lit(False)
    unread = ~no_text & (~reads | pl.col("written").is_null()) & ~only_text
    why = (
        pl.when(same | no_text | only_text)
        .then(None)
        .when(doubtful)
        .then(pl.concat_str(pl.lit(DOUBT), "doubt"))
        .when(unread)
        .then("unread")
    )
    as_typed = only_text | doubtful | ~reads
    sent = pl.when(as_typed).then("after").otherwise(pl.coalesce("written", "after"))
    return table.select(after=sent, same=same, held=why)


@dataclass(frozen=True, slots=True)
class _Read:
    """Cells as their kind reads them: the values of both sides, null where it cannot; whether the two are equal in a
    copy; why a cell is doubtful (null: it is not); and the text to send, null where the store has no way to write it.
    """

    before: pl.Series
    after: pl.Series
    equal: pl.Series
    doubts: pl.Series
    written: pl.Series


def _read(
    kind: Kind, before: pl.Series, after: pl.Series, field: Field, live: Notation, notation: ColumnNotation
) -> _Read:
    none = constant(None, after.len(), pl.String)
    if field.kind in NUMBER_KINDS:
        return _read_numbers(kind, before, after, field, live, notation)
    if field.kind == "date":
        reading = date_reading(after, field, live, notation)
        was = kind.read(before, field, live)
        doubts = reading.doubts
        if notation.whole_column:
            other = (reading.either & (reading.values != was)).fill_null(value=False)
            doubts = scattered(doubts, true_places(other), EITHER_DAY)
        return _Read(
            was, reading.values, reading.values == was, doubts, _written(kind, reading.values, after, field, live)
        )
    both, height = pl.concat([before, after], rechunk=True), after.len()
    read = kind.read if field.same == "value" or field.kind != "flag" else kind.copy
    values = copies = read(both, field, live)
    if field.same != "value" and field.kind != "flag" and kind.copy is not kind.read:
        copies = kind.copy(both, field, live)
    equal = copies.tail(height) == copies.head(height)
    was, values = values.head(height), values.tail(height)
    return _Read(was, values, equal, none, _written(kind, values, after, field, live))


def _written(kind: Kind, values: pl.Series, texts: pl.Series, field: Field, live: Notation) -> pl.Series:
    """The cells as the store writes them; as they are where they cannot be read."""
    readable = not_null(values)
    if not readable.any():
        return texts
    sent = kind.write(values.filter(readable), texts.filter(readable), field, live)
    return sent if readable.all() else scattered(texts, true_places(readable), sent)


ADDED = r"^\s*(?:\+|[+−-]?0[0-9])"
"""What no program puts before a number: a plus, zeros."""

NUMBER_ALONE = r"^-?[0-9.,]*$"


def _read_numbers(
    kind: Kind, before: pl.Series, after: pl.Series, field: Field, live: Notation, notation: ColumnNotation
) -> _Read:
    reading = number_reading(after, field, live, notation)
    was, doubts, bare = kind.read(before, field, live), reading.doubts, after
    equal = reading.values == was
    if notation.whole_column:
        other = true_places(reading.either & ~equal.fill_null(value=False))
        doubts = scattered(doubts, other, EITHER_MARK)
    money = field.kind == "money"
    if money:
        around = true_places(~(before.str.contains(NUMBER_ALONE) & after.str.contains(NUMBER_ALONE)))
        money = bool(around.len()) or field.currency is not None
    if money:
        at = around if field.currency is None else pl.int_range(after.len(), eager=True)
        was_written, typed = affixes(gathered(before, at)), affixes(gathered(after, at))
        number = pl.select(pl.concat_str(typed["sign"], typed["bare"])).to_series().fill_null("")
        bare = scattered(bare, at, number)
        head, tail = _currency_of(was_written, field)
        # Live's currency on the other side of the number, or a space away from it, is live's all the same.
        currency, own = _currency(typed["head"], typed["tail"]), _currency(head, tail)
        fits = (currency == own) | (currency == "")
        wrong = true_places((~fits & not_null(gathered(reading.values, at))).fill_null(value=False))
        doubts = scattered(doubts, gathered(at, wrong), gathered(_other_currency(head, tail), wrong))
    written = _written(kind, reading.values, bare, field, live)
    if money:
        sign, digits = (gathered(written, at).str.extract(part, 1) for part in ("^(-?)", "^-?(.*)$"))
        texts = pl.select(pl.concat_str(sign, head, digits, tail)).to_series()
        written = scattered(written, at, texts)
    # A plus or a zero that was put before a number is no rewriting; the number goes out as it was typed.
    added = true_places(after.str.contains(ADDED))
    added = added.filter(~gathered(before, added).str.contains(ADDED))
    if added.len() and field.same != "value":
        equal = scattered(equal, added, False)
        written = scattered(written, added, gathered(after, added))
    return _Read(was, reading.values, equal, doubts, written)


def _currency_of(before: pl.DataFrame, field: Field) -> tuple[pl.Series, pl.Series]:
    """What stands before and after the number in live's cells; where these are blank, as the field has it."""
    head, _, tail = (field.currency or "#").partition("#")
    blank = (before["bare"] == "") & (before["head"] == "") & (before["tail"] == "")
    return before["head"].set(blank, head), before["tail"].set(blank, tail)


def _currency(head: pl.Series, tail: pl.Series) -> pl.Series:
    """The currencies that stand before and after numbers, without the spaces around them."""
    both = pl.DataFrame([head.alias("head"), tail.alias("tail")])
    return both.select(pl.concat_str(pl.col("head", "tail").str.strip_chars())).to_series()


def _other_currency(head: pl.Series, tail: pl.Series) -> pl.Series:
    """Why an amount is held that bears another currency than live's, or one where live's has none."""
    currency = _currency(head, tail)
    named = pl.concat_str(pl.lit("not in live's currency, "), currency)
    return pl.select(pl.when(currency == "").then(pl.lit("a currency, and live has none")).otherwise(named)).to_series()


def equal(first: pl.Series, other: pl.Series, field: Field, writing: Notation) -> pl.Series:
    """Whether the cells of two exports of live are the same: by value where the store may choose the writing, and as in
    a copy where another writing is another value: numbers, dates and flags.
    """
    kind = KINDS[field.kind]
    first, other = (texts.fill_null("") if texts.has_nulls() else texts for texts in (first, other))
    same = (folded(first) == folded(other)) if field.kind != "code" else first == other
    rest = true_places(~same)
    if not rest.len() or field.same == "text":
        return same
    left, right = gathered(first, rest), gathered(other, rest)
    if field.kind in {*NUMBER_KINDS, "date"}:
        read = _read(kind, left, right, field, writing, AS_LIVE)
        return scattered(same, rest, (read.equal & read.doubts.is_null()).fill_null(value=False))
    same_values = kind.read(left, field, writing) == kind.read(right, field, writing)
    return scattered(same, rest, same_values.fill_null(value=False))


def reason(kind: Kind) -> str:
    """Why a cell is held that this kind cannot read."""
    return NOT + str(kind)


def kinds_said(settings: Mapping[str, Field]) -> dict[str, list[str]]:
    """The fields of each sort that a person is told of, in their order."""
    sorts = {"numbers": NUMBER_KINDS, "measures": ("measure",), "flags": ("flag",), "dates": ("date",)}
    sorts |= {"lists": ("list",), "paths": ("path",), "codes": ("code",), "images": ("image",), "links": ("link",)}
    sorts |= {"JSON": ("json",), "choices": ("choice",)}
    fields_of_kinds = {
        sort: [name for name, field in settings.items() if field.kind in kinds] for sort, kinds in sorts.items()
    }
    return {sort: names for sort, names in fields_of_kinds.items() if names}
