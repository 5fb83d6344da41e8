"""Going through a round: fetch, compare, sign off, limits, write, deliver; and later, whether it landed.

Rule: what is done is noted before anything else is begun, so that whoever goes on begins after it. Nothing is delivered
that was not compared with live as it is, and nothing is delivered twice.
"""

from __future__ import annotations

import os
import shutil
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, field
from datetime import date
from pathlib import Path, PurePath
from typing import TYPE_CHECKING, Literal

from neat_delta.app.confirm import Outcome, confirm
from neat_delta.app.deliver import Delivery, deliver
from neat_delta.app.ledger import changes_in, compared_step, confirmed_step, live_in, restored, sent_in, written_step
from neat_delta.app.mend import mend_outcome
from neat_delta.app.outcome import confirm_changes
from neat_delta.app.rounds.changes import changes_of_round
from neat_delta.app.rounds.file import RoundFile
from neat_delta.app.rounds.limits import what_stops
from neat_delta.app.rounds.signing import signed_off, write_page
from neat_delta.app.rounds.sources import (
    RoundInputs,
    SourceError,
    changed_since,
    fetch_live,
    fetch_sources,
    last_live_of,
    must_be_believable,
    read_kept,
    read_kept_later,
    read_sources,
    with_rows,
)
from neat_delta.app.write import importer_as_asked, write
from neat_delta.core.base.model.changeset import counted
from neat_delta.core.base.model.importer import Importer
from neat_delta.core.base.model.layout import Layout
from neat_delta.core.base.model.rounds import KeptInput, RoundState, RoundStep, RoundSummary
from neat_delta.core.base.support.errors import CatalogueError, FileError, NeatDeltaError, OutputError, StoreError
from neat_delta.core.outcomes.landings import was_altered
from neat_delta.core.outcomes.unsent import as_sent
from neat_delta.files.changelines import change_lines
from neat_delta.files.changeset import as_live, header_of_file, read_changes
from neat_delta.files.delivery import Perhaps, all_arrived, spelled
from neat_delta.files.journal import is_begun, kept_answers
from neat_delta.files.ledger.folder import CHANGES, RoundFolder, now, stamp
from neat_delta.files.ledger.ledger import Ledger
from neat_delta.files.logs import logged, say
from neat_delta.files.manifest import read_manifest
from neat_delta.files.rounds import store_file
from neat_delta.files.sources.address import is_address
from neat_delta.files.sources.fetch import fetch
from neat_delta.files.storefile import must_know_fields, read_store
from neat_delta.files.whole import write_new, write_whole
from neat_delta.report.text import count

if TYPE_CHECKING:
    import polars as pl

    from neat_delta.core.base.model.catalogue import Catalogue
    from neat_delta.core.base.model.changeset import ChangeSet
    from neat_delta.core.base.model.manifest import Manifest
    from neat_delta.core.base.model.store import Store

__all__ = ["Ended", "Rehearsing", "RoundRun", "close_round", "confirm_round", "last_round", "resume_round", "run_round"]

Rehearsing = Callable[["Catalogue", Importer], Callable[["ChangeSet"], Callable[[Path, "Manifest"], "pl.DataFrame"]]]
"""Gives what imports files into a practice store, for a live catalogue and an importer."""

LOG_FILE = "log.jsonl"

BROKEN: frozenset[RoundState] = frozenset({"begun", "compared"})
"""Rounds that were broken off before anything was delivered."""

Event = Literal["waits", "failed", "otherwise", "done"]


@dataclass(frozen=True, slots=True)
class Ended:
    """How a run ended: the round as it stands, whether that is an `event` to tell of (None: it went on as planned),
    why, whether something waits for a person, and the page of its changes, if there is one.
    """

    round: RoundSummary
    event: Event | None
    why: list[str]
    waits: bool
    page: str | None = None


