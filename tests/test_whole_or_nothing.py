"""Outputs appear complete or not at all: killed, on a full disk, in a folder that may not be written."""

from __future__ import annotations

import os
import resource
import shutil
import signal
import subprocess
import time
from dataclasses import replace
from pathlib import Path
from typing import get_args

import pytest

import neat_delta
from neat_delta import Importer, OutputError, ProofError
from neat_delta.core.base.model.importer import FormName
from neat_delta.files.whole import new_folder, write_whole
from neat_delta.files.writers.forms import FORMS
from tests.conftest import PROGRAM, campaign, first_of


@pytest.fixture
def changes(demo_changes: Path, tmp_path: Path) -> Path:
    shutil.copytree(demo_changes, tmp_path, dirs_exist_ok=True)
    return tmp_path


def names(folder: Path) -> set[str]:
    return {file.name for file in folder.iterdir()}


INPUTS = {"live.csv", "sheet.csv", "changes.jsonl"}


@pytest.mark.parametrize(
    "command",
    [
        ["write", "changes.jsonl", "--to", "out"],
        pytest.param(["write", "changes.jsonl", "--to", "out", "--store", "workbooks.toml"], marks=campaign),
        pytest.param(["undo", "changes.jsonl", "--to", "out", "--files", "sent"], marks=campaign),
    ],
)
def test_a_kill_at_any_moment_leaves_the_whole_folder_or_none_of_it(changes, command):
    store = (changes / "neat-delta.toml").read_text() if (changes / "neat-delta.toml").exists() else "version = 1\n"
    (changes / "workbooks.toml").write_text(store + '[importer]\nform = "xlsx"\nmost_rows = 40\n')
    subprocess.run(
        [str(PROGRAM), "write", "changes.jsonl", "--to", "sent"], cwd=changes, stdout=subprocess.DEVNULL, check=False
    )
    call = [str(PROGRAM), *command]
    start = time.perf_counter()
    subprocess.run(call, cwd=changes, stdout=subprocess.DEVNULL, check=False)
    lasts = time.perf_counter() - start
    whole = names(changes / "out")
    shutil.rmtree(changes / "out")
    seen = set()
    for step in range(8):
        process = subprocess.Popen(call, cwd=changes, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
        time.sleep(lasts * (0.4 + 0.65 * step / 8))
        process.send_signal(signal.SIGKILL if step % 2 else signal.SIGTERM)
        process.wait()
        left = (changes / "out").exists()
        seen.add(left)
        if left:
            assert names(changes / "out") == whole
            shutil.rmtree(changes / "out")
    assert False in seen  # some of the kills came in time


def test_a_kill_while_replacing_leaves_a_whole_folder(run, changes, monkeypatch):
    """Between any two steps of the exchange: each step fails once, and the folder that was there is whole."""
    run("write", "changes.jsonl", "--to", "out")
    whole = {file.name: file.read_bytes() for file in (changes / "out").iterdir()}
    monkeypatch.setattr("neat_delta.files.whole._exchange", lambda *_: False)
    rename = Path.rename
    for failing in (1, 2):
        calls = 0

        def count(self, target, failing=failing):
            nonlocal calls
            calls += 1
            if calls == failing:
                raise OSError(28, "No space left on device")
            return rename(self, target)

        monkeypatch.setattr(Path, "rename", count)
        with pytest.raises(OutputError), new_folder(str(changes / "out"), lambda _: None) as partial:
            (partial / "new.csv").write_text("sku\n")
        assert {file.name: file.read_bytes() for file in (changes / "out").iterdir()} == whole
        assert names(changes) == {*INPUTS, "out"}
    monkeypatch.setattr(Path, "rename", rename)
    with new_folder(str(changes / "out"), lambda _: None) as partial:
        (partial / "new.csv").write_text("sku\n")
    assert names(changes / "out") == {"new.csv"}
    assert names(changes) == {*INPUTS, "out"}


@pytest.mark.parametrize("most", first_of([0, 100, 1000], 1))
def test_a_full_disk_leaves_nothing(changes, most):
    def fill_up() -> None:
        signal.signal(signal.SIGXFSZ, signal.SIG_IGN)
        resource.setrlimit(resource.RLIMIT_FSIZE, (most, most))

    (changes / "changes.jsonl").rename(changes / "before.jsonl")
    for call in (
        ["write", "before.jsonl", "--to", "out", "--importer-blanks", "skip"],
        ["compare", "live.csv", "sheet.csv", "-o", "changes.jsonl"],
    ):
        done = subprocess.run(
            [PROGRAM, *call], cwd=changes, preexec_fn=fill_up, capture_output=True, text=True, check=False
        )
        assert done.returncode == 2
        assert "it cannot be written (File too large). Nothing was written." in done.stderr
        assert names(changes) == {"live.csv", "sheet.csv", "before.jsonl"}


@pytest.mark.parametrize("form", get_args(FormName))
@pytest.mark.parametrize("most", [0, 60])
def test_a_full_disk_leaves_nothing_in_any_form(changes, monkeypatch, form, most):
    """Nor does a form that fails half way."""
    monkeypatch.chdir(changes)
    found = neat_delta.read_changes("changes.jsonl")
    live = neat_delta.read_live(found, "changes.jsonl")
    write = Path.write_bytes

    def full(self, data):
        write(self, data[:most])
        if len(data) > most:
            raise OSError(28, "No space left on device")

    monkeypatch.setattr(Path, "write_bytes", full)
    with pytest.raises(OutputError, match=r"out: it cannot be written \(No space left on device\)"):
        neat_delta.write_updates(found, live, Importer("clear", form=form), "out")
    assert names(changes) == INPUTS


OTHERS = {
    "one cell": lambda live: live.replace(b"149.90", b"149.91", 1),
    "rows": lambda live: live[: len(live) // 2],
    "columns": lambda live: live.replace(b"sku,", b"code,", 1),
    "another separator": lambda live: live.replace(b",", b";"),
    "another encoding": lambda live: live.decode().encode("utf-16"),
    "nothing": lambda live: b"",
    "no table": lambda live: b"\x00\xff" * 400,
    "quotes": lambda live: live.replace(b'"', b"'"),
}


@pytest.mark.parametrize("other", OTHERS)
def test_live_that_was_replaced_since_is_one_clear_error(run, changes, other):
    (changes / "live.csv").write_bytes(OTHERS[other]((changes / "live.csv").read_bytes()))
    for call in (("write", "changes.jsonl", "--to", "out"), ("undo", "changes.jsonl", "--to", "out")):
        failed = run(*call)
        assert failed.returncode == 2 and failed.stderr.startswith("Error: live.csv") and failed.stderr.count("\n") == 1
    assert names(changes) == INPUTS


def test_an_output_that_cannot_be_written_is_one_clear_error(run, changes):
    (changes / "file").write_text("mine")
    for target, message in (
        ("file", "there is a file of that name"),
        ("file/out", "it cannot be written"),
        ("/proc/out", ""),
    ):
        failed = run("write", "changes.jsonl", "--to", target)
        assert failed.returncode == 2
        assert failed.stderr.startswith(f"Error: {target}: ")
        assert message in failed.stderr
    assert names(changes) == {*INPUTS, "file"}


def test_only_what_write_wrote_is_replaced(run, changes):
    assert run("write", "changes.jsonl", "--to", "out").returncode == 1
    again = run("write", "changes.jsonl", "--to", "out", "--importer-blanks", "skip")
    assert again.returncode == 2
    assert "the folder is not empty. Name another, or add --replace" in again.stderr
    assert len(names(changes / "out")) == 10
    assert run("write", "changes.jsonl", "--to", "out", "--importer-blanks", "skip", "--replace").returncode == 1
    assert names(changes / "out") == {"update-1.csv", "undo-1.csv", "manifest.json", "READ-ME-FIRST.txt"}
    for edit in ("update-1.csv", "notes.txt", "READ-ME-FIRST.txt"):
        whole = (changes / "out" / edit).read_bytes() if edit != "notes.txt" else b""
        (changes / "out" / edit).write_bytes(whole + b"mine")
        failed = run("write", "changes.jsonl", "--to", "out", "--replace")
        assert failed.returncode == 2
        assert f"out: {edit} in it is not as `write` wrote it, and may be somebody's work." in failed.stderr
        assert (changes / "out" / edit).read_bytes() == whole + b"mine"
        if whole:
            (changes / "out" / edit).write_bytes(whole)
        else:
            (changes / "out" / edit).unlink()
    (changes / "empty").mkdir()
    assert run("write", "changes.jsonl", "--to", "empty").returncode == 1


def test_nothing_is_handed_over_when_the_proof_fails(changes, monkeypatch):
    monkeypatch.chdir(changes)
    found = neat_delta.read_changes("changes.jsonl")
    live = neat_delta.read_live(found, "changes.jsonl")
    honest = FORMS["delimited"]

    def wrong_by_a_cent(cells, shape):
        return honest.write(cells, shape).replace(b"45.90", b"45.91")

    monkeypatch.setitem(FORMS, "delimited", replace(honest, write=wrong_by_a_cent))
    with pytest.raises(ProofError, match=r"QA-1028, price: '45.91' where '45.90' is wanted"):
        neat_delta.write_updates(found, live, Importer("clear"), "out")
    assert names(changes) == INPUTS


def test_a_link_stays_a_link(tmp_path):
    (tmp_path / "real").write_text("old")
    (tmp_path / "link").symlink_to("real")
    write_whole(str(tmp_path / "link"), [b"new"])
    assert (tmp_path / "link").is_symlink()
    assert (tmp_path / "real").read_bytes() == b"new"


def test_a_device_is_no_place_for_a_file():
    with pytest.raises(OutputError, match="not a plain file"):
        write_whole(os.devnull, [b"x"])
