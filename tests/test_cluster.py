"""Workers of other processes: whoever works on the pieces of a round, in whatever order and however often, it comes to
the same bytes; and where they cannot, to one plain line, and nothing is handed over.
"""

from __future__ import annotations

import json
import os
import pickle
import platform
import random
import re
import signal
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Generator, Iterable, Iterator
from contextlib import contextmanager, suppress
from itertools import islice
from pathlib import Path
from typing import Any, NamedTuple
from unittest import mock

import psutil
import pytest
from distributed import Client
from hypothesis import strategies as st

import neat_delta
from neat_delta import NeatDeltaError
from neat_delta.app import cluster
from neat_delta.app.cluster import Program, scheduler_address, workers
from neat_delta.core.base.support import sizes
from neat_delta.core.base.support.workers import THREADS, engaged, engaging
from neat_delta.files.scratch import Scratch, remove, scratch_at, scratch_in, taken
from tests.conftest import (
    LENGTH,
    PROGRAM,
    campaign,
    environment,
    in_a_process,
    in_this_process,
    in_two_lengths,
    started,
)
from tests.oracle import rounds
from tests.test_records import by_records_of, written

PIECES = st.sampled_from([1, 64, 1 << 20])


class OtherProcesses:
    """Stand-ins for workers: they have nothing but what is pickled, or lies in a scratch folder; they work on a few
    pieces at a time, the last first, and on some of them twice.
    """

    count, elsewhere = 3, True

    def __init__(self, folder: Path, seed: int) -> None:
        self.rng, self.scratch, self.worked_on = random.Random(seed), Scratch(str(folder)), 0

    def submit(self, work: Callable[[], Any]) -> Callable[[], Any]:
        """Begin with some work."""
        result: Callable[[], Any] = pickle.loads(pickle.dumps(work))
        return result

    def map(self, work: Any, pieces: Iterable[Any], name: Callable[[Any], str] | None = None) -> Generator[Any]:
        """What becomes of each piece."""
        left = iter(pieces)
        while some := list(islice(left, self.count)):
            assert name is None or all(re.search(r"\.csv, (bytes|rows) \d", name(piece)) for piece in some)
            handed = [pickle.dumps((work, self.scratch.put(piece))) for piece in some]
            order = self.rng.sample(range(len(some)), len(some))
            order += [number for number in order if self.rng.random() < 0.1]
            results = {number: self._worked_on(handed[number]) for number in order}
            for number in range(len(some)):
                yield taken(pickle.loads(results[number]))
                remove(pickle.loads(results[number]))

    def _worked_on(self, handed: bytes) -> bytes:
        self.worked_on += 1
        work, piece = pickle.loads(handed)
        with engaging(THREADS):  # it has no others
            return pickle.dumps(self.scratch.put(work(taken(piece))))


@contextmanager
def pieces_elsewhere(folder: Path, piece: int, seed: int) -> Iterator[OtherProcesses]:
    """Small files in pieces of so many bytes, worked on elsewhere; a few rows are joined elsewhere, too."""
    others = OtherProcesses(folder, seed)
    switches = {"BYTES_OF_A_WORKERS_PIECE": piece, "BYTES_WORTH_A_FILE": 1, "ROWS_JOINED_IN_MEMORY": 0,
                "ROWS_JOINED_BY_A_WORKER": 2, "ROWS_JOINED_BY_HASH": 0}  # fmt: skip
    with by_records_of(piece, rows=others.rng.choice([1, 8])), mock.patch.dict(vars(sizes), switches), engaging(others):
        yield others


