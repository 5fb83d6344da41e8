"""Checks: what must not go to the store, and what a person should look at first.

One file for each sort, one entry for each check, each file registered here in one line (docs/checks.md).
"""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping, Sequence
from dataclasses import replace
from itertools import chain

import msgspec
import polars as pl

from neat_delta.core.checks.allowed import ALLOWED_CHECKS
from neat_delta.core.checks.base import FOUND, Ask, Check
from neat_delta.core.checks.believable import BELIEVABLE_CHECKS
from neat_delta.core.checks.identity import IDENTITY_CHECKS
from neat_delta.core.checks.relations import RELATION_CHECKS
from neat_delta.core.checks.value import VALUE_CHECKS
from neat_delta.core.kinds import blank
from neat_delta.core.model.catalogue import Catalogue
from neat_delta.core.model.changeset import FLAGS_SCHEMA, Accept, ChangeSet, Finding
from neat_delta.core.model.reasons import CHECK, DOUBT, INCOMPLETE, NOT
from neat_delta.core.model.store import LevelName, Store

__all__ = [
    "CHECKS",
    "check_catalogue",
    "checked",
    "hold_incomplete",
    "idle_checks",
    "let_through",
]

CHECKS: dict[str, Check] = {
    check.name: check
    for check in chain(VALUE_CHECKS, ALLOWED_CHECKS, IDENTITY_CHECKS, RELATION_CHECKS, BELIEVABLE_CHECKS)
}

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
    emptied: pl.Series | None = None,
    guessed: bool = False,
) -> ChangeSet:
    """The change set with what the checks find in its cells that are to be sent, and in new items.

    A finding of the level `stop` holds its cell, unless it is accepted, by `accept` or by a standing exception of the
    store file that has not ended before `today` (ISO 8601; None: none has). Without a field it
    holds the whole item, and without an item the whole round. `emptied` says per cell why it is held where no check
    holds it (None: it is not); `guessed` says that nothing told the sheet's encoding.
    """
    header = changes.header
    let = [*accept, *_excepted(store, today)]
    seen = _seen(changes.cells)
    levels = {name: _level(name, store, learned=header.learned) for name in CHECKS}
    stopped = pl.concat([_decided(table, name, levels[name], changes.keys, let) for name, table in seen.items()])
    stopped = stopped.filter(pl.col("done") == "held").with_columns(pl.col("field").cast(changes.cells.schema["field"]))
    otherwise = pl.lit(None, pl.String) if emptied is None else emptied
    cells = changes.cells.with_columns(held=pl.when(SEEN).then(otherwise).otherwise("held"))
    looked = cells.filter(pl.col("held").is_null())
    looked = looked.join(stopped, on=["item", "field"], how="anti") if stopped.height else looked
    parts = {str(name): looked.filter(pl.col("field") == name) for name in looked["field"].unique(maintain_order=True)}
    ask = Ask(
        live.cells,
        live.place(changes.items["live"]),
        changes.keys,
        {name: some.select("item", "before", "after") for name, some in parts.items()},
        header.settings,
        store,
        header.writing,
        encoding=live.layout.encoding,
        images=images,
        new_values=new_values,
        gone=header.counts.gone,
        guessed=guessed,
        seen=seen,
        held=changes.cells.filter(pl.col("held").is_not_null()).select("item", pl.col("field").cast(pl.String)),
    )
    flags = [_decided(table, name, levels[name], changes.keys, let) for name, table in _run(ask, levels)]
    if not flags:
        return replace(changes, cells=cells)
    table = pl.concat(flags)
    place = cells.filter(pl.col("item").is_in(table["item"].unique().implode()))
    place = place.select("item", pl.col("field").cast(pl.String), value="after")
    table = table.join(place, on=["item", "field"], how="left", maintain_order="left")
    rows = changes.items["sheet"].gather(table["item"])
    keys = changes.keys.select(pl.concat_list(pl.all())).to_series().gather(table["item"])
    listed = table.with_columns(row=rows, key=keys).select(list(FLAGS_SCHEMA)).cast(FLAGS_SCHEMA)  # type: ignore[arg-type]
    stop = table.filter(pl.col("done") == "held").unique(["item", "field"], keep="first", maintain_order=True)
    whole = stop.filter(pl.col("field").is_null())
    of_cells = stop.filter(pl.col("field").is_not_null())
    if of_cells.height:
        cells = cells.join(
            of_cells.select("item", pl.col("field").cast(cells.schema["field"]), "check"),
            on=["item", "field"],
            how="left",
            maintain_order="left",
        )
        cells = cells.with_columns(held=pl.coalesce(pl.lit(CHECK) + pl.col("check"), "held")).drop("check")
    all_of_it = whole.filter(pl.col("item").is_null())["check"]
    reasons = pl.repeat(
        CHECK + all_of_it[0] if all_of_it.len() else None, changes.items.height, dtype=pl.String, eager=True
    )
    some = whole.filter(pl.col("item").is_not_null())
    reasons = reasons.scatter(some["item"], CHECK + some["check"])
    items = changes.items.with_columns(held=pl.coalesce("held", reasons))
    counts = msgspec.structs.replace(header.counts, flags=listed.height)
    header = msgspec.structs.replace(header, counts=counts, findings=[*header.findings, *_grouped(listed)])
    return replace(changes, header=header, flags=listed).with_held(items, cells)


