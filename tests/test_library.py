"""The library as people guess it: whatever holds a table is taken, a change set is looked into by its key, planned and
written without another word, and a folder says by itself what became of it. The scripts of docs/library.md run.
"""

from __future__ import annotations

import datetime
import importlib
import inspect
import re
import shutil
from decimal import Decimal
from importlib.resources import files
from pathlib import Path
from typing import Any

import pandas as pd
import polars as pl
import pyarrow as pa
import pytest

import neat_delta as nd
from neat_delta.app.sources import table_of
from neat_delta.practice.faults import Faults, Refusal
from neat_delta.practice.folder import import_folder
from neat_delta.practice.shop import Shop
from tests.test_docs import MODULES

SCRIPTS = re.findall(r"```python\n(.*?)```", (Path(__file__).parent.parent / "docs/library.md").read_text(), re.DOTALL)


@pytest.fixture
def demo(tmp_path, monkeypatch):
    for one in files("neat_delta.demo").iterdir():
        if one.name.endswith((".csv", ".toml")):
            (tmp_path / one.name).write_bytes(one.read_bytes())
    monkeypatch.chdir(tmp_path)
    return tmp_path


def test_there_are_ten_scripts_and_one_to_begin_with():
    assert len(SCRIPTS) == 11


@pytest.mark.parametrize("number", range(len(SCRIPTS)))
def test_each_script_of_the_library_runs(demo, number):
    """Twice, but for what it made: none needs what another left."""
    before = {*demo.iterdir()}
    for _ in range(2):
        exec(compile(SCRIPTS[number], "library.md", "exec"), {})
        for made in {*demo.iterdir()} - before:
            shutil.rmtree(made) if made.is_dir() else made.unlink()


LIVE = {"sku": ["QA-1", "QA-2", "QA-3"], "price": ["9.90", "20.00", "30.00"], "stock": ["5", "6", "7"]}
STORE = nd.Store(
    key=nd.Key(["sku"]),
    fields={"price": nd.Field("money", decimals=2), "stock": nd.Field("integer"), "on": nd.Field("date")},
)
CHANGED = [("QA-1", "price", "10.50"), ("QA-2", "stock", "0")]
TABLES: dict[str, Any] = {
    "a dictionary": {"sku": ["QA-1", "QA-2"], "price": ["10.50", "20.00"], "stock": ["5", "0"]},
    "numbers": {"sku": ["QA-1", "QA-2"], "price": [Decimal("10.50"), Decimal("20.00")], "stock": [5, 0]},
    "binary numbers": {"sku": ["QA-1", "QA-2"], "price": [10.5, 20.0], "stock": [5, 0]},
    "rows": [{"sku": "QA-1", "price": 10.5, "stock": 5}, {"sku": "QA-2", "price": 20.0, "stock": 0}],
    "Polars": pl.DataFrame({"sku": ["QA-1", "QA-2"], "price": ["10.5", "20"], "stock": [5, 0]}),
    "pandas": pd.DataFrame({"sku": ["QA-1", "QA-2"], "price": [10.5, 20.0], "stock": [5, 0]}),
    "pandas, categories": pd.DataFrame({"sku": ["QA-1", "QA-2"], "price": [10.5, 20], "stock": ["5", "0"]}).astype(
        {"sku": "category", "stock": "object"}
    ),
    "Arrow": pa.table({"sku": ["QA-1", "QA-2"], "price": [10.5, 20.0], "stock": pa.array([5, 0], pa.int16())}),
    "Arrow, decimals": pa.table(
        {"sku": ["QA-1", "QA-2"], "price": [Decimal("10.5"), Decimal("20.0")], "stock": ["5", "0"]}
    ),
}


@pytest.mark.parametrize("sort", TABLES)
def test_a_table_of_any_sort_is_a_catalogue(sort):
    changes = nd.compare(LIVE, TABLES[sort], store=STORE)
    assert changes.to_frame().select("sku", "field", "after").rows() == CHANGED
    assert not len(nd.compare(TABLES[sort], TABLES["a dictionary"], store=STORE))  # as live, too


