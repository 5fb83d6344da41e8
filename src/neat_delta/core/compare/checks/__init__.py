"""Checks: what must not go to the store, and what a person should look at first. They emit findings and hold nothing.

One file for each sort, one entry for each check, each file registered here in one line (docs/checks.md).
"""

from __future__ import annotations

from collections.abc import Collection, Iterable, Iterator, Mapping
from itertools import chain

import polars as pl

from neat_delta.core.base.kinds import blank
from neat_delta.core.base.model.catalogue import Catalogue
from neat_delta.core.base.model.changeset import ChangeSet
from neat_delta.core.base.model.reasons import CHECK, DOUBT
from neat_delta.core.base.model.schemas import FINDINGS, RULE_FINDINGS, conform, empty
from neat_delta.core.base.model.store import LevelName, Store
from neat_delta.core.base.support.series import constant, filtered, not_null, with_series
from neat_delta.core.compare.checks.allowed import ALLOWED_CHECKS
from neat_delta.core.compare.checks.base import Check, CheckContext, looked_up
from neat_delta.core.compare.checks.believable import BELIEVABLE_CHECKS
from neat_delta.core.compare.checks.identity import IDENTITY_CHECKS
from neat_delta.core.compare.checks.relations import RELATION_CHECKS
from neat_delta.core.compare.checks.value import VALUE_CHECKS

__all__ = ["CHECKS", "KIND_CHECKS", "catalogue_findings", "check_changes", "idle_checks", "value_findings"]

CHECKS: dict[str, Check] = {
    check.name: check
    for check in chain(VALUE_CHECKS, ALLOWED_CHECKS, IDENTITY_CHECKS, RELATION_CHECKS, BELIEVABLE_CHECKS)
}

KIND_CHECKS = {check.name for check in ALLOWED_CHECKS}
"""The checks that rest on kinds."""

Levels = Mapping[str, LevelName]
"""The level of each check."""

VALUE_RULES = ("required", "unreadable", "locked")
"""The checks of what `compare` sees of a cell while it reads it."""


def value_findings(cells: pl.DataFrame, levels: Levels) -> pl.DataFrame:
    """What is wrong with cells by themselves (`model.schemas.FINDINGS`): `item`, `field`, `before`, `after`, `unread`
    (why the kind cannot read it, or null), and `rule`: one of `VALUE_RULES`, or null.
    """
    if cells["rule"].null_count() == cells.height:
        return empty(FINDINGS)
    excerpt = pl.col("after").str.slice(0, 40)
    ruled = filtered(cells, not_null(cells["rule"])).rechunk()
    what = (
        pl.when((pl.col("rule") == "unreadable") & pl.col("unread").str.starts_with(DOUBT))
        .then(pl.format("{}: {}", excerpt, pl.col("unread").str.strip_prefix(DOUBT)))
        .when(pl.col("rule") == "unreadable")
        .then(pl.format("{} is {}", excerpt, "unread"))
        .when(blank(pl.col("after")))
        .then(pl.lit("it was emptied"))
        .otherwise(pl.format("from {} to {}", pl.col("before").str.slice(0, 40), excerpt))
    )
    ruled = ruled.select("item", pl.col("field").cast(pl.String), "rule", what=what)
    parts = [(name, filtered(ruled, ruled["rule"] == name)) for name in VALUE_RULES]
    return _as_findings([(name, part) for name, part in parts if part.height and levels[name] != "off"], levels)


