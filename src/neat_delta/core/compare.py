"""Comparing: two catalogues in, change set out. What is held at this stage, and why, is decided here alone."""

from __future__ import annotations

from collections import Counter
from collections.abc import Collection, Sequence
from dataclasses import dataclass, replace
from typing import Literal

import msgspec
import polars as pl

from neat_delta.core.catalogue import Catalogue, listed, renamed
from neat_delta.core.changes import (
    FORMAT,
    ITEMS_SCHEMA,
    VERSION,
    Accept,
    ChangeSet,
    Counts,
    Finding,
    Header,
    SetAside,
    cells_schema,
    held,
)
from neat_delta.core.checks import CHECK, checked
from neat_delta.core.errors import CatalogueError
from neat_delta.core.findings import look
from neat_delta.core.fold import fold
from neat_delta.core.headings import Pair, Pairing, pair
from neat_delta.core.kinds import blank
from neat_delta.core.layout import Writing
from neat_delta.core.learn import glance, with_writing
from neat_delta.core.match import REPEATS, SAME_ROW, Matched, find_key, match
from neat_delta.core.slips import missing, pasted_twice
from neat_delta.core.store import Field, Key, Store, continued
from neat_delta.core.values import by_value, sheet_writing

__all__ = ["EMPTIED", "GONE", "NEW", "Blanks", "Laid", "as_fields", "compare", "lay"]

Blanks = Literal["hold", "clear", "keep"]
"""What a cell emptied in the sheet means: ask first (hold it), empty the field, or leave the field as it is."""

EMPTIED, NEW, GONE = "emptied", "new", "gone"
"""The reasons for which compare holds a change, with those of damage, of slips and of checks."""


@dataclass(frozen=True, slots=True)
class Laid:
    """Two catalogues side by side under the names of live's fields: what is compared.

    `pairs` are the sheet's headings; `key` is what items are known by; `store` what the store file says, if there is
    one; `headings` what live calls the fields that have a name of their own.
    """

    live: Catalogue
    sheet: Catalogue
    pairs: list[Pair]
    key: Key
    store: Store | None
    headings: dict[str, str]


def as_fields(live: Catalogue, store: Store) -> Catalogue:
    """Live under the names that the store file gives its fields. CatalogueError when a field that it names is not
    there.
    """
    known = {name: field.heading for name, field in store.fields.items() if field.heading is not None}
    wanted = {heading: name for name, heading in known.items() if heading in live.fields}
    return renamed(live, {heading: name for heading, name in wanted.items() if heading != name})


def lay(
    live: Catalogue,
    sheet: Catalogue,
    *,
    store: Store | None = None,
    key: Sequence[str] = (),
    told: Pairing | None = None,
    saved: Pairing | None = None,
    only: Collection[str] = (),
) -> Laid:
    """Lay the sheet beside live: pair the headings, find the key, fold what goes on over several lines.

    Raises CatalogueError when a name that was told is none, two headings mean one field, or the sheet lacks the key.
    """
    known = store or Store()
    headings = live.fields
    live = as_fields(live, known)
    names = {name: heading for heading, name in zip(headings, live.fields, strict=True) if heading != name}
    keys = find_key(live, key or (saved.key if saved else []) or known.key.fields)
    pairs = pair(
        sheet.fields,
        live.fields,
        known=known.fields,
        told=told,
        saved=saved,
        only=only,
        key=keys,
        path=sheet.path,
        places=[place for place in range(1, len(sheet.fields) + len(sheet.unnamed) + 1) if place not in sheet.unnamed],
    )
    taken = {one.heading: one.field for one in pairs if one.field is not None}
    for name in keys:
        if name not in taken.values():
            raise CatalogueError(
                f'{sheet.path}: no heading stands for "{name}", which is the key in {live.path}. '
                f"Say which one does with --map. It has: {listed(sheet.fields)}."
            )
    live = fold(live, keys, continued(known))
    sheet = replace(sheet, cells=sheet.cells.select(list(taken)))
    sheet = renamed(sheet, {heading: name for heading, name in taken.items() if heading != name})
    return Laid(
        live,
        fold(sheet, keys, continued(known)),
        pairs,
        msgspec.structs.replace(known.key, fields=keys),
        store,
        names,
    )


