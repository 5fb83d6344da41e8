"""What became of what was sent: by a later export, by the store's own report, by both; send again what did not land,
mend it first, take it back.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import msgspec
import polars as pl

from neat_delta.core.base.kinds.stored import HABITS
from neat_delta.core.base.model.catalogue import Catalogue
from neat_delta.core.base.model.changeset import ChangeSet
from neat_delta.core.base.model.store import Field, Store
from neat_delta.core.outcomes.confirm import Confirmed
from neat_delta.core.outcomes.confirm import confirm as outcome_of
from neat_delta.core.outcomes.landings import Landing
from neat_delta.core.outcomes.results import FileRow, Results, read_results
from neat_delta.core.outcomes.retry import believed
from neat_delta.core.outcomes.retry import retry as not_landed
from neat_delta.core.outcomes.undo import revert
from neat_delta.core.outcomes.witnesses import Witnesses, compare_witnesses
from neat_delta.core.sheets.match.prepare import prepare_export

__all__ = ["as_reported", "confirm_changes", "results", "retry", "undo", "witnesses"]


def confirm_changes(
    changes: ChangeSet,
    live: Catalogue,
    after: Catalogue,
    store: Store | None = None,
    results: Results | None = None,
) -> Confirmed:
    """What became of the sent changes in `after`, an export made after the import, by value.

    `live` is the change set's own (`read_live`); `store` says how an item is removed, which fields are told as a
    difference, and under which names `after` has its fields, where that is not as live had them. `results` is the
    store's own report, if there is one: an export alone does not tell whether a difference was added to what moves
    by itself. CatalogueError when `after` lacks the key or a field that was sent.

    >>> from neat_delta import as_catalogue, compare
    >>> live = as_catalogue({"sku": ["QA-1", "QA-2"], "price": ["9.90", "20.00"]}, "live")
    >>> sheet = as_catalogue({"sku": ["QA-2", "QA-1"], "price": ["20.00", "10.50"]}, "sheet")
    >>> result = confirm_changes(compare(live, sheet), live, sheet)
    >>> result.all_landed, result.counts["landed"]
    (True, 1)
    """
    shop = changes.header.store_by_now(store)
    export = prepare_export(after, changes.header, store)
    words = (
        {} if results is None else {item: result.status for item, result in results.by_item.items() if not result.mixed}
    )
    return outcome_of(_with_habits(changes, store), live, export, shop.importer, words)


def _with_habits(changes: ChangeSet, store: Store | None) -> ChangeSet:
    """A change set whose fields have what the store file says by now of what the store makes of them by itself."""
    settings = dict(changes.header.settings)
    for name, field in store.fields.items() if store else ():
        known = settings.get(name, Field())
        settings[name] = msgspec.structs.replace(known, **{habit: getattr(field, habit) for habit in HABITS})
    by_now = msgspec.structs.replace(changes.header.store, fields=settings)
    return replace(changes, header=msgspec.structs.replace(changes.header, store=by_now))


def results(
    changes: ChangeSet,
    reports: Sequence[tuple[str, pl.DataFrame]],
    store: Store,
    rows: Sequence[FileRow] = (),
    *,
    again: bool = False,
) -> Results:
    """What the store's reports say of each item that was sent: `reports` with their names (`read_report`), `rows` of
    the update files (`file_rows`), by which row numbers are known; `again`: these are the files of what did not land
    before, and the reports of the earlier import come first. What a report's columns mean is under [results] of
    the `store` file. StoreError when that does not fit, CatalogueError when it is the report of another round.

    >>> from neat_delta import ResultsForm, as_catalogue, compare
    >>> live = as_catalogue({"sku": ["QA-1", "QA-2"], "price": ["9.90", "20.00"]}, "live")
    >>> sheet = as_catalogue({"sku": ["QA-2", "QA-1"], "price": ["21.00", "10.50"]}, "sheet")
    >>> report = pl.DataFrame({"sku": ["QA-1", "QA-2"], "status": ["ok", "no"], "why": ["", "price too high"]})
    >>> form = ResultsForm(["sku"], status="status", done=["ok"], refused=["no"], message="why")
    >>> results(compare(live, sheet), [("report", report)], Store(results=form)).counts
    {'done': 1, 'refused': 1}
    """
    return read_results(changes, reports, store.results, rows, again=again)


def witnesses(changes: ChangeSet, results: Results, seen: Confirmed | None = None) -> Witnesses:
    """What the store says of each item, held against what an export shows (`confirm_changes`; None: nobody looked).

    >>> from neat_delta import ResultsForm, as_catalogue, compare
    >>> live = as_catalogue({"sku": ["QA-1"], "price": ["9.90"]}, "live")
    >>> changes = compare(live, as_catalogue({"sku": ["QA-1"], "price": ["10.50"]}, "sheet"))
    >>> report = pl.DataFrame({"sku": ["QA-1"], "status": ["ok"]})
    >>> said = results(changes, [("report", report)], Store(results=ResultsForm(["sku"], status="status", done=["ok"])))
    >>> witnesses(changes, said, confirm_changes(changes, live, live)).counts  # said to be done, and it is not there
    {('done', 'not landed'): 1}
    """
    return compare_witnesses(changes, results, seen)


def as_reported(changes: ChangeSet, live: Catalogue, results: Results, store: Store | None = None) -> Catalogue:
    """Live as it is now if the store's report is right: with what is said to be done, and nothing else.

    >>> from neat_delta import ResultsForm, as_catalogue, compare
    >>> live = as_catalogue({"sku": ["QA-1", "QA-2"], "price": ["9.90", "20.00"]}, "live")
    >>> changes = compare(live, as_catalogue({"sku": ["QA-1", "QA-2"], "price": ["10.50", "21.00"]}, "sheet"))
    >>> report = pl.DataFrame({"sku": ["QA-1", "QA-2"], "why": ["no", ""]})
    >>> form = ResultsForm(["sku"], message="why")
    >>> said = results(changes, [("report", report)], Store(results=form))
    >>> as_reported(changes, live, said).cells["price"].to_list()
    ['9.90', '21.00']
    """
    shop = changes.header.store_by_now(store)
    done = {item for item, result in results.by_item.items() if result.status in {"done", "warned"}}
    return believed(changes, live, done, shop.importer.removal)


def retry(
    changes: ChangeSet,
    after: Catalogue,
    confirmed: Confirmed,
    store: Store | None = None,
    *,
    altered: bool = False,
    clashes: bool = False,
) -> tuple[ChangeSet, Catalogue]:
    """What did not land and stands as it was before, as a change set against the export `after`, and that export as the
    change set has it: to plan and write from. What somebody changed since is left out (`left_alone`), and so is what
    the store rounded, cut or wrote in other case by itself, unless `altered`. With `clashes` the cells that somebody
    changed since are in it, too: to be mended (`mend`), and not to be sent.

    >>> from neat_delta import as_catalogue, compare
    >>> live = as_catalogue({"sku": ["QA-1", "QA-2"], "price": ["9.90", "20.00"]}, "live")
    >>> sheet = as_catalogue({"sku": ["QA-2", "QA-1"], "price": ["20.00", "10.50"]}, "sheet")
    >>> changes = compare(live, sheet)
    >>> missing, export = retry(changes, live, confirm_changes(changes, live, live))
    >>> [item.cells for item in missing.iter_items()]
    [{'price': ('9.90', '10.50')}]
    """
    export = prepare_export(after, changes.header, store)
    return not_landed(changes, export, confirmed, altered=altered, clashes=clashes), export


def undo(
    changes: ChangeSet,
    live: Catalogue,
    now: Catalogue | None = None,
    store: Store | None = None,
    *,
    altered: bool = False,
) -> tuple[ChangeSet, Catalogue, list[Landing]]:
    """What takes the sent changes back, as a change set against the export `now` (None: live with every change landed);
    that catalogue; and what is left alone, since it does not stand as it was sent; what the store rounded or cut by
    itself is taken back, too, if `altered`.

    >>> from neat_delta import as_catalogue, compare
    >>> live = as_catalogue({"sku": ["QA-1", "QA-2"], "price": ["9.90", "20.00"]}, "live")
    >>> sheet = as_catalogue({"sku": ["QA-2", "QA-1"], "price": ["20.00", "10.50"]}, "sheet")
    >>> back, base, left = undo(compare(live, sheet), live)
    >>> [item.cells for item in back.iter_items()], left
    ([{'price': ('10.50', '9.90')}], [])
    """
    shop = changes.header.store_by_now(store)
    export = None if now is None else prepare_export(now, changes.header, store)
    return revert(_with_habits(changes, store), live, export, shop.importer, altered=altered)
