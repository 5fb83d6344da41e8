"""What a shell completes: commands, options, choices, names from the files on the line; through bash itself."""

from __future__ import annotations

import shutil
import subprocess
from importlib.resources import files
from pathlib import Path

import pytest

from neat_delta.files.glance import fields_of_changes, headings_at_a_glance, table_names
from tests.conftest import PROGRAM, environment

COMPLETED = {
    "com": ["compare", "completion"],
    "compare --bl": ["--blanks"],
    "compare live.csv sheet.csv --blanks ": ["hold", "clear", "keep"],
    "compare live.csv sheet.csv --blanks clear:sa": ["sale_price"],  # bash itself ends a word at the colon
    "compare live.csv sheet.csv --clash stock=": ["hold", "sheet", "live", "add"],
    "compare live.csv sheet.csv --only price,st": ["price,stock", "price,status"],
    "compare live.csv sheet.csv --accept lar": ["large-change", "large-round"],
    "compare live.csv sheet.csv --accept large-change:pri": ["price"],
    "compare live.csv supplier.csv --map ": ["EAN=", "Article=", "Trade=", "RRP="],
    "compare live.csv supplier.csv --map Trade=co": ["cost", "colour"],
    "compare live.csv words.csv --ignore ": ["sku", "'net price'", "'*'"],
    "compare stock.csv count.csv --store stock.toml --only qu": ["quantity"],
    "preview changes.jsonl --field sa": ["sale_price"],
    "preview changes.jsonl --keep-margin ": ["percent", "amount"],
    "sheet live.csv --fields weight": ["weight_kg"],
    "edit live.csv --set pr": ["price="],
    "completion ": ["bash", "zsh", "fish"],
    "demo tu": ["tuesday"],
    "help fi": ["files"],
    "compare nothing.csv sheet.csv --only price,": [],
    "contrast --": ["--version", "--help"],
}


@pytest.fixture(scope="module")
def folder(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The demo's files, without its store file, and a change set's first line."""
    place = tmp_path_factory.mktemp("completion")
    for name in ("live.csv", "sheet.csv", "supplier.csv", "stock.csv", "count.csv", "stock.toml"):
        (place / name).write_bytes(files("neat_delta.demo").joinpath(name).read_bytes())
    (place / "changes.jsonl").write_text('{"format":"neat-delta changes","fields":["price","sale_price"]}\n{"x":')
    (place / "words.csv").write_text("sku,net price,*\nQA-1,2,3\n")
    return place


def completed(folder: Path, shell: str, line: str) -> list[str]:
    """What a shell is given for a line, by its own protocol."""
    variables = {"COMP_LINE": line, "COMP_WORDS": line, "COMP_CWORD": str(len(line.split(" ")) - 1)}
    if shell == "fish":
        variables["COMP_CWORD"] = line.rsplit(" ", maxsplit=1)[-1]
    call = subprocess.run(
        [PROGRAM], cwd=folder, env=environment(_NEAT_DELTA_COMPLETE=f"{shell}_complete", **variables),
        capture_output=True, text=True, check=True,
    )  # fmt: skip
    assert not call.stderr
    return call.stdout.splitlines()


def test_bash_completes_what_is_typed(folder):
    """The script itself, sourced once; each line as bash has it when Tab is pressed."""
    lines = [f"neat-delta {typed}" for typed in COMPLETED]
    script = [
        'eval "$(neat-delta completion bash)"',
        "press() { COMP_LINE=$1; COMP_POINT=${#1}; COMPREPLY=(); _neat_delta_completion neat-delta; "
        'local IFS="|"; echo "${COMPREPLY[*]}"; }',
        *(f"press '{line}'" for line in lines),
    ]
    path = f"{PROGRAM.parent}:{environment()['PATH']}"
    done = subprocess.run(
        ["bash", "--norc", "-c", "\n".join(script)], cwd=folder, env=environment(PATH=path),
        capture_output=True, text=True, check=True,
    )  # fmt: skip
    assert done.stderr == ""
    answers = [answer.split("|") if answer else [] for answer in done.stdout.splitlines()]
    assert dict(zip(COMPLETED, answers, strict=True)) == COMPLETED


def test_where_a_file_is_wanted_the_shell_completes_its_own(folder):
    for line in ("neat-delta compare li", "neat-delta compare live.csv ", "neat-delta preview c"):
        assert completed(folder, "bash", line) == [f"file,{line.rpartition(' ')[2]}"]
    assert completed(folder, "bash", "neat-delta write c.jsonl --to o") == ["dir,o"]
    assert completed(folder, "bash", "neat-delta compare live.csv sheet.csv --store n") == ["file,n"]


def test_zsh_and_fish_are_answered_alike(folder):
    assert completed(folder, "zsh", "neat-delta compare live.csv sheet.csv --only pri")[:2] == ["plain", "price"]
    assert completed(folder, "fish", "neat-delta compare live.csv sheet.csv --only pri")[0].startswith("plain")


@pytest.mark.parametrize("shell", ["bash", "zsh", "fish"])
def test_every_shell_has_its_script(run, shell):
    done = run("completion", shell)
    assert done.returncode == 0 and f"_NEAT_DELTA_COMPLETE={shell}_complete" in done.stdout
    if shutil.which(shell):
        checked = subprocess.run([shell, "-n"], input=done.stdout, text=True, capture_output=True, check=False)
        assert (checked.returncode, checked.stderr) == (0, "")


GLANCED = {
    "commas": (b"sku,price\n", ["sku", "price"]),
    "a mark": ("\ufeffsku;Größe\nA;1,5\n".encode(), ["sku", "Größe"]),
    "of old": ("sku;Größe\n".encode("cp1252"), ["sku", "Größe"]),
    "in two bytes": ("sku\tprice\n".encode("utf-16"), ["sku", "price"]),
    "titles": (b"List;;\n;;\nsku;price;\nA;1;\n", ["sku", "price"]),
    "lines in quotes": (b'sku,"net\nprice"\n', ["sku", "net\nprice"]),
    "objects": (b'[{"sku": "A", "price": 1}]', ["sku", "price"]),
    "lines of objects": (b'{"sku": "A"}\n{"sku": "B"}', ["sku"]),
    "no object": (b"[1, 2]", []),
    "nothing": (b"", []),
    "a workbook": (b"PK\x03\x04\0\0", []),
    "a letter cut in two": (b"sku,name\n" + b"x" * 65_526 + "é".encode(), ["sku", "name"]),
}


@pytest.mark.parametrize("content, names", GLANCED.values(), ids=GLANCED)
def test_headings_are_seen_at_a_glance(tmp_path, content, names):
    (tmp_path / "live").write_bytes(content)
    assert headings_at_a_glance(str(tmp_path / "live")) == names


def test_what_is_not_there_or_not_right_has_no_names(tmp_path):
    (tmp_path / "bad").write_bytes(b"\xff{[")
    for path in (tmp_path / "bad", tmp_path / "none", tmp_path, "\0"):
        assert fields_of_changes(str(path)) == table_names(str(path), "fields") == []
    assert headings_at_a_glance(str(tmp_path)) == headings_at_a_glance("\0") == []
