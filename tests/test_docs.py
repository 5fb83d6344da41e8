"""The examples in docstrings run, every public function has one, and the public names are where the table says."""

from __future__ import annotations

import doctest
import inspect
import pkgutil
from importlib import import_module

import pytest

import neat_delta

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
