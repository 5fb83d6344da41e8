"""Confirming: whether what was sent stands in the next export, item by item, and what else moved meanwhile.

Rule: each cell, item and code is looked at with three sides: before (live as compared), meant (as sent), now. As it was
meant, it landed; as it was before, it did not, and may be sent again; as neither, somebody or the store made it so, and
it is left alone. A difference and the values added to a list are steps: they count from where the field stands now.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping
from dataclasses import dataclass, field, replace

import msgspec
import polars as pl

from neat_delta.core.base.kinds.stored import Habit, habits_of
from neat_delta.core.base.model.catalogue import MARK, Catalogue
from neat_delta.core.base.model.changeset import ChangeSet, after_keys
from neat_delta.core.base.model.importer import Importer, Removal
from neat_delta.core.base.model.results import ResultStatus
from neat_delta.core.base.model.schemas import LANDINGS, conform, empty
from neat_delta.core.base.model.store import Field, Key
from neat_delta.core.base.support.errors import CatalogueError
from neat_delta.core.base.support.series import constant, filtered, gathered, not_null, scattered, true_places
from neat_delta.core.compare.diff.equality import equal
from neat_delta.core.compare.diff.texts import texts_of_pairs
from neat_delta.core.outcomes.landings import (
    ALTERED_BY_STORE,
    CHANGED_SINCE,
    MADE_ANEW,
    NO_RESULTS,
    PLAIN,
    TAKEN_BACK,
    Landing,
    Outcome,
    field_outcomes,
    landings_of,
)
from neat_delta.core.outcomes.located import Located, locate
from neat_delta.core.sheets.match.keys import KeyIndex, stripped
from neat_delta.core.sheets.rules.resting import resting_on

__all__ = ["Confirmed", "Resting", "TakenBack", "confirm", "with_taken_back"]


@dataclass(frozen=True, slots=True)
class TakenBack:
    """The folders that were written after a round, and take it back; and the cells that they leave as they are, by
    their items' keys and their fields (None: the item).
    """

    folders: tuple[str, ...]
    stays: frozenset[tuple[tuple[str, ...], str | None]]


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
    """The changes that were sent, counted by outcome; those that did not land, and what is to be done about each
    (`lacking`: `schemas.LANDINGS`, by items, whose keys are `keys`); and what else moved: the item's key, `field`,
    `before`, `now`, and whether the field is one that the store moves by itself (`changeset.after_keys`). `twice` are
    the keys that stand in more rows than live had them in; `located` where each item stands; `unseen` of which fields
    how many cells cannot be seen, as no export has them, and `hidden` the items of which nothing else was sent;
    `habits` what the store seems to make of fields by itself, for the store file; `resting` the computed cells that
    landed and rest on one that did not.
    """

    counts: Mapping[str, int]
    keys: pl.DataFrame
    lacking: pl.DataFrame
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
        """Whether every change stands as it was meant, or was taken back since, and no item twice."""
        return not self.twice and bool((self.lacking["outcome"] == "taken back").all())

    @property
    def altered(self) -> int:
        """How many of them the store took, and made another of by itself: rounded, cut, in other case."""
        return int(self.lacking["how"].str.contains(ALTERED_BY_STORE).sum())

    @property
    def trouble(self) -> list[Landing]:
        """Those that did not land, each by itself."""
        return landings_of(self.lacking, self.keys)


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
    unknown = [name for name in header.unseen if name not in after.fields]
    unseen, hidden = Counter[str](), set[int]()
    if unknown:  # nobody can see what became of those
        of_those = pl.col("field").cast(pl.String).is_in(unknown)
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
    counts = {"landed": 0, "not landed": 0, "differently": 0}
    habits, tables = list[Habit](), [empty(LANDINGS)]
    for (name,), field_cells in cells.group_by("field", maintain_order=True):
        looked = field_outcomes(str(name), field_cells, after, located, changes, importer, results)
        counts["landed"] += field_cells.height - looked.height
        if (looked["outcome"] == "differently").any():
            seen = filtered(looked, not_null(looked["now"]))
            field = header.settings.get(str(name), Field())
            habits += habits_of(str(name), seen["meant"].to_list(), seen["now"].to_list(), field, header.writing)
        tables.append(looked)
    whole_items = changes.sent_without_cells()
    tables.append(_of_items(whole_items, changes, live, after, located, removal))
    counts["landed"] += whole_items.len() - tables[-1].height
    looked = pl.concat(tables)
    for outcome, many in looked["outcome"].value_counts().iter_rows():
        counts[outcome] += many
    lacking = filtered(looked, looked["outcome"] != "landed").sort("item", maintain_order=True)
    lacking = _not_into_others(changes, lacking)
    touched = cells[["item", "field"]]
    if removal.how == "value":
        touched = pl.concat([touched, pl.DataFrame({"item": whole_items}).with_columns(field=pl.lit(removal.heading))])
    return Confirmed(
        counts,
        changes.keys,
        lacking,
        *_other_changes(changes, located, live, after, touched),
        _twice(live, after, header.compared_by),
        located,
        dict(unseen),
        frozenset(hidden),
        habits,
        _resting(changes, cells, lacking),
    )


def with_taken_back(confirmed: Confirmed, since: TakenBack | None) -> Confirmed:
    """The same where files were written `since` that take it back (None: none were): a change that does not stand as it
    was meant is taken back, but where they leave it as it is; and nothing is to be done about any.
    """
    lacking = confirmed.lacking
    if since is None or not lacking.height:
        return confirmed
    keys = gathered(confirmed.keys, lacking["item"]).iter_rows()
    away = [(key, name) not in since.stays for key, name in zip(keys, lacking["field"], strict=True)]
    is_away = pl.Series(away, dtype=pl.Boolean)
    counts = Counter(confirmed.counts)
    counts.subtract(lacking["outcome"].filter(is_away).to_list())
    counts["taken back"] += int(is_away.sum())
    texts = {"outcome": "taken back", "how": None}
    columns = {name: lacking[name].set(is_away, text) for name, text in texts.items()}
    nothing = constant(None, lacking.height, pl.String)
    left = constant(TAKEN_BACK, lacking.height)
    return replace(confirmed, counts=dict(counts), lacking=lacking.with_columns(**columns, again=nothing, left=left))


def _of_items(
    items: pl.Series, changes: ChangeSet, live: Catalogue, after: Catalogue, located: Located, removal: Removal
) -> pl.DataFrame:
    """Of these items, which were sent as a whole, those of which that did not land (`LANDINGS`): one that was to go
    away and is there, not retired either; a new one with nothing but its key that is not.
    """
    new = gathered(changes.items["verdict"], items) == "new"
    present = not_null(gathered(located.places, items))
    wrong = present != new
    if removal.how == "value":
        retired = after.at(str(removal.heading), gathered(located.places, items)) == removal.value
        wrong &= ~(retired.fill_null(value=False) & ~new)
    altered = _altered_since(items.filter(wrong & ~new), live, after, located, changes, str(removal.heading))
    those = items.filter(wrong).cast(pl.Int64)
    otherwise = those.is_in(list(altered))
    outcome = constant("not landed", those.len()).set(otherwise, "differently")
    left = constant(None, those.len(), pl.String).set(otherwise, MADE_ANEW)
    columns = {"item": those, "outcome": outcome, "left": left, "new": gathered(located.places, those).is_null()}
    return conform(pl.DataFrame(columns), LANDINGS)


def _resting(changes: ChangeSet, sent: pl.DataFrame, lacking: pl.DataFrame) -> list[Resting]:
    """The computed cells that landed though one that went into them did not."""
    if not lacking.height or not changes.computed.height:
        return []
    away = filtered(lacking, not_null(lacking["field"])).select("item", "field", why="outcome")
    met = resting_on(changes, away).join(away, on=["item", "field"], how="anti", maintain_order="left")
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


def _not_into_others(changes: ChangeSet, lacking: pl.DataFrame) -> pl.DataFrame:
    """A new item that is there with something else in it is somebody's own, or has been worked on: nothing is put into
    it that is blank there.
    """
    is_new = gathered(changes.items["verdict"], lacking["item"]) == "new"
    others = lacking["item"].filter(is_new & (lacking["left"] == CHANGED_SINCE).fill_null(value=False))
    if not others.len():
        return lacking
    of_others = lacking["item"].is_in(others.implode())
    return lacking.with_columns(
        again=lacking["again"].set(of_others, None), left=lacking["left"].set(of_others, CHANGED_SINCE)
    )


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
