"""`neat-delta run`: a round that is set up in a file, from its sources to its delivery, and later its outcome."""

from __future__ import annotations

import contextlib
import signal
import sys
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING, Literal

import click

from neat_delta.cli.common import detail, machine_options, output_options, print_json
from neat_delta.cli.keeping import ROUND
from neat_delta.cli.options import argument, option, verb

if TYPE_CHECKING:
    import logging
    from types import FrameType

    from neat_delta.app.rounds.file import RoundFile
    from neat_delta.app.rounds.run import Ended, Rehearsing
    from neat_delta.files.delivery import Perhaps

__all__ = ["run"]


class _TimeLimitPassed(BaseException):
    """The time that a run may take is over. Nobody catches it on the way, as nobody catches an interrupt."""


@verb(
    epilog="\b\nExamples, on the demo's files:\n  neat-delta run jars.toml --example jars.jsonl\n"
    "  neat-delta run jars.toml --dry-run",
)
@argument("round_file", metavar="FILE")
@option("--resume", "resumed", is_flag=True, help="Go on with the last round, where it waits or was broken off.")
@option(
    "--confirm", "confirmed", is_flag=True, help="See whether the last round landed, and write what is to be mended."
)
@option("--round", "number", type=ROUND, metavar="N", help="With --confirm: round N.  [default: the last]")
@option("--close", "closed", type=ROUND, metavar="N", help='Give round N up, or the "last" one of this file.')
@option("--because", metavar="TEXT", help="With --close: why, for whoever reads the history.")
@option("--print", "printed", is_flag=True, help="Print what would be done, with what, from where; do nothing.")
@option("--dry-run", "dry", is_flag=True, help="Do all but deliver, and leave no trace.")
@option("--example", metavar="FROM", help="Write FILE as a draft from an earlier change set, or a folder of `write`.")
@option("--again", is_flag=True, help="With --resume: deliver what perhaps arrived once more.")
@option("--arrived", is_flag=True, help="With --resume: what perhaps arrived did; go on after it.")
@option("--log", "log", metavar="FILE", help="Append a line of JSON a step to FILE.")
@machine_options
@output_options
def run(
    round_file: str,
    resumed: bool,
    confirmed: bool,
    number: int | str | None,
    closed: int | str | None,
    because: str | None,
    printed: bool,
    dry: bool,
    example: str | None,
    again: bool,
    arrived: bool,
    log: str | None,
    as_json: bool,
) -> int:
    """Go through the round that FILE sets up: fetch, compare, sign off, write, deliver, each noted in its ledger.

    A round stops before it is delivered when something is held, when more changes than [limits] let pass, when a source
    is old, empty or the same as the last time, or until it is signed off; then it waits, and --resume goes on. Exit
    status 1 when something waits or did not arrive.
    """
    _must_be_one_wish(
        resumed=resumed,
        confirm=confirmed,
        close=closed is not None,
        print=printed,
        dry_run=dry,
        example=example is not None,
    )
    if again and arrived:
        raise click.UsageError("--again and --arrived are opposites; choose one of them.")
    if (again or arrived) and not resumed:
        raise click.UsageError("--again and --arrived go with --resume.")
    if (closed is None) != (because is None):
        raise click.UsageError("A round is given up for a reason. Say both, --close N and --because TEXT.")
    if number is not None and not confirmed:
        raise click.UsageError("--round goes with --confirm.")
    if example is not None:
        return _draft(example, round_file)

    from neat_delta.app.rounds.file import read_round_file

    file = read_round_file(round_file)
    if printed:
        return _print_plan(file, as_json=as_json)
    if closed is not None:
        return _close(file, closed, str(because), as_json=as_json)
    perhaps: Perhaps = "again" if again else "arrived" if arrived else None
    with _logging(log), _stopping(file):
        chosen = None if isinstance(number, str) else number
        ended = _go(file, resumed=resumed, confirmed=confirmed, number=chosen, dry=dry, perhaps=perhaps)
        wrong = [] if dry else _tell(file, ended)
    if as_json:
        from neat_delta.app.outputs import RunOutput

        print_json(
            RunOutput(
                file=file.path, round=ended.round, event=ended.event, why=ended.why, page=ended.page, untold=wrong
            )
        )
    else:
        _print(file, ended, wrong, dry=dry)
    return 1 if ended.waits or wrong else 0


def _must_be_one_wish(**wishes: bool) -> None:
    wanted = ["--" + name.replace("_", "-").replace("resumed", "resume") for name, wish in wishes.items() if wish]
    if len(wanted) > 1:
        raise click.UsageError(f"{' and '.join(wanted)} are different wishes; choose one of them.")


def _go(file: RoundFile, *, resumed: bool, confirmed: bool, number: int | None, dry: bool, perhaps: Perhaps) -> Ended:
    """Run, go on, or look whether it landed; what went wrong is told of, too."""
    from neat_delta.app.rounds.run import confirm_round, resume_round, run_round
    from neat_delta.core.base.support.errors import NeatDeltaError
    from neat_delta.files.ledger.ledger import AtWorkError

    try:
        if confirmed:
            return confirm_round(file, number)[0]
        if resumed:
            return resume_round(file, rehearsing=_rehearsing(), perhaps=perhaps)
        if not dry:
            return run_round(file, rehearsing=_rehearsing())
    except AtWorkError:  # it is no failure of the round that somebody works on
        raise
    except NeatDeltaError as error:
        _tell_failure(file, str(error))
        raise
    with tempfile.TemporaryDirectory(prefix="neat-delta-") as place:
        from neat_delta.files.ledger.folder import RoundFolder

        folders = file.ledger.rounds() if file.ledger.folder.is_dir() else []
        folder = RoundFolder.begin(Path(place), folders[-1].number + 1 if folders else 1, file.name)
        return run_round(file, rehearsing=_rehearsing(), dry=folder)