@dataclass(slots=True)
class RoundRun:
    """A round at work: its file, its ledger, its folder, the store file, who is told of each step, what rehearses, the
    day (ISO 8601), and whether all is done but delivering (`dry`).
    """

    file: RoundFile
    folder: RoundFolder
    before: RoundFolder | None
    store: Store | None = None
    rehearsing: Rehearsing | None = None
    today: str = field(default_factory=lambda: date.today().isoformat())
    dry: bool = False
    perhaps: Perhaps = None

    def go(self) -> Ended:
        """Go through the round from where it stands; its folder has the log."""
        with logged(self.folder.place(LOG_FILE)):
            return self._go()

    def _go(self) -> Ended:
        state = self.folder.summary().state
        if state == "delivering":
            folder = self.folder.place(self._written()[-1].folder)
            if is_begun(folder):  # what has arrived cannot be compared anew; the rest goes if nobody came between
                return self._moved_since(folder) or self._deliver(folder)
        try:
            inputs = self._inputs()
            changes = self._compare(inputs)
            live = as_live(inputs.live, changes.header, self.folder.place(CHANGES))
            answers, lacking = [], list[str]()
            if self.file.at.sign_off.wanted:
                signing = signed_off(self.file, self.folder, changes, live, self.store, self.today)
                answers, lacking = signing.answers, signing.lacking
                self._note_answers(signing.inputs)
            stops = lacking + what_stops(signing.changes if answers else changes, live, self.file.at.limits)
            page = None
            if stops or not answers:
                page = write_page(self.file, self.folder, changes, live, signing.unasked if lacking and answers else [])
            if stops:
                return self._wait(stops, page)
            folder = self._write(changes, live, answers)
            stops = _unwritten(read_manifest(folder)) if self.file.at.limits.held == "stop" else []
            if stops:
                return self._wait(stops, page)
        except NeatDeltaError as error:
            if state == "begun":  # one that waited goes on waiting
                self.folder.note(RoundStep("", "failed", why=[str(error)]))
            if isinstance(error, SourceError):
                say("stopped", str(error))
                return Ended(self.folder.summary(), "failed", [str(error)], waits=True)
            raise
        return self._deliver(folder)

    def _inputs(self) -> RoundInputs:
        """The files of the round: as they were kept, where it goes on, or fetched now. Where live has moved since they
        were fetched, it is fetched anew, and what it was then is what the sheets were cut from.
        """
        kept = self.folder.inputs()
        fresh = not any(step.step == "fetched" for step in self.folder.steps())
        last = last_live_of(self.before) if any(sheet.at.base == "last" for sheet in self.file.sheets) else None
        if fresh:
            kept = fetch_sources(self.file, self.folder)
        inputs = read_sources(self.file, self.folder, kept, self.store, last)
        if fresh:
            counted = with_rows(kept, inputs)
            self.folder.note(RoundStep("", "fetched", inputs=counted))
            items = inputs.live.height
            say("fetched", f"{count(len(kept), 'file')}, {items:,} items in live", live=items)
            before = [] if self.before is None else self.before.inputs()
            must_be_believable(self.file.at.limits, counted, before)
            return inputs
        return self._with_live_now(inputs, kept)

    def _with_live_now(self, inputs: RoundInputs, kept: Sequence[KeptInput]) -> RoundInputs:
        """The same files with live as it is now; where it has moved, each sheet has the export as its base that it had,
        or live as it was then.
        """
        for name in changed_since(self.file, kept):
            say("fetched", f"{name} is another file by now; this round goes on with it as it was")
        first = next(entry for entry in kept if entry.role == "live")
        now = fetch_live(self.file, self.folder)
        if now.blake3 == first.blake3:
            return inputs
        was = self._first_live()
        layout = self.store.file.layout if self.store else None
        live = read_kept(self.folder, now, layout)
        others = [entry for entry in kept if entry.role != "live"]
        self.folder.note(RoundStep("", "fetched", inputs=[now, *others]))
        say("fetched", f"live has moved since: {live.height:,} items", live=live.height)
        return self._based_on(was, RoundInputs(live, inputs.sheets, inputs.bases))

    def _first_live(self) -> Catalogue:
        """Live as it was when the round was begun."""
        steps = [step for step in self.folder.steps() if step.step == "fetched"]
        first = next(entry for entry in steps[0].inputs if entry.role == "live")
        return read_kept(self.folder, first, self.store.file.layout if self.store else None)

    def _based_on(self, was: Catalogue, inputs: RoundInputs) -> RoundInputs:
        bases = tuple(
            was if base is None and sheet is not None and sheet.memory is None else base
            for sheet, base in zip(inputs.sheets, inputs.bases, strict=True)
        )
        return RoundInputs(inputs.live, inputs.sheets, bases)

    def _compare(self, inputs: RoundInputs) -> ChangeSet:
        """The change set of the round as its settings are now; kept, where it is another one than before."""
        steps = self.folder.steps()
        lives = [
            entry.blake3 for step in steps if step.step == "fetched" for entry in step.inputs if entry.role == "live"
        ]
        if lives[0] != lives[-1]:  # it went on with another live than it began with
            inputs = self._based_on(self._first_live(), inputs)
        store_path = self.file.store_path
        if self.store is not None and store_path is not None:
            added = {name for sheet in self.file.sheets for name in sheet.asked.add_field} | {
                *self.file.compare.add_field
            }
            must_know_fields(self.store, store_path, [*inputs.live.fields, *added])
        compared = changes_of_round(self.file, self.folder, inputs, self.store, self.today)
        known = [step.file for step in steps if step.step == "compared"]
        name = CHANGES if not known else f"changes-{len(known) + 1}.jsonl"
        write_whole(self.folder.place(name), change_lines(compared))
        changes = read_changes(self.folder.place(name))
        if known and header_of_file(self.folder.place(known[-1])) is not None:
            before = read_changes(self.folder.place(known[-1]))
            if before.digest == changes.digest:
                Path(self.folder.place(name)).unlink()
                return before
        step = self.folder.note(compared_step(changes, name, [sheet.name for sheet in self.file.sheets]))
        counts = step.counts
        say(
            "compared",
            f"{count(counts['cells'], 'cell')} of {count(counts['items'], 'item')} to send, {counts['held']:,} held",
            **counts,
        )
        return changes

    def _note_answers(self, inputs: Sequence[KeptInput]) -> None:
        """Note the answers that came."""
        known = {(entry.name, entry.blake3) for entry in self.folder.inputs("answers")}
        if inputs and {(entry.name, entry.blake3) for entry in inputs} != known:
            self.folder.note(RoundStep("", "answered", inputs=list(inputs)))

    def _wait(self, why: Sequence[str], page: str | None) -> Ended:
        """Wait for a person, who is told for what."""
        summary = self.folder.summary()
        if summary.state != "waits" or summary.why != list(why):
            self.folder.note(RoundStep("", "waits", why=list(why)))
        say("waits", "; ".join(why))
        return Ended(self.folder.summary(), "waits", list(why), waits=True, page=page)

    def _written(self) -> list[RoundStep]:
        return [step for step in self.folder.steps() if step.step == "written"]

    def _write(self, changes: ChangeSet, live: Catalogue, answers: Sequence[object]) -> str:
        """Write the update files, or find them as they were written."""
        name = "out"
        written = self._written()
        if written:  # of another change set, or with other answers: nothing of it was delivered
            name = f"out-{len(written) + 1}"
        shutil.rmtree(self.folder.place(name), ignore_errors=True)  # it was never noted, so nobody has it
        importer = importer_as_asked(self.store.importer if self.store else Importer(), self.file.write)
        rehearse = None
        if self.file.at.rehearse and self.rehearsing is not None:
            rehearse = self.rehearsing(live, importer)
        manifest = write(
            changes, live, importer, self.folder.place(name), answers=answers, store=self.store,  # type: ignore[arg-type]
            store_file=store_file(self.file.store_path), today=self.today, rehearse=rehearse, request=self.file.write,
        )  # fmt: skip
        if written and written[-1].seal == manifest.blake3:
            shutil.rmtree(self.folder.place(name))
            return self.folder.place(written[-1].folder)
        step = self.folder.note(written_step(changes, manifest, name))
        many = count(len(manifest.update), "update file")
        proven = "proven and rehearsed" if rehearse is not None else "proven"
        say("written", f"{many}, {count(step.counts['sent'], 'cell')}, {proven}", **step.counts)
        return self.folder.place(name)

    def _deliver(self, folder: str) -> Ended:
        """Deliver the files to each address that has not got them yet."""
        manifest, to = read_manifest(folder), self.file.at.deliver.to
        held = bool(manifest.held_before or manifest.held)
        if not manifest.update:
            say("done", "nothing to send")
            return Ended(self.folder.summary(), "done" if not held else None, ["nothing to send"], waits=held)
        if not to or self.dry:
            words = f"deliver {folder} by hand" if not to else f"to be delivered to {', '.join(map(self._spelled, to))}"
            say("written", words)
            return Ended(self.folder.summary(), None, [words], waits=held)
        done = {step.to for step in self.folder.steps() if step.step == "delivered" and step.seal == manifest.blake3}
        for address in to:
            spelled_to = self._spelled(address)
            if spelled_to in done:
                continue
            ended = self._deliver_to(folder, manifest, address, spelled_to)
            if ended is not None:
                return ended
        return Ended(self.folder.summary(), "done" if not held else None, [], waits=held)

    def _moved_since(self, folder: str) -> Ended | None:
        """How a round ends that was broken off while it was delivered, where somebody changed since what it sends."""
        changes, kept = read_changes(changes_in(self.folder)), self.folder.inputs("live")[0]
        before = read_kept(self.folder, kept, changes.header.live.layout)
        now = read_kept_later(self.folder, fetch_live(self.file, self.folder), self.store, before, changes.header)
        sent, live = as_sent(changes, read_manifest(folder)), as_live(before, changes.header, self.folder.name)
        seen = confirm_changes(sent, live, now, self.store)
        others = [
            landing.key for landing in seen.trouble if landing.outcome == "differently" and not was_altered(landing)
        ]
        if not others:
            return None
        named = ", ".join(" / ".join(key.values()) for key in others[:3]) + (" and others" if len(others) > 3 else "")
        why = (
            f"{count(len(others), 'change')} of it meet what was changed in the store since ({named}). Look; then "
            f"deliver {folder} by hand, or give the round up"
        )
        self.folder.note(RoundStep("", "delivering", seal=read_manifest(folder).blake3, why=[why]))
        say("failed", why)
        return Ended(self.folder.summary(), "failed", [why], waits=True)

    def _deliver_to(self, folder: str, manifest: Manifest, address: str, spelled_to: str) -> Ended | None:
        place = address if is_address(address) else self.file.place(address)
        self.folder.note(RoundStep("", "delivering", to=spelled_to, seal=manifest.blake3))
        why = None
        if not all_arrived(folder, manifest, place):
            try:
                outcome = deliver(
                    folder, place, delivery=self.store.delivery if self.store else Delivery(),
                    changes=changes_in(self.folder), live=live_in(self.folder), perhaps=self.perhaps,
                )  # fmt: skip
                why = outcome.broken or next(
                    (entry.message for entry in outcome.files if entry.outcome == "refused"), None
                )
                if outcome.differences:
                    why = f"{count(len(outcome.differences), 'cell')} there are not as they were when this was planned"
            except NeatDeltaError as error:
                why = str(error)
        if why is not None:
            say("failed", f"not all of it arrived at {spelled_to}: {why}")
            self.folder.note(RoundStep("", "delivering", to=spelled_to, seal=manifest.blake3, why=[why]))
            return Ended(self.folder.summary(), "failed", [why], waits=True)
        self.folder.note(RoundStep("", "delivered", to=spelled_to, seal=manifest.blake3))
        say("delivered", f"{count(len(manifest.update), 'file')} to {spelled_to}", files=len(manifest.update))
        return None

    def _spelled(self, address: str) -> str:
        return spelled(address if is_address(address) else self.file.place(address))


