"""The store file: finding it, reading it with errors that name line and key, and writing a draft
(docs/store-file.md).
"""

from __future__ import annotations

import os
import re
import tomllib
from collections.abc import Callable, Collection, Iterator, Sequence
from decimal import Decimal
from functools import cache
from pathlib import Path
from typing import Annotated, Any, Literal, TypeVar, get_args, get_origin

import msgspec

from neat_delta.core.base.model.conflicts import Conflict, conflicting_settings, unknown_fields
from neat_delta.core.base.model.layout import SEPARATORS
from neat_delta.core.base.model.store import VERSION, Field, Store
from neat_delta.core.base.support.errors import ConditionError, StoreError
from neat_delta.core.base.support.nearest import did_you_mean
from neat_delta.files import malformed
from neat_delta.files.whole import AnyPath, read_whole

__all__ = [
    "NAME",
    "described",
    "error_at",
    "find_store",
    "must_know_fields",
    "read_store",
    "toml_of",
    "wrong_keys",
]

NAME = "neat-delta.toml"
"""A store file of this name is found from any folder below its own."""

Where = tuple[str, ...]


def find_store(path: str | None, live: str | None = None) -> str | None:
    """The store file that was told, or the one of the usual name beside the `live` catalogue, or the nearest one from
    the working folder upward. StoreError where these are two that differ.
    """
    if path:
        return path
    here, nearest = Path.cwd(), None
    for folder in (here, *here.parents):
        if (folder / NAME).is_file():
            nearest = NAME if folder == here else str(folder / NAME)
            break
    beside = None if live in {None, "-"} else Path(str(live)).parent / NAME
    if beside is None or not beside.is_file() or (nearest is not None and beside.samefile(nearest)):
        return nearest
    if nearest is not None and beside.read_bytes() != Path(nearest).read_bytes():
        raise StoreError(
            f"There are two store files that differ: {beside}, beside {live}, and {nearest}. Say with ‹store› which "
            "one it is."
        )
    return str(beside)


def read_store(path: AnyPath) -> Store:
    """The store that a file describes; StoreError with line, key, and the nearest known name where something is
    wrong.

    >>> from importlib.resources import files
    >>> read_store(str(files("neat_delta.demo").joinpath("neat-delta.toml"))).key.fields
    ['sku']
    """
    path = os.fspath(path)
    text, data = toml_of(path)
    version = data.get("version")
    if version != VERSION:
        problem = "it does not say its version" if version is None else f"it is of version {version!r}"
        raise _error(
            path, text, ("version",), f"{problem}, and this Neat Delta reads version {VERSION}. Write: version = 1"
        )
    _named_separators(data)
    for where, what in wrong_keys(data, Store, ()):
        raise _error(path, text, where, what)
    store = msgspec.convert(data, Store)
    for conflict in conflicting_settings(store):
        raise _error(path, text, conflict.where, conflict.what)
    for name, column in store.importer.columns.items():
        if column.expression is not None:
            _must_be_expression(path, text, name, column.expression)
    return store


def error_at(path: str, where: tuple[str, ...], what: str) -> StoreError:
    """An error of a TOML file of ours, with the line of the key."""
    return _error(path, toml_of(path)[0], where, what)


def must_know_fields(store: Store, path: str, fields: Collection[str]) -> None:
    """StoreError, with line and the nearest name, where the store file at `path` names a field that is neither under
    its `fields` nor among these of live.
    """
    unknown = list(unknown_fields(store, fields)) or list(_unknown_in_expressions(store, fields))
    if unknown:
        raise _error(path, toml_of(path)[0], unknown[0].where, unknown[0].what)


def _unknown_in_expressions(store: Store, fields: Collection[str]) -> Iterator[Conflict]:
    """What the expressions of columns read that is no field."""
    computed = {name: column.expression for name, column in store.importer.columns.items() if column.expression}
    if not computed:  # the parser of expressions takes longer to load than all else of a store file
        return
    from neat_delta.core.base.query.expressions import fields_read

    known = {field_name.casefold(): field_name for field_name in (*store.fields, *fields)}
    for name, expression in computed.items():
        for field_read in fields_read(expression):
            if field_read.casefold() not in known:
                hint = did_you_mean(field_read, list(known.values()))
                yield Conflict(
                    ("importer", "columns", name), f'its expression reads "{field_read}", which is no field.{hint}'
                )


