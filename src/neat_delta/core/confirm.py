"""Confirming: whether what was sent stands in the next export, item by item, and what else moved meanwhile."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from decimal import Decimal
from typing import Literal, get_args

import msgspec
import polars as pl

from neat_delta.core.catalogue import MARK, Catalogue
from neat_delta.core.changes import ITEMS_SCHEMA, ChangeSet, Counts, Verdict, cells_schema, code_changes
from neat_delta.core.errors import CatalogueError
from neat_delta.core.importer import Removal
from neat_delta.core.kinds import KINDS
from neat_delta.core.kinds.base import EXACT
from neat_delta.core.kinds.number import NUMBER_KINDS
from neat_delta.core.laid import as_fields
from neat_delta.core.layout import Writing
from neat_delta.core.manifest import Listed
from neat_delta.core.proof import with_cells, without
from neat_delta.core.store import Field, Store
from neat_delta.core.values import equal

__all__ = ["Confirmed", "Landing", "again", "confirm", "held_back", "undone"]

Outcome = Literal["landed", "not landed", "differently"]
"""What became of a change: it stands as it was meant, as it was before, or as something else."""


class Landing(msgspec.Struct, frozen=True, omit_defaults=True):
    """One change that did not land as it was meant: its item, its field (null for the whole item), what stood before,
    what was meant, what stands now (null where there is none), the outcome, and how it differs, where that is plain.
    """

    key: dict[str, str]
    field: str | None
    before: str | None
    meant: str | None
    now: str | None
    outcome: Outcome
    how: str | None = None


@dataclass(frozen=True, slots=True)
class Confirmed:
    """The changes that were sent, counted by outcome; those that did not land; and what else moved: `item`'s key,
    `field`, `before`, `now`, and whether the field is one that the store moves by itself. `twice` are the keys that
    stand in more rows than live had them in.
    """

    counts: Mapping[str, int]
    trouble: list[Landing]
    moved: pl.DataFrame
    came: int
    went: int
    twice: list[dict[str, str]]

    @property
    def all_landed(self) -> bool:
        """Whether every change stands as it was meant, and no item twice."""
        return not self.trouble and not self.twice


def held_back(changes: ChangeSet, listed: Sequence[Listed]) -> ChangeSet:
    """The change set with that held, too, which a folder of update files does not have, as its manifest lists it: what
    its importer could not take, and what was not signed off.
    """
    why = {(tuple(one.key.values()), one.field): one.reason for one in listed}
    keys = changes.keys.rows()
    items = [held or why.get((keys[item], None)) for item, held in enumerate(changes.items["held"])]
    cells = [
        held or why.get((keys[item], field))
        for item, field, held in changes.cells.select("item", "field", "held").rows()
    ]
    return replace(
        changes,
        items=changes.items.with_columns(held=pl.Series(items, dtype=pl.String)),
        cells=changes.cells.with_columns(held=pl.Series(cells, dtype=pl.String)),
    )


def confirm(changes: ChangeSet, live: Catalogue, after: Catalogue, store: Store | None = None) -> Confirmed:
    """What became of the sent changes in the catalogue `after`, by value, as the fields' kinds compare.

    `live` is the catalogue before; the `store` says by which names `after` calls its fields, and how an item is
    removed. CatalogueError when `after` lacks the key or a field that was sent.
    """
    header, removal = changes.header, (store or Store()).importer.removal
    after = as_fields(after, store or Store())
    for name in (*header.key, *sorted({str(one) for one in changes.sent()["field"]})):
        if name not in after.fields:
            raise CatalogueError(f'{after.path}: it has no field "{name}", so nobody can see what became of it.')
    keys = _keys_now(changes, live, after)
    places = _places(keys, after.cells, header.key)
    cells = changes.sent().with_columns(pl.col("field").cast(pl.String))
    trouble: list[tuple[int, Landing]] = []
    counts = {"landed": 0, "not landed": 0, "differently": 0}
    for (name,), some in cells.group_by("field", maintain_order=True):
        field = header.settings.get(str(name), Field())
        if name in header.key:  # it is where it is by its code alone
            field = Field("code")
        found = _of_field(str(name), some, after, places, field, header.writing)
        for item, before, meant, now, outcome, how in found:
            counts[outcome] += 1
            if outcome != "landed":
                key = changes.keys.row(item, named=True)
                trouble.append((item, Landing(key, str(name), before, meant, now, outcome, how)))
    gone = changes.items.with_row_index("item").filter((pl.col("verdict") == "gone") & pl.col("held").is_null())
    for item in gone["item"]:
        place = places[item]
        retired = removal.how == "value" and place is not None and after.cells[str(removal.heading)][place]
        landed = place is None or retired == removal.value
        counts["landed" if landed else "not landed"] += 1
        if not landed:
            trouble.append((item, Landing(changes.keys.row(item, named=True), None, None, None, None, "not landed")))
    order = sorted(trouble, key=lambda one: one[0])
    ours = cells.select("item", "field")
    if removal.how == "value":
        ours = pl.concat([ours, gone.select(pl.col("item").cast(pl.Int64), field=pl.lit(removal.heading))])
    return Confirmed(
        counts, [one for _, one in order], *_moved(changes, keys, live, after, ours), _twice(live, after, header.key)
    )


def _twice(live: Catalogue, after: Catalogue, key: list[str]) -> list[dict[str, str]]:
    """The keys that stand in more rows of `after` than of live, where they stand more than once."""

    def rows(catalogue: Catalogue) -> pl.DataFrame:
        keys = catalogue.cells.select(pl.col(name).str.strip_chars() for name in key)
        return keys.filter(pl.any_horizontal(pl.all() != "")).group_by(key, maintain_order=True).len(MARK)

    now = rows(after).filter(pl.col(MARK) > 1)
    both = now.join(rows(live), on=key, how="left", suffix=MARK, maintain_order="left")
    more = both.filter(pl.col(MARK) > pl.col(MARK + MARK).fill_null(1))
    return more.select(key).rows(named=True)


def again(
    changes: ChangeSet, live: Catalogue, after: Catalogue, confirmed: Confirmed, store: Store | None = None
) -> ChangeSet:
    """What did not land, as a change set against the catalogue `after`; an item that is there no more is left out."""
    after = as_fields(after, store or Store())
    keys = _keys_now(changes, live, after)
    numbers = {tuple(key): number for number, key in enumerate(changes.keys.rows())}
    verdicts = changes.items["verdict"]
    wanted: dict[int, Wanted] = {}
    for one in confirmed.trouble:
        item = numbers[tuple(one.key.values())]
        verdict = {"recoded": "changed"}.get(verdicts[item], verdicts[item])
        _, cells = wanted.setdefault(item, ("gone" if one.field is None else verdict, {}))
        if one.field is not None:
            cells[one.field] = one.meant or ""
    there = _places(keys, after.cells, changes.header.key)
    for item, (verdict, cells) in list(wanted.items()):
        if verdict == "new" and there[item] is not None:
            wanted[item] = ("changed", cells)
        elif verdict == "changed" and there[item] is None:
            del wanted[item]
    return _change_set(replace(changes, keys=keys), after, wanted)


def undone(
    changes: ChangeSet, live: Catalogue, now: Catalogue | None = None, store: Store | None = None
) -> tuple[ChangeSet, Catalogue, list[Landing]]:
    """What takes the sent changes back, as a change set against the catalogue as it is `now` (None: with every change
    landed), that catalogue, and what is left alone, since it does not stand as we set it: somebody changed it since.

    What stands as it was before needs nothing. A new item is removed only if it stands just as it was sent; one that
    was removed comes back as live had it.
    """
    key = changes.header.key
    removal = (store or Store()).importer.removal
    retires = str(removal.heading) if removal.how == "value" else None
    after = as_fields(now, store or Store()) if now is not None else _landed(changes, live, removal)
    result = confirm(changes, live, after, store)
    other = {(tuple(one.key.values()), one.field): one for one in result.trouble}
    left = [one for one in result.trouble if one.outcome == "differently"]
    keys = _keys_now(changes, live, after)
    there, places = _places(keys, after.cells, key), live.place(changes.items["live"])
    wanted: dict[int, Wanted] = {}
    sent = changes.sent().with_columns(pl.col("field").cast(pl.String))
    for (item,), cells in sent.group_by("item", maintain_order=True):
        number = int(str(item))
        name = tuple(changes.keys.row(number))
        stands = [
            (field, before)
            for field, before in cells.select("field", "before").iter_rows()
            if (name, field) not in other
        ]
        if changes.items["verdict"][number] in {"changed", "recoded"}:
            if stands:
                wanted[number] = ("changed", dict(stands))
        elif len(stands) == cells.height:
            wanted[number] = ("gone", {})
    items = changes.items.with_row_index("item").filter((pl.col("verdict") == "gone") & pl.col("held").is_null())
    for number in items["item"]:
        if retires is not None and there[number] is not None:
            if after.cells[retires][there[number]] == removal.value:
                wanted[number] = ("changed", {retires: live.cells[retires][places[number]]})
        elif there[number] is None:
            row = live.cells.row(places[number], named=True)
            wanted[number] = ("new", {name: text for name, text in row.items() if name not in key and text.strip()})
    codes = {*key} & {*changes.header.fields}
    fields = [name for name in live.fields if name in after.fields and (name not in key or name in codes)]
    header = msgspec.structs.replace(changes.header, fields=fields)
    return _change_set(replace(changes, header=header, keys=keys), after, wanted), after, left


def _landed(changes: ChangeSet, live: Catalogue, removal: Removal) -> Catalogue:
    """Live as it is once every change has landed."""
    places = live.place(changes.items["live"])
    sent = changes.sent()
    cells = with_cells(live.cells, places, sent)
    items = changes.items.with_row_index("item").filter(pl.col("held").is_null())
    gone = places.gather(items.filter(pl.col("verdict") == "gone")["item"])
    if removal.how == "value":
        name = str(removal.heading)
        cells = cells.with_columns(cells[name].clone().scatter(gone, str(removal.value)).alias(name))
    else:
        cells = without(cells, gone)
    new = items.filter(pl.col("verdict") == "new")["item"]
    rows = {name: dict.fromkeys(live.fields, "") | changes.keys.row(name, named=True) for name in new}
    for item, field, text in sent.filter(pl.col("before").is_null()).select("item", "field", "after").iter_rows():
        rows[item][field] = text
    added = pl.DataFrame(list(rows.values()), schema=cells.schema, orient="row")
    return replace(live, cells=pl.concat([cells, added]), numbers=None)


def _keys_now(changes: ChangeSet, live: Catalogue, after: Catalogue) -> pl.DataFrame:
    """The items' keys by which the catalogue `after` has them: the new code where it has landed, else the old one.

    Where both codes are there (they were swapped, or passed on), the item is the one that agrees in more fields.
    """
    key = changes.header.key
    sent = changes.sent().with_columns(pl.col("field").cast(pl.String))
    codes = code_changes(sent, key)
    if not codes.height:
        return changes.keys
    wanted = changes.keys
    for (name,), some in codes.group_by("field"):
        wanted = wanted.with_columns(wanted[str(name)].clone().scatter(some["item"], some["after"]))
    items = codes["item"].unique().sort()
    old, new = (_places(keys, after.cells, key).gather(items) for keys in (changes.keys, wanted))
    places = live.place(changes.items["live"]).gather(items)
    same = [pl.repeat(0, items.len(), dtype=pl.Int64, eager=True) for _ in (old, new)]
    for name in live.fields:
        if name not in key and name in after.fields:
            was = live.cells[name].gather(places)
            same = [
                so_far + (after.cells[name].gather(at) == was).fill_null(value=False)
                for so_far, at in zip(same, (old, new), strict=True)
            ]
    landed = items.filter(new.is_not_null() & (old.is_null() | (same[1] >= same[0])))
    come = pl.repeat(False, wanted.height, eager=True).scatter(landed, True)
    return pl.DataFrame([wanted[name].zip_with(come, changes.keys[name]) for name in key])


Wanted = tuple[str, dict[str, str]]
"""What is to become of an item: its verdict, and its fields' texts; a new code makes of `changed` recoded."""


