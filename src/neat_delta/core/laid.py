"""Laying a sheet beside live, before anything is compared: which heading is which field, and which the key."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass, replace

import msgspec

from neat_delta.core.catalogue import Catalogue, listed, renamed
from neat_delta.core.errors import CatalogueError
from neat_delta.core.fold import fold
from neat_delta.core.headings import Pair, Pairing, pair
from neat_delta.core.importer import NEW_CODE
from neat_delta.core.match import find_key
from neat_delta.core.store import Field, Key, Store, continued

__all__ = ["Laid", "as_fields", "lay"]


@dataclass(frozen=True, slots=True)
class Laid:
    """Two catalogues side by side under the names of live's fields: what is compared.

    `pairs` are the sheet's headings; `key` is what items are known by; `store` what the store file says, if there is
    one; `headings` what live calls the fields that have a name of their own; `of_a_list` whether the sheet is a list
    with a mapping of its own, not cut from live.
    """

    live: Catalogue
    sheet: Catalogue
    pairs: list[Pair]
    key: Key
    store: Store | None
    headings: dict[str, str]
    of_a_list: bool = False


def as_fields(live: Catalogue, store: Store) -> Catalogue:
    """Live under the names that the store file gives its fields. CatalogueError when a field that it names is not
    there.
    """
    known = {name: field.heading for name, field in store.fields.items() if field.heading is not None}
    wanted = {heading: name for name, heading in known.items() if heading in live.fields}
    return renamed(live, {heading: name for heading, name in wanted.items() if heading != name})


def lay(
    live: Catalogue,
    sheet: Catalogue,
    *,
    store: Store | None = None,
    key: Sequence[str] = (),
    told: Pairing | None = None,
    saved: Pairing | None = None,
    only: Collection[str] = (),
    listed_codes: bool = False,
) -> Laid:
    """Lay the sheet beside live: pair the headings, find the key, fold what goes on over several lines. A heading for
    new codes stands for `NEW_CODE`; a sheet that only is a list of codes may call the key the old code.

    Raises CatalogueError when a name that was told is none, two headings mean one field, or the sheet lacks the key.
    """
    known = store or Store()
    headings = live.fields
    live = as_fields(live, known)
    names = {name: heading for heading, name in zip(headings, live.fields, strict=True) if heading != name}
    keys = find_key(live, key or (saved.key if saved else []) or known.key.fields)
    pairs = pair(
        sheet.fields,
        [*live.fields, *({NEW_CODE} - set(live.fields))],
        known=_with_codes(known.fields, keys[0] if listed_codes else None),
        told=told,
        saved=saved,
        only=only,
        key=keys,
        path=sheet.path,
        places=[place for place in range(1, len(sheet.fields) + len(sheet.unnamed) + 1) if place not in sheet.unnamed],
    )
    taken = {one.heading: one.field for one in pairs if one.field is not None}
    for name in keys:
        if name not in taken.values():
            raise CatalogueError(
                f'{sheet.path}: no heading stands for "{name}", which is the key in {live.path}. '
                f"Say which one does with --map. It has: {listed(sheet.fields)}."
            )
    live = fold(live, keys, continued(known))
    sheet = replace(sheet, cells=sheet.cells.select(list(taken)))
    sheet = renamed(sheet, {heading: name for heading, name in taken.items() if heading != name})
    return Laid(
        live,
        fold(sheet, keys, continued(known)),
        pairs,
        msgspec.structs.replace(known.key, fields=keys),
        store,
        names,
        saved is not None,
    )


def _with_codes(fields: Mapping[str, Field], old: str | None) -> dict[str, Field]:
    """The fields, and what a sheet may call new codes; and old ones, where that is the field `old`."""
    known = {**fields, NEW_CODE: Field(also=["new sku", "new item number", "new item code", "new article number"])}
    if old is not None:
        one = known.get(old, Field())
        known[old] = msgspec.structs.replace(one, also=[*one.also, "old code", "old sku", "old item number", "code"])
    return known
