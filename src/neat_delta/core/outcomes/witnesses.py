"""Two witnesses: what the store says of each item, held against what the next export shows of it."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal

from neat_delta.core.base.model.changeset import ChangeSet
from neat_delta.core.base.model.results import RESULT_STATUSES, ResultStatus
from neat_delta.core.base.support.series import gathered
from neat_delta.core.outcomes.confirm import Confirmed
from neat_delta.core.outcomes.landings import Landing
from neat_delta.core.outcomes.results import Results, message_form

__all__ = ["Seen", "Testimony", "Witnesses", "compare_witnesses"]

Seen = Literal["landed", "differently", "not landed", "taken back", "not seen", "not looked at"]
"""What an export shows of an item, by the worst of its cells: "not seen" where it lacks all the fields that were sent;
without an export nobody looked.
"""


ALARM: dict[tuple[ResultStatus, Seen], int] = {
    ("done", "not landed"): 0,
    ("warned", "not landed"): 1,
    ("done", "differently"): 2,
    ("refused", "landed"): 3,
    ("refused", "differently"): 4,
    ("skipped", "landed"): 5,
    ("skipped", "differently"): 6,
    ("warned", "differently"): 7,
    ("not mentioned", "differently"): 8,
}
"""What the two say that does not agree, the worst first; whatever agrees comes after it."""


@dataclass(frozen=True, slots=True)
class Testimony:
    """What is said and seen of one item: its number in the change set, its key, the store's message and its own numbers
    of it, and the cells that did not land as they were meant.
    """

    item: int
    key: dict[str, str]
    status: ResultStatus
    seen: Seen
    message: str
    ids: tuple[str, ...]
    landings: list[Landing]


@dataclass(frozen=True, slots=True)
class Witnesses:
    """Every item that was sent, in the change set's order, with what is said and what is seen of it."""

    testimonies: list[Testimony]

    @property
    def counts(self) -> dict[tuple[ResultStatus, Seen], int]:
        """How many items have what said and what seen of them."""
        return dict(Counter((testimony.status, testimony.seen) for testimony in self.testimonies))

    @property
    def disputed(self) -> list[Testimony]:
        """Those of which the two do not agree, the worst first."""
        those = [testimony for testimony in self.testimonies if (testimony.status, testimony.seen) in ALARM]
        return sorted(those, key=lambda testimony: ALARM[testimony.status, testimony.seen])

    @property
    def messages(self) -> list[tuple[ResultStatus, str, list[Testimony]]]:
        """The messages by their form, with the items that have each, the most frequent first."""
        groups: dict[tuple[ResultStatus, str], list[Testimony]] = {}
        for testimony in self.testimonies:
            if testimony.message and testimony.status != "done":
                groups.setdefault(
                    (testimony.status, message_form(testimony.message, list(testimony.key.values()))), []
                ).append(testimony)
        order = sorted(
            groups.items(), key=lambda group: (-len(group[1]), RESULT_STATUSES.index(group[0][0]), group[0][1])
        )
        return [(word, form, items) for (word, form), items in order]

    @property
    def all_done(self) -> bool:
        """Whether all is done, and all of it landed where somebody looked and could see it."""
        good = {("done", "landed"), ("warned", "landed"), ("done", "not looked at"), ("done", "not seen")}
        return {pair for pair in self.counts if pair[1] != "taken back"} <= good


def compare_witnesses(changes: ChangeSet, results: Results, confirmed: Confirmed | None) -> Witnesses:
    """Hold what the store says against what an export shows (None: nobody looked)."""
    landings: dict[int, list[Landing]] = {}
    if confirmed is not None:
        for item, landing in zip(confirmed.lacking["item"], confirmed.trouble, strict=True):
            landings.setdefault(item, []).append(landing)
    out = []
    items = list(results.by_item)
    keys = gathered(changes.keys, items).iter_rows(named=True)
    for (item, result), key in zip(results.by_item.items(), keys, strict=True):
        those = landings.get(item, [])
        out.append(
            Testimony(item, key, result.status, _seen(item, those, confirmed), result.message, result.ids, those)
        )
    return Witnesses(out)


def _seen(item: int, landings: Sequence[Landing], confirmed: Confirmed | None) -> Seen:
    if confirmed is None:
        return "not looked at"
    if item in confirmed.hidden:
        return "not seen"
    outcomes = {landing.outcome for landing in landings}
    worst: tuple[Seen, ...] = ("not landed", "differently", "taken back")
    return next((outcome for outcome in worst if outcome in outcomes), "landed")
