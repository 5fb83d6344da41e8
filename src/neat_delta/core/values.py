"""From cells whose text differs to changes in value: which are the same after all, which cannot be read, how each is
sent.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping

import msgspec
import polars as pl

from neat_delta.core.kinds import KINDS, Kind, blank
from neat_delta.core.kinds.number import NUMBER_KINDS
from neat_delta.core.kinds.text import folded
from neat_delta.core.layout import Writing
from neat_delta.core.learn import date_form_of, writing_of
from neat_delta.core.store import Field

__all__ = ["NOT", "by_value", "kinds_said", "sheet_writing"]

NOT = "not "
"""The start of the reason for which a cell is held that its kind cannot read: "not money", "not a date"."""

NUMBERS = (*NUMBER_KINDS, "measure")


def sheet_writing(columns: Iterable[tuple[Field, pl.Series]], live: Writing, told: Writing) -> Writing:
    """How the sheet writes values: as told, or as its cells that differ from live show it, or else like live."""
    known = list(columns)
    found = writing_of((texts for field, texts in known if field.kind in NUMBERS), live)
    dates = [texts for field, texts in known if field.kind == "date"]
    form = date_form_of(pl.concat(dates), live.date_form) if dates else live.date_form
    settings = {name: getattr(told, name) for name in told.__struct_fields__ if getattr(told, name) is not None}
    return msgspec.structs.replace(found, **({"date_form": form} | settings))


def by_value(cells: pl.DataFrame, field: Field, live: Writing, sheet: Writing, *, learned: bool) -> pl.DataFrame:
    """Cells (`before`, `after`, both texts; before may be null) with what their kind says of them.

    `after` becomes the text to send: the value as the store writes it. `same` says that the value is the same; `held`
    is why the cell must be held, or null. Where the kind was only `learned` and can read neither text, they are texts.
    """
    kind = KINDS[field.kind]
    before, after = cells["before"].fill_null(""), cells["after"]
    empty_before, empty = (_blank(texts) for texts in (before, after))
    value_before = kind.read(before, field, live)
    sheet_field = field
    if field.kind == "date" and sheet.date_form != live.date_form:
        sheet_field = msgspec.structs.replace(field, date_form=sheet.date_form)
    value = kind.read(after, sheet_field, sheet)
    read_before, read = value_before.is_not_null() & ~empty_before, value.is_not_null() & ~empty
    written = after
    if read.any():
        sent = kind.write(value.filter(read), after.filter(read), field, live)
        written = after.scatter(read.arg_true(), sent)
    lost = written.is_null()
    written = written.fill_null("").zip_with(~lost, after)
    same = (empty & empty_before) | ((read & read_before) & (value == value_before).fill_null(value=False))
    if field.kind != "code":
        same |= ~read & ~read_before & (folded(before) == folded(after))
    same |= (written == before) & cells["before"].is_not_null()
    only_text = ~read_before & ~empty_before if learned else pl.repeat(False, len(after), eager=True)
    unread = ~empty & (~read | lost) & ~same & ~only_text
    return cells.with_columns(
        after=written.alias("after"),
        same=same,
        held=pl.select(pl.when(unread).then(pl.lit(reason(kind)))).to_series(),
    )


def reason(kind: Kind) -> str:
    """Why a cell is held that this kind cannot read."""
    return NOT + str(kind)


def _blank(texts: pl.Series) -> pl.Series:
    return texts.to_frame("text").select(blank(pl.col("text"))).to_series()


def kinds_said(settings: Mapping[str, Field]) -> dict[str, list[str]]:
    """The fields of each sort that a person is told of, in their order."""
    sorts = {"numbers": NUMBER_KINDS, "measures": ("measure",), "flags": ("flag",), "dates": ("date",)}
    sorts |= {"lists": ("list",), "paths": ("path",), "codes": ("code",), "images": ("image",), "links": ("link",)}
    sorts |= {"JSON": ("json",), "choices": ("choice",)}
    said = {sort: [name for name, field in settings.items() if field.kind in kinds] for sort, kinds in sorts.items()}
    return {sort: names for sort, names in said.items() if names}
