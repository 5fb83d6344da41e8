"""The history as one page of HTML: the rounds on top, then every change, to be searched and narrowed down.

The page fetches nothing and runs one script of its own, which sets what it has as text.
"""

from __future__ import annotations

import base64
import gzip
import hashlib
from collections.abc import Sequence
from importlib.resources import files
from typing import TYPE_CHECKING

import msgspec
from jinja2 import Environment, StrictUndefined

from neat_delta.report.history import STATES, origin_said, sources_said, state_said

if TYPE_CHECKING:
    from neat_delta.core.base.model.history import HistoryChange
    from neat_delta.core.base.model.rounds import RoundSummary

__all__ = ["MOST", "history_page"]

MOST = 100_000
"""So many changes stand in a page, the last ones; more would make it too large to open."""


def history_page(rounds: Sequence[RoundSummary], cells: Sequence[HistoryChange]) -> bytes:
    """The page of a ledger, UTF-8; the same facts give the same bytes."""
    script, style = (
        files("neat_delta.report").joinpath(f"assets/{name}").read_text("utf-8") for name in ("history.js", "page.css")
    )
    environment = Environment(autoescape=True, undefined=StrictUndefined)
    environment.filters.update(number=lambda number: f"{number:,}")
    template = environment.from_string(files("neat_delta.report").joinpath("assets/history.html").read_text("utf-8"))
    last = cells[-MOST:]
    data = [
        [
            cell.round,
            cell.day,
            " / ".join(cell.key),
            cell.field,
            cell.before,
            cell.after,
            origin_said(cell),
            state_said(cell),
        ]
        for cell in reversed(last)
    ]
    rows = [
        {
            "number": summary.number,
            "day": summary.day,
            "what": sources_said(summary),
            "items": summary.items,
            "sent": summary.sent,
            "held": summary.held,
            "landed": summary.landed,
            "undone": summary.undone,
            "delivered": ", ".join(summary.delivered),
            "state": STATES[summary.state],
            "why": "; ".join(summary.why),
        }
        for summary in reversed(rounds)
    ]
    return template.render(
        rounds=rows,
        changes=len(cells),
        left_out=len(cells) - len(last),
        fields=sorted({cell.field for cell in last if cell.field}),
        states=sorted({state_said(cell) for cell in last}),
        data=base64.b64encode(gzip.compress(msgspec.json.encode(data), 6, mtime=0)).decode(),
        style=style,
        script=script,
        script_digest=base64.b64encode(hashlib.sha256(script.encode()).digest()).decode(),
    ).encode()
