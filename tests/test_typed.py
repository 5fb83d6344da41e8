"""Nothing typed goes unseen, and what is sent is what was typed: laws over realistic columns, each against rules that
are written a second time in `tests.columns`.
"""

from __future__ import annotations

import json
import random
from dataclasses import dataclass, replace
from importlib.resources import files
from pathlib import Path

import polars as pl
import pytest

from neat_delta import (
    Catalogue,
    ChangeSet,
    Notation,
    Store,
    compare,
    confirm_changes,
    learn,
    read,
    read_changes,
    read_store,
)
from neat_delta.core.sheets.worksheet.cut import as_written, cut_worksheet
from neat_delta.files.draft import draft
from neat_delta.files.writers.worksheet import workbook
from tests import spreadsheet
from tests.columns import NOTATIONS, Column, apart, as_typed, columns, mutated, rewritten
from tests.conftest import LENGTH, campaign, each_of, first_of, in_pairs
from tests.made import delimited

Cells = dict[str, list[str]]

ROWS, MANY_ROWS, AT_ONCE = 60, 240, 15
"""Rows of a drawn catalogue, by default and where there are many mutations, and columns."""


def table(cells: Cells, path: str) -> Catalogue:
    return Catalogue(pl.DataFrame(cells, schema=dict.fromkeys(cells, pl.String)), path, lambda: path)


@dataclass(frozen=True)
class Drawn:
    """A catalogue, its columns, the store file that is drafted from it (None: there is none), and its edited cells."""

    live: Cells
    columns: dict[str, Column]
    store: Store | None
    edits: dict[tuple[int, str], str]

    def compared(self, edits: dict[tuple[int, str], str]) -> ChangeSet:
        """The change set of a sheet with these edits."""
        sheet = {name: list(texts) for name, texts in self.live.items()}
        for (row, name), text in edits.items():
            sheet[name][row] = text
        return compare(table(self.live, "live"), table(sheet, "sheet"), store=self.store)