def chain(folder: Path, files: dict[str, str]) -> list[object]:
    """What becomes of a round: the change set, the update files, what landed of them and what takes it back; or what is
    wrong.
    """
    for name, text in files.items():
        (folder / name).write_text(text, encoding="utf-8", newline="")
    outcomes = list[object]()
    try:
        base = folder / "base.csv" if "base.csv" in files else None
        changes = neat_delta.compare(folder / "live.csv", folder / "sheet.csv", key="sku", base=base)
        changes.save(folder / "changes.jsonl")
        outcomes.append((folder / "changes.jsonl").read_bytes())
        changes.plan(neat_delta.Importer("skip")).write(folder / "out", replace=True)
        names = [path.name for path in sorted((folder / "out").iterdir()) if path.name != "manifest.json"]
        outcomes.append({name: (folder / "out" / name).read_bytes() for name in names})
        confirmed = neat_delta.confirm(folder / "out", folder / "after.csv")
        outcomes.append(confirmed.to_frame().to_dict(as_series=False))
    except NeatDeltaError as error:
        outcomes.append(str(error))
    return outcomes


@in_two_lengths(rounds(), PIECES, st.integers(0, 2**32), few=12, many=150)
def test_whoever_works_on_the_pieces_a_round_comes_to_the_same(tables, piece, seed):
    """Two sides and three, in whatever order the pieces are done, some twice; each as small as one item."""
    rng, folder = random.Random(seed), Path(tempfile.mkdtemp(dir=os.environ["PYTEST_FOLDER"]))
    fields, rows = tables[0]
    key = fields.index("sku")
    edited, after, base = (
        [[cell if n == key or rng.random() < 0.7 else other for n, cell in enumerate(row)] for row in rows]
        for other in ("7.50", "8.50", "old")
    )
    rng.shuffle(edited)
    edited += rng.sample(edited, min(len(edited), rng.choice([0, 0, 1])))
    texts = {"live.csv": rows, "sheet.csv": edited, "after.csv": after}
    texts |= {"base.csv": base} if rng.random() < 0.3 else {}
    files = {name: written((fields, of)) for name, of in texts.items()}
    alone = chain(folder, files)
    with scratch_in(str(folder)) as scratch, pieces_elsewhere(Path(scratch.folder), piece, seed) as others:
        assert chain(folder, files) == alone
    assert others.worked_on or piece > 64 or len(alone) == 1


@pytest.fixture(autouse=True)
def folder(tmp_path, monkeypatch):
    monkeypatch.setenv("PYTEST_FOLDER", str(tmp_path))


HEADINGS = ["sku", "name", "price", "stock"]
LIVE = written((HEADINGS, [[f"QA-{n}", f"Frame, {n} mm", f"{n}.90", str(n % 7)] for n in range(60)]))
SHEET = LIVE.replace("7.90", "8.20").replace("QA-11,", "QA-99,")


class Machines(NamedTuple):
    """A scheduler and its workers: where it is, and the folder that says what goes wrong."""

    address: str
    faults: Path

    def after(self, *orders: str) -> None:
        """These faults and no others."""
        for before in self.faults.iterdir():
            before.unlink(missing_ok=True)
        for name in orders:
            (self.faults / name).touch()


def service(*words: str, **settings: str) -> subprocess.Popen[bytes]:
    """A scheduler or a worker, as its own command begins it, with this repository's tests at hand."""
    path = os.pathsep.join([str(Path(__file__).parents[1]), *filter(None, [os.environ.get("PYTHONPATH")])])
    return subprocess.Popen(
        [sys.executable, "-m", *words],
        env=environment(PYTHONPATH=path, DASK_LOGGING__DISTRIBUTED="critical", **settings),
        stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, start_new_session=True,
    )  # fmt: skip


@contextmanager
def cluster_of(folder: Path, many: int, **settings: str) -> Iterator[tuple[Machines, list[subprocess.Popen[bytes]]]]:
    """A real scheduler and so many worker processes, on loopback."""
    (folder / "faults").mkdir()
    scheduler = service("distributed.cli.dask_scheduler", "--host", "127.0.0.1", "--port", "0", "--no-dashboard",
                        "--dashboard-address", "127.0.0.1:0", "--scheduler-file", str(folder / "scheduler.json"),
                        DASK_DISTRIBUTED__SCHEDULER__ALLOWED_FAILURES="1")  # fmt: skip
    running = [scheduler]
    try:
        running.append(service(
            "distributed.cli.dask_worker", "--scheduler-file", str(folder / "scheduler.json"), "--nworkers", str(many),
            "--nthreads", "1", "--no-dashboard", "--preload", "tests.faults", "--local-directory", str(folder),
            NEAT_DELTA_FAULTS=str(folder / "faults"), POLARS_MAX_THREADS="1", **settings,
        ))  # fmt: skip
        end = time.monotonic() + 60
        while not (folder / "scheduler.json").exists():
            assert time.monotonic() < end, "the scheduler did not begin"
            time.sleep(0.1)
        address = json.loads((folder / "scheduler.json").read_text())["address"]
        with Client(address, timeout=60, set_as_default=False) as client:
            client.wait_for_workers(many, timeout=120)
        yield Machines(address, folder / "faults"), running
    finally:
        for process in running:
            os.killpg(process.pid, signal.SIGKILL)
            process.wait()


