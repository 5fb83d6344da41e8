"""A real spreadsheet opens and saves the demo store: nothing changes in value but what it really damages.

Needs LibreOffice (Debian: libreoffice-calc). Without it these tests are skipped and say so; `.ci/run` installs it,
and sets NEAT_DELTA_NEEDS_OFFICE, with which they fail instead.
"""

from __future__ import annotations

import atexit
import csv
import functools
import os
import random
import re
import shutil
import subprocess
import tempfile
from collections.abc import Sequence
from pathlib import Path

import polars as pl
import pytest

import neat_delta
from neat_delta import compare, read, read_store
from tests.conftest import LENGTH, PROGRAM, campaign, first_of

OFFICE = shutil.which("soffice")
needs_office = pytest.mark.skipif(
    OFFICE is None and not os.environ.get("NEAT_DELTA_NEEDS_OFFICE"),
    reason="LibreOffice is missing: apt-get install libreoffice-calc",
)
pytestmark = [needs_office, campaign]
DEMO = Path(neat_delta.__file__).parent / "demo"

CSV = "csv:Text - txt - csv (StarCalc)"
FILES = {
    "xlsx": ("xlsx", "workbook (xlsx)"),
    "ods": ("ods", "workbook (ods)"),
    "semicolon, Windows-1252": (f"{CSV}:59,34,1,1", "semicolon, Windows-1252"),
    "comma, UTF-8": (f"{CSV}:44,34,76,1", "comma, UTF-8"),
    "xls": ("xls", "workbook (xls)"),
    "tab, UTF-16": (f"{CSV}:9,34,65535,1", "tab, UTF-16"),
}


def saved(folder: Path, how: str, columns: str = "") -> str:
    """Live as the spreadsheet saves it after opening it; `columns` are told to it as it opens the file."""
    shutil.copy(DEMO / "live.csv", folder / "live.csv")
    (made,) = opened_and_saved(how, folder / "live.csv", options=[f"--infilter=CSV:44,34,76,1{columns}"])
    return made


@functools.cache
def profile() -> Path:
    """What the spreadsheet keeps of itself, made once; a second one that runs at the same time needs its own."""
    folder = tempfile.mkdtemp(prefix="neat-delta-office-")
    atexit.register(shutil.rmtree, folder, ignore_errors=True)
    return Path(folder)


def opened_and_saved(how: str, *files: Path, options: Sequence[str] = ()) -> list[str]:
    """The files as the spreadsheet saves them, in a folder of their own; it is started once for all of them."""
    assert OFFICE is not None, "LibreOffice is missing: apt-get install libreoffice-calc"
    out = files[0].parent / f"{files[0].stem} {how.partition(':')[0]}"
    command = [OFFICE, "--headless", f"-env:UserInstallation={profile().as_uri()}", *options]
    command += ["--convert-to", how, "--outdir", str(out), *map(str, files)]
    subprocess.run(command, check=True, capture_output=True, timeout=300)
    made = {one.stem: str(one) for one in out.iterdir()}
    return [made[one.stem] for one in files]


@pytest.mark.parametrize("name", first_of(FILES, 3))
def test_only_lost_zeros_are_a_change(tmp_path, name):
    """Opened with a double click, prices lose their last zero (no change), codes their first ones (damage)."""
    how, layout = FILES[name]
    sheet = read(saved(tmp_path, how))
    assert layout in str(sheet.layout)
    live = read(str(DEMO / "live.csv"))
    for store in (None, read_store(str(DEMO / "neat-delta.toml"))):
        changes = compare(live, sheet, store=store)
        assert changes.header.counts.same + changes.header.counts.changed == 418
        found = {(item.key["sku"], field): cell for item in changes.iter_items() for field, cell in item.cells.items()}
        items = live.cells.rows(named=True)
        assert found == {
            (item["sku"], field): (item[field], item[field].lstrip("0"))
            for item in items
            for field in ("barcode", "supplier_code")
            if item[field].startswith("0")
        }
        assert changes.header.counts.written_differently > 400  # 149.90 came back as 149.9
        assert changes.cells["held"].unique().to_list() == ["damage: leading zeros lost"]


