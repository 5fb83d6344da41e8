"""The folder of a round: what went in, what was made of it, and a line for each step that was done.

Rule: a step's line is written, and on disk, after what it says is done. So whatever ends the program, the steps say how
far the round came; a line that was cut off says nothing.
"""

from __future__ import annotations

import os
import re
import shutil
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path, PurePath

import msgspec
import zstandard

from neat_delta.core.base.model.rounds import InputRole, KeptInput, RoundStep, RoundSummary, summary_of
from neat_delta.core.base.support.errors import FileError, OutputError
from neat_delta.files.whole import digest_of, new_folder, read_whole, write_whole

__all__ = ["CHANGES", "INPUTS", "STEPS", "RoundFolder", "now", "round_folders", "stamp"]

STEPS, CHANGES, INPUTS = "steps.jsonl", "changes.jsonl", "inputs"

NAME = re.compile(r"(\d{4,})-\d{4}-\d\d-\d\d")
"""How the folder of a round is called: its number and its day."""


def now() -> datetime:
    """The time as the machine's clock has it, in UTC and without parts of a second; or the one that SOURCE_DATE_EPOCH
    gives, by which whoever makes pictures and packages makes them the same each time (reproducible-builds.org).
    """
    epoch = os.environ.get("SOURCE_DATE_EPOCH", "")
    if epoch.isdecimal():
        return datetime.fromtimestamp(int(epoch), UTC)
    return datetime.now(UTC).replace(microsecond=0)


def stamp(at: datetime) -> str:
    """A time as a step has it, ISO 8601."""
    return at.strftime("%Y-%m-%dT%H:%M:%SZ")


