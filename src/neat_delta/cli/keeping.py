"""The ledger that a command joins: which one it is, what is noted there, and what earlier rounds say of it."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING, Any, TypeVar

import click

from neat_delta.cli.options import option

if TYPE_CHECKING:
    from neat_delta.core.base.model.changeset import ChangeSet
    from neat_delta.core.base.model.history import HistoryCell
    from neat_delta.core.base.model.store import Store
    from neat_delta.files.ledger.folder import RoundFolder
    from neat_delta.files.ledger.ledger import Ledger

__all__ = [
    "ROUND",
    "find_ledger",
    "find_round_in",
    "going_back",
    "joined_ledger",
    "last_changes",
    "ledger_option",
    "note",
]

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
        help="The folder of the ledger, in which rounds are kept, for `history` and `undo --round`.  [default: as "
        "[ledger] in the store file; without it nothing is kept]",
    )(command)


def joined_ledger(store_file: tuple[Store, str] | None) -> Ledger | None:
    """The ledger that the command at work joins: told, or by the store file; None where there is none."""
    from neat_delta.files.ledger.places import ledger_at, ledger_of_store

    context = click.get_current_context(silent=True)
    folder = context.meta.get(LEDGER) if context else None
    return ledger_of_store(store_file) if folder is None else ledger_at(folder)


Noted = TypeVar("Noted")


def note(work: Callable[[], Noted | None]) -> Noted | None:
    """What some work in the ledger comes to. What a command does is done all the same: where the ledger cannot be read
    or written, that is said, and it comes to nothing.
    """
    from neat_delta.core.base.support.errors import NeatDeltaError
    from neat_delta.report.settings import as_options

    try:
        return work()
    except NeatDeltaError as error:
        click.echo(f"Not in the ledger: {as_options(str(error))}", err=True)
        return None


class _Round(click.ParamType):  # type: ignore[type-arg]  # generic from click 8.2 on
    """A round by its number, or the last one."""

    name = "round"

    def convert(self, value: Any, param: click.Parameter | None, ctx: click.Context | None) -> int | str:  # noqa: ANN401
        """The number, or "last"."""
        text = str(value)
        if text != "last" and (not text.isdecimal() or not int(text)):
            self.fail(f'{value!r} is no round. Say its number, or "last".', param, ctx)
        return text if text == "last" else int(text)


ROUND = _Round()
"""The type of an option that names a round."""


def find_round_in(ledger: Ledger, number: int | str) -> RoundFolder:
    """The round of a number, or the last one that sent something; OutputError where there is none."""
    from neat_delta.core.base.support.errors import OutputError

    if not isinstance(number, str):
        return ledger.round(number)
    for folder in reversed(ledger.rounds()):
        if folder.summary().sent:
            return folder
    raise OutputError(
        f"{ledger.folder}: no round has sent anything yet. Look which there are with `neat-delta history`."
    )


def find_ledger(store: str | None) -> Ledger:
    """The ledger that is asked: told, or by the store file, or by the one round file of this folder."""
    from pathlib import Path

    from neat_delta.cli.common import read_store_option
    from neat_delta.files.ledger.places import ledger_of_round_file, round_files_in

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
    return note(lambda: _earlier(ledger, changes.digest, cells)) or []


def _earlier(ledger: Ledger, digest: str, cells: list[tuple[str, str, str]]) -> list[HistoryCell]:
    """The changes of rounds before the one of the change set of this digest that these cells take back."""
    own = ledger.find(digest)
    with ledger.index() as index:
        return index.earlier(cells, None if own is None else own.number)


def last_changes(keys: list[str], ledger: Ledger | None, most: int = 5) -> list[HistoryCell]:
    """The last changes of an item by rounds, the newest first."""
    if ledger is None or not ledger.folder.is_dir():
        return []

    def of_items() -> list[HistoryCell]:
        with ledger.index() as index:
            return sorted({cell for key in keys for cell in index.of_item(key)}, reverse=True)[:most]

    return note(of_items) or []
