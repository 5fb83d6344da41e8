"""Suppliers' lists: matching held against dictionaries, then five lists from the raw file to proven update files by
SKU, and their second month, which needs no option.
"""

from __future__ import annotations

import csv
import io
import json
import re
from collections import defaultdict
from decimal import ROUND_HALF_UP, Decimal
from importlib.resources import files
from pathlib import Path

import pytest
import xlsxwriter
from hypothesis import strategies as st

import neat_delta
from neat_delta import Key, ListField, ListMapping, Store, as_catalogue, compare, translate
from neat_delta.core.base.model.lists import Spread, Stack
from neat_delta.core.base.model.rules import Lookup, Rule, Rules
from neat_delta.core.base.model.store import Field
from neat_delta.core.base.support.errors import CatalogueError, StoreError
from neat_delta.core.compare.lists.reshape import reshape
from neat_delta.files.mappingfile import mapping_schema, read_mapping
from tests.conftest import first_of, in_pairs, in_two_lengths

CODES = st.sampled_from(["11", "12", "13", "14", ""])
PRICES = st.sampled_from(["1.00", "2.00", "3.00"])
SHELF = st.lists(st.tuples(CODES, PRICES), min_size=1, max_size=6)
LIST = st.lists(st.tuples(CODES, PRICES), min_size=1, max_size=8)
SAYS = st.tuples(st.sampled_from(["aside", "all"]), st.sampled_from([None, "first", "last", "lowest:cost"]))
STORE = Store(
    key=Key(["sku"]),
    fields={
        "sku": Field("code"),
        "cost": Field("money", decimals=2),
        "stock": Field("integer"),
        "tags": Field("list", separator=","),
        "brand": Field("text"),
        "barcode": Field("code"),
    },
)


def accounts(header):
    """Where the rows of the list went, and how many there are."""
    counts = header.counts
    places = counts.same + counts.changed + counts.recoded + counts.new + counts.departed + counts.set_aside_sheet
    return places + counts.folded - counts.copied - counts.unlisted, header.sheet.rows


@in_two_lengths(SHELF, LIST, SAYS, few=40, many=400)
def test_rows_find_items_as_a_dictionary_does(shelf, rows, says):
    """By a field that is no key: one item, several, none; the same row again, rows that contradict each other."""
    several, prefer = says
    live = as_catalogue(
        {
            "sku": [f"QA-{number}" for number in range(len(shelf))],
            "barcode": [code for code, _ in shelf],
            "cost": [cost for _, cost in shelf],
        }
    )
    supplied = as_catalogue({"EAN": [code for code, _ in rows], "Trade": [cost for _, cost in rows]}, "list")
    mapping = ListMapping(
        match_by=["barcode"], headings={"EAN": "barcode", "Trade": "cost"}, fits_several=several, prefer=prefer
    )
    of_code = defaultdict(list)
    for number, (code, _) in enumerate(shelf):
        of_code[code].append(number)
    said, codeless = defaultdict(set), set()
    for code, cost in rows:
        if code and not of_code[code]:
            codeless.add(code)
        elif code and (len(of_code[code]) == 1 or several == "all"):
            for number in of_code[code]:
                said[number].add(cost)
    wanted = {}
    for number, costs in said.items():
        order = [cost for code, cost in rows if code == shelf[number][0]]
        chosen = {"first": order[0], "last": order[-1], "lowest:cost": min(order)}.get(prefer or "", "")
        if len(costs) > 1 and not chosen:
            continue
        cost = chosen or costs.pop()
        if cost != shelf[number][1]:
            wanted[f"QA-{number}"] = cost
    made = translate(live, supplied, mapping, STORE)
    assert set([] if made.new is None else made.new["barcode"]) <= codeless
    changes = compare(live, made.sheet, store=STORE) if made.sheet.cells.height else None
    assert (
        {item.key["sku"]: item.cells["cost"][1] for item in changes.iter_items()} == wanted if changes else not wanted
    )
    if changes:
        assert accounts(changes.header)[0] == accounts(changes.header)[1] == len(rows)


LONG = st.lists(st.tuples(st.sampled_from("abc"), st.sampled_from(["Main", "Shop", "Van"]), PRICES), max_size=8)


@in_two_lengths(LONG, few=25, many=300)
def test_a_long_list_is_spread_and_a_wide_one_stacked_as_a_dictionary_does(rows):
    cells = {"code": [row[0] for row in rows], "place": [row[1] for row in rows], "count": [row[2] for row in rows]}
    spread = Spread("place", "count", {"Main": "stock_main", "Shop": "stock_shop"})
    made = reshape(as_catalogue(cells), ListMapping(spread=spread), ["code"])
    said = defaultdict(set)
    for code, place, count in rows:
        if place != "Van":
            said[code, spread.columns[place]].add(count)
    known = {key: counts.pop() for key, counts in said.items() if len(counts) == 1}
    got = {
        (code, name): text
        for row, at in zip(made.cells.rows(named=True), range(made.cells.height), strict=True)
        for name in ("stock_main", "stock_shop")
        for code, text in [(row["code"], row[name])]
        if not made.absent[name][at]
    }
    assert got == known
    assert made.cells.height + made.folded + len(made.set_aside) == len(rows)
    wide = made.cells.select("code", "stock_main", "stock_shop")
    stack = Stack("place", "count", {"stock_main": "Main", "stock_shop": "Shop"})
    long = reshape(as_catalogue(wide), ListMapping(stack=stack), [])
    back = {
        (code, spread.columns[place]): count
        for code, place, count in long.cells.select("code", "place", "count").rows()
    }
    assert back == known
    assert long.cells.height - long.copied + len(long.set_aside) == wide.height


