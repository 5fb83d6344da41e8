"""How one store's importer behaves, as far as the update files depend on it."""

from __future__ import annotations

from typing import Annotated, Literal

import msgspec
from msgspec import Meta

from neat_delta.core.base.support.errors import StoreError
from neat_delta.core.base.support.words import Worded

__all__ = [
    "NEW_CODE",
    "PATCHES",
    "SPARSE",
    "CodeChange",
    "FormName",
    "Importer",
    "OutputColumn",
    "Removal",
    "with_reason",
]

FormName = Literal["delimited", "xlsx", "json", "json lines", "xml", "merge patch", "json patch"]
"""The forms that an update file may have."""

PATCHES: tuple[FormName, ...] = ("merge patch", "json patch")
"""Those that say of a field in so many words that it is emptied (RFC 7396 and RFC 6902)."""

SPARSE: tuple[FormName, ...] = ("json", "json lines", "xml", *PATCHES)
"""Those in which a row has only the fields that it says something of; in the others, each has a cell for every one."""


NEW_CODE = "new code"
"""The heading beside a code for the one that the item gets: in a sheet, in a list, and in an update file."""

Word = Annotated[str, Meta(min_length=1)]
Most = Annotated[int, Meta(ge=1)]


class Removal(Worded, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """How the importer is told that an item goes away.

    `row`: a file of keys, imported as a removal. `flag`: a row with `value` under the heading `heading`, which is no
    field. `value`: the item stays, and its field `heading` gets the value.
    """

    how: Annotated[Literal["never", "row", "flag", "value"], Meta(description="How an item is removed.")] = "never"
    heading: Annotated[str | None, Meta(description="The heading of the flag, or the field that gets a value.")] = None
    value: Annotated[str | None, Meta(description="What stands there to remove the item.")] = None


class CodeChange(Worded, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """How the importer is told that an item's code changes.

    `row`: a row with the old code, and the new one under the heading `heading`, which is no field; the item stays.
    `replace`: the item is made anew under its new code, and the old one is removed.
    """

    how: Annotated[Literal["never", "row", "replace"], Meta(description="How an item's code changes.")] = "never"
    heading: Annotated[Word, Meta(description="The heading of the new code, beside the old one.")] = NEW_CODE
    field: Annotated[
        str | None, Meta(description="Where the key has several fields: the one that changes, if not the first.")
    ] = None


class OutputColumn(msgspec.Struct, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """A column of the update files that is no field: the same text in every row, or an expression over the item as it
    will be.
    """

    text: Annotated[str | None, Meta(description="What stands in every row.")] = None
    expression: Annotated[Word | None, Meta(description="Its value, from the item's fields as they will be.")] = None


class Importer(Worded, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """The importer matches rows by key and leaves alone the columns that a file does not have.

    `blanks` says what it does with a blank cell: `skip` leaves the field as it is, `clear` empties it. Files
    for an importer that clears do no harm with one that skips, so that is the one to take when nobody knows.
    """

    blanks: Annotated[Literal["skip", "clear"], Meta(description="A blank cell is skipped, or clears the field.")] = (
        "clear"
    )
    empties: Annotated[Word | None, Meta(description="Where blanks are skipped: the mark that empties a field.")] = None
    takes: Annotated[
        Literal["both", "updates", "additions"], Meta(description="Updates of items, new items, or both.")
    ] = "both"
    carries: Annotated[list[str], Meta(description="Fields that every row must have a value in, changed or not.")] = []
    needs: Annotated[list[str], Meta(description="Fields that a new item must have a value in.")] = []
    defaults: Annotated[dict[str, str], Meta(description="What a new item gets in a field that it lacks.")] = {}
    missing: Annotated[
        Literal["kept", "deleted"], Meta(description="What becomes of items that a file does not have.")
    ] = "kept"
    removal: Annotated[Removal, Meta(description="How an item is removed.")] = Removal()
    code_change: Annotated[CodeChange, Meta(description="How an item's code changes.")] = CodeChange()
    lists: Annotated[
        Literal["replaced", "marked"],
        Meta(description="A list is replaced whole, or its values are added and taken away by marks."),
    ] = "replaced"
    adds: Annotated[Word, Meta(description="The mark before a value to add to a list.")] = "+"
    takes_away: Annotated[Word, Meta(description="The mark before a value to take from a list.")] = "-"
    adjusted: Annotated[list[str], Meta(description="Fields of numbers that are told as a difference: +5, -3.")] = []
    with_adjusted: Annotated[
        dict[str, str], Meta(description="What stands in further columns beside a difference: reason, location.")
    ] = {}
    columns: Annotated[
        dict[str, OutputColumn], Meta(description="Columns that are no fields: a text, or an expression, in every row.")
    ] = {}
    called: Annotated[dict[str, Word], Meta(description="What the files call a field, if not as live does.")] = {}
    most_rows: Annotated[Most | None, Meta(description="The most rows a file may have.")] = None
    most_bytes: Annotated[Most | None, Meta(description="The most bytes a file may have.")] = None
    headings: Annotated[
        list[str], Meta(description="The headings a file must have, in this order, used or not; and no others.")
    ] = []
    form: Annotated[FormName, Meta(description="The form of the files.")] = "delimited"
    separator: Annotated[str | None, Meta(description="Between cells, if not as in live.")] = None
    encoding: Annotated[str | None, Meta(description="The encoding, if not as in live.")] = None
    line_end: Annotated[Literal["LF", "CRLF", "CR"] | None, Meta(description="The line ends, if not as in live.")] = (
        None
    )
    quote_all: Annotated[bool | None, Meta(description="Whether every cell has quotes, if not as in live.")] = None


REASON = "reason"
"""The column in which an importer takes why something was changed."""


def with_reason(importer: Importer, text: str) -> Importer:
    """The importer with this text in its column for the reason; StoreError when it has none.

    >>> with_reason(Importer(columns={"reason": OutputColumn("")}), "recount").columns["reason"].text
    'recount'
    """
    if REASON in importer.with_adjusted:
        return msgspec.structs.replace(importer, with_adjusted=importer.with_adjusted | {REASON: text})
    if REASON in importer.columns:
        return msgspec.structs.replace(importer, columns=importer.columns | {REASON: OutputColumn(text)})
    raise StoreError(
        'The store file gives the importer no column "reason". Say it there, under [importer.with_adjusted] beside '
        'differences, or for every row: [importer.columns] reason = { text = "" }'
    )
