"""What is known of one store: how its files look, its key, its fields, its importer. The store file as plain values.

Reading and writing it as TOML is `files.storefile`'s work; what the settings mean is said where they are used.
"""

from __future__ import annotations

from collections.abc import Mapping
from decimal import Decimal
from typing import Annotated, Literal

import msgspec

from neat_delta.core.base.model.importer import REASON, Importer
from neat_delta.core.base.model.layout import Layout, Notation
from neat_delta.core.base.model.results import ResultsForm
from neat_delta.core.base.support.errors import StoreError
from neat_delta.core.base.support.words import Worded

__all__ = [
    "VERSION",
    "CheckName",
    "Continued",
    "Delivery",
    "Field",
    "FileForm",
    "KeptRounds",
    "Key",
    "KindName",
    "LevelName",
    "Relations",
    "Standing",
    "Store",
    "StoreName",
    "continued",
    "must_be_named",
    "reading_settings",
]


VERSION = 1


KindName = Literal[
    "text",
    "code",
    "integer",
    "decimal",
    "money",
    "flag",
    "date",
    "choice",
    "list",
    "path",
    "measure",
    "json",
    "link",
    "image",
]


Meta = msgspec.Meta


Places = Annotated[int, Meta(ge=0, le=12)]


Length = Annotated[int, Meta(ge=1)]


Words = Annotated[list[str], Meta(min_length=1)]


Mark = Annotated[str, Meta(min_length=1)]