LIVE = {
    "sku": ["QA-1", "QA-2", "QA-3"],
    "brand": ["Gustwell", "Gustwell", "Tarn"],
    "barcode": ["0400980332533", "2900963560864", "2901857437682"],
    "cost": ["5.00", "7.77", "9.00"],
    "stock": ["5", "0", "7"],
    "tags": ["gift, bulk", "", "gift"],
}


ADDS, TAKES = ListField(means="adds"), ListField(means="takes away")


def cells_of(changes):
    return {
        f"{item.key['sku']}.{name}": after for item in changes.iter_items() for name, (_, after) in item.cells.items()
    }


@pytest.mark.parametrize(
    "cells, mapping, wanted, questions",
    [
        ({"sku": ["QA-1"], "cost": ["520"]}, {"fields": {"cost": ListField(per=100)}}, {"QA-1.cost": "5.20"}, []),
        ({"sku": ["QA-1"], "cost": ["5.25"]}, {"fields": {"cost": ListField(factor="0.5")}}, {},
         ["it comes to 2.625, of 3 decimals, and cost has 2: ROUND(…, 2) in the rule"]),
        ({"sku": ["QA-1"], "cost": ["5.25"]}, {"fields": {"cost": ListField(factor="0.5", places=2)}},
         {"QA-1.cost": "2.63"}, []),
        ({"sku": ["QA-1"], "tags": ["new, gift"]}, {"fields": {"tags": ADDS}}, {"QA-1.tags": "gift, bulk, new"}, []),
        ({"sku": ["QA-1"], "tags": ["gift"]}, {"fields": {"tags": TAKES}}, {"QA-1.tags": "bulk"}, []),
        ({"sku": ["QA-1"], "stock": ["3"]}, {"fields": {"stock": ADDS}}, {"QA-1.stock": "8"}, []),
        ({"sku": ["QA-1"], "stock": ["3"]}, {"fields": {"stock": TAKES}}, {"QA-1.stock": "2"}, []),
        ({"sku": ["QA-1", "QA-2"], "brand": ["GW", "Gustwel"]},
         {"words": {"brand": {"GW": "Tarn", "Gustwell": "Gustwell"}}},
         {"QA-1.brand": "Tarn", "QA-2.brand": "Gustwel"},
         ['"Gustwel" is not among its words; the nearest is "Gustwell"']),
        ({"sku": ["QA-1"], "stock": ["9"]}, {"constants": {"brand": "Tarn"}},
         {"QA-1.brand": "Tarn", "QA-1.stock": "9"}, []),
    ],
)  # fmt: skip
def test_words_units_and_values(cells, mapping, wanted, questions):
    live = as_catalogue(LIVE)
    made = translate(live, as_catalogue(cells, "list"), ListMapping(**mapping), STORE)
    changes = compare(live, made.sheet, store=STORE, with_new_values=["tags", "brand"])
    assert cells_of(changes) == wanted
    assert [row[-1] for row in changes.unresolved.rows()] == questions
    held = {one.field for item in changes.iter_items() for one in item.held}
    assert held == ({"brand"} if questions and "words" in mapping else set())


def test_what_matches_is_not_what_is_written():
    """An item keeps its SKU and its barcode as live has them; near keys are taken when that is said."""
    live = as_catalogue(LIVE)
    supplied = as_catalogue({"EAN": ["400980332533", "29-00963560864"], "Trade": ["5.20", "8.00"]}, "list")
    mapping = ListMapping(match_by=["barcode"], headings={"EAN": "barcode", "Trade": "cost"})
    held = translate(live, supplied, mapping, STORE)
    assert held.new is not None and held.new["barcode"].to_list() == ["29-00963560864"]  # a hyphen is no near miss
    taken = translate(live, supplied, mapping, STORE, accept_near_keys=True).sheet
    changes = compare(live, taken, store=STORE)
    assert cells_of(changes) == {"QA-1.cost": "5.20"}
    bare = as_catalogue({"EAN": ["040098033253", "290185743768"], "Trade": ["5.30", "9.10"]}, "list")
    bare = translate(live, bare, mapping, STORE, accept_near_keys=True).sheet  # check digits left off
    assert cells_of(compare(live, bare, store=STORE)) == {"QA-1.cost": "5.30", "QA-3.cost": "9.10"}
    assert changes.header.key == ["sku"] and changes.header.matched_by == ["barcode"]


