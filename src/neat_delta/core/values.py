"""From cells whose text differs to changes in value: which are the same after all, which cannot be read, how each is
sent.
"""

from __future__ import annotations

from collections.abc import Mapping

import msgspec
import polars as pl

from neat_delta.core.kinds import KINDS, Kind
from neat_delta.core.kinds.base import as_it_stands
from neat_delta.core.kinds.number import NUMBER_KINDS
from neat_delta.core.kinds.text import folded
from neat_delta.core.layout import Writing
from neat_delta.core.learn import NUMBERS, date_form_of, writing_of
from neat_delta.core.store import Field

__all__ = ["NOT", "by_value", "kinds_said", "sheet_writing"]

NOT = "not "
"""The start of the reason for which a cell is held that its kind cannot read: "not money", "not a date"."""


def sheet_writing(cells: pl.DataFrame, settings: Mapping[str, Field], live: Writing, told: Writing) -> Writing:
    """How the sheet writes values: as told, or as its cells that differ from live show it, or else like live."""

    def of(*kinds: str) -> pl.Series:
        fields = [name for name, field in settings.items() if field.kind in kinds]
        return cells.filter(pl.col("field").is_in(fields))["after"]

    found = writing_of([of(*NUMBERS)], live)
    form = date_form_of(of("date"), live.date_form)
    said = {name: getattr(told, name) for name in told.__struct_fields__ if getattr(told, name) is not None}
    return msgspec.structs.replace(found, **({"date_form": form} | said))


def by_value(
    cells: pl.DataFrame, settings: Mapping[str, Field], live: Writing, sheet: Writing, *, learned: bool
) -> pl.DataFrame:
    """Cells (`field`, `before`, `after`; before may be null), in their order, with what the kinds of their fields say.

    `after` becomes the text to send: the value as the store writes it. `same` says that the value is the same; `held`
    is why the cell must be held, or null. Where a kind was only `learned` and can read neither text, they are texts.
    """
    # Fields with the same settings go together.
    groups: dict[bytes, list[str]] = {}
    for name in cells["field"].unique(maintain_order=True):
        groups.setdefault(msgspec.json.encode(settings[name]), []).append(name)
    places = [cells["field"].is_in(names).arg_true() for names in groups.values()]
    found = [
        _of_one_kind(cells[at] if len(groups) > 1 else cells, settings[names[0]], live, sheet, learned=learned)
        for at, names in zip(places, groups.values(), strict=True)
    ]
    if not found:
        return cells.with_columns(same=pl.lit(True), held=pl.lit(None, pl.String))
    told = pl.concat(found)
    return cells.with_columns(told[pl.concat(places).arg_sort()] if len(groups) > 1 else told)


def _of_one_kind(cells: pl.DataFrame, field: Field, live: Writing, sheet: Writing, *, learned: bool) -> pl.DataFrame:
    """What `by_value` says of cells of one sort: `after`, `same`, `held`."""
    kind = KINDS[field.kind]
    before, after = cells["before"].fill_null(""), cells["after"]
    value_before = kind.read(before, field, live)
    theirs = field
    if field.kind == "date" and sheet.date_form != live.date_form:
        theirs = msgspec.structs.replace(field, date_form=sheet.date_form)
    value = kind.read(after, theirs, sheet)
    table = cells.with_columns(
        value_before=value_before,
        value=value,
        text_before=folded(before),
        text=folded(after),
    ).with_columns(
        read_before=(pl.col("text_before") != "") & pl.col("value_before").is_not_null(),
        read=(pl.col("text") != "") & pl.col("value").is_not_null(),
    )
    written = after
    if kind.write is not as_it_stands and table["read"].any():
        readable = table["read"]
        sent = kind.write(value.filter(readable), after.filter(readable), field, live)
        written = after.scatter(readable.arg_true(), sent)
    text = pl.col("text")
    empty, empty_before, read, read_before = (
        text == "",
        pl.col("text_before") == "",
        pl.col("read"),
        pl.col("read_before"),
    )
    lost = pl.col("written").is_null()
    same = (empty & empty_before) | (read & read_before & (pl.col("value") == pl.col("value_before")))
    if field.kind != "code":
        same |= ~read & ~read_before & (text == pl.col("text_before"))
    same |= (pl.col("written") == pl.col("before")).fill_null(value=False)
    only_text = (~read_before & ~empty_before) if learned else pl.lit(False)
    unread = ~empty & (~read | lost) & ~pl.col("same") & ~only_text
    return (
        table.with_columns(written=written)
        .with_columns(same=same.fill_null(value=False))
        .with_columns(
            after=pl.coalesce("written", "after"), held=pl.when(unread).then(pl.lit(reason(kind))).otherwise(None)
        )
        .select("after", "same", "held")
    )


def reason(kind: Kind) -> str:
    """Why a cell is held that this kind cannot read."""
    return NOT + str(kind)


def kinds_said(settings: Mapping[str, Field]) -> dict[str, list[str]]:
    """The fields of each sort that a person is told of, in their order."""
    sorts = {"numbers": NUMBER_KINDS, "measures": ("measure",), "flags": ("flag",), "dates": ("date",)}
    sorts |= {"lists": ("list",), "paths": ("path",), "codes": ("code",), "images": ("image",), "links": ("link",)}
    sorts |= {"JSON": ("json",), "choices": ("choice",)}
    said = {sort: [name for name, field in settings.items() if field.kind in kinds] for sort, kinds in sorts.items()}
    return {sort: names for sort, names in said.items() if names}
