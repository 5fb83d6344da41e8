"""Patches of a catalogue as one JSON document, `{"QA-1": {"price": "19.90", …}, …}`, a level for each key field: JSON
Merge Patch (RFC 7396) and JSON Patch (RFC 6902). A field that is blank is no member of its item.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import Any

import msgspec
import polars as pl

from neat_delta.core.base.model.importer import NEW_CODE
from neat_delta.files.writers.forms.base import UpdateFormat, UpdateLayout, of_rows
from neat_delta.files.writers.forms.objects import any_text

__all__ = ["JSON_PATCH", "MERGE_PATCH"]


def _items(cells: pl.DataFrame, key: Sequence[str]) -> Iterator[tuple[list[str], dict[str, str | None]]]:
    """Each row's key, and its fields: null for one that is emptied."""
    for row in cells.iter_rows(named=True):
        fields = {name: text or None for name, text in row.items() if name not in key and text is not None}
        yield [row[name] for name in key], fields


def _write_merge(cells: pl.DataFrame, shape: UpdateLayout) -> bytes:
    document: dict[str, Any] = {}
    for keys, fields in _items(cells, shape.key):
        inner = document
        for part in keys[:-1]:
            inner = inner.setdefault(part, {})
        new = {name: text for name, text in fields.items() if text is not None}
        inner[keys[-1]] = None if shape.action == "remove" else new if shape.action == "add" else fields
    return msgspec.json.format(msgspec.json.encode(document), indent=1) + b"\n"


def _read_merge(path: Path, shape: UpdateLayout) -> pl.DataFrame:
    def rows(inner: dict[str, Any], keys: list[str]) -> Iterator[dict[str, str | None]]:
        for part, value in inner.items():
            if len(keys) + 1 < len(shape.key):
                yield from rows(value, [*keys, part])
            else:
                named: dict[str, str | None] = dict(zip(shape.key, [*keys, part], strict=True))
                yield named | {name: text or "" for name, text in (value or {}).items()}

    return of_rows(list(rows(msgspec.json.decode(path.read_bytes()), [])))


def _pointer(parts: Sequence[str]) -> str:
    """A JSON Pointer (RFC 6901)."""
    return "".join("/" + part.replace("~", "~0").replace("/", "~1") for part in parts)


def _parts(pointer: str) -> list[str]:
    return [part.replace("~1", "/").replace("~0", "~") for part in pointer.split("/")[1:]]


def _write_patch(cells: pl.DataFrame, shape: UpdateLayout) -> bytes:
    steps: list[dict[str, Any]] = []
    for keys, fields in _items(cells, shape.key):
        if shape.action == "recode":
            steps.append({"op": "move", "from": _pointer(keys), "path": _pointer([fields.get(NEW_CODE) or ""])})
        elif shape.action == "remove":
            steps.append({"op": "remove", "path": _pointer(keys)})
        elif shape.action == "add":
            steps.append(
                {"op": "add", "path": _pointer(keys), "value": {n: t for n, t in fields.items() if t is not None}}
            )
        for name, text in fields.items() if shape.action == "change" else ():
            path = _pointer([*keys, name])
            steps.append({"op": "remove", "path": path} if text is None else {"op": "add", "path": path, "value": text})
    return b"[\n" + b",\n".join(map(msgspec.json.encode, steps)) + b"\n]\n"


def _read_patch(path: Path, shape: UpdateLayout) -> pl.DataFrame:
    rows: dict[tuple[str, ...], dict[str, str | None]] = {}
    for step in msgspec.json.decode(path.read_bytes()):
        if step["op"] == "move":
            old, new = (tuple(_parts(step[end])) for end in ("from", "path"))
            rows[old] = {shape.key[0]: old[0], NEW_CODE: new[0]}
            continue
        parts = _parts(step["path"])
        keys = tuple(parts[: len(shape.key)])
        row = rows.setdefault(keys, dict(zip(shape.key, keys, strict=True)))
        if len(parts) > len(keys):
            row[parts[-1]] = step.get("value", "")
        else:
            row.update(step.get("value", {}))
    return of_rows(list(rows.values()))


MERGE_PATCH = UpdateFormat(lambda _: ".json", _write_merge, _read_merge, any_text)
JSON_PATCH = UpdateFormat(lambda _: ".json", _write_patch, _read_patch, any_text)