def _must_be_expression(path: str, text: str, name: str, expression: str) -> None:
    """StoreError, with its line, where a column's expression means nothing."""
    from neat_delta.core.base.query.expressions import expression as parsed  # and the parser of expressions

    try:
        parsed(expression)
    except ConditionError as error:
        raise _error(path, text, ("importer", "columns", name), f"its expression means nothing: {error}") from None


Described = TypeVar("Described", bound=msgspec.Struct)


def described(path: str, kind: type[Described], what: str) -> Described:
    r"""A TOML file of ours other than the store file, as a value of its type (`what` names it in messages: "rules",
    "mapping"). StoreError with line, key, and the nearest known name where something is wrong.

    >>> from pathlib import Path
    >>> from tempfile import mkdtemp
    >>> from neat_delta.core.base.model.rules import Rules
    >>> path = Path(mkdtemp()) / "rules.toml"
    >>> _ = path.write_text("version = 1\n")
    >>> described(str(path), Rules, "rules").version
    1
    """
    text, data = toml_of(path, str)  # a number with a point is what its digits say
    for where, problem in wrong_keys(data, kind, ()):
        raise _error(path, text, where, problem)
    if data.get("version") != VERSION:
        raise _error(
            path, text, ("version",), f"this Neat Delta reads {what} files of version {VERSION}. Write: version = 1"
        )
    return msgspec.convert(data, kind)


def toml_of(path: str, number: Callable[[str], Any] = Decimal) -> tuple[str, dict[str, Any]]:
    """The text of a TOML file, and what it says; StoreError with the line where it is none."""
    try:
        text = read_whole(path).decode("utf-8-sig")
        return text, tomllib.loads(text, parse_float=number)
    except UnicodeDecodeError:
        raise StoreError(f"{path}: it is not UTF-8. Save it again as UTF-8.") from None
    except tomllib.TOMLDecodeError as error:
        place_said = re.search(r"\(at line (\d+), column (\d+)\)", str(error))
        place = f", line {place_said[1]}" if place_said else ""
        what = re.sub(r" \(at .*\)$", "", str(error))
        raise StoreError(
            f"{path}{place}: it is not TOML here ({what}). Texts need quotes; headings with spaces, too."
        ) from None
    except RecursionError:
        raise StoreError(f"{path}: it is nested too deeply. Draft one with `neat-delta learn`.") from None


def _named_separators(data: dict[str, Any]) -> None:
    """A separator may be said by its name: tab for a tab."""
    names = {name: mark for mark, name in SEPARATORS.items()}
    fields = data.get("fields")
    for table in (data.get("file"), data.get("importer"), *(fields.values() if isinstance(fields, dict) else ())):
        if isinstance(table, dict) and isinstance(table.get("separator"), str):
            table["separator"] = names.get(table["separator"], table["separator"])


def wrong_keys(value: Any, kind: Any, where: Where) -> Iterator[tuple[Where, str]]:  # noqa: ANN401 - any TOML value and type
    """All that is wrong with a value of a type, with the names from the outermost table in."""
    whole_kind = kind
    while get_origin(kind) is Annotated:
        kind = get_args(kind)[0]
    if isinstance(kind, type) and issubclass(kind, msgspec.Struct):
        if not isinstance(value, dict):
            yield where, "it must be a table"
            return
        types, required = _fields_of(kind)
        for name, value_of in value.items():
            if name in types:
                yield from wrong_keys(value_of, types[name], (*where, name))
            else:
                yield (*where, name), f"there is no such key.{did_you_mean(name, types, _known(types))}"
        yield from ((where, f"it does not say its {name}") for name in required if name not in value)
        return
    inner = get_args(kind)[-1] if get_origin(kind) in {dict, list} else None
    if isinstance(inner, type) and issubclass(inner, msgspec.Struct):
        of_names = get_origin(kind) is dict
        if not isinstance(value, dict if of_names else list):
            table = "a table of fields" if inner is Field else "a table of tables" if of_names else "a list of tables"
            yield where, f"it must be {table}"
            return
        for name, value_of in value.items() if isinstance(value, dict) else enumerate(value):
            yield from wrong_keys(value_of, inner, (*where, str(name)))
        return
    if get_origin(kind) is dict and isinstance(value, dict) and _words(get_args(kind)[0]):
        yield from _wrong_levels(value, kind, where)
        return
    if isinstance(value, str) and Decimal in {kind, *get_args(kind)}:
        yield where, "it must be a number, and is text in quotes"
        return
    try:
        msgspec.convert(value, whole_kind)
    except msgspec.ValidationError as error:
        yield where, _plain(str(error), value, kind)