def drawn(seed: int, folder, rows: int = ROWS) -> Drawn:
    """One column in ten of a drawn catalogue is edited in most rows, the others in some."""
    rng = random.Random(seed)
    every = columns(NOTATIONS[rng.choice(list(NOTATIONS))])
    chosen = {column.heading: column for column in rng.sample(every, AT_ONCE)}
    live = {"sku": [f"QA-{row:04}" for row in range(rows)]}
    live |= {name: column.cells(rng, rows) for name, column in chosen.items()}
    store = None
    if seed % 2:
        (folder / "neat-delta.toml").write_text(draft(learn(table(live, "live")), table(live, "live")))
        store = read_store(str(folder / "neat-delta.toml"))
    edits = {
        (row, name): mutated(rng, column, live[name][row])
        for name, column in chosen.items()
        for row in rng.sample(range(rows), rng.choice((2, 4, 8, 8, 40)) * rows // ROWS)
    }
    return Drawn(live, chosen, store, edits)


Outcome = tuple[str, str | None]
"""What becomes of an edited cell: sent (and the text), held, or unseen."""


def outcomes(changes: ChangeSet) -> dict[tuple[int, str], Outcome]:
    found: dict[tuple[int, str], Outcome] = {}
    for item in changes.iter_items():
        held = {one.field for one in item.held}
        for name, (_, after) in item.cells.items():
            hold = None in held or name in held
            found[int(item.key["sku"][3:]), name] = ("held", None) if hold else ("sent", after)
    return found


def broken(round_: Drawn, rng: random.Random) -> tuple[int, list[object]]:
    """How many edits were drawn, and what is wrong with what becomes of them."""
    found = outcomes(round_.compared(round_.edits))
    wrong: list[object] = [("an untouched cell", cell, found[cell]) for cell in found.keys() - round_.edits.keys()]
    for (row, name), typed in round_.edits.items():
        column, before = round_.columns[name], round_.live[name][row]
        outcome = found.get((row, name), ("unseen", None))
        if outcome[0] == "unseen" and not rewritten(column, before, typed):
            wrong.append(("unseen", name, before, typed))
        if outcome[0] == "sent" and not as_typed(column, before, typed, outcome[1] or ""):
            wrong.append(("sent otherwise", name, before, typed, outcome[1]))
    for cell in rng.sample(list(round_.edits), 1):
        alone = outcomes(round_.compared({cell: round_.edits[cell]})).get(cell, ("unseen", None))
        among = found.get(cell, ("unseen", None))
        if alone != among and "held" not in {alone[0], among[0]}:
            wrong.append(("alone otherwise", cell, round_.live[cell[1]][cell[0]], round_.edits[cell], alone, among))
    return len(round_.edits), wrong


FEW, MANY, PARTS = 1_000, 12_500 * LENGTH, 4
"""Mutations of one part, by default and in the campaign, which has so many parts; half of them run by default."""


@pytest.mark.parametrize("part", range(PARTS // 2))
def test_what_is_typed_is_seen_and_goes_out_as_typed(tmp_path, part):
    """Laws 13 and 14, with a drafted store file and without, alone and among others."""
    hold_for(FEW, 1_000_000 * part, tmp_path)


@campaign
@pytest.mark.parametrize("part", range(PARTS))
def test_what_is_typed_is_seen_and_goes_out_as_typed_fifty_thousand_times(tmp_path, part):
    hold_for(MANY, 1_000_000 * part, tmp_path)


def hold_for(mutations: int, first: int, folder: Path) -> None:
    counted, seed = 0, first
    while counted < mutations:
        rows = MANY_ROWS if mutations == MANY and seed % 4 else ROWS
        many, wrong = broken(drawn(seed, folder, rows), random.Random(seed))
        assert (seed, wrong) == (seed, [])
        counted, seed = counted + many, seed + 1


COUNTRIES: tuple[spreadsheet.Country, ...] = ("American", "British", "German")


def through(round_: Drawn, country: spreadsheet.Country, how: str, put) -> Catalogue:
    """The catalogue as it comes back when a spreadsheet opened and saved it."""
    rows = [[spreadsheet.opened(text, country) for text in row] for row in zip(*round_.live.values(), strict=True)]
    for row, sku in zip(rows, round_.live["sku"], strict=True):
        row[0] = sku
    headings = list(round_.live)
    if how == "csv":
        texts = [[spreadsheet.as_csv_text(cell, country) for cell in row] for row in rows]
        return read(put(f"sheet-{country}.csv", delimited(headings, texts, separator=";")))
    write = spreadsheet.as_xlsx if how == "xlsx" else spreadsheet.as_ods
    return read(put(f"sheet-{country}.{how}", write(headings, rows)))


@pytest.mark.parametrize("rounds", first_of([1, 12 * LENGTH], 1))
@pytest.mark.parametrize("how", ["xlsx", "ods", "csv"])
def test_what_only_a_spreadsheet_changed_is_not_sent(tmp_path, put, how, rounds):
    """Opened with a double click in three countries and saved: what came back otherwise is the same, or held."""
    for seed in range(rounds):
        round_ = drawn(seed, tmp_path, ROWS if rounds == 2 else 2 * ROWS)
        for country in COUNTRIES:
            changes = compare(table(round_.live, "live"), through(round_, country, how, put), store=round_.store)
            sent = {
                cell: (round_.live[cell[1]][cell[0]], one)
                for cell, one in outcomes(changes).items()
                if one[0] == "sent"
            }
            assert (seed, country, sent) == (seed, country, {})


def said(run, put, live: list[list[str]], sheet: list[list[str]], toml: str | None = None, *options: str) -> Outcomes:
    """What `compare` makes of a sheet, by SKU and field: the text sent, (held), or nothing where there is no change."""
    if toml is not None:
        head = 'version = 1\n[key]\nfields = ["sku"]\n[checks]\nlarge-round = "off"\n[fields.sku]\nkind = "code"\n'
        put("neat-delta.toml", head + toml)
    put("live.csv", delimited(live[0], live[1:]))
    put("sheet.csv", delimited(sheet[0], sheet[1:]))
    done = run("compare", "live.csv", "sheet.csv", "-o", "c.jsonl", *options)
    assert done.returncode in {0, 1}, done.stderr
    found: Outcomes = {}
    for item in read_changes(str(Path(put("c.jsonl.name", "")).parent / "c.jsonl")).iter_items():
        held = {one.field for one in item.held}
        for name, (_, after) in item.cells.items():
            found[item.key["sku"], name] = "(held)" if held & {None, name} else after or ""
    return found


Outcomes = dict[tuple[str, str], str]


def column(heading: str, *texts: str) -> list[list[str]]:
    return [["sku", heading], *([f"q{n}", text] for n, text in enumerate(texts))]


def edits() -> dict[str, tuple[str, str | None, list[list[str]]]]:
    """The columns of tests/data/edits.txt: heading, what the store file says, and the cells: live, typed, outcome."""
    found: dict[str, tuple[str, str | None, list[list[str]]]] = {}
    text = (Path(__file__).parent / "data" / "edits.txt").read_text()
    for part in text.split("\n\n")[1:]:
        head, *lines = part.strip().splitlines()
        name, heading = head.removeprefix("[").split("] ")
        kind = "\n".join(line.removeprefix("! ") for line in lines if line.startswith("! "))
        found[name] = heading, kind or None, [line.split(" => ") for line in lines if not line.startswith("! ")]
    return found


EDITS = edits()


@pytest.mark.parametrize("heading, kind, cells", EDITS.values(), ids=EDITS)
def test_an_edit_is_seen_and_goes_out_as_typed(run, put, heading, kind, cells):
    live, sheet = (column(heading, *(cell[side] for cell in cells)) for side in (0, 1))
    toml = None if kind is None else f"[fields.{heading}]\n{kind}"
    wanted = {(f"q{n}", heading): cell[2] for n, cell in enumerate(cells) if cell[2] != "(no change)"}
    assert said(run, put, live, sheet, toml) == wanted


def test_a_restored_zero_in_a_barcode_is_seen(run, put):
    live = column("UPC", *(f"753{n}0000112" for n in range(8)))
    sheet = column("UPC", *(f"0753{n}0000112" if n == 3 else f"753{n}0000112" for n in range(8)))
    assert said(run, put, live, sheet) == {("q3", "UPC"): "075330000112"}


def test_a_price_with_a_comma_is_no_list_of_two(run, put):
    """Where other columns have decimal points, and the same digits stand on both sides of the commas."""
    fees = ["90,90", "90,50", "50,90", "50,50", "90,50", "50,90", "90,90"]
    live = [["sku", "price", "fee"], *([f"q{n}", f"{n}.25", fee] for n, fee in enumerate(fees, 1))]
    sheet = [list(row) for row in live]
    sheet[1][2], sheet[2][2], sheet[3][1] = "90", "50,90", "3.50"
    wanted = {("q1", "fee"): "90,00", ("q2", "fee"): "50,90", ("q3", "price"): "3.50"}
    assert said(run, put, live, sheet) == wanted


def test_the_odd_cell_is_named_and_a_form_can_be_told(run, put):
    live = column("from", "25/12/2026", "05/06/2026", "13/01/2026")
    sheet = column("from", "12/25/2026", "07/06/2026", "13/01/2026")
    assert said(run, put, live, sheet) == {("q0", "from"): "(held)", ("q1", "from"): "(held)"}
    assert (
        "07/06/2026: may mean two days, as the sheet has 12/25/2026" in run("compare", "live.csv", "sheet.csv").stdout
    )
    assert "the sheet's dates are" not in run("compare", "live.csv", "sheet.csv").stdout
    told = said(run, put, live, sheet[:3], None, "--date-form", "MM/DD/YYYY")
    assert told == {("q1", "from"): "06/07/2026"}


@pytest.mark.parametrize("how", ["xlsx", "ods", "csv"])
@pytest.mark.parametrize("country", each_of(2, COUNTRIES))
@pytest.mark.parametrize(
    "toml", [None, '[fields.from]\nkind = "date"\ndate_form = "DD/MM/YYYY"'], ids=["learned", "told"]
)
def test_days_that_a_spreadsheet_swapped_are_held(run, put, country, how, toml):
    """The classic accident: a DD/MM export opened under another locale, where days up to 12 become months."""
    days = [f"{day:02}/{month:02}/2026" for day, month in zip(range(1, 29), [5, 9, 2, 12, 7] * 6, strict=False)]
    if toml is not None:
        put("neat-delta.toml", f'version = 1\n[fields.sku]\nkind = "code"\n{toml}')
    put("live.csv", delimited(["sku", "from"], [[f"q{n}", day] for n, day in enumerate(days)]))
    cells = [(f"q{n}", spreadsheet.opened(day, country)) for n, day in enumerate(days)]
    if how == "csv":
        rows = [[sku, spreadsheet.as_csv_text(cell, country)] for sku, cell in cells]
        sheet = put("sheet.csv", delimited(["sku", "from"], rows))
    else:
        write = spreadsheet.as_xlsx if how == "xlsx" else spreadsheet.as_ods
        sheet = put(f"sheet.{how}", write(["sku", "from"], cells))
    facts = json.loads(run("compare", "live.csv", sheet, "--json").stdout)["header"]
    swapped = sum(day[:2] <= "12" and day[:2] != day[3:5] for day in days)
    if country == "American" and how != "csv":
        assert [(one["name"], one["cells"], one["done"]) for one in facts["findings"] if one["check"] == "damage"] == [
            ("day and month swapped", swapped, "held")
        ]
    assert facts["counts"]["cells"] == facts["counts"]["held_cells"]


REPAIRED: dict[str, tuple[str, str]] = {
    "corrected mojibake": ("CrÃ¨me jar", "Crème jar"),
    "a trademark taken out": ("Smoker™", "Smoker"),
    "a registered sign taken out": ("Tetra® Pack", "Tetra Pack"),
    "a currency taken out": ("Preis 5€", "Preis 5"),
    "a dash": ("Frame - wired", "Frame – wired"),
    "an entity in HTML": ("<p>Salt & oil</p>", "<p>Salt &amp; oil</p>"),
    "blank lines": ("One\n\nTwo\n\nThree", "One\nTwo\nThree"),
    "another price": ("5.00", "500"),
    "a number for a code": ("12E3", "12000"),
    "a corrected code page": ("pszczo³a", "pszczoła"),
    "a corrected zero": ("417", "00417"),
    "a corrected code": ("5.90123E+12", "5901234123457"),
    "a corrected date": ("12-May", "12.05"),
}
"""Live, and what an editor typed."""


@pytest.mark.parametrize("live, typed", REPAIRED.values(), ids=REPAIRED)
def test_repair_never_puts_back_what_an_editor_meant(run, put, live, typed):
    heading, other = ("price", "6.00") if live == "5.00" else ("note", "x9")
    found = said(run, put, column(heading, live, other), column(heading, typed, other), None, "--repair")
    assert found[("q0", heading)] in {typed, "(held)", f"{typed}.00"}


@pytest.mark.parametrize(
    "live, typed", [REPAIRED[name] for name in REPAIRED if "taken out" in name or "corrected" in name]
)
def test_a_correction_is_no_damage(run, put, live, typed):
    assert said(run, put, column("note", live, "x9"), column("note", typed, "x9")) == {("q0", "note"): typed}


WORDS = [("pszczoła", "cp1250"), ("Arı", "cp1254"), ("μέλι", "cp1253"), ("miód lipowy", "cp1250"), ("мёд", "cp1251")]


@pytest.mark.parametrize("word, page", WORDS)
def test_one_word_is_read_as_live_has_it(run, put, word, page):
    """Live's own words decide which code page a sheet is in, and its signs where it has the word nowhere."""
    put("live.csv", f"sku,name,note\nq0,{word},a\nq1,wax,{word[::-1]}\n")
    put("sheet.csv", f"sku,name,note\nq0,{word},a\nq1,{word},{word[::-1]}\n".encode(page))
    assert run("compare", "live.csv", "sheet.csv", "-o", "c.jsonl").returncode == 0
    (item,) = read_changes(str(Path(put("x", "")).parent / "c.jsonl")).iter_items()
    assert item.cells == {"name": ("wax", word)}


@pytest.mark.parametrize("word, page", WORDS)
def test_letters_from_a_guessed_page_are_held_and_doubt_is_said(run, put, word, page):
    put("live.csv", "sku,name\nq0,honey\nq1,wax\n")
    put("sheet.csv", f"sku,name\nq0,{word}\nq1,comb\n".encode(page))
    guessed = run("compare", "live.csv", "sheet.csv", "-o", "c.jsonl")
    assert guessed.returncode == 1 and "is a guess" in " ".join(guessed.stdout.split())
    items = {item.key["sku"]: item for item in read_changes(str(Path(put("x", "")).parent / "c.jsonl")).iter_items()}
    assert [one.reason for one in items["q0"].held] == ["check: guessed-encoding"]
    assert items["q1"].held == []
    told = run("compare", "live.csv", "sheet.csv", "-o", "c.jsonl", "--encoding", f"sheet={page}")
    assert told.returncode == 0 and "is a guess" not in told.stdout
    items = {item.key["sku"]: item for item in read_changes(str(Path(put("x", "")).parent / "c.jsonl")).iter_items()}
    assert items["q0"].cells == {"name": ("honey", word)}


def test_what_programs_rewrote_is_counted_by_field_and_can_be_sent(run, put):
    live = [["sku", "price", "created", "note"], *([f"q{n}", f"{n}.90", "2026-01-02", "a"] for n in range(1, 9))]
    sheet = [live[0], *([sku, price.rstrip("0"), "2026-01-02T00:00:00", "a"] for sku, price, *_ in live[1:])]
    assert said(run, put, live, sheet) == {}
    shown = run("compare", "live.csv", "sheet.csv").stdout
    assert "16 cells written differently, same value, not sent: price 8, created 8" in shown
    assert "--exact price" in shown
    assert said(run, put, live, sheet, None, "--exact", "price") == {(f"q{n}", "price"): f"{n}.9" for n in range(1, 9)}
    failed = run("compare", "live.csv", "sheet.csv", "--exact", "prise")
    assert failed.returncode == 2 and 'Did you mean "price"?' in failed.stderr


def test_a_date_that_has_a_time_is_never_written_blank(run, put, tmp_path):
    put("live.csv", "sku,from\nq0,2026-05-12\nq1,2026-05-13T10:30:00\nq2,2026-05-14\n")
    put("neat-delta.toml", 'version = 1\n[fields.sku]\nkind = "code"\n[fields.from]\nkind = "date"\n')
    cut = run("sheet", "live.csv", "-o", "sheet.csv", "--date-form", "DD.MM.YYYY")
    assert "1 cell of from stand" in cut.stdout.replace("stands", "stand")
    assert "2026-05-13T10:30:00" in (tmp_path / "sheet.csv").read_text()
    untouched = run("compare", "live.csv", "sheet.csv", "--blanks", "clear", "--json")
    assert json.loads(untouched.stdout)["header"]["counts"]["cells"] == 0


CUTS = (
    (),
    ("--decimal-mark", ","),
    ("--decimal-mark", ",", "--thousands-mark", "point"),
    ("--thousands-mark", "comma"),
    ("--date-form", "DD.MM.YYYY"),
    ("--date-form", "MM/DD/YYYY"),
    ("--separator", "sheet=semicolon", "--encoding", "sheet=utf-16"),
    ("--fields", "price,created", "--sort", "price DESC"),
    ("--where", "price > 50"),
)


@pytest.mark.parametrize(
    ("ending", "options", "described"), each_of(2, in_pairs(["xlsx", "csv", "txt"], CUTS, [True, False]))
)
def test_a_sheet_that_was_cut_in_any_way_and_not_touched_is_no_change(run, store, ending, options, described):
    if described:
        (store / "neat-delta.toml").write_bytes(files("neat_delta.demo").joinpath("neat-delta.toml").read_bytes())
    cut = run("sheet", "live.csv", "-o", f"cut.{ending}", *options)
    assert cut.returncode == 0, cut.stderr
    facts = json.loads(run("compare", "live.csv", f"cut.{ending}", "--blanks", "clear", "--json").stdout)["header"]
    assert facts["counts"]["cells"] == 0
    assert [one for one in facts["findings"] if one["check"] in {"damage", "slip"}] == []


def test_confirm_tells_items_that_are_there_twice_and_another_currency(run, put):
    put("live.csv", 'sku,price,tags\nq0,19.90,"a,b"\nq1,5.00,c\n')
    put("sheet.csv", 'sku,price,tags\nq0,21.90,"a,b"\nq1,5.00,"c,d"\n')
    run("compare", "live.csv", "sheet.csv", "-o", "c.jsonl")
    put("after.csv", 'tags,sku,price\n"c,d",q1,5.00\n"a,b",q0,21.90\n')
    landed = run("confirm", "c.jsonl", "after.csv")
    assert (landed.returncode, "All 2 changes landed." in landed.stdout) == (0, True)
    put("after.csv", 'sku,price,tags\nq0,21.90,"a,b"\nq1,5.00,"c,d"\nq0,21.90,"a,b"\n')
    twice = run("confirm", "c.jsonl", "after.csv")
    assert twice.returncode == 1 and "1 item there twice" in twice.stdout and "  q0" in twice.stdout
    assert json.loads(run("confirm", "c.jsonl", "after.csv", "--json").stdout)["twice"] == [{"sku": "q0"}]
    put("after.csv", 'sku,price,tags\nq0,21.90 USD,"a,b"\nq1,5.00,"c,d"\n')
    other = json.loads(run("confirm", "c.jsonl", "after.csv", "--json").stdout)
    assert other["counts"] == {"landed": 1, "not landed": 0, "differently": 1}


WRITINGS = (
    Notation(),
    Notation(","),
    Notation(",", "."),
    Notation(".", ","),
    Notation(date_form="DD.MM.YYYY"),
    Notation(",", date_form="MM/DD/YYYY"),
    Notation(date_form="YYYY/MM/DD"),
)


@pytest.mark.parametrize("rounds", first_of([2, 22 * LENGTH], 1))
def test_any_catalogue_that_was_cut_and_not_touched_is_no_change(tmp_path, put, rounds):
    """As a workbook, and as text in every writing; blanks would be taken for emptied cells."""
    for seed in range(rounds):
        round_ = drawn(seed, tmp_path)
        live = table(round_.live, put("live.csv", ""))
        made = cut_worksheet(live, store=round_.store)
        sheets = {"workbook": read(put("cut.xlsx", workbook(made, live.source, len(live.fields))))}
        for writing in WRITINGS:
            sheets[str(writing)] = replace(live, table=as_written(made, writing)[0])
        for how, sheet in sheets.items():
            changes = compare(live, sheet, store=round_.store, blanks="clear")
            found = {cell: (round_.live[cell[1]][cell[0]], one) for cell, one in outcomes(changes).items()}
            assert (seed, how, found) == (seed, how, {})


def test_a_doubtful_cell_goes_through_the_whole_round_as_it_was_typed(run, put, tmp_path):
    """Held in compare, preview, write and its undo; let through, it goes out letter by letter, and lands so."""
    live = [["sku", "price", "part"], ["q0", "5.00", "75338"], ["q1", "6.00", "912"], ["q2", "7.00", "10115"]]
    sheet = [live[0], ["q0", "1.234", "075338"], ["q1", "6.50", "912"], ["q2", "7.00", "10115"]]
    assert said(run, put, live, sheet) == {("q0", "price"): "(held)", ("q0", "part"): "075338", ("q1", "price"): "6.50"}
    shown = json.loads(run("preview", "c.jsonl", "--json", "--check", "unreadable").stdout)
    assert [one["item"]["key"]["sku"] for one in shown["items"]] == ["q0"]
    assert "1.234: may be decimals or thousands" in run("preview", "c.jsonl", "--findings").stdout
    assert run("preview", "c.jsonl", "--workbook", "sign.xlsx").returncode == 0
    assert run("write", "c.jsonl", "--to", "out", "--importer-blanks", "skip").returncode == 1
    assert (tmp_path / "out" / "update-1.csv").read_text() == "sku,price,part\nq0,,075338\nq1,6.50,\n"
    assert (tmp_path / "out" / "undo-1.csv").read_text() == "sku,price,part\nq0,,75338\nq1,6.00,\n"
    accepted = said(run, put, live, sheet, None, "--accept", "unreadable:price", "--accept", "slip")
    assert accepted[("q0", "price")] == "1.234"
    assert run("write", "c.jsonl", "--to", "all", "--importer-blanks", "skip").returncode == 0
    assert (tmp_path / "all" / "update-1.csv").read_text() == "sku,price,part\nq0,1.234,075338\nq1,6.50,\n"
    put("after.csv", "sku,price,part\nq0,1.234,075338\nq1,6.5,912\nq2,7.00,10115\n")
    assert run("confirm", "c.jsonl", "after.csv").returncode == 0
    put("after.csv", "sku,price,part\nq0,1.234,75338\nq1,6.5,912\nq2,7.00,10115\n")
    lost = json.loads(run("confirm", "c.jsonl", "after.csv", "--json").stdout)
    assert [(one["field"], one["outcome"]) for one in lost["trouble"]] == [("part", "not landed")]


def test_exact_meets_repair_blanks_and_codes(run, put):
    """A field that is compared by its text, with what else may become of its cells."""
    toml = '[fields.price]\nkind = "money"\ndecimals = 2\n[fields.code]\nkind = "code"\n'
    live = [["sku", "price", "code"], ["q0", "5.00", "007"], ["q1", "6.50", "008"], ["q2", "7.00", "x9"]]
    sheet = [live[0], ["q0", "5", "7"], ["q1", "", "008"], ["q2", "call us", "x9"]]
    exact = ("--exact", "price", "--exact", "code")
    found = said(run, put, live, sheet, toml, *exact, "--repair", "--blanks", "clear")
    assert found == {("q0", "price"): "5", ("q1", "price"): "", ("q2", "price"): "(held)"}
    assert said(run, put, live, sheet, toml, *exact)[("q0", "code")] == "(held)"
    put("codes.csv", "sku,new code\nq2,q9\n")
    recoded = said(run, put, live, [live[0], ["q2", "7.0", "x9"]], toml, *exact, "--recode", "codes.csv")
    assert (recoded[("q2", "sku")], recoded[("q2", "price")]) == ("q9", "7.0")


@pytest.mark.parametrize("rounds", first_of([2, 20 * LENGTH], 1))
def test_confirm_knows_an_export_in_any_order_and_tells_what_is_there_twice_or_in_another_currency(tmp_path, rounds):
    for seed in range(rounds):
        rng, round_ = random.Random(seed), drawn(seed, tmp_path)
        changes = round_.compared(round_.edits)
        sent = {cell: one[1] or "" for cell, one in outcomes(changes).items() if one[0] == "sent"}
        cells = {name: list(texts) for name, texts in round_.live.items()}
        for (row, name), text in sent.items():
            cells[name][row] = text
        order, names = rng.sample(range(ROWS), ROWS), rng.sample(list(cells), len(cells))
        after = {name: [cells[name][row] for row in order] for name in names}
        live = table(round_.live, "live")
        result = confirm_changes(changes, live, table(after, "after"), round_.store)
        assert (seed, result.trouble, result.twice, result.other_changes.height) == (seed, [], [], 0)
        assert result.counts["landed"] == len(sent) and result.all_landed
        again = {name: [*texts, texts[3]] for name, texts in after.items()}
        twice = confirm_changes(changes, live, table(again, "after"), round_.store)
        assert twice.twice == [{"sku": after["sku"][3]}] and not twice.all_landed
        for row, name in [
            (row, name) for row, name in sent if round_.columns[name].sort == "number" and sent[row, name]
        ][:3]:
            other = {name: list(texts) for name, texts in cells.items()}
            other[name][row] = f"{apart(sent[row, name])[1]} USD"
            (trouble,) = confirm_changes(changes, live, table(other, "after"), round_.store).trouble
            assert (trouble.field, trouble.now, trouble.outcome) == (name, other[name][row], "differently")


def test_there_are_sixty_columns_and_more_in_seven_notations():
    assert len(NOTATIONS) == 7 and all(len(columns(notation)) >= 60 for notation in NOTATIONS.values())
