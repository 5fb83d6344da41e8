"""Takes the pictures of `docs/screenshots/` anew, with the text of each beside it: `python -m tools.pictures [NAME …]`.

Needs Chromium and its driver, and for the two pictures of a spreadsheet LibreOffice, Xvfb and ImageMagick (Debian:
chromium, chromium-driver, libreoffice-calc, xvfb, imagemagick). All are of the demo's files.
"""

from __future__ import annotations

import io
import os
import shlex
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Literal

from rich.console import Console
from rich.terminal_theme import TerminalTheme
from rich.text import Text

if TYPE_CHECKING:
    from selenium.webdriver.chrome.webdriver import WebDriver

__all__ = ["COLUMNS", "PICTURES", "Picture", "as_typed"]

FOLDER = Path(__file__).parents[1] / "docs" / "screenshots"
PROGRAM = Path(sys.executable).with_name("neat-delta")
COLUMNS, ROWS = 100, 40
"""A terminal of this size; what is longer is cut at the bottom."""

WIDTH, HEIGHT = 1280, 800


@dataclass(frozen=True, slots=True)
class Picture:
    """A picture: the command that it shows, or whose file it shows `of` (a page, a workbook, the practice store), what
    is pressed there, by the texts of buttons, and whether the figures or the items are in sight.
    """

    command: str
    of: Literal["terminal", "page", "workbook", "store", "history"] = "terminal"
    file: str = ""
    at: str = ""
    rows: int = ROWS


MONDAY = "1788757200"
"""The morning on which all rounds in pictures are run: 2026-09-07, 05:00 UTC."""

TUESDAY = "compare fresh.csv sheet.csv --base live.csv --repair --with-new-values tags"
PICTURES = {
    "demo": Picture("demo --to first"),
    "learn": Picture("learn live.csv -o drafted.toml --no-questions"),
    "check": Picture("check live.csv"),
    "match": Picture("match live.csv supplier.csv --match-by barcode"),
    "explain": Picture("preview list.jsonl --explain QA-1027"),
    "compare": Picture("compare live.csv sheet.csv --repair --with-new-values tags"),
    "moving": Picture(TUESDAY),
    "recode": Picture("recode live.csv codes.csv"),
    "preview": Picture("preview changes.jsonl --sort size --by category"),
    "write": Picture("write changes.jsonl --to written"),
    "deliver": Picture("deliver out --to handed-over --again"),
    "confirm": Picture("confirm changes.jsonl rehearsal/after.csv --files out --results rehearsal/results.csv"),
    "page": Picture("preview tuesday.jsonl --page tuesday.html", of="page", file="tuesday.html"),
    "clashes": Picture(f"{TUESDAY} -o clashes.jsonl -q", of="page", file="clashes.html", at="items"),
    "sheet": Picture(
        "sheet live.csv -o wax-sheet.xlsx --where \"category = 'Wax'\" --fields price,cost,stock,status",
        of="workbook", file="wax-sheet.xlsx",
    ),
    "signoff": Picture("preview changes.jsonl --workbook sign.xlsx", of="workbook", file="sign.xlsx"),
    "history": Picture("history --sku QA-1035"),
    "history-page": Picture("history --page rounds.html", of="history", file="rounds.html"),
    "practice-import": Picture(
        "practice live.csv --import out --to trial --refuse QA-1146 --refuse QA-1330 --round sale_price:1"
    ),
}  # fmt: skip
"""Every picture, by the name of its file."""


def as_typed(name: str, printed: str, *, colour: bool = False) -> str:
    """What the command of a picture has printed, under the command as it is typed."""
    bold = ("\x1b[1m", "\x1b[0m") if colour else ("", "")
    return f"{bold[0]}$ neat-delta {PICTURES[name].command}{bold[1]}\n\n{printed.lstrip(chr(10))}"


def _run(folder: Path, name: str, *, colour: bool = False) -> str:
    """What the command of a picture prints in the demo's folder, under the command as it is typed."""
    picture = PICTURES[name]
    words = shlex.split(picture.command)
    env = {key: value for key, value in os.environ.items() if key not in {"FORCE_COLOR", "NEAT_DELTA_STORE"}}
    env |= {"COLUMNS": str(COLUMNS)} | ({"FORCE_COLOR": "1", "TERM": "xterm-256color"} if colour else {})
    call = [str(PROGRAM), *words]
    done = subprocess.run(call, cwd=folder, env=env, capture_output=True, text=True, check=False)
    if done.returncode not in {0, 1}:
        raise SystemExit(f"{name}: {done.stderr}")
    return as_typed(name, done.stdout, colour=colour)


def main() -> None:
    """Take all of them, or those that are named."""
    names = sys.argv[1:] or [*PICTURES]
    with tempfile.TemporaryDirectory() as place, _browser(Path(place)) as driver:
        os.environ["SOURCE_DATE_EPOCH"] = MONDAY
        subprocess.run([str(PROGRAM), "demo", "all", "--to", "q"], cwd=place, capture_output=True, check=True)
        folder = Path(place) / "q"
        for name in names:
            picture = PICTURES[name]
            target = FOLDER / f"{name}.png"
            if picture.of == "store":
                _of_store(driver, folder, picture, target)
                continue
            text = _run(folder, name)
            (FOLDER / f"{name}.txt").write_text(text, "utf-8")
            if picture.of == "terminal":
                _of_terminal(driver, Path(place), _run(folder, name, colour=True), picture.rows, target)
            elif picture.of in {"page", "history"}:
                _of_page(driver, folder, picture, target)
            else:
                _of_workbook(folder / picture.file, target)