@pytest.mark.parametrize("how", first_of(["xlsx", "ods", "xls"], 1))
def test_opened_with_care_nothing_changes_at_all(tmp_path, how):
    """With every column opened as text, each cell comes back as it was."""
    columns = ",," + "/".join(f"{n}/2" for n in range(1, 23))
    sheet = read(saved(tmp_path, how, columns.replace(",,", ",", 1)))
    live = read(str(DEMO / "live.csv"))
    assert compare(live, sheet).header.counts.same == 418
    differs = pl.concat([(live.cells[name] != sheet.cells[name]).to_frame() for name in live.fields], how="horizontal")
    assert not differs.select(pl.any_horizontal(pl.all())).to_series().any()


EDITS = {
    ("QA-1005", "price"): "172,35",
    ("QA-1017", "name"): "Rapid feeder, three litres",
    ("QA-1030", "stock"): "77",
    ("QA-1048", "status"): "hidden",
    ("QA-1100", "cost"): "6,25",
}
"""What a person meant, as they type it where there are decimal commas."""


def typed(field: str, text: str, mark: str) -> str:
    """What is typed where decimals have this mark."""
    return text.replace(",", mark) if field in {"price", "cost"} else text


@pytest.mark.parametrize("language, mark", [(1031, ","), (1033, ".")], ids=["German", "American"])
def test_real_damage_is_named_cell_by_cell_and_repaired(tmp_path, language, mark):
    """The demo store's CSV, opened with a double click and saved. A German spreadsheet takes 13.610 kg for 13610."""
    form = f"44,34,76,1,,{language},false,true"
    file = tmp_path / "live.csv"
    shutil.copy(DEMO / "live.csv", file)
    (out,) = opened_and_saved(f"{CSV}:{form},false", file, options=[f"--infilter=CSV:{form}"])
    live, store = read(str(DEMO / "live.csv")), read_store(str(DEMO / "neat-delta.toml"))
    back = read(out).cells
    names = {
        ("barcode", "leading zeros lost"): lambda text: text.startswith("0"),
        ("supplier_code", "leading zeros lost"): lambda text: text.startswith("0"),
        ("weight_kg", "decimal mark lost"): lambda text: mark == "," and text != "",
    }
    wanted = {
        (sku, field, name, text)
        for (field, name), hurt in names.items()
        for sku, text in live.cells.select("sku", field).iter_rows()
        if hurt(text)
    }
    for (sku, field), text in EDITS.items():
        back = back.with_columns(
            pl.when(pl.col("sku") == sku).then(pl.lit(typed(field, text, mark))).otherwise(field).alias(field)
        )
    sheet = tmp_path / "sheet.csv"
    back.write_csv(sheet)
    for repair, done in ((False, "held"), (True, "repaired")):
        changes = compare(live, read(str(sheet)), store=store, repair=repair)
        found = {(one.key["sku"], one.field, one.damage, one.repair) for one in changes.iter_damaged()}
        assert found == wanted and changes.damaged["done"].unique().to_list() == [done]
        sent = changes.sent().with_columns(sku=changes.keys["sku"].gather(changes.sent()["item"]))
        cells = {(sku, field): after for sku, field, after in sent.select("sku", "field", "after").iter_rows()}
        assert cells == {(sku, field): typed(field, text, ".") for (sku, field), text in EDITS.items()}
    assert changes.cells.height == len(EDITS)


SHEETS = {"xlsx": "xlsx", "ods": "ods", "csv": f"{CSV}:44,34,76,1"}


