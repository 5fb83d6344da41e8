"""Whether what a folder sent was taken: what the next export shows of it, what the store's own report says, and both
held against each other.
"""

from __future__ import annotations

import os
from collections.abc import Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING

import msgspec
import polars as pl

from neat_delta.app.outcome import as_reported, confirm_changes, results, witnesses
from neat_delta.app.sources import Table, catalogue_of, store_of
from neat_delta.core.base.infer.results import with_words
from neat_delta.core.base.model.layout import Layout
from neat_delta.core.base.model.schemas import conform
from neat_delta.core.base.model.store import Store
from neat_delta.core.base.support.errors import SettingError, StoreError
from neat_delta.core.outcomes.confirm import with_taken_back
from neat_delta.core.outcomes.unsent import as_sent
from neat_delta.files.changeset import as_live, read_changes, read_with_live
from neat_delta.files.manifest import read_manifest
from neat_delta.files.reading import read_later
from neat_delta.files.reports import draft_report, read_report
from neat_delta.files.rounds import are_older, changes_of, handed_over, round_of, undone_since, with_importer
from neat_delta.files.whole import AnyPath

if TYPE_CHECKING:
    from neat_delta.core.base.infer.results import DraftedResults
    from neat_delta.core.base.model.catalogue import Catalogue
    from neat_delta.core.base.model.changeset import ChangeSet
    from neat_delta.core.outcomes.confirm import Confirmed, TakenBack
    from neat_delta.core.outcomes.results import Results
    from neat_delta.core.outcomes.witnesses import Witnesses
    from neat_delta.files.rounds import Round

__all__ = ["Outcome", "confirm", "outcome_of"]

PLAIN = Layout()


@dataclass(frozen=True, slots=True)
class Outcome:
    """What became of what was `sent`: what an export shows (`seen`; None: nobody looked), what the store says
    (`results`; None: nothing), both against each other, what was guessed of the report (`drafted`), the catalogue
    as it is `now`, or is believed to be, whether the reports are older than the files (`reports_older`): then they
    are of an earlier import, and alone show nothing; and what was written since that takes it back (`undone`; None:
    nothing was).
    """

    sent: ChangeSet
    seen: Confirmed | None
    results: Results | None
    both: Witnesses | None
    drafted: DraftedResults | None
    now: Catalogue
    reports_older: bool = False
    undone: TakenBack | None = None

    @property
    def all_done(self) -> bool:
        """Whether all of it is done, and landed where somebody looked."""
        landed = not self.reports_older if self.seen is None else self.seen.all_landed
        return landed and (self.both is None or self.both.all_done)

    def to_frame(self) -> pl.DataFrame:
        """One row a cell that was sent, and one for an item that goes away or has nothing but its key: the key,
        `field` (null: the item), `before`, `meant`, what stands `now`, the `outcome` (`landed`, `not landed`,
        `rounded`, …; null: nobody looked), and what the store has `said` of the item, with its `message`.
        """
        cells = self.sent.sent().select("item", pl.col("field").cast(pl.String), "before", meant="after")
        table = pl.concat([cells, conform(self.sent.sent_without_cells().to_frame("item"), cells.schema)]).sort(
            "item", maintain_order=True
        )
        table = table.with_columns(now=pl.lit(None, pl.String), outcome=pl.lit(None, pl.String))
        if self.seen is not None:
            table = _with_seen(table, self.seen)
        results = {} if self.results is None else self.results.by_item
        reports_table = pl.DataFrame(
            [(item, result.status, result.message) for item, result in results.items()],
            schema={"item": pl.Int64, "said": pl.String, "message": pl.String},
            orient="row",
        )
        table = table.join(reports_table, on="item", how="left", maintain_order="left")
        return self.sent.with_keys(table["item"], table.drop("item").get_columns())


def _with_seen(table: pl.DataFrame, seen: Confirmed) -> pl.DataFrame:
    """The cells that were sent, with what stands there now and what became of each."""
    trouble = seen.lacking.select("item", "field", there="now", became=pl.coalesce("how", "outcome"))
    joined = table.join(trouble, on=["item", "field"], how="left", nulls_equal=True, maintain_order="left")
    hidden = pl.col("field").is_in([*seen.unseen]).fill_null(value=False)
    other = pl.col("became").is_not_null()
    return joined.with_columns(
        now=pl.when(other).then("there").when(~hidden).then("meant"),
        outcome=pl.when(other).then("became").when(hidden).then(pl.lit("not seen")).otherwise(pl.lit("landed")),
    ).drop("there", "became")


