"""The rules file: TOML, read with errors that name line and key (docs/formats/rules.md); and the tables it names."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path
from typing import TYPE_CHECKING, Any

from neat_delta.core.base.model.rules import Rules
from neat_delta.core.base.support.errors import StoreError
from neat_delta.files.schemas import schema_of
from neat_delta.files.sources.address import is_address, without_secret
from neat_delta.files.storefile import described

if TYPE_CHECKING:
    import polars as pl

    from neat_delta.core.base.model.catalogue import Catalogue

__all__ = ["beside", "read_lookups", "read_rules", "read_rules_with_tables", "rules_schema"]


def read_rules(path: str) -> Rules:
    r"""The rules of a file; StoreError with line, key, and the nearest known name where something is wrong.

    >>> from pathlib import Path
    >>> from tempfile import mkdtemp
    >>> path = Path(mkdtemp()) / "spring.toml"
    >>> _ = path.write_text('version = 1\n[[rule]]\nname = "spring"\nset = { price = "ROUND(price * 1.05, 2)" }\n')
    >>> [rule.name for rule in read_rules(str(path)).rule]
    ['spring']
    """
    rules = described(path, Rules, "rules")
    if not rules.rule:
        raise StoreError(f"{path}: it has no rule. Write [[rule]], with a name and what it is to set.")
    return rules


def read_lookups(rules: Rules, path: str, like: Catalogue) -> Mapping[str, pl.DataFrame]:
    """The tables that rules look up in, each read from its file, which is named from the rules file's folder."""
    from neat_delta.files.reading import read

    places = {name: beside(lookup.file, path) or lookup.file for name, lookup in rules.table.items()}
    return {name: read(place, like=like).cells for name, place in places.items()}


def read_rules_with_tables(path: str | None, like: Catalogue) -> tuple[Rules | None, Mapping[str, pl.DataFrame]]:
    """The rules of a file, and the tables that it names; without a file there are none."""
    if path is None:
        return None, {}
    rules = read_rules(path)
    return rules, read_lookups(rules, path, like)


def beside(path: str | None, other: str | None) -> str | None:
    """A path that another file names, from that file's folder; an address is one as it stands, and FileError where it
    carries a password.

    >>> beside("retail.toml", "lists/windmere.toml")
    'lists/retail.toml'
    """
    if path is not None and is_address(path):
        return without_secret(path, other or "the mapping")
    return None if path is None else str(Path(other or "").parent / path)


def rules_schema() -> dict[str, Any]:
    """The rules file's JSON Schema (draft 2020-12), for editors.

    >>> rules_schema()["title"]
    'Neat Delta rules file'
    """
    schema = schema_of(Rules, "rules file")
    value = schema["$defs"]["Rules"]["properties"]["let"]["additionalProperties"]
    value["anyOf"] = [{"type": "string"}, {"type": "number"}]
    return schema
