"""What rests on what: the computed cells of a change set into which other cells of their item went."""

from __future__ import annotations

from typing import TYPE_CHECKING

import polars as pl

if TYPE_CHECKING:
    from neat_delta.core.base.model.changeset import ChangeSet

__all__ = ["left_alone", "resting_on"]


def resting_on(changes: ChangeSet, away: pl.DataFrame) -> pl.DataFrame:
    """The computed cells that rest on one of the cells `away` (`item`, `field`, `why` they do not go): `item`, `field`,
    the first field that it is (`read`), and why.

    >>> from neat_delta import as_catalogue, edit
    >>> from neat_delta.core.base.model.rules import Rule, Rules
    >>> live = as_catalogue({"sku": ["QA-1"], "cost": ["5.00"], "price": ["9.90"]}, "live")
    >>> rules = Rules(rule=[Rule("new", {"cost": "cost + 1"}), Rule("retail", {"price": "cost * 2"})])
    >>> away = pl.DataFrame({"item": [0], "field": ["cost"], "why": ["is held"]})
    >>> resting_on(edit(live, rules), away).rows()
    [(0, 'price', 'cost', 'is held')]
    """
    header = changes.header
    rests = [(number, rule.field, read) for number, rule in enumerate(header.rules) for read in rule.reads]
    read = pl.DataFrame(rests, schema={"rule": pl.UInt16, "field": pl.String, "read": pl.String}, orient="row")
    steps = changes.computed.select("item", pl.col("field").cast(pl.String), "rule")
    steps = steps.join(away[["item"]], on="item", how="semi", maintain_order="left")
    if not steps.height or not read.height:
        return pl.DataFrame(schema={"item": pl.Int64, "field": pl.String, "read": pl.String, "why": pl.String})
    # What a later rule put in a value's place, without looking at it, rests on what that rule reads alone.
    anew = [number for number, rule in enumerate(header.rules) if rule.field not in rule.reads]
    fresh = pl.col("rule").is_in(anew).cast(pl.Int64)
    later = fresh.cum_sum(reverse=True).over("item", "field") - fresh
    steps = steps.filter(later == 0)
    met = steps.join(read.filter(pl.col("read") != pl.col("field")).drop("field"), on="rule", maintain_order="left")
    met = met.join(away.rename({"field": "read"}), on=["item", "read"], maintain_order="left")
    return met.unique(["item", "field"], keep="first", maintain_order=True)[["item", "field", "read", "why"]]


def left_alone(cells: pl.DataFrame, beside: list[str]) -> pl.DataFrame:
    """Those of the cells (`item`, `field`) in the fields `beside` whose item has no cell in another."""
    others = cells.filter(~pl.col("field").is_in(beside))["item"].unique()
    return cells.filter(pl.col("field").is_in(beside) & ~pl.col("item").is_in(others.implode()))