SEEN = pl.col("held").str.starts_with(CHECK).fill_null(value=False) | pl.col("held").str.starts_with(NOT).fill_null(
    value=False
)
"""The cells that were held for a check's sake while they were compared."""


def _seen(cells: pl.DataFrame) -> dict[str, pl.DataFrame]:
    """What was found while the cells were compared, by check."""
    some = cells.filter(SEEN).rechunk().with_columns(pl.col("field").cast(pl.String))
    after = pl.col("after").str.slice(0, 40)
    kept = pl.col("held").str.starts_with(NOT)
    some = some.select(
        "item",
        "field",
        check=pl.when(kept).then(pl.lit("unreadable")).otherwise(pl.col("held").str.strip_prefix(CHECK)),
        what=pl.when(pl.col("held").str.starts_with(DOUBT))
        .then(pl.format("{}: {}", after, pl.col("held").str.strip_prefix(DOUBT)))
        .when(kept)
        .then(pl.format("{} is {}", after, "held"))
        .when(blank(pl.col("after")))
        .then(pl.lit("it was emptied"))
        .otherwise(pl.format("from {} to {}", pl.col("before").str.slice(0, 40), after)),
    )
    return {
        name: some.filter(pl.col("check") == name).select(list(FOUND)) for name in ("required", "unreadable", "locked")
    }


def hold_incomplete(changes: ChangeSet) -> ChangeSet:
    """The change set with every new item held of which a required cell is held."""
    required = [name for name, field in changes.header.settings.items() if field.required]
    new = ((pl.col("verdict") == "new") & pl.col("held").is_null()).alias("new")
    arriving = changes.items.select(new).to_series().arg_true()
    lacking = changes.cells.filter(
        pl.col("held").is_not_null()
        & pl.col("item").is_in(arriving.implode())
        & pl.col("field").cast(pl.String).is_in(required)
    )
    if not lacking.height:
        return changes
    lacking = lacking.unique("item", keep="first", maintain_order=True)
    why = lacking.select(pl.format(INCOMPLETE + "{} is held", pl.col("field").cast(pl.String))).to_series()
    items = changes.items.with_columns(held=changes.items["held"].clone().scatter(lacking["item"], why))
    return changes.with_held(items, changes.cells)


def _level(name: str, store: Store, *, learned: bool) -> LevelName:
    return store.checks.get(CHECKS[name].name, "warn" if learned and name in GUESSED else CHECKS[name].level)


def _excepted(store: Store, today: str | None) -> list[Accept]:
    """The standing exceptions that have not ended."""
    standing = (one for one in store.exceptions if not today or (one.until or today) >= today)
    return [Accept(one.check, one.which) for one in standing]