def _unwritten(manifest: Manifest) -> list[str]:
    """Why a folder is not to be delivered as it is: what the importer cannot take, and what no undo takes back."""
    stops = []
    if manifest.held:
        reasons = dict.fromkeys(entry.reason for entry in manifest.held)
        stops.append(f"{len(manifest.held):,} held, as the importer cannot take them: {'; '.join(reasons)}")
    if manifest.one_way:
        reasons = dict.fromkeys(entry.reason for entry in manifest.one_way)
        stops.append(f"{len(manifest.one_way):,} could not be taken back: {'; '.join(reasons)}")
    return stops


def last_round(ledger: Ledger, name: str, states: frozenset[RoundState] | None = None) -> RoundFolder | None:
    """The last round of a round file, or the last of these states."""
    for folder in reversed(ledger.rounds()):
        summary = folder.summary()
        if summary.by == name and (states is None or summary.state in states):
            return folder
    return None


def sent_round(ledger: Ledger, name: str, *, before: int | None = None) -> RoundFolder | None:
    """The last round of a round file of which something went, or that had nothing to send; or the last `before` the one
    of that number.
    """
    for folder in reversed(ledger.rounds()):
        if before is None or folder.number < before:
            summary = folder.summary()
            if summary.by == name and (summary.delivered or summary.state in {"written", "done"}):
                return folder
    return None