@pytest.fixture(scope="module")
def machines(tmp_path_factory):
    with cluster_of(tmp_path_factory.mktemp("cluster"), 3) as (machines, _):
        yield machines


@pytest.fixture
def shop(tmp_path):
    for name, text in (("live.csv", LIVE), ("sheet.csv", SHEET)):
        (tmp_path / name).write_text(text)
    assert in_this_process(tmp_path, "compare", "live.csv", "sheet.csv", "-o", "alone.jsonl").returncode == 1
    return tmp_path


def together(folder: Path, *words: str) -> subprocess.CompletedProcess[str]:
    """Compare the shop's files in pieces of some rows, by others."""
    (folder / "together.jsonl").unlink(missing_ok=True)
    (folder / "scratch").mkdir(exist_ok=True)
    switches = {"BYTES_OF_A_WORKERS_PIECE": 300, "BYTES_WORTH_A_FILE": 1}
    with by_records_of(300), mock.patch.dict(vars(sizes), switches):
        call = ("compare", "live.csv", "sheet.csv", "-o", "together.jsonl", "--scratch", "scratch")
        return in_this_process(folder, *call, *words)


def must_be_as_alone(folder: Path, done: subprocess.CompletedProcess[str]) -> None:
    """The same bytes, and nothing left over."""
    assert done.returncode == 1, done.stderr  # a gap among the codes, and what is new, wait for a person
    assert (folder / "together.jsonl").read_bytes() == (folder / "alone.jsonl").read_bytes()
    assert not [*(folder / "scratch").iterdir()]


def must_be_nothing(folder: Path, done: subprocess.CompletedProcess[str], *words: str) -> None:
    """One plain line, nothing handed over, nothing left over."""
    assert done.returncode == 2
    assert not (folder / "together.jsonl").exists()
    lines = [line for line in done.stderr.splitlines() if not line.startswith("workers ")]
    assert len(lines) == 1 and lines[0].startswith("Error: "), done.stderr
    assert all(word in lines[0] for word in words), done.stderr
    assert not [*(folder / "scratch").iterdir()]


DEATHS = [pytest.param(seed, marks=() if seed < 3 else campaign) for seed in range(12 * LENGTH)]


@pytest.mark.parametrize("number", DEATHS)
def test_a_worker_that_dies_at_any_moment_is_made_up_for(machines, shop, number):
    machines.after(f"die-{random.Random(number).randrange(25)}")
    done = together(shop, "--cluster", machines.address)
    must_be_as_alone(shop, done)
    assert re.search(r"^workers [123] at tcp://127\.0\.0\.1:\d+; watch them at http://", done.stderr, re.MULTILINE)


@pytest.mark.parametrize("faults", [["fail-0"], ["fail-20"], ["every-wait"]], ids=" ".join)
def test_storage_that_fails_once_or_is_slow_changes_nothing(machines, shop, faults):
    machines.after(*faults)
    must_be_as_alone(shop, together(shop, "--cluster", machines.address))


def test_what_no_worker_can_do_ends_in_one_line_and_nothing_is_handed_over(machines, shop):
    machines.after("every-fail")
    must_be_nothing(
        shop, together(shop, "--cluster", machines.address), "live.csv: it cannot be read", "On the worker tcp"
    )
    machines.after("every-die")
    died = together(shop, "--cluster", machines.address)
    must_be_nothing(shop, died, "2 workers that were at it died", "Nothing was handed over")
    assert re.search(r"live\.csv(, bytes 0 to \d+)?: 2 workers", died.stderr)
    machines.after()
    must_be_as_alone(shop, together(shop, "--cluster", machines.address))


