"""Confirming: whether what was sent stands in the next export, item by item, and what else moved meanwhile.

Rule: each cell, item and code is looked at with three sides: before (live as compared), meant (as sent), now. As it was
meant, it landed; as it was before, it did not, and may be sent again; as neither, somebody or the store made it so, and
it is left alone. A difference and the values added to a list are steps: they count from where the field stands now.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace

import msgspec
import polars as pl

from neat_delta.core.base.kinds.stored import Habit, habits_of
from neat_delta.core.base.model.catalogue import MARK, Catalogue
from neat_delta.core.base.model.changeset import ChangeSet, after_keys
from neat_delta.core.base.model.importer import Importer, Removal
from neat_delta.core.base.model.results import ResultStatus
from neat_delta.core.base.model.store import Field, Key
from neat_delta.core.base.support.errors import CatalogueError
from neat_delta.core.base.support.series import constant, filtered, gathered, not_null, scattered, true_places
from neat_delta.core.compare.diff.equality import equal
from neat_delta.core.compare.diff.texts import texts_of_pairs
from neat_delta.core.outcomes.landings import (
    CHANGED_SINCE,
    MADE_ANEW,
    NO_RESULTS,
    PLAIN,
    Again,
    Landing,
    Outcome,
    field_outcomes,
)
from neat_delta.core.outcomes.located import Located, locate
from neat_delta.core.sheets.match.keys import KeyIndex, stripped
from neat_delta.core.sheets.rules.resting import resting_on

__all__ = ["Confirmed", "Resting", "confirm"]


class Resting(msgspec.Struct, frozen=True):
    """A computed cell that landed, though a cell that went into it did not: its item, its field, its text, the field
    that went into it, and what became of that.
    """

    key: dict[str, str]
    field: str
    text: str
    read: str
    outcome: Outcome


@dataclass(frozen=True, slots=True)
class Confirmed:
    """The changes that were sent, counted by outcome; those that did not land, the numbers of their items, and what is
    to be done about each (`again`); and what else moved: the item's key, `field`, `before`, `now`, and whether the
    field is one that the store moves by itself (`changeset.after_keys`). `twice` are the keys that stand in more rows
    than live had them in; `located` where each item stands; `unseen` of which fields how many cells cannot be seen, as
    no export has them, and `hidden` the items of which nothing else was sent; `habits` what the store seems to make of
    fields by itself, for the store file; `resting` the computed cells that landed and rest on one that did not.
    """

    counts: Mapping[str, int]
    trouble: list[Landing]
    items: list[int]
    again: list[Again]
    other_changes: pl.DataFrame
    came: int
    went: int
    twice: list[dict[str, str]]
    located: Located
    unseen: Mapping[str, int] = field(default_factory=dict)
    hidden: frozenset[int] = frozenset()
    habits: list[Habit] = field(default_factory=list)
    resting: list[Resting] = field(default_factory=list)

    @property
    def all_landed(self) -> bool:
        """Whether every change stands as it was meant, and no item twice."""
        return not self.trouble and not self.twice


def confirm(
    changes: ChangeSet,
    live: Catalogue,
    after: Catalogue,
    importer: Importer = PLAIN,
    results: Mapping[int, ResultStatus] = NO_RESULTS,
) -> Confirmed:
    """What became of the sent changes in the catalogue `after`, by value, as the fields' kinds compare.

    `live` is the catalogue before, `after` the export made afterwards, both prepared (`match.prepare`); `importer` says
    how an item is removed and which fields are told as a difference; `results` is the store's own word, item by item,
    where it gave one: an export alone cannot tell whether a difference was added to what moves by itself.
    CatalogueError when `after` lacks the key or a field that was sent.
    """
    header, removal = changes.header, importer.removal
    lacking = [name for name in header.unseen if name not in after.fields]
    unseen, hidden = Counter[str](), set[int]()
    if lacking:  # nobody can see what became of those
        of_those = pl.col("field").cast(pl.String).is_in(lacking)
        unseen.update(changes.sent().filter(of_those)["field"].cast(pl.String))
        hidden = {*changes.sent().filter(of_those)["item"]} - {*changes.sent().filter(~of_those)["item"]}
        hidden -= {*true_places(changes.items["verdict"] == "new")}
        changes = replace(changes, cells=changes.cells.filter(~of_those))
    for name in (*header.key, *sorted(changes.sent()["field"].unique().cast(pl.String))):
        if name not in after.fields:
            raise CatalogueError(
                f'{after.path}: it has no field "{name}", so nobody can see what became of it.{after.elsewhere}'
            )
    located = locate(changes, live, after)
    cells = changes.sent().with_columns(pl.col("field").cast(pl.String))
    trouble: list[tuple[int, Landing, Again]] = []
    counts = {"landed": 0, "not landed": 0, "differently": 0}
    habits: list[Habit] = []
    for (name,), field_cells in cells.group_by("field", maintain_order=True):
        landed, looked = field_outcomes(str(name), field_cells, after, located, changes, importer, results)
        counts["landed"] += landed
        if any(cell.outcome == "differently" for cell in looked):
            seen = [(cell.meant, cell.now) for cell in looked if cell.now is not None]
            field = header.settings.get(str(name), Field())
            habits += habits_of(
                str(name), [text for text, _ in seen], [text for _, text in seen], field, header.writing
            )
        for cell in looked:
            counts[cell.outcome] += 1
            if cell.outcome != "landed":
                key = changes.keys.row(cell.item, named=True)
                landing = Landing(key, str(name), cell.before, cell.meant, cell.now, cell.outcome, cell.how)
                trouble.append((cell.item, landing, cell.again))
    whole_items = changes.sent_without_cells()
    of_items = _of_items(whole_items, changes, live, after, located, removal)
    counts["landed"] += whole_items.len() - len(of_items)
    for _, landing, _ in of_items:
        counts[landing.outcome] += 1
    trouble += of_items
    trouble.sort(key=lambda entry: entry[0])
    trouble = _not_into_others(changes, trouble)
    touched = cells[["item", "field"]]
    if removal.how == "value":
        touched = pl.concat([touched, pl.DataFrame({"item": whole_items}).with_columns(field=pl.lit(removal.heading))])
    return Confirmed(
        counts,
        [landing_of for _, landing_of, _ in trouble],
        [item for item, _, _ in trouble],
        [again for _, _, again in trouble],
        *_other_changes(changes, located, live, after, touched),
        _twice(live, after, header.compared_by),
        located,
        dict(unseen),
        frozenset(hidden),
        habits,
        _resting(changes, cells, trouble),
    )


def _of_items(
    items: pl.Series, changes: ChangeSet, live: Catalogue, after: Catalogue, located: Located, removal: Removal
) -> list[tuple[int, Landing, Again]]:
    """Of these items, which were sent as a whole, those of which that did not land: one that was to go away and is
    there, not retired either; a new one with nothing but its key that is not.
    """
    new = gathered(changes.items["verdict"], items) == "new"
    present = not_null(gathered(located.places, items))
    wrong = present != new
    if removal.how == "value":
        retired = after.at(str(removal.heading), gathered(located.places, items)) == removal.value
        wrong &= ~(retired.fill_null(value=False) & ~new)
    altered = _altered_since(items.filter(wrong & ~new), live, after, located, changes, str(removal.heading))
    out: list[tuple[int, Landing, Again]] = []
    for item in items.filter(wrong):
        key, otherwise = changes.keys.row(item, named=True), item in altered
        outcome: Outcome = "differently" if otherwise else "not landed"
        landing = Landing(key, None, None, None, None, outcome, new=located.places[item] is None)
        out.append((item, landing, Again(left=MADE_ANEW if otherwise else None)))
    return out


def _resting(changes: ChangeSet, sent: pl.DataFrame, trouble: Sequence[tuple[int, Landing, Again]]) -> list[Resting]:
    """The computed cells that landed though one that went into them did not."""
    away = [(item, landing.field, landing.outcome) for item, landing, _ in trouble if landing.field is not None]
    if not away or not changes.computed.height:
        return []
    schema = {"item": pl.Int64, "field": pl.String, "why": pl.String}
    table = pl.DataFrame(away, schema=schema, orient="row")
    met = resting_on(changes, table).join(table, on=["item", "field"], how="anti", maintain_order="left")
    met = met.join(sent[["item", "field", "after"]], on=["item", "field"], maintain_order="left")
    return [
        Resting(changes.keys.row(item, named=True), name, text, read, why)
        for item, name, read, why, text in met.iter_rows()
    ]


def _altered_since(
    items: pl.Series, live: Catalogue, after: Catalogue, located: Located, changes: ChangeSet, retires: str
) -> set[int]:
    """Those of the items, which were to go away, that are there and are not as live had them; what moves by itself,
    and the field by which they would be retired, say nothing.
    """
    present = items.filter(not_null(gathered(located.places, items)))
    out: set[int] = set()
    for name in live.fields if present.len() else ():
        field = changes.header.settings.get(name, Field())
        if name in changes.header.key or name not in after.fields or name == retires or field.moving:
            continue
        was = live.at(name, gathered(located.live_rows, present))
        now = after.at(name, gathered(located.places, present))
        out |= set(present.filter(~equal(was, now, field, changes.header.writing)))
    return out


def _not_into_others(changes: ChangeSet, trouble: list[tuple[int, Landing, Again]]) -> list[tuple[int, Landing, Again]]:
    """A new item that is there with something else in it is somebody's own, or has been worked on: nothing is put into
    it that is blank there.
    """
    verdicts = changes.items["verdict"]
    others = {item for item, _, again in trouble if again.left == CHANGED_SINCE and verdicts[item] == "new"}
    return [(item, landing, Again(left=CHANGED_SINCE) if item in others else again) for item, landing, again in trouble]


def _twice(live: Catalogue, after: Catalogue, key: Key) -> list[dict[str, str]]:
    """The keys that stand in more rows of `after` than of live, where they stand more than once."""

    def rows(catalogue: Catalogue) -> pl.DataFrame:
        index = KeyIndex.of(catalogue, key)
        keys = index.keys.with_row_index(MARK).filter(pl.any_horizontal(pl.col(key.fields) != ""))
        return keys.group_by(key.fields, maintain_order=True).agg(pl.len().alias(MARK + "rows"), pl.col(MARK).first())

    if not KeyIndex.of(after, key).repeated.any():
        return []
    now = rows(after).filter(pl.col(MARK + "rows") > 1)
    both = now.join(rows(live), on=key.fields, how="left", suffix=MARK, maintain_order="left")
    more = both.filter(pl.col(MARK + "rows") > pl.col(MARK + "rows" + MARK).fill_null(1))
    return gathered(stripped(after, key), more[MARK]).rows(named=True)


def _other_changes(
    changes: ChangeSet, located: Located, live: Catalogue, after: Catalogue, sent: pl.DataFrame
) -> tuple[pl.DataFrame, int, int]:
    """What else is otherwise now: cells, items that came, items that went; known items have their keys of now."""
    header = changes.header
    key = header.compared_by
    live_keys = stripped(live, key)
    rows = located.live_rows
    old = true_places(not_null(rows))
    live_keys = pl.DataFrame(
        [scattered(live_keys[name], gathered(rows, old), gathered(located.keys[name], old).str.strip_chars())
         for name in key.fields]
    )  # fmt: skip
    at = located.live_places
    both = true_places(not_null(at))
    pairs = pl.DataFrame({"live": both, "sheet": gathered(at, both)})
    fields_after = {*after.fields} - {*key.fields}
    texts = texts_of_pairs(live, after, pairs, [name for name in live.fields if name in fields_after])
    own = {str(name): gathered(rows, cells["item"]).drop_nulls() for (name,), cells in sent.group_by("field")}
    facts = {"field": pl.String, "before": pl.String, "now": pl.String, "moving": pl.Boolean}
    tables = [after_keys(live_keys.clear(), [pl.Series(name, dtype=dtype) for name, dtype in facts.items()])]
    for (field_name,), of_field in texts.group_by("field", maintain_order=True):
        name = str(field_name)
        is_sent = constant(False, live.height)
        if name in own:
            is_sent = scattered(is_sent, own[name], True)
        cells = filtered(of_field, ~gathered(is_sent, gathered(both, of_field["pair"])))
        if not cells.height:
            continue
        places = gathered(both, cells["pair"])
        field = header.settings.get(name, Field())
        real = true_places(~equal(cells["before"], cells["after"], field, header.writing))
        columns = {
            "field": constant(name, real.len(), pl.String),
            "before": gathered(cells["before"], real),
            "now": gathered(cells["after"], real),
            "moving": constant(field.moving, real.len(), pl.Boolean),
        }
        tables.append(
            after_keys(
                gathered(live_keys, gathered(places, real)),
                [column.alias(name) for name, column in columns.items()],
            )
        )
    added = changes.keys.filter(changes.items["verdict"] == "new")
    known_keys = KeyIndex.of(pl.concat([live_keys, added.select(key.fields)]), key)
    located_rows = pl.concat([at, located.places]).drop_nulls()
    others = true_places(~scattered(constant(False, after.height), located_rows, True))
    came = known_keys.lookup(after.rows(others, key.fields)).null_count()
    gone = rows.filter(changes.items["verdict"] == "gone").drop_nulls()
    went = true_places(at.is_null() & ~KeyIndex.of(live, key).blank)
    went = went.filter(~went.is_in(gone.cast(went.dtype).implode()))
    return pl.concat(tables), came, went.len()