@cache
def _fields_of(kind: type[msgspec.Struct]) -> tuple[dict[str, Any], list[str]]:
    """The type of each key of a table, and the keys that it must have. Remembered, as every annotation is read anew by
    `msgspec.structs.fields`.
    """
    fields = msgspec.structs.fields(kind)
    return {field_info.encode_name: field_info.type for field_info in fields}, [
        field_info.encode_name for field_info in fields if field_info.required
    ]


def _wrong_levels(value: dict[str, Any], kind: Any, where: Where) -> Iterator[tuple[Where, str]]:  # noqa: ANN401
    """All that is wrong with the levels of checks."""
    words, level = _words(get_args(kind)[0]), get_args(kind)[1]
    for name, value_of in value.items():
        if name in words:
            yield from wrong_keys(value_of, level, (*where, name))
        else:
            yield (*where, name), f"there is no such check.{did_you_mean(name, words, _known(words))}"


def _known(names: Sequence[str] | dict[str, Any]) -> str:
    return f"Known are: {', '.join(names)}."


TYPES = malformed.TYPES | {"str": "text in quotes", "array": "a list in [ ]"}
"""The types of values, as they are written in TOML."""


def _plain(message: str, value: Any, kind: Any) -> str:  # noqa: ANN401 - any TOML value and type
    words = _words(kind)
    if words and isinstance(value, str):
        return f'"{value}" is none of: {", ".join(words)}.{did_you_mean(value, words)}'
    expectation = re.match(r"Expected `([^`]+)`, got `(\w+)`", message)
    if expectation:
        wanted = [
            TYPES.get(type_name.strip(), type_name.strip())
            for type_name in expectation[1].split("|")
            if type_name.strip() != "null"
        ]
        return f"it must be {' or '.join(wanted)}, and is {TYPES.get(expectation[2], expectation[2])}"
    return message.partition(" - at ")[0].replace("`", "").rstrip(".")


def _words(kind: Any) -> list[str]:  # noqa: ANN401 - any type
    """The words that a type allows, if it is made of words."""
    if get_origin(kind) is Literal:
        return [str(choice) for choice in get_args(kind)]
    return [word for part in get_args(kind) for word in _words(part)] if get_origin(kind) is not list else []


def _error(path: str, text: str, where: Where, what: str) -> StoreError:
    line = _line(text, where)
    key = ".".join(name if re.fullmatch(r"[\w-]+", name) else f'"{name}"' for name in where)
    return StoreError(
        f"{path}{f', line {line}' if line else ''}, {key}: {what}{'' if what.endswith(('.', '?', '1')) else '.'}"
    )


def _line(text: str, where: Where) -> int | None:
    """The line in which a key stands, or else the nearest table around it."""
    at: dict[Where, int] = {}
    times: dict[Where, int] = {}
    table: Where = ()
    for number, line in enumerate(text.splitlines(), 1):
        bare = line.strip()
        if bare.startswith("["):
            named = _names(bare)
            if named is not None and bare.startswith("[["):  # one of several: they are counted from 0
                times[named] = times.get(named, -1) + 1
                named = (*named, str(times[named]))
            if named is not None:
                table = named
                for size in range(1, len(named) + 1):
                    at.setdefault(named[:size], number)
        elif "=" in bare and not bare.startswith("#"):
            starts = (bare[: sign.start()] for sign in re.finditer("=", bare))  # one may stand in a quoted key
            named = next((names for start in starts if (names := _names(f"{start}= 0")) is not None), None)
            if named is not None:
                for size in range(1, len(named) + 1):
                    at.setdefault((*table, *named[:size]), number)
    return next((at[where[:size]] for size in range(len(where), 0, -1) if where[:size] in at), None)


def _names(line: str) -> Where | None:
    """The names that a line of TOML opens or sets."""
    try:
        value: Any = tomllib.loads(line)
    except tomllib.TOMLDecodeError:
        return None
    names = []
    while isinstance(value, dict | list) and value:
        if isinstance(value, list):
            value = value[0]
            continue
        name = next(iter(value))
        names.append(name)
        value = value[name]
    return tuple(names)