def test_a_path_is_one_and_is_read_as_a_file(put):
    put("live.csv", "sku;price\nQA-1;9,90\nQA-2;1,00\n")
    path = Path(put("sheet.csv", "sku,price\nQA-2,1.00\nQA-1,10.50\n"))
    changes = nd.compare(path.with_name("live.csv"), path)
    assert changes["QA-1"].cells == {"price": ("9,90", "10,50")}
    assert changes.header.live.path == str(path.with_name("live.csv"))


CELLS = {
    "nothing": (None, ""),
    "a day": (datetime.date(2026, 11, 29), "2026-11-29"),
    "midnight, as pandas has days": (datetime.datetime(2026, 11, 29), "2026-11-29"),
    "a time": (datetime.datetime(2026, 11, 29, 13, 45, 7), "2026-11-29T13:45:07"),
    "a truth": (True, "true"),
    "many digits": (Decimal("12345678901234567.10"), "12345678901234567.10"),
    "a small decimal": (Decimal("0.00000001"), "0.00000001"),
    "a large whole number": (2**62, "4611686018427387904"),
    "less than nothing": (-5, "-5"),
    "a text of a number": ("00417", "00417"),
    "white space": (" x ", " x "),
}


@pytest.mark.parametrize("sort", CELLS)
def test_a_cell_becomes_its_exact_text(sort):
    value, text = CELLS[sort]
    table = table_of({"sku": ["QA-1"], "cell": pl.Series([value])}, "sheet")
    assert table["cell"].to_list() == [text]


@pytest.mark.parametrize(
    ("cells", "said"),
    [
        ([9.9], 'the column "price" holds binary floating point numbers, and how many decimals they have is not known'),
        ([9.905], '9.905 in the column "price" has more than 2 decimals'),
        ([0.1 + 0.2], '0.30000000000000004 in the column "price" has more than 2 decimals'),
        ([["a", "b"]], 'the column "price" holds List(String), and a cell is one text or number'),
    ],
)
def test_a_cell_that_is_not_exact_is_an_error_that_says_so(cells, said):
    store = None if cells == [9.9] else STORE
    with pytest.raises(nd.CatalogueError) as refusal:
        nd.compare(LIVE, {"sku": ["QA-1"], "price": cells}, store=store)
    assert str(refusal.value).startswith("sheet: ") and said in str(refusal.value)


def test_what_is_no_table_is_an_error_that_says_what_to_give():
    for thing in (None, 5, object(), [1, 2], {"sku": "QA-1", "price": [1, 2]}):
        with pytest.raises(nd.NeatDeltaError) as refusal:
            nd.compare(LIVE, thing)
        assert str(refusal.value).startswith("sheet") and "Traceback" not in str(refusal.value)


def test_binary_numbers_are_written_with_the_fields_decimals_and_the_stores_mark():
    store = nd.Store(fields={"price": nd.Field("money", decimals=2)}, writing=nd.Notation(","))
    table = table_of({"price": [1234.5, -0.0, 1e-2, float("nan"), None, 7.0]}, "sheet", store)
    assert table["price"].to_list() == ["1234,50", "0,00", "0,01", "", "", "7,00"]


def test_a_change_set_is_looked_into_by_its_key():
    sheet = {"sku": ["QA-1", "QA-9"], "price": ["10.50", "1.00"], "stock": ["5", "1"]}
    changes = nd.compare(LIVE, sheet, store=STORE)
    assert len(changes) == 2 and [item.key["sku"] for item in changes] == ["QA-1", "QA-9"]
    assert changes["QA-1"].cells == {"price": ("9.90", "10.50")} and changes["QA-9"].verdict == "new"
    for key in ("QA-2", ("QA-1", "north")):
        with pytest.raises(KeyError):
            changes[key]
    assert repr(changes) == "<Changes live → sheet: 1 changed, 1 new; 1 cells to send, 2 held>"
    assert "<table" in changes._repr_html_() and "1 changed, 1 new" in changes._repr_html_()
    places = {"sku": ["QA-1", "QA-1"], "place": ["north", "south"], "stock": ["1", "2"]}
    several = nd.compare(places, places | {"stock": ["1", "5"]}, key=["sku", "place"])
    assert several["QA-1", "south"].cells == {"stock": ("2", "5")}


