"""The ledger that a command joins: which one it is, what is noted there, and what earlier rounds say of it."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING, Any

import click

from neat_delta.cli.options import option

if TYPE_CHECKING:
    from neat_delta.core.base.model.changeset import ChangeSet
    from neat_delta.core.base.model.history import HistoryCell
    from neat_delta.core.base.model.store import Store
    from neat_delta.files.ledger.folder import RoundFolder
    from neat_delta.files.ledger.ledger import Ledger

__all__ = ["find_ledger", "going_back", "joined_ledger", "last_changes", "ledger_option", "note"]

LEDGER = "neat_delta.ledger"


def _keep(context: click.Context, option: click.Parameter, folder: str | None) -> None:
    del option
    context.meta[LEDGER] = folder


def ledger_option(command: Any) -> Any:  # noqa: ANN401 - as Click decorates
    """The option that names the ledger; `joined_ledger` says which one it is."""
    return option(
        "--ledger",
        metavar="DIR",
        expose_value=False,
        callback=_keep,
        help="Keep the round in the ledger in DIR, which `history` tells of.  [default: as [ledger] in the store file; "
        "without it nothing is kept]",
    )(command)


def joined_ledger(store_file: tuple[Store, str] | None) -> Ledger | None:
    """The ledger that the command at work joins: told, or by the store file; None where there is none."""
    from neat_delta.app.ledger import ledger_at, ledger_of_store

    context = click.get_current_context(silent=True)
    folder = context.meta.get(LEDGER) if context else None
    return ledger_of_store(store_file) if folder is None else ledger_at(folder)


def note(work: Callable[[], RoundFolder | None]) -> RoundFolder | None:
    """Note something in the ledger. What was done is done: where it cannot be noted, that is said."""
    from neat_delta.core.base.support.errors import NeatDeltaError
    from neat_delta.report.settings import as_options

    try:
        return work()
    except NeatDeltaError as error:
        click.echo(f"Not in the ledger: {as_options(str(error))}", err=True)
        return None


def find_ledger(store: str | None) -> Ledger:
    """The ledger that is asked: told, or by the store file, or by the one round file of this folder."""
    from pathlib import Path

    from neat_delta.app.rounds.file import ledger_of_round_file, round_files_in
    from neat_delta.cli.common import read_store_option

    joined = joined_ledger(read_store_option(store))
    if joined is not None:
        return joined
    files = round_files_in(Path())
    ledgers = {ledger.folder.resolve(): ledger for ledger in map(ledger_of_round_file, files)}
    if len(ledgers) == 1:
        return next(iter(ledgers.values()))
    what = f"There are several: {', '.join(files)}." if files else "No store file and no round file here names one."
    raise click.UsageError(f"Which ledger? {what} Name its folder with --ledger.")


def going_back(changes: ChangeSet, ledger: Ledger | None) -> list[HistoryCell]:
    """Of the cells that are to be sent, the change of an earlier round that each of them takes back."""
    import polars as pl

    from neat_delta.core.base.model.history import BETWEEN

    if ledger is None or not ledger.folder.is_dir():
        return []
    keys = [BETWEEN.join(key) for key in changes.keys.iter_rows()]
    sent = changes.sent().select("item", pl.col("field").cast(pl.String), "before", "after")
    cells = [(keys[item], field, after) for item, field, before, after in sent.iter_rows() if before is not None]
    own = ledger.find(changes.digest)
    with ledger.index() as index:
        return index.earlier(cells, None if own is None else own.number)


def last_changes(keys: list[str], ledger: Ledger | None, most: int = 5) -> list[HistoryCell]:
    """The last changes of an item by rounds, the newest first."""
    if ledger is None or not ledger.folder.is_dir():
        return []
    with ledger.index() as index:
        cells = {cell for key in keys for cell in index.of_item(key)}
    return sorted(cells, reverse=True)[:most]
