"""`neat-delta write`: a change set in, proven update and undo files out."""

from __future__ import annotations

from datetime import date
from functools import partial
from typing import TYPE_CHECKING, Any

import click

from neat_delta.app.requests import WriteRequest
from neat_delta.cli.common import (
    detail,
    machine_options,
    must_fit,
    output_options,
    print_json,
    print_live,
    read_store_of_round,
    screen,
    skus_option,
    store_arguments,
    store_option,
    working,
)
from neat_delta.cli.keeping import joined_ledger, ledger_option, note
from neat_delta.cli.options import argument, asked, option, settings_options, verb

if TYPE_CHECKING:
    from collections.abc import Sequence

    from neat_delta.app.deliver import DeliveryOutcome
    from neat_delta.core.base.model.catalogue import Catalogue
    from neat_delta.core.base.model.changeset import ChangeSet
    from neat_delta.core.base.model.importer import Importer
    from neat_delta.core.base.model.manifest import Manifest
    from neat_delta.core.base.model.rounds import InputRole
    from neat_delta.core.base.model.store import Store
    from neat_delta.files.ledger.folder import RoundFolder
    from neat_delta.files.ledger.ledger import Ledger
    from neat_delta.practice.rehearse import Rehearse

__all__ = ["said_form", "write"]


@verb(
    epilog="\b\nExample, on the demo's files:\n  neat-delta write changes.jsonl --to out",
)
@argument("changes")
@option("--to", "folder", required=True, metavar="DIR", help="The folder to make for the files.")
@option("--rehearse", is_flag=True, help="Import the files into a practice store, too, before they are handed over.")
@option(
    "--signed-off",
    multiple=True,
    metavar="FILE",
    help="Send only what was answered yes in FILE: the answers that a page of `preview` saved, or its workbook. Once "
    "for each reviewer: one no is a no.",
)
@skus_option
@option(
    "--deliver",
    "addresses",
    multiple=True,
    metavar="ADDRESS",
    help="Deliver the files there, too, as `deliver` does: a folder, a server, the web, a table. May be repeated.",
)
@option("--live", metavar="FILE", help="Where the live catalogue is now.  [default: where compare found it]")
@option("--replace", is_flag=True, help="Replace DIR if everything in it came from `write`.")
@store_option
@ledger_option
@machine_options
@output_options
@settings_options(WriteRequest)
def write(
    changes: str,
    folder: str,
    rehearse: bool,
    signed_off: tuple[str, ...],
    skus: str | None,
    addresses: tuple[str, ...],
    live: str | None,
    replace: bool,
    store: str | None,
    as_json: bool,
    **settings: Any,  # noqa: ANN401 - those of the request
) -> int:
    """Write the smallest files that import CHANGES, and those that take them back.

    Everything is first replayed on the live catalogue under the importer's rules: the update files must give
    exactly the target, the undo files exactly live again. Otherwise nothing is handed over.
    """
    import neat_delta
    from neat_delta.app.ledger import must_have_undo
    from neat_delta.app.write import importer_as_asked
    from neat_delta.core.updates.plan import fields_needed
    from neat_delta.files.changeset import read_with_live
    from neat_delta.files.codes import read_codes
    from neat_delta.files.rounds import store_file as store_file_of

    request = asked(WriteRequest, settings)
    store_file = read_store_of_round(store, changes, live)
    importer = store_file[0].importer if store_file else neat_delta.Importer()
    importer = importer_as_asked(importer, request)
    with working(f"Reading {changes} and its live catalogue"):
        needed = partial(fields_needed, importer=importer, whole=request.whole_catalogue)
        change_set, catalogue = read_with_live(changes, live, None if signed_off else needed)
        must_fit(store_file, _fields(change_set))
        codes = None if skus is None else read_codes(skus)
        answers = [neat_delta.read_answers(path, change_set) for path in signed_off]
    ledger = joined_ledger(store_file)
    if replace and ledger is not None:
        must_have_undo(ledger, folder)
    with working("Writing and replaying"):
        manifest = neat_delta.write(
            change_set,
            catalogue,
            importer,
            folder,
            answers=answers,
            skus=codes,
            store=store_file[0] if store_file else None,
            store_file=store_file_of(store_file[1] if store_file else None),
            today=date.today().isoformat(),
            replace=replace,
            request=request,
            rehearse=partial(_rehearsal, catalogue, importer) if rehearse else None,
        )
    round_ = None if ledger is None else _noted(ledger, folder, manifest, changes, signed_off, store_file)
    if as_json:
        from msgspec import UNSET

        from neat_delta.app.outputs import WriteOutput
        from neat_delta.cli.deliver import delivery_facts

        outcomes = _deliver(folder, manifest, addresses, store_file, changes, live)
        delivered = [delivery_facts(folder, address, outcome) for address, outcome in outcomes]
        number = UNSET if round_ is None else round_.number
        print_json(WriteOutput(folder=folder, manifest=manifest, delivered=delivered, round=number))
    else:
        print_live(changes, live, catalogue.path)
        _print_written(folder, manifest, store_file, rehearsed=rehearse)
        outcomes = _deliver(folder, manifest, addresses, store_file, changes, live)
        for address, outcome in outcomes:
            from neat_delta.cli.deliver import print_delivered

            print_delivered(folder, address, outcome)
        if round_ is not None:
            click.echo(f"Round {round_.number} in the ledger {round_.path.parent}.")
        if manifest.update:
            from neat_delta.report.text import command

            look = command("confirm", changes, "EXPORT", "--files", folder, *store_arguments(store))
            click.echo(f"When they are imported, export again, and see whether all of it landed:\n  {look}")
    lacking = not all(outcome.arrived for _, outcome in outcomes)
    return 1 if manifest.held_before or manifest.held or manifest.one_way or lacking else 0


