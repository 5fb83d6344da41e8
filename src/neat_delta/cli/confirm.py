"""`neat-delta confirm`: whether what was sent was taken, by the store's own report and by the next export."""

from __future__ import annotations

from collections.abc import Callable, Collection, Sequence
from dataclasses import dataclass
from functools import partial
from pathlib import PurePath
from typing import TYPE_CHECKING, Any

import click

from neat_delta.cli.common import (
    changes_and_folder,
    find_round,
    layout_from_options,
    layout_options,
    must_end_in,
    output_options,
    print_json,
    print_live,
    print_round,
    read_store_of_round,
    screen,
    store_arguments,
    store_option,
    working,
    worksheet_form,
    write_worksheet,
)
from neat_delta.cli.keeping import joined_ledger, ledger_option, note
from neat_delta.cli.options import argument, option, verb
from neat_delta.report.text import command, count

if TYPE_CHECKING:
    from neat_delta.app.confirm import Outcome
    from neat_delta.core.base.model.catalogue import Catalogue
    from neat_delta.core.base.model.changeset import ChangeSet
    from neat_delta.core.base.model.rounds import InputRole
    from neat_delta.core.base.model.store import Store
    from neat_delta.core.outcomes.confirm import Confirmed
    from neat_delta.core.outcomes.results import Results
    from neat_delta.files.ledger.ledger import Ledger
    from neat_delta.files.rounds import Round

__all__ = ["confirm"]


@verb(
    epilog="\b\nExample, on the demo's files (nothing has landed in the catalogue as it was):\n"
    "  neat-delta confirm changes.jsonl live.csv",
)
@argument("changes")
@argument("after", required=False)
@option(
    "--files",
    "folder",
    metavar="DIR",
    help="The folder that `write` made: it says what was sent, and under which importer's rules.  [default: the one "
    "that was made of CHANGES]",
)
@option(
    "--results",
    "reports",
    multiple=True,
    metavar="REPORT",
    help="The store's own report of the import, any table, page or log; may be repeated. A layout option is for it "
    "with report= before the value.",
)
@option(
    "--retry",
    metavar="DIR",
    help="Write update files of what did not land, and stands as it was before, into this new folder.",
)
@option(
    "--retry-altered", "altered", is_flag=True, help="Send again what the store rounded, cut or wrote otherwise, too."
)
@option(
    "--mend",
    metavar="FILE",
    help="Write a working sheet (.xlsx, .csv) of what did not land, with the store's message beside each item.",
)
@option("--live", metavar="FILE", help="Where the live catalogue is now.  [default: where compare found it]")
@option("--replace", is_flag=True, help="Overwrite the FILE of --mend if it is there.")
@store_option
@ledger_option
@layout_options(two=False)
@output_options
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
    store: str | None,
    as_json: bool,
) -> int:
    """Look whether CHANGES (or the folder that `write` made of them) were taken: in AFTER, the export made after the
    import, in the store's report, or in both.

    In AFTER, change by change: landed, not landed, or landed differently (rounded, cut, in other case). In the report,
    item by item: done, done with a warning, skipped, refused, not mentioned. With both, where they do not agree is
    said first. Items that AFTER has twice, and what else moved meanwhile, are listed apart. Exit status 0 only when
    all of it is done and landed, and nothing stands there twice.
    """
    from neat_delta.app.confirm import outcome_of
    from neat_delta.core.outcomes.unsent import as_sent
    from neat_delta.files.changeset import read_with_live
    from neat_delta.files.draft import results_draft
    from neat_delta.files.journal import kept_answers
    from neat_delta.files.reading import read_later
    from neat_delta.files.rounds import edited_files, with_importer
    from neat_delta.report.settings import as_options

    changes, folder = changes_and_folder(changes, folder)
    inputs = [changes, *([after] if after else []), *reports]
    if mend is not None:
        worksheet_form(mend)
        must_end_in(mend, PurePath(mend).suffix.lower(), *inputs)
    store_file = read_store_of_round(store, changes, live)
    path = store_file[1] if store_file else None
    wanted_for = "nothing can be sent again" if retry or mend else None
    with working(f"Reading {' and '.join(inputs)}"):
        needs = None if after is not None or mend is not None else _needs(changes, folder, store_file)
        change_set, before = read_with_live(changes, live, needs, beside=after)
        round_ = find_round(change_set, changes, folder, wanted_for=wanted_for)
        answers = kept_answers(round_.folder) if round_ is not None and not reports else []
        if len(inputs) == 1 and not answers:
            raise click.UsageError(
                "Name AFTER, the export made after the import, or the store's report with --results."
            )
        by_store = with_importer(round_, change_set.header.store_by_now(store_file[0] if store_file else None))
        sent = change_set if round_ is None else as_sent(change_set, round_.manifest)
        now = None
        if after is not None:
            layout = layout_from_options("live", by_store.file.layout if store_file else None)
            now = read_later(after, layout, before, change_set.header.key_headings)
        asked = partial(outcome_of, sent, before, by_store, round_, now, layout=layout_from_options("report"))
        looked, used, lines_first = _by_answers(asked, reports, answers, needed=after is None)
    lines, facts = list[str](), dict[str, Any]()
    lines_first += _older(looked, round_, used, after, wanted=bool(retry or mend)) + _undone(looked)
    if round_ is not None and (retry or mend):
        again = _Again(round_, path, retry, mend, inputs, altered=altered, replace=replace, store=store)
        lines, facts = again.write(sent, before, looked, by_store)
    edited = [] if round_ is None else edited_files(round_)
    _note(joined_ledger(store_file), change_set, looked, after, used)
    if as_json:
        from neat_delta.app.outputs import ConfirmOutput

        facts |= _facts(looked) | {"answers": [] if reports else list(used)}
        print_json(ConfirmOutput(files=None if round_ is None else round_.folder, store=path, **facts))
    else:
        print_live(changes, live, before.path)
        print_round(round_, path, changes, edited)
        for line in lines_first:
            click.echo(line)
        for remark in looked.now.notes if after is not None else ():
            click.echo(as_options(f"{after}: {remark}"))
        draft = None if looked.drafted is None else results_draft(looked.drafted)
        _print(looked, draft, [str(after), *used], lines)
    return 0 if looked.all_done and not edited else 1


