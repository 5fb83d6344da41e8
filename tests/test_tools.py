"""What is made from the program: manual pages, the reference and the site of the docs; the tutorial, the image."""

from __future__ import annotations

import os
import re
import shlex
import shutil
import subprocess
import sys
from importlib.resources import files
from pathlib import Path

import pytest
from tools.man import FOLDER, pages
from tools.pictures import COLUMNS, PICTURES, as_typed
from tools.schemas import documents
from tools.site import reference

from neat_delta.app.outputs import OUTPUTS
from neat_delta.cli.main import VERBS
from tests.conftest import Run, in_this_process

ROOT = Path(__file__).parents[1]


def test_the_manual_pages_say_what_the_help_says():
    made = pages()
    assert made == {path.name: path.read_text() for path in FOLDER.glob("*.1")}, "python -m tools.man writes them anew"
    assert {*made} == {"neat-delta.1", *(f"neat-delta-{name}.1" for name in VERBS)}


def test_the_text_beside_every_picture_is_what_the_program_prints(tmp_path, whole_demo):
    """In the folder that the demo leaves, in their order; the pictures themselves are taken by tools/pictures.py."""
    folder, shots = shutil.copytree(whole_demo[0], tmp_path / "q"), ROOT / "docs" / "screenshots"
    assert {path.stem for path in shots.glob("*.png")} == {*PICTURES} and len(PICTURES) < 20
    for name, picture in PICTURES.items():
        if picture.of != "store":
            done = in_this_process(folder, *shlex.split(picture.command), COLUMNS=str(COLUMNS))
            assert (shots / f"{name}.txt").read_text() == as_typed(name, done.stdout), (
                f"python -m tools.pictures {name}"
            )


def test_the_schemas_are_of_what_there_is():
    folder = ROOT / "docs"
    assert {name: (folder / name).read_text() for name in documents()} == documents(), "python -m tools.schemas"
    assert {path.name for path in (folder / "json").iterdir()} == {f"{name}.schema.json" for name in OUTPUTS}


@pytest.mark.skipif(shutil.which("groff") is None, reason="there is no groff here")
@pytest.mark.parametrize("name", sorted(pages()))
def test_a_manual_page_is_set_without_a_warning(name):
    set_page = ["groff", "-man", "-ww", "-z", "-Kutf8", str(FOLDER / name)]
    done = subprocess.run(set_page, capture_output=True, text=True, check=True)
    assert done.stderr == ""


def test_the_reference_has_every_command_and_every_setting():
    made = reference()
    assert re.findall(r"^## (.*)$", made["reference/commands.md"], re.MULTILINE) == [*VERBS]
    assert (
        "| `blanks` | `--blanks hold\\|clear\\|keep[:FIELD]` | Cells emptied in SHEET" in made["reference/settings.md"]
    )
    assert "](docs/" not in made["index.md"] and "](learning.md)" in made["index.md"]


def test_the_site_is_built_strictly_without_a_network(tmp_path):
    call = [sys.executable, "-m", "mkdocs", "build", "--strict", "--quiet", "--site-dir", str(tmp_path / "site")]
    done = subprocess.run(call, cwd=ROOT, capture_output=True, text=True, check=False, env=os.environ | {"CI": "1"})
    assert (done.returncode, done.stdout) == (0, ""), done.stderr
    first = (tmp_path / "site" / "index.html").read_text()
    assert "first-hour.html" in first and (tmp_path / "site" / "search" / "search_index.json").exists()
    fetched = re.findall(r"<(?:script|link|img)[^>]+(?:src|href)=\"?(https?://[^\"\s>]+)", first)
    assert [address for address in fetched if "canonical" not in address] == []