LANDING: frozenset[RoundState] = frozenset({"written", "delivered", "open"})
"""Rounds of which nobody has seen yet that all of it landed."""


def _store_of(file: RoundFile) -> Store | None:
    return None if file.store_path is None else read_store(file.store_path)


def _is_open(file: RoundFile, state: RoundState) -> bool:
    """Whether a round of the file is not over, before it is delivered."""
    return state in BROKEN or state in {"waits", "delivering"} or (state == "written" and bool(file.at.deliver.to))


def run_round(
    file: RoundFile,
    *,
    rehearsing: Rehearsing | None = None,
    today: str | None = None,
    dry: RoundFolder | None = None,
) -> Ended:
    r"""Go through a new round of a round file. OutputError where an earlier one still waits, or was perhaps delivered
    in part: a person has to say what becomes of it first. One that was broken off before anything was delivered is
    over. In the folder `dry` all is done but delivering, and the ledger knows nothing of it.

    >>> from pathlib import Path
    >>> from tempfile import mkdtemp
    >>> from neat_delta import read_round_file
    >>> place = Path(mkdtemp())
    >>> _ = (place / "live.csv").write_text("sku,price\nQA-1,9.90\n")
    >>> _ = (place / "sheet.csv").write_text("sku,price\nQA-1,10.50\n")
    >>> text = 'version = 1\nlive = "live.csv"\n[[sheet]]\nfile = "sheet.csv"\n'
    >>> _ = (place / "weekly.toml").write_text(text)
    >>> file = read_round_file(str(place / "weekly.toml"))
    >>> ended = run_round(file)
    >>> ended.round.state, ended.round.sent
    ('written', 1)
    """
    ledger, today = file.ledger, today or date.today().isoformat()
    if dry is not None:
        before = None
        if ledger.folder.is_dir():
            _must_be_its_rounds(file, ledger)
            before = sent_round(ledger, file.name)
        return RoundRun(file, dry, before, _store_of(file), rehearsing, today, dry=True).go()
    with _at_work(file):
        last = last_round(ledger, file.name)
        summary = None if last is None else last.summary()
        if last is not None and summary is not None and _is_open(file, summary.state):
            if summary.state in {"waits", "delivering"}:
                what = "waits" if summary.state == "waits" else "was broken off while it was delivered"
                why = f": {'; '.join(summary.why)}" if summary.why else ""
                raise OutputError(
                    f"{file.name}: round {last.number} {what}{why}. ‹resume› goes on with it; ‹close› {last.number} "
                    "with ‹because› gives it up."
                )
            last.note(RoundStep("", "failed", why=["broken off before anything was delivered"]))
            say("failed", f"round {last.number} was broken off before anything was delivered; it is over")
        _say_clock(ledger)
        before = sent_round(ledger, file.name)
        folder = ledger.begin(file.name, _place_of(file, ledger))
        say("began", f"round {folder.number} of {file.name} in {folder.path}", round=folder.number)
        ended = RoundRun(file, folder, before, _store_of(file), rehearsing, today).go()
        ledger.drop_old()
        return ended