def test_the_frames_of_a_change_set_add_up(demo):
    changes = nd.compare("live.csv", "sheet.csv", store="neat-delta.toml", whole=True)
    table, waiting = changes.to_frame(), changes.held
    assert table.columns == ["sku", "verdict", "field", "before", "after", "held"]
    assert table["sku"].n_unique() == len(changes)
    assert table.filter(pl.col("field").is_not_null()).height == changes.cells.height
    sent = table.filter(pl.col("held").is_null() & pl.col("field").is_not_null())
    assert sent.select("field", "after").rows() == changes.sent().select(pl.col("field").cast(str), "after").rows()
    assert waiting.to_frame().rows() == table.filter(pl.col("held").is_not_null()).rows()
    found = changes.findings
    assert found.height == changes.damaged.height + changes.flags.height
    assert found.filter(source="damage")["value"].null_count() == 0
    damaged = [(one.key["sku"], one.field, one.sheet) for one in changes.iter_damaged()]
    assert sorted(found.filter(source="damage").select("sku", "field", "value").rows()) == sorted(damaged)


def test_repaired_cells_are_found_with_their_keys(demo):
    changes = nd.compare("live.csv", "sheet.csv", store="neat-delta.toml", repair=True)
    repaired = changes.findings.filter(done="repaired")
    assert repaired.height and repaired["sku"].null_count() == 0


def test_a_key_that_is_called_like_a_column_keeps_its_name():
    live = {"field": ["QA-1"], "price": ["9.90"]}
    table = nd.compare(live, live | {"price": ["10.50"]}, key="field").to_frame()
    assert table.columns == ["field", "verdict", "field_", "before", "after", "held"]


def test_a_plan_has_its_tables_and_writes_itself(tmp_path):
    sheet = {"sku": ["QA-1", "QA-2"], "price": ["10.50", ""], "stock": ["5", "0"]}
    changes = nd.compare(LIVE, sheet, store=STORE, accept="emptied")
    plan = changes.plan(nd.Importer("skip", empties="-"))
    assert plan.tables["update-1"].rows() == [("QA-1", "10.50", None), ("QA-2", "-", "0")]
    assert [*plan.tables] == ["update-1", "undo-1"] == [*plan.tables]
    manifest = plan.write(tmp_path / "out")
    assert (tmp_path / "out" / manifest.update[0].file).is_file() and nd.read_changes(str(tmp_path / "out.jsonl"))
    with pytest.raises(nd.OutputError):
        plan.write(tmp_path / "out")
    (tmp_path / "work").mkdir()
    (tmp_path / "work" / "notes.txt").touch()
    with pytest.raises(nd.OutputError):
        plan.write(tmp_path / "work")
    assert not (tmp_path / "work.jsonl").exists()  # nothing was handed over, so nothing is left
    assert changes.plan(importer_blanks="skip").importer.blanks == "skip"
    with pytest.raises(nd.SettingError, match="Did you mean"):
        changes.plan(importer_blank="skip")