def test_the_tutorial_can_be_typed_with_an_export_of_ones_own(run: Run, tmp_path):
    """With a sheet of delimited text for the workbook, as a hand would edit it between the steps."""
    (tmp_path / "export.csv").write_bytes(files("neat_delta.demo").joinpath("live.csv").read_bytes())
    page = (ROOT / "docs" / "first-hour.md").read_text().replace("first.xlsx", "first.csv")
    for block in re.findall(r"```sh\n(.*?)```", page, re.DOTALL):
        for line in block.splitlines():
            _, verb, *words = shlex.split(line)
            if "after.csv" in words:
                (tmp_path / "after.csv").write_bytes((tmp_path / "trial" / "after.csv").read_bytes())
            done = run(verb, *words)
            assert done.returncode == 0 and not done.stderr, (
                line,
                done.stdout,
                done.stderr,
            )
            if verb == "sheet":
                sheet = tmp_path / "first.csv"
                price = re.search(rb"\d+\.\d\d", sheet.read_bytes())
                assert price is not None
                sheet.write_bytes(sheet.read_bytes().replace(price[0], price[0][:-1] + b"1", 1))
            if verb == "compare":
                assert "1 cell of 1 item to send, nothing held, nothing lost." in done.stdout
    assert "The change landed." in done.stdout


INSTRUCTIONS = {"FROM", "ARG", "WORKDIR", "COPY", "RUN", "USER", "ENV", "ENTRYPOINT", "CMD"}


def test_the_image_is_slim_pinned_and_not_run_by_root():
    """The rules that a linter of container files has, as far as they can be wrong here."""
    lines = (ROOT / "Containerfile").read_text().splitlines()
    steps = [line.split(" ", 1) for line in lines if line and not line.startswith("#")]
    assert {word for word, _ in steps} <= INSTRUCTIONS
    bases = [words.split(" ")[0] for word, words in steps if word == "FROM"]
    assert bases and all(re.fullmatch(r"docker\.io/library/python:3\.\d+-slim-\w+", base) for base in bases)
    last = [word for word, _ in steps[len(steps) - [word for word, _ in steps][::-1].index("FROM") :]]
    assert last.index("USER") < last.index("ENTRYPOINT") and last.count("ENTRYPOINT") == last.count("CMD") == 1
    users = [words for word, words in steps if word == "USER"]
    assert users and all(user not in {"root", "0"} for user in users)
    for word, words in steps:
        assert word != "RUN" or ("pip install" not in words or "--no-cache-dir" in words)
        assert (
            word != "COPY" or words.startswith("--from=") or all((ROOT / name).exists() for name in words.split()[:-1])
        )
        assert word not in {"ENTRYPOINT", "CMD"} or re.fullmatch(r'\["[^"]+"\]', words)
    assert shlex.split(steps[-1][1].strip("[]")) == ["--help"]


CLUSTER = sorted((ROOT / "docs/cluster").iterdir())


def commands_in(content: object) -> list[list[str]]:
    """All commands that a file for containers has, at any depth."""
    if isinstance(content, list):
        return [command for each in content for command in commands_in(each)]
    if not isinstance(content, dict):
        return []
    own = [content["command"]] if "command" in content else []
    return own + [command for each in content.values() for command in commands_in(each)]


@pytest.mark.parametrize("path", CLUSTER, ids=lambda path: path.name)
def test_what_starts_a_cluster_can_be_read_and_calls_what_there_is(path):
    """Every command is one of Dask's, with options that it takes."""
    import yaml
    from distributed.cli import dask_scheduler, dask_worker

    documents = [*yaml.safe_load_all(path.read_text())]
    commands = commands_in(documents)
    assert {tuple(command[:2]) for command in commands} == {("dask", "scheduler"), ("dask", "worker")}
    for _, verb, *words in commands:
        program = (dask_scheduler if verb == "scheduler" else dask_worker).main
        assert all(isinstance(word, str) for word in words)
        with program.make_context(verb, list(words)) as context:
            assert context.params["port" if verb == "scheduler" else "nthreads"]
    if path.name == "kubernetes.yaml":
        assert all({"apiVersion", "kind", "metadata", "spec"} <= document.keys() for document in documents)
        for document in documents:
            if document["kind"] == "Deployment":
                labels = document["spec"]["template"]["metadata"]["labels"]
                assert document["spec"]["selector"]["matchLabels"].items() <= labels.items()
    else:
        assert {*documents[0]["services"]} == {"scheduler", "worker"}
        assert all(port.startswith("127.0.0.1:") for port in documents[0]["services"]["scheduler"]["ports"])