def compare(
    live: Catalogue,
    sheet: Catalogue,
    *,
    store: Store | None = None,
    key: Sequence[str] = (),
    told: Pairing | None = None,
    saved: Pairing | None = None,
    only: Collection[str] = (),
    writing: Writing | None = None,
    accept_near: bool = False,
    blanks: Blanks = "hold",
    with_new: bool = False,
    with_gone: bool = False,
    accept: Sequence[Accept] = (),
    repair: bool = False,
    images: Collection[str] | None = None,
    new_values: Collection[str] = (),
    today: str | None = None,
) -> ChangeSet:
    """What the sheet changes in live, keyed by item.

    `store` says what is known of the store; without it, the fields' kinds are learned from a sample of live. `key`
    names the key fields (default: the store file's, or the heading that is plainly the SKU). `told`, `saved` and
    `only` say which headings mean which fields (`headings.pair`), `writing` how the sheet writes values (default: as
    its cells show). `accept_near` takes keys that nearly are live's.
    An item missing in the sheet is `gone` and held unless `with_gone`; an item that live lacks is `new` and held unless
    `with_new`; a cell emptied in the sheet is held, taken as said (`clear`) or dropped (`keep`), its text after being
    ""; a value that its kind cannot read is held. The text after is the value as the store writes it.
    Damaged cells and cells that a slip touches are held, but for those that `accept` lets through; `repair` puts live's
    value back where only the writing was damaged. Then the checks look at what is to be sent (`checks.checked`, which
    also says what `images`, `new_values` and `today` are).
    Raises CatalogueError when the two cannot be compared.
    """
    laid = lay(live, sheet, store=store, key=key, told=told, saved=saved, only=only)
    live, sheet = laid.live, laid.sheet
    read = sheet
    matched = match(live, sheet, laid.key, accept_near=accept_near, repair=repair)
    twice = pasted_twice(sheet, matched.key, _repeated(sheet, matched))
    if repair and twice.len():
        sheet, matched = _once(live, sheet, twice, laid.key, accept_near=accept_near)
    cells = _texts_that_differ(live, sheet, matched)
    known = (
        with_writing(store, live) if store else glance(live, matched.key, cells["field"].unique(maintain_order=True))
    )
    settings = {name: known.fields.get(name, Field()) for name in matched.fields}
    mine = sheet_writing(cells, settings, known.writing, writing or Writing())
    cells = cells.with_columns(raw="after")
    differing = by_value(cells, settings, known.writing, mine, learned=store is None)
    required = [name for name, field in settings.items() if field.required]
    locked = [name for name, field in settings.items() if field.locked]
    empty = blank(pl.col("after"))
    why = pl.lit(EMPTIED if blanks == "hold" else None, pl.String)
    differing = differing.with_columns(
        emptied=empty & ~pl.col("same"),
        after=pl.when(empty).then(pl.lit("")).otherwise("after"),
        held=pl.when(pl.col("field").is_in(locked) & pl.col("pair").is_not_null())
        .then(pl.lit(CHECK + "locked"))
        .when(~empty)
        .then("held")
        .when(pl.col("field").is_in(required))
        .then(pl.lit(CHECK + "required"))
        .otherwise(why),
    )
    columns = {one.field: one.column for one in laid.pairs if one.field is not None}
    looked = look(
        differing, live, sheet, matched, settings, known.writing, columns=columns, accept=accept, repair=repair
    )
    differing = looked.cells
    added = differing.filter(pl.col("pair").is_null() & (pl.col("after") != ""))
    differing = differing.filter(pl.col("pair").is_not_null())
    also = differing["same"] & ~differing.select(blank(pl.col("before")) & blank(pl.col("after"))).to_series()
    differs = ~differing["same"]
    if laid.key.shared == "all":
        differs |= _with_their_twins(differing, matched)
        also &= ~differs
        row = matched.both["sheet"].gather(differing["pair"])
        why = pl.col("held").filter(pl.col("held").is_not_null()).first().over(row, "field")
        differing = differing.with_columns(held=why)  # what must not go to one of them goes to none
    emptied = differs & differing["emptied"]
    kept = int(emptied.sum()) if blanks == "keep" else 0
    differing = differing.filter(differs & ~emptied if kept else differs)
    changed = matched.both.gather(differing["pair"].unique().sort())
    places = _items(changed, matched.gone, matched.new, None if with_new else NEW, None if with_gone else GONE)
    cells = _cells(differing, matched, places, added)
    items = places.with_columns(live=live.row(places["live"]), sheet=sheet.row(places["sheet"]))
    keys = pl.concat(
        [
            live.cells.select(matched.key).gather(places["live"].drop_nulls()),
            sheet.cells.select(pl.col(matched.key).str.strip_chars()).gather(matched.new),
        ]
    )
    repaired = int((looked.damaged["done"] == "repaired").sum())
    header = Header(
        format=FORMAT,
        version=VERSION,
        key=matched.key,
        fields=matched.fields,
        live=live.source,
        sheet=read.source,
        counts=Counts(
            same=matched.both.height - changed.height,
            changed=changed.height,
            new=matched.new.len(),
            gone=matched.gone.len(),
            set_aside_live=sum(row.file == "live" for row in matched.set_aside),
            set_aside_sheet=sum(row.file == "sheet" for row in matched.set_aside),
            cells=cells.height,
            held_cells=int(held(items, cells).sum()),
            blanks_kept=kept,
            written_differently=int(also.sum()) - repaired,
            damaged=looked.damaged.height,
            repaired=repaired,
        ),
        pairs=laid.pairs,
        headings=laid.headings,
        untouched=[name for name in live.fields if name not in set(sheet.fields)],
        settings=_settings(live, known),
        writing=known.writing,
        sheet_writing=mine,
        learned=store is None,
        shared=laid.key.shared == "all",
        name=laid.key.name,
        near=matched.near,
        set_aside=matched.set_aside,
        findings=_of_rows(live, sheet, matched, twice, repair=repair) + looked.findings,
        accepted=list(accept),
        relations=known.relations,
    )
    changes = ChangeSet(header, keys, items, cells, looked.damaged)
    reason = EMPTIED if blanks == "hold" else None
    return checked(
        changes, live, known, accept=accept, images=images, new_values=new_values, today=today, emptied=reason
    )


