"""Deciding about rows before anything in them is compared: which near keys are taken for live's, and whether rows that
were pasted again are left out. Each is a finding, and decided as all others are.
"""

from __future__ import annotations

from typing import TYPE_CHECKING

import polars as pl

from neat_delta.core.base.model.reasons import NEAR
from neat_delta.core.base.model.schemas import FINDINGS, conform, stopping
from neat_delta.core.compare.decide.decide import DAMAGED_KEY, decide

if TYPE_CHECKING:
    from neat_delta.core.compare.decide.decide import Index
    from neat_delta.core.compare.decide.policy import Policy

__all__ = ["keys_taken", "pasted_rows"]


def keys_taken(near: pl.DataFrame, index: Index, policy: Policy) -> pl.Series:
    """Per near key (`detect.near_keys`) whether it is taken for live's; `index` has the keys of the sheet's rows.

    >>> from neat_delta.core.compare.decide.policy import Policy
    >>> near = {"live": [0, 1], "sheet": [4, 5], "damage": ["leading zeros lost", None], "only": [True, True]}
    >>> keys_taken(pl.DataFrame(near), dict, Policy(repair=True)).to_list()
    [True, False]
    """
    rule = pl.when(pl.col("damage").is_not_null()).then(pl.lit(DAMAGED_KEY)).otherwise(pl.lit("near"))
    rows = near.select(item="sheet", reason=pl.lit(NEAR), name=rule, mendable="only")
    findings = stopping(rows, "near").with_columns(rule=rows["name"])
    return decide(findings, index, policy)["done"] == "repaired"


def pasted_rows(pasted: pl.Series, index: Index, policy: Policy) -> pl.Series:
    """What becomes of each of the rows (their places in the sheet) that are the same as one before them in every cell:
    `repaired` where it is left out.

    >>> from neat_delta.core.compare.decide.policy import Policy
    >>> pasted_rows(pl.Series([3, 4]), dict, Policy(repair=True)).to_list()
    ['repaired', 'repaired']
    """
    columns = {"source": "slip", "rule": "rows pasted twice", "level": "note", "reason": "", "mendable": True}
    rows = pl.DataFrame({"item": pasted}).with_columns(pl.lit(value).alias(name) for name, value in columns.items())
    return decide(conform(rows, FINDINGS), index, policy)["done"]
