"""What a ledger knows: its rounds, one of them, an item, a field."""

from __future__ import annotations

from collections.abc import Iterable, Mapping

from neat_delta.core.base.model.history import BETWEEN, HistoryCell, HistoryChange
from neat_delta.core.base.model.rounds import RoundSummary
from neat_delta.core.base.support.errors import NeatDeltaError
from neat_delta.core.base.support.nearest import did_you_mean
from neat_delta.files.ledger.index import Index

__all__ = ["HistoryError", "field_history", "item_history", "round_history"]


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


SENT = ("sent", "landed", "not landed", "reported done")