def _settings(live: Catalogue, known: Store) -> dict[str, Field]:
    """What is known of live's fields, those that the sheet lacks among them, where they are more than text."""
    return {name: known.fields[name] for name in live.fields if known.fields.get(name, Field()) != Field()}


def _repeated(sheet: Catalogue, matched: Matched) -> pl.Series:
    """The places in the sheet of the rows that were set aside because their key repeats there."""
    rows = [row.row for row in matched.set_aside if row.file == "sheet" and row.reason == REPEATS]
    return sheet.place(pl.Series(rows, dtype=pl.Int64))


def _once(
    live: Catalogue, sheet: Catalogue, twice: pl.Series, key: Key, *, accept_near: bool
) -> tuple[Catalogue, Matched]:
    """The sheet without the rows that were pasted again, and the match without them; they are set aside."""
    kept = pl.int_range(sheet.cells.height, eager=True).is_in(twice.implode()).not_()
    rows = sheet.row(pl.int_range(sheet.cells.height, eager=True))
    again = [
        SetAside("sheet", row, found, SAME_ROW)
        for row, found in zip(
            sheet.row(twice), sheet.cells.select(key.fields).gather(twice).rows(named=True), strict=True
        )
    ]
    once = replace(sheet, cells=sheet.cells.filter(kept), numbers=rows.filter(kept))
    matched = match(live, once, key, accept_near=accept_near, repair=True)
    aside = sorted([*matched.set_aside, *again], key=lambda row: (row.file, row.row))
    return once, replace(matched, set_aside=aside)


def _of_rows(live: Catalogue, sheet: Catalogue, matched: Matched, twice: pl.Series, *, repair: bool) -> list[Finding]:
    """What is to be said of whole rows and of keys."""
    found = []
    damages = Counter((near.damage, near.taken) for near in matched.near if near.damage is not None)
    for (name, taken), many in damages.items():
        why = "the key is in no other way near, and no other item comes as near"
        found.append(Finding("damage", name, matched.key, many, why, "repaired" if taken else "held"))
    if twice.len():
        why = f"{twice.len():,} rows are the same as one before them in every cell"
        found.append(Finding("slip", "rows pasted twice", [], 0, why, "repaired" if repair else "noted"))
    lost = missing(live, sheet, matched, matched.fields)
    if lost is not None:
        found.append(Finding("slip", "rows missing", [], 0, lost, "noted"))
    return found


def _with_their_twins(differing: pl.DataFrame, matched: Matched) -> pl.Series:
    """The cells that change because those of another item with the same key do: the importer cannot tell them apart."""
    row = matched.both["sheet"].gather(differing["pair"])
    changes = (~differing["same"]).to_frame("change").with_columns(row=row, field=differing["field"])
    any_of_them = changes.select(pl.col("change").any().over("row", "field")).to_series()
    return any_of_them & (differing["before"] != differing["after"])


