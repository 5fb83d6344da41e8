"""Answers of reviewers: given in the page, saved as a file, put together, and taken by write."""

from __future__ import annotations

import json
import shutil
from collections.abc import Iterator
from pathlib import Path
from time import monotonic, sleep

import polars as pl
import pytest
from selenium.webdriver.chrome.webdriver import WebDriver
from selenium.webdriver.common.by import By
from selenium.webdriver.common.keys import Keys
from selenium.webdriver.support.ui import Select

import neat_delta
from neat_delta import as_catalogue, compare, sign_off
from neat_delta.core.base.model.schemas import conform
from neat_delta.core.review.answers import ANSWERS, Answers
from neat_delta.core.review.carried import carried_over
from tests.browser import browser, scheme, show
from tests.conftest import campaign, first_of, in_this_process
from tests.made import delimited
from tests.test_moving import MONDAY, SHEET, TUESDAY
from tests.test_page import AXE, needs_axe, needs_browser
from tests.test_signoff import rows_of


@pytest.fixture
def asked(run, put, tmp_path: Path) -> Path:
    """A change set of two items with a clash each, one of them with a price that only the sheet changed."""
    put("monday.csv", MONDAY)
    put("tuesday.csv", TUESDAY)
    put("sheet.csv", SHEET.replace("C,Hat,3.00", "C,Hat,3.50"))
    run("compare", "tuesday.csv", "sheet.csv", "--base", "monday.csv", "--accept", "large-round", "-o", "c.jsonl")
    return tmp_path


def answers(folder: Path, name: str, *said: tuple[str, str | None, dict[str, str]], **more: object) -> str:
    """A file of answers as the page saves it."""
    lines = [json.loads(line) for line in (folder / "c.jsonl").read_text().splitlines()]
    at = {line["key"]["sku"]: n for n, line in enumerate(lines, 1) if "verdict" in line}
    listed = [
        {"line": at[sku], "key": {"sku": sku}, "answer": answer, "comment": "", "clashes": clashes}
        for sku, answer, clashes in said
    ]
    head = {"format": "neat-delta answers", "version": 1, "changes": lines[-1]["blake3"], "fields": None}
    (folder / name).write_text(json.dumps(head | {"answers": listed} | more))
    return name


def updates(folder: Path) -> dict[tuple[str, str], str]:
    """The cells of all update files."""
    sent: dict[tuple[str, str], str] = {}
    for file in sorted(folder.glob("update-*.csv")):
        for row in neat_delta.read(str(file)).cells.rows(named=True):
            sent |= {(row["sku"], name): text for name, text in row.items() if name != "sku" and text}
    return sent


def test_only_what_was_answered_goes_at_the_value_that_was_chosen(run, asked):
    name = answers(asked, "a.json", ("A", "yes", {"stock": "both"}), ("B", None, {"price": "sheet"}), ("C", "no", {}))
    done = run("write", "c.jsonl", "--to", "out", "--signed-off", name)
    assert done.returncode == 1 and "answered no" in done.stdout
    assert updates(asked / "out") == {("A", "price"): "10.50", ("A", "stock"): "13", ("B", "price"): "19.00"}
    manifest = json.loads((asked / "out" / "manifest.json").read_text())
    assert {(one["key"]["sku"], one["field"]): one["after"] for one in manifest["answered"]} == {
        ("A", "stock"): "13",
        ("B", "price"): "19.00",
    }
    # What landed is what was chosen; and it is taken back to what the store had.
    landed = TUESDAY.replace("9.90,8", "10.50,13").replace("21.00", "19.00")
    (asked / "after.csv").write_text(landed)
    assert "\nAll 3 changes landed.\n" in run("confirm", "c.jsonl", "after.csv", "--files", "out").stdout
    (asked / "tuesday.csv").touch()  # exported once more, and nothing landed
    assert run("confirm", "c.jsonl", "tuesday.csv", "--files", "out", "--retry", "again").returncode == 1
    assert updates(asked / "again") == updates(asked / "out")
    assert run("undo", "c.jsonl", "--files", "out", "--now", "after.csv", "--to", "back").returncode == 0
    assert updates(asked / "back") == {("A", "price"): "9.90", ("A", "stock"): "8", ("B", "price"): "21.00"}


