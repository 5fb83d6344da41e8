"""The whole run in memory: the stages, one after the other."""

from __future__ import annotations

from collections.abc import Callable

from neat_delta.core.compare.assemble import assemble
from neat_delta.core.compare.round import Round
from neat_delta.core.compare.stages import check, decide, detect, diff, judge, match, merge, prepare

__all__ = ["STAGES", "run"]

STAGES: tuple[Callable[[Round], Round], ...] = (
    prepare,
    match,
    diff,
    detect,
    merge,
    judge,
    assemble,
    check,
    decide,
)
"""In the order of the work: each takes a round and gives it with what it adds."""


def run(round_: Round) -> Round:
    """The round once it has gone through all the stages. CatalogueError when its inputs cannot be compared.

    >>> from neat_delta import as_catalogue
    >>> from neat_delta.core.compare.options import CompareOptions
    >>> live = as_catalogue({"sku": ["QA-1"], "price": ["9.90"]}, "live")
    >>> sheet = as_catalogue({"sku": ["QA-1"], "price": ["10.50"]}, "sheet")
    >>> run(Round(live, sheet, None, CompareOptions())).changes.header.counts.changed
    1
    """
    for stage in STAGES:
        round_ = stage(round_)
    return round_
