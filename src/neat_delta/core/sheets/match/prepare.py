"""Preparing: a file's headings become fields, and an item that goes on over several lines one row, before anything is
looked at. Every command prepares what it reads here, and nowhere else.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING

import msgspec
import polars as pl

from neat_delta.core.base.infer.key import find_key
from neat_delta.core.base.model.catalogue import Catalogue, listed, renamed
from neat_delta.core.base.model.columns import ColumnMatch, ColumnOptions
from neat_delta.core.base.model.importer import NEW_CODE
from neat_delta.core.base.model.store import Continued, Field, Key, Store, continued
from neat_delta.core.base.support.errors import CatalogueError
from neat_delta.core.sheets.match.columns import match_columns
from neat_delta.core.sheets.match.continuation import merge_lines
from neat_delta.core.sheets.match.keys import KeyIndex

if TYPE_CHECKING:
    from neat_delta.core.base.model.header import Header

__all__ = [
    "ANY_COLUMNS",
    "AlignedInputs",
    "Prepared",
    "align_inputs",
    "prepare",
    "prepare_columns",
    "prepare_export",
    "unseen_fields",
    "with_unseen",
]


@dataclass(frozen=True, slots=True)
class Prepared:
    """A catalogue under the names of its fields, one row an item; what its items are known by; and of the fields that
    have a name of their own, what the file calls them.
    """

    catalogue: Catalogue
    key: Key
    headings: dict[str, str]

    @property
    def index(self) -> KeyIndex:
        """The keys of its rows."""
        return KeyIndex.of(self.catalogue, self.key)


def prepare(
    catalogue: Catalogue, store: Store | None = None, key: Sequence[str] = (), unseen: Sequence[str] = ()
) -> Prepared:
    """Prepare an export of the store: `key` names the key fields (default: the store file's, or the heading that is
    plainly the SKU); `unseen` are fields of which the store's values are not known where the export lacks them.

    CatalogueError when a name would stand twice, there is no key, or a line continues what may not be continued.
    """
    shop = store or Store()
    headings = {name: field.heading for name, field in shop.fields.items() if field.heading not in (None, name)}
    headings = {name: str(heading) for name, heading in headings.items() if heading in catalogue.fields}
    named = renamed(catalogue, {heading: name for name, heading in headings.items()})
    fields = find_key(named, key or shop.key.fields)
    named = with_unseen(named, unseen)
    return Prepared(
        merge_lines(named, fields, continued(shop)), msgspec.structs.replace(shop.key, fields=fields), headings
    )


def unseen_fields(store: Store | None, added: Sequence[str] = ()) -> list[str]:
    """The fields that the store has though an export may lack them: as its file says, and as is said besides.

    >>> unseen_fields(None, ["sale_price"])
    ['sale_price']
    """
    fields = store.fields.items() if store else ()
    return list(dict.fromkeys([*(name for name, field in fields if field.unseen), *added]))


def with_unseen(catalogue: Catalogue, names: Sequence[str]) -> Catalogue:
    """The catalogue with those of these fields that it lacks: blank, and known not to be known."""
    lacking = tuple(name for name in names if name not in catalogue.fields)
    if not lacking:
        return catalogue
    return replace(catalogue, table=catalogue.cells.with_columns(pl.lit("").alias(n) for n in lacking), unseen=lacking)


def prepare_export(catalogue: Catalogue, header: Header, store: Store | None = None) -> Catalogue:
    """Prepare another export of the catalogue that a change set was made of, as that was: under the same names (and
    those of the `store` file, where it says more), its lines merged in the same way.
    """
    shop = header.store_by_now(store)
    headings = header.headings | {
        name: field.heading for name, field in shop.fields.items() if field.heading is not None
    }
    return prepare_columns(catalogue, headings, header.key, continued(shop) or header.live.continued)


def prepare_columns(
    catalogue: Catalogue, headings: Mapping[str, str], key: Sequence[str], lines: Continued | None
) -> Catalogue:
    """A catalogue with those of its columns renamed that `headings` has (field: heading), and its lines merged."""
    wanted = {heading: name for name, heading in headings.items() if heading in catalogue.fields and heading != name}
    return merge_lines(renamed(catalogue, wanted), key, lines)


@dataclass(frozen=True, slots=True)
class AlignedInputs:
    """Two catalogues side by side under the names of live's fields: what is compared.

    `columns` are the sheet's headings; `key` is what items are known by; `store` what the store file says, if there is
    one; `headings` what live calls the fields that have a name of their own; `of_a_list` whether the sheet is a list
    with a mapping of its own, not cut from live.
    """

    live: Catalogue
    sheet: Catalogue
    columns: list[ColumnMatch]
    key: Key
    store: Store | None
    headings: dict[str, str]
    of_a_list: bool = False


ANY_COLUMNS = ColumnOptions()


def align_inputs(
    live: Catalogue,
    sheet: Catalogue,
    *,
    store: Store | None = None,
    columns: ColumnOptions = ANY_COLUMNS,
    listed_codes: bool = False,
) -> AlignedInputs:
    """Align a sheet with live: match its columns, find the key, merge what goes on over several lines. A heading for
    new codes stands for `NEW_CODE`; a sheet that only is a list of codes may call the key the old code.

    Raises CatalogueError when a name in `columns` is none, two headings mean one field, or the sheet lacks the key.
    """
    if sheet.provenance is not None:
        return _aligned_already(live, sheet, store, columns)
    shop = store or Store()
    prepared = prepare(live, store, columns.key, unseen_fields(store, columns.added))
    live, keys = prepared.catalogue, prepared.key.fields
    matches = match_columns(
        sheet.fields,
        [*live.fields, *({NEW_CODE} - set(live.fields))],
        field_settings=_with_codes(shop.fields, keys[0] if listed_codes else None),
        mapping=columns.mapping,
        only=columns.only,
        key=keys,
        path=sheet.path,
        places=[place for place in range(1, len(sheet.fields) + len(sheet.unnamed) + 1) if place not in sheet.unnamed],
    )
    taken = {match.heading: match.field for match in matches if match.field is not None}
    for name in keys:
        if name not in taken.values():
            raise CatalogueError(
                f'{sheet.path}: no heading stands for "{name}", which is the key in {live.path}. '
                f"Say which one does with ‹map›. It has: {listed(sheet.fields)}."
            )
    lines = continued(shop)
    # A field that nobody asked for may be what goes on over several lines.
    left_out = {match.heading: match.nearest for match in matches if match.how in {"ignored", "not asked for"}}
    more = {heading: name for heading, name in left_out.items() if lines and name in lines.fields}
    sheet = sheet.narrowed([*taken, *more])
    names = {str(field): heading for heading, field in (taken | more).items()}
    sheet = prepare_columns(sheet, names, keys, lines)
    sheet = sheet.narrowed(list(taken.values()))
    return AlignedInputs(live, sheet, matches, prepared.key, store, prepared.headings)


def _aligned_already(live: Catalogue, sheet: Catalogue, store: Store | None, columns: ColumnOptions) -> AlignedInputs:
    """A sheet that was made under the names of live's fields."""
    prepared = prepare(live, store, columns.key, unseen_fields(store, columns.added))
    columns_of_list = sheet.provenance.columns if sheet.provenance else None
    same = [ColumnMatch(name, name, "same name", column=n) for n, name in enumerate(sheet.fields, 1)]
    named = list(columns_of_list) if columns_of_list is not None else same
    return AlignedInputs(
        prepared.catalogue, sheet, named, prepared.key, store, prepared.headings, of_a_list=columns_of_list is not None
    )


def _with_codes(fields: Mapping[str, Field], old: str | None) -> dict[str, Field]:
    """The fields, and what a sheet may call new codes; and old ones, where that is the field `old`."""
    named = {**fields, NEW_CODE: Field(also=["new sku", "new item number", "new item code", "new article number"])}
    if old is not None:
        field = named.get(old, Field())
        named[old] = msgspec.structs.replace(
            field, also=[*field.also, "old code", "old sku", "old item number", "code"]
        )
    return named
