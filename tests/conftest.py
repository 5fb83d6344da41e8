"""What the tests share: the installed program, run for real, and the demo store's files."""

from __future__ import annotations

import functools
import gc
import inspect
import io
import itertools
import json
import os
import random
import signal
import subprocess
import sys
import time
from collections.abc import Callable, Iterable, Iterator, Sequence
from contextlib import AbstractContextManager, ExitStack, contextmanager, nullcontext
from importlib.resources import files
from pathlib import Path
from typing import Any
from unittest import mock

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from jsonschema import Draft202012Validator
from tools.pictures import MONDAY

from neat_delta.core.base.support import sizes
from neat_delta.files.footprint import memory_at_most
from neat_delta.report.settings import NAMED
from tests import generate

settings.register_profile(
    "default", deadline=None, suppress_health_check=[HealthCheck.too_slow, HealthCheck.function_scoped_fixture]
)
settings.load_profile("default")


def pytest_collection_finish() -> None:
    """What is there when the tests begin stays, and need not be looked through for garbage again and again."""
    gc.collect()
    gc.freeze()
    gc.set_threshold(100_000, 50, 1000)


@pytest.hookimpl(optionalhook=True)
def pytest_xdist_make_scheduler(config: pytest.Config, log: object) -> object:
    """Each worker goes through files of its own, so that what a file makes once is made once, and takes from the other
    when it is done, so that none waits for a long test at the end.
    """
    from xdist.scheduler import WorkStealingScheduling

    return WorkStealingScheduling(config, log)


AS_OF_MANY = {name: 1 for name, value in vars(sizes).items() if isinstance(value, int)}
AS_OF_MANY |= {"ROWS_OF_A_SORT": 0, "CELLS_REMEMBERED": -1, "BYTES_OF_A_BLOCK": 7, "CELLS_COMPARED_AT_ONCE": 0}
AS_OF_MANY |= {
    "BYTES_OF_A_PIECE": 997,
    "BYTES_SCANNED_AT_ONCE": 499,
    "RECORDS_AT_A_GLANCE": 1 << 30,
    "BYTES_A_QUOTE": 0,
    "ROWS_COMPARED_AT_ONCE": 5,
}
"""Every switch at a size as if a few were very many; 0 and less where else nothing is the other way."""


signal.signal(signal.SIGINT, signal.default_int_handler)  # a shell ignores it for what it starts in the background


@contextmanager
def many_rows() -> Iterator[None]:
    """As if a few rows were very many."""
    with mock.patch.dict(vars(sizes), AS_OF_MANY):
        yield


@contextmanager
def many_rows_and_no_memory() -> Iterator[None]:
    """As if a few rows were very many, of which only some columns could be in memory."""
    with many_rows(), memory_at_most(1):
        yield


WAYS: dict[str, Callable[[], AbstractContextManager[None]]] = {
    "few": nullcontext,
    "many": many_rows,
    "many, and no memory": many_rows_and_no_memory,
}
"""As what a law takes the rows that are drawn for it."""

campaign = pytest.mark.campaign
LENGTH = int(os.environ.get("NEAT_DELTA_LENGTH", "1"))
"""How many times as long as in `.ci/run` the campaign is: `NEAT_DELTA_LENGTH=10 pytest -m campaign` for a night."""

COUNTED: dict[str, int] = {}
"""How often each campaign test was asked, by its name."""


def in_two_lengths(*strategies: st.SearchStrategy, few: int, many: int, **how: object) -> Callable[..., Callable]:
    """A property test of `few` examples, and beside it, under its name and `_at_length`, the campaign's of `many`,
    which fails where hypothesis stops short of them, and is `LENGTH` times as long. Each takes two of three examples as
    if a few rows were very many, one of them as if there were no memory for them, so that it goes every way that a size
    decides; it is drawn last.
    """
    drawn_with_size = (*strategies, st.sampled_from([*WAYS]))

    def make(law: Callable) -> Callable:
        @functools.wraps(law)
        def test(*values: object, **named: object) -> None:
            *drawn, size = values
            with WAYS[str(size)]():
                law(*drawn, **named)

        signature = inspect.signature(law)
        last = inspect.Parameter("size", inspect.Parameter.POSITIONAL_OR_KEYWORD)
        test.__signature__ = signature.replace(parameters=[*signature.parameters.values(), last])  # type: ignore[attr-defined]

        def length(examples: int) -> Callable:
            return settings(max_examples=examples, **how)(given(*drawn_with_size)(test))  # type: ignore[arg-type]

        @functools.wraps(test)
        def counted(*values: object, **named: object) -> None:
            COUNTED[test.__name__] = COUNTED.get(test.__name__, 0) + 1
            test(*values, **named)

        long = settings(max_examples=many * LENGTH, **how)(given(*drawn_with_size)(counted))  # type: ignore[arg-type]
        long.examples = (test.__name__, many * LENGTH)  # type: ignore[attr-defined]
        sys.modules[test.__module__].__dict__[f"{test.__name__}_at_length"] = campaign(long)
        return length(few)

    return make


