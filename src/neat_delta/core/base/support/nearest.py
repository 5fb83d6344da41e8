"""The known name that comes nearest to one that is not known, for messages that suggest and never decide."""

from __future__ import annotations

from collections.abc import Iterable

__all__ = ["did_you_mean", "nearest"]

CLOSE = 70.0
"""From which likeness on, in per cent, a name is worth suggesting."""


def nearest(name: str, names: Iterable[str]) -> str | None:
    """The one of `names` that is most like `name`, or None when none is much like it."""
    from rapidfuzz import fuzz, process, utils

    best = process.extractOne(
        name, list(names), scorer=fuzz.WRatio, processor=utils.default_process, score_cutoff=CLOSE
    )
    return str(best[0]) if best else None


def did_you_mean(name: str, names: Iterable[str], otherwise: str = "") -> str:
    """What a message adds after a name that is not known: the nearest of `names`, or what is to be said `otherwise`;
    with a space before it.

    >>> did_you_mean("prise", ["sku", "price"]), did_you_mean("zzz", ["sku"], "It has: sku.")
    (' Did you mean "price"?', ' It has: sku.')
    """
    near = nearest(name, names)
    return f' Did you mean "{near}"?' if near and near != name else otherwise and f" {otherwise}"
