"""Learning: what a catalogue shows of its store. The key, how values are written, and each field's kind, with the
evidence.

Caution beats cleverness: a field is only taken for more than text when every one of its cells says so.
"""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from dataclasses import field as by_default

import msgspec
import polars as pl

from neat_delta.core.base.infer import Known, check_digit, fields_of_key, links, relations
from neat_delta.core.base.infer.columns import of_column
from neat_delta.core.base.infer.headings import NAME_HEADINGS, plain_heading
from neat_delta.core.base.infer.key import find_key
from neat_delta.core.base.infer.limits import Limit, limits
from neat_delta.core.base.infer.writing import (
    GLANCED,
    NUMBERS,
    currency_of,
    having_currency,
    same_notation,
    writing_of,
)
from neat_delta.core.base.kinds import KINDS
from neat_delta.core.base.kinds.number import NUMBER_KINDS
from neat_delta.core.base.model.catalogue import Catalogue
from neat_delta.core.base.model.layout import Notation
from neat_delta.core.base.model.store import Field, FileForm, Key, Relations, Store

__all__ = ["Learned", "known_store", "learn", "learn_sample", "with_writing"]


SAMPLE = 1_000
"""So many items are looked at when nobody asked to learn, spread over the whole catalogue."""


@dataclass(frozen=True, slots=True)
class Learned:
    """A store as a catalogue shows it, and what was seen: by field, by relation, and of the key; and the limits that it
    suggests, but does not bear out.
    """

    store: Store
    evidence: dict[str, str]
    relations: dict[str, str] = by_default(default_factory=dict)
    key: str = ""
    suggested: tuple[Limit, ...] = ()


def learn(live: Catalogue, key: Sequence[str] = ()) -> Learned:
    """What all of live's cells show. CatalogueError when `key` is not among its fields, or no heading is plainly the
    key.

    >>> from neat_delta import as_catalogue
    >>> learned = learn(as_catalogue({"sku": ["QA-1", "QA-2"], "price": ["9.90", "20.00"]}))
    >>> learned.store.key.fields, learned.store.fields["price"].kind
    (['sku'], 'money')
    """
    key_fields = Known(find_key(live, key), "as you said") if key else fields_of_key(live.cells, *find_key(live))
    keys = key_fields.fields
    writing = writing_of(live.cells.iter_columns())
    fields, evidence = {}, {}
    for column in live.cells.select(pl.all().str.strip_chars()).iter_columns():
        fields[column.name], evidence[column.name] = of_column(column, writing, column.name in keys, thorough=True)
    written = [fields[name].date_form for name in fields if fields[name].kind == "date"]
    form = Counter(form_of for form_of in written if form_of).most_common(1)
    if form and None not in written:  # a field of dates in several forms would take on the file's
        writing = Notation(writing.decimal_mark, writing.thousands_mark, form[0][0])
        fields = {name: _without_form(field, form[0][0]) for name, field in fields.items()}
    related = relations(live.cells, fields, writing)
    name = plain_heading(live.fields, NAME_HEADINGS)
    _of_the_whole(live, keys, related.relations, name, fields, evidence)
    seen = limits(live.cells, fields, related.relations, writing)
    roles, shown_by = related.relations, dict(related.evidence)
    for limit in seen:
        if not limit.weak and limit.field is None:
            roles = msgspec.structs.replace(roles, **{limit.setting: limit.value})
            shown_by[limit.setting] = limit.figures
    layout = {name: getattr(live.layout, name) for name in live.layout.__struct_fields__ if name != "packing"}
    store = Store(
        file=FileForm(**layout, continued=list(live.continued.fields) if live.continued else []),
        writing=writing,
        key=Key(keys, name),
        fields=fields,
        relations=roles,
    )
    return Learned(store, evidence, shown_by, key_fields.evidence, tuple(limit for limit in seen if limit.weak))


PARENT = re.compile(r"parent|master|group|related|variant|belongs|upsell|cross|similar|eltern|zubeh", re.IGNORECASE)
"""What headings have in them of whole numbers that name other items."""