def _note(
    ledger: Ledger | None, changes: ChangeSet, looked: Outcome, after: str | None, reports: Sequence[str]
) -> None:
    """Note in the ledger what became of a round, with copies of what was looked at."""
    if ledger is not None and (looked.seen is not None or not looked.reports_older):
        from neat_delta.app.ledger import note_outcome

        kept: list[tuple[InputRole, str]] = [("after", after)] if after else []
        kept += [("results", report) for report in reports]
        note(lambda: note_outcome(ledger, changes.digest, looked, kept))


def _needs(
    changes: str, folder: str | None, store_file: tuple[Store, str] | None
) -> Callable[[ChangeSet], Collection[str] | None] | None:
    """What of live is looked at where there is a report alone: all of it, where nobody described reports, as what one
    means is then guessed by what live has.
    """
    from neat_delta.files.rounds import fields_of_round

    form = None if store_file is None else store_file[0].results
    described = form is not None and bool(form.key or form.row)
    return partial(fields_of_round, path=changes, folder=folder) if described else None


def _by_answers(
    ask: Callable[[Sequence[str]], Outcome], reports: Sequence[str], answers: Sequence[str], *, needed: bool
) -> tuple[Outcome, Sequence[str], list[str]]:
    """What became of it by the reports that were named, or else by the answers that were kept when it was delivered;
    the reports that count; and what is to be said. Answers that are no report are left out, where an export tells.
    """
    if not answers:
        return ask(reports), reports, []
    from neat_delta.core.base.support.errors import CatalogueError, FileError, StoreError

    names = ", ".join(answers)
    try:
        return ask(answers), answers, [f"As the store answered when it was delivered: {names}."]
    except (CatalogueError, FileError, StoreError):
        if needed:
            raise
        return ask(()), (), [f"What the store answered when it was delivered is no report that is understood: {names}."]


def _older(
    looked: Outcome, round_: Round | None, reports: Sequence[str], after: str | None, *, wanted: bool
) -> list[str]:
    """That the export or the reports were there before the files, where they were; OutputError where something is
    `wanted` on their word.
    """
    from neat_delta.core.base.support.errors import OutputError
    from neat_delta.files.rounds import are_older

    if round_ is None:
        return []
    lines, files = list[str](), f"than the files in {round_.folder}"
    if after is not None and are_older([after], round_):
        lines.append(
            f"{after} is older {files}, as from before the import: what landed cannot be seen in it. Export again."
        )
    if looked.reports_older:
        what = f"{reports[0]} is older" if len(reports) == 1 else f"{', '.join(reports)} are all older"
        other = (
            "What the export shows is what counts."
            if looked.seen is not None
            else "Name the store's report of this one, or the export made after it as well."
        )
        lines.append(f"{what} {files}, as of an earlier import. {other}")
    if wanted and lines and (after is None or lines[0].startswith(after)):
        raise OutputError(f"{lines[0]} Nothing is sent again by what it says; name a newer one.")
    return lines


def _undone(looked: Outcome) -> list[str]:
    """That files were written since that take it back, where they may be why something does not stand as it was."""
    if looked.undone is None or (looked.seen is not None and not looked.seen.counts.get("taken back")):
        return []
    folders, *others = looked.undone.folders
    takes = f"{' and '.join([folders, *others])} take{'' if others else 's'} this round back"
    return [
        f"{takes}: what does not stand as it was sent is not sent again. If that was not imported, or this round was "
        "imported once more, move it elsewhere."
    ]


def _not_told(results: Results) -> list[str]:
    """That nothing is sent again without an export of which the report says nothing."""
    many = sum(result.status == "not mentioned" for result in results.by_item.values())
    what = f"Not in it: {count(many, 'item')} that the report does not mention."
    return [f"{what} With a new export it is seen whether they are to be sent again."] if many else []