def test_a_heading_that_the_description_does_not_name_is_said_and_not_taken():
    supplied = as_catalogue({"sku": ["QA-1"], "Trade": ["5.20"], "stock": ["99"]}, "list")
    mapping = ListMapping(match_by=["sku"], headings={"sku": "sku", "Trade": "cost"})
    changes = compare(as_catalogue(LIVE), translate(as_catalogue(LIVE), supplied, mapping, STORE).sheet, store=STORE)
    assert cells_of(changes) == {"QA-1.cost": "5.20"}
    (left,) = [one for one in changes.header.pairs if one.field is None]
    assert (left.heading, left.how, left.nearest) == ("stock", "not described", "stock")
    lacks = translate(as_catalogue(LIVE), as_catalogue({"sku": ["QA-1"], "stock": ["9"]}, "list"), mapping, STORE).sheet
    assert lacks.notes == ('it has no heading "Trade", which the mapping takes for cost',)


@pytest.mark.parametrize(
    "mapping, why",
    [
        (ListMapping(match_by=["barcode"]), 'no heading stands for "barcode", by which its rows are to be matched'),
        (ListMapping(match_by=["barcod"]), 'live has none of that name. Did you mean "barcode"?'),
        (ListMapping(fields={"cost": ListField(per="none")}), 'says "none", which is no number above 0'),
        (ListMapping(fields={"brand": ListField(means="adds")}), "neither a list nor a number"),
        (ListMapping(constants={"cost": "1"}), "is a constant, and a heading stands for it, too"),
        (ListMapping(prefer="cheapest"), "is to be first, last, lowest:FIELD"),
        (ListMapping(spread=Spread("Locaton", "cost", {"a": "stock"})), 'spread names "Locaton"'),
    ],
)
def test_what_a_description_cannot_mean_is_refused(mapping, why):
    cells = {"sku": ["QA-1", "QA-1"], "cost": ["5.20", "5.30"], "brand": ["x", "y"], "Location": ["a", "a"]}
    with pytest.raises(CatalogueError) as refusal:
        translate(as_catalogue(LIVE), as_catalogue(cells, "list"), mapping, STORE)
    assert why in str(refusal.value)


@pytest.mark.parametrize(
    "text, why",
    [
        ("version = 1\nmatchby = ['sku']\n", 'line 2, matchby: there is no such key. Did you mean "match_by"?'),
        ("version = 1\n[fields.cost]\nmeans = 'add'\n", 'line 3, fields.cost.means: "add" is none of'),
        ("version = 1\n[words]\nbrand = 'x'\n", "line 2, words: it must be a table"),
        ("version = 1\n[file]\nseperator = ';'\n", "line 3, file.seperator"),
        ("[headings]\n", "version"),
    ],
)
def test_a_mapping_file_is_read_with_line_and_key(tmp_path, text, why):
    (tmp_path / "list.toml").write_text(text)
    with pytest.raises(StoreError) as refusal:
        read_mapping(str(tmp_path / "list.toml"))
    assert why in str(refusal.value)


def test_the_schema_of_mapping_files_is_the_one_in_the_docs():
    there = Path(__file__).parent.parent / "docs/mapping-file.schema.json"
    assert json.loads(there.read_text()) == mapping_schema()


def test_what_a_list_leaves_blank_is_as_live_has_it_where_blanks_are_kept():
    live, supplied = as_catalogue(LIVE), as_catalogue({"sku": ["QA-1", "QA-2"], "cost": ["", "8.00"]}, "list")
    rules = Rules(rule=[Rule("count", {"stock": "ROUND(cost)"})])
    asked = {}
    for kept in (False, True):
        blanks = {"cost": "keep"} if kept else {}
        made = translate(live, supplied, ListMapping(), STORE, rules=rules, blanks=blanks).sheet
        changes = compare(live, made, store=STORE, blanks=blanks)
        asked[kept] = (cells_of(changes).get("QA-1.stock"), [row[-1] for row in changes.unresolved.rows()])
    assert asked == {False: (None, ["cost is blank"]), True: (None, [])}  # 5.00 is 5, as it was


# Five lists, from the raw file to proven update files, and their second month.

SHOP = """version = 1
[key]
fields = {key}
[importer]
blanks = "clear"
[importer.removal]
how = "row"
[fields.sku]
kind = "code"
[fields.barcode]
kind = "code"
[fields.supplier_code]
kind = "code"
[fields.brand]
[fields.name]
required = true
[fields.cost]
kind = "money"
decimals = 2
[fields.price]
kind = "money"
decimals = 2
[fields.status]
kind = "choice"
values = ["on sale", "ends soon"]
[fields.stock_main]
kind = "integer"
[fields.stock_shop]
kind = "integer"
[fields.least_quantity]
kind = "integer"
"""
ITEMS = [
    # sku, barcode, supplier_code, brand, name, cost, price, status, stock_main, stock_shop
    ("QA-1", "0400980332533", "F-10", "Gustwell", "Deep frame", "33.00", "62.90", "on sale", "12", "3"),
    ("QA-2", "2900963560864", "F-20", "Gustwell", "Foundation", "28.00", "41.90", "on sale", "0", "1"),
    ("QA-3", "2901857437682", "F-10", "Tarn", "Wax block", "26.00", "53.90", "on sale", "7", "0"),
    ("QA-4", "2901315867853", "F-40", "Tarn", "Feeder", "3.50", "5.90", "on sale", "70", "40"),
]
FIELDS = ("sku", "barcode", "supplier_code", "brand", "name", "cost", "price", "status", "stock_main", "stock_shop")
TITLED = (
    "Söderbi trade list;;;;\nvalid from {month};;;;\n;;;;\n"
    "EAN;Article;Trade per 100;RRP;State\n{rows}Total;;{total};;\n"
)
MADE_TITLED = """version = 1
match_by = ["barcode"]
accept_near_keys = true
ignore = ["Article", "RRP"]
rules = "retail.toml"
[writing]
decimal_mark = ","
thousands_mark = "."
[headings]
EAN = "barcode"
"Trade per 100" = "cost"
State = "status"
[words.status]
"" = ""
"lieferbar" = "on sale"
"läuft aus" = "ends soon"
[fields.cost]
per = 100
"""
RETAIL = """version = 1
[[rule]]
name = "retail"
where = "cost <> live.cost OR live.cost IS NULL"
set = { price = "ENDS_AT(cost * 1.9, 0.90)" }
"""


