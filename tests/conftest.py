"""What the tests share: the installed program, run for real, and the demo store's files."""

from __future__ import annotations

import os
import random
import subprocess
import sys
from collections.abc import Callable, Iterator
from contextlib import AbstractContextManager, ExitStack, contextmanager
from importlib.resources import files
from pathlib import Path
from unittest import mock

import pytest
from hypothesis import HealthCheck, settings

from neat_delta.demo import generate

settings.register_profile(
    "default", deadline=None, suppress_health_check=[HealthCheck.too_slow, HealthCheck.function_scoped_fixture]
)
settings.load_profile("default")

PROGRAM = Path(sys.executable).with_name("neat-delta")
Run = Callable[..., subprocess.CompletedProcess[str]]


@pytest.fixture
def run(tmp_path: Path) -> Run:
    """Run `neat-delta` with these arguments in the temporary folder."""

    def go(*args: str, **extra: str) -> subprocess.CompletedProcess[str]:
        environment = {name: value for name, value in os.environ.items() if name not in ("COLUMNS", "FORCE_COLOR")}
        return subprocess.run(
            [PROGRAM, *args], cwd=tmp_path, env=environment | extra, capture_output=True, text=True, check=False
        )

    return go


@pytest.fixture
def store(tmp_path: Path) -> Path:
    """A folder with the demo store's live.csv and its sheet.csv as it was meant, before the accidents of the afternoon;
    without its store file.
    """
    (tmp_path / "live.csv").write_bytes(files("neat_delta.demo").joinpath("live.csv").read_bytes())
    rng = random.Random(generate.SEED)
    sheet = generate.edited(generate.catalogue(rng), rng)
    (tmp_path / "sheet.csv").write_bytes(generate.as_csv(generate.SHEET_FIELDS, sheet, "\r\n", bom="\ufeff"))
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

    @contextmanager
    def shortcuts() -> Iterator[None]:
        with ExitStack() as patches:
            for name, value in (("once.MANY", 1), ("once.SOME", 1), ("once.SELDOM", 0), ("compare.GLANCE", 1)):
                patches.enter_context(mock.patch(f"neat_delta.core.{name}", value))
            yield

    return shortcuts