@contextmanager
def _browser(place: Path) -> Iterator[WebDriver]:
    """A browser without a window, of the size of a picture."""
    from tests.browser import browser

    with browser(place / "profile") as driver:
        yield driver


THEME = TerminalTheme(
    (18, 22, 28), (230, 230, 230),
    [(18, 22, 28), (224, 108, 117), (126, 199, 144), (224, 180, 92), (97, 160, 239), (206, 131, 224), (86, 182, 194),
     (200, 204, 212)],
    [(92, 99, 112), (240, 128, 132), (152, 216, 168), (240, 204, 120), (130, 184, 250), (220, 156, 236),
     (120, 206, 216), (255, 255, 255)],
)  # fmt: skip
PAGE = """<!doctype html><meta charset="utf-8"><style>body{{margin:0;background:#12161c;color:#e6e6e6}}
pre{{margin:14px 18px;width:101ch;white-space:pre-wrap;word-break:break-all;
font:15px/1.32 'DejaVu Sans Mono',monospace}}{stylesheet}</style><pre>{code}</pre>"""


def _of_terminal(driver: WebDriver, place: Path, ansi: str, rows: int, target: Path) -> None:
    """What a terminal shows of a text with its colours."""
    lines = ansi.rstrip("\n").splitlines()[:rows]
    console = Console(record=True, file=io.StringIO(), width=200, color_system="truecolor", force_terminal=True)
    console.print(Text.from_ansi("\n".join(lines)), soft_wrap=True)
    page = place / "terminal.html"
    page.write_text(console.export_html(theme=THEME, code_format=PAGE, inline_styles=False), "utf-8")
    _size(driver, WIDTH, HEIGHT)
    driver.get(page.as_uri())
    height = driver.execute_script("return document.querySelector('pre').getBoundingClientRect().height")
    _size(driver, WIDTH - 320, int(height) + 30)
    driver.save_screenshot(str(target))


def _size(driver: WebDriver, width: int, height: int) -> None:
    """Give the browser a window of just this inside."""
    size = {"width": width, "height": height, "deviceScaleFactor": 1, "mobile": False}
    driver.execute_cdp_cmd("Emulation.setDeviceMetricsOverride", size)


def _of_page(driver: WebDriver, folder: Path, picture: Picture, target: Path) -> None:
    """What a browser shows of a page, at one of its parts."""
    from selenium.webdriver.common.by import By
    from selenium.webdriver.support.ui import Select
    from tests.browser import show

    if not (folder / picture.file).exists():
        changes = picture.file.replace(".html", ".jsonl")
        call = [str(PROGRAM), "preview", changes, "--page", picture.file, "-q"]
        subprocess.run(call, cwd=folder, capture_output=True, check=True)
    _size(driver, WIDTH, HEIGHT)
    show(driver, folder / picture.file)
    if "clashes" in picture.file:
        Select(driver.find_element(By.ID, "check")).select_by_visible_text("clash")
        for place, choice in enumerate(("sheet", "store", "both")):
            driver.find_elements(By.CSS_SELECTOR, f'button[data-say="{choice}"]')[place].click()
    if picture.at:
        driver.execute_script(f"document.getElementById('{picture.at}').scrollIntoView()")
    time.sleep(0.5)
    driver.save_screenshot(str(target))


def _of_store(driver: WebDriver, folder: Path, picture: Picture, target: Path) -> None:
    """What a browser shows of the practice store."""
    call = [str(PROGRAM), *shlex.split(picture.command)]
    with subprocess.Popen(call, cwd=folder, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL) as store:
        time.sleep(4)
        _size(driver, WIDTH, HEIGHT)
        driver.get(f"http://127.0.0.1:{picture.command.split()[-1]}{picture.at}")
        driver.save_screenshot(str(target))
        store.terminate()


def _of_workbook(path: Path, target: Path) -> None:
    """What a spreadsheet shows of a workbook, in a window of its own on a screen that nobody sees."""
    with (
        tempfile.TemporaryDirectory() as profile,
        subprocess.Popen(["Xvfb", ":87", "-screen", "0", f"{WIDTH}x{HEIGHT}x24"], stderr=subprocess.DEVNULL) as screen,
    ):
        time.sleep(1)
        env = os.environ | {"DISPLAY": ":87"}
        call = ["soffice", f"-env:UserInstallation=file://{profile}", "--norestore", "--nologo", "--calc", str(path)]
        with subprocess.Popen(call, env=env, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL) as office:
            time.sleep(25)
            subprocess.run(["import", "-window", "root", str(target)], env=env, check=True)
            subprocess.run(["pkill", "-f", profile], check=False)
            office.wait(20)
        screen.terminate()


if __name__ == "__main__":
    main()
