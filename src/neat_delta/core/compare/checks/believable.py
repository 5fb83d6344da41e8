"""Checks of a round as a whole: changes too large to believe, prices that end oddly, rounds that touch too much."""

from __future__ import annotations

import polars as pl

from neat_delta.core.base.kinds.number import NUMBER_KINDS
from neat_delta.core.base.support.series import filtered
from neat_delta.core.compare.checks.base import Check, CheckContext, exactly, findings_of, nothing, sentence

__all__ = ["BELIEVABLE_CHECKS"]


def large_change(context: CheckContext) -> pl.DataFrame:
    """Numbers that change by more than the field's `largest_change`, in per cent of what they were."""
    tables = [nothing()]
    for name, (field, cells) in context.of(*NUMBER_KINDS).items():
        if field.largest_change is None:
            continue
        step = ((pl.col("new") - pl.col("old")) * 100).abs()
        hit = cells.filter(step > pl.col("old").abs() * exactly(field.largest_change))
        what = sentence(hit, "from {} to {}, more than " + f"{field.largest_change} %", "before", "after")
        tables.append(findings_of(name, hit["item"], what))
    return pl.concat(tables)


LEAST, FAR, AT_LEAST = 10, 5.0, 0.1
"""An outlier needs ten changes of its field, and lies five deviations off, and a tenth at least."""


def outlier(context: CheckContext) -> pl.DataFrame:
    """Numbers that change quite otherwise than the others of this round.

    The measure is the logarithm of after over before; its middle is the median, its deviation 1.4826 times the median
    of the distances from it (the median absolute deviation, which a few wild ones do not move: Hampel 1974).
    """
    tables = [nothing()]
    for name, (_, cells) in context.of("decimal", "money").items():
        if cells.height < LEAST:
            continue
        # Floating point is good enough here: it only sorts out what is far off.
        log = (pl.col("new").cast(pl.Float64) / pl.col("old").cast(pl.Float64)).log()
        steps = (
            cells.lazy()
            .filter((pl.col("old") > 0) & (pl.col("new") > 0))
            .with_columns(log=log)
            .collect(engine="in-memory")
        )
        if steps.height < LEAST:
            continue
        off = steps.lazy().with_columns(off=(pl.col("log") - pl.col("log").median()).abs())
        deviation = pl.col("off").median() * 1.4826
        hit = off.filter(pl.col("off") > pl.max_horizontal(deviation * FAR, pl.lit(AT_LEAST))).collect(
            engine="in-memory"
        )
        what = sentence(hit, "from {} to {}, quite otherwise than the others", "before", "after")
        tables.append(findings_of(name, hit["item"], what))
    return pl.concat(tables)


MANY, RARE = 100, 500
"""Endings are looked at where live has a hundred prices; one that fewer than one in five hundred has is odd."""


def price_ending(context: CheckContext) -> pl.DataFrame:
    """Prices whose cents the shop never uses."""
    tables = [nothing()]
    price = context.store.relations.price
    for name, (_, cells) in context.of("money").items():
        if name != price:
            continue
        live_cents = _cents(context.number(name, context.live.column(name))).drop_nulls()
        if live_cents.len() < MANY:
            continue
        counted = live_cents.value_counts(name="times").filter(pl.col("times") * RARE >= live_cents.len())
        endings = _cents(cells["new"])
        hit = filtered(cells, ~endings.is_in(counted[live_cents.name].implode()))
        tables.append(findings_of(name, hit["item"], hit["after"] + ": live's prices do not end like that"))
    return pl.concat(tables)


def _cents(values: pl.Series) -> pl.Series:
    """The two decimals of amounts, as a text."""
    return values.cast(pl.String).str.extract(r"\.([0-9]{2})").alias("cents")


SMALL = 20
"""In a smaller catalogue any round touches much of it."""


def large_round(context: CheckContext) -> pl.DataFrame:
    """A round that changes, empties or leaves out more of live than `largest_round` says."""
    most, tables, rows = context.store.largest_round, [nothing()], context.live.height
    if rows < SMALL:
        return nothing()
    changed = int(context.places.is_not_null().sum()) - context.gone
    emptied = [
        cells.filter((pl.col("after") == "") & pl.col("before").is_not_null())["item"]
        for cells in context.cells.values()
        if (cells["after"] == "").any()
    ]
    counts = (
        ("changed", changed),
        ("emptied in some field", pl.concat(emptied).n_unique() if emptied else 0),
        ("gone", context.gone),
    )
    for word, times in counts:
        if times * 100 > rows * most:
            what = f"{times:,} of {rows:,} items are {word}, more than {most} %"
            tables.append(findings_of(None, pl.Series([None], dtype=pl.Int64), what))
    return pl.concat(tables)


BELIEVABLE_CHECKS = (
    Check(
        "large-change",
        "stop",
        "cell",
        "a number that changes by more than the field's largest_change",
        "correct it, or ‹accept› it",
        large_change,
        alone=False,
    ),
    Check(
        "outlier",
        "warn",
        "column",
        "a number that changes quite otherwise than the others of the round",
        "look at it",
        outlier,
        alone=False,
    ),
    Check(
        "price-ending",
        "warn",
        "column",
        "a price that ends as none of live's does",
        "look at it",
        price_ending,
        alone=False,
    ),
    Check(
        "large-round",
        "warn",
        "round",
        "a round that touches more of live than largest_round",
        "look whether the sheet is whole",
        large_round,
        alone=False,
    ),
)
