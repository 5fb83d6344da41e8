"""A round that is kept, as the steps that were noted of it; and what they come to.

Rule: what a round is, its steps say, in the order in which they were noted. A clock that goes back changes no order.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import Literal

import msgspec

__all__ = ["InputRole", "KeptInput", "RoundState", "RoundStep", "RoundSummary", "StepName", "summary_of"]

StepName = Literal[
    "began", "fetched", "compared", "waits", "answered", "written", "delivering", "delivered", "confirmed", "undone",
    "failed", "closed",
]  # fmt: skip
"""What was done: a line of it stands on disk once it is done (`delivering`: before it is)."""

InputRole = Literal[
    "live", "sheet", "base", "codes", "mapping", "rules", "lookup", "store", "answers", "after", "results"
]
"""What a file was to a round."""

RoundState = Literal[
    "begun", "compared", "waits", "written", "delivering", "delivered", "open", "done", "failed", "closed"
]
"""How far a round is: `open`, when an export or a report was looked at and not all of it is done; `done`, when it
is, or there was nothing to send.
"""


class KeptInput(msgspec.Struct, frozen=True, omit_defaults=True):
    """A file that went into a round: what it was to it, its path or address (without what is secret in it), the BLAKE3
    digest and the number of its bytes; its rows, where it is a table; and the name it is kept under in the round's
    folder (None: it is not).
    """

    role: InputRole
    name: str
    blake3: str
    bytes: int
    rows: int | None = None
    kept: str | None = None


class RoundStep(msgspec.Struct, frozen=True, omit_defaults=True):
    """A line of a round's steps: when (UTC), what was done; and, as far as the step has them, what began it (the name
    of a round file, or of a command), the files that went in, the sheets, lists and rules that were
    compared, the change set (its digest, and its file), figures by
    name, why something waits or failed, the folder of update files and its seal, where it was delivered to, and where
    the round file is that began it, from the ledger's folder.
    """

    at: str
    step: StepName
    by: str = ""
    inputs: list[KeptInput] = []
    sheets: list[str] = []
    changes: str = ""
    file: str = ""
    counts: dict[str, int] = {}
    why: list[str] = []
    folder: str = ""
    seal: str = ""
    to: str = ""
    round_file: str = ""


class RoundSummary(msgspec.Struct, frozen=True):
    """What the steps of a round come to: its number, its folder's name, what began it, when (UTC), how far it is, the
    files that were compared, of how many items and cells something was to be sent, how many cells were held, sent,
    landed, and landed otherwise or not at all (None: nobody looked), to where it was delivered, for how many cells
    undo files were written, why it waits or ended, and the answers that came.
    """

    number: int
    folder: str
    by: str
    at: str
    state: RoundState
    live: str
    sheets: list[str]
    items: int = 0
    cells: int = 0
    held: int = 0
    sent: int = 0
    landed: int | None = None
    otherwise: int | None = None
    delivered: list[str] = []
    undone: int = 0
    why: list[str] = []
    signed: list[str] = []
    steps: int = 0

    @property
    def day(self) -> str:
        """The day it began, ISO 8601."""
        return self.at[:10]


ENDED: frozenset[RoundState] = frozenset({"done", "failed", "closed"})


def summary_of(number: int, folder: str, steps: Sequence[RoundStep]) -> RoundSummary:
    """What these steps of the round come to.

    >>> steps = [RoundStep("2026-09-07T05:00:00Z", "began", by="weekly"),
    ...     RoundStep("2026-09-07T05:00:09Z", "written", counts={"sent": 12})]
    >>> summary_of(7, "0007-2026-09-07", steps).state, summary_of(7, "0007-2026-09-07", steps).sent
    ('written', 12)
    """
    state: RoundState = "begun"
    live, sheets, signed, why = "", list[str](), list[str](), list[str]()
    figures = dict[str, int]()
    landed, otherwise, undone, delivered, is_perhaps_there = None, None, 0, list[str](), False
    for step in steps:
        counts = step.counts
        live = next((each.name for each in step.inputs if each.role == "live"), live)
        sheets = step.sheets or sheets
        signed = [each.name for each in step.inputs if each.role == "answers"] or signed
        figures |= {name: counts[name] for name in ("items", "cells", "held", "sent") if name in counts}
        undone += counts.get("undone", 0)
        is_perhaps_there |= step.step == "delivering"
        match step.step:
            case "compared" | "written" | "delivering" | "waits" | "failed" | "closed":
                if state not in ENDED or step.step == "closed":
                    state = step.step
                why = step.why
            case "delivered":
                delivered.append(step.to)
                state, why = "delivered", []
            case "confirmed":
                landed, otherwise = counts.get("landed"), counts.get("otherwise")
                state, why = ("done" if counts.get("all_done") else "open"), step.why
            case _:
                pass
        if step.step == "written" and not counts.get("sent"):
            state = "done"
    if state in {"waits", "closed", "failed"} and not (delivered or landed or is_perhaps_there):
        figures.pop("sent", None)  # it was written, and went nowhere
    return RoundSummary(
        number, folder, steps[0].by if steps else "", steps[0].at if steps else "", state, live, sheets,
        **figures, landed=landed, otherwise=otherwise, delivered=delivered, undone=undone, why=why, signed=signed,
        steps=len(steps),
    )  # fmt: skip