def _fields(changes: ChangeSet) -> list[str]:
    """The fields that live has, and those that it lacks."""
    header = changes.header
    return [*header.fields, *header.untouched, *header.unseen]


def _print_written(
    folder: str,
    manifest: Manifest,
    store_file: tuple[Store, str] | None,
    *,
    rehearsed: bool,
) -> None:
    """Say what was written, and by which rules."""
    from neat_delta.report import terminal as report

    named = f"the store file {store_file[1]}" if store_file else "no store file: it is the importer's plainest form"
    if detail() != "waiting":
        click.echo(f"By {named}.\n")
    report.print_written(screen(), folder, manifest, said_form(manifest))
    if rehearsed:
        click.echo("Rehearsed: a practice store took every row, and its catalogue is the target.")
    report.print_contradictions(screen(), manifest)


def _deliver(
    folder: str,
    manifest: Manifest,
    addresses: Sequence[str],
    store_file: tuple[Store, str] | None,
    changes: str,
    live: str | None,
) -> list[tuple[str, DeliveryOutcome]]:
    """What became of the folder at each address; none where there is nothing to deliver."""
    if not addresses or not manifest.update:
        return []
    from neat_delta.cli.deliver import deliver_folder

    return [(address, deliver_folder(folder, address, store_file, changes=changes, live=live)) for address in addresses]


def _noted(
    ledger: Ledger,
    folder: str,
    manifest: Manifest,
    changes: str,
    signed_off: Sequence[str],
    store_file: tuple[Store, str] | None,
) -> RoundFolder | None:
    """Note the folder in the ledger, with copies of the answers and the store file; the round that it is of."""
    from neat_delta.app.ledger import note_written

    kept: list[tuple[InputRole, str]] = [("answers", path) for path in signed_off]
    kept += [("store", store_file[1])] if store_file else []
    return note(lambda: note_written(ledger, folder, manifest, changes, kept))


def _rehearsal(live: Catalogue, importer: Importer, changes: ChangeSet) -> Rehearse:
    from neat_delta.practice.rehearse import rehearsal

    return rehearsal(changes, live, importer)


def said_form(manifest: Manifest) -> str:
    """What the files look like, in a few words."""
    from neat_delta.files.updates import layout_in

    names = {"xlsx": "workbook", "json": "JSON", "json lines": "JSON Lines", "xml": "XML"}
    names |= {"merge patch": "JSON Merge Patch", "json patch": "JSON Patch"}
    return names.get(manifest.importer.form, str(layout_in(manifest)))
