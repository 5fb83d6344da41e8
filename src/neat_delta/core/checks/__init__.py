"""Checks: what must not go to the store, and what a person should look at first.

One file for each sort, one entry for each check, each file registered here in one line (docs/checks.md).
"""

from __future__ import annotations

from collections.abc import Collection, Iterator, Sequence
from dataclasses import replace
from itertools import chain

import msgspec
import polars as pl

from neat_delta.core.catalogue import Catalogue
from neat_delta.core.changes import FLAGS_SCHEMA, Accept, ChangeSet, Finding, held
from neat_delta.core.checks.allowed import ALLOWED_CHECKS
from neat_delta.core.checks.base import Ask, Check
from neat_delta.core.checks.believable import BELIEVABLE_CHECKS
from neat_delta.core.checks.identity import IDENTITY_CHECKS
from neat_delta.core.checks.relations import RELATION_CHECKS
from neat_delta.core.checks.value import VALUE_CHECKS
from neat_delta.core.store import LevelName, Store

__all__ = ["CHECK", "CHECKS", "check_catalogue", "checked"]

CHECKS: dict[str, Check] = {
    check.name: check
    for check in chain(VALUE_CHECKS, ALLOWED_CHECKS, IDENTITY_CHECKS, RELATION_CHECKS, BELIEVABLE_CHECKS)
}

CHECK = "check: "
"""The start of the reason for which a check holds a cell."""

GUESSED = {check.name for check in ALLOWED_CHECKS}
"""The checks that rest on kinds; where these were only learned, they hold nothing."""


def checked(
    changes: ChangeSet,
    live: Catalogue,
    store: Store,
    *,
    accept: Sequence[Accept] = (),
    images: Collection[str] | None = None,
    new_values: Collection[str] = (),
    today: str | None = None,
) -> ChangeSet:
    """The change set with what the checks find in its cells that are to be sent, and in new items.

    A finding of the level `stop` holds its cell, unless it is accepted, by `accept` or by a standing exception of the
    store file that has not ended before `today` (ISO 8601; None: none has).
    """
    header = changes.header
    looked = changes.cells.filter(changes.cells["held"].is_null())
    parts = looked.with_columns(pl.col("field").cast(pl.String)).partition_by(
        "field", as_dict=True, maintain_order=True
    )
    ask = Ask(
        live.cells,
        live.place(changes.items["live"]),
        changes.keys,
        {str(name): cells.select("item", "before", "after") for (name,), cells in parts.items()},
        header.settings,
        store,
        header.writing,
        encoding=live.layout.encoding,
        images=images,
        new_values=new_values,
        gone=header.counts.gone,
    )
    flags = [
        table.with_columns(pl.lit(name).alias("check"), pl.lit(level).alias("level"))
        for name, level, table in _run(ask, store, learned=header.learned)
    ]
    if not flags:
        return changes
    table = pl.concat(flags).with_row_index("number")
    let = [
        *accept,
        *(Accept(one.check, one.which) for one in store.exceptions if not today or (one.until or today) >= today),
    ]
    table = table.with_columns(through=_through(table, changes, let))
    done = pl.when("through").then(pl.lit("accepted")).when(pl.col("level") == "stop").then(pl.lit("held"))
    table = table.with_columns(done=done.otherwise(pl.lit("noted")))
    place = looked.with_columns(pl.col("field").cast(pl.String)).select("item", "field", value="after")
    table = table.join(place, on=["item", "field"], how="left", maintain_order="left")
    rows = changes.items["sheet"].gather(table["item"])
    keys = changes.keys.select(pl.concat_list(pl.all())).to_series().gather(table["item"])
    listed = table.with_columns(row=rows, key=keys).select(list(FLAGS_SCHEMA)).cast(FLAGS_SCHEMA)  # type: ignore[arg-type]
    stop = table.filter(pl.col("done") == "held").unique(["item", "field"], keep="first", maintain_order=True)
    cells = changes.cells.join(
        stop.select("item", pl.col("field").cast(changes.cells.schema["field"]), "check"),
        on=["item", "field"],
        how="left",
        maintain_order="left",
    )
    cells = cells.with_columns(held=pl.coalesce("held", pl.lit(CHECK) + pl.col("check"))).drop("check")
    counts = msgspec.structs.replace(
        header.counts, held_cells=int(held(changes.items, cells).sum()), flags=listed.height
    )
    header = msgspec.structs.replace(header, counts=counts, findings=[*header.findings, *_grouped(listed)])
    return replace(changes, header=header, cells=cells, flags=listed)


