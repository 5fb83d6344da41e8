"""The whole run in memory: the stages, one after the other."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import replace
from typing import Any

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

LOOKED_AT_LAST: Mapping[Callable[[Round], Round], Sequence[str]] = {
    detect: ["texts"],
    assemble: ["rows", "outcomes", "by_store", "deltas", "detected", "merged", "findings"],
}
"""What no stage after this one looks at: of a large round it takes most of the memory."""


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
        let_go: dict[str, Any] = dict.fromkeys(LOOKED_AT_LAST.get(stage, ()))
        round_ = replace(stage(round_), **let_go)
    return round_