@contextmanager
def _at_work(file: RoundFile) -> Iterator[None]:
    """While rounds of this file are worked on, by nobody else, and they are its own."""
    with file.ledger.at_work(file.name):
        _must_be_its_rounds(file, file.ledger)
        yield


def _place_of(file: RoundFile, ledger: Ledger) -> str:
    """Where the round file is, from the ledger's folder: that stays so where both are moved."""
    try:
        return PurePath(os.path.relpath(Path(file.path).resolve(), ledger.folder.resolve())).as_posix()
    except ValueError:  # they are on different drives
        return Path(file.path).resolve().as_posix()


def _must_be_its_rounds(file: RoundFile, ledger: Ledger) -> None:
    """OutputError where the rounds of this name are another round file's, so that going on with one would send the
    changes of one shop to another; or where this file began a round under another name that is not over.
    """
    home = ledger.folder.resolve()
    for folder in reversed(ledger.rounds()):
        began = folder.steps()[0]
        place = home / began.round_file
        if not began.round_file or not place.is_file():  # nobody noted it, or it was moved since
            continue
        if not place.samefile(file.path):
            if began.by == file.name:
                raise OutputError(
                    f'{file.path}: round {folder.number} of "{file.name}" was begun by another round file of that '
                    f'name, {place.resolve()}. Give this one a name of its own (name = "…" in it), or its rounds a '
                    "folder of their own (folder)."
                )
        elif began.by == file.name:
            return
        elif _is_open(file, folder.summary().state):
            raise OutputError(
                f'{file.path}: it began round {folder.number} as "{began.by}", which is not over. Call it so again '
                "(name), and go on with that round or give it up first."
            )


