"""Confirming: whether what was sent stands in the next export, item by item, and what else moved meanwhile.

Rule: each cell, item and code is looked at with three sides: before (live as compared), meant (as sent), now. As it was
meant, it landed; as it was before, it did not, and may be sent again; as neither, somebody or the store made it so, and
it is left alone. A difference and the values added to a list are steps: they count from where the field stands now.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from decimal import Decimal
from typing import Literal

import msgspec
import polars as pl

from neat_delta.core.base.kinds import KINDS
from neat_delta.core.base.kinds.base import EXACT
from neat_delta.core.base.kinds.number import NUMBER_KINDS
from neat_delta.core.base.kinds.stored import Habit, habits_of, has_habits, stored_alike
from neat_delta.core.base.model.catalogue import MARK, Catalogue
from neat_delta.core.base.model.changeset import ChangeSet
from neat_delta.core.base.model.importer import Importer, Removal
from neat_delta.core.base.model.layout import Notation
from neat_delta.core.base.model.results import Said
from neat_delta.core.base.model.store import Field, Key
from neat_delta.core.base.support.errors import CatalogueError
from neat_delta.core.base.support.series import constant, filtered, gathered, not_null, scattered, true_places
from neat_delta.core.compare.diff.clashes import carried_over, merged_list
from neat_delta.core.compare.diff.equality import equal
from neat_delta.core.outcomes.located import Located, locate
from neat_delta.core.sheets.match.keys import KeyIndex, key_text, stripped
from neat_delta.core.sheets.rules.resting import resting_on

__all__ = ["ALTERED", "Again", "Confirmed", "Landing", "Resting", "confirm", "list_values"]

Outcome = Literal["landed", "not landed", "differently"]
"""What became of a change: it stands as it was meant, as it was before, or as something else."""


class Landing(msgspec.Struct, frozen=True, omit_defaults=True):
    """One change that did not land as it was meant: its item, its field (null for the whole item), what stood before,
    what was meant, what stands now (null where there is none), the outcome, how it differs, where that is plain; and
    whether it is an item that is `new`, with nothing but its key.
    """

    key: dict[str, str]
    field: str | None
    before: str | None
    meant: str | None
    now: str | None
    outcome: Outcome
    how: str | None = None
    new: bool = False


@dataclass(frozen=True, slots=True)
class Again:
    """What is to be done about a change that did not land: the text to send (null: nothing is to be sent, or the item
    goes away), and why it is left alone (null: it is sent).
    """

    text: str | None = None
    left: str | None = None


class Resting(msgspec.Struct, frozen=True):
    """A computed cell that landed, though a cell that went into it did not: its item, its field, its text, the field
    that went into it, and what became of that.
    """

    key: dict[str, str]
    field: str
    text: str
    read: str
    outcome: Outcome


CHANGED_SINCE = "it is neither as it was nor as it was meant: somebody changed it since"
MADE_ANEW = "it is there, and not as it was: somebody changed it since, or made it anew"
NO_ITEM = "the item is not there any more"
OLD_STAYS = "it has its new code, and one is still there under the old code: look at both, and remove that"
CANNOT_TELL = "it moves by itself, and the export alone does not tell whether the difference was added"
"""Why something that did not land is left alone."""


@dataclass(frozen=True, slots=True)
class Confirmed:
    """The changes that were sent, counted by outcome; those that did not land, the numbers of their items, and what is
    to be done about each (`again`); and what else moved: the item's key, `field`, `before`, `now`, and whether the
    field is one that the store moves by itself. `twice` are the keys that stand in more rows than live had them in;
    `located` where each item stands; `unseen` of which fields how many cells cannot be seen, as no export has them, and
    `hidden` the items of which nothing else was sent;
    `habits` what the store seems to make of fields by itself, for the store file; `resting` the computed cells that
    landed and rest on one that did not.
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


ALTERED = ("rounded", "in other case", "with other spaces", "cut after")
"""How the words for what a store makes of a value by itself begin: sent again, it would come back the same."""

PLAIN = Importer()
NOTHING_SAID: Mapping[int, Said] = {}


@dataclass(frozen=True, slots=True)
class _Cell:
    """A cell that was sent, with its three sides, what became of it, and what is to be done about it."""

    item: int
    before: str | None
    meant: str
    now: str | None
    outcome: Outcome
    how: str | None
    again: Again