def test_what_is_not_chosen_stays_held(run, asked):
    name = answers(asked, "a.json", ("A", "yes", {}), ("B", None, {"price": "store"}))
    run("write", "c.jsonl", "--to", "out", "--signed-off", name)
    assert updates(asked / "out") == {("A", "price"): "10.50"}
    not_sent = {
        (one["key"]["sku"], one["field"]): one["reason"]
        for one in json.loads((asked / "out" / "manifest.json").read_text())["not_sent"]
    }
    assert not_sent == {
        ("A", "stock"): "clash: changed in the store, too",
        ("B", "price"): "answered store",
        ("C", "price"): "not signed off",
    }


def test_what_reviewers_say_besides_is_kept(run, asked):
    """Also where somebody only remarks, and says neither yes nor no."""
    one = {"line": 4, "key": {"sku": "C"}, "comment": "ask the supplier first"}
    done = run("write", "c.jsonl", "--to", "out", "--signed-off", answers(asked, "cleo.json", answers=[one]))
    manifest = json.loads((asked / "out" / "manifest.json").read_text())
    said = {"key": {"sku": "C"}, "field": None, "comment": "ask the supplier first", "file": "cleo.json"}
    assert manifest["comments"] == [said] and updates(asked / "out") == {}
    assert "  C: ask the supplier first  (cleo.json)\n" in done.stdout


def test_one_no_is_a_no_and_of_two_choices_none_is_taken(run, asked):
    one = answers(
        asked, "anna.json", ("A", "yes", {"stock": "sheet"}), ("B", None, {"price": "sheet"}), ("C", "yes", {})
    )
    other = answers(asked, "bo.json", ("A", "yes", {"stock": "both"}), ("B", None, {"price": "sheet"}), ("C", "no", {}))
    done = run("write", "c.jsonl", "--to", "out", "--signed-off", one, "--signed-off", other)
    assert updates(asked / "out") == {("A", "price"): "10.50", ("B", "price"): "19.00"}
    assert "  A  stock: sheet in anna.json; both in bo.json\n" in done.stdout
    assert "  C: yes in anna.json; no in bo.json\n" in done.stdout
    reasons = {one["reason"] for one in json.loads((asked / "out" / "manifest.json").read_text())["not_sent"]}
    assert reasons == {"clash: reviewers differ", "answered no"}
    # A workbook beside a page's file: it is asked cell by cell.
    run("preview", "c.jsonl", "--workbook", "w.xlsx")
    rows = rows_of(asked / "w.xlsx")
    at = rows[0].index("answer")
    assert [rows[0][n] for n in range(at)] == [
        "key: sku",
        "name",
        "field",
        "base",
        "before",
        "after",
        "both",
        "difference",
    ]
    for row in rows[1:]:
        row[at] = {("A", "price"): "yes", ("A", "stock"): "sheet", ("B", "price"): "store"}.get((row[0], row[2]), "yes")
    (asked / "w.csv").write_bytes(delimited(rows[0], rows[1:]))
    run("write", "c.jsonl", "--to", "two", "--signed-off", "w.csv", "--signed-off", one)
    assert updates(asked / "two") == {("A", "price"): "10.50", ("A", "stock"): "15", ("C", "price"): "3.50"}


def test_a_clash_that_is_let_through_is_checked_as_it_goes(run, put, asked):
    """Its value was not looked at while it was held; and what is chosen may be neither side's."""
    head = 'version = 1\n[key]\nfields = ["sku"]\n[checks]\nlarge-round = "off"\n[fields.price]\nkind = "money"\n'
    put("neat-delta.toml", head + '[fields.stock]\nkind = "integer"\nmost = 14\n')
    for asks, stock in (("both", "13"), ("sheet", None)):
        run("compare", "tuesday.csv", "sheet.csv", "--base", "monday.csv", "-o", "c.jsonl")
        name = answers(asked, "a.json", ("A", "yes", {"stock": asks}))
        run("write", "c.jsonl", "--to", asks, "--signed-off", name)
        assert updates(asked / asks).get(("A", "stock")) == stock
    manifest = json.loads((asked / "sheet" / "manifest.json").read_text())
    assert {"key": {"sku": "A"}, "field": "stock", "reason": "check: outside-bounds"} in manifest["not_sent"]
    assert manifest["answered"] == []