def check_catalogue(
    catalogue: Catalogue, store: Store, key: list[str], *, images: Collection[str] | None = None
) -> pl.DataFrame:
    """What the checks that need no sheet find in a whole catalogue: the columns of `ChangeSet.flags`."""
    cells = catalogue.cells
    items = pl.int_range(cells.height, dtype=pl.Int64, eager=True)
    ask = Ask(
        cells,
        items,
        cells.select(key),
        {
            name: pl.DataFrame(
                {
                    "item": items,
                    "before": pl.repeat(None, cells.height, dtype=pl.String, eager=True),
                    "after": cells[name],
                }
            )
            for name in cells.columns
        },
        store.fields,
        store,
        store.writing,
        round=False,
        encoding=catalogue.layout.encoding,
        images=images,
    )
    keys = cells.select(pl.concat_list(pl.col(key).str.strip_chars())).to_series()
    flags = [pl.DataFrame(schema=FLAGS_SCHEMA)]
    for name, level, table in _run(ask, store, learned=False):
        value = pl.repeat(None, table.height, dtype=pl.String, eager=True)
        for field in table["field"].drop_nulls().unique():
            at = (table["field"] == field).fill_null(value=False).arg_true()
            value = value.scatter(at, cells[field].gather(table["item"].gather(at)))
        flags.append(
            table.with_columns(
                pl.lit(name).alias("check"),
                pl.lit(level).alias("level"),
                pl.lit("noted").alias("done"),
                key=keys.gather(table["item"]),
                row=catalogue.row(table["item"]),
                value=value,
            )
            .select(list(FLAGS_SCHEMA))
            .cast(FLAGS_SCHEMA)  # type: ignore[arg-type]
        )
    return pl.concat(flags)


def _run(ask: Ask, store: Store, *, learned: bool) -> Iterator[tuple[str, LevelName, pl.DataFrame]]:
    """The checks that are on, with their level and what they find."""
    for name, check in CHECKS.items():
        level = store.checks.get(check.name, "warn" if learned and name in GUESSED else check.level)
        if level == "off" or not (ask.round or check.alone):
            continue
        table = check.find(ask)
        if level != "stop":  # nothing is held, so an item is named once
            table = table.unique(["item", "what"], keep="first", maintain_order=True)
        if table.height:
            yield name, level, table


def _through(table: pl.DataFrame, changes: ChangeSet, accept: Sequence[Accept]) -> pl.Series:
    """Which findings are let through: by check, and by field or by a part of the key."""
    through = pl.repeat(False, table.height, eager=True)
    for one in accept:
        this = table["check"] == one.check
        if one.which is not None:
            at = table["field"] == one.which
            for part in changes.keys.columns:
                at |= (changes.keys[part].gather(table["item"]).str.strip_chars() == one.which).fill_null(value=False)
            this &= at.fill_null(value=False)
        through |= this
    return through


def _grouped(listed: pl.DataFrame) -> list[Finding]:
    """The findings as a person is told of them: by check, field and what was done."""
    groups = listed.group_by("check", "field", "done", maintain_order=True).len()
    return [
        Finding(name, name, [] if field is None else [field], many, CHECKS[name].does, done, CHECKS[name].do)
        for name, field, done, many in groups.iter_rows()
    ]
