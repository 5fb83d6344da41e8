"""What differs between two texts, in words; between two lists, in values."""

from __future__ import annotations

import re
from dataclasses import dataclass
from difflib import SequenceMatcher

__all__ = ["Piece", "added_and_removed", "pieces"]

WORDS = re.compile(r"\s+|<[^<>\s]+>|\w+|[^\w\s]")
"""White space, tags, words, and marks one by one."""

MOST_WORDS = 4_000
AROUND = 6
"""Words of longer texts are not compared; so many words (spaces among them) stand around a piece."""


@dataclass(frozen=True, slots=True)
class Piece:
    """A place where two texts differ: what stands before it, the old words, the new ones, what stands after it."""

    lead: str
    old: str
    new: str
    trail: str


def pieces(before: str, after: str) -> list[Piece]:
    """The places where two texts differ; none when they are too long to compare."""
    old, new = WORDS.findall(before), WORDS.findall(after)
    if len(old) + len(new) > MOST_WORDS:
        return []
    places = []
    for what, start, end, to, until in SequenceMatcher(None, old, new, autojunk=False).get_opcodes():
        if what == "equal":
            continue
        lead, trail = old[max(0, start - AROUND) : start], old[end : end + AROUND]
        places.append(
            Piece(
                ("…" if start > AROUND else "") + "".join(lead),
                "".join(old[start:end]),
                "".join(new[to:until]),
                "".join(trail) + ("…" if end + AROUND < len(old) else ""),
            )
        )
    return places


def added_and_removed(before: str, after: str, separator: str) -> tuple[list[str], list[str]]:
    """The values that one list has and the other has not, in their order: added, removed."""
    old, new = ([value.strip() for value in text.split(separator) if value.strip()] for text in (before, after))
    return [value for value in new if value not in old], [value for value in old if value not in new]
