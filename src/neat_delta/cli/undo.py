"""`neat-delta undo`: the files that take a change set back, made later."""

from __future__ import annotations

from functools import partial
from typing import TYPE_CHECKING

import click

from neat_delta.cli.common import (
    changes_and_folder,
    find_round,
    layout_from_options,
    layout_options,
    output_options,
    print_json,
    print_live,
    print_round,
    read_store_of_round,
    screen,
    store_option,
    working,
)
from neat_delta.cli.keeping import ROUND, find_ledger, find_round_in, joined_ledger, ledger_option, note
from neat_delta.cli.options import argument, option, verb

if TYPE_CHECKING:
    from collections.abc import Sequence

    from neat_delta.core.base.model.history import SetLater
    from neat_delta.core.base.model.manifest import Manifest
    from neat_delta.core.outcomes.landings import Landing
    from neat_delta.files.ledger.folder import RoundFolder
    from neat_delta.files.ledger.ledger import Ledger

__all__ = ["undo"]


@verb(
    epilog="\b\nExample, on the demo's files:\n  neat-delta undo changes.jsonl --to back",
)
@argument("changes", required=False)
@option("--to", "folder", required=True, metavar="DIR", help="The folder to make for the files.")
@option(
    "--now",
    metavar="FILE",
    help="A fresh export: only what still stands as it was set is taken back.  [default: as if all of it landed]",
)
@option(
    "--files",
    metavar="DIR",
    help="The folder that `write` made: it says what was sent, and under which importer's rules.  [default: the one "
    "that was made of CHANGES]",
)
@option(
    "--round", "number", type=ROUND, metavar="N", help='Take round N of the ledger back, or the "last" that was sent.'
)
@option("--altered", is_flag=True, help="Take back what the store rounded, cut or wrote otherwise, too.")
@option("--live", metavar="FILE", help="Where the live catalogue is now.  [default: where compare found it]")
@option("--replace", is_flag=True, help="Replace DIR if everything in it came from Neat Delta.")
@store_option
@ledger_option
@layout_options(two=False)
@output_options
def undo(
    changes: str | None,
    folder: str,
    now: str | None,
    files: str | None,
    number: int | str | None,
    altered: bool,
    live: str | None,
    replace: bool,
    store: str | None,
    as_json: bool,
) -> int:
    """Write the files that take CHANGES (or the folder that `write` made of them) back, or round N of the ledger, under
    the rules of the importer they were written for, and prove them.

    With a fresh export, what somebody changed since is left alone and listed. Exit status 1 when something is.
    """
    import neat_delta
    from neat_delta.app.ledger import must_have_gone
    from neat_delta.core.base.model.manifest import Turn
    from neat_delta.core.outcomes.retry import not_taken_back
    from neat_delta.core.outcomes.unsent import as_sent
    from neat_delta.files.changeset import read_with_live
    from neat_delta.files.ledger.ledger import Ledger
    from neat_delta.files.reading import read_later
    from neat_delta.files.rounds import fields_of_round, with_importer
    from neat_delta.files.rounds import store_file as store_file_of

    kept, changes, files, live = _named(changes, number, files, live, store)
    if kept is not None and now is None:
        must_have_gone(kept)
    store_file = read_store_of_round(store, changes, live)
    path = store_file[1] if store_file else None
    with working(f"Reading {changes} and its live catalogue"):
        needs = None if now is not None else partial(fields_of_round, path=changes, folder=files)
        change_set, before = read_with_live(changes, live, needs, beside=now)
        round_ = find_round(change_set, changes, files, wanted_for="so it cannot be taken back")
        assert round_ is not None
        by_now = change_set.header.store_by_now(store_file[0] if store_file else None)
        by_store, manifest = with_importer(round_, by_now), round_.manifest
        sent = as_sent(change_set, manifest)
        layout = layout_from_options("live", by_store.file.layout if store_file else None)
        fresh = None if now is None else read_later(now, layout, before, change_set.header.key_headings)
        back, base, left = neat_delta.undo(sent, before, fresh, by_store, altered=altered)
    with working("Writing and replaying"):
        turn = Turn("undo", change_set.digest, store_file_of(path), manifest, not_taken_back(left))
        written = neat_delta.write_updates(
            back, base, manifest.importer, folder, replace=replace, most_files=manifest.most_files,
            file_cost=manifest.file_cost, whole=manifest.whole, turn=turn,
        )  # fmt: skip
    ledger = joined_ledger(store_file) if kept is None else Ledger(kept.path.parent)
    later = None if ledger is None else _note(ledger, change_set.digest, folder, written, left)
    if as_json:
        from msgspec.structs import replace as with_facts

        from neat_delta.app.outputs import UndoOutput

        facts = UndoOutput(folder=folder, files=round_.folder, manifest=written, left=list(left))
        print_json(facts if later is None else with_facts(facts, later=later))
    else:
        from neat_delta.cli.write import said_form
        from neat_delta.report import terminal as report
        from neat_delta.report.outcome import print_left

        print_live(changes, live, before.path)
        print_round(round_, path, changes)
        console = screen()
        print_left(console, left, altered=altered)
        if later:
            from neat_delta.report.history import print_later

            print_later(console, later)
        report.print_written(console, folder, written, said_form(written))
    return 1 if left or written.held else 0


def _note(ledger: Ledger, digest: str, folder: str, written: Manifest, left: Sequence[Landing]) -> list[SetLater]:
    """Note in the ledger that a round is taken back; what later rounds set of what is left alone."""
    from neat_delta.app.ledger import note_undone, set_later

    note(lambda: note_undone(ledger, digest, folder, written))
    return note(lambda: set_later(ledger, digest, left)) or []


def _named(
    changes: str | None, number: int | str | None, files: str | None, live: str | None, store: str | None
) -> tuple[RoundFolder | None, str, str | None, str | None]:
    """What is to be taken back: a change set, or a round that is kept, with its change set, the last folder of what it
    sent, and its live catalogue as it was then. OutputError where that round sent nothing.
    """
    from neat_delta.app.ledger import changes_in, live_in, sent_in

    if changes is not None and number is None:
        return None, *changes_and_folder(changes, files), live
    if changes is not None or number is None:
        raise click.UsageError("Name the change set, or a round of the ledger with --round.")
    kept = find_round_in(find_ledger(store), number)
    return kept, changes_in(kept), files or sent_in(kept), live or live_in(kept)
