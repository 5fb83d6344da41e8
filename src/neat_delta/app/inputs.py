"""What a comparison is given, each thing as what it is: catalogues read, a list's description, what is asked for, and
what files say where that leaves something open.
"""

from __future__ import annotations

import os
from collections.abc import Collection, Mapping
from dataclasses import dataclass
from typing import TYPE_CHECKING

import msgspec

from neat_delta.app.requests import CompareRequest, with_defaults
from neat_delta.app.settings import settings_of
from neat_delta.app.sources import Table, catalogue_of, export_of, store_of
from neat_delta.core.base.model.importer import NEW_CODE
from neat_delta.core.base.model.lists import ListMapping
from neat_delta.core.base.model.rules import Rules
from neat_delta.files.basefile import read_base, with_base_file
from neat_delta.files.glance import files_read_later
from neat_delta.files.whole import AnyPath

if TYPE_CHECKING:
    import polars as pl

    from neat_delta.core.base.model.catalogue import Catalogue
    from neat_delta.core.base.model.store import Store
    from neat_delta.core.compare.lists.translate import TranslatedList

__all__ = ["Inputs", "as_compare", "read_inputs", "rules_of", "translated"]


@dataclass(frozen=True, slots=True)
class Inputs:
    """The catalogues as they were read, with the `base` if one was given; what is known of the store; what is said of
    the sheet if it is a list, and the file that says it; what is asked for, with what files say besides.
    """

    live: Catalogue
    sheet: Catalogue
    store: Store | None
    described: ListMapping | None
    mapping_path: str | None
    asked: CompareRequest
    base: Catalogue | None = None


def read_inputs(
    live: Table,
    sheet: Table,
    asked: CompareRequest,
    *,
    store: Store | AnyPath | None,
    mapping: ListMapping | AnyPath | None,
    base: Table | None = None,
    of_a_list: bool = False,
) -> Inputs:
    """Read what is given. A sheet is a list where it has a `mapping`, where `asked` says what is only said of one, or
    where it is one anyway (`of_a_list`); one of delimited text has what it remembers in a file beside it. StoreError
    where a mapping file names a field that nothing has.

    >>> live, sheet = {"sku": ["QA-1"]}, {"sku": ["QA-1"]}
    >>> read_inputs(live, sheet, CompareRequest(), store=None, mapping=ListMapping(repair=True)).asked.repair
    True
    """
    known = store_of(store)
    is_list = bool(mapping is not None or of_a_list or asked.match_by or asked.constant or asked.prefer)
    alike = set[str]() if is_list else files_read_later(live, sheet, base)
    before = export_of(live, "live", known, deferred=bool(alike))
    described, path = None, None
    if is_list:
        from neat_delta.files.mappingfile import read_mapping

        path = None if mapping is None or isinstance(mapping, ListMapping) else os.fspath(mapping)
        described_by = mapping if isinstance(mapping, ListMapping) else ListMapping()
        described = _described(described_by if path is None else read_mapping(path), asked)
    layout = described.file if described else None
    edited = catalogue_of(sheet, "sheet", known, layout=layout, like=before, deferred=bool(alike))
    if isinstance(sheet, str | os.PathLike):
        edited = with_base_file(edited, before, needed=base is None)
    fields = _fields(before, known, asked)
    if path is not None and described is not None:
        from neat_delta.files.mappingfile import must_name_fields

        must_name_fields(described, path, list(dict.fromkeys([*fields, *(known.fields if known else ()), NEW_CODE])))
    list_mapping = described or (None if edited.provenance is None else ListMapping())
    settled = with_defaults(asked, list_mapping, known, fields)
    older = _base(base, before, known, alike)
    return Inputs(before, edited, known, described, path, settled, older)


def _base(base: Table | None, live: Catalogue, store: Store | None, alike: Collection[str]) -> Catalogue | None:
    """The older export that a sheet was cut from, if one was given; `alike` are the files written as live is."""
    if isinstance(base, str | os.PathLike):
        return read_base(os.fspath(base), like=live, deferred=os.fspath(base) in alike)
    return None if base is None else catalogue_of(base, "base", store)


def _described(described_by: ListMapping, asked: CompareRequest) -> ListMapping:
    """What is said of a list in its description, and over it now."""
    return msgspec.structs.replace(
        described_by,
        match_by=list(asked.match_by) or described_by.match_by,
        constants=described_by.constants | asked.constant,
        prefer=asked.prefer or described_by.prefer,
    )


def _fields(live: Catalogue, store: Store | None, asked: CompareRequest) -> list[str]:
    """Live's fields by their names in the store file, and those that are said to be there besides."""
    named = {field.heading: name for name, field in store.fields.items() if field.heading} if store else {}
    unseen = [name for name, field in store.fields.items() if field.unseen] if store else []
    fields = [named.get(heading, heading) for heading in live.fields]
    return list(dict.fromkeys([*fields, *unseen, *asked.add_field]))


def translated(
    inputs: Inputs, rules: Rules | AnyPath | None = None, lookups: Mapping[str, pl.DataFrame] | None = None
) -> TranslatedList:
    """A list as a sheet of the store, with what rules make of it: those given, or those that its description names.

    >>> mapping = ListMapping(headings={"Trade": "cost"})
    >>> live, supplied = {"sku": ["QA-1"], "cost": ["5.00"]}, {"sku": ["QA-1"], "Trade": ["5.20"]}
    >>> inputs = read_inputs(live, supplied, CompareRequest(), store=None, mapping=mapping)
    >>> translated(inputs).sheet.cells.rows()
    [('QA-1', '5.20')]
    """
    from neat_delta.core.compare.lists.draft import ListOptions
    from neat_delta.core.compare.lists.translate import translate as translate_list
    from neat_delta.files.rulesfile import beside

    described, options = inputs.described or ListMapping(), inputs.asked.options()
    if rules is None:
        rules = beside(described.rules, inputs.mapping_path)
    book, _, tables = rules_of(rules, inputs.live, lookups)
    list_options = ListOptions(options.columns, options.policy, book, tables, inputs.asked.let, options.writing)
    return translate_list(inputs.live, inputs.sheet, described, inputs.store, options=list_options)


def rules_of(
    rules: Rules | AnyPath | None, live: Catalogue, lookups: Mapping[str, pl.DataFrame] | None = None
) -> tuple[Rules | None, str, Mapping[str, pl.DataFrame]]:
    """Rules as they are given or as a file has them; what they are known by; and the tables that they look up in.

    >>> rules_of(None, catalogue_of({"sku": []}, "live"))
    (None, 'rules', {})
    """
    if rules is None or isinstance(rules, Rules):
        return rules, "rules", lookups or {}
    from neat_delta.files.rulesfile import read_lookups, read_rules

    path = os.fspath(rules)
    book = read_rules(path)
    return book, path, {**read_lookups(book, path, live), **(lookups or {})}


def as_compare(request: msgspec.Struct) -> CompareRequest:
    """What another request says, as a comparison is asked for it.

    >>> from neat_delta.app.requests import RecodeRequest
    >>> as_compare(RecodeRequest(key="sku")).key
    ('sku',)
    """
    names = [name for name in request.__struct_fields__ if name in settings_of(CompareRequest)]
    return CompareRequest(**{name: getattr(request, name) for name in names})
