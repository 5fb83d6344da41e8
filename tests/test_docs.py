"""The docs say what the program does: examples run and are read, tables have the keys that there are, options, messages
and exit statuses are the program's.
"""

from __future__ import annotations

import ast
import doctest
import inspect
import pkgutil
import re
from importlib import import_module
from importlib.util import find_spec
from pathlib import Path
from typing import get_args

import click
import msgspec
import pytest

import neat_delta
from neat_delta.core.base.model.importer import CodeChange, Importer, Removal
from neat_delta.core.base.model.layout import Notation
from neat_delta.core.base.model.lists import ListField, ListMapping
from neat_delta.core.base.model.results import ResultsForm
from neat_delta.core.base.model.rules import Lookup, Rule, Rules
from neat_delta.core.base.model.store import Field, FileForm, Key, KindName, Relations, Sheets, Standing, Store
from neat_delta.files.mappingfile import read_mapping
from neat_delta.files.rulesfile import read_rules
from neat_delta.files.storefile import read_store

DOCS = Path(__file__).parents[1] / "docs"
SOURCE = DOCS.parent / "src" / "neat_delta"
MODULES = sorted(
    one.name for one in pkgutil.walk_packages(neat_delta.__path__, "neat_delta.") if not one.name.endswith("__main__")
)


@pytest.mark.parametrize("name", MODULES)
def test_the_examples_of_a_module_run(name):
    failed, _ = doctest.testmod(import_module(name), optionflags=doctest.NORMALIZE_WHITESPACE)
    assert not failed


def test_every_public_function_has_an_example_and_every_public_name_is_at_home():
    for name in neat_delta.__all__:
        thing = getattr(neat_delta, name)
        assert inspect.getdoc(thing), name
        if inspect.isfunction(thing):
            assert ">>> " in (thing.__doc__ or ""), name
            assert thing.__module__ == f"neat_delta.{neat_delta._HOMES[name]}" or name == "plan", name
    assert {*neat_delta._HOMES, "__version__"} == set(neat_delta.__all__)


def test_every_public_function_stands_in_the_table_of_the_library():
    table = (DOCS / "library.md").read_text().split("| --- |")[-1].split("\n\n")[0]
    functions = {name for name in neat_delta.__all__ if inspect.isfunction(getattr(neat_delta, name))}
    assert functions <= set(re.findall(r"`([a-z_]+)`", table))


def test_the_design_names_folders_and_functions_that_are_there():
    text = (DOCS / "design.md").read_text()
    core = DOCS.parent / "src" / "neat_delta" / "core"
    tree = set(re.findall(r"^    (?:  )?([a-z]+)/", text, re.MULTILINE))
    there = {one.name for one in core.rglob("*") if one.is_dir() and one.name != "__pycache__"}
    assert tree == there - {"damage", "slips"}
    for path in re.findall(r"`([a-z_]+/[a-z_/]+\.py)`", text):
        roots = (core, core.parent, DOCS.parent)
        assert any((root / path).is_file() for root in roots), path
    for module, function in re.findall(r"`((?:[a-z_]+\.)+)(?!py`|md`|js`)([a-z_]+)`", text):
        home = next((one for one in (f"neat_delta.core.{module}", f"neat_delta.{module}") if is_module(one[:-1])), None)
        assert home is None or hasattr(import_module(home[:-1]), function) or is_module(f"{home}{function}"), function


BANNED = {"said", "told", "one", "shown", "there", "apart", "whole", "made", "moved", "numbers", "found", "mine"}
"""Words that name the act by which something came about, or anything at all, and not what it is."""

IN_FILES = {
    "found": "what `check` prints for programs",
    "moved": "what `confirm` prints for programs",
    "said": "files we write: what a reviewer said of a cell (`manifest.py`)",
    "shown": "store files: whether the shop shows an item (`Relations`)",
    "whole": "store, mapping and manifest files, and the keyword: the whole catalogue",
}
"""Those of them that are words of files and of the library, where they may stand as attributes and keywords."""


@pytest.mark.parametrize("path", sorted(SOURCE.rglob("*.py")), ids=lambda path: str(path.relative_to(SOURCE)))
def test_names_are_nouns_of_the_field(path):
    tree = ast.parse(path.read_text())
    declared = {node.target for node in ast.walk(tree) if isinstance(node, ast.AnnAssign)}
    of_files, local = set[str](), set[str]()
    for node in ast.walk(tree):
        if isinstance(node, ast.Name) and isinstance(node.ctx, ast.Store):
            (of_files if node in declared else local).add(node.id)
        elif isinstance(node, ast.FunctionDef | ast.ClassDef):
            local.add(node.name.strip("_"))
        elif isinstance(node, ast.Attribute | ast.arg):
            of_files.add((node.attr if isinstance(node, ast.Attribute) else node.arg).strip("_"))
    assert not local & BANNED and not of_files & BANNED - IN_FILES.keys()


def is_module(name: str) -> bool:
    try:
        return find_spec(name) is not None
    except ModuleNotFoundError:  # there is nothing that it would be in
        return False


PAGES = sorted([*DOCS.rglob("*.md"), DOCS.parent / "README.md"])


def keys_of(page: str, start: str = "", end: str = "\n## ") -> set[str]:
    """The keys in the first column of the tables of a page, or of the part of it that begins with a heading."""
    text = (DOCS / page).read_text()
    part = text[text.index(start) :] if start else text
    part = part if not start else part[: part.find(end, 1) if part.find(end, 1) > 0 else None]
    rows = re.findall(r"^\| (`.*?) \|", part, re.MULTILINE)
    return {key for row in rows for key in re.findall(r"`([^`]+)`", row)}