def _change_set(changes: ChangeSet, after: Catalogue, wanted: Mapping[int, Wanted]) -> ChangeSet:
    """A change set against the catalogue `after` that makes of these items what is wanted."""
    fields = changes.header.fields
    places = _places(changes.keys, after.cells, changes.header.key)
    known = sorted((places[item], item) for item, (verdict, _) in wanted.items() if verdict != "new")
    order = [item for _, item in known] + sorted(item for item, (verdict, _) in wanted.items() if verdict == "new")
    items, rows = [], []
    for number, item in enumerate(order):
        verdict, cells = wanted[item]
        place = places[item] if verdict != "new" else None
        row = None if place is None else int(after.row(pl.Series([place]))[0])
        sheet = None if verdict == "gone" else changes.items["sheet"][item] or number + 2
        if verdict == "changed" and cells.keys() & {*changes.header.key}:
            verdict = "recoded"
        items.append((verdict, row, sheet, None))
        for name in fields:
            if name in cells:
                rows.append((number, name, None if place is None else after.cells[name][place], cells[name], None))
    table = pl.DataFrame(items, schema=ITEMS_SCHEMA, orient="row")
    counted = {verdict: int((table["verdict"] == verdict).sum()) for verdict in get_args(Verdict)}
    counts = Counts(
        same=after.cells.height - sum(counted.values()) + counted["new"],
        set_aside_live=0,
        set_aside_sheet=0,
        cells=len(rows),
        held_cells=0,
        blanks_kept=0,
        written_differently=0,
        **counted,
    )
    header = msgspec.structs.replace(
        changes.header, live=after.source, counts=counts, findings=[], near=[], set_aside=[]
    )
    cells_table = pl.DataFrame(rows, schema=cells_schema(fields), orient="row")
    keys = changes.keys.gather(pl.Series(order, dtype=pl.Int64))
    return ChangeSet(header, keys, table, cells_table)