@pytest.fixture
def shop(put, run):
    """A small shop; a list is compared, looked at, written and proven, and the prices of its files read back."""

    def week(mapping, *lists, key='["sku"]', items=ITEMS, fields=FIELDS, more=(), **others):
        text = io.StringIO()
        csv.writer(text, lineterminator="\n").writerows([fields, *items])
        put("live.csv", text.getvalue())
        put("neat-delta.toml", SHOP.replace("{key}", key))
        put("list.toml", mapping)
        for name, content in others.items():
            put(f"{name}.toml", content)
        out = []
        for number, one in enumerate(lists):
            changes, folder = f"c{number}.jsonl", f"out{number}"
            args = ("compare", "live.csv", one, "--mapping", "list.toml", *more, "-o", changes)
            done = run(*args, "--new-to", f"new{number}.csv")
            assert done.returncode in (0, 1), done.stderr
            assert run("preview", changes).returncode == 0
            written = run("write", changes, "--to", folder, "--replace")
            assert written.returncode in (0, 1), written.stderr
            said = json.loads(run(*args[:-2], "--json").stdout)["header"]
            counts = said["counts"]
            rows = sum(counts[name] for name in ("same", "changed", "new", "set_aside_sheet", "folded"))
            assert rows - counts["copied"] == said["sheet"]["rows"]
            assert said["store"]["key"]["fields"] == json.loads(key)
            out.append(
                (done, neat_delta.read_changes(put(f"_{changes}", Path(put("x", "")).with_name(changes).read_bytes())))
            )
        return out

    return week


def sent(changes):
    held = {(item.key["sku"], one.field) for item in changes.iter_items() for one in item.held}
    return {
        f"{item.key['sku']}.{name}": after
        for item in changes.iter_items()
        for name, (_, after) in item.cells.items()
        if not {(item.key["sku"], name), (item.key["sku"], None)} & held
    }


def test_a_list_in_windows_1252_with_titles(shop, put, run, tmp_path):
    """By barcode, of which one lost its zero; prices per 100 with decimal commas; a word that is not listed; a total;
    a new item; and retail prices by rule.
    """
    rows = (
        "400980332533;Deep frame;3.397,00;62,90;lieferbar\n2900963560864;Foundation;2.800,00;;läuft aus\n"
        "2901857437682;Wax;2.650,00;;vergriffen\n2999999999999;New jar;95,00;;\n"
    )
    may = put("may.csv", TITLED.format(month="2026-05-01", rows=rows, total="8.942,00").encode("cp1252"))
    june = put(
        "june.csv", TITLED.format(month="2026-06-01", rows=rows.replace("3.397", "3.400"), total="").encode("cp1252")
    )
    (_, first), (_, second) = shop(MADE_TITLED, may, june, retail=RETAIL)
    assert sent(first) == {
        "QA-1.cost": "33.97", "QA-1.price": "64.90", "QA-2.status": "ends soon", "QA-3.cost": "26.50",
        "QA-3.price": "49.90",
    }  # fmt: skip
    assert [(row.row, row.reason) for row in first.header.set_aside] == [(8, "new, without a code"), (9, "total")]
    assert [row[-1] for row in first.unresolved.rows()] == ['"vergriffen" is not among its words']
    assert sent(second)["QA-1.cost"] == "34.00"
    new = (tmp_path / "new0.csv").read_text("utf-8-sig")
    assert new.splitlines()[0].startswith("sku,barcode,name,cost")
    (row,) = csv.DictReader(io.StringIO(new))
    assert (row["barcode"], row["cost"], row["price"]) == ("2999999999999", "0.95", "1.90")  # in the store's unit
    said = run("preview", "c0.jsonl", "--explain", "QA-1").stdout
    for line in ("Trade per 100  3.397,00", "= 33.97", "ENDS_AT(cost * 1.9, 0.90) = 64.90", "live has 62.90"):
        assert line in said