@pytest.fixture(scope="module")
def cut_sheet(tmp_path_factory) -> Path:
    """A working sheet of the demo store, as the spreadsheet saves it in its own flat form."""
    folder = tmp_path_factory.mktemp("cut")
    for name in ("live.csv", "neat-delta.toml"):
        shutil.copy(DEMO / name, folder / name)
    subprocess.run([PROGRAM, "sheet", "live.csv", "-o", "sheet.xlsx"], cwd=folder, check=True, capture_output=True)
    return Path(opened_and_saved("fods", folder / "sheet.xlsx")[0])


@pytest.mark.parametrize(
    "how", [pytest.param(how, marks=campaign if name == "ods" else (), id=name) for name, how in SHEETS.items()]
)
def test_a_working_sheet_comes_back_as_it_was(tmp_path, cut_sheet, how):
    """Opened and saved without an edit it is no change at all; edited in five cells, exactly those."""
    live, store = read(str(DEMO / "live.csv")), read_store(str(DEMO / "neat-delta.toml"))
    text = cut_sheet.read_text()
    row = text[text.index(">QA-1017<") :].partition("</table:table-row>")[0]
    edited = row
    wanted: dict[str, tuple[str, str]] = {}
    item = live.cells.filter(pl.col("sku") == "QA-1017").row(0, named=True)
    for field, new in (
        ("price", "19.95"),
        ("cost", "12.10"),
        ("stock", "321"),
        ("min_order", "3"),
        ("weight_kg", "1.125"),
    ):
        old = f"{float(item[field]):.15g}"
        edited, times = re.subn(
            rf'office:value="{re.escape(old)}"([^>]*)>\s*<text:p>[^<]*<',
            rf'office:value="{new}"\1><text:p>{new}<',
            edited,
            count=1,
        )
        assert times == 1, (field, row)
        wanted[field] = (item[field], new)
    (tmp_path / "edited.fods").write_text(text.replace(row, edited))
    shutil.copy(cut_sheet, tmp_path / "sheet.fods")
    sheet, edited_sheet = map(read, opened_and_saved(how, tmp_path / "sheet.fods", tmp_path / "edited.fods"))
    changes = compare(live, sheet, store=store)
    assert changes.header.counts.same == 418 and not changes.header.findings
    assert how.startswith("csv") or (sheet.origin is not None and sheet.origin.blake3 == live.digest())
    changes = compare(live, edited_sheet, store=store)
    assert [(one.key["sku"], one.cells, one.held) for one in changes.iter_items()] == [("QA-1017", wanted, [])]
    if not how.startswith("csv"):  # it remembers what it was cut with, when the store has moved on
        moved = compare(read(str(DEMO / "fresh.csv")), edited_sheet, store=store)
        assert [(one.key["sku"], one.cells, one.held) for one in moved.iter_items()] == [("QA-1017", wanted, [])]
        assert moved.header.remembered and moved.header.counts.meanwhile > 40


def odd_text(rng: random.Random) -> str:
    """A text of an attribute or a code that a spreadsheet may take for a value."""

    def of(low: int, high: int) -> str:
        return str(rng.randint(low, high))

    word = rng.choice(["DEC", "Mar", "AUG", "Jun", "SEP", "Jan", "May", "Feb", "Q1", "EX", "AB", "E"])
    shapes = [
        f"{word}-{of(1, 9999)}", f"{of(1, 99999)}.0", f"{of(1, 99)}E{of(0, 3000)}", f"{of(0, 30)}:{of(0, 59)}",
        f"{of(0, 5)} {of(1, 9)}/{of(2, 16)}", f"({of(1, 999)})", f"{of(1, 12)}.{of(1, 12)}.{of(1, 30)}",
        f"{of(1, 99)} %", f"{of(1, 12)}/{of(1, 16)}", f"Q{of(1, 4)} {of(1990, 2040)}",
        f"{of(0, 23)}:{of(10, 59)}:{of(10, 59)}", f"00{of(1, 99999)}", of(10**12, 10**17), f"{of(1, 31)}-{word}",
        f"{word} {of(1, 40)}", f"{of(1, 999)},{of(100, 999)}", f"{of(1, 999)}.{of(100, 999)}", f"+{of(1, 10**8)}",
        f"-{of(1, 999)}", f"{of(1, 999)}-", f"{of(1, 99)}%", rng.choice(["true", "FALSE", "True", "no", "yes"]),
        f"${of(1, 999)}.{of(10, 99)}", f"{of(1, 12)}-{of(1, 31)}", f"{of(1990, 2030)}-{of(1, 12)}-{of(1, 28)}",
        f"{of(1, 99)}.{of(0, 99)}", f"{of(1, 500)} ml", f"{word}{of(1, 99)}", f"{of(1, 99)} x {of(1, 99)} cm",
    ]  # fmt: skip
    return rng.choice(shapes)