def _print(looked: Outcome, draft: str | None, files: Sequence[str], lines: Sequence[str]) -> None:
    """Say what became of it to a person; of the `files` the first is AFTER, the others are reports."""
    from neat_delta.report import outcome as report

    console, result, results, both = screen(), looked.seen, looked.results, looked.both
    if both is not None and results is not None:
        if draft is not None:
            report.print_drafted_results(console, draft, files[1])
        report.print_witnesses(console, both, results)
    if result is not None:
        report.print_confirmed(console, result, files[0], by_items=both is not None)
        if console.detail != "waiting":
            report.print_habits(console, result.habits)
    for line in lines:
        console.print(f"\n{line}", soft_wrap=True)


@dataclass(frozen=True, slots=True)
class _Again:
    """What is to be sent again: update files into the folder `retry`, a sheet to `mend`."""

    round: Round
    store_path: str | None
    retry: str | None
    mend: str | None
    inputs: Sequence[str]
    altered: bool
    replace: bool
    store: str | None

    def write(
        self, sent: ChangeSet, before: Catalogue, looked: Outcome, store: Store | None
    ) -> tuple[list[str], dict[str, Any]]:
        """Write it; what is to be said of it, and the facts for a program."""
        import neat_delta
        from neat_delta.app.mend import lacking_of, mend_outcome
        from neat_delta.app.outputs import MendFile
        from neat_delta.core.base.model.manifest import Turn
        from neat_delta.core.outcomes.retry import left_alone, rebased
        from neat_delta.files.rounds import store_file
        from neat_delta.report.outcome import left_lines

        manifest, now, lacking = self.round.manifest, looked.now, lacking_of(looked, sent, before, store)
        left = left_alone(lacking)
        facts: dict[str, Any] = {"left": left}
        again, export = neat_delta.retry(sent, now, lacking, store, altered=self.altered)
        lines = left_lines(lacking)
        if self.retry is not None and again.items.height:
            known = store_file(self.store_path)
            turn = Turn("retry", manifest.changes, known, manifest, left, rebased(lacking))
            with working("Writing and replaying"):
                facts["retry"] = written = neat_delta.write_updates(
                    again, export, manifest.importer, self.retry, most_files=manifest.most_files,
                    file_cost=manifest.file_cost, whole=manifest.whole, turn=turn,
                )  # fmt: skip
            lines.append(self._remarks(lacking, len(written.update)))
        elif self.retry is not None:
            lines.append("Nothing is to be sent again.")
        if self.mend is not None:
            form, layout = worksheet_form(self.mend)
            mended = mend_outcome(looked, sent, before, form, store, layout, altered=self.altered)
            if isinstance(mended, int):
                if self.retry is None and not mended:
                    lines.append("Nothing is to be sent again.")
                if mended:
                    lines.append(
                        f"{count(mended, 'removal')} left, which no sheet can say: --retry FOLDER sends them again."
                    )
                return lines + self._unmentioned(looked), facts
            write_worksheet(mended.file, self.mend, *self.inputs, replace=self.replace)
            rest = f" Not in it: {count(mended.removals, 'removal')}." if mended.removals else ""
            look = command("compare", now.path, self.mend, *store_arguments(self.store), "-o", "mended.jsonl")
            lines.append(f"Wrote {count(mended.items, 'item')} to {self.mend}, to be mended.{rest} Then:  {look}")
            facts["mend"] = MendFile(self.mend, mended.items, mended.removals)
        return lines + self._unmentioned(looked), facts

    @staticmethod
    def _unmentioned(looked: Outcome) -> list[str]:
        return _not_told(looked.results) if looked.results is not None and looked.seen is None else []

    def _remarks(self, lacking: Confirmed, files: int) -> str:
        left = 0 if self.altered else lacking.altered
        rest = f" Not in them: {count(left, 'change')} that the store altered by itself (--retry-altered)."
        return f"Wrote {count(files, 'update file')} to {self.retry}.{rest if left else ''}"


def _facts(looked: Outcome) -> dict[str, Any]:
    """The facts that --json prints of what the export shows, and of what the report says."""
    from neat_delta.app.outputs import ItemAnswer, Message, ReportOutput, WitnessCount

    facts: dict[str, Any] = {"reports_older": looked.reports_older}
    result, results, both = looked.seen, looked.results, looked.both
    if result is not None:
        facts |= {"counts": result.counts, "trouble": list(result.trouble), "moved": result.other_changes.to_dicts()}
        facts |= {"came": result.came, "went": result.went, "twice": result.twice, "habits": list(result.habits)}
        facts |= {"resting": list(result.resting), "unseen": dict(result.unseen)}
    if results is not None and both is not None:
        facts["results"] = ReportOutput(
            counts=results.counts,
            witnesses=[WitnessCount(status, seen, many) for (status, seen), many in both.counts.items()],
            items=[
                ItemAnswer(answer.key, answer.status, answer.seen, answer.message, list(answer.ids))
                for answer in both.testimonies
            ],
            messages=[Message(word, form, [answer.key for answer in those]) for word, form, those in both.messages],
            not_sent=results.others,
            repeated=results.repeated,
            aside=results.aside,
            guessed=None if looked.drafted is None else looked.drafted.form,
        )
    return facts
