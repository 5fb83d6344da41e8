"""The examples in docstrings run, every public function has one, and the public names are where the table says."""

from __future__ import annotations

import doctest
import inspect
import pkgutil
import re
from importlib import import_module
from importlib.resources import files
from importlib.util import find_spec
from pathlib import Path

import pytest

import neat_delta

DOCS = Path(__file__).parents[1] / "docs"
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


def test_the_librarys_example_runs_on_the_demo_store(store, monkeypatch, capsys):
    (store / "neat-delta.toml").write_bytes(files("neat_delta.demo").joinpath("neat-delta.toml").read_bytes())
    monkeypatch.chdir(store)
    text = (DOCS / "library.md").read_text()
    exec(compile(re.findall(r"```python\n(.*?)```", text, re.DOTALL)[0], "library.md", "exec"), {})
    assert "{'sku': 'QA-" in capsys.readouterr().out and (store / "out" / "manifest.json").is_file()
    named = set(re.findall(r"`([a-z_]+)`", text.split("| --- |")[-1].split("\n\n")[0]))
    functions = {name for name in neat_delta.__all__ if inspect.isfunction(getattr(neat_delta, name))}
    assert functions <= named


def test_the_design_names_folders_and_functions_that_are_there():
    text = (DOCS / "design.md").read_text()
    core = DOCS.parent / "src" / "neat_delta" / "core"
    for folder in re.findall(r"^    ([a-z]+)/ ", text, re.MULTILINE):
        assert (core / folder).is_dir(), folder
    for path in re.findall(r"`((?:core|files|report|app|match|engine|support|prove|model|tests)/[a-z_/]+\.py)`", text):
        roots = (core, core.parent, DOCS.parent)
        assert any((root / path).is_file() for root in roots), path
    for module, function in re.findall(r"`((?:[a-z_]+\.)+)(?!py`|md`|js`)([a-z_]+)`", text):
        home = next((one for one in (f"neat_delta.core.{module}", f"neat_delta.{module}") if find_spec(one[:-1])), None)
        assert home is None or hasattr(import_module(home[:-1]), function) or find_spec(f"{home}{function}"), function
