"""The demo: its files, its round and chapters, the tour of the README, and what every command says next."""

from __future__ import annotations

import csv
import io
import json
import re
import shlex
import shutil
from importlib.resources import files
from pathlib import Path

import pytest

from neat_delta.demo.chapters import CHAPTERS, ROUND
from neat_delta.files.changeset import digest_in
from neat_delta.files.manifest import read_manifest
from tests.conftest import first_of, in_this_process
from tests.generate import FIELDS, demo_files

README = Path(__file__).parents[1] / "README.md"


def test_the_shipped_files_are_what_the_generator_makes():
    for name, content in demo_files().items():
        assert files("neat_delta.demo").joinpath(name).read_bytes() == content


def test_the_catalogue_is_like_a_real_one():
    items = list(csv.DictReader(io.StringIO(demo_files()["live.csv"].decode(), newline="")))
    assert len(items) == len({item["sku"] for item in items}) == 418
    assert len(FIELDS) == 22
    assert {item["parent_sku"] for item in items} <= {"", *(item["sku"] for item in items)}
    assert all(float(item["cost"]) < float(item["price"]) for item in items)
    assert any("\n" in item["description"] for item in items)
    assert any(item["supplier_code"].startswith("0") for item in items)
    for item in items:
        digits = [int(digit) for digit in item["barcode"]]
        assert sum(digits[::2] + [3 * digit for digit in digits[1::2]]) % 10 == 0


@pytest.fixture(scope="module")
def round_folder(tmp_path_factory: pytest.TempPathFactory) -> tuple[Path, str]:
    """The folder that a bare `neat-delta demo` leaves, to be copied, and what it prints."""
    folder = tmp_path_factory.mktemp("round")
    done = in_this_process(folder, "demo")
    assert (done.returncode, done.stderr) == (0, "")
    return folder / "quillfern-demo", done.stdout


def test_a_bare_demo_is_one_round_on_a_page_or_three_and_names_the_chapters(round_folder):
    folder, text = round_folder
    assert len(text.splitlines()) <= 120
    verbs = re.findall(r"^\$ neat-delta ([a-z]+)", text, re.MULTILINE)
    assert verbs == ["learn", "compare", "preview", "write", "practice", "confirm"]
    assert "proven by replay" in text and "5 items sent, all of them done and landed." in text
    listed = re.findall(r"^  neat-delta demo ([a-z]+)", text, re.MULTILINE)
    assert listed == [*CHAPTERS, "all"]
    assert (folder / "jars" / "manifest.json").exists()


@pytest.mark.parametrize("chapter", first_of(CHAPTERS, 0))
def test_a_chapter_goes_by_itself_and_again(run, tmp_path, chapter):
    first = run("demo", chapter, "--to", "q")
    assert (first.returncode, first.stderr) == (0, "")
    assert [line.removeprefix("$ neat-delta ") for line in first.stdout.splitlines() if line.startswith("$ ")] == [
        step.command for step in CHAPTERS[chapter].steps
    ]
    if chapter not in ("accidents", "supplier"):  # the longest, and one of those that save files
        return
    before = {path: path.read_bytes() for path in (tmp_path / "q").rglob("*") if path.is_file()}
    again = run("demo", chapter, "--to", "q")
    assert (again.stdout, again.stderr) == (first.stdout, "")
    assert {path: path.read_bytes() for path in (tmp_path / "q").rglob("*") if path.is_file()} == before


def test_all_of_the_demo_goes_through_every_chapter(whole_demo):
    folder, text = whole_demo
    places = [text.index(f"$ neat-delta {step.command}") for part in (ROUND, *CHAPTERS.values()) for step in part.steps]
    assert places == sorted(places)
    assert (folder / "again" / "manifest.json").exists()


def test_what_somebody_edited_in_the_demo_is_never_lost(run, tmp_path, round_folder):
    shutil.copytree(round_folder[0], tmp_path / "quillfern-demo")
    sheet = tmp_path / "quillfern-demo" / "sheet.csv"
    sheet.write_text(sheet.read_text().replace("shown", "hidden", 1))
    assert "you may have edited it" in run("demo").stderr and "hidden" in sheet.read_text()
    assert 'no chapter "tuesdy". Did you mean "tuesday"?' in run("demo", "tuesdy", "--to", "q").stderr
    assert not (tmp_path / "q").exists()


def test_the_tour_of_the_readme_can_be_typed_line_by_line_and_again(run, tmp_path, round_folder):
    """In the folder that the bare demo leaves, in order, as written."""
    shutil.copytree(round_folder[0], tmp_path, dirs_exist_ok=True)
    tour = re.findall(r"```sh\n(neat-delta learn.*?)```", README.read_text(), re.DOTALL)[0]
    for _ in range(2):
        settings: dict[str, str] = {}
        for line in tour.splitlines():
            first, *words = shlex.split(line, comments=True)
            if first == "export":
                name, _, value = words[0].partition("=")
                settings[name] = value
                continue
            done = run(*words, **settings)
            assert done.returncode in {0, 1} and not done.stderr, (line, done.stderr)
            assert words[0] not in {"match", "compare", "recode"} or "store  draft.toml" in done.stdout
        assert settings == {"NEAT_DELTA_STORE": "draft.toml"}


CALL = re.compile(r"^(?!\$ )(?:.*[ :(])?neat-delta ([a-z]+ .*?)[`.]?$")
"""What is said to be typed next: all but what the demo itself types."""

GIVEN_UP = "run sale.toml"
"""A round that the demo gives up in the step after it."""

SERVES = "practice live.csv"
"""It goes on until somebody stops it."""


def test_every_command_that_is_said_to_come_next_can_be_typed(run, tmp_path, whole_demo):
    """In the folder that the demo leaves, each by itself, or after those in the lines just before it."""
    folder, text = whole_demo
    shutil.copytree(folder, tmp_path / "q")
    for call in ("undo changes.jsonl --to back --now fresh.csv", "sheet live.csv -o cut.csv --skus codes.csv"):
        text += in_this_process(tmp_path / "q", *call.split()).stdout
    groups: list[list[str]] = [[]]
    for line in text.replace("\\\n   ", "").splitlines():
        typed = CALL.match(line)
        groups[-1:] = [[*groups[-1], typed[1]]] if typed else [groups[-1], []]
    calls = {tuple(group) for group in groups if group and not group[0].startswith(("demo ", "help ", GIVEN_UP))}
    assert len(calls) > 20 and (SERVES,) in calls
    for number, group in enumerate(sorted(calls - {(SERVES,)})):
        here = shutil.copytree(tmp_path / "q", tmp_path / str(number))
        for call in group:
            shutil.copy(here / "live.csv", here / "export.csv")  # as if the store of that chapter were open
            done = in_this_process(here, *_filled(call, here), SHOP=str(here))
            assert done.returncode in {0, 1} and "Error" not in done.stderr, (call, done.stderr)


def _filled(call: str, folder: Path) -> list[str]:
    """A call with something in the place of what only a person has: a sheet, an export, answers."""
    words = shlex.split(call)
    if "EXPORT" in words:
        live = read_manifest(str(folder / words[words.index("--files") + 1])).live.path
        words[words.index("EXPORT")] = "live.csv" if "://" in live else live  # the store of that chapter is closed
    if "answers.json" in words:
        digest = digest_in(str(folder / words[1]))
        answers = {"format": "neat-delta answers", "version": 1, "changes": digest, "fields": None, "answers": []}
        (folder / "answers.json").write_text(json.dumps(answers))
    return ["jars.csv" if word == "SHEET" else word for word in words]
