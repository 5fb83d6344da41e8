"""`neat-delta practice`: a small shop on this machine, to rehearse an import in before the real one."""

from __future__ import annotations

from typing import TYPE_CHECKING

import click

from neat_delta.cli.common import (
    detail,
    layout_from_options,
    layout_options,
    make_folder,
    must_end_in,
    output_options,
    print_json,
    read_store_option,
    store_arguments,
    store_option,
    working,
)
from neat_delta.cli.options import argument, option, verb

if TYPE_CHECKING:
    from neat_delta.practice.shop import Shop

__all__ = ["change_set_of", "practice"]


@verb(
    epilog="\b\nExample, on the demo's files:\n"
    "  neat-delta practice live.csv --import out --to rehearsal --refuse QA-1001 --round cost:0",
)
@argument("live")
@option("--import", "folder", metavar="DIR", help="Import the folder that `write` made, and end: no server.")
@option("--to", "output", metavar="DIR", help="With --import: where after.csv and results.csv go.  [default: .]")
@option("--undo", is_flag=True, help="With --import: import the folder's undo files instead.")
@option("--watch", metavar="DIR", help="Import what is delivered into DIR, too, and put the reports beside it.")
@option("--port", type=click.IntRange(0, 65535), default=8421, show_default=True, help="Where it listens.")
@option("--keep", metavar="FILE", help="Keep the catalogue in FILE.  [default: forgotten when it ends]")
@option("--token-env", metavar="NAME", help="Ask for the bearer token that is in this environment variable.")
@option(
    "--refuse",
    multiple=True,
    metavar="SKU|CONDITION",
    help='Refuse these rows: QA-1001, "price > 900". May be repeated.',
)
@option("--round", "rounded", multiple=True, metavar="FIELD:N", help="Round a field to N decimals: price:0.")
@option("--cut", multiple=True, metavar="FIELD:N", help="Cut a field after N characters, with a warning: name:60.")
@option("--drop", metavar="N%", help="Say of so many rows that they are done, and do nothing: 1%.")
@option("--slow", is_flag=True, help="Take a twentieth of a second for each row.")
@option("--fail-after", type=click.IntRange(min=1), metavar="N", help="Stop once in the middle, after N rows.")
@option("--busy", is_flag=True, help="Put every import off once (429, Retry-After).")
@option("--sell", metavar="N/min", help="Sell so many pieces a minute: 5/min; each file of --import takes one.")
@option("--seed", type=int, default=0, show_default=True, help="Another seed draws other rows and sales.")
@option("--replace", is_flag=True, help="Overwrite after.csv and results.csv.")
@store_option
@layout_options(two=False)
@output_options
def practice(
    live: str,
    folder: str | None,
    output: str | None,
    undo: bool,
    watch: str | None,
    port: int,
    keep: str | None,
    token_env: str | None,
    refuse: tuple[str, ...],
    rounded: tuple[str, ...],
    cut: tuple[str, ...],
    drop: str | None,
    slow: bool,
    fail_after: int | None,
    busy: bool,
    sell: str | None,
    seed: int,
    replace: bool,
    store: str | None,
    as_json: bool,
) -> int:
    """Open a practice store with the catalogue LIVE: a stand-in on this machine that imports as the store file says.

    Without --import it is a small server with pages for people and an interface for programs, on loopback only, until
    it is stopped. With --import it takes the files of a folder in their order, and writes what the store would export
    and report. Exit status with --import: 0 when every row was done, warned of or not, 1 when one was not.
    """
    import sqlite3

    import neat_delta
    from neat_delta.core.base.model.store import Store, must_be_named
    from neat_delta.files.manifest import read_manifest
    from neat_delta.files.rounds import Round, must_be_as_written, with_importer
    from neat_delta.practice.faults import faults_of
    from neat_delta.practice.shop import Shop

    if folder is None and (output or undo):
        raise click.UsageError("--to and --undo go with --import.")
    if folder is not None and watch is not None:
        raise click.UsageError("--import imports one folder and ends, and --watch goes on; choose one of them.")
    store_file = read_store_option(store, live)
    from_file = store_file[0] if store_file else None
    if folder is not None:  # it imports as the folder was made for
        round_ = Round(folder, read_manifest(folder))
        must_be_as_written(round_, "a rehearsal of it says nothing of the round", undo=undo)
        from_file = with_importer(round_, from_file or Store())
        must_be_named(from_file, round_.manifest.shop)
    with working(f"Reading {live}"):
        catalogue = neat_delta.read(
            live, layout_from_options("live", store_file[0].file.layout if store_file else None)
        )
        try:
            shop = Shop(catalogue, from_file, keep=keep)
        except sqlite3.Error as error:
            raise _cannot_keep(keep, error) from None
        keys = [text for name in shop.key for text in shop.live.column(name)]
        faults = faults_of(
            refuse=refuse, rounded=rounded, cut=cut, drop=drop, slow=0.05 if slow else 0, fail_after=fail_after,
            busy=busy, sell=sell, seed=seed, keys=keys, fields=shop.live.fields,
        )  # fmt: skip
        shop.with_faults(faults)
    try:
        if folder is not None:
            return _import(shop, folder, output or ".", live, store, undo=undo, replace=replace, as_json=as_json)
        if watch is not None:
            _watch(shop, watch)
        return _serve(shop, port, token_env)
    except sqlite3.Error as error:
        raise _cannot_keep(keep, error) from None