def _round_of(file: RoundFile, number: int) -> RoundFolder:
    """The round of this number; OutputError where it is none of this round file."""
    folder = file.ledger.round(number)
    by = folder.summary().by
    if by != file.name:
        raise OutputError(f'Round {number} is of "{by}", and {file.path} is "{file.name}". Say its own number.')
    return folder


def _say_clock(ledger: Ledger) -> None:
    """Say where the clock went back since the last round: days are as it says, the order is that of the numbers."""
    folders = ledger.rounds()
    at = folders[-1].summary().at if folders else ""
    if at > stamp(now()):
        what = f"it says {stamp(now())}, and round {folders[-1].number} began at {at}; rounds go by their numbers"
        say("clock", what)


def resume_round(
    file: RoundFile,
    *,
    rehearsing: Rehearsing | None = None,
    today: str | None = None,
    perhaps: Perhaps = None,
) -> Ended:
    r"""Go on with the last round of a round file, where it waits or was broken off; `perhaps` says what to do with what
    perhaps arrived. OutputError where none does.

    >>> from pathlib import Path
    >>> from tempfile import mkdtemp
    >>> from neat_delta import read_round_file
    >>> place = Path(mkdtemp())
    >>> _ = (place / "live.csv").write_text("sku,price\nQA-1,9.90\n")
    >>> _ = (place / "sheet.csv").write_text("sku,price\nQA-1,10.50\n")
    >>> text = 'version = 1\nlive = "live.csv"\n[[sheet]]\nfile = "sheet.csv"\n'
    >>> _ = (place / "weekly.toml").write_text(text + '[limits]\nmost_items = 0\n')
    >>> file = read_round_file(str(place / "weekly.toml"))
    >>> run_round(file).why
    ['1 item would change, and at most 0 may pass']
    >>> _ = (place / "weekly.toml").write_text(text)
    >>> resume_round(read_round_file(str(place / "weekly.toml"))).round.state
    'written'
    """
    ledger = file.ledger
    with _at_work(file):
        last = last_round(ledger, file.name)
        if last is None or not _is_open(file, last.summary().state):
            state = "there is no round of it yet" if last is None else f"round {last.number} is over, or delivered"
            raise OutputError(f"{file.name}: {state}, so there is nothing to go on with. Run it without ‹resume›.")
        if any(step.step == "undone" for step in last.steps()):
            raise OutputError(
                f"{file.name}: files were written that take round {last.number} back, so no more of it is delivered. "
                f"‹close› {last.number} with ‹because› gives it up."
            )
        before = sent_round(ledger, file.name, before=last.number)
        say("began", f"going on with round {last.number} of {file.name}", round=last.number)
        today = today or date.today().isoformat()
        return RoundRun(file, last, before, _store_of(file), rehearsing, today, perhaps=perhaps).go()