def confirm(
    folder: AnyPath,
    after: Table | None = None,
    *,
    results: AnyPath | Sequence[AnyPath] = (),
    changes: AnyPath | None = None,
    live: Table | None = None,
    store: Store | AnyPath | None = None,
) -> Outcome:
    """What became of what was written into `folder`: in `after`, the export made after the import, in the store's own
    report or reports (`results`), or in both. The change set is looked for beside the folder, where `changes` does not
    say where it is, and its live catalogue where it was, where `live` does not give it. What a report's columns mean
    the `store` file says, or they are guessed at. SettingError where neither is given, OutputError where the folder is
    none, ChangeSetError and CatalogueError where a file is another one than then.

    >>> from pathlib import Path as Folder
    >>> from tempfile import mkdtemp
    >>> from neat_delta import Importer, compare
    >>> live, sheet = {"sku": ["QA-1"], "price": ["9.90"]}, {"sku": ["QA-1"], "price": ["10.50"]}
    >>> folder = Folder(mkdtemp()) / "out"
    >>> _ = compare(live, sheet).plan(Importer("skip")).write(folder)
    >>> confirm(folder, sheet, live=live).to_frame().select("sku", "field", "meant", "outcome").rows()
    [('QA-1', 'price', '10.50', 'landed')]
    """
    where, reports = os.fspath(folder), (results,) if isinstance(results, str | os.PathLike) else results
    if after is None and not reports:
        raise SettingError("results", "name the export made after the import, or the store's own report.")
    known = store_of(store)
    path = os.fspath(changes) if changes is not None else changes_of(where, read_manifest(where))
    if live is None:
        change_set, before = read_with_live(path, beside=after)
    else:
        change_set = read_changes(path)
        before = as_live(catalogue_of(live, "live", layout=change_set.header.live.layout), change_set.header, path)
    round_ = round_of(change_set, path, where)
    known = with_importer(round_, change_set.header.store_by_now(known))
    sent = change_set if round_ is None else as_sent(change_set, round_.manifest)
    layout = known.file.layout if store is not None else PLAIN
    now = None
    if isinstance(after, str | os.PathLike):
        now = read_later(after, layout, before, change_set.header.key_headings)
    elif after is not None:
        now = catalogue_of(after, "after", known)
    return outcome_of(sent, before, known, round_, now, [os.fspath(report) for report in reports])


def outcome_of(
    sent: ChangeSet,
    before: Catalogue,
    store: Store | None,
    round_: Round | None,
    after: Catalogue | None,
    reports: Sequence[str],
    layout: Layout = PLAIN,
) -> Outcome:
    """Hold what was sent against the export and the reports; `round_` is the folder that it was written into, if there
    is one, and `layout` how the reports look.
    """
    reports_read, drafted = None, None
    if reports:
        from neat_delta.files.updates import file_rows

        named = round_ is not None and not (round_.by_digest and handed_over(round_))  # else nobody asks for them
        rows = file_rows(round_.folder, sent, before, round_.manifest) if round_ is not None and named else []
        tables, shop, drafted = _read_reports(reports, sent, before, store, layout)
        later = round_ is not None and round_.manifest.purpose == "retry"
        reports_read = results(sent, tables, shop, rows, again=later)
    if after is not None:
        seen, now = confirm_changes(sent, before, after, store, reports_read), after
    else:  # what the report says to be done is believed
        assert reports_read is not None
        seen, now = None, as_reported(sent, before, reports_read, store)
    older = round_ is not None and are_older(reports, round_)
    undone = None if round_ is None else undone_since(round_)
    seen = None if seen is None else with_taken_back(seen, undone)
    both = None if reports_read is None else witnesses(sent, reports_read, seen)
    return Outcome(sent, seen, reports_read, both, drafted, now, older, undone)


def _read_reports(
    reports: Sequence[str], changes: ChangeSet, live: Catalogue, store: Store | None, layout: Layout
) -> tuple[list[tuple[str, pl.DataFrame]], Store, DraftedResults | None]:
    """The reports as tables, by what the store file says of them; where it says nothing, by what the first one seems to
    say.
    """
    shop = changes.header.store_by_now(store)
    drafted = None
    tables: list[tuple[str, pl.DataFrame]] = []
    if not (shop.results.key or shop.results.row):
        header = changes.header
        drafted, first = draft_report(reports[0], live.cells, header.key, header.headings, layout)
        if drafted.unknown:
            raise StoreError(
                f'{reports[0]}: nobody can tell what "{drafted.unknown[0]}" means there. Say it in the store file, '
                "under [results], which `neat-delta learn` drafts with ‹results›."
            )
        shop, tables = msgspec.structs.replace(shop, results=drafted.form), [(reports[0], first)]
    tables += [(report, read_report(report, shop.results, layout)) for report in reports[len(tables) :]]
    if drafted is not None:  # a later report may have words that the first one has not
        shop = msgspec.structs.replace(shop, results=with_words(shop.results, [table for _, table in tables]))
    return tables, shop, drafted
