"""The known name that comes nearest to one that is not known, for messages that suggest and never decide."""

from __future__ import annotations

from collections.abc import Iterable

__all__ = ["nearest"]

CLOSE = 70.0
"""From which likeness on, in per cent, a name is worth suggesting."""


def nearest(name: str, known: Iterable[str]) -> str | None:
    """The one of `known` that is most like `name`, or None when none is much like it."""
    from rapidfuzz import fuzz, process, utils

    found = process.extractOne(
        name, list(known), scorer=fuzz.WRatio, processor=utils.default_process, score_cutoff=CLOSE
    )
    return str(found[0]) if found else None