def _cannot_keep(keep: str | None, error: Exception) -> Exception:
    from neat_delta.core.base.support.errors import OutputError

    return OutputError(
        f"{keep or 'the practice store'}: it cannot be written ({error}). Make room, or keep it elsewhere."
    )


def _import(
    shop: Shop, folder: str, output: str, live: str, store: str | None, *, undo: bool, replace: bool, as_json: bool
) -> int:
    from neat_delta.files.whole import write_new
    from neat_delta.practice.folder import import_folder
    from neat_delta.report.text import command, count

    after, results = (f"{output}/{name}" if output != "." else name for name in ("after.csv", "results.csv"))
    for path in (after, results):
        must_end_in(path, ".csv", live)
    with working(f"Importing {folder}"):
        rehearsal = import_folder(shop, folder, undo=undo)
    make_folder(output)
    write_new({after: rehearsal.after, results: rehearsal.results}, replace=replace)
    stopped = any(report.stopped for report in rehearsal.reports)
    counts: dict[str, int] = {}
    for report in rehearsal.reports:
        for word, many in report.counts.items():
            counts[word] = counts.get(word, 0) + many
    if as_json:
        from neat_delta.app.outputs import FileCounts, PracticeOutput

        files = [FileCounts(report.file, dict(report.counts), report.stopped) for report in rehearsal.reports]
        print_json(PracticeOutput(files=files, counts=counts, after=after, results=results))
    else:
        words = ", ".join(f"{many:,} {word}" for word, many in counts.items()) or "no rows"
        click.echo(f"The practice store, a stand-in for the real one, imported {folder}:")
        for report in rehearsal.reports if detail() != "waiting" else ():
            rows = ", ".join(f"{many:,} {word}" for word, many in report.counts.items()) or "no rows"
            click.echo(f"  {report.file}: {rows}{'; it stopped in the middle' if report.stopped else ''}")
        if len(rehearsal.reports) != 1 or detail() == "waiting":
            click.echo(f"In all {count(sum(counts.values()), 'row')}: {words}.")
        changes = change_set_of(folder)
        look = command("confirm", changes, after, "--files", folder, "--results", results, *store_arguments(store))
        click.echo(f"\nWrote {after} and {results}." + ("" if undo else f" Look at them:  {look}"))
    return 0 if set(counts) <= {"done", "warned"} and not stopped else 1


def change_set_of(folder: str) -> str:
    """The change set that a folder was made of, or what to put in its place where it is not here."""
    from neat_delta.core.base.support.errors import OutputError
    from neat_delta.files.manifest import read_manifest
    from neat_delta.files.rounds import changes_of

    try:
        return changes_of(folder, read_manifest(folder))
    except OutputError:
        return "CHANGES"


def _watch(shop: Shop, folder: str) -> None:
    """Look into a folder on a thread of its own, for as long as the store is open."""
    import threading

    from neat_delta.practice.watch import watch

    make_folder(folder)

    click.echo(f"What is delivered into {folder} is imported.")
    threading.Thread(target=watch, args=(shop, folder, click.echo), daemon=True).start()


def _serve(shop: Shop, port: int, token_env: str | None) -> int:
    import os

    from neat_delta.core.base.support.errors import NeatDeltaError

    token = None
    if token_env is not None:
        token = os.environ.get(token_env)
        if not token:
            raise NeatDeltaError(f"There is no token in the environment variable {token_env}. Set it, and start again.")
    from neat_delta.practice.server import serve  # and all that a server needs

    serve(shop, port, token)
    return 0