def confirm_round(file: RoundFile, number: int | None = None) -> tuple[Ended, Outcome]:
    r"""Look whether a round landed (the last that was sent, or the one of this number): in the next export, and in the
    store's reports, or in what it answered; and write the sheet of what is to be mended into the round's folder.

    >>> from pathlib import Path
    >>> from tempfile import mkdtemp
    >>> from neat_delta import read_round_file
    >>> place = Path(mkdtemp())
    >>> _ = (place / "live.csv").write_text("sku,price\nQA-1,9.90\n")
    >>> _ = (place / "sheet.csv").write_text("sku,price\nQA-1,10.50\n")
    >>> text = 'version = 1\nlive = "live.csv"\n[[sheet]]\nfile = "sheet.csv"\n'
    >>> _ = (place / "weekly.toml").write_text(text)
    >>> file = read_round_file(str(place / "weekly.toml"))
    >>> _ = run_round(file)
    >>> _ = (place / "live.csv").write_text("sku,price\nQA-1,10.50\n")
    >>> ended, outcome = confirm_round(file)
    >>> ended.round.state, outcome.all_done
    ('done', True)
    """
    ledger = file.ledger
    with _at_work(file):
        folder = _round_of(file, number) if number is not None else None
        if number is None:
            folder = last_round(ledger, file.name, LANDING) or sent_round(ledger, file.name)
        if folder is None:
            raise OutputError(f"{file.name}: no round was sent yet, so there is nothing to look at. Run it first.")
        out, store = sent_in(folder), _store_of(file)
        path, asked = changes_in(folder), file.at.confirm
        kept = RoundRun(file, folder, None, store)
        changes = read_changes(path)
        live = read_kept(folder, folder.inputs("live")[0], changes.header.live.layout)
        named = list(dict.fromkeys([asked.after or file.at.live]))
        after = _keep(file, folder, "after", named[0])
        reports = [_keep(file, folder, "results", name) for name in asked.results]
        say("fetched", f"{after.name}" + (f" and {count(len(reports), 'report')}" if reports else ""))
        seen = read_kept_later(folder, after, store, live, changes.header)
        files = [restored(folder, entry) for entry in reports]
        outcome = _looked(out, seen, files, path, live, store)
        folder.note(confirmed_step(folder, outcome, [after, *reports]))
        why = [] if outcome.all_done else [*_otherwise(outcome), *_mend(kept, outcome, live)]
        counts = folder.steps()[-1].counts
        figures = {name: counts[name] for name in ("landed", "otherwise")}
        away = 0 if outcome.seen is None else outcome.seen.counts.get("taken back", 0)
        rest = f", {away:,} taken back" if away else ""
        say("confirmed", f"{counts['landed']:,} landed, {counts['otherwise']:,} did not{rest}", **figures)
        return Ended(
            folder.summary(), "done" if outcome.all_done else "otherwise", why, waits=not outcome.all_done
        ), outcome


