"""What is known of one store: how its files look, its key, its fields, its importer. The store file as plain values.

Reading and writing it as TOML is `files.storefile`'s work; what the settings mean is said where they are used.
"""

from __future__ import annotations

import codecs
import re
from collections.abc import Collection, Iterable, Iterator, Mapping
from dataclasses import dataclass
from decimal import Decimal
from typing import Annotated, Literal

import msgspec

from neat_delta.core.model.importer import NEW_CODE, PATCHES, REASON, SPARSE, CodeChange, Importer
from neat_delta.core.model.layout import Layout, Notation
from neat_delta.core.model.results import ResultsForm
from neat_delta.core.support.nearest import did_you_mean
from neat_delta.core.support.words import Worded

__all__ = [
    "VERSION",
    "CheckName",
    "Conflict",
    "Continued",
    "Field",
    "FileForm",
    "Key",
    "KindName",
    "LevelName",
    "Relations",
    "Standing",
    "Store",
    "besides_fields",
    "conflicting_settings",
    "continued",
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


class Store(msgspec.Struct, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """One store, as its store file describes it."""

    version: Annotated[int, Meta(description="The version of the store file's form: 1.")] = VERSION
    file: Annotated[FileForm, Meta(description="How the store's files look.")] = FileForm()
    writing: Annotated[Notation, Meta(description="How the store's files write values.")] = Notation()
    key: Annotated[Key, Meta(description="What an item is known by.")] = Key()
    sheets: Annotated[Sheets, Meta(description="What is meant by sheets, where nothing else is said.")] = Sheets()
    fields: Annotated[dict[str, Field], Meta(description="The fields, by name.")] = {}
    importer: Annotated[Importer, Meta(description="What the store's importer does.")] = Importer()
    results: Annotated[ResultsForm, Meta(description="What the store's reports of an import look like.")] = (
        ResultsForm()
    )
    relations: Annotated[Relations, Meta(description="Which fields stand in which relation.")] = Relations()
    checks: Annotated[dict[CheckName, LevelName], Meta(description="The level of each check, by its name.")] = {}
    largest_round: Annotated[
        Decimal, Meta(description="The largest share of live, in per cent, that one round may touch.")
    ] = Decimal(50)
    exceptions: Annotated[list[Standing], Meta(description="What is let through for good, or until a day.")] = []


def continued(store: Store) -> Continued | None:
    """The fields that go on over several lines, with their separators, as a file is folded by them; None when none
    do.
    """
    fields = {name: store.fields[name].separator or "|" for name in store.file.continued if name in store.fields}
    return Continued(fields) if fields else None


@dataclass(frozen=True, slots=True)
class Conflict:
    """Two settings that cannot both hold: where (the names from the outermost table in), and what is wrong."""

    where: tuple[str, ...]
    what: str


THOUSANDS_MARKS = (None, "", ".", ",", " ", "'", "\u00a0", "\u202f", "\u2019")

FORM_WORDS = ("YYYY", "MM", "DD", "hh", "mm", "ss")

# Which settings mean something to which kinds.
SETTINGS: dict[str, tuple[str, ...]] = {
    "decimals": ("decimal", "money"),
    "decimal_mark": ("integer", "decimal", "money", "measure"),
    "thousands_mark": ("integer", "decimal", "money", "measure"),
    "currency": ("money",),
    "date_form": ("date",),
    "yes": ("flag", "choice"),
    "no": ("flag", "choice"),
    "separator": ("list", "path", "image", "link"),
    "ordered": ("list",),
    "levels": ("path",),
    "values": ("choice",),
    "least": ("integer", "decimal", "money"),
    "most": ("integer", "decimal", "money"),
    "longest": ("text", "code", "list", "path", "link", "image"),
    "longest_bytes": ("text", "code", "list", "path", "link", "image"),
    "largest_change": ("integer", "decimal", "money"),
    "check_digit": ("code",),
    "stored_decimals": ("integer", "decimal", "money"),
    "stored_length": ("text", "code", "choice", "list", "path", "link", "image"),
    "stored_case": ("text", "code", "choice", "list", "path"),
    "stored_zeros": ("text", "code", "choice"),
    "refers": ("code", "list"),
}


def conflicting_settings(store: Store) -> list[Conflict]:
    """All that cannot hold together in a store file whose keys and types are right."""
    conflicts = [*_of_form(store.file), *_of_writing(store.writing), *_of_key(store), *_of_relations(store)]
    conflicts += _of_results(store)
    conflicts += [*_of_importer(store), *_of_code_change(store), *_of_sending(store)]
    conflicts += [*_of_code_changes(store), *_of_told_marks(store), *_of_removal(store), *_of_output_headings(store)]
    for name, field in store.fields.items():
        conflicts += [Conflict(("fields", name, *where), what) for where, what in _of_field(field, store.writing)]
    return conflicts + list(_of_headings(store.fields))


NOT_FOR_FILES = {"punycode", "idna", "unicode-escape", "raw-unicode-escape", "undefined", "utf-7"}
"""Encodings of texts that no file of a catalogue is in."""


def _of_marks_and_encoding(form: FileForm | Importer, table: str) -> Iterator[Conflict]:
    for name in ("separator", "quote", "escape"):
        mark = getattr(form, name, None)
        broken = {"\n", "\r", "\0"} | ({'"', ""} if name == "separator" else set())
        if mark is not None and (len(mark.encode()) > 1 or mark in broken):
            names = ", or comma, semicolon, tab or pipe" if name == "separator" else ""
            yield Conflict((table, name), f"it must be one plain character{names}")
    if form.encoding is not None:
        try:
            usable = codecs.lookup(form.encoding).name.replace("_", "-") not in NOT_FOR_FILES
            "".encode(form.encoding)
        except (LookupError, ValueError):
            usable = False
        if not usable:
            what = f'there is no encoding "{form.encoding}"; for example: utf-8, utf-16, cp1252, cp1250'
            yield Conflict((table, "encoding"), what)


def _of_form(form: FileForm) -> Iterator[Conflict]:
    yield from _of_marks_and_encoding(form, "file")
    if form.separator is not None and form.separator in {form.quote, form.escape}:
        yield Conflict(("file", "separator"), "it is the same as the quote or the escape")
    if form.header_line is not None and form.header_line < 1:
        yield Conflict(("file", "header_line"), "lines are counted from 1")


def _of_writing(writing: Notation) -> Iterator[Conflict]:
    yield from (Conflict(("writing", "thousands_mark"), what) for what in _of_marks(writing))
    yield from (Conflict(("writing", "date_form"), what) for what in _of_date_form(writing.date_form))
    yield from (Conflict(("writing", "yes"), what) for what in _of_words(writing.yes, writing.no))


def _of_key(store: Store) -> Iterator[Conflict]:
    key = store.key
    if len(set(key.fields)) != len(key.fields):
        yield Conflict(("key", "fields"), "it names a field twice")
    if store.fields:
        for name in store.file.continued:
            if name not in store.fields or store.fields[name].separator is None:
                yield Conflict(("file", "continued"), f'the field "{name}" needs a separator, to hold several values')
    if set(store.file.continued) & set(key.fields):
        yield Conflict(("file", "continued"), "the key cannot be continued")


def _of_results(store: Store) -> Iterator[Conflict]:
    form = store.results
    if form.key and store.key.fields and len(form.key) != len(store.key.fields):
        yield Conflict(("results", "key"), "it names another number of headings than the key has fields")
    words = [word.strip().casefold() for some in (form.done, form.warned, form.skipped, form.refused) for word in some]
    twice = next((word for word in words if words.count(word) > 1), None)
    if twice is not None:
        yield Conflict(("results",), f'"{twice}" stands under two of done, warned, skipped and refused')
    if form.status is not None and not words:
        yield Conflict(("results", "status"), "say what its words mean: done, warned, skipped, refused")
    if form.line is not None:
        try:
            groups = {*re.compile(form.line).groupindex}
        except re.error as error:
            yield Conflict(("results", "line"), f"it is no regular expression ({error})")
            return
        named = (*form.key, *form.ids, form.row, form.file, form.status, form.message)
        for name in (one for one in named if one is not None and one not in groups):
            yield Conflict(("results", "line"), f"it has no group (?P<{name}>…), which another line names")


def _of_relations(store: Store) -> Iterator[Conflict]:
    for where, number in (
        (("largest_round",), store.largest_round),
        (("relations", "least_margin"), store.relations.least_margin),
    ):
        what = _of_number(number)
        if what is not None:
            yield Conflict(where, what)
    for place, one in enumerate(store.exceptions):
        if one.until is not None and not re.fullmatch(r"[0-9]{4}-[0-9]{2}-[0-9]{2}", one.until):
            yield Conflict(("exceptions", str(place)), f'until is no day: "{one.until}"; write it as 2026-12-31')


def _of_importer(store: Store) -> Iterator[Conflict]:
    importer, removal = store.importer, store.importer.removal
    named = {"carries": importer.carries, "needs": importer.needs, "adjusted": importer.adjusted}
    named |= {"defaults": list(importer.defaults), "headings": importer.headings}
    yield from _of_columns(store)
    for setting, names in named.items():
        if len(set(names)) < len(names):
            yield Conflict(("importer", setting), "it names a field twice")
    if importer.empties is not None and importer.blanks == "clear":
        yield Conflict(("importer", "empties"), "a blank cell clears the field already, so it needs no mark")
    yield from _of_marks_and_encoding(importer, "importer")
    if importer.adds == importer.takes_away:
        yield Conflict(("importer", "adds"), "it is the same as takes_away")
    if importer.form in SPARSE and (importer.headings or removal.how == "flag"):
        yield Conflict(("importer", "form"), "it has no headings to be fixed, and no flag for a removal")
    if importer.form == "json patch" and len(store.key.fields) > 1:
        yield Conflict(("importer", "form"), "a JSON patch needs a key of one field")
    said = [name for name in ("heading", "value") if getattr(removal, name) is not None]
    if said != (["heading", "value"] if removal.how in {"flag", "value"} else []):
        without = f", and how is {removal.how}" if said and removal.how in {"never", "row"} else ""
        what = f"flag and value need a heading and a value, the others have none{without}"
        yield Conflict(("importer", "removal"), what)
    if importer.missing == "deleted" and (importer.takes != "both" or importer.form in PATCHES):
        yield Conflict(("importer", "missing"), "an importer that deletes what is missing must take everything")
    for name in importer.adjusted:
        if store.fields and name in store.fields and store.fields[name].kind not in {"integer", "decimal", "money"}:
            yield Conflict(("importer", "adjusted"), f'"{name}" is no field of numbers')


def _of_code_changes(store: Store) -> Iterator[Conflict]:
    change = store.importer.code_change
    if change.how == "never" and change != CodeChange():
        what = 'how is never, so nothing else goes with it: how = "row" or "replace"'
        yield Conflict(("importer", "code_change"), what)
    elif change.how == "replace" and change.heading != NEW_CODE:
        yield Conflict(("importer", "code_change", "heading"), "an item is made anew, so no heading says its new code")


def unknown_fields(store: Store, fields: Collection[str]) -> Iterator[Conflict]:
    """The names of fields in a store file that are neither under its `fields` nor among these of live.

    >>> store = Store(importer=Importer(carries=["prise"]))
    >>> [(".".join(one.where), one.what) for one in unknown_fields(store, ["sku", "price"])]
    [('importer.carries', 'there is no field "prise", here or in live. Did you mean "price"?')]
    """
    importer, removal = store.importer, store.importer.removal
    known = {*store.fields, *fields}
    columns = {removal.heading, *besides_fields(importer)}
    relations = {role: getattr(store.relations, role) for role in store.relations.__struct_fields__}
    named: list[tuple[tuple[str, ...], str | None]] = [
        (("key", "name"), store.key.name),
        *((("relations", role), name) for role, name in relations.items() if isinstance(name, str)),
        *((("importer", one), name) for one in ("carries", "needs", "adjusted") for name in getattr(importer, one)),
        *((("importer", one, name), name) for one in ("defaults", "called") for name in getattr(importer, one)),
        *((("importer", "headings"), name) for name in importer.headings if name not in columns),
        (("importer", "removal", "heading"), removal.heading if removal.how == "value" else None),
    ]
    for where, name in named:
        if name is not None and name not in known:
            hint = did_you_mean(name, sorted(known))
            yield Conflict(where, f'there is no field "{name}", here or in live.{hint}')


def besides_fields(importer: Importer) -> dict[str, str]:
    """The headings that an importer's files have and that are no fields, and what each is.

    >>> besides_fields(Importer(with_adjusted={"reason": "recount"}))
    {'reason': 'the column'}
    """
    named = dict.fromkeys([*importer.with_adjusted, *importer.columns], "the column")
    if importer.removal.how == "flag" and importer.removal.heading is not None:
        named[importer.removal.heading] = "the heading of a removal"
    if importer.code_change.how == "row":
        named[importer.code_change.heading] = "the heading of a new code"
    return named


def _of_told_marks(store: Store) -> Iterator[Conflict]:
    """The importer's marks, which must be told from values, from each other, and from what stands between values."""
    importer = store.importer
    if importer.empties is not None and not importer.empties.strip():
        yield Conflict(("importer", "empties"), "it is blank, and the importer skips blanks, so it says nothing")
    for name, text in importer.defaults.items():
        if text == importer.empties:
            yield Conflict(("importer", "defaults", name), "it is the mark that empties a field")
        if name in store.key.fields:
            yield Conflict(("importer", "defaults", name), "it is of the key, which every item has of its own")
    if importer.lists != "marked":
        return
    between = {name: (field.separator or ",").strip() or " " for name, field in store.fields.items()
               if field.kind == "list"}  # fmt: skip
    marks = {"adds": importer.adds, "takes_away": importer.takes_away}
    for setting, mark in marks.items():
        if mark != mark.strip():
            yield Conflict(("importer", setting), "it begins or ends with a blank, which is not seen before a value")
        for name, separator in between.items():
            if separator in mark or mark in separator:
                yield Conflict(
                    ("importer", setting), f'it is not to be told from "{separator}", between values of {name}'
                )
    longer, shorter = sorted(marks, key=lambda setting: -len(marks[setting]))
    if marks[longer] != marks[shorter] and marks[longer].startswith(marks[shorter]):
        yield Conflict(("importer", longer), f"it begins as {shorter} does, so that nobody can tell them apart")


def _of_removal(store: Store) -> Iterator[Conflict]:
    importer, removal = store.importer, store.importer.removal
    if removal.value is not None and not removal.value.strip():
        yield Conflict(("importer", "removal", "value"), "it is blank, and a blank cell removes nothing")
    if removal.value is not None and removal.value == importer.empties:
        yield Conflict(("importer", "removal", "value"), "it is the mark that empties a field")
    field = store.fields.get(removal.heading or "") if removal.how == "value" else None
    if field is not None and field.locked:
        what = "is locked, so that no update changes it, and a removal would"
        yield Conflict(("importer", "removal", "heading"), f'"{removal.heading}" {what}')
    if field is not None and (
        removal.heading in importer.adjusted or (field.kind == "list" and importer.lists == "marked")
    ):
        what = "is told as a difference or by marks, and a removal sets it to a value"
        yield Conflict(("importer", "removal", "heading"), f'"{removal.heading}" {what}')
    if removal.how == "value" and removal.heading in store.key.fields:
        yield Conflict(("importer", "removal", "heading"), f'"{removal.heading}" is of the key')


def _of_output_headings(store: Store) -> Iterator[Conflict]:
    """What the files call their columns: each once, none blank, and none that is no field like a field."""
    importer = store.importer
    called = {name: field.heading or name for name, field in store.fields.items()} | importer.called
    seen = {heading: name for name, heading in called.items()} | {name: name for name in store.fields}
    others: list[tuple[tuple[str, ...], str]] = [
        *((("importer", "with_adjusted", name), name) for name in importer.with_adjusted),
        *((("importer", "columns", name), name) for name in importer.columns if name not in store.fields),
    ]
    if importer.removal.how == "flag" and importer.removal.heading is not None:
        others.append((("importer", "removal", "heading"), importer.removal.heading))
    if importer.code_change.how == "row" and importer.code_change.heading not in store.fields:
        others.append((("importer", "code_change", "heading"), importer.code_change.heading))
    for where, heading in others:
        if heading in seen:
            yield Conflict(where, f'"{heading}" is what another column is called')
        seen[heading] = heading
    blank = [(("importer", "called", name), text) for name, text in importer.called.items()]
    for where, heading in (*others, *blank, *((("importer", "headings"), one) for one in importer.headings)):
        if not heading.strip():
            yield Conflict(where, "a heading is not blank")


def _of_columns(store: Store) -> Iterator[Conflict]:
    importer = store.importer
    headings = {name: field.heading or name for name, field in store.fields.items()} | importer.called
    for name, heading in importer.called.items():
        where = ("importer", "called", name)
        if list(headings.values()).count(heading) > 1 or heading in importer.columns:
            yield Conflict(where, f'"{heading}" is what another column is called')
    for name, column in importer.columns.items():
        if name in store.fields:
            yield Conflict(("importer", "columns", name), "there is a field of this name, and this is to be none")
        if (column.text is None) == (column.expression is None):
            yield Conflict(("importer", "columns", name), "it needs a text or an expression, and not both")
        if importer.form in PATCHES:
            yield Conflict(("importer", "columns", name), "a patch has only fields")


def _of_code_change(store: Store) -> Iterator[Conflict]:
    importer, code = store.importer, store.importer.code_change
    if code.how == "row" and code.heading in store.fields:
        yield Conflict(("importer", "code_change", "heading"), f'"{code.heading}" is a field; this one is none')
    if code.field is not None and store.key.fields and code.field not in store.key.fields:
        yield Conflict(("importer", "code_change", "field"), f'"{code.field}" is no field of the key')
    if (
        code.how == "replace"
        and importer.removal.how == "never"
        and importer.missing == "kept"
        and importer.form not in PATCHES
    ):
        yield Conflict(("importer", "code_change", "how"), "to replace an item, the importer must remove one")


def _of_sending(store: Store) -> Iterator[Conflict]:
    importer = store.importer
    never = {name for name, field in store.fields.items() if field.moving or field.locked or field.unseen}
    never |= set(importer.adjusted)
    marked = {name for name, field in store.fields.items() if field.kind == "list" and importer.lists == "marked"}
    never |= marked
    filled = importer.headings if importer.blanks == "clear" and importer.form not in SPARSE else []
    for name in (*importer.carries, *filled):
        if name in never and name not in store.key.fields:
            why = "locked, moving, unseen, adjusted, marked"
            what = f"every row must have it, and it is never sent unless it changes ({why})"
            yield Conflict(("importer", "carries" if name in importer.carries else "headings"), f'"{name}": {what}')
    if importer.headings:
        for setting in ("carries", "needs"):
            for name in getattr(importer, setting):
                if name not in importer.headings:
                    what = f'"{name}" is not among the headings, so no file can have it'
                    yield Conflict(("importer", setting), what)
    told = [*importer.adjusted, *sorted(marked), *(name for name, field in store.fields.items() if field.unseen)]
    if importer.missing == "deleted" and importer.blanks == "clear" and importer.form not in SPARSE and told:
        what = (
            f'a file has every item, and a blank would clear "{told[0]}" of those that keep it, which can only be told '
            "as a difference or by marks, or is not in an export"
        )
        yield Conflict(("importer", "missing"), what)
    if importer.empties is not None and importer.form in PATCHES:
        yield Conflict(("importer", "empties"), "a patch says by itself that a field is emptied, so it needs no mark")
    if importer.headings:
        others = dict.fromkeys(store.key.fields, "the key field")
        for name, what in (others | besides_fields(importer)).items():
            if name not in importer.headings:
                yield Conflict(("importer", "headings"), f'{what} "{name}" is not among them, and a file has no others')


def _of_field(field: Field, writing: Notation) -> Iterator[tuple[tuple[str, ...], str]]:
    for setting, kinds in SETTINGS.items():
        if getattr(field, setting) not in (None, [], False) and field.kind not in kinds:
            yield (setting,), f"it means nothing to the kind {field.kind}; it is for {_either(kinds)}"
    if field.separator is not None and "\0" in field.separator:
        yield ("separator",), "it has a character in it that no file can have (NUL)"
    if field.kind == "list" and field.separator is None:
        yield ("kind",), "a list needs its separator"
    if field.kind == "path" and field.levels is None:
        yield ("kind",), "a path needs levels, what stands between its levels"
    if field.levels is not None and field.levels == field.separator:
        yield ("levels",), "it is the same as the separator"
    for setting in ("least", "most", "largest_change"):
        what = _of_number(getattr(field, setting))
        if what is not None:
            yield (setting,), what
            return
    if field.least is not None and field.most is not None and field.least > field.most:
        yield ("least",), "it is more than most"
    yield from ((("thousands_mark",), what) for what in _of_marks(field, writing.decimal_mark))
    if field.currency is not None and not re.fullmatch(r"[^\d#]*#[^\d#]*", field.currency):
        yield ("currency",), "it is the currency as live writes it, with # for the number: €# or # EUR"
    yield from ((("date_form",), what) for what in _of_date_form(field.date_form))
    yield from ((("yes",), what) for what in _of_words(field.yes, field.no))
    if field.clash == "add" and field.kind not in SETTINGS["least"]:
        yield ("clash",), f"only a difference of numbers can be added; it is for {_either(SETTINGS['least'])}"
    if len(set(field.values)) != len(field.values):
        yield ("values",), "it names a value twice"


MOST_DIGITS, MOST_DECIMALS = 24, 12


def _of_number(number: Decimal | None) -> str | None:
    """What is wrong with a number of the store file."""
    if number is None:
        return None
    if not number.is_finite():
        return "it must be a number"
    if number.adjusted() >= MOST_DIGITS or int(number.normalize().as_tuple().exponent) < -MOST_DECIMALS:
        return f"it has more than {MOST_DIGITS} digits or {MOST_DECIMALS} decimals, as no amount has"
    return None


def _of_marks(marks: Notation | Field, of_the_file: str | None = None) -> Iterator[str]:
    if marks.thousands_mark and marks.thousands_mark == (marks.decimal_mark or of_the_file or "."):
        yield "it is the same as the decimal mark"
    if marks.thousands_mark not in THOUSANDS_MARKS:
        yield "a thousands mark is a point, a comma, a space or an apostrophe"


def _of_words(yes: Iterable[str] | None, no: Iterable[str] | None) -> Iterator[str]:
    if (yes is None) != (no is None):
        yield "yes and no must be said together"
    both = {word.casefold() for word in yes or ()} & {word.casefold() for word in no or ()}
    if both:
        yield f'"{min(both)}" cannot mean both yes and no'


def _of_date_form(form: str | None) -> Iterator[str]:
    if form is None:
        return
    if not all(form.count(word) == 1 for word in FORM_WORDS[:3]) or any(form.count(word) > 1 for word in FORM_WORDS):
        yield "a date form has YYYY, MM and DD once each, and hh, mm, ss at most once"


def _of_headings(fields: dict[str, Field]) -> Iterator[Conflict]:
    seen: dict[str, str] = {}
    for name, field in fields.items():
        heading = field.heading if field.heading is not None else name
        for place, one in (("heading", heading), *(("also", other) for other in field.also)):
            if one in seen:
                where = ("fields", name) if place == "heading" and field.heading is None else ("fields", name, place)
                yield Conflict(where, f'the heading "{one}" already belongs to the field "{seen[one]}"')
            else:
                seen[one] = name


def _either(kinds: tuple[str, ...]) -> str:
    return kinds[0] if len(kinds) == 1 else ", ".join(kinds[:-1]) + " and " + kinds[-1]