def test_a_folder_says_what_became_of_it(tmp_path):
    """Landed, refused with the store's message, sold meanwhile; by an export, by a report, by both."""
    live = LIVE | {"name": ["Hive", "Frame", "Wax"]}
    sheet = {"sku": ["QA-1", "QA-2", "QA-3"], "price": ["10.50", "21.00", "30.00"], "name": ["Hive", "Frame", "Waxes"]}
    report = nd.ResultsForm(["sku"], status="status", done=["done"], refused=["refused"], message="message")
    store = nd.Store(key=STORE.key, fields=STORE.fields, importer=nd.Importer("skip"), results=report)
    changes = nd.compare(live, sheet, store=store)
    folder = tmp_path / "out"
    changes.plan().write(folder)
    shop = Shop(nd.as_catalogue(live, "live"), store).with_faults(Faults(refuse=[Refusal("QA-2", None)]))
    made = import_folder(shop, str(folder))
    (tmp_path / "after.csv").write_bytes(made.after)
    (tmp_path / "results.csv").write_bytes(made.results)
    seen = nd.confirm(folder, tmp_path / "after.csv", live=live, store=store)
    rows = [("QA-1", "price", "landed"), ("QA-2", "price", "not landed"), ("QA-3", "name", "landed")]
    assert seen.to_frame().select("sku", "field", "outcome").rows() == rows and not seen.all_done
    assert seen.to_frame().filter(sku="QA-2")["now"].to_list() == ["20.00"]
    said = nd.confirm(folder, results=tmp_path / "results.csv", live=live, store=store).to_frame()
    assert said.select("sku", "outcome", "said").rows() == [
        ("QA-1", None, "done"), ("QA-2", None, "refused"), ("QA-3", None, "done")
    ]  # fmt: skip
    both = nd.confirm(folder, tmp_path / "after.csv", results=[tmp_path / "results.csv"], live=live,
                      store=store)  # fmt: skip
    one = both.to_frame().filter(sku="QA-2").row(0, named=True)
    assert (one["meant"], one["now"], one["outcome"], one["said"]) == ("21.00", "20.00", "not landed", "refused")
    assert one["message"] and both.both is not None and not both.both.disputed


def test_a_working_sheet_remembers_in_the_library_as_on_the_command_line(run, put):
    """What the store changed since it was cut is not sent at the sheet's old value: the base is said or remembered."""
    put("cut.csv", "sku,price,stock\nQA-1,9.90,5\nQA-2,20.00,6\n")
    live = put("live.csv", "sku,price,stock\nQA-1,9.90,3\nQA-2,21.00,6\n")
    for form in ("csv", "xlsx"):
        assert run("sheet", "cut.csv", "-o", f"sheet.{form}").returncode == 0
    sheet = Path(live).with_name("sheet.csv")
    assert not len(nd.compare(live, sheet)) and not len(nd.compare(live, sheet.with_suffix(".xlsx")))
    sheet.write_bytes(sheet.read_bytes().replace(b"9.90", b"10.50"))
    changes = nd.compare(live, sheet)
    assert changes.to_frame().select("sku", "field", "after", "held").rows() == [("QA-1", "price", "10.50", None)]
    assert run("compare", "live.csv", "sheet.csv", "-o", "c.jsonl").returncode == 0
    assert nd.read_changes(str(sheet.with_name("c.jsonl"))).to_frame().rows() == changes.to_frame().rows()
    table = {"sku": ["QA-1"], "price": ["10.50"], "stock": ["5"]}
    for base in (
        sheet.with_name("cut.csv"),
        str(next(sheet.parent.glob("*.base"))),
        nd.read(live.replace("live", "cut")),
    ):
        assert nd.compare(live, table, base=base).to_frame().rows() == changes.to_frame().rows()


def test_a_folder_without_its_change_set_says_so(tmp_path):
    changes = nd.compare(LIVE, {"sku": ["QA-1"], "price": ["10.50"]}, store=STORE)
    changes.plan(nd.Importer("skip")).write(tmp_path / "out")
    with pytest.raises(nd.SettingError):
        nd.confirm(tmp_path / "out")
    other = LIVE | {"stock": ["1", "2", "3"]}
    with pytest.raises(nd.ChangeSetError, match="not the file"):
        nd.confirm(tmp_path / "out", LIVE, live=other)
    (tmp_path / "out.jsonl").rename(tmp_path / "kept.json")
    with pytest.raises(nd.OutputError, match="Say where the change set is now"):
        nd.confirm(tmp_path / "out", LIVE, live=LIVE)
    done = nd.confirm(tmp_path / "out", LIVE, live=LIVE, changes=tmp_path / "kept.json")
    assert done.to_frame()["outcome"].to_list() == ["not landed"]


