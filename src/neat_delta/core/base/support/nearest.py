"""The known name that comes nearest to one that is not known, for messages that suggest and never decide."""

from __future__ import annotations

from collections.abc import Iterable

__all__ = ["did_you_mean", "nearest"]

CLOSE = 70.0
"""From which likeness on, in per cent, a name is worth suggesting: so much of both texts is the same."""

PART = 90.0
"""From which likeness on it is, where one has words more than the other (`spring offer`, `spring`)."""

SHARE = 0.5
"""A part that is suggested is at least so long, of the longer one."""


def nearest(name: str, names: Iterable[str]) -> str | None:
    """The one of `names` that is most like `name`, or None when none is much like it.

    >>> nearest("prise", ["sku", "price"]), nearest("spring offer", ["spring"]), nearest("e", ["price"])
    ('price', 'spring', None)
    """
    from rapidfuzz import fuzz, process, utils

    known = list(names)
    for scorer, least in ((fuzz.ratio, CLOSE), (fuzz.WRatio, PART)):
        best = process.extractOne(name, known, scorer=scorer, processor=utils.default_process, score_cutoff=least)
        if best and min(len(name), len(best[0])) >= SHARE * max(len(name), len(best[0])):
            return str(best[0])
    return None


def did_you_mean(name: str, names: Iterable[str], otherwise: str = "") -> str:
    """What a message adds after a name that is not known: the nearest of `names`, or what is to be said `otherwise`;
    with a space before it.

    >>> did_you_mean("prise", ["sku", "price"]), did_you_mean("zzz", ["sku"], "It has: sku.")
    (' Did you mean "price"?', ' It has: sku.')
    """
    near = nearest(name, names)
    return f' Did you mean "{near}"?' if near and near != name else otherwise and f" {otherwise}"
