"""What became of a cell that was sent, by its three sides: before, meant and now; and what is to be done about it."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from decimal import Decimal
from typing import Literal

import msgspec
import polars as pl

from neat_delta.core.base.kinds import KINDS
from neat_delta.core.base.kinds.base import EXACT
from neat_delta.core.base.kinds.number import NUMBER_KINDS
from neat_delta.core.base.kinds.stored import has_habits, stored_alike
from neat_delta.core.base.model.catalogue import Catalogue
from neat_delta.core.base.model.changeset import ChangeSet
from neat_delta.core.base.model.importer import Importer
from neat_delta.core.base.model.layout import Notation
from neat_delta.core.base.model.results import ResultStatus
from neat_delta.core.base.model.schemas import LANDINGS, conform
from neat_delta.core.base.model.store import Field, Key
from neat_delta.core.base.support.series import constant, filtered, gathered, not_null, true_places
from neat_delta.core.compare.diff.clashes import carried_over, merged_list
from neat_delta.core.compare.diff.equality import equal
from neat_delta.core.outcomes.located import Located
from neat_delta.core.sheets.match.keys import KeyIndex, key_text

__all__ = [
    "ALTERED",
    "ALTERED_BY_STORE",
    "CANNOT_TELL",
    "CHANGED_SINCE",
    "MADE_ANEW",
    "NO_ITEM",
    "NO_RESULTS",
    "PLAIN",
    "TAKEN_BACK",
    "Landing",
    "Outcome",
    "field_outcomes",
    "landings_of",
    "list_values",
    "was_altered",
]

Outcome = Literal["landed", "not landed", "differently", "taken back"]
"""What became of a change: it stands as it was meant, as it was before, or as something else; or not as it was meant
since files were written that take it back.
"""


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


CHANGED_SINCE = "it is neither as it was nor as it was meant: somebody changed it since"
MADE_ANEW = "it is there, and not as it was: somebody changed it since, or made it anew"
NO_ITEM = "the item is not there any more"
OLD_STAYS = "it has its new code, and one is still there under the old code: look at both, and remove that"
CANNOT_TELL = "it moves by itself, and the export alone does not tell whether the difference was added"
TAKEN_BACK = "files were written since that take it back"
"""Why something that did not land is left alone."""


ALTERED = ("rounded", "in other case", "with other spaces", "cut after")
"""How the words for what a store makes of a value by itself begin: sent again, it would come back the same."""

ALTERED_BY_STORE = rf"\A({'|'.join(ALTERED)})"
"""The same as a pattern."""

PLAIN = Importer()
NO_RESULTS: Mapping[int, ResultStatus] = {}


def was_altered(landing: Landing) -> bool:
    """Whether the store took a value and made another of it: rounded, cut, in other case.

    >>> was_altered(Landing({"sku": "QA-1"}, "price", "9.00", "9.90", "10", "differently", "rounded"))
    True
    """
    return landing.how is not None and landing.how.startswith(ALTERED)


def landings_of(table: pl.DataFrame, keys: pl.DataFrame) -> list[Landing]:
    """The changes of a table (`LANDINGS`) by themselves, with the keys of their items (`keys`: those of all items).

    >>> lacking = conform(pl.DataFrame({"item": [0], "field": ["price"], "outcome": ["not landed"]}), LANDINGS)
    >>> [(one.key, one.outcome) for one in landings_of(lacking, pl.DataFrame({"sku": ["QA-1"]}))]
    [({'sku': 'QA-1'}, 'not landed')]
    """
    columns = ["field", "before", "meant", "now", "outcome", "how", pl.col("new").fill_null(value=False)]
    of_items = gathered(keys, table["item"]).iter_rows(named=True)
    return [Landing(key, *row) for key, row in zip(of_items, table.select(columns).iter_rows(), strict=True)]


@dataclass(frozen=True, slots=True)
class SentCell:
    """A cell that was sent, with its three sides, what became of it, and what is to be done about it: the text to send
    again (None: nothing is to be sent), and why it is left alone (None: it is not).
    """

    item: int
    before: str | None
    meant: str
    now: str | None
    outcome: Outcome
    how: str | None
    again: str | None = None
    left: str | None = None


def field_outcomes(
    name: str,
    cells: pl.DataFrame,
    after: Catalogue,
    located: Located,
    changes: ChangeSet,
    importer: Importer,
    results: Mapping[int, ResultStatus],
) -> pl.DataFrame:
    """What became of the cells of a field (`LANDINGS`), but for those that stand as they were meant, and are done with.
    A code is looked at once more, also where it landed.
    """
    header, writing = changes.header, changes.header.writing
    field = Field("code") if name in header.key else header.settings.get(name, Field())  # by its code alone it is there
    now = after.at(name, gathered(located.places, cells["item"]))
    present = not_null(now)
    same = equal(cells["after"], now, field, writing) & present
    if has_habits(field):
        same |= stored_alike(cells["after"], now, field, writing)
    table = cells.select(pl.col("item").cast(pl.Int64), "before", meant="after").with_columns(now=now, same=same)
    open_ones = table if name in header.key else filtered(table, ~same)
    now, present = open_ones["now"], not_null(open_ones["now"])
    still = equal(open_ones["before"], now, field, writing) & (present == not_null(open_ones["before"]))
    new = gathered(changes.items["verdict"], open_ones["item"]) == "new"
    if new.any():
        still |= new & (now.fill_null("").str.strip_chars() == "")  # of a new item nothing stood there
    if name in header.unseen:  # what stood there is not known
        still &= False
    still |= ~present
    closer = ~(open_ones["same"] | still)
    stays = set[int]()
    if name in header.key:
        if importer.code_change.how == "replace":
            stays = _still_under_the_old_code(changes, located, after)
        closer |= open_ones["item"].is_in([*stays, *located.between])
    rows_looked_at = filtered(open_ones.hstack([still.alias("still")]), closer).iter_rows()
    looked = [_looked_at(*row, field=field, writing=writing) for row in rows_looked_at]
    if name in header.key:
        looked = [_of_code(cell, located, stays, ignore_case=header.store.key.ignore_case) for cell in looked]
    elif name in importer.adjusted:
        looked = _of_differences(looked, field, writing, results)
    elif field.kind == "list":
        looked = [_of_list(cell, field) for cell in looked]
    columns = [name for name in LANDINGS if name in SentCell.__dataclass_fields__]
    rows = [tuple(getattr(cell, column) for column in columns) for cell in looked]
    ends = pl.DataFrame(rows, {column: LANDINGS[column] for column in columns}, orient="row")
    both = pl.concat([_plain(filtered(open_ones, ~closer)), conform(ends, LANDINGS)])
    return both.with_columns(field=constant(name, both.height, pl.String))


def _plain(cells: pl.DataFrame) -> pl.DataFrame:
    """Cells (`item`, `before`, `meant`, `now`, `same`) that stand as they were meant, or else as before."""
    nowhere = pl.col("now").is_null() & pl.col("before").is_not_null()
    again = pl.when(~pl.col("same") & ~nowhere).then("meant")
    left = pl.when(~pl.col("same") & nowhere).then(pl.lit(NO_ITEM))
    outcome = pl.when("same").then(pl.lit("landed")).otherwise(pl.lit("not landed"))
    return conform(cells.with_columns(outcome=outcome, again=again, left=left), LANDINGS)


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
) -> SentCell:
    """A cell by its three sides, as a value."""
    if same:
        return SentCell(item, before, meant, now, "landed", None)
    if still:
        gone = now is None and before is not None
        again, left = (None, NO_ITEM) if gone else (meant, None)
        return SentCell(item, before, meant, now, "not landed", None, again, left)
    how = _how(meant, now or "", field, writing)
    again, left = (meant, None) if how is not None and how.startswith(ALTERED) else (None, CHANGED_SINCE)
    return SentCell(item, before, meant, now, "differently", how, again, left)


def _still_under_the_old_code(changes: ChangeSet, located: Located, after: Catalogue) -> set[int]:
    """The items that stand under another code than before, and of which one is still there under the old one, as where
    an importer made them anew and was not let remove them.
    """
    old = KeyIndex.of(after, changes.header.compared_by).lookup(changes.keys)
    taken = located.live_places.drop_nulls().implode()
    return set(true_places((not_null(old) & (old != located.places) & ~old.is_in(taken)).fill_null(value=False)))


def _of_code(cell: SentCell, located: Located, stays: set[int], *, ignore_case: bool) -> SentCell:
    """A new code: it has landed in any case where case means nothing, unless nothing but its case changes; an item that
    stands under its old code or a temporary one has not got it.
    """
    if ignore_case and cell.before is not None:
        key = Key(["code"], ignore_case=True)
        was, wanted, stands = (key_text([text or ""], key) for text in (cell.before, cell.meant, cell.now))
        if cell.outcome == "differently" and stands == wanted != was:
            return replace(cell, outcome="landed", how=None, again=None, left=None)
    if cell.item in stays and cell.outcome == "landed":
        return replace(cell, outcome="differently", how="and it stands there twice", again=None, left=OLD_STAYS)
    if cell.item in located.between:
        return replace(cell, outcome="not landed", how="under a temporary code", again=cell.meant, left=None)
    return cell


def _of_differences(
    looked: Sequence[SentCell], field: Field, writing: Notation, results: Mapping[int, ResultStatus]
) -> list[SentCell]:
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
            out[place] = replace(out[place], outcome="not landed", how=None, again=text, left=None)
        else:
            how = out[place].how if out[place].again is not None else None
            out[place] = replace(out[place], how=how, again=None, left=CANNOT_TELL)
    return out


def _of_list(cell: SentCell, field: Field) -> SentCell:
    """A list by what was added to it and taken from it, whatever else somebody added or took since."""
    if cell.outcome != "differently" or cell.before is None or cell.now is None:
        return cell
    together = merged_list(cell.before, cell.now, cell.meant, field)
    if together is None:
        return cell
    before, meant, now, both = (list_values(text, field) for text in (cell.before, cell.meant, cell.now, together))
    if now == both:
        return replace(cell, outcome="landed", how=None, again=None, left=None)
    if not (meant - before) & now and before - meant <= now:  # none of it was done
        return replace(cell, outcome="not landed", how=None, again=together, left=None)
    return replace(cell, again=None, left=CHANGED_SINCE)


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