def settings_of(struct: type) -> set[str]:
    return {field.encode_name for field in msgspec.structs.fields(struct)}


PARTS = {
    "## `[file]`": FileForm,
    "## `[writing]`": Notation,
    "## `[key]`": Key,
    "## `[sheets]`": Sheets,
    "## `[fields.NAME]`": Field,
    "## `[importer]`": Importer,
    "## `[results]`": ResultsForm,
}


@pytest.mark.parametrize("start", PARTS)
def test_the_tables_of_the_store_file_have_its_keys_and_no_others(start):
    page = (DOCS / "store-file.md").read_text()
    part = page[page.index(start) :].partition("\n## ")[0]
    assert keys_of("store-file.md", start) - {*get_args(KindName)} <= settings_of(PARTS[start])
    assert [name for name in settings_of(PARTS[start]) if f"`{name}`" not in part] == []
    assert all(f"`[{name}]" in page or f"`{name}`" in page for name in settings_of(Store))
    assert all(f"`{name}`" in page for one in (Relations, Removal, CodeChange, Standing) for name in settings_of(one))


def test_the_tables_of_mapping_and_rules_files_have_their_keys_and_no_others():
    said = keys_of("formats/mapping.md")
    assert {name for name in said if "." not in name} == settings_of(ListMapping)
    assert {name.rpartition(".")[2] for name in said if "." in name} == settings_of(ListField)
    said = keys_of("formats/rules.md")
    assert {name for name in said if "." not in name} == settings_of(Rules)
    assert {name.rpartition(".")[2] for name in said if name.startswith("rule.")} == settings_of(Rule)
    assert {name.rpartition(".")[2] for name in said if name.startswith("table.")} == settings_of(Lookup)


BLOCKS = [
    (page.relative_to(DOCS.parent).as_posix(), number, block)
    for page in PAGES
    for number, block in enumerate(re.findall(r"```toml\n(.*?)```", page.read_text(), re.DOTALL), 1)
]


@pytest.mark.parametrize(("page", "number", "block"), BLOCKS, ids=[f"{page}-{number}" for page, number, _ in BLOCKS])
def test_each_example_file_is_read(tmp_path, page, number, block):
    """As what its page is about, with no more than its version where it is a part of a file."""
    path = tmp_path / "example.toml"
    path.write_text(block if "version = 1" in block else f"version = 1\n{block}")
    read = read_rules if page.endswith("rules.md") else read_mapping if page.endswith("matching.md") else read_store
    assert read(str(path))


def options_there() -> set[str]:
    group = import_module("neat_delta.cli.main").cli
    context = click.Context(group)
    commands = [group.get_command(context, name) for name in group.list_commands(context)]
    return {name for one in [group, *commands] for option in one.params for name in option.opts} | {"--help"}


def test_each_option_that_a_page_names_is_there():
    there = options_there()
    for page in PAGES:
        code = re.findall(r"```sh\n(.*?)```|`([^`\n]+)`", page.read_text(), re.DOTALL)
        named = {name for parts in code for name in re.findall(r"(?<![\w-])--[a-z][a-z-]*", " ".join(parts))}
        assert named - there - OTHERS == set(), page.name


OTHERS = {"--quiet", "--raised", "--strict", "--version", "--build-arg", "--scale", "--nthreads"}
"""Options of other programs: of pip, of bench/compare.py, of mkdocs, of what starts a cluster; and of the program as a
whole.
"""


def test_each_message_in_the_table_is_one_that_the_program_says():
    source = "".join(path.read_text() for path in (DOCS.parent / "src").rglob("*.py"))
    source = re.sub(r'"\s*\n\s*[rf]*"|"\s*\n\s*[rf]*\'|\'\s*\n\s*[rf]*"|\'\s*\n\s*[rf]*\'', "", source)
    source = re.sub(r"\{[^{}]*\}", "§", source)
    for message in re.findall(r"^\| `(.*?)` \|", (DOCS / "errors.md").read_text(), re.MULTILINE):
        words = re.sub(r'(?<=")[^" ]+(?=")|\d[\d,]*', "§", message).split(" ")
        runs = [" ".join(words[place : place + 3]) for place in range(max(len(words) - 2, 1))]
        assert any(run in source for run in runs), message


def test_each_exit_status_in_the_table_is_what_a_command_ends_with(run, store, put):
    """But for those of a stopped command, which tests/test_commands.py has."""
    statuses = re.findall(r"^\| ([\d, ]+) \|", (DOCS / "errors.md").read_text(), re.MULTILINE)
    assert statuses == ["0", "1", "2", "130, 143"]
    put("same.csv", (store / "live.csv").read_bytes())
    put("list.csv", "sku,trade\nQA-1001,1.00\n")
    put("rules.toml", "version = 1\n[[rule]]\nname = 'x'\nset = { cost = \"price / stock\" }\n")
    wanted = {
        ("compare", "live.csv", "same.csv"): 0,
        ("compare", "live.csv", "sheet.csv", "-o", "c.jsonl"): 1,
        ("preview", "c.jsonl"): 0,
        ("learn", "live.csv", "--json"): 0,
        ("match", "live.csv", "list.csv"): 1,
        ("match", "live.csv", "list.csv", "--ignore", "trade"): 0,
        ("edit", "live.csv", "--rules", "rules.toml"): 1,
        ("edit", "live.csv", "--set", "cost = 1", "--where", "sku = 'none'"): 0,
        ("compare", "live.csv", "nothing.csv"): 2,
        ("compare", "live.csv"): 2,
        ("preview", "live.csv"): 2,
    }
    assert {call: run(*call).returncode for call in wanted} == wanted