def test_a_workbook_with_a_merged_title_in_another_currency(shop, tmp_path):
    """By the supplier's code, which two makers share: set aside with both SKUs, or told apart by a constant maker."""
    for name, cost in (("may.xlsx", "40.00"), ("june.xlsx", "44.00")):
        with xlsxwriter.Workbook(tmp_path / name) as book:
            sheet = book.add_worksheet("Prices")
            sheet.merge_range(0, 0, 0, 2, "Tarn & Thistle, wholesale")
            sheet.write_row(2, 0, ["Item no.", "What", "USD"])
            sheet.write_row(3, 0, ["F-10", "Wax block", cost])
            sheet.write_row(4, 0, ["F-40", "Feeder", "3.9"])
    mapping = """version = 1
match_by = ["brand", "supplier_code"]
ignore = ["What"]
[constants]
brand = "Tarn"
[headings]
"Item no." = "supplier_code"
USD = "cost"
[fields.cost]
places = 2
currency = { currency = "USD", rate = 0.92, on = "2026-05-04" }
"""
    (_, first), (_, second) = shop(mapping, "may.xlsx", "june.xlsx")
    assert sent(first) == {"QA-3.cost": "36.80", "QA-4.cost": "3.59"}
    assert sent(second) == {"QA-3.cost": "40.48", "QA-4.cost": "3.59"}
    assert "USD at 0.92 on 2026-05-04" in [rule.why for rule in first.header.rules]
    single = mapping.replace('["brand", "supplier_code"]', '["supplier_code"]').replace(
        '[constants]\nbrand = "Tarn"\n', ""
    )
    ((_, third),) = shop(single, "may.xlsx")
    assert sent(third) == {"QA-4.cost": "3.59"}
    assert [row.reason for row in third.header.set_aside] == ["fits several items: QA-1, QA-3"]
    ((_, fourth),) = shop(single.replace("ignore", 'fits_several = "all"\nignore'), "may.xlsx")
    assert set(sent(fourth)) == {"QA-1.cost", "QA-3.cost", "QA-4.cost"}


def test_a_count_by_location_with_a_buffer(shop, put):
    """A long list onto a column for each location; what is kept back by a rule; unknown locations and unknown SKUs."""
    mapping = """version = 1
match_by = ["sku"]
rules = "buffer.toml"
[headings]
Art = "sku"
[spread]
by = "Location"
value = "Counted"
[spread.columns]
"Main" = "stock_main"
"Shop 2" = "stock_shop"
"""
    buffer = 'version = 1\n[[rule]]\nname = "buffer"\nset = { stock_main = "GREATEST(stock_main - 2, 0)" }\n'
    may = "Art,Location,Counted\nQA-1,Main,10\nQA-1,Shop 2,4\nQA-2,Main,1\nQA-4,Shp 2,9\nQA-9,Main,5\nQA-1,Main,10\n"
    (_, first), (_, second) = shop(
        mapping, put("may.csv", may), put("june.csv", may.replace("10", "30")), buffer=buffer
    )
    assert sent(first) == {"QA-1.stock_main": "8", "QA-1.stock_shop": "4"}  # QA-2: 1 less 2 is 0, as it is
    reasons = sorted(row.reason for row in first.header.set_aside)
    assert reasons == ["the same row again", 'unknown Location "Shp 2"; the nearest is "Shop 2"']
    assert first.header.counts.new == 1
    assert first.header.counts.folded == 1
    assert sent(second)["QA-1.stock_main"] == "28"


def test_price_steps_by_quantity(shop, put):
    """Two fields are the key; a step that the list lacks is gone, but only of the SKUs that it names."""
    steps = [
        ("QA-1", "1", "62.90"),
        ("QA-1", "10", "59.90"),
        ("QA-1", "50", "55.00"),
        ("QA-2", "1", "41.90"),
        ("QA-4", "1", "5.90"),
    ]
    mapping = """version = 1
whole_within = ["sku"]
[headings]
Code = "sku"
From = "least_quantity"
Price = "price"
"""
    may = put("may.csv", "Code,From,Price\nQA-1,1,64.90\nQA-1,10,59.90\nQA-1,100,50.00\nQA-4,1,5.90\nQA-7,1,1.00\n")
    key, fields = '["sku", "least_quantity"]', ("sku", "least_quantity", "price")
    june = put("june.csv", "Code,From,Price\nQA-1,1,64.90\nQA-1,10,58.90\nQA-1,50,55.00\n")
    ((_, later),) = shop(mapping, june, key=key, items=steps, fields=fields)
    assert [tuple(item.key.values()) for item in later.iter_items()] == [("QA-1", "1"), ("QA-1", "10")]
    ((done, first),) = shop(mapping, may, key=key, items=steps, fields=fields, more=("--with-gone", "--with-new"))
    verdicts = {tuple(item.key.values()): item.verdict for item in first.iter_items()}
    assert verdicts == {("QA-1", "1"): "changed", ("QA-1", "50"): "gone", ("QA-1", "100"): "new", ("QA-7", "1"): "new"}
    said = " ".join(done.stdout.split())
    assert 'unknown sku (A) 1 cell noted "QA-7" in 1 row' in said
    assert 'unknown least_quantity (B) 1 cell noted "100" in 1 row' in said


