"""A ledger in hand: its rounds by number, a new one, the copies that are kept, and who is at work in it."""

from __future__ import annotations

import contextlib
import fcntl
import os
import re
import socket
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field
from datetime import UTC, datetime, timedelta
from pathlib import Path

import msgspec

from neat_delta.core.base.model.rounds import RoundState, RoundSummary
from neat_delta.core.base.support.errors import OutputError
from neat_delta.files.ledger.folder import INPUTS, RoundFolder, now, round_folders, stamp
from neat_delta.files.ledger.index import Index, opened

__all__ = ["AtWorkError", "Keep", "Ledger", "keep_of"]

LOCK = "ledger.lock"

OPEN: frozenset[RoundState] = frozenset({"waits", "delivering", "delivered", "open"})
"""Rounds that still wait for something: what went into them is kept for however long."""


class AtWorkError(OutputError):
    """Somebody else is at work in the ledger."""


@dataclass(frozen=True, slots=True)
class Keep:
    """For how many rounds, or for how many days, what went into a round is kept."""

    rounds: int | None = 12
    days: int | None = None


def keep_of(value: int | str) -> Keep:
    """What a file says of it: a number of rounds, or "90 days"; ValueError where it is neither.

    >>> keep_of("90 days")
    Keep(rounds=None, days=90)
    """
    if isinstance(value, int) and not isinstance(value, bool) and value > 0:
        return Keep(value)
    match = re.fullmatch(r"\s*([1-9]\d*)\s*(rounds?|days?)\s*", str(value))
    if match is None:
        raise ValueError(f'{value!r} is neither a number of rounds nor such as "90 days"')
    return Keep(int(match[1])) if match[2].startswith("round") else Keep(None, int(match[1]))


@dataclass(frozen=True, slots=True)
class Ledger:
    """The ledger in a folder, which is made when the first round begins."""

    folder: Path
    keep: Keep = field(default_factory=Keep)

    def begin(self, by: str, round_file: str = "") -> RoundFolder:
        """Begin a round, under the number after the highest; OutputError where its folder cannot be made."""
        with self._held(wait=True):
            number = max((folder.number for folder in round_folders(self.folder)), default=0) + 1
            return RoundFolder.begin(self.folder, number, by, round_file)

    def rounds(self) -> list[RoundFolder]:
        """The folders of all rounds, by their numbers."""
        return list(round_folders(self.folder))

    def round(self, number: int) -> RoundFolder:
        """The round of a number; OutputError where there is none."""
        folders = self.rounds()
        for folder in folders:
            if folder.number == number:
                return folder
        known = f"There are {folders[0].number} to {folders[-1].number}." if folders else "There are none yet."
        raise OutputError(f"{self.folder}: there is no round {number}. {known}")

    @contextmanager
    def index(self, *, rebuild: bool = False) -> Iterator[Index]:
        """Its index, up to date; OutputError where there is no such folder."""
        with opened(self.folder, rebuild=rebuild) as index:
            yield index

    def find(self, digest: str) -> RoundFolder | None:
        """The last round that has a change set or a folder of update files of this digest, if there is any."""
        if not digest or not self.folder.is_dir():
            return None
        with self.index() as index:
            return index.round_of(digest)

    def summaries(self) -> list[RoundSummary]:
        """What the rounds come to, by their numbers; read from their folders."""
        return [folder.summary() for folder in self.rounds()]

    def drop_old(self) -> list[int]:
        """Remove the copies of what went into rounds that are older than is kept, unless they still wait for something;
        their numbers.
        """
        folders, dropped = self.rounds(), list[int]()
        newest = folders[-1].number if folders else 0
        days = self.keep.days
        limit = None if days is None else stamp(now() - timedelta(days=days))
        for folder in folders:
            if not (folder.path / INPUTS).is_dir():
                continue
            of_rounds = self.keep.rounds is not None and folder.number <= newest - self.keep.rounds
            if of_rounds or limit is not None:
                summary = folder.summary()
                if summary.state not in OPEN and (of_rounds or (limit is not None and summary.at < limit)):
                    folder.drop_inputs()
                    dropped.append(folder.number)
        return dropped

    @contextmanager
    def at_work(self, what: str) -> Iterator[None]:
        """Be the only one who runs rounds in this ledger; OutputError where somebody else does: who, and since when."""
        with self._held(wait=False, name="run.lock", what=what):
            yield

    @contextmanager
    def _held(self, *, wait: bool, name: str = LOCK, what: str = "") -> Iterator[None]:
        path = self.folder / name
        try:
            self.folder.mkdir(parents=True, exist_ok=True)
            descriptor = os.open(path, os.O_RDWR | os.O_CREAT, 0o644)
        except OSError as error:
            raise OutputError(
                f"{self.folder}: rounds are kept there, and it cannot be written ({error.strerror}). See to that, or "
                "name another folder."
            ) from None
        try:
            try:
                fcntl.flock(descriptor, fcntl.LOCK_EX | (0 if wait else fcntl.LOCK_NB))
            except OSError:
                raise AtWorkError(f"{self.folder}: {_holder(path)}. Wait until that is done.") from None
            if what:
                holder = _Holder(
                    os.getpid(), socket.gethostname(), f"{datetime.now(UTC):%Y-%m-%d at %H:%M:%S UTC}", what
                )
                os.truncate(descriptor, 0)
                os.pwrite(descriptor, msgspec.json.encode(holder), 0)
            yield
            if what:
                os.truncate(descriptor, 0)
        finally:
            os.close(descriptor)


class _Holder(msgspec.Struct, frozen=True):
    """Who is at work: the process, its machine, since when, and what it does."""

    process: int
    machine: str
    since: str
    what: str


def _holder(path: Path) -> str:
    with contextlib.suppress(OSError, msgspec.MsgspecError):
        holder = msgspec.json.decode(path.read_bytes(), type=_Holder)
        return f"process {holder.process} on {holder.machine} runs {holder.what} there since {holder.since}"
    return "another process is at work there"