LANGUAGES = {"American": 1033, "German": 1031, "French": 1036, "Polish": 1045, "Spanish": 3082, "Italian": 1040,
             "Dutch": 1043, "Swedish": 1053}  # fmt: skip


def judged(folder: Path, language: str, form: str, texts: list[str]) -> None:
    """A real spreadsheet opens these texts and saves them: of what it made others of, 99 in 100 are held, with a store
    file and without.
    """
    file = folder / "texts.csv"
    with file.open("w", newline="", encoding="utf-8") as out:
        csv.writer(out).writerows([["sku", "attribute"], *([f"K{n}x", text] for n, text in enumerate(texts))])
    layout = f"44,34,76,1,,{LANGUAGES[language]},false,true"
    how = f"{CSV}:44,34,76,1,,0,false,true,false" if form == "csv" else form
    (saved_as,) = opened_and_saved(how, file, options=[f"--infilter=CSV:{layout}"])
    back = read(saved_as).cells["attribute"].to_list()
    pairs = [(one, other) for one, other in zip(texts, back, strict=True) if one != other]
    assert len(pairs) * 3 > len(texts)
    shaped = [(re.sub(r"\d+", "9", re.sub(r"[A-Za-z]+", "a", one)), one, other) for one, other in pairs]
    fields = {shape: [pair for what, *pair in shaped if what == shape] for shape, _, _ in shaped}
    most = max(len(column) for column in fields.values()) * 2
    skus = [f"K{n}x" for n in range(most)]  # a field for each shape, whose other cells are as they were
    live, sheet = (
        neat_delta.as_catalogue(
            {"sku": skus}
            | {
                shape: [pair[side] for pair in column] + (most // len(column) * [pair[0] for pair in column])
                [: most - len(column)]
                for shape, column in fields.items()
            },
            name,
        )
        for side, name in ((0, "live"), (1, "sheet"))
    )  # fmt: skip
    for kind in (None, "text", "code"):
        settings = {shape: neat_delta.Field(kind) for shape in fields} if kind else {}
        store = neat_delta.Store(key=neat_delta.Key(["sku"]), fields=settings) if kind else None
        changes = compare(live, sheet, store=store)
        sent = changes.sent().select("before", "after").rows()
        assert len(sent) * 100 <= changes.cells.height, (language, form, kind, sent)


@pytest.mark.parametrize("language", ["American", "German"])
def test_what_a_spreadsheet_makes_of_odd_texts_is_held(tmp_path, language):
    rng = random.Random(language)
    judged(tmp_path, language, "csv", list(dict.fromkeys(odd_text(rng) for _ in range(500))))


@campaign
@pytest.mark.parametrize("form", ["csv", "xlsx", "ods"])
@pytest.mark.parametrize("language", LANGUAGES)
def test_what_a_spreadsheet_makes_of_odd_texts_is_held_at_length(tmp_path, language, form):
    rng = random.Random(f"{language} {form}")
    judged(tmp_path, language, form, list(dict.fromkeys(odd_text(rng) for _ in range(450 * LENGTH))))
