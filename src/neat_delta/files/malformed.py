"""What is wrong with a value that was decoded, in plain words: msgspec's messages without its marks."""

from __future__ import annotations

import re
from collections.abc import Callable

__all__ = ["TYPES", "plain_error"]

TYPES = {
    "str": "text",
    "int": "a whole number",
    "float": "a number",
    "decimal": "a number",
    "bool": "true or false",
    "array": "a list",
    "object": "a table",
    "date": "a date",
    "datetime": "a time",
    "null": "nothing",
}
"""What msgspec calls the types of values, in words."""

FORMS: tuple[tuple[str, Callable[[re.Match[str]], str]], ...] = (
    (r"Invalid enum value (?:'(.*)'|(.*))", lambda part: f'"{part[1] or part[2]}" is none of the words for it'),
    (
        r"Expected `([^`]+)`, got `(\w+)`",
        lambda part: f"it must be {_types(part[1])}, and is {TYPES.get(part[2], part[2])}",
    ),
    (r"Object missing required field `(.+)`", lambda part: f'"{part[1]}" is missing'),
    (r"Object contains unknown field `(.+)`", lambda part: f'"{part[1]}" is nothing that stands there'),
)
"""Msgspec's messages, and what they say in words."""


def plain_error(error: Exception) -> str:
    """Msgspec's message in words, with the place within the value, counted from 1; without its full stop.

    >>> plain_error(ValueError("Invalid enum value 'maybe' - at `$.answers[3].answer`"))
    '"maybe" is none of the words for it (answers 4, answer)'
    >>> plain_error(ValueError("Expected `int | null`, got `str` - at `$.row`"))
    'it must be a whole number or nothing, and is text (row)'
    """
    what, _, place = str(error).rstrip(".").partition(" - at `$")
    for form, words in FORMS:
        part = re.fullmatch(form, what)
        if part:
            what = words(part)
            break
    steps = re.sub(r"\[(\d+)\]", lambda step: f" {int(step[1]) + 1}", place.rstrip("`")).replace("[...]", "")
    return what.replace("`", "") + (f" ({steps.lstrip('.').strip().replace('.', ', ')})" if steps else "")


def _types(names: str) -> str:
    return " or ".join(TYPES.get(name.strip(), name.strip()) for name in names.split("|"))
