"""What is told of a round when it waits, failed, landed otherwise or is done: facts, and a mail, plain and as HTML.

Rule: figures and reasons only; no catalogue, no credentials.
"""

from __future__ import annotations

from html import escape
from typing import TYPE_CHECKING

import msgspec

if TYPE_CHECKING:
    from neat_delta.core.base.model.rounds import RoundSummary

__all__ = ["RoundTold", "html_told", "round_told", "subject_told", "text_told"]

EVENTS = {
    "waits": "waits for you", "failed": "failed", "otherwise": "landed otherwise than meant", "done": "is done",
}  # fmt: skip


class RoundTold(msgspec.Struct, frozen=True):
    """What is told of a round: the event, the shop, the round file's name and the round's number and day; of how many
    items and cells something is sent, how many cells are held, landed, and landed otherwise (null: nobody looked); to
    where it was delivered; why it waits or failed; and what to do next.
    """

    event: str
    shop: str | None
    name: str
    round: int
    day: str
    items: int
    cells: int
    held: int
    landed: int | None
    otherwise: int | None
    delivered: list[str]
    why: list[str]
    next: str
    version: int = 1


def round_told(summary: RoundSummary, event: str, why: list[str], shop: str | None, next_step: str) -> RoundTold:
    """What is told of a round as it stands."""
    return RoundTold(
        event, shop, summary.by, summary.number, summary.day, summary.items, summary.sent or summary.cells,
        summary.held, summary.landed, summary.otherwise, summary.delivered, why, next_step,
    )  # fmt: skip


def subject_told(facts: RoundTold) -> str:
    """The subject of a mail.

    >>> facts = RoundTold("waits", None, "weekly", 7, "2026-09-07", 32, 54, 0, None, None, [], [], "")
    >>> subject_told(facts)
    'weekly, round 7 waits for you'
    """
    what = (
        "was delivered" if facts.event == "done" and facts.landed is None and facts.delivered else EVENTS[facts.event]
    )
    return f"{facts.name}, round {facts.round} {what}"


def _rows(facts: RoundTold) -> list[tuple[str, str]]:
    rows = [
        ("day", facts.day),
        ("changes", f"{facts.cells:,} cells of {facts.items:,} items"),
        ("held", f"{facts.held:,}"),
    ]
    if facts.shop:
        rows.insert(0, ("shop", facts.shop))
    rows += [("delivered", ", ".join(facts.delivered))] if facts.delivered else []
    if facts.landed is not None:
        rows.append(("landed", f"{facts.landed:,}; {facts.otherwise or 0:,} did not"))
    return rows


def text_told(facts: RoundTold) -> str:
    """The mail as plain text."""
    lines = [f"{subject_told(facts)}.", "", *(f"{name + ':':<11}{text}" for name, text in _rows(facts))]
    lines += ["", *(f"- {line}" for line in facts.why)] if facts.why else []
    return "\n".join([*lines, "", facts.next, ""])


def html_told(facts: RoundTold) -> str:
    """The mail as HTML, for programs that show that."""
    rows = "".join(
        f'<tr><th style="text-align:left;padding:2px 16px 2px 0;font-weight:600">{escape(name)}</th>'
        f'<td style="padding:2px 0">{escape(text)}</td></tr>'
        for name, text in _rows(facts)
    )
    why = "".join(f"<li>{escape(line)}</li>" for line in facts.why)
    return (
        '<!doctype html><html lang="en"><meta charset="utf-8"><body style="font-family:system-ui,sans-serif;'
        f'color:#1f2a26;background:#fbfaf7;padding:16px">'
        f'<h1 style="font-size:1.2rem">{escape(subject_told(facts))}</h1>'
        f"<table>{rows}</table>{f'<ul>{why}</ul>' if why else ''}<p>{escape(facts.next)}</p></body></html>"
    )
