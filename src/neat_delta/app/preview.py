"""A change set as a person looks at it: which items, what they come to, what waits, what it does to margins."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING

from neat_delta.core.model.catalogue import Catalogue
from neat_delta.core.model.changeset import ChangeSet, Verdict
from neat_delta.core.model.store import LevelName
from neat_delta.core.review.facts import Facts
from neat_delta.core.review.figures import figures
from neat_delta.core.review.impact import Keep, impact_of
from neat_delta.core.review.totals import total_fields, totals
from neat_delta.core.review.view import Sort, flagged, names_of, rows_of, view
from neat_delta.core.support.errors import CatalogueError, ChangeSetError

if TYPE_CHECKING:
    from neat_delta.core.query.expressions import Condition

__all__ = ["PreviewOptions", "preview"]


@dataclass(frozen=True, slots=True)
class PreviewOptions:
    """Which items are looked at and how.

    Only those that change one of `fields`, with one of `keys` in their key, of one of `verdicts`, for which the
    condition `where` holds, in which one of `checks` or a check of one of `levels` found something (each: any when
    empty); in the order of `sort`. The impact is grouped `by` a field, too; where a cost rises, the price that would
    `keep` the margin is worked out; `record_price` is the heading of the price in a table of records. Of the
    fields in `total` it is said what each item comes to over its rows and these (none: the stock, where the key has
    several fields).
    """

    fields: Sequence[str] = ()
    keys: Sequence[str] = ()
    verdicts: Sequence[Verdict] = ()
    where: Condition | None = None
    checks: Collection[str] = ()
    levels: Collection[LevelName] = ()
    sort: Sort = "file"
    by: str | None = None
    keep: Keep | None = None
    record_price: str | None = None
    total: Sequence[str] = ()

    @property
    def chooses_items(self) -> bool:
        """Whether not all items are looked at."""
        return bool(self.keys or self.verdicts or self.where or self.checks or self.levels)


ALL = PreviewOptions()


def preview(
    changes: ChangeSet,
    live: Catalogue | None = None,
    *,
    options: PreviewOptions = ALL,
    records: Catalogue | None = None,
) -> Facts:
    """What is to be said of a change set before it is sent.

    `live` is its live catalogue (`read_live`): names, conditions, groups, margins and records need it. `records` is a
    table of open quotes or agreed prices. ChangeSetError when a field is named that is not there, CatalogueError when
    live is needed and not given, or the records cannot be read.

    >>> from neat_delta import as_catalogue, compare
    >>> live = as_catalogue({"sku": ["QA-1", "QA-2"], "price": ["9.90", "20.00"]}, "live")
    >>> sheet = as_catalogue({"sku": ["QA-2", "QA-1"], "price": ["20.00", "10.50"]}, "sheet")
    >>> facts = preview(compare(live, sheet), live)
    >>> [(one.field, one.sent, str(one.most_up)) for one in facts.figures]
    [('price', 1, '0.60')]
    """
    needs_live = options.where is not None or options.by is not None or options.keep is not None or records is not None
    if needs_live and live is None:
        raise CatalogueError("Conditions, groups, margins and records need the live catalogue of the change set.")
    _must_have(changes.header.fields, options.fields, "it")
    _must_have(live.fields if live else [], [options.by] if options.by is not None else [], "live")
    names = names_of(changes, live)
    chosen = None
    if options.where is not None and live is not None:
        from neat_delta.core.query.expressions import evaluate

        chosen = evaluate(options.where, rows_of(changes, live)).arg_true()
    every = view(
        changes,
        names,
        wanted=chosen,
        flagged=flagged(changes, options.checks, options.levels) if options.checks or options.levels else None,
        fields=options.fields,
        keys=options.keys,
        verdicts=options.verdicts,
        sort=options.sort,
    )
    effect = impact_of(changes, live, names.to_list(), options.by, options.keep)
    quotes = None
    if records is not None and live is not None:
        from neat_delta.core.review.records import records as touched_records

        quotes = touched_records(changes, live, records, options.record_price, options.keep or "percent")
    fields = total_fields(changes, options.total)
    _must_have(live.fields if live else fields, fields, "live")
    sums = totals(changes, live, fields) if fields and live else ()
    return Facts(changes, every, figures(changes), effect, options.by, live, quotes, sums)


def _must_have(fields: Sequence[str], wanted: Collection[str], what: str) -> None:
    for field in wanted:
        if field not in fields:
            raise ChangeSetError(f'{what} has no field "{field}". Its fields are: {", ".join(fields)}.')