def check_changes(
    changes: ChangeSet,
    live: Catalogue,
    store: Store,
    levels: Levels,
    value: pl.DataFrame,
    *,
    images: Collection[str] | None = None,
    new_values: Collection[str] = (),
    guessed: bool = False,
) -> pl.DataFrame:
    """What the checks find in the cells of a change set that are not held, and in new items: findings
    (`model.schemas.FINDINGS`), with the `value` findings among them in their place.

    `images` are the names of the image files there are (None: nobody said), `new_values` the fields that may take
    values that live does not have; `guessed` says that nothing told the sheet's encoding.
    """
    is_held = not_null(changes.cells["held"])
    sent, held = filtered(changes.cells, ~is_held), filtered(changes.cells, is_held)
    parts = sent[["item", "field", "before", "after"]].partition_by("field", as_dict=True, include_key=False)
    context = CheckContext(
        live,
        live.place(changes.items["live"]),
        changes.keys,
        {str(name): cells for (name,), cells in parts.items()},
        changes.header.settings,
        store,
        changes.header.writing,
        encoding=_encoding_to_write(store, live),
        images=images,
        new_values=[*new_values, *live.unseen],  # live shows none of their values
        gone=changes.header.counts.gone,
        guessed=guessed,
        seen={name: conform(filtered(value, value["rule"] == name), RULE_FINDINGS) for name in VALUE_RULES},
        held=pl.DataFrame({"item": held["item"], "field": held["field"].cast(pl.String)}),
    )
    return _as_findings(_run(looked_up(context), levels), levels)


def _encoding_to_write(store: Store, live: Catalogue) -> str | None:
    """The encoding of the update files: what the importer wants, or else live's; None where a form has every letter."""
    if store.importer.form != "delimited":
        return None
    return store.importer.encoding or live.layout.encoding


def catalogue_findings(
    catalogue: Catalogue, store: Store, key: list[str], levels: Levels, *, images: Collection[str] | None = None
) -> pl.DataFrame:
    """What the checks that need no sheet find in a whole catalogue (`model.schemas.FINDINGS`); items are its rows."""
    return _as_findings(_run(looked_up(_alone(catalogue, store, key, images)), levels), levels)


def _as_findings(by_check: Iterable[tuple[str, pl.DataFrame]], levels: Levels) -> pl.DataFrame:
    parts = [empty(FINDINGS)]
    for name, table in by_check:
        constants = {"source": "check", "rule": name, "level": levels[name], "reason": CHECK + name}
        columns = {column_name: constant(text, table.height, pl.String) for column_name, text in constants.items()}
        parts.append(conform(with_series(table, columns), FINDINGS))
    return pl.concat(parts)


def _alone(catalogue: Catalogue, store: Store, key: list[str], images: Collection[str] | None) -> CheckContext:
    """A whole catalogue, as the checks are asked about it."""
    cells = catalogue.cells
    items = pl.int_range(cells.height, dtype=pl.Int64, eager=True)
    before = constant(None, cells.height, pl.String)
    return CheckContext(
        catalogue,
        items,
        cells.select(key),
        {name: pl.DataFrame({"item": items, "before": before, "after": cells[name]}) for name in cells.columns},
        store.fields,
        store,
        store.writing,
        round=False,
        encoding=catalogue.layout.encoding,
        images=images,
    )


NEEDS_SHEET = "a sheet, and neat-delta compare"


def idle_checks(
    catalogue: Catalogue, store: Store, key: list[str], levels: Levels, *, images: Collection[str] | None = None
) -> dict[str, str]:
    """The checks that do not run on this catalogue by itself, each with what would switch it on."""
    context = _alone(catalogue, store, key, images)
    idle = {}
    for name, check in CHECKS.items():
        off = "another level than off, under [checks]" if levels[name] == "off" else None
        why = off or (None if check.alone else NEEDS_SHEET) or check.idle(context)
        if why is not None:
            idle[name] = why
    return idle


def _run(context: CheckContext, levels: Levels) -> Iterator[tuple[str, pl.DataFrame]]:
    """The checks that are on, with what they find."""
    for name, check in CHECKS.items():
        if levels[name] == "off" or not (context.round or check.alone):
            continue
        table = check.find(context)
        if levels[name] != "stop" and table.height > 1:  # nothing is held, so an item is named once
            table = table.unique(["item", "what"], keep="first", maintain_order=True)
        if table.height:
            yield name, table
