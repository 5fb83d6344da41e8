"""The page of a preview in headless Chromium, through its own controls; what comes from files is never markup.

Needs Chromium and its driver (Debian: chromium, chromium-driver), and for accessibility axe-core from npm, named by
NEAT_DELTA_AXE. Without them these tests are skipped and say so; `.ci/run` installs them, and sets
NEAT_DELTA_NEEDS_BROWSER, with which they fail instead.
"""

from __future__ import annotations

import base64
import csv
import io
import json
import os
import random
import re
import shutil
from collections.abc import Callable, Iterator
from pathlib import Path

import pytest
from selenium.webdriver.chrome.webdriver import WebDriver
from selenium.webdriver.common.by import By
from selenium.webdriver.common.keys import Keys
from selenium.webdriver.support.ui import Select

import neat_delta
from neat_delta.report.charts import as_svg, charts
from tests.browser import CHROMIUM, DRIVER, browser, scheme, show
from tests.conftest import campaign, first_of, in_this_process

NEEDED = bool(os.environ.get("NEAT_DELTA_NEEDS_BROWSER"))
AXE = os.environ.get("NEAT_DELTA_AXE")
WITHOUT_BROWSER = pytest.mark.skipif(
    not (CHROMIUM and DRIVER) and not NEEDED, reason="Chromium is missing: apt-get install chromium chromium-driver"
)


def needs_browser(test: Callable[..., None]) -> Callable[..., None]:
    """A test in a real browser, which takes seconds to start: one of the long ones."""
    marked: Callable[..., None] = campaign(WITHOUT_BROWSER(test))
    return marked


needs_axe = pytest.mark.skipif(
    not AXE and not NEEDED, reason="NEAT_DELTA_AXE names no axe.min.js: npm install axe-core, and say where it is"
)


@pytest.fixture(scope="module")
def driver(tmp_path_factory) -> Iterator[WebDriver]:
    with browser(tmp_path_factory.mktemp("profile")) as one:
        yield one


def program(folder: Path, *args: str) -> str:
    done = in_this_process(folder, *args)
    assert done.returncode in {0, 1} and not done.stderr, done.stderr
    return done.stdout


OPTIONS = ("--by", "category", "--keep-margin", "percent", "--records", "quotes.csv")


@pytest.fixture(scope="module")
def demo(tmp_path_factory: pytest.TempPathFactory, whole_demo: tuple[Path, str]) -> Path:
    """The demo round's page, with everything that a page may have."""
    folder = shutil.copytree(whole_demo[0], tmp_path_factory.mktemp("demo") / "q")
    asked = ("--repair", "--with-new-values", "tags", "--whole")
    program(folder, "compare", "live.csv", "sheet.csv", *asked, "-o", "page.jsonl")
    (folder / "quotes.csv").write_text(
        "Customer,SKU,Unit price\nMeadow school,QA-1034,65.00\nOrchard club,QA-1001,9.00\n"
    )
    program(folder, "preview", "page.jsonl", "--page", "told.html", *OPTIONS)
    return folder / "told.html"


HEADINGS = ["sku", "name", "price", "colours", "text <b>"]


def lines(rows: list[list[str]]) -> str:
    text = io.StringIO()
    csv.writer(text).writerows([HEADINGS, *rows])
    return text.getvalue()


