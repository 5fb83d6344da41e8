"""Checks against the values there are: near twins of a value, values and categories that live never had."""

from __future__ import annotations

import polars as pl

from neat_delta.core.base.kinds.list import BETWEEN
from neat_delta.core.base.support.nearest import nearest
from neat_delta.core.compare.checks.base import Check, CheckContext, findings_of, nothing, sentence
from neat_delta.core.compare.checks.values import CHOSEN, Values

__all__ = ["ALLOWED_CHECKS"]


def _loose(value: pl.Expr) -> pl.Expr:
    """A value without case, spaces and punctuation, and with its units in one spelling."""
    plain = value.str.to_lowercase().str.normalize("NFKC").str.replace_all(r"[\p{P}\p{Z}\x1f]+", "")
    units = {"litres": "l", "liters": "l", "litre": "l", "liter": "l", "grams": "g", "gram": "g", "kgs": "kg"}
    for spelt, unit in units.items():
        plain = plain.str.replace(rf"^([0-9.]+){spelt}$", f"${{1}}{unit}")
    return plain


def near_twin(context: CheckContext) -> pl.DataFrame:
    """New values that are one of live's but for case, spaces, punctuation or the spelling of a unit."""
    tables = [nothing()]
    for name, (field, _) in context.of(*CHOSEN, "measure").items():
        if field.refers:  # what it names are items
            continue
        values = context.values[name]
        new = values.new()
        if new.height:
            twins = values.live.lazy().select(twin="value").unique().sort("twin")
            twins = twins.with_columns(loose=_loose(pl.col("twin"))).unique("loose", keep="first", maintain_order=True)
            met = new.lazy().with_columns(loose=_loose(pl.col("value"))).join(twins, on="loose", maintain_order="left")
            tables.append(_beside(name, met.collect(engine="in-memory"), _path_text("value"), _path_text("twin")))
        if field.kind == "path":
            tables.append(_spelt_otherwise(name, values))
    return pl.concat(tables)


def _spelt_otherwise(name: str, values: Values) -> pl.DataFrame:
    """Paths whose levels are those of one of live's, in a spelling that live does not have: `Hives>Parts`."""
    other = values.new(by="spelt")
    if not other.height:
        return nothing()
    twins = values.live.lazy().select("value", twin="spelt").sort("twin")
    twins = twins.unique("value", keep="first", maintain_order=True)
    hit = other.lazy().join(twins, on="value", maintain_order="left").collect(engine="in-memory")
    return _beside(name, hit, pl.col("spelt"), pl.col("twin"))


def _beside(name: str, hit: pl.DataFrame, new: pl.Expr, twin: pl.Expr) -> pl.DataFrame:
    """Findings of new values, each beside its twin in live; one an item."""
    hit = hit.unique("item", keep="first", maintain_order=True)
    what = sentence(hit, '"{}" is new, and live has "{}"', new, twin)
    return findings_of(name, hit["item"], what)


def _path_text(name: str) -> pl.Expr:
    return pl.col(name).str.replace_all(BETWEEN, " > ").str.slice(0, 60)


def new_value(context: CheckContext) -> pl.DataFrame:
    """Values that live never had, and are no near twin of one; of a path, the level at which it is new."""
    tables = [nothing()]
    for name, (field, _) in context.of(*CHOSEN).items():
        if name in context.new_values or field.values or field.refers:
            continue
        live_values, new = context.values[name].live, context.values[name].new()
        if not new.height:
            continue
        loose = live_values.lazy().select(loose=_loose(pl.col("value")))
        others = new.lazy().with_columns(loose=_loose(pl.col("value")))
        others = others.join(loose, on="loose", how="anti", maintain_order="left")
        new = others.unique("item", keep="first", maintain_order=True).collect(engine="in-memory")
        values = live_values["value"].unique().sort().to_list()
        explained = {value: _what_is_new(value, values, path=field.kind == "path") for value in new["value"].unique()}
        tables.append(
            findings_of(name, new["item"], pl.Series([explained[value] for value in new["value"]], dtype=pl.String))
        )
    return pl.concat(tables)


def _what_is_new(value: str, live_values: list[str], *, path: bool) -> str:
    """What is new about a value, and what comes nearest."""
    display = value.replace(BETWEEN, " > ")
    near = nearest(display, [known_value.replace(BETWEEN, " > ") for known_value in live_values])
    hint = f'; the nearest is "{near}"' if near else ""
    if not path:
        return f'"{display}" is a value that live does not have{hint}'
    levels = value.split(BETWEEN)
    for depth in range(1, len(levels) + 1):
        start = BETWEEN.join(levels[:depth])
        if not any(known_value == start or known_value.startswith(start + BETWEEN) for known_value in live_values):
            return f'"{display}" is new from level {depth} ("{levels[depth - 1]}") on{hint}'
    return f'live has items under "{display}" and none in it{hint}'


ALLOWED_CHECKS = (
    Check(
        "near-twin",
        "stop",
        "column",
        "a new value that is one of live's but for case, spaces, punctuation or a unit's spelling",
        "use live's value",
        near_twin,
        alone=False,
    ),
    Check(
        "new-value",
        "stop",
        "column",
        "a choice, a value of a list or a category that live does not have",
        "use one that live has, or ‹with_new_values› FIELD",
        new_value,
        alone=False,
    ),
)