@pytest.fixture(autouse=True)
def every_second_seed_of_many(request: pytest.FixtureRequest) -> Iterator[None]:
    """Rounds that are drawn by a seed are taken as if they were of very many rows, every second one."""
    seed = getattr(request.node, "callspec", None) and request.node.callspec.params.get("seed")
    with many_rows() if isinstance(seed, int) and seed % 2 else nullcontext():
        yield


@pytest.fixture(autouse=True)
def complete(request: pytest.FixtureRequest) -> Iterator[None]:
    """A campaign test that stops short of its count fails."""
    yield
    name, many = getattr(request.function, "examples", (None, 0))
    if name is not None:
        assert COUNTED.pop(name, 0) >= many


def first_of(cases: Iterable[object], few: int) -> list[object]:
    """Cases of which the first few are run by default, and all by the campaign."""
    return [pytest.param(case, marks=() if n < few else campaign) for n, case in enumerate(cases)]


def some_of(cases: Sequence[object], many: int) -> Sequence[object]:
    """So many of the cases, evenly spread; `LENGTH` times as many, up to all, in a longer campaign."""
    return cases[:: max(1, len(cases) // (many * LENGTH))]


def each_of(step: int, cases: Iterable[object]) -> list[object]:
    """Cases of which the first and every `step`-th after it are run by default, and all by the campaign."""
    chosen, number = list[object](), 0
    for case in cases:
        is_param = isinstance(case, type(pytest.param()))
        param: Any = case if is_param else pytest.param(*(case if isinstance(case, tuple) else (case,)))
        marks = param.marks if param.marks or number % step == 0 else campaign
        chosen.append(pytest.param(*param.values, marks=marks, id=param.id))
        number += not param.marks
    return chosen


def in_pairs(*factors: Iterable[object]) -> list[object]:
    """All combinations of the values of some factors. By default those are run in which every two values of two factors
    meet, and the rest by the campaign.
    """
    every = list(itertools.product(*map(list, factors)))
    pairs = {one: set(itertools.combinations(enumerate(one), 2)) for one in every}
    wanted, chosen = set[object]().union(*pairs.values()), set[object]()
    while wanted:
        most = max(every, key=lambda one: len(pairs[one] & wanted))
        wanted -= pairs[most]
        chosen.add(most)
    return [pytest.param(*one, marks=() if one in chosen else campaign) for one in every]


PROGRAM = Path(sys.executable).with_name("neat-delta")
Run = Callable[..., subprocess.CompletedProcess[str]]


def environment(**extra: str) -> dict[str, str]:
    """What the program finds in its environment, wherever the tests run."""
    return {name: value for name, value in os.environ.items() if name not in ("COLUMNS", "FORCE_COLOR")} | extra


def in_a_process(folder: Path, *args: str, **extra: str) -> subprocess.CompletedProcess[str]:
    """Run the installed program for real."""
    return subprocess.run(
        [PROGRAM, *args], cwd=folder, env=environment(**extra), capture_output=True, text=True, check=False
    )


MOST_VALIDATED = 100_000
"""Characters of an output: a longer one has more of the same."""


@functools.cache
def validator(name: str) -> Draft202012Validator:
    """The published schema of what a command prints for programs."""
    path = Path(__file__).parents[1] / "docs" / "json" / f"{name}.schema.json"
    return Draft202012Validator(json.loads(path.read_text()))


def must_be_as_published(args: Sequence[str], output: str) -> None:
    """What a command prints for programs is as its schema says."""
    name = {"recode": "compare", "edit": "edit-try" if "--try" in args else "compare"}.get(args[0], args[0])
    name += "-explain" if "--explain" in args else "-print" if "--print" in args else ""
    if len(output) < MOST_VALIDATED:
        facts = json.loads(output)
        assert facts["version"] == 1
        validator(name).validate(facts)


def in_this_process(folder: Path, *args: str, **extra: str) -> subprocess.CompletedProcess[str]:
    """Run the program's own entry point here, from the folder, which spares half a second of start."""
    from neat_delta.cli.main import main

    here, status = Path.cwd(), 0
    out, err = (io.TextIOWrapper(io.BytesIO(), "utf-8", write_through=True) for _ in range(2))
    handlers = {number: signal.getsignal(number) for number in (signal.SIGTERM, signal.SIGINT)}
    try:
        with ExitStack() as patches:
            patches.enter_context(mock.patch.dict(os.environ, environment(COLUMNS="80") | extra, clear=True))
            for name, value in (("stdout", out), ("stderr", err), ("argv", ["neat-delta", *args])):
                patches.enter_context(mock.patch.object(sys, name, value))
            patches.enter_context(mock.patch("os._exit", sys.exit))
            os.chdir(folder)
            main()
    except SystemExit as stopped:
        status = stopped.code if isinstance(stopped.code, int) else 1
    finally:
        os.chdir(here)
        gc.enable()
        for number, handler in handlers.items():
            signal.signal(number, handler)
    said = [stream.buffer.getvalue().decode() for stream in (out, err)]
    files_of_ours = said[0].startswith('{"format"')  # a change set has settings as they are called everywhere
    assert files_of_ours or not any(NAMED.search(text) for text in said), said  # a person is told the option
    if status in {0, 1} and "--json" in args:
        must_be_as_published(args, said[0])
    return subprocess.CompletedProcess(list(args), status, *(text.replace("\r\n", "\n") for text in said))


def started(call: Sequence[str | Path], **how: object) -> subprocess.Popen[str]:
    """A child that hears Ctrl-C, even where a shell started the tests in the background, and so ignores it for all."""

    def hearing() -> None:
        for number in (signal.SIGINT, signal.SIGTERM):
            signal.signal(number, signal.SIG_DFL)

    return subprocess.Popen(call, preexec_fn=hearing, text=True, **how)  # type: ignore[call-overload,no-any-return]  # noqa: PLW1509


@pytest.fixture
def run(tmp_path: Path, request: pytest.FixtureRequest) -> Run:
    """Run `neat-delta` with these arguments in the temporary folder; in a process of its own where the test is marked
    `process`, or says something that Python reads as it starts.
    """

    def go(*args: str, **extra: str) -> subprocess.CompletedProcess[str]:
        real = request.node.get_closest_marker("process") or any(name.startswith("PYTHON") for name in extra)
        return (in_a_process if real else in_this_process)(tmp_path, *args, **extra)

    return go


@pytest.fixture(scope="session")
def demo_files() -> dict[str, bytes]:
    """The demo store's live.csv, and its sheet.csv as it was meant, before the accidents of the afternoon."""
    rng = random.Random(generate.SEED)
    sheet = generate.edited(generate.catalogue(rng), rng)
    return {
        "live.csv": files("neat_delta.demo").joinpath("live.csv").read_bytes(),
        "sheet.csv": generate.as_csv(generate.SHEET_FIELDS, sheet, "\r\n", bom="\ufeff"),
    }


@pytest.fixture(scope="session")
def demo_changes(demo_files: dict[str, bytes], tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A folder with these files and their change set, changes.jsonl; to be copied, not changed."""
    folder = tmp_path_factory.mktemp("demo")
    for name, content in demo_files.items():
        (folder / name).write_bytes(content)
    assert in_this_process(folder, "compare", "live.csv", "sheet.csv", "-o", "changes.jsonl").returncode == 1
    return folder


@pytest.fixture(scope="session")
def whole_demo(tmp_path_factory: pytest.TempPathFactory) -> tuple[Path, str]:
    """The folder that `neat-delta demo all` leaves, to be copied and not changed, and what it prints."""
    workers = tmp_path_factory.getbasetemp()
    folder = (workers.parent if "PYTEST_XDIST_WORKER" in os.environ else workers) / "whole-demo"
    text = folder / "printed.txt"
    try:
        folder.mkdir()
    except FileExistsError:  # another worker goes through it
        end = time.monotonic() + 300
        while not text.exists():
            assert time.monotonic() < end, "the worker that went through the demo did not come to its end"
            time.sleep(0.1)
        return folder / "q", text.read_text()
    done = in_this_process(folder, "demo", "all", "--to", "q", SOURCE_DATE_EPOCH=MONDAY)
    assert (done.returncode, done.stderr) == (0, "")
    (folder / "printing.txt").write_text(done.stdout)
    (folder / "printing.txt").rename(text)
    return folder / "q", done.stdout


@pytest.fixture
def store(tmp_path: Path, demo_files: dict[str, bytes]) -> Path:
    """A folder with the demo store's live.csv and its sheet.csv, without its store file."""
    for name, content in demo_files.items():
        (tmp_path / name).write_bytes(content)
    return tmp_path


@pytest.fixture
def put(tmp_path: Path) -> Callable[[str, str | bytes], str]:
    """Write a file into the temporary folder; its path."""

    def place(name: str, content: str | bytes) -> str:
        (tmp_path / name).write_bytes(content if isinstance(content, bytes) else content.encode())
        return str(tmp_path / name)

    return place


@pytest.fixture
def as_of_many() -> Callable[[], AbstractContextManager[None]]:
    """As if a few rows were very many, so that every shortcut of very many is taken."""
    return many_rows
