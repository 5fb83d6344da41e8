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
    (r"Invalid enum value (?:'(.*)'|(.*))", lambda found: f'"{found[1] or found[2]}" is none of the words for it'),
    (
        r"Expected `([^`]+)`, got `(\w+)`",
        lambda found: f"it must be {_types(found[1])}, and is {TYPES.get(found[2], found[2])}",
    ),
    (r"Object missing required field `(.+)`", lambda found: f'"{found[1]}" is missing'),
    (r"Object contains unknown field `(.+)`", lambda found: f'"{found[1]}" is nothing that stands there'),
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
        found = re.fullmatch(form, what)
        if found:
            what = words(found)
            break
    steps = re.sub(r"\[(\d+)\]", lambda step: f" {int(step[1]) + 1}", place.rstrip("`")).replace("[...]", "")
    return what.replace("`", "") + (f" ({steps.lstrip('.').strip().replace('.', ', ')})" if steps else "")


def _types(names: str) -> str:
    return " or ".join(TYPES.get(name.strip(), name.strip()) for name in names.split("|"))