def test_lists_are_matched_by_the_options_alone(shop, put, run):
    shop("version = 1\n", put("may.csv", "sku,cost\nQA-1,33.00\n"))
    put("list.csv", "maker,EAN,cost\nx,2900963560864,29.00\nx,2900963560864,28.50\n")
    args = (
        "compare",
        "live.csv",
        "list.csv",
        "--match-by",
        "barcode",
        "--map",
        "EAN=barcode",
        "--ignore",
        "maker",
        "--json",
    )
    header = json.loads(run(*args).stdout)["header"]
    assert [row["reason"] for row in header["set_aside"]] == ["rows 2, 3 are for one item: cost 29.00 / 28.50"] * 2
    header = json.loads(run(*args, "--prefer", "lowest:cost").stdout)["header"]
    assert header["counts"]["changed"] == 1 and header["store"]["key"]["fields"] == ["sku"]
    assert "‹" not in run("compare", "live.csv", "list.csv", "--match-by", "barcode").stderr
    for more, why in (
        (("--let", "a=1"), "--let: this goes with --rules"),
        (("--constant", "brand"), "is not FIELD=TEXT"),
        (("--base", "live.csv", "--match-by", "sku"), "held against live alone"),
    ):
        assert why in run("compare", "live.csv", "may.csv", *more).stderr


def test_rules_see_the_list_the_live_item_and_what_was_made_of_them():
    live = as_catalogue(LIVE)
    supplied = as_catalogue({"sku": ["QA-1", "QA-2"], "Trade net": ["6.00", "n/a"], "cost": ["5.10", "7.77"]}, "list")
    rules = Rules(rule=[Rule("dearer", {"cost": 'GREATEST(cost, live.cost, CAST(sheet."Trade net" AS DECIMAL))'})])
    made = translate(live, supplied, ListMapping(), STORE, rules=rules).sheet
    changes = compare(live, made, store=STORE)
    assert cells_of(changes) == {"QA-1.cost": "6.00"}
    assert [row[-1] for row in changes.unresolved.rows()] == ['"n/a" is no number']
    step = neat_delta.explain(changes, "QA-1")[0].cells[0].steps[0]
    assert step.inputs == [("cost", "5.10"), ("live.cost", "5.00"), ("sheet.Trade net", "6.00")]
    assert step.parts[-1][1] == "6" and Decimal(step.result) == 6


def test_a_list_without_headings_is_described_by_the_numbers_of_its_columns(shop, put, tmp_path):
    mapping = """version = 1
[file]
header_line = 0
[headings]
1 = "sku"
3 = "cost"
"""
    with xlsxwriter.Workbook(tmp_path / "may.xlsx") as book:
        sheet = book.add_worksheet()
        sheet.write_row(0, 0, ["QA-1", "Deep frame", "34.00"])
        sheet.write_row(1, 0, ["QA-4", "Feeder", "3.60"])
    for name in (put("may.csv", "QA-1;Deep frame;34.00\nQA-4;Feeder;3.60\n"), "may.xlsx"):
        ((_, changes),) = shop(mapping, name)
        assert sent(changes) == {"QA-1.cost": "34.00", "QA-4.cost": "3.60"}
        assert [item.row.sheet for item in changes.iter_items()] == [1, 2]


def test_a_price_of_six_hundred_agrees_with_decimal_to_the_cent():
    from neat_delta import edit

    costs = [Decimal(n * 7919 % 40000) / 100 for n in range(1, 601)]
    skus, written = [f"QA-{n}" for n in range(600)], [f"{cost:.2f}" for cost in costs]
    live = as_catalogue({"sku": skus, "cost": written, "price": ["1.00"] * 600})
    rules = Rules(rule=[Rule("retail", {"price": "ROUND(cost * 1.35 / 0.81, 2)"})])
    store = Store(key=Key(["sku"]), fields={"cost": Field("money", decimals=2), "price": Field("money", decimals=2)})
    got = [item.cells["price"][1] for item in edit(live, rules, store=store).iter_items()]
    wanted = [(cost * Decimal("1.35") / Decimal("0.81")).quantize(Decimal("0.01"), ROUND_HALF_UP) for cost in costs]
    assert got == [f"{price:.2f}" for price in wanted if price != 1]