def test_workers_with_another_program_are_refused_by_name(tmp_path_factory, shop):
    with cluster_of(tmp_path_factory.mktemp("other"), 1, NEAT_DELTA_OTHER_VERSION="0.0.7") as (machines, _):
        done = together(shop, "--cluster", machines.address)
        must_be_nothing(
            shop, done, f"it has Neat Delta 0.0.7, and {neat_delta.__version__} is here", "the worker tcp://"
        )


@campaign
@pytest.mark.parametrize("gone", ["the scheduler", "the workers"])
def test_what_goes_away_ends_the_command_in_one_line(tmp_path_factory, shop, gone, monkeypatch):
    monkeypatch.setattr(cluster, "SECONDS_WITHOUT_WORKERS", 3.0)
    with cluster_of(tmp_path_factory.mktemp("gone"), 1) as (machines, running):
        machines.after("every-wait")
        said = cluster.Cluster._must_fit

        def and_gone(self: cluster.Cluster, client: Any) -> None:
            said(self, client)
            os.killpg(running[gone == "the workers"].pid, signal.SIGKILL)

        monkeypatch.setattr(cluster.Cluster, "_must_fit", and_gone)
        must_be_nothing(shop, together(shop, "--cluster", machines.address), "are gone", "Nothing was handed over")


def test_who_cannot_be_reached_is_said(shop, monkeypatch):
    monkeypatch.setattr(cluster, "SECONDS_TO_CONNECT", 0.5)
    done = together(shop, "--cluster", "tcp://127.0.0.1:9")
    must_be_nothing(shop, done, "the scheduler at tcp://127.0.0.1:9 does not answer", "Without --cluster this machine")


@pytest.mark.process
def test_processes_of_this_machine_come_to_the_same_and_leave_nothing(shop):
    """The installed program, on files that are long enough by themselves."""
    rows = [[f"QA-{n}", f"Frame, {n} mm, {'of lime ' * 60}", f"{n}.90", str(n % 7)] for n in range(10_000)]
    (shop / "live.csv").write_text(written((HEADINGS, rows)))
    rows[7][2], rows[9][3] = "8.20", "40"
    (shop / "sheet.csv").write_text(written((HEADINGS, rows[::-1])))
    (shop / "tmp").mkdir()
    call = ("compare", "live.csv", "sheet.csv", "-o")
    done = in_a_process(shop, *call, "together.jsonl", "--workers", "2", TMPDIR=str(shop / "tmp"))
    assert (done.returncode, done.stderr) == (0, "workers 2 on this machine\n")
    assert in_a_process(shop, *call, "alone.jsonl").stdout.replace("alone", "together") == done.stdout
    assert (shop / "together.jsonl").read_bytes() == (shop / "alone.jsonl").read_bytes()
    assert not [*(shop / "tmp").rglob("*")]


@pytest.mark.process
def test_who_stops_the_program_stops_its_workers_and_sees_one_line(shop):
    """Ctrl-C reaches all processes of a terminal."""
    (shop / "tmp").mkdir()
    rows = [[f"QA-{n}", f"Frame, {n} mm, {'of lime ' * 60}", f"{n}.90", str(n % 7)] for n in range(40_000)]
    for name in ("live.csv", "sheet.csv"):
        (shop / name).write_text(written((HEADINGS, rows)))
    call: list[str | Path] = [PROGRAM, "compare", "live.csv", "sheet.csv", "-o", "together.jsonl", "--workers", "2"]
    running = started(call, cwd=shop, env=environment(TMPDIR=str(shop / "tmp")), stderr=subprocess.PIPE,
                      stdout=subprocess.DEVNULL, start_new_session=True)  # fmt: skip
    assert running.stderr is not None
    assert running.stderr.readline() == "workers 2 on this machine\n"
    os.killpg(running.pid, signal.SIGINT)
    lines = running.communicate(timeout=60)[1]
    assert (running.returncode, lines) == (130, "Stopped. Nothing is half written, and no input was changed.\n")
    assert not (shop / "together.jsonl").exists() and not [*(shop / "tmp").iterdir()]
    end = time.monotonic() + 30
    while any("spawn_main" in " ".join(words) for words in commands_of(running.pid)):
        assert time.monotonic() < end, "workers are left"
        time.sleep(0.1)