def _texts_that_differ(live: Catalogue, sheet: Catalogue, matched: Matched) -> pl.DataFrame:
    """The cells whose text differs, by field in live's order: `field`, `pair` (row of `matched.both`), `before`,
    `after`.

    Then those of new items, in which `pair` and `before` are null and `new` is the place in `matched.new`.
    First whole rows are compared, then the cells of those that differ, by 64 bits of hash: two texts that differ
    go unnoticed once in 18 million million million. Gathering hashes in the other file's order is many times
    cheaper than gathering texts; for a few rows the texts themselves are cheapest.
    """
    rows = _rows_that_differ(live.cells, sheet.cells, matched)
    in_live, in_sheet = matched.both["live"].gather(rows), matched.both["sheet"].gather(rows)
    one, other = live.cells.select(matched.fields), sheet.cells.select(matched.fields)
    if rows.len() > matched.both.height // 8:
        differs = pl.DataFrame(
            one[field].hash().gather(in_live) != other[field].hash().gather(in_sheet) for field in one.columns
        )
    else:
        ours, theirs = _some(one, in_live), _some(other, in_sheet)
        differs = pl.DataFrame(ours[field] != theirs[field] for field in one.columns)
    schema = {"field": pl.String, "pair": pl.UInt32, "new": pl.UInt32, "before": pl.String, "after": pl.String}
    found = [pl.DataFrame(schema=schema)]
    for field in matched.fields:
        cell = differs[field].arg_true()
        if cell.len():
            texts = {
                "before": one[field].gather(in_live.gather(cell)),
                "after": other[field].gather(in_sheet.gather(cell)),
            }
            found.append(_table({"pair": rows.gather(cell)} | texts, schema, field))
    for field in matched.fields if matched.new.len() else ():
        places = pl.int_range(matched.new.len(), dtype=pl.UInt32, eager=True)
        found.append(_table({"new": places, "after": other[field].gather(matched.new)}, schema, field))
    return pl.concat(found)


def _table(columns: dict[str, pl.Series], schema: dict[str, type[pl.DataType]], field: str) -> pl.DataFrame:
    table = pl.DataFrame(columns).with_columns(field=pl.lit(field))
    missing = [pl.lit(None, kind).alias(name) for name, kind in schema.items() if name not in table.columns]
    return table.with_columns(missing).select(list(schema)).cast(schema)  # type: ignore[arg-type]


def _some(table: pl.DataFrame, places: pl.Series) -> pl.DataFrame:
    """A few rows of a table, in the order given. Taking them in the table's own order first is several times faster."""
    wanted = pl.repeat(False, table.height, eager=True).scatter(places, True)
    return table.filter(wanted).rechunk().gather(places.rank("dense").cast(pl.UInt32) - 1)


def _rows_that_differ(live: pl.DataFrame, sheet: pl.DataFrame, matched: Matched) -> pl.Series:
    """The rows of `matched.both` in which the text of any common field differs."""
    one, other = (table.select(matched.fields).hash_rows() for table in (live, sheet))
    return (one.gather(matched.both["live"]) != other.gather(matched.both["sheet"])).arg_true()


def _items(
    changed: pl.DataFrame, gone: pl.Series, new: pl.Series, reason_new: str | None, reason_gone: str | None
) -> pl.DataFrame:
    """The items that are not the same, with their places in the files; new ones last, in the sheet's order."""

    def some(verdict: str, reason: str | None, **places: pl.Series) -> pl.DataFrame:
        table = pl.DataFrame(places).with_columns(verdict=pl.lit(verdict), held=pl.lit(reason, pl.String))
        missing = [pl.lit(None).alias(name) for name in ITEMS_SCHEMA if name not in table.columns]
        return table.with_columns(missing).select(list(ITEMS_SCHEMA)).cast(ITEMS_SCHEMA)  # type: ignore[arg-type]

    of_live = pl.concat(
        [some("changed", None, live=changed["live"], sheet=changed["sheet"]), some("gone", reason_gone, live=gone)]
    )
    return pl.concat([of_live.sort("live"), some("new", reason_new, sheet=new)])


def _cells(differing: pl.DataFrame, matched: Matched, places: pl.DataFrame, added: pl.DataFrame) -> pl.DataFrame:
    """The changed cells by item and field: those that differ, and those of new items that hold something."""
    schema = cells_schema(matched.fields)
    number = places.with_row_index("item")
    old = differing.with_columns(live=matched.both["live"].gather(differing["pair"]).cast(pl.Int64))
    new = number.filter(pl.col("verdict") == "new")["item"]
    tables = [
        old.join(number.select("item", "live"), on="live", how="left"),
        added.with_columns(item=new.gather(added["new"])),
    ]
    fitting = [table.select(list(schema)).cast(schema) for table in tables]  # type: ignore[arg-type]
    return pl.concat(fitting).sort("item", "field")
