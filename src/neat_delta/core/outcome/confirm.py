"""Confirming: whether what was sent stands in the next export, item by item, and what else moved meanwhile."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from decimal import Decimal
from typing import Literal

import msgspec
import polars as pl

from neat_delta.core.diff.equality import equal
from neat_delta.core.kinds import KINDS
from neat_delta.core.kinds.base import EXACT
from neat_delta.core.kinds.number import NUMBER_KINDS
from neat_delta.core.kinds.stored import Habit, habits_of, has_habits, stored_alike
from neat_delta.core.match.keys import KeyIndex, key_text, stripped
from neat_delta.core.model.catalogue import MARK, Catalogue
from neat_delta.core.model.changeset import ChangeSet
from neat_delta.core.model.importer import Removal
from neat_delta.core.model.layout import Notation
from neat_delta.core.model.store import Field, Key
from neat_delta.core.outcome.located import Located, locate
from neat_delta.core.support.errors import CatalogueError

__all__ = ["Confirmed", "Landing", "confirm"]

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
    """The changes that were sent, counted by outcome; those that did not land, and the numbers of their items; and what
    else moved: the item's key, `field`, `before`, `now`, and whether the field is one that the store moves by itself.
    `twice` are the keys that stand in more rows than live had them in; `located` where each item stands; `unseen`
    of which fields how many cells cannot be seen, as no export has them; `habits` what the store seems to make of
    fields by itself, for the store file.
    """

    counts: Mapping[str, int]
    trouble: list[Landing]
    items: list[int]
    moved: pl.DataFrame
    came: int
    went: int
    twice: list[dict[str, str]]
    located: Located
    unseen: Mapping[str, int] = field(default_factory=dict)
    habits: list[Habit] = field(default_factory=list)

    @property
    def all_landed(self) -> bool:
        """Whether every change stands as it was meant, and no item twice."""
        return not self.trouble and not self.twice


ALTERED = ("rounded", "in other case", "with other spaces", "cut after")
"""How the words for what a store makes of a value by itself begin: sent again, it would come back the same."""

NEVER = Removal()
"""Items are not removed by a value of theirs."""


def confirm(changes: ChangeSet, live: Catalogue, after: Catalogue, removal: Removal = NEVER) -> Confirmed:
    """What became of the sent changes in the catalogue `after`, by value, as the fields' kinds compare.

    `live` is the catalogue before, `after` the export made afterwards, both prepared (`match.prepare`); `removal` says
    how an item is removed. CatalogueError when `after` lacks the key or a field that was sent.
    """
    header = changes.header
    lacking = [name for name in header.unseen if name not in after.fields]
    unseen = changes.sent().filter(pl.col("field").cast(pl.String).is_in(lacking))["field"].cast(pl.String)
    if lacking:  # nobody can see what became of those
        changes = replace(changes, cells=changes.cells.filter(~pl.col("field").cast(pl.String).is_in(lacking)))
    for name in (*header.key, *sorted({str(one) for one in changes.sent()["field"]})):
        if name not in after.fields:
            raise CatalogueError(f'{after.path}: it has no field "{name}", so nobody can see what became of it.')
    located = locate(changes, live, after)
    cells = changes.sent().with_columns(pl.col("field").cast(pl.String))
    trouble: list[tuple[int, Landing]] = []
    counts = {"landed": 0, "not landed": 0, "differently": 0}
    habits: list[Habit] = []
    for (name,), field_cells in cells.group_by("field", maintain_order=True):
        field = header.settings.get(str(name), Field())
        if name in header.key:  # it is where it is by its code alone
            field = Field("code")
        outcomes = _of_field(str(name), field_cells, after, located.places, field, header.writing)
        if name in header.key and header.ignore_case:
            outcomes = [_in_other_case(*one) for one in outcomes]
        if any(one[4] == "differently" for one in outcomes):
            seen = [(one[2], one[3]) for one in outcomes if one[3] is not None]
            habits += habits_of(str(name), [one for one, _ in seen], [one for _, one in seen], field, header.writing)
        for item, before, meant, now, outcome, how in outcomes:
            counts[outcome] += 1
            if outcome != "landed":
                key = changes.keys.row(item, named=True)
                trouble.append((item, Landing(key, str(name), before, meant, now, outcome, how)))
    gone = changes.items.with_row_index("item").filter((pl.col("verdict") == "gone") & pl.col("held").is_null())
    for item in gone["item"]:
        place = located.places[item]
        retired = removal.how == "value" and place is not None and after.cells[str(removal.heading)][place]
        landed = place is None or retired == removal.value
        counts["landed" if landed else "not landed"] += 1
        if not landed:
            trouble.append((item, Landing(changes.keys.row(item, named=True), None, None, None, None, "not landed")))
    trouble.sort(key=lambda one: one[0])
    touched = cells.select("item", "field")
    if removal.how == "value":
        touched = pl.concat([touched, gone.select(pl.col("item").cast(pl.Int64), field=pl.lit(removal.heading))])
    return Confirmed(
        counts,
        [one for _, one in trouble],
        [item for item, _ in trouble],
        *_moved(changes, located, live, after, touched),
        _twice(live, after, header.compared_by),
        located,
        dict(Counter(unseen)),
        habits,
    )


def _twice(live: Catalogue, after: Catalogue, key: Key) -> list[dict[str, str]]:
    """The keys that stand in more rows of `after` than of live, where they stand more than once."""

    def rows(catalogue: Catalogue) -> pl.DataFrame:
        index = KeyIndex.of(catalogue.cells, key)
        keys = index.keys.with_row_index(MARK).filter(pl.any_horizontal(pl.col(key.fields) != ""))
        return keys.group_by(key.fields, maintain_order=True).agg(pl.len().alias(MARK + "rows"), pl.col(MARK).first())

    now = rows(after).filter(pl.col(MARK + "rows") > 1)
    both = now.join(rows(live), on=key.fields, how="left", suffix=MARK, maintain_order="left")
    more = both.filter(pl.col(MARK + "rows") > pl.col(MARK + "rows" + MARK).fill_null(1))
    return stripped(after.cells, key).select(pl.all().gather(more[MARK])).rows(named=True)


def _of_field(
    name: str, cells: pl.DataFrame, after: Catalogue, places: pl.Series, field: Field, writing: Notation
) -> list[tuple[int, str | None, str, str | None, Outcome, str | None]]:
    """Each cell of a field with what stands there now and what that means."""
    now = after.cells[name].gather(places.gather(cells["item"]))
    same = equal(cells["after"], now, field, writing) & now.is_not_null()
    if has_habits(field):
        same |= stored_alike(cells["after"], now, field, writing)
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


def _in_other_case(
    item: int, before: str | None, meant: str, now: str | None, outcome: Outcome, how: str | None
) -> tuple[int, str | None, str, str | None, Outcome, str | None]:
    """A new code where case means nothing in a key: it has landed in any case, unless nothing but its case changes."""
    key = Key(["code"], ignore_case=True)
    was, wanted, there = (key_text([text or ""], key) for text in (before, meant, now))
    landed = outcome == "differently" and there == wanted != was
    return (item, before, meant, now, "landed" if landed else outcome, None if landed else how)


def _how(meant: str, now: str, field: Field, writing: Notation) -> str | None:
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
    changes: ChangeSet, located: Located, live: Catalogue, after: Catalogue, sent: pl.DataFrame
) -> tuple[pl.DataFrame, int, int]:
    """What else is otherwise now: cells, items that came, items that went; known items have their keys of now."""
    header = changes.header
    key = header.compared_by
    there = stripped(live.cells, key)
    rows = located.live_rows
    old = rows.is_not_null().arg_true()
    there = pl.DataFrame(
        [there[name].clone().scatter(rows.gather(old), located.keys[name].gather(old).str.strip_chars())
         for name in key.fields]
    )  # fmt: skip
    at = located.live_places
    both = at.is_not_null().arg_true()
    after_places = at.gather(both)
    touched = sent.with_columns(place=rows.gather(sent["item"]))
    tables = [
        pl.DataFrame(
            schema={
                **dict.fromkeys(key.fields, pl.String),
                "field": pl.String,
                "before": pl.String,
                "now": pl.String,
                "moving": pl.Boolean,
            }
        )
    ]
    for name in live.fields:
        if name in key.fields or name not in after.fields:
            continue
        before, now = live.cells[name].gather(both), after.cells[name].gather(after_places)
        other = (before != now).arg_true()
        sent_rows = touched.filter(pl.col("field") == name)["place"].drop_nulls()
        other = other.filter(~both.gather(other).is_in(sent_rows.implode()))
        if not other.len():
            continue
        field = header.settings.get(name, Field())
        old_texts, new_texts = before.gather(other), now.gather(other)
        real = (~equal(old_texts, new_texts, field, header.writing)).arg_true()
        keys = there.gather(both.gather(other.gather(real)))
        tables.append(
            keys.with_columns(
                field=pl.lit(name),
                before=old_texts.gather(real),
                now=new_texts.gather(real),
                moving=pl.lit(field.moving),
            )
        )
    added = changes.keys.filter(changes.items["verdict"] == "new")
    known_keys = KeyIndex.of(pl.concat([there, added.select(key.fields)]), key)
    came = known_keys.lookup(after.cells).null_count()
    gone = rows.filter(changes.items["verdict"] == "gone").drop_nulls()
    went = (at.is_null() & ~KeyIndex.of(live.cells, key).blank).arg_true()
    went = went.filter(~went.is_in(gone.cast(went.dtype).implode()))
    return pl.concat(tables), came, went.len()
