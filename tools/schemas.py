"""Writes the JSON Schemas in `docs/`: of our TOML files for editors, and of what every command prints with `--json`.
`python -m tools.schemas` writes them anew.
"""

from __future__ import annotations

import json
from inspect import cleandoc
from pathlib import Path
from typing import Any

import msgspec

from neat_delta.app.outputs import OUTPUTS
from neat_delta.app.rounds.file import round_file_schema
from neat_delta.files import mappingfile, rulesfile, schemas

__all__ = ["documents"]

FOLDER = Path(__file__).parents[1] / "docs"


def documents() -> dict[str, str]:
    """The schemas by their paths within `docs/`.

    >>> '"title": "neat-delta write --json"' in documents()["json/write.schema.json"]
    True
    """
    made: dict[str, Any] = {
        "store-file.schema.json": schemas.schema(),
        "mapping-file.schema.json": mappingfile.mapping_schema(),
        "rules-file.schema.json": rulesfile.rules_schema(),
        "round-file.schema.json": round_file_schema(),
    }
    made |= {f"json/{name}.schema.json": _of_output(name) for name in OUTPUTS}
    return {path: json.dumps(document, indent=2, ensure_ascii=False) + "\n" for path, document in made.items()}


def _of_output(name: str) -> dict[str, Any]:
    """The JSON Schema (draft 2020-12) of what a command prints: names that it does not have may come in later."""
    definition = msgspec.json.schema(OUTPUTS[name])
    for part in definition["$defs"].values():
        if "description" in part:
            part["description"] = cleandoc(part["description"])
        part.pop("additionalProperties", None) if part.get("additionalProperties") is False else None
        for key, value in part.get("properties", {}).items():
            part["properties"][key] = _plain(value)
    call = name.replace("-explain", " --explain SKU").replace("-try", " --try N")
    return {
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        "title": f"neat-delta {call} --json",
        **definition,
    }


def _plain(value: Any) -> Any:  # noqa: ANN401 - any part of a schema
    """A part of a schema, the same from every version of msgspec: without the names that a table may have."""
    if isinstance(value, dict):
        return {key: _plain(part) for key, part in value.items() if key != "propertyNames"}
    return [_plain(part) for part in value] if isinstance(value, list) else value


def main() -> None:
    """Write them."""
    (FOLDER / "json").mkdir(exist_ok=True)
    for path, text in documents().items():
        (FOLDER / path).write_text(text, "utf-8")


if __name__ == "__main__":
    main()
