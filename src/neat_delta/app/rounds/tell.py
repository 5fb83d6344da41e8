"""Who hears of a round: by mail, by an address of the web, each as the round file says."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING

import msgspec

from neat_delta.app.rounds.file import RoundFile
from neat_delta.core.base.support.errors import NeatDeltaError
from neat_delta.files.telling import Mail, post, send_mail
from neat_delta.report.settings import as_options
from neat_delta.report.telling import RoundTold, html_told, round_told, subject_told, text_told

if TYPE_CHECKING:
    from neat_delta.app.rounds.run import Ended

__all__ = ["facts_of", "next_step", "tell"]


def next_step(file: RoundFile, ended: Ended) -> str:
    """What a person does next, as a call of the program."""
    number, call = ended.round.number, f"neat-delta run {Path(file.path).name}"
    look = f"Look: neat-delta history {number}"
    words = {
        "waits": f"Answer the page, or change what the round file says; then: {call} ‹resume›. Of other sheets begin "
        f"another round, and give this one up: {call} ‹close› {number} ‹because› WHY",
        "failed": f"See to it; then: {call}",
        "otherwise": f"{look}. Mend it, or give it up: {call} ‹close› {number} ‹because› WHY",
    }
    if ended.event == "failed" and ended.round.state == "delivering":
        words["failed"] += " ‹resume›, which delivers only what has not arrived"
    if ended.round.state == "delivered":
        return as_options(f"When it is imported, see whether it landed: {call} ‹confirm›")
    return as_options(words.get(str(ended.event), look))


def facts_of(file: RoundFile, ended: Ended, shop: str | None) -> RoundTold:
    """What is told of a run that ended."""
    return round_told(
        ended.round, str(ended.event), [as_options(line) for line in ended.why], shop, next_step(file, ended)
    )


def tell(file: RoundFile, ended: Ended, shop: str | None) -> list[str]:
    """Tell everybody who wants to hear of it; what could not be told, a line each. That ends no round."""
    asked = file.at.tell
    if ended.event is None or ended.event not in asked.on:
        return []
    facts, wrong = facts_of(file, ended, shop), list[str]()
    if asked.url is not None:
        wrong += _tried(lambda: post(str(asked.url), msgspec.json.encode(facts), asked.key))
    if asked.smtp is not None and asked.sender is not None and asked.to:
        attached = []
        if asked.attach and ended.page is not None:
            attached = [(Path(ended.page).name, Path(ended.page).read_bytes())]
        mail = Mail(asked.sender, asked.to, subject_told(facts), text_told(facts), html_told(facts), attached)
        wrong += _tried(lambda: send_mail(str(asked.smtp), mail))
    return wrong


def _tried(work: Callable[[], None]) -> list[str]:
    try:
        work()
    except NeatDeltaError as error:
        return [str(error)]
    return []