def commands_of(session: int) -> list[list[str]]:
    """The commands of all processes that a program began, as it began a session."""
    commands = []
    for process in psutil.process_iter():
        with suppress(psutil.Error, ProcessLookupError):
            if os.getsid(process.pid) == session:
                commands.append(process.cmdline())
    return commands


def test_what_a_program_that_was_killed_left_in_a_scratch_folder_goes(tmp_path):
    gone = subprocess.Popen([sys.executable, "-c", ""])
    gone.wait()
    prefix = f"neat-delta-scratch-{platform.node()}-"
    kept = [f"{prefix}{os.getpid()}-x", "neat-delta-scratch-another-1-x", f"{prefix}x-y", "live.csv"]
    for name in (*kept, f"{prefix}{gone.pid}-x"):
        (tmp_path / name).mkdir()
    with scratch_in(str(tmp_path)) as scratch:
        assert {path.name for path in tmp_path.iterdir()} == {*kept, Path(scratch.folder).name}
    assert {path.name for path in tmp_path.iterdir()} == {*kept}


@pytest.mark.parametrize(
    ("words", "message"),
    [
        (["--workers", "0"], "0 is not in the range x>=1"),
        (["--cluster", "scheduler:8786"], "'scheduler:8786' is no address of a scheduler; one is tcp://scheduler:8786"),
        (["--workers", "2", "--cluster", "tcp://one:8786"], "--workers are of this machine, --cluster has others"),
    ],
)
def test_what_engages_nobody_is_an_error_of_the_call(shop, words, message):
    done = together(shop, *words)
    assert done.returncode == 2 and message in done.stderr


def test_without_dask_it_is_said_what_to_install(shop, monkeypatch):
    monkeypatch.setattr(cluster, "find_spec", lambda name: None)
    must_be_nothing(shop, together(shop, "--workers", "2"), "pip install 'neat-delta[cluster]'")


def test_a_scratch_folder_that_takes_nothing_is_an_error_that_names_it(shop):
    done = in_this_process(shop, "compare", "live.csv", "sheet.csv", "--workers", "1", "--scratch", "nowhere")
    assert done.returncode == 1  # of short files nothing is laid anywhere
    with by_records_of(300):
        done = in_this_process(shop, "compare", "live.csv", "sheet.csv", "--workers", "1", "--scratch", "nowhere")
    assert done.returncode == 2 and "nowhere: no scratch folder can be made there" in done.stderr


@pytest.mark.parametrize("other", ["neat_delta", "polars", "hashes"])
def test_a_program_is_another_by_what_decides_what_it_comes_to(other):
    here = Program.here()
    assert here.difference(here) is None
    otherwise: dict[str, Any] = {other: 1 if other == "hashes" else "0.0.7"}
    another = here._replace(**otherwise)
    assert ("0.0.7" in str(here.difference(another))) == (other != "hashes")
    assert here.difference(another) is not None


def test_the_library_engages_them_as_the_command_line_does(shop, machines):
    machines.after()
    with by_records_of(300), workers(machines.address, print), scratch_at(str(shop)):
        changes = neat_delta.compare(shop / "live.csv", shop / "sheet.csv")
        assert engaged().elsewhere and engaged().count == 3
    assert len(changes) == len(neat_delta.compare(shop / "live.csv", shop / "sheet.csv")) and not engaged().elsewhere
    for wrong in (0, "scheduler"):
        with pytest.raises(ValueError, match=r"no number of workers|no address of a scheduler"), workers(wrong):
            pass
    assert scheduler_address(" tls://scheduler:8786 ") == "tls://scheduler:8786"