def _rehearsing() -> Rehearsing:
    from neat_delta.practice.rehearse import rehearsal

    return lambda live, importer: lambda changes: rehearsal(changes, live, importer)


def _tell(file: RoundFile, ended: Ended) -> list[str]:
    from neat_delta.app.rounds.tell import tell
    from neat_delta.files.storefile import read_store

    return tell(file, ended, read_store(file.store_path).name if file.store_path else None)


def _tell_failure(file: RoundFile, why: str) -> None:
    """Tell of a run that could not be made, as far as there is a round to tell of."""
    from neat_delta.app.rounds.run import Ended, last_round
    from neat_delta.core.base.support.errors import NeatDeltaError
    from neat_delta.report.settings import as_options

    with contextlib.suppress(NeatDeltaError, OSError):
        last = last_round(file.ledger, file.name)
        if last is not None:
            event: Literal["waits", "failed"] = "waits" if last.summary().state == "waits" else "failed"
            for line in _tell(file, Ended(last.summary(), event, [as_options(why)], waits=True)):
                click.echo(as_options(line), err=True)


@contextmanager
def _stopping(file: RoundFile) -> Iterator[None]:
    """End when the time that a run may take is over."""
    from neat_delta.app.forms import seconds_of

    def late(number: int, frame: FrameType | None) -> None:
        del number, frame
        raise _TimeLimitPassed

    limit = file.at.time_limit
    before = signal.signal(signal.SIGALRM, late)
    signal.setitimer(signal.ITIMER_REAL, 0 if limit is None else seconds_of(limit))
    try:
        yield
    except _TimeLimitPassed:
        from neat_delta.core.base.support.errors import OutputError

        why = f"it took longer than time_limit allows ({limit}). What was done is noted: ‹resume› goes on from there."
        _tell_failure(file, why)
        raise OutputError(f"{file.path}: {why}") from None
    finally:
        signal.setitimer(signal.ITIMER_REAL, 0)
        signal.signal(signal.SIGALRM, before)


@contextmanager
def _logging(path: str | None) -> Iterator[None]:
    """Say each step on standard error, with the time, and in the log that was asked for."""
    import logging

    from neat_delta.files.logs import LOG, logged
    from neat_delta.report.settings import as_options
    from neat_delta.report.text import UNSAFE

    class Lines(logging.Formatter):
        def format(self, record: logging.LogRecord) -> str:
            message = as_options(record.getMessage()).translate(UNSAFE)
            return f"{self.formatTime(record, '%H:%M:%S')} {getattr(record, 'step', '')}: {message}"

    handler: logging.Handler = logging.StreamHandler(sys.stderr)
    handler.setFormatter(Lines())
    if detail() != "waiting":
        LOG.addHandler(handler)
    LOG.setLevel(logging.INFO)
    LOG.propagate = False
    try:
        with contextlib.nullcontext() if path is None else logged(path):
            yield
    finally:
        LOG.removeHandler(handler)


def _print(file: RoundFile, ended: Ended, wrong: list[str], *, dry: bool) -> None:
    """Say how a run ended, to a person."""
    from neat_delta.app.rounds.tell import next_step
    from neat_delta.report.history import STATES
    from neat_delta.report.settings import as_options
    from neat_delta.report.text import count

    round_ = ended.round
    if dry:
        click.echo(f"A dry run of {file.name}: nothing was delivered, and nothing is kept.")
    words = {"waits": "waits for you", "failed": "failed", "otherwise": "landed otherwise than meant"}
    how = words.get(str(ended.event), STATES[round_.state])
    sent = count(round_.sent or round_.cells, "cell")
    click.echo(
        f"Round {round_.number} of {file.name} {how}: {sent} of {count(round_.items, 'item')}, {round_.held:,} held."
    )
    for line in ended.why:
        click.echo(f"  {as_options(line)}")
    if ended.page is not None and not dry:
        click.echo(f"  the page to answer: {ended.page}")
    for line in wrong:
        click.echo(as_options(line), err=True)
    if not dry:
        click.echo(next_step(file, ended))


def _close(file: RoundFile, number: int | str, because: str, *, as_json: bool) -> int:
    from neat_delta.app.rounds.run import close_round, last_round
    from neat_delta.core.base.support.errors import OutputError

    if isinstance(number, str):
        last = last_round(file.ledger, file.name)
        if last is None:
            raise OutputError(f"{file.name}: there is no round of it yet. Run it first.")
        number = last.number
    closed = close_round(file, number, because)
    if as_json:
        from neat_delta.app.outputs import RunOutput

        print_json(RunOutput(file=file.path, round=closed, event=None, why=closed.why, page=None))
    else:
        click.echo(f"Round {number} of {file.name} is given up: {because}")
    return 0


def _print_plan(file: RoundFile, *, as_json: bool) -> int:
    """Say what would be done, with what, from where."""
    from neat_delta.app.rounds.plan import plan_of

    lines = plan_of(file)
    if as_json:
        from neat_delta.app.outputs import RunPlanOutput

        print_json(RunPlanOutput(file=file.path, steps=lines))
        return 0
    for step in lines:
        click.echo(f"{step.step}: {step.what}")
        for line in step.with_:
            click.echo(f"  {line}")
    return 0


def _draft(source: str, path: str) -> int:
    """Write a draft of a round file."""
    from neat_delta.app.rounds.draft import draft_round_file
    from neat_delta.files.whole import write_new

    write_new({path: draft_round_file(source, path).encode()}, otherwise="name another file for the draft.")
    click.echo(
        f"Wrote {path}, a draft of a round file from {source}. Read it through; then: neat-delta run {path} --print"
    )
    return 0