def _places(keys: pl.DataFrame, cells: pl.DataFrame, key: list[str]) -> pl.Series:
    """Where these keys stand in a catalogue; null where they do not."""
    there = cells.select(pl.col(name).str.strip_chars() for name in key).with_row_index(MARK).unique(key, keep="first")
    wanted = keys.select(pl.col(name).str.strip_chars() for name in key)
    return wanted.join(there, on=key, how="left", maintain_order="left")[MARK]


def _of_field(
    name: str, cells: pl.DataFrame, after: Catalogue, places: pl.Series, field: Field, writing: Writing
) -> list[tuple[int, str | None, str, str | None, Outcome, str | None]]:
    """Each cell of a field with what stands there now and what that means."""
    now = after.cells[name].gather(places.gather(cells["item"]))
    same = equal(cells["after"], now, field, writing) & now.is_not_null()
    still = equal(cells["before"], now, field, writing) & (now.is_not_null() == cells["before"].is_not_null())
    still |= now.is_null()
    outcomes: list[Outcome] = [
        "landed" if one else "not landed" if other else "differently" for one, other in zip(same, still, strict=True)
    ]
    return [
        (
            item,
            before,
            meant,
            text,
            outcome,
            _how(meant, text or "", field, writing) if outcome == "differently" else None,
        )
        for (item, before, meant), text, outcome in zip(
            cells.select("item", "before", "after").iter_rows(), now, outcomes, strict=True
        )
    ]


