"""`neat-delta confirm`: whether what was sent was taken, by the store's own report and by the next export."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import PurePath
from typing import TYPE_CHECKING

import click

from neat_delta.cli.common import (
    json_option,
    layout_from_options,
    layout_options,
    must_be_new,
    print_json,
    print_live,
    read_store_option,
    store_arguments,
    store_option,
    working,
    worksheet_form,
    write_worksheet,
)
from neat_delta.report.text import command, count

if TYPE_CHECKING:
    import polars as pl

    from neat_delta.core.infer.results import DraftedResults
    from neat_delta.core.model.catalogue import Catalogue
    from neat_delta.core.model.changeset import ChangeSet
    from neat_delta.core.model.store import Store
    from neat_delta.core.outcome.confirm import Confirmed
    from neat_delta.core.outcome.results import Results
    from neat_delta.core.outcome.witnesses import Witnesses

__all__ = ["confirm"]


@click.command(
    short_help="See in the next export, and in the store's report, whether CHANGES landed.",
    epilog="\b\nExample, on the demo's files (nothing has landed in the catalogue as it was):\n"
    "  neat-delta confirm changes.jsonl live.csv",
)
@click.argument("changes")
@click.argument("after", required=False)
@click.option("--files", "folder", metavar="DIR", help="What `write` made: what it held back is not looked for.")
@click.option(
    "--results",
    "reports",
    multiple=True,
    metavar="REPORT",
    help="The store's own report of the import, any table, page or log; may be repeated. A layout option is for it "
    "with report= before the value.",
)
@click.option("--retry", metavar="DIR", help="Write update files of what did not land into this new folder.")
@click.option(
    "--retry-altered", "altered", is_flag=True, help="Send again what the store rounded, cut or wrote otherwise, too."
)
@click.option(
    "--mend",
    metavar="FILE",
    help="Write a working sheet (.xlsx, .csv) of what did not land, with the store's message beside each item.",
)
@click.option("--live", metavar="FILE", help="Where the live catalogue is now.  [default: where compare found it]")
@click.option("--replace", is_flag=True, help="Overwrite the FILE of --mend if it is there.")
@click.option("--all", "everything", is_flag=True, help="Show all that did not land, and all that moved.")
@store_option
@layout_options(two=False)
@json_option
def confirm(
    changes: str,
    after: str | None,
    folder: str | None,
    reports: tuple[str, ...],
    retry: str | None,
    altered: bool,
    mend: str | None,
    live: str | None,
    replace: bool,
    everything: bool,
    store: str | None,
    as_json: bool,
) -> int:
    """Look whether CHANGES were taken: in AFTER, the export made after the import, in the store's report, or in both.

    In AFTER, change by change: landed, not landed, or landed differently (rounded, cut, in other case). In the report,
    item by item: done, done with a warning, skipped, refused, not mentioned. With both, where they do not agree is
    said first. Items that AFTER has twice, and what else moved meanwhile, are listed apart. Exit status 0 only when
    all of it is done and landed, and nothing stands there twice.
    """
    import neat_delta
    from neat_delta.core.outcome.unsent import as_sent
    from neat_delta.files.changeset import read_with_live
    from neat_delta.files.storefile import results_draft
    from neat_delta.files.updates import file_rows, read_manifest

    inputs = [changes, *([after] if after else []), *reports]
    if len(inputs) == 1:
        raise click.UsageError("Name AFTER, the export made after the import, or the store's report with --results.")
    if mend is not None:
        worksheet_form(mend)
        must_be_new(mend, PurePath(mend).suffix.lower(), *inputs, replace=replace)
    store_file = read_store_option(store)
    told = store_file[0] if store_file else None
    drafted = None
    with working(f"Reading {' and '.join(inputs)}"):
        change_set, before = read_with_live(changes, live)
        manifest = None if folder is None else read_manifest(folder)
        if manifest is not None:
            change_set = as_sent(change_set, manifest)
        said = None
        if reports:
            rows = [] if manifest is None else file_rows(str(folder), change_set, before, manifest)
            tables, shop, drafted = _read_reports(reports, change_set, before, told)
            said = neat_delta.results(change_set, tables, shop, rows)
        result = None
        if after is not None:
            layout = told.file.layout if told else change_set.header.live.layout
            now = neat_delta.read(after, layout_from_options("live", layout), like=before)
            result = neat_delta.confirm(change_set, before, now, told)
        elif said is not None:  # nobody looked: the report is believed
            now = neat_delta.as_reported(change_set, before, said, told)
        both = None if said is None else neat_delta.witnesses(change_set, said, result)
        if result is not None or not (retry or mend):
            lacking = result
        else:
            lacking = neat_delta.confirm(change_set, before, now, told)
    again = _Again(retry, mend, inputs, altered=altered, replace=replace, store=store)
    lines, facts = again.write(change_set, now, lacking, both, told)
    if as_json:
        print_json(_facts(result, said, both, drafted) | facts)
    else:
        print_live(changes, live, before.path)
        draft = None if drafted is None else results_draft(drafted)
        _print(change_set, result, said, both, draft, [str(after), *reports], lines, everything=everything)
    landed = result is None or result.all_landed
    return 0 if landed and (both is None or both.all_done) else 1


def _print(
    changes: ChangeSet,
    result: Confirmed | None,
    said: Results | None,
    both: Witnesses | None,
    draft: str | None,
    files: Sequence[str],
    lines: Sequence[str],
    *,
    everything: bool,
) -> None:
    """Say what became of it to a person; of the `files` the first is AFTER, the others are reports."""
    from neat_delta.report import outcome as report
    from neat_delta.report.terminal import terminal

    console = terminal()
    if both is not None and said is not None:
        if draft is not None:
            report.print_drafted_results(console, draft, files[1])
        report.print_witnesses(console, both, said, everything=everything)
    if result is not None:
        key, by_items = changes.header.key, both is not None
        report.print_confirmed(console, result, key, files[0], everything=everything, by_items=by_items)
        report.print_habits(console, result.habits)
    for line in lines:
        console.print(f"\n{line}", soft_wrap=True)


def _read_reports(
    reports: tuple[str, ...], changes: ChangeSet, live: Catalogue, store: Store | None
) -> tuple[list[tuple[str, pl.DataFrame]], Store, DraftedResults | None]:
    """The reports as tables, by what the store file says of them; where it says nothing, by what the first one seems to
    say.
    """
    import msgspec

    import neat_delta
    from neat_delta.core.support.errors import StoreError
    from neat_delta.files.reports import draft_report

    shop, layout = store or neat_delta.Store(), layout_from_options("report")
    drafted = None
    tables: list[tuple[str, pl.DataFrame]] = []
    if not (shop.results.key or shop.results.row):
        header = changes.header
        drafted, first = draft_report(reports[0], live.cells.select(header.key), header.key, header.headings, layout)
        if drafted.unknown:
            raise StoreError(
                f'{reports[0]}: nobody can tell what "{drafted.unknown[0]}" means there. Say it in the store file, '
                "under [results], which `neat-delta learn` drafts with ‹results›."
            )
        shop, tables = msgspec.structs.replace(shop, results=drafted.form), [(reports[0], first)]
    tables += [(one, neat_delta.read_report(one, shop.results, layout)) for one in reports[len(tables) :]]
    return tables, shop, drafted


@dataclass(frozen=True, slots=True)
class _Again:
    """What is to be sent again: update files into the folder `retry`, a sheet to `mend`."""

    retry: str | None
    mend: str | None
    inputs: Sequence[str]
    altered: bool
    replace: bool
    store: str | None

    def write(
        self,
        changes: ChangeSet,
        now: Catalogue,
        lacking: Confirmed | None,
        both: Witnesses | None,
        store: Store | None,
    ) -> tuple[list[str], dict[str, object]]:
        """Write it; what is to be said of it, and the facts for a program."""
        import neat_delta

        facts: dict[str, object] = {"retry": None}
        if lacking is None or not (self.retry or self.mend):
            return [], facts
        again, export = neat_delta.retry(changes, now, lacking, store, altered=self.altered)
        if not again.items.height:
            return ["Nothing is to be sent again."], facts
        lines = []
        if self.retry is not None:
            with working("Writing and replaying"):
                importer = store.importer if store else neat_delta.Importer()
                facts["retry"] = written = neat_delta.write_updates(again, export, importer, self.retry)
            lines.append(self._said(lacking, len(written.update)))
        if self.mend is not None:
            form, layout = worksheet_form(self.mend)
            keys = lacking.located.keys  # under the code that an item has by now
            messages = {keys.row(one.item): one.message for one in both.testimonies} if both else {}
            made = neat_delta.mend(again, export, messages, form, store, neat_delta.SheetOptions(layout=layout))
            write_worksheet(made.file, self.mend, *self.inputs, replace=self.replace)
            rest = f" Not in it: {count(made.removals, 'removal')}." if made.removals else ""
            look = command("compare", now.path, self.mend, *store_arguments(self.store), "-o", "mended.jsonl")
            lines.append(f"Wrote {count(made.items, 'item')} to {self.mend}, to be mended.{rest} Then:  {look}")
            facts["mend"] = {"file": self.mend, "items": made.items, "removals": made.removals}
        return lines, facts

    def _said(self, lacking: Confirmed, files: int) -> str:
        from neat_delta.core.outcome.retry import was_altered

        gone = sum(one.now is None and one.field is not None for one in lacking.trouble)
        rest = f" Not in them: {gone:,} changes of items that are there no more." if gone else ""
        left = sum(was_altered(one) for one in lacking.trouble)
        if left and not self.altered:
            rest += f" Nor {count(left, 'change')} that the store altered by itself (--retry-altered)."
        return f"Wrote {count(files, 'update file')} to {self.retry}.{rest}"


def _facts(
    result: Confirmed | None, said: Results | None, both: Witnesses | None, drafted: DraftedResults | None
) -> dict[str, object]:
    """The facts that --json prints."""
    facts: dict[str, object] = {}
    if result is not None:
        facts |= {"counts": result.counts, "trouble": result.trouble, "moved": result.moved.to_dicts()}
        facts |= {"came": result.came, "went": result.went, "twice": result.twice, "habits": result.habits}
    if said is not None and both is not None:
        table = [{"said": one, "seen": other, "items": many} for (one, other), many in both.counts.items()]
        items = [
            {"key": one.key, "said": one.said, "seen": one.seen, "message": one.message, "ids": one.ids}
            for one in both.testimonies
        ]
        groups = [
            {"said": word, "form": form, "keys": [one.key for one in those]} for word, form, those in both.messages
        ]
        facts["results"] = {
            "counts": said.counts, "witnesses": table, "items": items, "messages": groups,
            "not_sent": said.others, "repeated": said.repeated, "aside": said.aside,
            "guessed": None if drafted is None else drafted.form,
        }  # fmt: skip
    return facts
