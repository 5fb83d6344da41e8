"""The known name that comes nearest to one that is not known, for messages that suggest and never decide."""

from __future__ import annotations

from collections.abc import Iterable

__all__ = ["nearest"]

CLOSE = 70.0
"""From which likeness on, in per cent, a name is worth suggesting."""


def nearest(name: str, names: Iterable[str]) -> str | None:
    """The one of `names` that is most like `name`, or None when none is much like it."""
    from rapidfuzz import fuzz, process, utils

    best = process.extractOne(
        name, list(names), scorer=fuzz.WRatio, processor=utils.default_process, score_cutoff=CLOSE
    )
    return str(best[0]) if best else None
