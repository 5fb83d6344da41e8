"""A change set as a person looks at it: which items, what they come to, what waits, what it does to margins."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from typing import Any

from neat_delta.app.requests import PreviewRequest
from neat_delta.app.settings import request_of
from neat_delta.app.sources import Table, catalogue_of
from neat_delta.core.base.model.catalogue import Catalogue
from neat_delta.core.base.model.changeset import ChangeSet
from neat_delta.core.base.support.errors import CatalogueError, ChangeSetError
from neat_delta.core.base.support.series import true_places
from neat_delta.core.review.facts import Facts
from neat_delta.core.review.figures import figures
from neat_delta.core.review.impact import impact_of
from neat_delta.core.review.totals import total_fields, totals
from neat_delta.core.review.view import flagged, names_of, rows_of, view

__all__ = ["preview"]


def preview(
    changes: ChangeSet,
    live: Catalogue | None = None,
    *,
    records: Table | None = None,
    request: PreviewRequest | None = None,
    skus: Sequence[str] = (),
    **settings: Any,  # noqa: ANN401 - those of `PreviewRequest`, which reads and checks them
) -> Facts:
    """What is to be said of a change set before it is sent, of all items or of those that the settings choose, as of
    those that `skus` name besides.

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
    options = request or request_of(PreviewRequest, settings)
    where = None
    if options.where is not None:
        from neat_delta.core.base.query.expressions import condition, evaluate  # and the parser of expressions

        where = condition(options.where)
    keep = options.keep_margin
    needs_live = options.where is not None or options.by is not None or keep is not None or records is not None
    if needs_live and live is None:
        raise CatalogueError(
            "Conditions, groups, margins and records need the live catalogue of the change set. Say with ‹live› where "
            "it is."
        )
    _must_have(changes.header.fields, options.field, "it")
    _must_have(live.fields if live else [], [options.by] if options.by is not None else [], "live")
    names = names_of(changes, live)
    chosen = None
    if where is not None and live is not None:
        chosen = true_places(evaluate(where, rows_of(changes, live)))
    every = view(
        changes,
        names,
        wanted=chosen,
        flagged=flagged(changes, options.check, options.level) if options.check or options.level else None,
        fields=options.field,
        keys=[*options.sku, *skus],
        verdicts=options.verdict,
        sort=options.sort,
    )
    effect = impact_of(changes, live, names, options.by, keep)
    quotes = None
    if records is not None and live is not None:
        from neat_delta.core.review.records import records as touched_records

        table = catalogue_of(records, "records")
        quotes = touched_records(changes, live, table, options.record_price, keep or "percent")
    fields = total_fields(changes, options.total)
    _must_have(live.fields if live else fields, fields, "live")
    sums = totals(changes, live, fields) if fields and live else ()
    return Facts(changes, every, figures(changes), effect, options.by, live, quotes, sums)


def _must_have(fields: Sequence[str], wanted: Collection[str], what: str) -> None:
    for field in wanted:
        if field not in fields:
            raise ChangeSetError(f'{what} has no field "{field}". Its fields are: {", ".join(fields)}.')