def _decided(
    table: pl.DataFrame, name: str, level: LevelName, keys: pl.DataFrame, let: Sequence[Accept]
) -> pl.DataFrame:
    """What a check finds, with what is done about each finding."""
    table = table.with_columns(check=pl.lit(name), level=pl.lit(level))
    done = pl.when(let_through(table, keys, let)).then(pl.lit("accepted"))
    return table.with_columns(done=done.when(pl.col("level") == "stop").then(pl.lit("held")).otherwise(pl.lit("noted")))


def check_catalogue(
    catalogue: Catalogue,
    store: Store,
    key: list[str],
    *,
    images: Collection[str] | None = None,
    today: str | None = None,
) -> pl.DataFrame:
    """What the checks that need no sheet find in a whole catalogue: the columns of `ChangeSet.flags`. What the store
    file excepts, up to `today`, is accepted; the rest is noted, whatever its level.
    """
    cells, ask = catalogue.cells, _alone(catalogue, store, key, images)
    keys = cells.select(pl.concat_list(pl.col(key).str.strip_chars())).to_series()
    flags, excepted = [pl.DataFrame(schema=FLAGS_SCHEMA)], _excepted(store, today)
    levels = {name: _level(name, store, learned=False) for name in CHECKS}
    for name, table in _run(ask, levels):
        value = pl.repeat(None, table.height, dtype=pl.String, eager=True)
        for field in table["field"].drop_nulls().unique():
            at = (table["field"] == field).fill_null(value=False).arg_true()
            value = value.scatter(at, cells[field].gather(table["item"].gather(at)))
        flags.append(
            _decided(table, name, levels[name], cells.select(key), excepted)
            .with_columns(
                pl.col("done").replace("held", "noted"),
                key=keys.gather(table["item"]),
                row=catalogue.row(table["item"]),
                value=value,
            )
            .select(list(FLAGS_SCHEMA))
            .cast(FLAGS_SCHEMA)  # type: ignore[arg-type]
        )
    return pl.concat(flags)


def _alone(catalogue: Catalogue, store: Store, key: list[str], images: Collection[str] | None) -> Ask:
    """A whole catalogue, as the checks are asked about it."""
    cells = catalogue.cells
    items = pl.int_range(cells.height, dtype=pl.Int64, eager=True)
    before = pl.repeat(None, cells.height, dtype=pl.String, eager=True)
    return Ask(
        cells,
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
    catalogue: Catalogue, store: Store, key: list[str], *, images: Collection[str] | None = None
) -> dict[str, str]:
    """The checks that do not run on this catalogue by itself, each with what would switch it on."""
    ask = _alone(catalogue, store, key, images)
    found = {}
    for name, check in CHECKS.items():
        off = "another level than off, under [checks]" if _level(name, store, learned=False) == "off" else None
        why = off or (None if check.alone else NEEDS_SHEET) or check.idle(ask)
        if why is not None:
            found[name] = why
    return found


def _run(ask: Ask, levels: Mapping[str, LevelName]) -> Iterator[tuple[str, pl.DataFrame]]:
    """The checks that are on, with what they find."""
    for name, check in CHECKS.items():
        if levels[name] == "off" or not (ask.round or check.alone):
            continue
        table = check.find(ask)
        if levels[name] != "stop":  # nothing is held, so an item is named once
            table = table.unique(["item", "what"], keep="first", maintain_order=True)
        if table.height:
            yield name, table


def let_through(table: pl.DataFrame, keys: pl.DataFrame, accept: Sequence[Accept]) -> pl.Series:
    """Which findings (`check`, `item`, `field`) are let through: by check, and by field or by a part of the key."""
    through = pl.repeat(False, table.height, eager=True)
    for one in accept:
        this = table["check"] == one.check
        if one.which is not None:
            at = table["field"] == one.which
            for part in keys.columns:
                at |= (keys[part].gather(table["item"]).str.strip_chars() == one.which).fill_null(value=False)
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