def _keep(file: RoundFile, folder: RoundFolder, role: Literal["after", "results"], name: str) -> KeptInput:
    """Fetch a file that tells of a round, and keep it."""
    if is_address(name):
        source = fetch(name)
        return folder.keep(role, source.address, str(source.path))
    return folder.keep(role, file.place(name), file.place(name))


def _looked(
    out: str, now: Catalogue, reports: Sequence[str], changes: str, live: Catalogue, store: Store | None
) -> Outcome:
    """What became of a round; answers that are no report are left out."""
    answers = kept_answers(out) if not reports else []
    if answers:
        try:
            return confirm(out, now, results=answers, changes=changes, live=live, store=store)
        except (CatalogueError, FileError, StoreError):
            pass
    return confirm(out, now, results=list(reports), changes=changes, live=live, store=store)


def _otherwise(outcome: Outcome) -> list[str]:
    """What landed otherwise than meant, in a few lines."""
    table = outcome.to_frame()
    words = counted(table.filter(table["outcome"] != "landed")["outcome"])
    messages = counted(table["message"].drop_nulls())
    lines = [f"{many:,} {word}" for word, many in words.items()]
    return lines + [
        f'the store said "{message}" ({many:,} times)' for message, many in list(messages.items())[:5] if message
    ]


def _mend(run_: RoundRun, outcome: Outcome, before: Catalogue) -> list[str]:
    """Write the sheet of what is to be mended; what is to be said of it."""
    name = run_.file.at.confirm.mend
    if name is None:
        return []
    changes = read_changes(changes_in(run_.folder))
    sent = as_sent(changes, read_manifest(sent_in(run_.folder)))
    text = not name.lower().endswith(".xlsx")
    layout = Layout(separator="," if text else None, line_end="CRLF", bom=True)
    known = changes.header.store_by_now(run_.store)
    mended = mend_outcome(
        outcome,
        sent,
        as_live(before, changes.header, run_.folder.place(CHANGES)),
        "delimited" if text else "xlsx",
        known,
        layout,
    )
    if isinstance(mended, int):
        return [f"{count(mended, 'removal')} left, which no sheet can say"] if mended else []
    path = run_.folder.place(name)
    contents = {path: mended.file.content}
    if mended.file.base is not None:
        contents[f"{path}.base"] = mended.file.base
    write_new(contents, replace=True)
    return [f"{count(mended.items, 'item')} to be mended in {path}"]


def close_round(file: RoundFile, number: int, because: str) -> RoundSummary:
    r"""Give a round up, for a reason that a person gives; what stands of it by then. OutputError where it is closed.

    >>> from pathlib import Path
    >>> from tempfile import mkdtemp
    >>> from neat_delta import read_round_file
    >>> place = Path(mkdtemp())
    >>> _ = (place / "live.csv").write_text("sku,price\nQA-1,9.90\n")
    >>> _ = (place / "sheet.csv").write_text("sku,price\nQA-1,10.50\n")
    >>> text = 'version = 1\nlive = "live.csv"\n[[sheet]]\nfile = "sheet.csv"\n'
    >>> _ = (place / "weekly.toml").write_text(text)
    >>> file = read_round_file(str(place / "weekly.toml"))
    >>> _ = run_round(file)
    >>> close_round(file, 1, "the list was last year's").state
    'closed'
    """
    with _at_work(file):
        folder = _round_of(file, number)
        if folder.summary().state == "closed":
            raise OutputError(f"Round {number} is closed already. `neat-delta history {number}` says why.")
        folder.note(RoundStep("", "closed", why=[because]))
        return folder.summary()
