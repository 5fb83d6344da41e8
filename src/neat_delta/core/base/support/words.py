"""Settings that are one of some words: a value that is none is refused where it is said, with the nearest."""

from __future__ import annotations

import types
from collections.abc import Sequence
from functools import cache
from typing import Annotated, Any, Literal, Union, get_args, get_origin, get_type_hints

import msgspec

from neat_delta.core.base.support.errors import SettingError
from neat_delta.core.base.support.nearest import did_you_mean

__all__ = ["Worded", "must_be_one_of"]


class Worded(msgspec.Struct, frozen=True):
    """A struct whose fields of words are checked when it is made; SettingError names the field."""

    def __post_init__(self) -> None:
        for name, words in _words(type(self)).items():
            value = getattr(self, name)
            if value not in words:
                must_be_one_of(name, value, words)


def must_be_one_of(name: str, value: object, words: Sequence[str | None]) -> None:
    """SettingError where a setting's value is none of its words.

    >>> try:
    ...     must_be_one_of("blanks", "skipp", ("skip", "clear"))
    ... except SettingError as error:
    ...     print(error.what)
    'skipp' is none of: skip, clear. Did you mean "skip"?
    """
    if value not in words:
        known_words = [word for word in words if word is not None]
        raise SettingError(
            name, f"{value!r} is none of: {', '.join(known_words)}.{did_you_mean(str(value), known_words)}"
        )


@cache
def _words(kind: type[Worded]) -> dict[str, tuple[str | None, ...]]:
    """The words of each field that is one of some, with None where it may be that."""
    words = {name: _of_hint(hint) for name, hint in get_type_hints(kind, include_extras=True).items()}
    return {name: those for name, those in words.items() if any(word is not None for word in those)}


def _of_hint(hint: Any) -> tuple[str | None, ...]:  # noqa: ANN401 - any type
    if get_origin(hint) is Annotated:
        return _of_hint(get_args(hint)[0])
    if get_origin(hint) is Literal:
        return get_args(hint)
    if get_origin(hint) in {Union, types.UnionType}:
        parts = [(None,) if hint_part is type(None) else _of_hint(hint_part) for hint_part in get_args(hint)]
        return tuple(word for part in parts for word in part) if all(parts) else ()
    return ()