def _how(meant: str, now: str, field: Field, writing: Writing) -> str | None:
    """How what stands there differs from what was meant, where that is plain."""
    if not now.strip():
        return "emptied"
    if meant.casefold() == now.casefold():
        return "in other case"
    if field.kind not in NUMBER_KINDS and len(now) < len(meant) and meant.startswith(now.rstrip(".…")):
        return f"cut after {len(now):,} characters"
    if field.kind in NUMBER_KINDS:
        wanted, there = KINDS[field.kind].read(pl.Series([meant, now]), field, writing)
        if wanted is not None and there is not None and _rounded(Decimal(wanted), Decimal(there)):
            return "rounded"
    if "".join(meant.split()) == "".join(now.split()):
        return "with other spaces"
    return None


def _rounded(number: Decimal, to: Decimal) -> bool:
    """Whether the second is the first with fewer decimals, rounded up or down."""
    least = Decimal(1).scaleb(min(int(to.as_tuple().exponent), 0))
    return number != number.quantize(least, context=EXACT) and abs(number - to) < least


def _moved(
    changes: ChangeSet, keys_now: pl.DataFrame, live: Catalogue, after: Catalogue, sent: pl.DataFrame
) -> tuple[pl.DataFrame, int, int]:
    """What else is otherwise now: cells, items that came, items that went; known items have their keys of now."""
    header = changes.header
    key = header.key
    there = live.cells.select(pl.col(name).str.strip_chars() for name in key)
    ours = _places(changes.keys, there, key)
    met = ours.is_not_null().arg_true()
    there = pl.DataFrame(
        [there[name].clone().scatter(ours.gather(met), keys_now[name].gather(met).str.strip_chars()) for name in key]
    )
    at = _places(there, after.cells, key)
    gone_keys = keys_now.filter(changes.items["verdict"] == "gone")
    both = at.is_not_null().arg_true()
    theirs = at.gather(both)
    touched = sent.with_columns(place=ours.gather(sent["item"]))
    tables = [
        pl.DataFrame(
            schema={
                **dict.fromkeys(key, pl.String),
                "field": pl.String,
                "before": pl.String,
                "now": pl.String,
                "moving": pl.Boolean,
            }
        )
    ]
    for name in live.fields:
        if name in key or name not in after.fields:
            continue
        before, now = live.cells[name].gather(both), after.cells[name].gather(theirs)
        other = (before != now).arg_true()
        mine = touched.filter(pl.col("field") == name)["place"].drop_nulls()
        other = other.filter(~both.gather(other).is_in(mine.implode()))
        if not other.len():
            continue
        field = header.settings.get(name, Field())
        old, new = before.gather(other), now.gather(other)
        real = (~equal(old, new, field, header.writing)).arg_true()
        keys = there.gather(both.gather(other.gather(real)))
        tables.append(
            keys.with_columns(
                field=pl.lit(name), before=old.gather(real), now=new.gather(real), moving=pl.lit(field.moving)
            )
        )
    gone = _places(gone_keys, there, key)
    added = changes.keys.filter(changes.items["verdict"] == "new")
    now_there = after.cells.select(pl.col(name).str.strip_chars() for name in key)
    came = _places(now_there, pl.concat([there, added.select(key)]), key)
    went = at.is_null().arg_true()
    went = went.filter(~went.is_in(gone.drop_nulls().implode()))
    return pl.concat(tables), came.null_count(), went.len()
