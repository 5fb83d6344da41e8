"""The stages of comparing as one tuple: what each takes and gives, how far a round can be cut into parts, and the way
from the command to the bytes on disk, as docs/design.md tells it.
"""

from __future__ import annotations

import importlib
import inspect
import re
import sys
import tomllib
from collections.abc import Callable
from dataclasses import replace
from functools import partial
from importlib.resources import files
from pathlib import Path
from types import FrameType
from typing import Any

import polars as pl
import pytest

import neat_delta
from neat_delta import Catalogue, CompareRequest
from neat_delta.app.inputs import read_inputs
from neat_delta.app.settings import request_of
from neat_delta.core.base.support.errors import CatalogueError
from neat_delta.core.compare.checks import CHECKS
from neat_delta.core.compare.round import Round
from neat_delta.core.engine.whole import STAGES, run

DEMO = files("neat_delta.demo")
DESIGN = (Path(__file__).parent.parent / "docs/design.md").read_text()


def demo_round(**said: Any) -> Round:
    store = neat_delta.read_store(str(DEMO / "neat-delta.toml"))
    asked = request_of(CompareRequest, said)
    inputs = read_inputs(str(DEMO / "live.csv"), str(DEMO / "sheet.csv"), asked, store=store, mapping=None)
    return Round(inputs.live, inputs.sheet, store, inputs.asked.options())


def test_each_stage_takes_a_round_and_gives_one_and_is_short():
    round_ = demo_round()
    for stage in STAGES:
        assert [*inspect.signature(stage).parameters] == ["round_"], stage
        assert len(inspect.getsource(stage).splitlines()) <= 60, stage
        before, round_ = round_, stage(round_)
        assert isinstance(round_, Round) and (round_.live, round_.sheet) == (before.live, before.sheet)
    assert list(round_.changes.iter_items()) == list(run(demo_round()).changes.iter_items())


def test_a_stage_changes_nothing_of_the_round_that_it_takes():
    """Twice through every stage from the same round comes to the same."""
    round_ = demo_round(repair=True, with_new=True)
    for stage in STAGES:
        first, round_ = stage(round_), stage(round_)
        for one in ("texts", "deltas", "findings", "decided", "checked"):
            left, right = getattr(first, one), getattr(round_, one)
            assert (left is None) == (right is None)
            assert left is None or left.equals(right), (stage, one)


TWO_ROWS = [
    {"sku": ["QA-1", "QA-2"], "price": ["9.90", "20.00"]},
    {"sku": ["QA-2", "QA-1"], "price": ["20.00", "10.50"]},
]


@pytest.mark.parametrize("inputs, most", [("two rows", 110), ("the demo", 400)])
def test_a_small_compare_asks_the_engine_only_so_often(inputs, most, monkeypatch):
    """Each question costs as much as hundreds of cells, whatever it is asked of."""
    live, sheet = (neat_delta.as_catalogue(rows, name) for rows, name in zip(TWO_ROWS, ("live", "sheet"), strict=True))
    round_ = demo_round() if inputs == "the demo" else Round(live, sheet, None, CompareRequest().options())
    assert questions(lambda: run(round_), monkeypatch) <= most


def questions(work: Callable[[], object], monkeypatch: pytest.MonkeyPatch) -> int:
    """How often some work asks the engine."""
    asked: list[str] = []
    with monkeypatch.context() as patched:
        for name in ("collect", "_collect_eager"):
            was = getattr(pl.LazyFrame, name)

            def counted(self: pl.LazyFrame, *said: Any, was: Any = was, **more: Any) -> Any:
                asked.append(sys._getframe(1).f_code.co_name)
                return was(self, *said, **more)

            patched.setattr(pl.LazyFrame, name, counted)
        work()
    return len(asked)


def test_however_many_runs_there_are_the_engine_is_asked_as_often(monkeypatch):
    """Prices of which ten go up by one step, again and again: as many questions for 30 such runs as for 10."""
    asked = []
    for many in (200, 600):
        skus = [f"QA-{n}" for n in range(many)]
        live = {"sku": skus, "price": [f"{n * n * 31 % 97 + 10}.00" for n in range(many)]}
        sheet = live | {"price": [f"{n // 10 % 60 + 200 + (n // 10 % 2) * (n % 10)}.50" for n in range(many)]}
        one, other = (neat_delta.as_catalogue(rows, name) for rows, name in ((live, "live"), (sheet, "sheet")))
        round_ = Round(one, other, None, CompareRequest().options())
        assert "a series filled down" in {finding.name for finding in run(round_).changes.header.findings}
        asked.append(questions(partial(run, round_), monkeypatch))
    assert asked[0] == asked[1]


IN_PLACE = re.compile(r"\.scatter\(")


