"""What of a store file cannot be meant: settings that contradict each other, and fields that nothing has."""

from __future__ import annotations

import codecs
import re
from collections.abc import Collection, Iterable, Iterator
from dataclasses import dataclass
from decimal import Decimal

from neat_delta.core.base.model.importer import NEW_CODE, PATCHES, SPARSE, CodeChange, Importer
from neat_delta.core.base.model.layout import Notation
from neat_delta.core.base.model.store import Field, FileForm, Store
from neat_delta.core.base.support.nearest import did_you_mean

__all__ = ["FORM_WORDS", "Conflict", "besides_fields", "conflicting_settings", "unknown_fields"]


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
    conflicts += [*_of_name(store), *_of_results(store), *_of_delivery(store)]
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


def _of_name(store: Store) -> Iterator[Conflict]:
    if store.name is not None and (not store.name.strip() or not store.name.isprintable()):
        yield Conflict(
            ("store", "name"), "it must be one line that can be read, as it stands on the page for an import"
        )


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


SECRET_HEADERS = re.compile(r"authorization|cookie|key|token|secret|password|signature", re.IGNORECASE)
"""What a header is called that holds a secret."""


def _of_delivery(store: Store) -> Iterator[Conflict]:
    for name, value in store.delivery.headers.items():
        if not re.fullmatch(r"[A-Za-z0-9!#$%&'*+.^_`|~-]+", name) or not value.isprintable():
            yield Conflict(("delivery", "headers", name), "it cannot be a header")
        elif SECRET_HEADERS.search(name) and not value.startswith("$"):
            what = "it may be a secret, and this file is handed on: write $NAME, and set NAME in the environment"
            yield Conflict(("delivery", "headers", name), what)


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
        for name in (heading for heading in named if heading is not None and heading not in groups):
            yield Conflict(("results", "line"), f"it has no group (?P<{name}>…), which another line names")


def _of_relations(store: Store) -> Iterator[Conflict]:
    for where, number in (
        (("largest_round",), store.largest_round),
        (("relations", "least_margin"), store.relations.least_margin),
    ):
        what = _of_number(number)
        if what is not None:
            yield Conflict(where, what)
    for place, exception in enumerate(store.exceptions):
        if exception.until is not None and not re.fullmatch(r"[0-9]{4}-[0-9]{2}-[0-9]{2}", exception.until):
            yield Conflict(("exceptions", str(place)), f'until is no day: "{exception.until}"; write it as 2026-12-31')


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
    settings = [name for name in ("heading", "value") if getattr(removal, name) is not None]
    if settings != (["heading", "value"] if removal.how in {"flag", "value"} else []):
        without = f", and how is {removal.how}" if settings and removal.how in {"never", "row"} else ""
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
        *(
            (("importer", setting), name)
            for setting in ("carries", "needs", "adjusted")
            for name in getattr(importer, setting)
        ),
        *(
            (("importer", setting, name), name)
            for setting in ("defaults", "called")
            for name in getattr(importer, setting)
        ),
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
    for where, heading in (
        *others,
        *blank,
        *((("importer", "headings"), own_heading) for own_heading in importer.headings),
    ):
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
            setting = "carries" if name in importer.carries else "headings"
            what = (
                f'"{name}": every row must have it, and it is never sent unless it changes ({why}); take it out of '
                f"{setting}, or say otherwise under [fields.{name}]"
            )
            yield Conflict(("importer", setting), what)
    if importer.headings:
        for setting in ("carries", "needs"):
            for name in getattr(importer, setting):
                if name not in importer.headings:
                    what = f'"{name}" is not among the headings, so no file can have it'
                    yield Conflict(("importer", setting), what)
    names = [*importer.adjusted, *sorted(marked), *(name for name, field in store.fields.items() if field.unseen)]
    if importer.missing == "deleted" and importer.blanks == "clear" and importer.form not in SPARSE and names:
        what = (
            f'a file has every item, and a blank would clear "{names[0]}" of those that keep it, which can only be '
            "told as a difference or by marks, or is not in an export"
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
        for place, spelling in (("heading", heading), *(("also", other) for other in field.also)):
            if spelling in seen:
                where = ("fields", name) if place == "heading" and field.heading is None else ("fields", name, place)
                yield Conflict(where, f'the heading "{spelling}" already belongs to the field "{seen[spelling]}"')
            else:
                seen[spelling] = name


def _either(kinds: tuple[str, ...]) -> str:
    return kinds[0] if len(kinds) == 1 else ", ".join(kinds[:-1]) + " and " + kinds[-1]
