"""A real spreadsheet opens and saves the demo store: nothing changes in value but what it really damages.

Needs LibreOffice (Debian: libreoffice-calc). Without it these tests are skipped and say so; `.ci/run` installs it,
and sets NEAT_DELTA_NEEDS_OFFICE, with which they fail instead.
"""

from __future__ import annotations

import os
import shutil
import subprocess
from pathlib import Path

import polars as pl
import pytest

import neat_delta
from neat_delta import compare, read, read_store

OFFICE = shutil.which("soffice")
pytestmark = pytest.mark.skipif(
    OFFICE is None and not os.environ.get("NEAT_DELTA_NEEDS_OFFICE"),
    reason="LibreOffice is missing: apt-get install libreoffice-calc",
)
DEMO = Path(neat_delta.__file__).parent / "demo"

CSV = "csv:Text - txt - csv (StarCalc)"
FILES = {
    "xlsx": ("xlsx", "workbook (xlsx)"),
    "ods": ("ods", "workbook (ods)"),
    "xls": ("xls", "workbook (xls)"),
    "comma, UTF-8": (f"{CSV}:44,34,76,1", "comma, UTF-8"),
    "semicolon, Windows-1252": (f"{CSV}:59,34,1,1", "semicolon, Windows-1252"),
    "tab, UTF-16": (f"{CSV}:9,34,65535,1", "tab, UTF-16"),
}


def saved(folder: Path, how: str, columns: str = "") -> str:
    """Live as the spreadsheet saves it after opening it; `columns` are told to it as it opens the file."""
    shutil.copy(DEMO / "live.csv", folder / "live.csv")
    out = folder / "out"
    assert OFFICE is not None, "LibreOffice is missing: apt-get install libreoffice-calc"
    subprocess.run(
        [
            OFFICE,
            "--headless",
            f"-env:UserInstallation=file://{folder}/profile",
            f"--infilter=CSV:44,34,76,1{columns}",
            "--convert-to",
            how,
            "--outdir",
            out,
            folder / "live.csv",
        ],
        check=True,
        capture_output=True,
        timeout=300,
    )
    (file,) = out.iterdir()
    return str(file)


@pytest.mark.parametrize("how, layout", FILES.values(), ids=FILES)
def test_only_lost_zeros_are_a_change(tmp_path, how, layout):
    """Opened with a double click, prices lose their last zero (no change), codes their first ones (damage)."""
    sheet = read(saved(tmp_path, how))
    assert layout in str(sheet.layout)
    live = read(str(DEMO / "live.csv"))
    for store in (None, read_store(str(DEMO / "neat-delta.toml"))):
        changes = compare(live, sheet, store=store)
        assert changes.header.counts.same + changes.header.counts.changed == 418
        found = {(item.key["sku"], field): cell for item in changes.each() for field, cell in item.cells.items()}
        items = live.cells.rows(named=True)
        assert found == {
            (item["sku"], field): (item[field], item[field].lstrip("0"))
            for item in items
            for field in ("barcode", "supplier_code")
            if item[field].startswith("0")
        }
        assert changes.header.counts.written_differently > 400  # 149.90 came back as 149.9
        assert not changes.cells["held"].drop_nulls().len()


@pytest.mark.parametrize("how", ["xlsx", "ods", "xls"])
def test_opened_with_care_nothing_changes_at_all(tmp_path, how):
    """With every column opened as text, each cell comes back as it was."""
    columns = ",," + "/".join(f"{n}/2" for n in range(1, 23))
    sheet = read(saved(tmp_path, how, columns.replace(",,", ",", 1)))
    live = read(str(DEMO / "live.csv"))
    assert compare(live, sheet).header.counts.same == 418
    differs = pl.concat([(live.cells[name] != sheet.cells[name]).to_frame() for name in live.fields], how="horizontal")
    assert not differs.select(pl.any_horizontal(pl.all())).to_series().any()
