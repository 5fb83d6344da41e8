"""What becomes of a cell whose text differs: whether its value does, what is sent of it, why it may not be sent."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from functools import partial

import msgspec
import polars as pl

from neat_delta.core.base.kinds import blank
from neat_delta.core.base.kinds.choice import chosen_like
from neat_delta.core.base.kinds.notation import PLAIN_FORMS, ColumnNotation
from neat_delta.core.base.kinds.number import NUMBER_KINDS
from neat_delta.core.base.kinds.path import spelt_like
from neat_delta.core.base.model.catalogue import Catalogue
from neat_delta.core.base.model.deferred import Cells
from neat_delta.core.base.model.layout import Notation
from neat_delta.core.base.model.store import Field, Store
from neat_delta.core.base.support.background import submit
from neat_delta.core.base.support.distinct import Distinct, deduplicate
from neat_delta.core.base.support.series import gathered, scattered, true_places
from neat_delta.core.compare.diff.equality import by_value, notations, sheet_writing

__all__ = ["Outcomes", "outcomes"]


@dataclass(frozen=True, slots=True)
class Outcomes:
    """The different texts among those that differ, each with its outcome, and which of them each cell has.

    `table` has `field`, `before`, `raw` (as it is in the sheet), `after` (to send), `same`, `unread` (why its kind
    cannot read it, or it may be two things; null: it can), and whether it was `nothing` all along.
    `writing` is how the sheet seems to write values.
    """

    table: pl.DataFrame
    distinct: Distinct
    writing: Notation


def outcomes(
    texts: pl.DataFrame,
    live: Catalogue,
    sheet: Catalogue,
    shop: Store,
    fields: Mapping[str, Field],
    writing: Notation,
    *,
    learned: bool,
    of_a_list: bool,
) -> Outcomes:
    """The outcomes of the cells whose texts differ (`model.schemas.TEXTS`).

    Cells that were `computed`, as a column says, are written as live writes already.
    `shop` is what is known of the store, `fields` the settings of the fields that are compared, and `writing` what was
    said of the sheet's. Where kinds were only `learned`, a path or a choice loses the space around it; a sheet that is
    `of_a_list` is compared by value. The word by which the importer empties a field empties it in the sheet, too.
    """
    sheet_cells, empties = sheet.table, shop.importer.empties
    if empties is not None:
        texts = texts.with_columns(after=pl.col("after").replace(empties, ""))
        sheet_cells = sheet.select(texts["field"].unique().to_list()).with_columns(pl.all().replace(empties, ""))
    if sheet.layout.format in FORMATTED:
        texts = texts.with_columns(after=_without_shown_zeros(texts, fields))
    seems = submit(partial(sheet_writing, texts, fields, shop.writing, writing), texts.height)
    # Most texts that differ do so as others do: a price is raised on many items.
    distinct = deduplicate(texts.select("field", "before", "after", *({"computed"} & {*texts.columns})))
    rows = distinct.rows.hstack([distinct.rows["after"].alias("raw")])
    table, written = _by_value(rows, live, sheet_cells, shop, fields, writing, learned, of_a_list)
    spelt = {"after": _spelt_like_live(table, fields, live.table, learned=learned)}
    table = pl.DataFrame(
        {"unread" if name == "held" else name: column for name, column in (table.to_dict() | spelt).items()}
    )
    no_text = blank(pl.col("after"))
    table = table.with_columns(
        nothing=blank(pl.col("before")) & no_text,
        after=pl.when(no_text).then(pl.lit("")).otherwise("after"),
        unread=pl.when(~no_text).then("unread"),
    )
    return Outcomes(table, distinct, _seeming_notation(seems(), shop.writing, writing, written))


FORMATTED = ("xlsx", "ods", "xls")
"""The formats of files in which a number may be shown with zeros before it that it does not have."""


def _without_shown_zeros(texts: pl.DataFrame, fields: Mapping[str, Field]) -> pl.Series:
    """The texts to send, of numbers without the zeros that a cell's format (`00000`) puts before them."""
    number_fields = [name for name in texts["field"].unique() if fields.get(name, Field()).kind in NUMBER_KINDS]
    zeros = pl.col("field").is_in(number_fields) & pl.col("after").str.contains(r"^-?0+[0-9]")
    bare = pl.col("after").str.replace(r"^(-?)0+([0-9])", "$1$2")
    return texts.select(pl.when(zeros).then(bare).otherwise("after").alias("after")).to_series()


def _by_value(
    cells: pl.DataFrame,
    live: Catalogue,
    sheet: Cells,
    shop: Store,
    fields: Mapping[str, Field],
    writing: Notation,
    learned: bool,
    of_a_list: bool,
) -> tuple[pl.DataFrame, Mapping[str, ColumnNotation]]:
    """What the kinds say of cells, and how the sheet writes its fields. Those that were `computed` are written as live
    writes, and of them, what has the same value is the same.
    """
    computed = cells["computed"] if "computed" in cells.columns else None
    if computed is None or not computed.any():
        written = notations(cells, fields, shop.writing, writing, sheet, live.table)
        return by_value(cells, fields, shop.writing, written, learned=learned, of_a_list=of_a_list), written
    own = by_value(cells.filter(computed), fields, shop.writing, {}, learned=learned, of_a_list=True)
    if computed.all():
        return own, {}
    typed = cells.filter(~computed)
    written = notations(typed, fields, shop.writing, writing, sheet, live.table)
    typed = by_value(typed, fields, shop.writing, written, learned=learned, of_a_list=of_a_list)
    back = pl.concat([true_places(computed), true_places(~computed)]).arg_sort()
    return pl.concat([own, typed.select(own.columns)])[back], written


def _seeming_notation(
    seems: Notation, live: Notation, writing: Notation, written: Mapping[str, ColumnNotation]
) -> Notation:
    """How the sheet seems to write values, without a date form that is not acted upon."""
    acted = seems.date_form in {
        writing.date_form,
        live.date_form,
        *PLAIN_FORMS,
        *(notation.form for notation in written.values()),
    }
    return seems if acted else msgspec.structs.replace(seems, date_form=live.date_form)


def _spelt_like_live(turns: pl.DataFrame, settings: Mapping[str, Field], live: Cells, *, learned: bool) -> pl.Series:
    """The texts to send, with the paths and choices that live has already as live spells them; of what was only
    `learned`, without the white space around them. A cell in which nothing but the spelling of its own value changed
    stays as it was typed.
    """
    after = turns["after"]
    for name in turns["field"].unique(maintain_order=True):
        if settings[name].kind in SPELT and settings[name].same != "text":
            at = true_places(turns["field"] == name)
            spelt = _without_outer_space if learned else SPELT[settings[name].kind]
            after = scattered(after, at, spelt(live[name], gathered(after, at), settings[name]))
    return after.zip_with((after != turns["before"]).fill_null(value=True), turns["after"])


def _without_outer_space(live: pl.Series, texts: pl.Series, field: Field) -> pl.Series:
    """The texts without white space around them where live has them so."""
    del field
    bare = texts.str.strip_chars()
    return texts.zip_with(~bare.is_in(live.unique().implode()).fill_null(value=False), bare)


SPELT: Mapping[str, Callable[[pl.Series, pl.Series, Field], pl.Series]] = {"path": spelt_like, "choice": chosen_like}
"""The kinds of which a value that live has is sent as live spells it."""