@pytest.mark.parametrize(
    ("by", "ignore_case", "shared", "two_fields"),
    in_pairs(["key", "barcode"], [False, True], [False, True], [False, True]),
)
def test_lists_and_rules_meet_every_sort_of_key(put, run, by, ignore_case, shared, two_fields):
    """Through compare, preview, explain, write, confirm and undo: the key is the store's, whatever matched."""
    place = ',"place"' if two_fields else ""
    put(
        "neat-delta.toml",
        f'version = 1\n[key]\nfields = ["sku"{place}]\nignore_case = {str(ignore_case).lower()}\n'
        f'shared = "{"all" if shared else "error"}"\n[importer]\nblanks = "skip"\n'
        "[fields.sku]\nkind = 'code'\n[fields.place]\n[fields.barcode]\nkind = 'code'\n"
        "[fields.cost]\nkind = 'money'\ndecimals = 2\n[fields.price]\nkind = 'money'\ndecimals = 2\n",
    )
    twin = "QA-1,A,111,5.00,9.00\n" if shared else ""
    live = f"sku,place,barcode,cost,price\nQA-1,A,111,5.00,9.00\n{twin}QA-2,A,222,6.00,9.00\nQA-3,B,333,7.00,9.00\n"
    put("live.csv", live)
    put("rules.toml", "version = 1\n[[rule]]\nname = 'double'\nset = { price = 'cost * 2' }\n")
    named = "qa-1" if ignore_case else "QA-1"
    if by == "key":
        put("list.csv", f"sku,place,net\n{named},A,5.50\nQA-3,B,7.00\n")
        mapping = 'version = 1\n[headings]\nsku = "sku"\nplace = "place"\nnet = "cost"\n'
    else:
        put("list.csv", "EAN,net\n111,5.50\n333,7.00\n")
        mapping = 'version = 1\nmatch_by = ["barcode"]\n[headings]\nEAN = "barcode"\nnet = "cost"\n'
    put("list.toml", mapping)
    args = ("compare", "live.csv", "list.csv", "--mapping", "list.toml", "--rules", "rules.toml", "-o", "c.jsonl")
    done = run(*args)
    assert done.returncode in (0, 1), done.stderr
    found = neat_delta.read_changes(str(Path(put("x", "")).with_name("c.jsonl")))
    assert found.header.key == ["sku", "place"][: 1 + two_fields]
    cells = [(item.key["sku"], {name: after for name, (_, after) in item.cells.items()}) for item in found.iter_items()]
    first = ("QA-1", {"cost": "5.50", "price": "11.00"})
    assert cells == [first] * (1 + shared) + [("QA-3", {"price": "14.00"})]
    assert "cost * 2 = 11.00" in run("preview", "c.jsonl", "--explain", "QA-1").stdout
    assert run("write", "c.jsonl", "--to", "out").returncode == 0
    put("after.csv", live.replace("5.00,9.00", "5.50,11.00").replace("7.00,9.00", "7.00,14.00"))
    assert "All" in run("confirm", "c.jsonl", "after.csv", "--files", "out").stdout
    back = run("undo", "c.jsonl", "--to", "back", "--now", "after.csv", "--files", "out")
    assert back.returncode == 0, back.stdout + back.stderr


def test_the_totals_over_locations_are_those_of_the_files(run, put):
    """On the demo's count: of what is sent, item by item, as a dictionary adds it up."""
    for name in ("stock.csv", "count.csv", "stock.toml", "count.toml", "buffer.toml"):
        put(name, files("neat_delta.demo").joinpath(name).read_bytes())
    args = ("--store", "stock.toml", "--mapping", "count.toml", "-o", "c.jsonl")
    assert run("compare", "stock.csv", "count.csv", *args).returncode == 1
    told = json.loads(run("preview", "c.jsonl", "--json").stdout)
    before: defaultdict[str, int] = defaultdict(int)
    after: defaultdict[str, int] = defaultdict(int)
    for row in csv.DictReader(io.StringIO(files("neat_delta.demo").joinpath("stock.csv").read_text())):
        before[row["sku"]] += int(row["quantity"])
        after[row["sku"]] += int(row["quantity"])
    for one in told["items"]:
        item = one["item"]
        if not item["held"]:
            old, new = item["cells"]["quantity"]
            after[item["key"]["sku"]] += int(new) - int(old)
    wanted = {sku: (before[sku], after[sku]) for sku in before if before[sku] != after[sku]}
    assert {one["item"]: (int(Decimal(one["before"])), int(Decimal(one["after"]))) for one in told["totals"]} == wanted
    assert len(wanted) > 5
    assert json.loads(run("preview", "c.jsonl", "--json", "--total", "quantity").stdout)["totals"] == told["totals"]
    assert "has no field" in run("preview", "c.jsonl", "--total", "quantiti").stderr
    assert "total of" in run("preview", "c.jsonl", "--markdown").stdout


def test_the_total_of_an_item_that_is_new_begins_at_nothing():
    live = neat_delta.as_catalogue({"sku": ["A", "A"], "place": ["x", "y"], "stock": ["1", "2"]})
    rows = {"sku": ["A", "A", "C", "C"], "place": ["x", "y", "x", "y"], "stock": ["2", "2", "4", "5"]}
    changes = neat_delta.compare(live, rows, key=["sku", "place"], with_new=True)
    totals = neat_delta.preview(changes, live, total="stock").totals
    assert [(one.item, int(one.before), int(one.after)) for one in totals] == [("A", 3, 4), ("C", 0, 9)]


def test_every_key_of_the_files_is_in_their_reference():
    docs = Path(__file__).parent.parent / "docs" / "formats"
    mapping = (docs / "mapping.md").read_text()
    for kind in (ListMapping, ListField, Spread, Stack):
        for name in kind.__struct_fields__:
            assert re.search(rf"`(?:[\w.]+\.)?{name}`", mapping), name
    rules = (docs / "rules.md").read_text()
    for one in (Rules, Rule, Lookup):
        for name in one.__struct_fields__:
            assert re.search(rf"`(?:[\w.]+\.)?{name}`", rules), name