INSIDE = {
    *(
        "AlignedInputs",
        "ColumnNotation",
        "ColumnOptions",
        "Columns",
        "CompareOptions",
        "DeferredTable",
        "Group",
        "Policy",
    ),
    *("Commas", "Flag", "Form", "Names", "Number", "OneOf", "Pairs", "Setting", "Step", "Text", "Values", "Word"),
}
"""What stands in public values and is only handed on, and the forms of settings."""


def annotations_of(public: Any) -> list[str]:
    """What a function returns, or what a value has."""
    if inspect.isfunction(public):
        return [str(inspect.signature(public).return_annotation)]
    given = [re.sub(r"\"[^\"]*\"", "", str(one)) for one in getattr(public, "__annotations__", {}).values()]
    methods = [getattr(one, "fget", one) for name, one in vars(public).items() if not name.startswith("_")]
    return given + [str(inspect.signature(one).return_annotation) for one in methods if inspect.isfunction(one)]


def test_every_type_that_is_returned_is_public():
    """From what the functions return on, through all that it has."""
    modules = [importlib.import_module(name) for name in MODULES if ".practice" not in name]
    classes = {name: one for module in modules for name, one in vars(module).items()
               if inspect.isclass(one) and one.__module__ == module.__name__ and not name.startswith("_")}  # fmt: skip
    everything = [getattr(nd, name) for name in nd.__all__]
    waiting = [one for one in everything if inspect.isclass(one) or inspect.isfunction(one)]
    seen, hidden = set[Any](), set[str]()
    while waiting:
        public = waiting.pop()
        if public in seen or (inspect.isclass(public) and issubclass(public, Exception)):
            continue
        seen.add(public)
        for name in {*re.findall(r"\b[A-Z]\w+\b", " ".join(annotations_of(public)))} & classes.keys() - INSIDE:
            hidden |= {name} - {*nd.__all__}
            waiting.append(classes[name])
    assert not hidden


PATHS = {"path", "folder", "file", "source", "ledger", "changes", "store", "mapping", "rules"}
"""What parameters are called that may be paths."""


def test_a_path_is_taken_as_text_or_as_pathlib_has_it_everywhere():
    """No public function that reads or writes takes a path as a text alone; the core only names one in a message."""
    functions = [one for one in (getattr(nd, name) for name in nd.__all__) if inspect.isfunction(one)]
    outside = [one for one in functions if ".core." not in one.__module__]
    assert len(outside) > 20
    for function in outside:
        for parameter in inspect.signature(function).parameters.values():
            texts = parameter.name in PATHS and re.search(r"\bstr\b", str(parameter.annotation))
            assert not texts, f"{function.__name__}({parameter})"


def test_a_round_in_paths_of_pathlib(demo, tmp_path):
    """From reading to the script and the delivery, with no text for a path."""
    store, live = nd.read_store(demo / "neat-delta.toml"), nd.read(demo / "live.csv")
    nd.write_changes(nd.compare(live, nd.read_base(demo / "sheet.csv"), store=store), demo / "c.jsonl")
    changes = nd.read_changes(demo / "c.jsonl")
    now = nd.read_live(changes, demo / "c.jsonl", live=demo / "live.csv")
    manifest = nd.write(changes, now, store.importer, tmp_path / "out")
    assert nd.file_rows(tmp_path / "out", changes, now, manifest)[0].file == manifest.update[0].file
    (tmp_path / "polled").mkdir()
    script = nd.script(tmp_path / "out", "items", changes=demo / "c.jsonl", live=demo / "live.csv")
    delivered = nd.deliver(tmp_path / "out", tmp_path / "polled", changes=demo / "c.jsonl")
    assert "UPDATE" in script and {file.outcome for file in delivered.files} == {"arrived"}
    (tmp_path / "report.csv").write_text("sku,result\nQA-1,Imported\n")
    assert nd.read_report(tmp_path / "report.csv").height == 1
    with pytest.raises(nd.FileError, match="there is no such file"):
        nd.read(demo / "nowhere.csv")