@dataclass(frozen=True, slots=True)
class RoundFolder:
    """The folder of one round."""

    path: Path
    number: int

    @classmethod
    def begin(cls, ledger: Path, number: int, by: str, round_file: str = "") -> RoundFolder:
        """Make the folder of a new round; OutputError where it cannot be made."""
        at = now()
        place = ledger / f"{number:04d}-{at:%Y-%m-%d}"
        with new_folder(str(place), lambda _: "there is a round of that number. Run the command again.") as partial:
            (partial / STEPS).write_bytes(_line(RoundStep(stamp(at), "began", by=by, round_file=round_file)))
        return cls(place, number)

    @property
    def name(self) -> str:
        """The folder's own name."""
        return self.path.name

    def place(self, name: str) -> str:
        """The path of a file or folder in it."""
        return str(self.path / name)

    def steps(self) -> list[RoundStep]:
        """What was done so far; OutputError where a line is none."""
        *lines, _ = read_whole(str(self.path / STEPS)).split(b"\n")
        try:
            return [msgspec.json.decode(line, type=RoundStep) for line in lines]
        except msgspec.MsgspecError:
            raise OutputError(
                f"{self.path / STEPS}: it is not as Neat Delta wrote it, so nobody knows how far the round came. Put "
                "the file back from a backup, or move the round's folder out of the ledger."
            ) from None

    def size(self) -> int:
        """How many bytes its steps take: they only ever grow."""
        return (self.path / STEPS).stat().st_size

    def summary(self) -> RoundSummary:
        """What its steps come to."""
        return summary_of(self.number, self.name, self.steps())

    def note(self, step: RoundStep) -> RoundStep:
        """Note a step that is done, at the time it is now; it is on disk when this returns. OutputError where it cannot
        be.
        """
        dated = msgspec.structs.replace(step, at=stamp(now()))
        path = self.path / STEPS
        try:
            with path.open("r+b") as file:
                content = file.read()
                file.truncate(content.rfind(b"\n") + 1)  # what was cut off is not said twice
                file.seek(0, os.SEEK_END)
                file.write(_line(dated))
                file.flush()
                os.fsync(file.fileno())
        except OSError as error:
            raise OutputError(
                f"{path}: what is done is noted there, and it cannot be written ({error.strerror}). See to that, and "
                "go on from there."
            ) from None
        return dated

    def keep(self, role: InputRole, name: str, source: str, *, rows: int | None = None) -> KeptInput:
        """Keep a copy of the file at `source`, packed, as what `name` was to the round."""
        data = read_whole(source)
        return self.keep_bytes(role, name, data, rows=rows)

    def keep_bytes(self, role: InputRole, name: str, data: bytes, *, rows: int | None = None) -> KeptInput:
        """Keep these bytes, packed (zstd), as what the file `name` was to the round."""
        digest, folder = digest_of(data), self.path / INPUTS
        bare = re.sub(r"[^\w.-]+", "-", PurePath(name.partition("#")[0].partition("?")[0]).name).strip("-.") or "input"
        kept = f"{INPUTS}/{role}-{digest[:8]}-{bare[-60:]}.zst"
        place = self.path / kept
        if not place.is_file():
            folder.mkdir(exist_ok=True)
            write_whole(str(place), [zstandard.ZstdCompressor(level=3).compress(data)])
        return KeptInput(role, name, digest, len(data), rows, kept)

    def unpacked(self, kept: KeptInput) -> bytes:
        """The bytes of a file that was kept; FileError where they are not any more, or are not what they were."""
        path = None if kept.kept is None else self.path / kept.kept
        if path is None or not path.is_file():
            raise FileError(
                f"{self.path}: {kept.name} is not kept any more as it was then. Name a copy of it, if you have one."
            )
        try:
            data = zstandard.ZstdDecompressor().decompress(read_whole(str(path)), max_output_size=kept.bytes)
        except zstandard.ZstdError:
            data = b""
        if digest_of(data) != kept.blake3:
            raise FileError(f"{path}: it is not as it was kept. Put it back from a backup.")
        return data

    def inputs(self, role: InputRole | None = None) -> list[KeptInput]:
        """The files that went in last, in this role or in any."""
        last: dict[InputRole, list[KeptInput]] = {}
        for step in self.steps():
            for each in {each.role: None for each in step.inputs}:
                last[each] = [entry for entry in step.inputs if entry.role == each]
        return [entry for each, those in last.items() if role in {None, each} for entry in those]

    def drop_inputs(self) -> None:
        """Remove the copies of what went in; their digests stay in the steps."""
        shutil.rmtree(self.path / INPUTS, ignore_errors=True)

    def copy_folder(self, source: str, name: str) -> str:
        """Keep a copy of a folder of update files under this name, with a number behind it if need be; what that is."""
        names = (name if number == 1 else f"{name}-{number}" for number in range(1, 10_000))
        for free in names:
            place = self.path / free
            if place.is_dir() and _same(place, Path(source)):
                return free
            if not place.exists():
                with new_folder(str(place), lambda _: "it is there already. Run the command again.") as partial:
                    for file in sorted(Path(source).iterdir()):
                        if file.is_file():
                            shutil.copyfile(file, partial / file.name)
                return free
        raise OutputError(f"{self.path}: there are too many folders in it. Move some of them elsewhere.")


def _same(folder: Path, other: Path) -> bool:
    names = {file.name for file in folder.iterdir()}
    return names == {file.name for file in other.iterdir() if file.is_file()} and all(
        (folder / name).read_bytes() == (other / name).read_bytes() for name in names
    )


def _line(step: RoundStep) -> bytes:
    return msgspec.json.encode(step) + b"\n"


def round_folders(ledger: Path) -> Iterator[RoundFolder]:
    """The folders of the rounds in a ledger, by their numbers."""
    try:
        names: Sequence[str] = sorted(os.listdir(ledger))  # noqa: PTH208 - a thousand names, each time a ledger is opened
    except OSError:
        return
    fits = [(int(match[1]), name) for name in names if (match := NAME.fullmatch(name))]
    for number, name in sorted(fits):
        yield RoundFolder(ledger / name, number)
