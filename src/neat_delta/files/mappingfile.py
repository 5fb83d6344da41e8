"""The mapping file: the description of one supplier's list, as TOML (docs/formats/mapping.md)."""

from __future__ import annotations

import os
from collections.abc import Sequence
from pathlib import Path
from typing import Any

from neat_delta.core.base.model.catalogue import listed
from neat_delta.core.base.model.lists import ListMapping
from neat_delta.core.base.support.nearest import did_you_mean
from neat_delta.files.schemas import schema_of
from neat_delta.files.storefile import described, error_at
from neat_delta.files.whole import AnyPath, read_whole

__all__ = ["mapping_schema", "mapping_text", "must_name_fields", "read_mapping"]


def read_mapping(path: AnyPath) -> ListMapping:
    r"""What a mapping file says of a list; StoreError with line, key, and the nearest known name where something is
    wrong.

    >>> from pathlib import Path
    >>> from tempfile import mkdtemp
    >>> path = Path(mkdtemp()) / "windmere.toml"
    >>> _ = path.write_text("version = 1\n[headings]\nTrade = \"cost\"\n")
    >>> read_mapping(str(path)).headings
    {'Trade': 'cost'}
    """
    path = os.fspath(path)
    return described(path, ListMapping, "mapping")


def must_name_fields(mapping: ListMapping, path: str, fields: Sequence[str]) -> None:
    r"""StoreError, with line and the nearest name, where the mapping file at `path` names a field that is none of
    these.

    >>> from pathlib import Path
    >>> from tempfile import mkdtemp
    >>> path = Path(mkdtemp()) / "windmere.toml"
    >>> _ = path.write_text('version = 1\n[headings]\nTrade = "cst"\n')
    >>> from neat_delta import StoreError
    >>> try:
    ...     must_name_fields(read_mapping(str(path)), str(path), ["sku", "cost"])
    ... except StoreError as error:
    ...     print(str(error).partition(", ")[2])
    line 3, headings.Trade: there is no field "cst". Did you mean "cost"?
    """
    named: list[tuple[tuple[str, ...], str]] = [(("match_by",), name) for name in mapping.match_by]
    named += [(("whole_within",), name) for name in mapping.whole_within]
    named += [(("with_new_values",), name) for name in mapping.with_new_values]
    named += [(("headings", heading), name) for heading, name in mapping.headings.items()]
    for table in ("constants", "words", "fields"):
        named += [((table, name), name) for name in getattr(mapping, table)]
    if mapping.spread is not None:
        named += [(("spread", "columns", word), name) for word, name in mapping.spread.columns.items()]
    if mapping.stack is not None:
        named += [(("stack", part), str(getattr(mapping.stack, part))) for part in ("by", "value")]
    for where, name in named:
        if name not in fields:
            hint = did_you_mean(name, fields, f"There are: {listed(fields)}.")
            raise error_at(path, where, f'there is no field "{name}".{hint}')


def mapping_text(mapping: ListMapping, sheet: str, live: str, known: str | None = None) -> str:
    """The text of a drafted mapping file: the headings, what is left out, what rows are matched by; and, as comments,
    what else can be said. Of a mapping file that is `known` all else stays as it stands there.
    """
    import tomlkit

    if known is not None:
        known_document = tomlkit.parse(read_whole(known).decode("utf-8-sig"))
        for setting in ("match_by", "ignore", "headings"):
            if known_document.get(setting) != getattr(mapping, setting):
                known_document[setting] = getattr(mapping, setting)
        return tomlkit.dumps(known_document)
    document = tomlkit.document()
    for line in (
        f"What the list {_name(sheet)} means for {_name(live)}, for `compare --mapping`.",
        "From now on this file is yours. A heading that it does not name is said, and not taken.",
    ):
        document.add(tomlkit.comment(line))
    document["version"] = mapping.version
    document["match_by"] = mapping.match_by
    document["match_by"].comment("the fields by which its rows find their items")
    document["ignore"] = mapping.ignore
    document["headings"] = mapping.headings
    for line in HINTS:
        document.add(tomlkit.comment(line))
    return tomlkit.dumps(document)


HINTS = (
    "[constants]           # fields that the list lacks, the same in every row",
    'maker = "Gustwell"',
    "[words.status]        # its words, and the store's for them",
    '"discontinued" = "hidden"',
    "[fields.cost]         # its unit: prices per 100, another currency",
    "per = 100",
)
"""What else a mapping file says most often."""


def _name(path: str) -> str:
    return "standard input" if path == "-" else Path(path).name


def mapping_schema() -> dict[str, Any]:
    """The mapping file's JSON Schema (draft 2020-12), for editors.

    >>> mapping_schema()["title"]
    'Neat Delta mapping file'
    """
    schema = schema_of(ListMapping, "mapping file")
    for definition in schema["$defs"].values():
        for definition_part in definition.get("properties", {}).values():
            if {"integer", "string"} <= {part.get("type") for part in definition_part.get("anyOf", [])}:
                kept = [part for part in definition_part["anyOf"] if part.get("type") not in {"integer", "string"}]
                definition_part["anyOf"] = [{"type": "number"}, {"type": "string"}, *kept]
    return schema
