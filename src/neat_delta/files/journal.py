"""The journal of a folder: what of it was delivered, to where, and when; and the answers that were kept.

Rule: a line is on disk before what it says is done, and again after it; one process writes it at a time.
"""

from __future__ import annotations

import fcntl
import os
from collections.abc import Iterator
from contextlib import contextmanager
from datetime import UTC, datetime
from pathlib import Path
from typing import IO, Literal

import msgspec

from neat_delta.core.base.model.manifest import OutFile
from neat_delta.core.base.support.errors import OutputError
from neat_delta.files.whole import read_whole

__all__ = [
    "ANSWER",
    "JOURNAL",
    "Entry",
    "Journal",
    "Step",
    "is_begun",
    "is_of_delivery",
    "journal",
    "journal_of",
    "kept_answers",
]

JOURNAL = "delivery.jsonl"
"""The file in a folder that says what of it was delivered, when, and to where."""

ANSWER = "answer-"
"""How a file begins in which the store's answer is kept."""

Step = Literal["begun", "uploaded", "arrived", "refused", "unsent", "again"]
"""What was done, or is about to be; `unsent`: nothing was taken there; `again`: it had arrived, and is to be sent once
more.
"""


class Entry(msgspec.Struct, frozen=True, omit_defaults=True):
    """A line of the journal: when (UTC), to which address (without what is secret in it), which file, its digest, what
    was done; of the web the status, and the file in which its answer is kept.
    """

    at: str
    to: str
    file: str
    blake3: str
    step: Step
    status: int | None = None
    answer: str | None = None


def journal_of(folder: str) -> list[Entry]:
    """What was delivered of a folder so far; a line that was cut off when the machine stopped says nothing.

    OutputError where a line is none.
    """
    path = Path(folder) / JOURNAL
    if not path.is_file():
        return []
    *lines, rest = read_whole(str(path)).split(b"\n")
    del rest
    try:
        return [msgspec.json.decode(line, type=Entry) for line in lines]
    except msgspec.MsgspecError:
        raise OutputError(
            f"{path}: it is not as deliveries wrote it, so nobody knows what went. Look at the other end, and "
            "write the files anew into another folder if they are still to go."
        ) from None


def is_begun(folder: str) -> bool:
    """Whether anything of a folder may have arrived anywhere: where it cannot have, it was never begun to be sent, or
    nothing was taken.
    """
    last = {(entry.to, entry.blake3): entry.step for entry in journal_of(folder)}
    return any(step not in {"refused", "unsent"} for step in last.values())


def is_of_delivery(name: str) -> bool:
    """Whether a file of a folder came into it when it was delivered: the journal, an answer.

    >>> is_of_delivery("delivery.jsonl"), is_of_delivery("update-1.csv")
    (True, False)
    """
    return name == JOURNAL or name.startswith(ANSWER)


def kept_answers(folder: str) -> list[str]:
    """The answers that were kept when the files of a folder were delivered, the last of each file."""
    answers = {entry.file: entry.answer for entry in journal_of(folder) if entry.answer is not None}
    return [str(Path(folder) / name) for name in answers.values() if (Path(folder) / name).is_file()]


class Journal:
    """The journal of a folder, open to be written by one process at a time."""

    def __init__(self, folder: str, to: str, file: IO[bytes]) -> None:
        self.folder, self.to, self.file, self.entries = folder, to, file, journal_of(folder)

    def write(self, file: OutFile, step: Step, status: int | None = None, answer: str | None = None) -> None:
        """Write a line, and wait until it is on disk."""
        entry = Entry(
            datetime.now(UTC).strftime("%Y-%m-%dT%H:%M:%SZ"), self.to, file.file, file.blake3, step, status, answer
        )
        self.file.write(msgspec.json.encode(entry) + b"\n")
        self.file.flush()
        os.fsync(self.file.fileno())
        self.entries.append(entry)

    def last(self, file: OutFile) -> Step | None:
        """The last step of a file on its way to this address."""
        steps = [entry.step for entry in self.entries if (entry.to, entry.blake3) == (self.to, file.blake3)]
        return steps[-1] if steps else None


@contextmanager
def journal(folder: str, to: str) -> Iterator[Journal]:
    """The journal, for as long as something is being delivered; OutputError where somebody else is at it."""
    path = Path(folder) / JOURNAL
    try:
        with path.open("ab") as file:
            try:
                fcntl.flock(file, fcntl.LOCK_EX | fcntl.LOCK_NB)
            except OSError:
                raise OutputError(f"{folder}: it is being delivered right now. Wait until that is done.") from None
            _end_cut_line(path, file)
            yield Journal(folder, to, file)
    except PermissionError:
        raise OutputError(f"{path}: what is delivered is noted there, and it cannot be written. See to that.") from None
    finally:
        if path.is_file() and not path.stat().st_size:
            path.unlink()


def _end_cut_line(path: Path, file: IO[bytes]) -> None:
    """Take away a line that the machine did not finish: what it was about had not been begun."""
    content = path.read_bytes()
    if content and not content.endswith(b"\n"):
        file.truncate(content.rfind(b"\n") + 1)