def test_values_are_put_into_columns_in_one_place():
    """Polars' `scatter` changes the column that it is called on, and with it all that share its memory."""
    core = Path(neat_delta.__file__).parent
    using = {str(one.relative_to(core)) for one in core.rglob("*.py") if IN_PLACE.search(one.read_text())}
    assert using == {"core/base/support/series.py", "report/charts.py"}  # of which the second draws dots


def part(catalogue: Catalogue, number: int, of: int) -> Catalogue:
    """The rows of a catalogue whose SKU falls into this part of so many."""
    sku = next(name for name in catalogue.fields if name.casefold() == "sku")
    places = (catalogue.cells[sku].str.strip_chars().hash(7) % of == number).arg_true()
    return replace(catalogue, table=catalogue.cells[places], row_numbers=catalogue.row(places.cast(pl.Int64)))


def found_in_items(changes: neat_delta.ChangeSet) -> set[tuple[str | None, ...]]:
    """What is found by the checks that look at a cell or an item, and by the damages."""
    flags = changes.iter_check_findings()
    of_items = [flag for flag in flags if flag.check in CHECKS and CHECKS[flag.check].looks_at in {"cell", "item"}]
    damaged = [(one.key["sku"], one.field, one.damage) for one in changes.iter_damaged() if one.key]
    return {(flag.key["sku"], flag.field, flag.what) for flag in of_items if flag.key} | {*damaged}


@pytest.mark.parametrize("of", [2, 7])
def test_parts_by_key_come_to_the_whole_but_for_what_looks_at_a_whole_column(of):
    """All cells, verdicts and rows are the same, whatever the parts; held otherwise is only what a slip holds, which is
    seen in a column, not in an item.
    """
    round_ = demo_round()
    all_changes, found_in_parts = run(round_).changes, set[tuple[str | None, ...]]()
    whole = {tuple(item.key.values()): item for item in all_changes.iter_items()}
    parts: dict[tuple[str, ...], Any] = {}
    for number in range(of):
        one = replace(round_, live=part(round_.live, number, of), sheet=part(round_.sheet, number, of))
        try:
            changes = run(one).changes
            parts |= {tuple(item.key.values()): item for item in changes.iter_items()}
            found_in_parts |= found_in_items(changes)
        except CatalogueError:  # a part without a row of one of the two
            continue
    assert parts.keys() == whole.keys()
    assert found_in_parts == found_in_items(all_changes) != set()
    for key, item in whole.items():
        other = parts[key]
        assert (other.cells, other.verdict, other.row) == (item.cells, item.verdict, item.row)
        by_column = {one.field for one in (*item.held, *other.held) if one.reason.startswith("slip: ")}
        ours, theirs = ([one for one in it.held if one.field not in by_column] for it in (item, other))
        assert ours == theirs, key


def test_a_request_is_made_of_a_file_as_it_is_of_words():
    """What a file of rounds will say, key by key."""
    said = tomllib.loads(
        'key = ["sku"]\naccept = ["slip:stock", "large-round"]\nblanks = "clear"\nwith_new = true\n'
        'clash = { stock = "add" }\nmap = { Trade = "cost" }\nonly = ["price", "stock"]\n'
    )
    words = {"key": "sku", "accept": ("slip:stock", "large-round"), "blanks": ["clear"], "with_new": True,
             "clash": ["stock=add"], "map": "Trade=cost", "only": "price,stock"}  # fmt: skip
    assert request_of(CompareRequest, said) == request_of(CompareRequest, words)


def walked() -> list[tuple[str, str]]:
    """The functions of the walk in docs/design.md, in its order: the module and the name of each."""
    section = DESIGN.split("## A walk")[1].split("\n## ")[0]
    return [(module, name) for module, name in re.findall(r"^\d+\. `([a-z_.]+)\.([a-z_]+)`", section, re.MULTILINE)]


def test_the_walk_from_the_command_to_the_bytes_is_the_one_that_is_told(tmp_path, monkeypatch):
    """At most 20 functions, each called after the one before it for the first time."""
    walk = walked()
    assert 10 < len(walk) <= 20
    codes = {
        getattr(thing, "callback", thing).__code__: (module, name)
        for module, name in walk
        for thing in (getattr(importlib.import_module(f"neat_delta.{module}"), name),)
    }
    for name in ("live.csv", "sheet.csv", "neat-delta.toml"):
        (tmp_path / name).write_bytes((DEMO / name).read_bytes())
    monkeypatch.chdir(tmp_path)
    met: list[tuple[str, str]] = []

    def look(frame: FrameType, event: str, _: object) -> None:
        one = codes.get(frame.f_code)
        if event == "call" and one is not None and one not in met:
            met.append(one)

    from neat_delta.cli.main import cli

    sys.setprofile(look)
    try:
        cli(["compare", "live.csv", "sheet.csv", "-o", "c.jsonl"], standalone_mode=False)
    finally:
        sys.setprofile(None)
    assert met == walk and (tmp_path / "c.jsonl").is_file()