@pytest.mark.parametrize("ending", ["csv", "xlsx"])
def test_rules_on_a_working_sheet_of_an_older_export_send_nothing(shop, put, run, tmp_path, ending):
    """A sheet that says itself what it was cut from is not held against another export by way of a mapping."""
    shop("version = 1\n", put("may.csv", "sku,cost\nQA-1,33.00\n"))
    assert run("sheet", "live.csv", "-o", f"work.{ending}", "--fields", "cost,price").returncode == 0
    live = (tmp_path / "live.csv").read_text()
    put("fresh.csv", live.replace("62.90", "65.90"))
    put("double.toml", 'version = 1\n[[rule]]\nname = "double"\nset = { price = "cost * 2" }\n')
    held = json.loads(run("compare", "fresh.csv", f"work.{ending}", "--rules", "double.toml", "--json").stdout)
    assert held["to_send"] == 0 and {one["reason"][:6] for one in held["reasons"]} == {"stale:"}
    same = json.loads(run("compare", "live.csv", f"work.{ending}", "--rules", "double.toml", "--json").stdout)
    assert same["to_send"] == 4


@pytest.mark.parametrize("by", ["key", "barcode"])
def test_an_item_on_several_lines_is_one_row_for_rules_and_mappings(put, run, tmp_path, by):
    """Its further images are not lost, and not taken for rows without a key."""
    put(
        "neat-delta.toml",
        'version = 1\n[file]\ncontinued = ["images"]\n[key]\nfields = ["sku"]\n[fields.sku]\nkind = "code"\n'
        '[fields.barcode]\nkind = "code"\n[fields.price]\nkind = "money"\ndecimals = 2\n'
        '[fields.images]\nkind = "image"\nseparator = "|"\n',
    )
    live = "sku,barcode,price,images\nQA-1,111,9.00,a.jpg\n,,,b.jpg\nQA-2,222,8.00,c.jpg\n"
    put("live.csv", live)
    put("rules.toml", "version = 1\n[[rule]]\nname = 'up'\nset = { price = 'price + 1' }\n")
    put("sheet.csv", live.replace("c.jpg", "d.jpg"))
    more = ("--match-by", "barcode") if by == "barcode" else ()
    done = run("compare", "live.csv", "sheet.csv", "--rules", "rules.toml", *more, "-o", "c.jsonl")
    assert done.returncode == 0, done.stdout + done.stderr
    changes = neat_delta.read_changes(str(tmp_path / "c.jsonl"))
    assert cells_of(changes) == {"QA-1.price": "10.00", "QA-2.price": "9.00", "QA-2.images": "d.jpg"}
    assert not changes.header.set_aside
    assert run("write", "c.jsonl", "--to", "out").returncode == 0


@pytest.mark.parametrize("step", first_of(range(2), 1))
def test_the_same_inputs_give_the_same_bytes(run, put, tmp_path, step):
    """In processes of their own, with other orders of sets."""
    demo = files("neat_delta.demo")
    for one in demo.iterdir():
        if one.name.endswith((".csv", ".toml")):
            put(one.name, one.read_bytes())
    calls = (
        ("compare", "stock.csv", "count.csv", "--store", "stock.toml", "--mapping", "count.toml"),
        ("compare", "live.csv", "supplier.csv", "--mapping", "soderbi.toml", "--rules", "retail.toml"),
    )
    made = [run(*calls[step], "-o", f"{seed}.jsonl", PYTHONHASHSEED=seed) for seed in ("1", "2")]
    assert [done.returncode for done in made] == [1, 1], [done.stderr for done in made]
    assert (tmp_path / "1.jsonl").read_bytes() == (tmp_path / "2.jsonl").read_bytes()


@pytest.mark.parametrize(
    ("by", "value", "message"),
    [
        ("place", "count", 'stack makes the field "count", and there is a heading of that name. Leave that column out'),
        ("count", "place", 'stack makes the field "count", and there is a heading of that name. Leave that column out'),
        ("place", "place", 'stack makes one field, "place", of the columns and of what is in them. Name two.'),
    ],
)
def test_a_wide_list_has_no_column_of_its_own_that_stacking_makes(run, put, by, value, message):
    put("live.csv", "sku,place,count\nQA-1,Main,5\nQA-1,Shop,6\n")
    put("list.csv", "sku,count,Main,Shop\nQA-1,11,7,8\n")
    put("m.toml", f'version = 1\nmatch_by = ["sku"]\n[stack]\nby = "{by}"\nvalue = "{value}"\ncolumns.Main = "Main"\n')
    done = run("compare", "live.csv", "list.csv", "--key", "sku", "--key", "place", "--mapping", "m.toml")
    assert done.returncode == 2 and message in done.stderr


def test_rows_that_the_description_does_not_want_are_no_finding(run, put):
    put("live.csv", "sku,cost\nQA-1,2.00\n")
    put("list.csv", "sku,cost\nQA-1,2.10\nQA-9,3.00\n")
    put("m.toml", 'version = 1\nmatch_by = ["sku"]\ntake = "matched"\n')
    done = run("compare", "live.csv", "list.csv", "--mapping", "m.toml")
    assert done.returncode == 0 and "not taken, as the mapping says" in done.stdout