@pytest.mark.parametrize(
    "change, why",
    [
        ({"changes": "0" * 64}, "these answers are for another change set"),
        ({"version": 2}, "it is neat-delta answers 2"),
        ({"answers": [{"line": 9, "key": {"sku": "A"}}]}, "line 9 of the change set is not A"),
        (
            {"answers": [{"line": 2, "key": {"sku": "A"}, "clashes": {"colour": "sheet"}}]},
            'A has no change of "colour"',
        ),
        ({"answers": [{"line": 2, "key": {"sku": "A"}, "answer": "maybe"}]}, "these are no answers that a page saved"),
        ({"answers": [{"line": 2, "key": {"sku": "A"}}] * 2}, "A is answered twice"),
    ],
)
def test_a_file_that_is_none_is_refused(run, asked, change, why):
    name = answers(asked, "a.json", **change)
    failed = run("write", "c.jsonl", "--to", "out", "--signed-off", name)
    assert failed.returncode == 2 and why in failed.stderr and not (asked / "out").exists()


@pytest.fixture(scope="module")
def page(tmp_path_factory: pytest.TempPathFactory, whole_demo: tuple[Path, str]) -> Path:
    """The page of the demo's Tuesday."""
    folder = shutil.copytree(whole_demo[0], tmp_path_factory.mktemp("tuesday") / "q")
    asked = ("--base", "live.csv", "--repair", "--with-new-values", "tags", "-o", "t.jsonl")
    assert in_this_process(folder, "compare", "fresh.csv", "sheet.csv", *asked).returncode == 1
    assert in_this_process(folder, "preview", "t.jsonl", "--page", "t.html").returncode == 0
    return folder / "t.html"


@pytest.fixture(scope="module")
def driver(tmp_path_factory: pytest.TempPathFactory) -> Iterator[WebDriver]:
    with browser(tmp_path_factory.mktemp("profile")) as one:
        yield one


def downloaded(driver: WebDriver, folder: Path) -> Path:
    """Press "Save answers", and wait for the file."""
    driver.execute_cdp_cmd("Browser.setDownloadBehavior", {"behavior": "allow", "downloadPath": str(folder)})
    driver.find_element(By.ID, "save").click()
    end = monotonic() + 20
    while not list(folder.glob("answers*.json")):
        assert monotonic() < end, "nothing was saved"
        sleep(0.05)
    return next(folder.glob("answers*.json"))


def counted(driver: WebDriver) -> str:
    return driver.find_element(By.ID, "counted").text