class Continued(msgspec.Struct, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """One product on several lines: the lines under it have a blank key and carry further values of some fields.

    `fields` are these, by live's headings, each with the separator that stands between its values once they are folded.
    """

    fields: dict[str, Mark]


class FileForm(Layout, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """How the store's files are laid out, and whether one item takes several lines."""

    continued: Annotated[
        list[str],
        Meta(
            description="One product on several lines: the fields whose further values stand on lines with a blank key."
        ),
    ] = []

    @property
    def layout(self) -> Layout:
        """The layout alone."""
        return Layout(**{name: getattr(self, name) for name in Layout.__struct_fields__})


Blanks = Literal["hold", "clear", "keep"]
"""What an emptied cell means: ask first (hold it), empty the field, or leave what live has."""


Clash = Literal["hold", "sheet", "live", "add"]
"""What a cell becomes that both the sheet and the store changed since the base: ask first (hold it), the sheet's value,
the store's, or the store's with the sheet's difference added.
"""


class Key(Worded, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """What an item is known by."""

    fields: Annotated[list[str], Meta(description="The field or fields an item is known by.")] = []
    name: Annotated[str | None, Meta(description="The field a person knows the item by.")] = None
    ignore_case: Annotated[bool, Meta(description="Whether qa-1 and QA-1 are the same key.")] = False
    shared: Annotated[
        Literal["error", "all"],
        Meta(description="Several live items with one key: an error (set aside), or a change goes to all of them."),
    ] = "error"


class Field(Worded, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """One field of the store: what it is called, and what sort of value it holds."""

    kind: Annotated[KindName, Meta(description="What sort of value it holds.")] = "text"
    heading: Annotated[str | None, Meta(description="What live calls it, if not by the field's own name.")] = None
    also: Annotated[list[str], Meta(description="Other headings a sheet may call it by.")] = []
    same: Annotated[
        Literal["value", "text"] | None,
        Meta(description="When two cells are equal: by value, or by text; if not said, as docs/equal.md lists it."),
    ] = None
    decimals: Annotated[Places | None, Meta(description="How many decimals the store writes.")] = None
    decimal_mark: Annotated[Literal[".", ","] | None, Meta(description="The decimal mark, if not the file's.")] = None
    thousands_mark: Annotated[str | None, Meta(description='The thousands mark, if not the file\'s; "" for none.')] = (
        None
    )
    currency: Annotated[
        str | None, Meta(description="The currency as live writes it, # being the number: €# or # EUR.")
    ] = None
    date_form: Annotated[str | None, Meta(description="The date form, if not that of the file.")] = None
    yes: Annotated[Words | None, Meta(description="The words for yes; of a flag the first is written.")] = None
    no: Annotated[Words | None, Meta(description="The words for no; of a flag the first is written.")] = None
    separator: Annotated[Mark | None, Meta(description="What stands between the values of a list.")] = None
    ordered: Annotated[bool, Meta(description="Whether the order of a list's values means anything.")] = False
    levels: Annotated[Mark | None, Meta(description="What stands between the levels of a path.")] = None
    values: Annotated[list[str], Meta(description="The values a choice may take.")] = []
    required: Annotated[bool, Meta(description="Whether it may never be blank.")] = False
    unique: Annotated[bool, Meta(description="Whether no two items may have the same value.")] = False
    locked: Annotated[bool, Meta(description="Whether an update never changes it.")] = False
    unseen: Annotated[
        bool, Meta(description="Whether an export lacks it: the store has it, and what it has there is not known.")
    ] = False
    moving: Annotated[bool, Meta(description="Whether the store changes it by itself, such as stock.")] = False
    blanks: Annotated[
        Blanks | None,
        Meta(description="What a cell means that a sheet has blank, where the command line does not say."),
    ] = None
    clash: Annotated[
        Clash | None, Meta(description="What becomes of it where sheet and store changed it, where that is not said.")
    ] = None
    accompanies: Annotated[
        bool, Meta(description="Whether it says something of a change, such as why, and goes only with one.")
    ] = False
    least: Annotated[Decimal | None, Meta(description="The least a number may be.")] = None
    most: Annotated[Decimal | None, Meta(description="The most a number may be.")] = None
    longest: Annotated[Length | None, Meta(description="The most characters a text may have.")] = None
    longest_bytes: Annotated[Length | None, Meta(description="The most bytes it may have, as the store writes it.")] = (
        None
    )
    largest_change: Annotated[Decimal | None, Meta(description="The largest believable change, in per cent.")] = None
    check_digit: Annotated[
        Literal["gtin", "isbn"] | None, Meta(description="The standard whose check digit a code must have.")
    ] = None
    stored_decimals: Annotated[
        Places | None, Meta(description="The decimals to which the store rounds it by itself.")
    ] = None
    stored_length: Annotated[Length | None, Meta(description="The characters after which the store cuts it.")] = None
    stored_case: Annotated[
        Literal["upper", "lower"] | None, Meta(description="The case in which the store writes it, whatever is sent.")
    ] = None
    stored_zeros: Annotated[
        Literal["cut"] | None, Meta(description="Whether the store cuts the zeros at the end of its decimals.")
    ] = None
    refers: Annotated[bool, Meta(description="Whether its values are the keys of other items.")] = False


def reading_settings(field: Field) -> Field:
    """A field with those of its settings alone by which texts are read and written; where they are the same, fields can
    be read together.

    >>> reading_settings(Field("money", decimals=2, required=True)) == Field("money", decimals=2)
    True
    """
    return Field(**{name: getattr(field, name) for name in READ_BY})


READ_BY = (
    "kind",
    "same",
    "decimals",
    "decimal_mark",
    "thousands_mark",
    "currency",
    "date_form",
    "yes",
    "no",
    "separator",
    "ordered",
    "levels",
    "values",
)


class Sheets(Worded, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """What is meant by a sheet of the store, where neither the command line nor a list's own description says so."""

    blanks: Annotated[Blanks | None, Meta(description="What a blank cell means.")] = None
    clash: Annotated[
        Literal["hold", "sheet", "live"] | None, Meta(description="What becomes of what sheet and store both changed.")
    ] = None
    with_new: Annotated[bool, Meta(description="Items that only a sheet has are sent.")] = False
    whole: Annotated[
        bool, Meta(description="A sheet that is no list has every item: those that it lacks are gone.")
    ] = False


def accompanying(fields: Mapping[str, Field]) -> list[str]:
    """The fields that go only with another change of their item: as the store file says, and a `reason` that exports
    lack.

    >>> accompanying({"reason": Field(unseen=True), "stock": Field("integer")})
    ['reason']
    """
    return [name for name, field in fields.items() if field.accompanies or (field.unseen and name == REASON)]


class Relations(msgspec.Struct, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """Which fields stand in which relation to each other."""

    price: Annotated[str | None, Meta(description="The field of the price.")] = None
    cost: Annotated[str | None, Meta(description="The field of the cost; it must be below the price.")] = None
    least_margin: Annotated[Decimal, Meta(description="The least margin, in per cent of the price.")] = Decimal(0)
    sale_price: Annotated[str | None, Meta(description="The field of the sale price; at most the price.")] = None
    least_price: Annotated[str | None, Meta(description="The field of the least price.")] = None
    most_price: Annotated[str | None, Meta(description="The field of the highest price.")] = None
    sale_from: Annotated[str | None, Meta(description="The field of a sale's first day.")] = None
    sale_to: Annotated[str | None, Meta(description="The field of a sale's last day; not before the first.")] = None
    shown: Annotated[str | None, Meta(description="The flag that says whether an item is shown.")] = None
    stock: Annotated[str | None, Meta(description="The field of the stock.")] = None


LevelName = Literal["stop", "warn", "note", "off"]


CheckName = Literal[
    "required",
    "unreadable",
    "locked",
    "outside-bounds",
    "negative",
    "too-long",
    "unwritable",
    "guessed-encoding",
    "unclosed-html",
    "near-twin",
    "new-value",
    "repeated",
    "check-digit",
    "dead-link",
    "no-image",
    "price-as-cost",
    "margin",
    "sale-price",
    "price-range",
    "sale-days",
    "hidden-in-stock",
    "shown-without-stock",
    "large-change",
    "outlier",
    "price-ending",
    "large-round",
    "stored-otherwise",
]


class Standing(msgspec.Struct, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """A standing exception: what a check finds here is let through, for a reason, until a day."""

    check: Annotated[CheckName, Meta(description="The check.")]
    reason: Annotated[str, Meta(min_length=1, description="Why it is let through.")]
    which: Annotated[str | None, Meta(description="Only in this field, or of this item.")] = None
    until: Annotated[str | None, Meta(description="The last day it holds, as YYYY-MM-DD.")] = None


class StoreName(Worded, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """Which store the file describes."""

    name: Annotated[
        str | None, Meta(description="What the store is called: files for it are never made by another's store file.")
    ] = None


class Delivery(Worded, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """How update files are sent to an address of the web."""

    method: Annotated[Literal["POST", "PUT"], Meta(description="The method of the request.")] = "POST"
    content_type: Annotated[
        str | None, Meta(description="The media type of the body, if not the one that the form of the files has.")
    ] = None
    headers: Annotated[
        dict[str, str],
        Meta(description="Headers of the request; $NAME is taken from the environment, as what is secret must be."),
    ] = {}
    repeatable: Annotated[
        bool,
        Meta(description="Whether the store knows a request again by its Idempotency-Key, and takes it only once."),
    ] = False


class KeptRounds(Worded, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """Where the rounds of the store are kept, and for how long."""

    folder: Annotated[
        str | None,
        Meta(description="The folder in which each round is kept, from the store file's own on; without it none is."),
    ] = None
    keep: Annotated[
        int | str,
        Meta(description='How long what went into a round is kept: a number of rounds, or "90 days".'),
    ] = 12


class Store(msgspec.Struct, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """One store, as its store file describes it."""

    version: Annotated[int, Meta(description="The version of the store file's form: 1.")] = VERSION
    store: Annotated[StoreName, Meta(description="Which store this is.")] = StoreName()
    file: Annotated[FileForm, Meta(description="How the store's files look.")] = FileForm()
    writing: Annotated[Notation, Meta(description="How the store's files write values.")] = Notation()
    key: Annotated[Key, Meta(description="What an item is known by.")] = Key()
    sheets: Annotated[Sheets, Meta(description="What is meant by sheets, where nothing else is said.")] = Sheets()
    fields: Annotated[dict[str, Field], Meta(description="The fields, by name.")] = {}
    importer: Annotated[Importer, Meta(description="What the store's importer does.")] = Importer()
    results: Annotated[ResultsForm, Meta(description="What the store's reports of an import look like.")] = (
        ResultsForm()
    )
    delivery: Annotated[Delivery, Meta(description="How update files are sent to an address of the web.")] = Delivery()
    ledger: Annotated[KeptRounds, Meta(description="Where rounds are kept.")] = KeptRounds()
    relations: Annotated[Relations, Meta(description="Which fields stand in which relation.")] = Relations()
    checks: Annotated[dict[CheckName, LevelName], Meta(description="The level of each check, by its name.")] = {}
    largest_round: Annotated[
        Decimal, Meta(description="The largest share of live, in per cent, that one round may touch.")
    ] = Decimal(50)
    exceptions: Annotated[list[Standing], Meta(description="What is let through for good, or until a day.")] = []

    @property
    def name(self) -> str | None:
        """What the store is called, where its file says so."""
        return self.store.name


def must_be_named(store: Store, name: str | None) -> None:
    """StoreError where a store file describes another store than the one of this name; where one of the two has no
    name, nobody can tell.

    >>> must_be_named(Store(store=StoreName("Quillfern Apiary Supply")), None)
    """
    if None not in {store.name, name} and store.name != name:
        raise StoreError(
            f'This round is of the store "{name}", and the store file describes "{store.name}". '
            "Name that store's own file with ‹store›."
        )


def continued(store: Store) -> Continued | None:
    """The fields that go on over several lines, with their separators, as a file is folded by them; None when none
    do.
    """
    fields = {name: store.fields[name].separator or "|" for name in store.file.continued if name in store.fields}
    return Continued(fields) if fields else None