@pytest.fixture(scope="module")
def large(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """50,000 items, a price of each changed, and some words."""
    rng = random.Random(8)
    live = [
        [f"QA-{n:05}", f"Frame {n % 977}", f"{rng.randint(200, 9000) / 100:.2f}", "red", "spun comb"]
        for n in range(50_000)
    ]
    sheet = [
        [*row[:2], f"{float(row[2]) * 1.05:.2f}", row[3], row[4] + " of clover" * (n % 5 == 0)]
        for n, row in enumerate(live)
    ]
    folder = tmp_path_factory.mktemp("large")
    (folder / "live.csv").write_text(lines(live))
    (folder / "sheet.csv").write_text(lines(sheet))
    program(folder, "compare", "live.csv", "sheet.csv", "-o", "c.jsonl")
    program(folder, "preview", "c.jsonl", "--page", "page.html")
    return folder / "page.html"


def drawn(driver: WebDriver) -> list[str]:
    return [one.text for one in driver.find_elements(By.CSS_SELECTOR, "tbody[data-n] th button")]


def status(driver: WebDriver) -> str:
    return driver.find_element(By.ID, "status").text


def cells(driver: WebDriver, key: str, column: str) -> list[str]:
    """The texts of an item's column, by its code."""
    body = next(
        one
        for one in driver.find_elements(By.CSS_SELECTOR, "tbody[data-n]")
        if one.find_element(By.TAG_NAME, "button").text == key
    )
    return [one.text for one in body.find_elements(By.CSS_SELECTOR, f"td.{column}")]


@needs_browser
def test_the_items_are_searched_narrowed_sorted_and_opened(driver, demo):
    show(driver, demo)
    driver.find_element(By.LINK_TEXT, "To the items").click()
    assert status(driver) == "67 of 67 items, 92 cells"
    search = driver.find_element(By.ID, "search")
    driver.find_element(By.TAG_NAME, "body").send_keys("/")
    assert driver.switch_to.active_element == search
    search.send_keys("qa-1034 WHITE")
    assert status(driver) == "1 of 67 items, 2 cells"
    assert (cells(driver, "QA-1034", "field"), cells(driver, "QA-1034", "before")) == (
        ["price", "cost"],
        ["70.90", "42.54"],
    )
    assert (cells(driver, "QA-1034", "after"), cells(driver, "QA-1034", "step")) == (
        ["77.90", "45.09"],
        ["+7.00", "+2.55"],
    )
    assert cells(driver, "QA-1034", "share") == ["+9.9 %", "+6.0 %"]
    search.send_keys(Keys.ARROW_DOWN, Keys.NULL)
    driver.switch_to.active_element.send_keys(Keys.ENTER)
    full = driver.find_element(By.CSS_SELECTOR, "tr.full").text
    assert "live row 35, sheet row" in full and "42.54" in full
    driver.find_element(By.ID, "reset").click()
    assert status(driver) == "67 of 67 items, 92 cells" and not driver.find_elements(By.CSS_SELECTOR, "tr.full")
    Select(driver.find_element(By.ID, "field")).select_by_visible_text("tags")
    tags = cells(driver, drawn(driver)[0], "after")
    assert len(tags) == 1 and "spring offer" in tags[0]
    assert driver.find_element(By.CSS_SELECTOR, "tbody[data-n] ins").text == "spring offer"
    Select(driver.find_element(By.ID, "field")).select_by_visible_text("any")
    Select(driver.find_element(By.ID, "verdict")).select_by_visible_text("gone")
    assert status(driver) == "12 of 67 items, 0 cells" and "held: gone" in cells(driver, drawn(driver)[0], "why")
    driver.find_element(By.ID, "reset").click()
    Select(driver.find_element(By.ID, "check")).select_by_visible_text("damage")
    assert {text for key in drawn(driver) for text in cells(driver, key, "why")} >= {
        "held: damage: a formula that failed"
    }
    driver.find_element(By.ID, "reset").click()
    Select(driver.find_element(By.ID, "sent")).select_by_visible_text("to send")
    assert status(driver).endswith(" 54 cells")
    driver.find_element(By.ID, "reset").click()
    share = driver.find_element(By.CSS_SELECTOR, "th[data-sort=size]")
    share.find_element(By.TAG_NAME, "button").click()
    assert share.get_attribute("aria-sort") == "descending"
    name = driver.find_element(By.CSS_SELECTOR, "th[data-sort=key]")
    name.find_element(By.TAG_NAME, "button").click()
    name.find_element(By.TAG_NAME, "button").click()
    assert (share.get_attribute("aria-sort"), name.get_attribute("aria-sort")) == (None, "descending")
    assert drawn(driver)[:2] == ["QA-1502", "QA-1501"]
    assert not driver.get_log("browser")


@campaign
@needs_browser
def test_fifty_thousand_items_are_drawn_as_they_are_seen(driver, large):
    show(driver, large)
    assert status(driver) == "50,000 of 50,000 items, 60,000 cells"
    driver.execute_script("document.getElementById('items').scrollIntoView()")
    driver.find_element(By.ID, "search").send_keys(Keys.ARROW_DOWN)
    assert 10 < len(drawn(driver)) < 200 and driver.switch_to.active_element.text == "QA-00000"
    driver.switch_to.active_element.send_keys(Keys.ARROW_DOWN)
    assert driver.switch_to.active_element.text == "QA-00001"
    driver.switch_to.active_element.send_keys(Keys.END)
    assert driver.switch_to.active_element.text == "QA-49999" and 10 < len(drawn(driver)) < 200
    visible = driver.execute_script(
        "const r = document.activeElement.getBoundingClientRect(); return r.top > 0 && r.bottom <= innerHeight"
    )
    assert visible
    driver.find_element(By.ID, "search").send_keys("clover 'qa-2500")
    assert status(driver) == "0 of 50,000 items, 0 cells"
    driver.find_element(By.ID, "search").clear()
    driver.find_element(By.ID, "search").send_keys("clover qa-2500")
    assert status(driver) == "2 of 50,000 items, 4 cells" and drawn(driver) == ["QA-25000", "QA-25005"]
    driver.find_element(By.ID, "search").clear()
    driver.find_element(By.ID, "search").send_keys("qa-250")
    assert status(driver) == "100 of 50,000 items, 120 cells"
    printed = driver.execute_cdp_cmd("Page.printToPDF", {})["data"]
    assert base64.b64decode(printed).count(b"/Type /Page\n") > 3
    driver.execute_script("dispatchEvent(new Event('beforeprint'))")
    assert len(drawn(driver)) == 100  # a printed page has them all
    driver.execute_script("dispatchEvent(new Event('afterprint'))")
    assert len(drawn(driver)) < 100
    assert not driver.get_log("browser")


@needs_browser
def test_whatever_the_files_hold_is_text(driver, tmp_path):
    evil = '<script>window.hacked = 1</script><img src=x onerror="window.hacked = 2">'
    end = "</script></table><h1>mine</h1><!-- {{ 7 * 7 }} $x^2$ &lt;"
    live = [["QA-1", evil, "1.00", "red, blue", end], ["<i>QA-2</i>", end, "2.00", "red", "deep \u202e frame\u2028x"]]
    sheet = [["QA-1", evil, "1.50", "blue, " + evil, end + " more"], ["<i>QA-2</i>", end, "", "red", "deep \x00 frame"]]
    (tmp_path / "live.csv").write_text(lines(live))
    (tmp_path / "<i>&.csv").write_text(lines(sheet).replace("\x00", "\x07"))
    program(tmp_path, "compare", "live.csv", "<i>&.csv", "-o", "c.jsonl")
    program(tmp_path, "preview", "c.jsonl", "--page", "page.html")
    show(driver, tmp_path / "page.html")
    driver.execute_script("document.getElementById('items').scrollIntoView()")
    driver.find_element(By.ID, "search").send_keys(Keys.ARROW_DOWN)
    assert drawn(driver) == ["QA-1", "<i>QA-2</i>"]
    assert driver.find_element(By.CSS_SELECTOR, "td.name").text == evil
    for key in range(2):
        driver.find_elements(By.CSS_SELECTOR, "tbody[data-n] th button")[key].send_keys(Keys.ENTER)
    assert "<h1>mine</h1><!-- {{ 7 * 7 }} $x^2$ &lt; more" in driver.find_element(By.CSS_SELECTOR, "tr.full").text
    assert "$" not in driver.find_element(By.CSS_SELECTOR, "figure").text
    assert "text <b>" in [one.text for one in Select(driver.find_element(By.ID, "field")).options]
    assert "<i>&.csv" in driver.title and len(driver.find_elements(By.TAG_NAME, "h1")) == 1
    assert not driver.find_elements(By.CSS_SELECTOR, "img, i, b")
    assert driver.execute_script("return window.hacked") is None
    assert not driver.get_log("browser")


@needs_browser
@needs_axe
@pytest.mark.parametrize("which", first_of(["light", "dark"], 1))
def test_an_accessibility_engine_finds_nothing_serious(driver, demo, which):
    scheme(driver, which)
    show(driver, demo)
    driver.execute_script("document.getElementById('items').scrollIntoView()")
    driver.find_element(By.ID, "search").send_keys(Keys.ARROW_DOWN)
    driver.switch_to.active_element.send_keys(Keys.ENTER)
    driver.execute_script(Path(AXE or "").read_text())
    found = driver.execute_async_script("axe.run().then(arguments[0])")
    scheme(driver, "light")
    assert len(found["passes"]) > 20
    assert [(one["id"], one["nodes"][0]["html"]) for one in found["violations"]] == []


def test_what_waits_stands_first_and_in_words(demo):
    text = demo.read_text()
    assert re.findall(r"<h2[^>]*>(.*?)</h2>", text)[0] == "What waits for you"
    part = re.search(r'<section aria-labelledby="t-waits".*?</section>', text, re.DOTALL)
    assert part is not None
    plain, _, rest = part[0].partition("<details>")
    assert "54 cells of 32 items to send. Not sent as things are:" in plain
    assert "emptied in the sheet: is the field to be empty in the shop?" in plain and "--" not in plain
    assert "--blanks clear or keep decides" in rest


@needs_browser
@pytest.mark.parametrize("width", [360, 640])
def test_nothing_runs_out_of_a_narrow_window_or_one_at_twice_the_size(driver, demo, width):
    """A telephone, and 1280 pixels at 200 %; answers can be given there."""
    driver.execute_cdp_cmd(
        "Emulation.setDeviceMetricsOverride", {"width": width, "height": 800, "deviceScaleFactor": 1, "mobile": False}
    )
    try:
        show(driver, demo)
        assert driver.execute_script("return document.documentElement.scrollWidth") <= width
        Select(driver.find_element(By.ID, "sent")).select_by_visible_text("to send")
        driver.find_element(By.ID, "search").send_keys(Keys.ARROW_DOWN)
        driver.switch_to.active_element.send_keys("y")
        assert driver.find_element(By.ID, "counted").text.startswith("1 yes, 0 no")
        seen = {one.text for one in driver.find_elements(By.CSS_SELECTOR, "#table thead th") if one.is_displayed()}
        assert {"Item", "Field", "Before", "After", "Answer"} <= seen
        assert driver.execute_script("return document.documentElement.scrollWidth") <= width
    finally:
        driver.execute_cdp_cmd("Emulation.clearDeviceMetricsOverride", {})


@needs_browser
def test_a_reader_of_the_screen_is_told_what_everything_is(driver, demo):
    """By the tree that the browser gives to such programs: headings in their order, names for all that can be used."""
    show(driver, demo)
    nodes = driver.execute_cdp_cmd("Accessibility.getFullAXTree", {})["nodes"]
    named: dict[str, list[str]] = {}
    for node in nodes:
        if not node.get("ignored"):
            role, name = node["role"]["value"], node.get("name", {}).get("value", "")
            named.setdefault(role, []).append(name)
    assert named["heading"][:3] == ["What changes in the shop", "What waits for you", "Field by field"]
    assert named["heading"][-1] == "Item by item"
    for role in ("button", "combobox", "searchbox", "link", "columnheader"):
        assert named.get(role) and all(named[role]), role
    assert "Narrow the items down" in named["search"]


@needs_browser
def test_on_paper_an_item_is_never_torn_and_nothing_asks_to_be_clicked(driver, demo):
    show(driver, demo)
    driver.execute_cdp_cmd("Emulation.setEmulatedMedia", {"media": "print"})
    try:
        style = "return [...document.querySelectorAll(arguments[0])].map((one) => getComputedStyle(one)[arguments[1]])"
        assert {*driver.execute_script(style, "#table tbody[data-n]", "breakInside")} == {"avoid"}
        assert {*driver.execute_script(style, ".bar button, .answers, .waits details", "display")} == {"none"}
        assert (
            "size: a4"
            in driver.execute_script(
                "return [...document.styleSheets[0].cssRules].map((one) => one.cssText).join(' ')"
            ).lower()
        )
    finally:
        driver.execute_cdp_cmd("Emulation.setEmulatedMedia", {"media": ""})


def test_a_legend_never_lies_on_a_bar():
    """Also where the longest bar reaches to the edge: it stands above the axes."""
    live = {"sku": [f"QA-{n}" for n in range(9)], "price": ["1.00"] * 9}
    changes = neat_delta.compare(
        neat_delta.as_catalogue(live, "live"),
        neat_delta.as_catalogue(live | {"price": ["2.00"] * 5 + [""] * 4}, "sheet"),
    )
    for chart in charts(changes, None, None):
        figure = chart.figure
        legend = figure.legends[0].get_window_extent()
        assert legend.y0 >= figure.axes[0].get_window_extent().y1


@pytest.mark.filterwarnings("ignore:Glyph")
@pytest.mark.parametrize("name", ["W" * 40, "蜂蜜" * 20, "i"])
def test_what_is_written_around_a_chart_has_room(name):
    """Names of any width at the left, words below, a line above: nothing is cut off at the edge."""
    names, prices = [name] * 9, ["1.00"] * 8 + ["900.00"]
    live = neat_delta.as_catalogue({"sku": [f"QA-{n}" for n in range(9)], "price": prices, name: names}, "live")
    sheet = {"sku": [f"QA-{n}" for n in range(9)], "price": ["1.10"] * 8 + ["909.00"], name: ["x"] * 9}
    shop = neat_delta.Store(key=neat_delta.Key(["sku"]), relations=neat_delta.Relations(price="price"))
    changes = neat_delta.compare(live, neat_delta.as_catalogue(sheet, "sheet"), store=shop)
    drawn = charts(changes, live, name)
    assert [chart.name for chart in drawn] == ["price-changes", "fields", "categories"]
    for chart in drawn:
        as_svg(chart)  # which places what stands beside the axes
        taken, (width, height) = chart.figure.get_tightbbox(), chart.figure.get_size_inches()
        assert min(taken.x0, taken.y0) >= 0 and taken.x1 <= width and taken.y1 <= height


def test_a_page_fetches_nothing_and_is_the_same_twice(demo):
    text = demo.read_text()
    assert "default-src 'none'" in text
    assert "http" not in re.sub(r'"http://www\.w3\.org/[^"]*"|http-equiv', "", text)
    assert not re.search(r'(?:src|href)="(?!#)', text)
    again = demo.with_name("again.html")
    program(demo.parent, "preview", "page.jsonl", "--page", again.name, *OPTIONS)
    assert again.read_text() == text
    facts = json.loads(program(demo.parent, "preview", "page.jsonl", "--json", "--by", "category", "--all"))
    assert facts["items_found"] == 67
    for one in facts["impact"]["groups"]:
        assert f'<th scope="row">{one["group"] or "all"}</th>' in text


def test_outputs_are_not_overwritten_and_must_have_their_ending(demo):
    def refused(*args: str) -> str:
        done = in_this_process(demo.parent, "preview", "changes.jsonl", *args)
        assert done.returncode == 2 and not done.stdout
        return done.stderr

    assert "page.html: there is a file of that name" in refused("--page", "page.html")
    assert "page.htm: this is written as .html" in refused("--page", "page.htm")
    (demo.parent / "pics").mkdir()
    (demo.parent / "pics" / "fields.png").touch()
    assert "pics/fields.png: there is a file of that name" in refused("--charts", "pics")
    assert "it cannot be made" in refused("--charts", "page.html")
    assert "choose one of them" in refused("--json", "--markdown")