def _of_the_whole(
    live: Catalogue,
    keys: Sequence[str],
    related: Relations,
    name: str | None,
    fields: dict[str, Field],
    evidence: dict[str, str],
) -> None:
    """What columns show beside others: links to other items, check digits, what moves, what is never blank with reason.
    The settings and the evidence are added to.
    """

    def add(field: str, seen: str, **settings: object) -> None:
        fields[field] = msgspec.structs.replace(fields[field], **settings)
        evidence[field] += f"; {seen}"

    own = live.column(keys[0]).str.strip_chars()
    for field in [field_name for field_name in live.fields if field_name not in keys]:
        settings = fields[field]
        texts = live.column(field).str.strip_chars() if settings.kind in {"code", "list", "integer"} else None
        if texts is None:
            continue
        seen = None
        if len(keys) == 1 and (settings.kind != "integer" or PARENT.search(field)):
            seen = links(texts, own, settings.separator)
        if seen is not None:
            kind = Field(kind="code", required=settings.required) if settings.kind == "integer" else settings
            fields[field] = kind
            add(field, seen, refers=True)
        digit = check_digit(field, texts) if settings.kind == "code" and seen is None else None
        if digit is not None:
            add(field, digit[1], check_digit=digit[0])
    if related.stock is not None:
        add(related.stock, "it is sold while you edit", moving=True)
    reasons = {related.price: "the price", name: "what a person knows it by"} | dict.fromkeys(keys, "the key")
    for field, settings in list(fields.items()):
        if settings.required and field not in reasons:
            fields[field] = msgspec.structs.replace(settings, required=False)
        elif settings.required and evidence[field] != "the key":
            evidence[field] += f"; {reasons[field]}, and never blank"


def learn_sample(live: Catalogue, key: Sequence[str], names: Iterable[str]) -> Store:
    """What a sample of live's cells shows of these fields, for want of a store file; only what is safe to act on.

    A kind by which cells may be equal whose texts differ must hold for every cell of live.
    """
    sample = live.sample(list(names), SAMPLE).select(pl.all().str.strip_chars()).rechunk()
    writing = writing_of(sample.iter_columns())
    fields = {}
    for column in sample.iter_columns():
        field, _ = of_column(column, writing, column.name in key, thorough=False)
        if sample.height < live.height and field.kind in {*NUMBER_KINDS, "date", "flag"}:
            field = _of_all(live.column(column.name), field, writing)
        if field.kind != "text":
            fields[column.name] = field
    return Store(file=FileForm(), writing=writing, key=Key(list(key)), fields=fields)


def _of_all(column: pl.Series, field: Field, writing: Notation) -> Field:
    """What a sample showed of a column, if all of its cells show it; text, if one does not."""
    if field.kind in NUMBER_KINDS:
        others = column.filter(~column.str.contains(same_notation(field, writing)))
        return field if (others.str.strip_chars() == "").all() else Field()
    kind, texts = KINDS[field.kind], column.unique().str.strip_chars()
    texts = texts.filter(texts != "")
    return (
        Field()
        if kind.copy(texts, field, writing).has_nulls() or kind.read(texts, field, writing).has_nulls()
        else field
    )


def known_store(live: Catalogue, store: Store | None, key: Sequence[str], names: Iterable[str]) -> Store:
    """What is known of the store: from its file, with what it leaves out of how live writes values; or at a glance at
    these fields.
    """
    if store is None:
        return learn_sample(live, key, names)
    return with_currencies(with_writing(store, live), live)


def with_writing(store: Store, live: Catalogue) -> Store:
    """The store with live's way of writing numbers, as a sample shows it, where the store file does not say it."""
    number_fields = [name for name in live.fields if store.fields.get(name, Field()).kind in NUMBERS]
    if store.writing.decimal_mark is not None or not number_fields:
        return store
    sample = live.sample(number_fields, SAMPLE)
    writing = writing_of(
        sample.iter_columns(), msgspec.structs.replace(store.writing, decimal_mark=".", thousands_mark="")
    )
    return msgspec.structs.replace(store, writing=writing)


def with_currencies(store: Store, live: Catalogue) -> Store:
    """The store with the currency that all of live's amounts in a field bear, where the store file does not say it."""
    open_fields = [
        name
        for name in live.fields
        if (field := store.fields.get(name, Field())).kind == "money" and field.currency is None
    ]
    currencies = {}
    for name in having_currency(live.head(open_fields, GLANCED)):
        currency = currency_of(live.column(name))
        if currency:
            currencies[name] = msgspec.structs.replace(store.fields[name], currency=currency)
    return msgspec.structs.replace(store, fields=store.fields | currencies) if currencies else store


def _without_form(field: Field, form: str) -> Field:
    return Field(kind="date", required=field.required, unique=field.unique) if field.date_form == form else field
