"""What our TOML files may say, as JSON Schemas for editors; and a store's fields as an open Table Schema."""

from __future__ import annotations

from inspect import cleandoc
from typing import Any, get_args

import msgspec

from neat_delta.core.base.model.store import CheckName, Store

__all__ = ["schema", "schema_of", "table_schema"]


def schema() -> dict[str, Any]:
    """The store file's JSON Schema (draft 2020-12), for editors."""
    document = schema_of(Store, "store file")
    document["$defs"]["Store"]["properties"]["checks"]["propertyNames"] = {"enum": sorted(get_args(CheckName))}
    return document


def schema_of(kind: type[msgspec.Struct], what: str) -> dict[str, Any]:
    """The JSON Schema (draft 2020-12) of a TOML file of ours, for editors: the same from every version of msgspec, of
    which some indent descriptions, and some say which names a table may have.
    """
    definition = msgspec.json.schema(kind)
    for definition_part in definition["$defs"].values():
        if "description" in definition_part:
            definition_part["description"] = cleandoc(definition_part["description"])
        for name, setting in definition_part.get("properties", {}).items():  # in TOML an exact decimal is a number
            definition_part["properties"][name] = _as_numbers(
                {key: it for key, it in setting.items() if key != "propertyNames"}
            )
    return {
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        "title": f"Neat Delta {what}",
        **definition,
    }


def _as_numbers(setting: dict[str, Any]) -> dict[str, Any]:
    """A setting's schema with its exact decimals as numbers, the default among them."""
    if setting.get("format") == "decimal":
        plain = {name: value for name, value in setting.items() if name != "format"}
        return plain | {"type": "number"} | ({"default": int(plain["default"])} if "default" in plain else {})
    return setting | ({"anyOf": [_as_numbers(part) for part in setting["anyOf"]]} if "anyOf" in setting else {})


# The types of the open Table Schema (Data Package) for our kinds; the rest are strings.
TABLE_TYPES = {"integer": "integer", "decimal": "number", "money": "number", "flag": "boolean", "date": "date"}


def table_schema(store: Store) -> dict[str, Any]:
    """An open Table Schema (Data Package standard) for the store's files."""
    fields = []
    for name, field in store.fields.items():
        kind = TABLE_TYPES.get(field.kind, "string")
        column: dict[str, Any] = {"name": field.heading or name, "type": kind}
        form = field.date_form or store.writing.date_form
        if kind == "date":
            column |= {"type": "datetime" if form and "hh" in form else "date", "format": _strftime(form)}
        if kind in {"number", "integer"}:
            column |= {"bareNumber": False} if field.kind == "money" else {}
            column |= {"decimalChar": store.writing.decimal_mark} if store.writing.decimal_mark == "," else {}
            column |= {"groupChar": store.writing.thousands_mark} if store.writing.thousands_mark else {}
        if kind == "boolean":
            column |= {"trueValues": list(field.yes or ["true"]), "falseValues": list(field.no or ["false"])}
        if field.kind == "link" and field.separator is None:
            column |= {"format": "uri"}
        limits = {"required": field.required, "unique": field.unique, "enum": field.values}
        limits |= {"minimum": field.least, "maximum": field.most, "maxLength": field.longest}
        constraints = {name: value for name, value in limits.items() if value not in (None, False, [])}
        fields.append(column | ({"constraints": constraints} if constraints else {}))
    headings = {name: field.heading or name for name, field in store.fields.items()}
    return {
        "$schema": "https://datapackage.org/profiles/2.0/tableschema.json",
        "fields": fields,
        "primaryKey": [headings.get(name, name) for name in store.key.fields],
        "missingValues": [""],
    }


def _strftime(form: str | None) -> str:
    if form is None or form == "YYYY-MM-DD":
        return "default"
    for word, mark in (("YYYY", "%Y"), ("MM", "%m"), ("DD", "%d"), ("hh", "%H"), ("mm", "%M"), ("ss", "%S")):
        form = form.replace(word, mark)
    return form