def confirm(
    changes: ChangeSet,
    live: Catalogue,
    after: Catalogue,
    importer: Importer = PLAIN,
    results: Mapping[int, Said] = NOTHING_SAID,
) -> Confirmed:
    """What became of the sent changes in the catalogue `after`, by value, as the fields' kinds compare.

    `live` is the catalogue before, `after` the export made afterwards, both prepared (`match.prepare`); `importer` says
    how an item is removed and which fields are told as a difference; `said` is the store's own word, item by item,
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
        landed, looked = _of_field(str(name), field_cells, after, located, changes, importer, results)
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
    whole_items = changes.sent_items()
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
        index = KeyIndex.of(catalogue.cells, key)
        keys = index.keys.with_row_index(MARK).filter(pl.any_horizontal(pl.col(key.fields) != ""))
        return keys.group_by(key.fields, maintain_order=True).agg(pl.len().alias(MARK + "rows"), pl.col(MARK).first())

    if not KeyIndex.of(after.cells, key).repeated.any():
        return []
    now = rows(after).filter(pl.col(MARK + "rows") > 1)
    both = now.join(rows(live), on=key.fields, how="left", suffix=MARK, maintain_order="left")
    more = both.filter(pl.col(MARK + "rows") > pl.col(MARK + "rows" + MARK).fill_null(1))
    return gathered(stripped(after.cells, key), more[MARK]).rows(named=True)


def _of_field(
    name: str,
    cells: pl.DataFrame,
    after: Catalogue,
    located: Located,
    changes: ChangeSet,
    importer: Importer,
    results: Mapping[int, Said],
) -> tuple[int, list[_Cell]]:
    """How many cells of a field stand as they were meant, and are done with; and each other one with what stands there
    now, what that means, and what is to be done about it. A code is looked at once more, also where it landed.
    """
    header, writing = changes.header, changes.header.writing
    field = Field("code") if name in header.key else header.settings.get(name, Field())  # by its code alone it is there
    now = after.at(name, gathered(located.places, cells["item"]))
    present = not_null(now)
    same = equal(cells["after"], now, field, writing) & present
    if has_habits(field):
        same |= stored_alike(cells["after"], now, field, writing)
    table = cells[["item", "before", "after"]].with_columns(now=now, same=same)
    open_ones = table if name in header.key else filtered(table, ~same)
    now, present = open_ones["now"], not_null(open_ones["now"])
    still = equal(open_ones["before"], now, field, writing) & (present == not_null(open_ones["before"]))
    new = gathered(changes.items["verdict"], open_ones["item"]) == "new"
    if new.any():
        still |= new & (now.fill_null("").str.strip_chars() == "")  # of a new item nothing stood there
    if name in header.unseen:  # what stood there is not known
        still &= False
    open_ones = open_ones.with_columns(still=still | ~present)
    looked = [_looked_at(*row, field=field, writing=writing) for row in open_ones.iter_rows()]
    if name in header.key:
        stays = _still_under_the_old_code(changes, located, after) if importer.code_change.how == "replace" else set()
        looked = [_of_code(cell, located, stays, ignore_case=header.store.key.ignore_case) for cell in looked]
    elif name in importer.adjusted:
        looked = _of_differences(looked, field, writing, results)
    elif field.kind == "list":
        looked = [_of_list(cell, field) for cell in looked]
    return table.height - open_ones.height, looked


def _looked_at(
    item: int,
    before: str | None,
    meant: str,
    now: str | None,
    same: bool,
    still: bool,
    *,
    field: Field,
    writing: Notation,
) -> _Cell:
    """A cell by its three sides, as a value."""
    if same:
        return _Cell(item, before, meant, now, "landed", None, Again())
    if still:
        gone = now is None and before is not None
        return _Cell(item, before, meant, now, "not landed", None, Again(left=NO_ITEM) if gone else Again(meant))
    how = _how(meant, now or "", field, writing)
    again = Again(meant) if how is not None and how.startswith(ALTERED) else Again(left=CHANGED_SINCE)
    return _Cell(item, before, meant, now, "differently", how, again)


def _still_under_the_old_code(changes: ChangeSet, located: Located, after: Catalogue) -> set[int]:
    """The items that stand under another code than before, and of which one is still there under the old one, as where
    an importer made them anew and was not let remove them.
    """
    old = KeyIndex.of(after.cells, changes.header.compared_by).lookup(changes.keys)
    taken = located.live_places.drop_nulls().implode()
    return set(true_places((not_null(old) & (old != located.places) & ~old.is_in(taken)).fill_null(value=False)))


def _of_code(cell: _Cell, located: Located, stays: set[int], *, ignore_case: bool) -> _Cell:
    """A new code: it has landed in any case where case means nothing, unless nothing but its case changes; an item that
    stands under its old code or a temporary one has not got it.
    """
    if ignore_case and cell.before is not None:
        key = Key(["code"], ignore_case=True)
        was, wanted, stands = (key_text([text or ""], key) for text in (cell.before, cell.meant, cell.now))
        if cell.outcome == "differently" and stands == wanted != was:
            return replace(cell, outcome="landed", how=None, again=Again())
    if cell.item in stays and cell.outcome == "landed":
        return replace(cell, outcome="differently", how="and it stands there twice", again=Again(left=OLD_STAYS))
    if cell.item in located.between:
        return replace(cell, outcome="not landed", how="under a temporary code", again=Again(cell.meant))
    return cell


def _of_differences(
    looked: Sequence[_Cell], field: Field, writing: Notation, results: Mapping[int, Said]
) -> list[_Cell]:
    """Cells that were told as a difference: what is neither as it was nor as it was meant has moved by itself. Whether
    the difference was added, the store alone can say; where it was not, it counts from what is there now.
    """
    unclear = [place for place, cell in enumerate(looked) if cell.outcome == "differently"]
    if not unclear:
        return list(looked)
    before, now, meant = (
        pl.Series([getattr(looked[place], side) for place in unclear], dtype=pl.String)
        for side in ("before", "now", "meant")
    )
    out = list(looked)
    for place, text in zip(unclear, carried_over(before, now, meant, field, writing), strict=True):
        refused = results.get(out[place].item) in {"refused", "skipped"}
        if refused and text is not None:
            out[place] = replace(out[place], outcome="not landed", how=None, again=Again(text))
        else:
            how = out[place].how if out[place].again.text is not None else None
            out[place] = replace(out[place], how=how, again=Again(left=CANNOT_TELL))
    return out


def _of_list(cell: _Cell, field: Field) -> _Cell:
    """A list by what was added to it and taken from it, whatever else somebody added or took since."""
    if cell.outcome != "differently" or cell.before is None or cell.now is None:
        return cell
    together = merged_list(cell.before, cell.now, cell.meant, field)
    if together is None:
        return cell
    before, meant, now, both = (list_values(text, field) for text in (cell.before, cell.meant, cell.now, together))
    if now == both:
        return replace(cell, outcome="landed", how=None, again=Again())
    if not (meant - before) & now and before - meant <= now:  # none of it was done
        return replace(cell, outcome="not landed", how=None, again=Again(together))
    return replace(cell, again=Again(left=CHANGED_SINCE))


def list_values(text: str, field: Field) -> set[str]:
    """The values of a list.

    >>> sorted(list_values("wax, gift", Field("list", separator=",")))
    ['gift', 'wax']
    """
    return {part.strip() for part in text.split(field.separator or ",") if part.strip()}


def _how(meant: str, now: str, field: Field, writing: Notation) -> str | None:
    """How what stands there differs from what was meant, where that is plain."""
    if not now.strip():
        return "emptied"
    if meant.casefold() == now.casefold():
        return "in other case"
    if field.kind not in NUMBER_KINDS and len(now) < len(meant) and meant.startswith(now.rstrip(".…")):
        return f"cut after {len(now):,} characters"
    if field.kind in NUMBER_KINDS:
        wanted, stands = KINDS[field.kind].read(pl.Series([meant, now]), field, writing)
        if wanted is not None and stands is not None and _rounded(Decimal(wanted), Decimal(stands)):
            return "rounded"
    if "".join(meant.split()) == "".join(now.split()):
        return "with other spaces"
    return None


def _rounded(number: Decimal, to: Decimal) -> bool:
    """Whether the second is the first with fewer decimals, rounded up or down."""
    least = Decimal(1).scaleb(min(int(to.as_tuple().exponent), 0))
    return number != number.quantize(least, context=EXACT) and abs(number - to) < least


def _other_changes(
    changes: ChangeSet, located: Located, live: Catalogue, after: Catalogue, sent: pl.DataFrame
) -> tuple[pl.DataFrame, int, int]:
    """What else is otherwise now: cells, items that came, items that went; known items have their keys of now."""
    header = changes.header
    key = header.compared_by
    live_keys = stripped(live.cells, key)
    rows = located.live_rows
    old = true_places(not_null(rows))
    live_keys = pl.DataFrame(
        [scattered(live_keys[name], gathered(rows, old), gathered(located.keys[name], old).str.strip_chars())
         for name in key.fields]
    )  # fmt: skip
    at = located.live_places
    both = true_places(not_null(at))
    after_places = gathered(at, both)
    own = {str(name): gathered(rows, cells["item"]).drop_nulls() for (name,), cells in sent.group_by("field")}
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
        before, now = live.at(name, both), after.at(name, after_places)
        other = true_places(before != now)
        if other.len() and name in own:
            sent_here = scattered(constant(False, live.cells.height), own[name], True)
            other = other.filter(~gathered(sent_here, gathered(both, other)))
        if not other.len():
            continue
        field = header.settings.get(name, Field())
        old_texts, new_texts = gathered(before, other), gathered(now, other)
        real = true_places(~equal(old_texts, new_texts, field, header.writing))
        keys = gathered(live_keys, gathered(both, gathered(other, real)))
        tables.append(
            keys.with_columns(
                field=pl.lit(name),
                before=gathered(old_texts, real),
                now=gathered(new_texts, real),
                moving=pl.lit(field.moving),
            )
        )
    added = changes.keys.filter(changes.items["verdict"] == "new")
    known_keys = KeyIndex.of(pl.concat([live_keys, added.select(key.fields)]), key)
    came = known_keys.lookup(after.cells).null_count()
    gone = rows.filter(changes.items["verdict"] == "gone").drop_nulls()
    went = true_places(at.is_null() & ~KeyIndex.of(live.cells, key).blank)
    went = went.filter(~went.is_in(gone.cast(went.dtype).implode()))
    return pl.concat(tables), came, went.len()
