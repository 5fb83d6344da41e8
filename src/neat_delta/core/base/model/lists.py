"""The description of one supplier's list: a mapping file as plain values. What it does is `core.lists`' work."""

from __future__ import annotations

from typing import Annotated, Literal

import msgspec
from msgspec import Meta

from neat_delta.core.base.model.layout import Layout, Notation
from neat_delta.core.base.model.store import Blanks
from neat_delta.core.base.support.words import Worded

__all__ = ["ListField", "ListMapping", "Rate", "Spread", "Stack"]

Text = Annotated[str, Meta(min_length=1)]
Places = Annotated[int, Meta(ge=0, le=12)]
Number = int | str
"""A number of a mapping file: its digits, so that it stays exact."""


class Rate(msgspec.Struct, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """A currency that is not the store's: what one unit of it is worth, and when that was so."""

    currency: Annotated[Text, Meta(description="The list's currency, such as USD.")]
    rate: Annotated[Number, Meta(description="What one unit of it is worth in the store's.")]
    on: Annotated[Text, Meta(description="The day of the rate, as 2026-11-02.")]


class ListField(Worded, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """How a list gives one field: the unit of its numbers, and what a cell of several values means."""

    per: Annotated[Number | None, Meta(description="The list's number is for so many: prices per 100.")] = None
    factor: Annotated[Number | None, Meta(description="The number is multiplied by this: 1000 from kg to g.")] = None
    currency: Annotated[Rate | None, Meta(description="The list's currency, and its rate.")] = None
    places: Annotated[Places | None, Meta(description="It is rounded to so many decimals.")] = None
    why: Annotated[str | None, Meta(description="Why, for whoever reads it.")] = None
    means: Annotated[
        Literal["replaces", "adds", "takes away"],
        Meta(description="A list of values, or a number, is instead of live's, or is added to it, or taken from it."),
    ] = "replaces"
    blanks: Annotated[Blanks | None, Meta(description="What a blank cell of it means, where nothing is said.")] = None


class Spread(msgspec.Struct, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """A long list, with a row for each location, put onto a column for each."""

    by: Annotated[Text, Meta(description="The heading that says which column: location.")]
    value: Annotated[Text, Meta(description="The heading of what stands in it: quantity.")]
    columns: Annotated[dict[str, Text], Meta(min_length=1, description="Each word, and the field of its column.")]


class Stack(msgspec.Struct, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """A wide list, with a column for each location, put onto a row for each."""

    by: Annotated[Text, Meta(description="The field that says which column it was: location.")]
    value: Annotated[Text, Meta(description="The field of what stood in it: quantity.")]
    columns: Annotated[dict[str, Text], Meta(min_length=1, description="Each heading, and the word for it.")]


class ListMapping(Worded, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """What one list's rows, headings, words and numbers mean, kept for the next one of its kind."""

    version: Annotated[int, Meta(description="The version of this form: 1.")] = 1
    match_by: Annotated[
        list[Text], Meta(description="The fields by which rows find their items; none: the store's key.")
    ] = msgspec.field(default_factory=list)
    fits_several: Annotated[
        Literal["aside", "all"], Meta(description="A row that fits several items is set aside, or goes to all.")
    ] = "aside"
    prefer: Annotated[
        Text | None,
        Meta(description="Of several rows for one item: first, last, lowest:FIELD or highest:FIELD; none: set aside."),
    ] = None
    take: Annotated[
        Literal["matched", "new", "both"], Meta(description="Which rows are taken: of live's items, new ones, or both.")
    ] = "both"
    whole_within: Annotated[
        list[Text],
        Meta(description="The key fields within which the list has every row: those that it lacks are gone."),
    ] = msgspec.field(default_factory=list)
    file: Annotated[Layout, Meta(description="How the list is laid out, where that is not found out.")] = Layout()
    writing: Annotated[Notation, Meta(description="How the list writes values.")] = Notation()
    headings: Annotated[dict[str, Text], Meta(description="Each heading, and the field that it stands for.")] = (
        msgspec.field(default_factory=dict)
    )
    ignore: Annotated[list[str], Meta(description="The headings left out on purpose.")] = msgspec.field(
        default_factory=list
    )
    constants: Annotated[dict[str, str], Meta(description="Fields that the list lacks, the same in every row.")] = (
        msgspec.field(default_factory=dict)
    )
    words: Annotated[
        dict[str, dict[str, str]], Meta(description="Per field, the list's words and the store's for them.")
    ] = msgspec.field(default_factory=dict)
    fields: Annotated[dict[str, ListField], Meta(description="Per field, its unit and what its cells mean.")] = (
        msgspec.field(default_factory=dict)
    )
    spread: Annotated[Spread | None, Meta(description="A long list put onto columns.")] = None
    stack: Annotated[Stack | None, Meta(description="A wide list put onto rows.")] = None
    blanks: Annotated[Blanks | None, Meta(description="What a blank cell means, where nothing is said.")] = None
    with_new: Annotated[bool, Meta(description="Items that only the list has are sent.")] = False
    whole: Annotated[bool, Meta(description="The list has every item: those that it lacks are gone.")] = False
    repair: Annotated[bool, Meta(description="Live's value is put back where only the writing was damaged.")] = False
    accept_near_keys: Annotated[bool, Meta(description="Keys that nearly are live's are taken.")] = False
    accept: Annotated[list[Text], Meta(description="The checks to let through: CHECK, CHECK:FIELD or CHECK:SKU.")] = (
        msgspec.field(default_factory=list)
    )
    with_new_values: Annotated[
        list[Text], Meta(description="The fields that may take values that live does not have.")
    ] = msgspec.field(default_factory=list)
    rules: Annotated[Text | None, Meta(description="A rules file, from the mapping file's folder.")] = None
