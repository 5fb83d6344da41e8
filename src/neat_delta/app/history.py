"""What a ledger knows: its rounds, one of them, an item, a field."""

from __future__ import annotations

import os
from collections.abc import Iterable, Mapping
from typing import TYPE_CHECKING, Any

import msgspec

from neat_delta.core.base.model.history import BETWEEN, HistoryCell, HistoryChange
from neat_delta.core.base.model.rounds import RoundSummary
from neat_delta.core.base.support.errors import NeatDeltaError
from neat_delta.core.base.support.nearest import did_you_mean
from neat_delta.files.ledger.index import Index
from neat_delta.files.ledger.places import ledger_at

if TYPE_CHECKING:
    import polars as pl

    from neat_delta.files.whole import AnyPath

__all__ = ["HistoryError", "field_history", "history", "item_history", "round_history", "rounds", "with_sources"]


class HistoryError(NeatDeltaError):
    """The ledger knows nothing of what was asked."""


def item_history(index: Index, sku: str) -> list[HistoryChange]:
    """Every change of an item, under each code that it had, the first round first; HistoryError where no round has
    changed it.
    """
    cells = index.of_item(sku)
    if not cells:
        raise HistoryError(
            f"{index.ledger}: no round has an item {sku}. Look which there were with `neat-delta history`."
        )
    return with_sources(index, cells)


def field_history(index: Index, field: str, since: str = "") -> list[HistoryChange]:
    """Every change of a field, since a day (ISO 8601); HistoryError where no round has changed it."""
    cells = index.of_field(field, since)
    known = index.fields()
    if field not in known:
        more = did_you_mean(field, known, f"There are: {_listed(known)}.")
        raise HistoryError(f'{index.ledger}: no round has changed "{field}".{more}')
    return with_sources(index, cells)


def _listed(names: Iterable[str]) -> str:
    return ", ".join(names) or "none"


def round_history(index: Index, number: int) -> list[HistoryChange]:
    """Every cell of a round."""
    return with_sources(index, index.of_round(number))


def with_sources(index: Index, cells: list[HistoryCell]) -> list[HistoryChange]:
    """Cells with the sheets of their rounds, and who said yes to those that were sent."""
    rounds: Mapping[int, RoundSummary] = {summary.number: summary for summary in index.rounds()}
    return [
        HistoryChange(
            cell.number, cell.day, cell.key.split(BETWEEN), cell.field, cell.before, cell.after, cell.rule,
            rounds[cell.number].sheets, rounds[cell.number].signed if cell.state in SENT else [],
            cell.state, cell.undone,
        )
        for cell in cells
    ]  # fmt: skip


SENT = ("written", "sent", "landed", "not landed", "reported done")


def rounds(ledger: AnyPath) -> list[RoundSummary]:
    """The rounds of the ledger in a folder, by their numbers; OutputError where there is no such folder.

    >>> from tempfile import mkdtemp
    >>> rounds(mkdtemp())
    []
    """
    with ledger_at(os.fspath(ledger)).index() as index:
        return index.rounds()


def history(
    ledger: AnyPath, *, sku: str | None = None, field: str | None = None, number: int | None = None, since: str = ""
) -> pl.DataFrame:
    """What rounds did to cells, the first round first: those of an item (`sku`), of a `field`, of the round of a
    `number`, or all; of rounds that began on the day `since` (ISO 8601) or later. A row a cell, with the columns of
    `HistoryChange`. OutputError where there is no such folder, HistoryError where no round has such an item or field.

    >>> from tempfile import mkdtemp
    >>> history(mkdtemp()).height
    0
    """
    with ledger_at(os.fspath(ledger)).index() as index:
        if sku is not None:
            cells = item_history(index, sku)
        elif field is not None:
            cells = field_history(index, field, since)
        elif number is not None:
            cells = round_history(index, number)
        else:
            cells = [cell for summary in index.rounds() for cell in round_history(index, summary.number)]
    import polars as pl  # which the command line has no need of

    texts = pl.List(pl.String)
    kinds: dict[str, Any] = dict.fromkeys(HistoryChange.__struct_fields__, pl.String)
    kinds |= {"round": pl.Int64, "key": texts, "sheets": texts, "signed": texts, "undone": pl.Boolean}
    rows = [msgspec.structs.asdict(cell) for cell in cells if cell.day >= since]
    return pl.DataFrame(rows, schema=kinds, orient="row")