@needs_browser
def test_the_page_answers_and_write_takes_it(driver, page, tmp_path):
    show(driver, page)
    assert counted(driver) == "Nothing answered yet"
    Select(driver.find_element(By.ID, "check")).select_by_visible_text("clash")
    driver.find_element(By.ID, "search").send_keys(Keys.ARROW_DOWN)

    def key(*keys: str) -> None:
        driver.switch_to.active_element.send_keys(*keys)

    key("o")  # ours, of QA-1032
    key("y")
    assert counted(driver) == "1 yes, 0 no, 1 of 4 clashes chosen; 28 items open"
    key(Keys.ARROW_DOWN)
    key("s")
    key("n")
    key(Keys.ARROW_DOWN)
    key("b")
    key("c")
    key("counted on Tuesday")
    button = driver.find_element(By.CSS_SELECTOR, 'button[data-say="both"][aria-pressed="true"]')
    assert button.text.endswith("Both 8")
    # With the mouse: the last clash to the store, and back to neither.
    last = driver.find_elements(By.CSS_SELECTOR, 'button[data-say="store"]')[-1]
    last.click()
    assert counted(driver) == "1 yes, 1 no, 4 of 4 clashes chosen; 27 items open"
    driver.find_elements(By.CSS_SELECTOR, 'button[data-say="store"]')[-1].click()
    assert counted(driver) == "1 yes, 1 no, 3 of 4 clashes chosen; 27 items open"
    # All that a filter shows: the rest of the open ones.
    Select(driver.find_element(By.ID, "check")).select_by_visible_text("any")
    Select(driver.find_element(By.ID, "field")).select_by_visible_text("tags")
    driver.find_element(By.CSS_SELECTOR, 'button[data-all="yes"]').click()
    assert counted(driver) == "7 yes, 1 no, 3 of 4 clashes chosen; 21 items open"
    driver.find_element(By.ID, "reset").click()
    Select(driver.find_element(By.ID, "answered")).select_by_visible_text("no")
    assert driver.find_element(By.ID, "status").text.startswith("1 of ")
    assert driver.execute_script("return dispatchEvent(new Event('beforeunload', {cancelable: true}))") is False
    saved = downloaded(driver, tmp_path)
    assert driver.execute_script("return dispatchEvent(new Event('beforeunload', {cancelable: true}))") is True
    file = json.loads(saved.read_text())
    said = {one["key"]["sku"]: one for one in file["answers"]}
    assert said["QA-1041"] | {"line": 0} == {
        "line": 0, "key": {"sku": "QA-1041"}, "answer": None, "comment": "counted on Tuesday",
        "clashes": {"stock": "both"},
    }  # fmt: skip
    done = in_this_process(page.parent, "write", "t.jsonl", "--to", "signed", "--replace", "--signed-off", str(saved))
    assert done.returncode == 1, done.stderr
    sent = updates(page.parent / "signed")
    assert "  QA-1041: counted on Tuesday" in done.stdout
    assert sent["QA-1032", "price"] == "24.90" and sent["QA-1041", "stock"] == "8" and len(sent) == 15
    assert not {name for sku, name in sent if sku == "QA-1033"}
    goes_on(driver, page, saved, file["changes"], tmp_path)


def goes_on(driver: WebDriver, page: Path, saved: Path, digest: str, tmp_path: Path) -> None:
    """A new page goes on with what was saved; answers for another change set are not taken."""
    show(driver, page)
    driver.find_element(By.ID, "load").send_keys(str(saved))
    end = monotonic() + 10
    while counted(driver) == "Nothing answered yet":
        assert monotonic() < end
    assert counted(driver) == "7 yes, 1 no, 3 of 4 clashes chosen; 21 items open"
    (tmp_path / "other.json").write_text(saved.read_text().replace(digest, "0" * 64))
    driver.find_element(By.ID, "load").send_keys(str(tmp_path / "other.json"))
    while not (text := driver.find_element(By.ID, "trouble").text):
        assert monotonic() < end
    assert text == "other.json has answers for another change set; none was taken."
    assert not driver.get_log("browser")


@needs_browser
@needs_axe
@pytest.mark.parametrize("which", first_of(["light", "dark"], 1))
def test_an_accessibility_engine_finds_nothing_serious_in_answers(driver, page, which):
    scheme(driver, which)
    show(driver, page)
    Select(driver.find_element(By.ID, "check")).select_by_visible_text("clash")
    driver.find_element(By.ID, "search").send_keys(Keys.ARROW_DOWN)
    for keys in ("y", "o", "c"):
        driver.switch_to.active_element.send_keys(keys)
    driver.execute_script(Path(AXE or "").read_text())
    found = driver.execute_async_script("axe.run().then(arguments[0])")
    driver.execute_script("document.getElementById('save').click()")
    scheme(driver, "light")
    assert len(found["passes"]) > 20
    assert [(one["id"], one["nodes"][0]["html"]) for one in found["violations"]] == []


