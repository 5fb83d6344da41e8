"""`neat-delta deliver`: the files of a folder, to where the store gets them."""

from __future__ import annotations

from typing import TYPE_CHECKING

import click

from neat_delta.cli.common import (
    detail,
    output_options,
    print_json,
    read_store_of_round,
    read_store_option,
    screen,
    store_arguments,
    store_option,
    working,
)
from neat_delta.cli.keeping import joined_ledger, ledger_option, note
from neat_delta.cli.options import argument, option, verb

if TYPE_CHECKING:
    from neat_delta.app.deliver import DeliveryOutcome
    from neat_delta.app.outputs import DeliverOutput
    from neat_delta.core.base.model.store import Store
    from neat_delta.files.delivery import Perhaps

__all__ = ["deliver", "deliver_folder", "delivery_facts", "print_delivered"]


@verb(
    epilog="\b\nExample:\n  neat-delta deliver out --to sftp://anna@files.quillfern.example/import",
)
@argument("folder")
@option("--to", "address", required=True, metavar="ADDRESS", help="Where the store gets its files, or its table.")
@option("--again", is_flag=True, help="Deliver what arrived before, or perhaps did, once more.")
@option("--arrived", is_flag=True, help="What perhaps arrived did: go on after it.")
@option(
    "--changes", metavar="FILE", help="Where the change set is now, for a table.  [default: beside FOLDER, or here]"
)
@option("--live", metavar="FILE", help="Where the live catalogue is now.  [default: where compare found it]")
@store_option
@ledger_option
@output_options
def deliver(
    folder: str,
    address: str,
    again: bool,
    arrived: bool,
    changes: str | None,
    live: str | None,
    store: str | None,
    as_json: bool,
) -> int:
    """Deliver the update files in FOLDER, which `write` made, to ADDRESS: a folder, an FTP, SSH or S3 server, the web,
    or a table of a database.

    Each file arrives whole, in import order, under its own name only when it was read back. What broke off goes on when
    the command is run again: FOLDER keeps a journal. A table's rows are changed in one transaction, each only if it is
    as it was when the change was planned; otherwise nothing is, and the differences are shown. Exit status 1 when
    something did not arrive.
    """
    from neat_delta.files.manifest import read_manifest

    if again and arrived:
        raise click.UsageError("--again and --arrived are opposites; choose one of them.")
    manifest = read_manifest(folder)
    store_file = read_store_option(store) if changes is None else read_store_of_round(store, changes, live)
    perhaps: Perhaps = "again" if again else "arrived" if arrived else None
    outcome = deliver_folder(folder, address, store_file, changes=changes, live=live, perhaps=perhaps)
    if as_json:
        print_json(delivery_facts(folder, address, outcome))
    else:
        print_delivered(folder, address, outcome)
        if outcome.arrived and manifest.purpose == "update" and detail() != "waiting":
            from neat_delta.cli.practice import change_set_of
            from neat_delta.report.text import command

            look = command("confirm", change_set_of(folder), "EXPORT", "--files", folder, *store_arguments(store))
            click.echo(f"\nWhen it is imported, export again, and see whether all of it landed:\n  {look}")
    return 0 if outcome.arrived else 1


def deliver_folder(
    folder: str,
    address: str,
    store_file: tuple[Store, str] | None,
    *,
    changes: str | None = None,
    live: str | None = None,
    perhaps: Perhaps = None,
) -> DeliveryOutcome:
    """Deliver a folder, as its store's file says; where the other end cannot be had, that is part of what is said."""
    from neat_delta.app.deliver import DeliveryOutcome
    from neat_delta.app.deliver import deliver as deliver_files
    from neat_delta.core.base.model.store import must_be_named
    from neat_delta.files.manifest import read_manifest
    from neat_delta.files.sources.address import is_address
    from neat_delta.files.sources.base import UnreachableError

    if store_file is not None:
        must_be_named(store_file[0], read_manifest(folder).shop)
    delivery = store_file[0].delivery if store_file else None
    with working(f"Delivering {folder}"):
        try:
            outcome = deliver_files(folder, address, delivery=delivery, changes=changes, live=live, perhaps=perhaps)
        except UnreachableError as error:  # the other end cannot be had: what arrived is in the journal
            return DeliveryOutcome([], [], str(error))
    ledger = joined_ledger(store_file)
    if ledger is not None and outcome.arrived:
        from neat_delta.app.ledger import note_delivered
        from neat_delta.files.delivery import spelled

        to = spelled(address) if is_address(address) else address
        note(lambda: note_delivered(ledger, read_manifest(folder), to, changes))
    return outcome


def delivery_facts(folder: str, address: str, outcome: DeliveryOutcome) -> DeliverOutput:
    """What became of a delivery, for a program."""
    from neat_delta.app.outputs import DeliverOutput
    from neat_delta.files.delivery import spelled

    return DeliverOutput(
        folder=folder, to=spelled(address), arrived=outcome.arrived, files=outcome.files,
        differences=outcome.differences, broken=outcome.broken,
    )  # fmt: skip


def print_delivered(folder: str, address: str, outcome: DeliveryOutcome) -> None:
    """Say what became of a delivery."""
    from neat_delta.files.delivery import TRANSACTION, spelled
    from neat_delta.files.sources.address import is_address
    from neat_delta.report.delivery import print_differences
    from neat_delta.report.settings import as_options
    from neat_delta.report.text import count

    to, console = spelled(address) if is_address(address) else address, screen()
    if outcome.broken is not None:
        click.echo(f"Not all of it arrived: {as_options(outcome.broken)}", err=True)
        click.echo(f"{folder} knows what did: the same command goes on from there.", err=True)
        return
    if outcome.differences:
        print_differences(console, to, outcome.differences)
        return
    before = sum(file.outcome == "before" for file in outcome.files)
    arrived = [file for file in outcome.files if file.outcome == "arrived"]
    if arrived and arrived[0].file == TRANSACTION:
        click.echo(f"The changes of {folder} stand in {to}, in one transaction.")
        return
    refused = [file for file in outcome.files if file.outcome == "refused"]
    rest = f"; {count(before, 'file')} had arrived before" if before else ""
    if arrived or before:
        click.echo(f"Delivered {count(len(arrived), 'file')} of {folder} to {to}{rest}.")
    for file in arrived if detail() != "waiting" else ():
        click.echo(f"  {file.file}" + (f", answered: {file.answer} is kept in {folder}" if file.answer else ""))
    for file in refused:
        click.echo(f"Not taken: {file.file}: {file.message}. What comes after it was not sent.")
