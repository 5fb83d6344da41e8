"""The history in the browser, what it draws, and the units by which a system runs a round."""

from __future__ import annotations

import re
import shutil
import subprocess
from pathlib import Path

import pytest

from neat_delta.app.rounds.file import read_round_file
from tests.browser import scheme, show
from tests.conftest import first_of
from tests.test_ledger import a_round, kept
from tests.test_page import AXE, driver, needs_axe, needs_browser
from tests.test_rounds import ROWS, shop

__all__ = ["driver", "kept", "shop"]

DOCS = Path(__file__).parents[1] / "docs"


@pytest.fixture
def page(kept, run):
    """A page of three rounds, in one of which a name would be markup."""
    rows = a_round(kept, run, ROWS, 1, QA_3_price="13.50", QA_4_stock="7")
    rows = a_round(kept, run, rows, 2, QA_3_price="14.50", QA_5_name="<img src=x onerror=alert(1)>")
    a_round(kept, run, rows, 3, QA_9_stock="1")
    written = run("history", "--page", "history.html")
    assert (written.returncode, "Wrote history.html." in written.stdout) == (0, True), written.stderr
    return kept / "history.html"


def test_the_page_has_all_rounds_and_changes_and_is_the_same_each_time(page, kept, run):
    text = page.read_text()
    assert "3 rounds, 5 changes" in text
    assert "<img" not in text
    assert "default-src 'none'" in text
    assert run("history", "--page", "again.html").returncode == 0
    assert (kept / "again.html").read_text() == text
    assert run("history", "--sku", "QA-3", "--page", "one.html").returncode == 0
    assert "2 changes" in (kept / "one.html").read_text()


@pytest.mark.parametrize("words", first_of([["--sku", "QA-3"], ["--field", "price"], ["--field", "name"]], 1))
def test_a_chart_is_drawn_the_same_each_time(page, kept, run, words):
    for name in ("first.png", "second.png"):
        done = run("history", *words, "--chart", name)
        assert done.returncode == 0, done.stderr
    first = (kept / "first.png").read_bytes()
    assert first.startswith(b"\x89PNG") and first == (kept / "second.png").read_bytes()
    assert run("history", "--chart", "x.png").returncode == 2


@needs_browser
def test_the_page_is_narrowed_down(driver, page):
    from selenium.webdriver.common.by import By
    from selenium.webdriver.support.ui import Select

    show(driver, page)
    rows = lambda: [row.text for row in driver.find_elements(By.CSS_SELECTOR, "#rows tr")]  # noqa: E731
    assert len(rows()) == 5
    assert any("<img src=x onerror=alert(1)>" in row for row in rows())  # as text
    driver.find_element(By.ID, "find").send_keys("qa-3")
    assert len(rows()) == 2
    assert driver.find_element(By.ID, "status").text == "2 of 5 changes"
    driver.find_element(By.ID, "find").clear()
    driver.find_element(By.ID, "find").send_keys(" ")
    Select(driver.find_element(By.ID, "field")).select_by_visible_text("stock")
    assert len(rows()) == 2
    assert [entry for entry in driver.get_log("browser") if entry["level"] == "SEVERE"] == []


@needs_browser
@needs_axe
@pytest.mark.parametrize("which", ["light", "dark"])
def test_the_page_is_for_everybody(driver, page, which):
    scheme(driver, which)
    show(driver, page)
    driver.execute_script(Path(AXE or "").read_text())
    report = driver.execute_async_script("axe.run().then(arguments[0])")
    scheme(driver, "light")
    assert [(one["id"], one["nodes"][0]["html"]) for one in report["violations"]] == []


BLOCKS = re.findall(r"```ini\n(.*?)```", (DOCS / "weekly.md").read_text(), re.DOTALL)


def test_the_round_file_of_the_guide_is_one(tmp_path):
    (tmp_path / "weekly.toml").write_text(BLOCKS[0])
    file = read_round_file(str(tmp_path / "weekly.toml"))
    assert [sheet.at.file for sheet in file.sheets] == [
        "sftp://anna@files.quillfern.example/out/prices-*.csv", "counter.xlsx",
    ]  # fmt: skip


@pytest.mark.skipif(shutil.which("systemd-analyze") is None, reason="there is no systemd-analyze here")
def test_the_units_of_the_guide_are_what_systemd_takes(tmp_path):
    units = {match[1]: block for block in BLOCKS if (match := re.search(r"# /etc/systemd/system/(\S+)", block))}
    assert {Path(name).suffix for name in units} == {".service", ".timer"}
    for name, text in units.items():
        here = text.replace("/srv/quillfern/.venv/bin/neat-delta", "/bin/true").replace("User=quillfern", "User=root")
        (tmp_path / name).write_text(here.replace("WorkingDirectory=/srv/quillfern", "WorkingDirectory=/"))
    call = ["systemd-analyze", "verify", "--man=no", *(str(tmp_path / name) for name in units)]
    done = subprocess.run(call, capture_output=True, text=True, check=False)
    assert done.returncode == 0 and not [line for line in done.stderr.splitlines() if str(tmp_path) in line], (
        done.stderr
    )