@campaign
@needs_browser
def test_fifty_thousand_items_are_answered_at_once(driver, tmp_path):
    live = "".join(f"QA-{n:05},{200 + n % 700}.00,{n % 50}\n" for n in range(50_000))
    sheet = "".join(f"QA-{n:05},{210 + n % 700}.00,{n % 50 + (n % 100 == 7)}\n" for n in range(50_000))
    now = "".join(f"QA-{n:05},{200 + n % 700}.00,{n % 50 + 5 * (n % 100 == 7)}\n" for n in range(50_000))
    for name, text in (("monday.csv", live), ("tuesday.csv", now), ("sheet.csv", sheet)):
        (tmp_path / name).write_text("sku,price,stock\n" + text)
    through = ("--base", "monday.csv", "--accept", "large-round", "--accept", "slip", "-o", "c.jsonl")
    in_this_process(tmp_path, "compare", "tuesday.csv", "sheet.csv", *through)
    assert in_this_process(tmp_path, "preview", "c.jsonl", "--page", "p.html").returncode == 0
    show(driver, tmp_path / "p.html")
    driver.find_element(By.CSS_SELECTOR, 'button[data-all="yes"]').click()
    driver.find_element(By.CSS_SELECTOR, 'button[data-all="both"]').click()
    assert counted(driver) == "50,000 yes, 0 no, 500 of 500 clashes chosen; 0 items open"
    saved = downloaded(driver, tmp_path)
    done = in_this_process(tmp_path, "write", "c.jsonl", "--to", "out", "--signed-off", str(saved))
    assert done.returncode == 0, done.stderr
    cells = neat_delta.read(str(tmp_path / "out" / "update-1.csv")).cells
    many = sum(neat_delta.read(str(file)).cells.height for file in (tmp_path / "out").glob("update-*.csv"))
    assert cells.height and many >= 50_000


@pytest.mark.parametrize(
    ("answer", "choice", "carried", "sent"),
    [
        ("yes", "both", {"price": "yes", "stock": "both"}, {"price", "stock"}),
        ("no", "both", {"price": "no", "stock": "no"}, set()),
        (None, "sheet", {"stock": "sheet"}, {"stock"}),
        ("yes", None, {"price": "yes", "stock": "yes"}, {"price"}),
    ],
)
def test_what_is_said_of_an_item_and_of_a_clash_in_it_holds_when_others_change(
    asked, run, answer, choice, carried, sent
):
    """One answer a cell: a no of the item is one for each, and a choice counts more than a yes."""
    old = neat_delta.read_changes(str(asked / "c.jsonl"))
    name = answers(asked, "a.json", ("A", answer, {} if choice is None else {"stock": choice}))
    answered = neat_delta.read_answers(str(asked / name), old)
    (asked / "sheet.csv").write_text(SHEET.replace("C,Hat,3.00", "C,Hat,3.60"))
    run("compare", "tuesday.csv", "sheet.csv", "--base", "monday.csv", "--accept", "large-round", "-o", "d.jsonl")
    new = neat_delta.read_changes(str(asked / "d.jsonl"))
    part, unasked = carried_over(answered, old, new)
    a, c = (new.keys["sku"].to_list().index(sku) for sku in "AC")
    assert {(item, field): said for item, field, said, _ in part.table.iter_rows()} == {
        (a, field): said for field, said in carried.items()
    }
    assert (part.table.height, unasked) == (len(carried), {c})
    signed = neat_delta.sign_off(new, [part]).changes
    assert set(signed.sent()["field"].cast(str)) == sent


def test_an_item_goes_by_a_yes_and_neither_by_a_no_nor_by_silence():
    live = as_catalogue({"sku": [f"QA-{n}" for n in range(1, 6)], "price": ["9.90"] * 5}, "live")
    changes = compare(live, as_catalogue({"sku": ["QA-1"], "price": ["10.50"]}, "sheet"), whole=True, with_gone=True)
    said = [{"item": [1, 2, 3], "answer": ["yes", "no", "yes"]}, {"item": [1, 3], "answer": ["yes", "no"]}]
    given = [Answers(f"{n}.json", conform(pl.DataFrame(words), ANSWERS)) for n, words in enumerate(said)]
    items = sign_off(changes, given).changes.items
    assert items["verdict"].to_list() == ["changed", *["gone"] * 4]
    assert items["held"].to_list() == [None, None, "answered no", "answered no", "not signed off"]
