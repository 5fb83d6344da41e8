"""The checks: a case that trips each, and one that just does not; levels, exceptions, what is let through."""

from __future__ import annotations

import json
import random
from decimal import Decimal
from pathlib import Path
from typing import Any, get_args

import msgspec
import polars as pl
import pytest
from hypothesis import given
from hypothesis import strategies as st
from stdnum import ean, isbn

from neat_delta import Accept, ChangeSet, Field, Importer, Key, Layout, Notation, Store, as_catalogue, check, compare
from neat_delta.core.base.model.store import CheckName, Relations, Standing
from neat_delta.core.base.support.check_digits import Standard, has_check_digit
from neat_delta.core.compare.checks import CHECKS
from neat_delta.core.compare.checks.base import sentence
from tests.oracle import catalogue

FIELDS = {
    "sku": Field("code"),
    "made": Field(required=True),
    "type": Field(locked=True),
    "parent": Field("code", refers=True),
    "name": Field(longest=20),
    "html": Field(),
    "price": Field("money", decimals=2, largest_change=Decimal(30), least=Decimal("0.05"), most=Decimal(900)),
    "cost": Field("money", decimals=2),
    "sale": Field("money", decimals=2),
    "floor": Field("money", decimals=2),
    "roof": Field("money", decimals=2),
    "from": Field("date"),
    "to": Field("date"),
    "stock": Field("integer"),
    "shown": Field("flag", yes=["yes"], no=["no"]),
    "colour": Field("choice"),
    "tags": Field("list", separator=","),
    "path": Field("path", levels=" > "),
    "size": Field("measure"),
    "code": Field("code", unique=True),
    "ean": Field("code", check_digit="gtin"),
    "isbn": Field("code", check_digit="isbn"),
    "image": Field("image", separator=";"),
    "short": Field(longest_bytes=6),
    "label": Field(stored_length=4, stored_case="upper"),
    "weight": Field("decimal", stored_decimals=1),
}
STORE = Store(
    writing=Notation(".", "", "YYYY-MM-DD"),
    key=Key(["sku"]),
    fields=FIELDS,
    relations=Relations(
        price="price",
        cost="cost",
        least_margin=Decimal(10),
        sale_price="sale",
        least_price="floor",
        most_price="roof",
        sale_from="from",
        sale_to="to",
        shown="shown",
        stock="stock",
    ),
)
ITEM = {
    "sku": "", "made": "here", "type": "wear", "parent": "", "name": "Veil", "html": "<p>Veil</p>", "price": "20.00",
    "cost": "10.00", "sale": "",
    "floor": "", "roof": "", "from": "", "to": "", "stock": "5", "shown": "yes", "colour": "red", "tags": "gift,bulk",
    "path": "Clothing > Veils", "size": "2 l", "code": "", "ean": "", "isbn": "", "image": "a.jpg", "short": "abc",
    "label": "WAX", "weight": "1.5",
}  # fmt: skip


def shop(**edits: str) -> list[dict[str, str]]:
    """Thirty items, the first of them edited."""
    items = [ITEM | {"sku": f"QA-{n}", "code": f"C-{n}"} for n in range(30)]
    items[0] |= {name.rstrip("_"): text for name, text in edits.items()}
    return items


def table(items: list[dict[str, str]]) -> tuple[list[str], list[list[str]]]:
    return list(items[0]), [list(item.values()) for item in items]


def checked(live: list[dict[str, str]], sheet: list[dict[str, str]], store: Store = STORE, **options: Any) -> ChangeSet:
    return compare(catalogue(table(live)), catalogue(table(sheet), "sheet.csv"), store=store, **options)


CASES: dict[str, list[tuple[dict[str, str], str | None]]] = {
    "required": [({"made": " "}, "it was emptied"), ({"made": "there"}, None)],
    "unreadable": [
        ({"price": "call us"}, "call us is not money"),
        ({"stock": "2.5"}, "2.5 is not an integer"),
        ({"stock": "2.0"}, None),
    ],
    "locked": [({"type": "food"}, "from wear to food"), ({"type": ""}, "it was emptied"), ({"type": "wear "}, None)],
    "outside-bounds": [
        ({"price": "0.04", "cost": "0.01"}, "0.04 is less than 0.05"),
        ({"price": "900.01"}, "900.01 is more than 900"),
        ({"price": "900.00"}, None),
    ],
    "negative": [({"stock": "-1"}, "-1 is less than nothing"), ({"stock": "0"}, None)],
    "too-long": [
        ({"name": "x" * 21}, "21 characters, and at most 20 fit"),
        ({"name": "é" * 20}, None),
        ({"short": "ééé!"}, "7 bytes, and at most 6 fit"),
        ({"short": "ééé"}, None),
    ],
    "unclosed-html": [
        ({"html": "<p>a <b>b</p>"}, "</p> closes nothing"),
        ({"html": "<div><b>a</b>"}, "<div> is never closed"),
        ({"html": "<ul><li>a<li>b</ul><br>1 < 2 &amp; <img src='a'/>"}, None),
    ],
    "stored-otherwise": [
        ({"label": "smoker"}, "the store will make SMOK of it"),
        ({"weight": "2.25"}, "the store will make 2.3 of it"),
        ({"label": "JAR", "weight": "2.50"}, None),
    ],
    "near-twin": [
        ({"colour": "Red"}, '"Red" is new, and live has "red"'),
        ({"tags": "gift, BULK"}, '"BULK" is new, and live has "bulk"'),
        ({"path": "clothing > veils"}, '"clothing > veils" is new, and live has "Clothing > Veils"'),
        ({"path": "Clothing>Veils"}, '"Clothing>Veils" is new, and live has "Clothing > Veils"'),
        ({"tags": "bulk, gift"}, None),
    ],
    "new-value": [
        ({"colour": "green"}, '"green" is a value that live does not have'),
        ({"path": "Clothing > Gloves"}, '"Clothing > Gloves" is new from level 2 ("Gloves") on'),
        ({"path": "Smokers > Gloves"}, '"Smokers > Gloves" is new from level 1 ("Smokers") on'),
        ({"path": "Clothing"}, 'live has items under "Clothing" and none in it'),
        ({"tags": "gift"}, None),
        ({"colour": ""}, None),
    ],
    "repeated": [({"code": "C-7"}, '"C-7" stands in 2 items'), ({"code": "C-77"}, None), ({"code": ""}, None)],
    "check-digit": [
        ({"ean": "2900096541267"}, '"2900096541267" is no right GTIN'),
        ({"ean": "2900096541266"}, None),
        ({"ean": "12345670"}, None),
        ({"isbn": "9780306406158"}, '"9780306406158" is no right ISBN'),
        ({"isbn": "0-306-40615-2"}, None),
    ],
    "dead-link": [({"parent": "QA-99"}, 'no item has the code "QA-99"'), ({"parent": "QA-3"}, None)],
    "no-image": [
        ({"image": "a.jpg;gone.jpg"}, 'there is no file "gone.jpg"'),
        ({"image": "img/b.jpg;https://shop.example/x.png"}, None),
    ],
    "margin": [
        ({"cost": "18.01"}, "the price is 20.00 and the cost 18.01, and the least margin is 10 %"),
        ({"cost": "18.00"}, None),
        ({"cost": "20.01"}, "the price is 20.00 and the cost 20.01, and the least margin is 10 %"),
    ],
    "price-as-cost": [
        ({"price": "10.00"}, "the price and the cost are both 10.00 now"),
        ({"cost": "20.0"}, "the price and the cost are both 20.00 now"),
        ({"price": "12.00", "cost": "12"}, "the price and the cost are both 12.00 now"),
        ({"price": "10.01"}, None),
        ({"price": "", "cost": ""}, None),
    ],
    "sale-price": [({"sale": "20.01"}, "the sale price is 20.01 and the price 20.00"), ({"sale": "20.00"}, None)],
    "price-range": [
        ({"floor": "20.01"}, "the price is 20.00 and the least is 20.01"),
        ({"roof": "19.99"}, "the price is 20.00 and the highest is 19.99"),
        ({"floor": "20", "roof": "20.0"}, None),
    ],
    "sale-days": [
        ({"from_": "2026-05-02", "to": "2026-05-01"}, "the sale begins on 2026-05-02 and ends on 2026-05-01"),
        ({"from_": "2026-05-02", "to": "2026-05-02"}, None),
    ],
    "hidden-in-stock": [({"shown": "no"}, "hidden, and 5 in stock"), ({"shown": "no", "stock": "0"}, None)],
    "shown-without-stock": [({"stock": "0"}, "shown, and 0 in stock"), ({"stock": "1"}, None)],
    "large-change": [
        ({"price": "26.01"}, "from 20.00 to 26.01, more than 30 %"),
        ({"price": "26.00"}, None),
        ({"price": "14.00"}, None),
    ],
}


@pytest.mark.parametrize(
    "check, edits, what",
    [(check, *case) for check, cases in CASES.items() for case in cases],
    ids=[f"{check}-{n}" for check, cases in CASES.items() for n, _ in enumerate(cases)],
)
def test_a_check_trips_and_just_does_not(check, edits, what, tmp_path):
    for name in ("a.jpg", "b.jpg"):
        (tmp_path / name).touch()
    changes = checked(shop(), shop(**edits), images=str(tmp_path))
    found = [flag for flag in changes.iter_check_findings() if flag.check == check]
    assert bool(found) == (what is not None)
    if what is not None:
        assert found[0].what.startswith(what)
        assert (found[0].key, found[0].row, found[0].level) == ({"sku": "QA-0"}, 2, CHECKS[check].level)
        held = {one.field for item in changes.iter_items() for one in item.held if one.reason == f"check: {check}"}
        assert held == ({flag.field for flag in found} if CHECKS[check].level == "stop" else set())


@pytest.mark.parametrize(
    "check, edits, what",
    [(check, *case) for check, cases in CASES.items() for case in cases if CHECKS[check].looks_at in {"cell", "item"}],
)
def test_a_check_of_cells_or_items_says_the_same_of_an_item_alone(check, edits, what, tmp_path):
    """What it looks at is what it declares: no other item, in live or in the sheet, has a say."""
    (tmp_path / "a.jpg").touch()
    (tmp_path / "b.jpg").touch()
    changes = checked(shop()[:1], shop(**edits)[:1], images=str(tmp_path))
    found = [flag.what for flag in changes.iter_check_findings() if flag.check == check]
    assert bool(found) == (what is not None) and all(one.startswith(what or "") for one in found)


@given(
    st.lists(st.from_regex(r"(97[89]|0|)[0-9]{0,15}[0-9xX -]?[0-9]{0,2}", fullmatch=True), max_size=30),
    st.booleans(),
    st.sampled_from(get_args(Standard)),
)
def test_a_check_digit_is_right_where_a_package_of_numbers_says_so(codes, completed, standard):
    """Of drawn texts, and of these with the check digit that GTINs have."""
    if completed:
        codes = [code + ean.calc_check_digit(code) for code in codes if code.isdigit()]
    texts = pl.Series(codes, dtype=pl.String)
    valid = {"gtin": ean.is_valid, "isbn": isbn.is_valid}[standard]
    assert has_check_digit(texts, standard).to_list() == [valid(code) for code in codes]


def test_characters_that_the_encoding_lacks_are_found():
    live, sheet = catalogue(table(shop())), catalogue(table(shop(name="蜂蜜", html="Crème")), "sheet.csv")
    object.__setattr__(live, "layout", Layout(encoding="cp1252"))
    changes = compare(live, sheet, store=STORE)
    assert [(flag.field, flag.what) for flag in changes.iter_check_findings()] == [
        ("name", "the store's files cannot hold '蜂'")
    ]


@pytest.mark.parametrize("name", ["Crème", "Crème de miel, forty characters and no one"])
def test_letters_of_a_sheet_whose_encoding_is_a_guess_are_held(name):
    """Of a long text, forty characters are shown."""
    live, sheet = catalogue(table(shop())), catalogue(table(shop(name=name, short="a")), "sheet.csv")
    object.__setattr__(sheet, "guessed", True)
    (flag,) = (
        one for one in compare(live, sheet, store=STORE).iter_check_findings() if one.check == "guessed-encoding"
    )
    assert (flag.field, flag.what, flag.done) == ("name", f"{name[:40]}: the sheet's encoding is a guess", "held")


def test_what_is_far_from_the_other_changes_of_a_round_is_found():
    """One cost that doubles among rises of 4 to 8 %; where all double, none is found."""
    rng = random.Random(5)
    items = [item | {"cost": f"{rng.randint(300, 900) / 100}"} for item in shop()]
    rises = [item | {"cost": f"{Decimal(item['cost']) * rng.randint(104, 108) / 100:.2f}"} for item in items]
    rises[4]["cost"] = f"{Decimal(items[4]['cost']) * 2:.2f}"
    found = [flag for flag in checked(items, rises).iter_check_findings() if flag.check == "outlier"]
    assert [flag.key for flag in found] == [{"sku": "QA-4"}]
    doubled = [item | {"cost": f"{Decimal(item['cost']) * 2:.2f}"} for item in items]
    assert not [flag for flag in checked(items, doubled).iter_check_findings() if flag.check == "outlier"]


def test_a_price_that_ends_as_none_of_live_s_is_found():
    live = [
        item | {"sku": f"QA-{n}", "price": f"{n % 40 + 12}.{('90', '50')[n % 2]}"} for n, item in enumerate(shop() * 5)
    ]
    sheet = [dict(item) for item in live]
    sheet[0]["price"], sheet[1]["price"] = "13.90", "13.99"
    found = [flag for flag in checked(live, sheet).iter_check_findings() if flag.check == "price-ending"]
    assert [(flag.key, flag.what) for flag in found] == [({"sku": "QA-1"}, "13.99: live's prices do not end like that")]


def test_findings_in_the_last_piece_of_a_table_are_said():
    """Large tables are in pieces, and none of the first may be among those in which something is found."""
    whole = pl.DataFrame({"before": [f"{number}.00" for number in range(6)], "after": ["1.00"] * 6})
    pieces = pl.concat([whole[:4], whole[4:]], rechunk=False).with_row_index().filter(pl.col("index") > 3)
    assert sentence(pieces, "from {} to {}", "before", "after").to_list() == ["from 4.00 to 1.00", "from 5.00 to 1.00"]


def test_a_round_that_touches_too_much_is_found():
    half = [item | ({"stock": "7"} if n < 15 else {}) for n, item in enumerate(shop())]
    more = [item | ({"stock": "7"} if n < 16 else {}) for n, item in enumerate(shop())]
    assert not [flag for flag in checked(shop(), half).iter_check_findings() if flag.check == "large-round"]
    found = [flag for flag in checked(shop(), more).iter_check_findings() if flag.check == "large-round"]
    assert [(flag.key, flag.field, flag.what) for flag in found] == [
        (None, None, "16 of 30 items are changed, more than 50 %")
    ]
    gone = [
        flag.what
        for flag in checked(shop(), shop()[:10], whole=True).iter_check_findings()
        if flag.check == "large-round"
    ]
    assert gone == ["20 of 30 items are gone, more than 50 %"]
    part = checked(shop(), shop()[:10])  # a part of the catalogue is the normal case
    assert not part.flags.height and part.header.counts.absent == 20


def test_a_value_may_move_from_one_item_to_another():
    """Uniqueness and links are looked at once everything is changed, new items among it."""
    sheet = shop(code="C-1")
    sheet[1]["code"] = "C-0"
    sheet.append(ITEM | {"sku": "QA-100", "code": "C-2", "parent": "QA-101"})
    sheet.append(ITEM | {"sku": "QA-101", "code": "C-101", "parent": "QA-100"})
    found = [(flag.check, flag.key, flag.field) for flag in checked(shop(), sheet, with_new=True).iter_check_findings()]
    assert found == [("repeated", {"sku": "QA-100"}, "code")]


def test_levels_exceptions_and_what_is_let_through():
    def done(store: Store = STORE, **options: Any) -> list[tuple[str, str]]:
        flags = checked(shop(), shop(price="60.00", colour="green"), store, **options).iter_check_findings()
        return [(flag.check, flag.done) for flag in flags]

    replaced = {name: getattr(STORE, name) for name in STORE.__struct_fields__}
    assert done() == [("new-value", "held"), ("large-change", "held")]
    assert done(with_new_values=["colour"]) == [("large-change", "held")]
    assert done(accept=[Accept("large-change", "QA-0")]) == [("new-value", "held"), ("large-change", "accepted")]
    assert done(accept=[Accept("large-change", "QA-1")]) == [("new-value", "held"), ("large-change", "held")]
    assert done(accept=[Accept("new-value", "colour")]) == [("new-value", "accepted"), ("large-change", "held")]
    other = Store(**replaced | {"checks": {"new-value": "off", "large-change": "note"}})
    assert done(other) == [("large-change", "noted")]
    standing = Standing("large-change", "new supplier", "price", "2026-05-31")
    excepted = Store(**replaced | {"exceptions": [standing]})
    assert done(excepted, today="2026-05-31")[1] == ("large-change", "accepted")
    assert done(excepted, today="2026-06-01")[1] == ("large-change", "held")


def test_what_is_required_unreadable_or_locked_goes_where_the_store_file_or_a_person_says_so():
    sheet = shop(made="", type="food", price="call us", code="")
    sheet.append(ITEM | {"sku": "QA-100", "made": "", "type": "food"})

    def held(**options: Any) -> list[tuple[str, str | None, str]]:
        store = Store(**{name: getattr(STORE, name) for name in STORE.__struct_fields__} | options.pop("store", {}))
        changes = checked(shop(), sheet, store, **options)
        return [(item.key["sku"], one.field, one.reason) for item in changes.iter_items() for one in item.held]

    emptied = ("QA-0", "code", "emptied")
    stops = [("QA-0", "made", "check: required"), ("QA-0", "type", "check: locked")]
    price = ("QA-0", "price", "check: unreadable")
    assert held(with_new=True) == [*stops, price, emptied, ("QA-100", None, "check: required")]
    assert held(blanks="clear")[-1] == ("QA-100", None, "new")
    let = [Accept("unreadable", "price"), Accept("locked", "QA-0"), Accept("required")]
    assert held(accept=let, with_new=True) == [("QA-0", "made", "emptied"), emptied]
    assert held(accept=let, with_new=True, blanks="clear") == []
    off = {"checks": dict.fromkeys(("required", "unreadable", "locked"), "warn")}
    assert held(store=off, with_new=True, blanks="clear") == []
    changes = checked(shop(), sheet, with_new=True)
    assert [flag.what for flag in changes.iter_check_findings() if flag.key == {"sku": "QA-100"}] == ["blank: made"]


def test_a_finding_about_the_whole_round_holds_all_of_it():
    store = Store(
        **{name: getattr(STORE, name) for name in STORE.__struct_fields__} | {"checks": {"large-round": "stop"}}
    )
    changes = checked(shop(), [item | {"stock": "7"} for item in shop()], store)
    assert set(changes.items["held"]) == {"check: large-round"} and changes.header.counts.held_cells == 30


def test_every_check_is_registered_documented_and_tested():
    names = set(get_args(CheckName))
    assert set(CHECKS) == names
    text = (Path(__file__).parents[1] / "docs" / "checks.md").read_text()
    source = Path(__file__).read_text()
    for name in names:
        assert f"| `{name}` | {CHECKS[name].level} |" in text
        assert f'"{name}"' in source or name == "unwritable"


def test_a_catalogue_is_checked_by_itself(run, put):
    items = shop(price="9.00", stock="-2", code="C-3", html="<b>", made="", from_="in May")
    flags = check(catalogue(table(items)), STORE, key=["sku"]).findings
    assert [(flag["check"], flag["field"], flag["row"]) for flag in flags.to_dicts()] == [
        ("required", "made", 2),
        ("unreadable", "from", 2),
        ("negative", "stock", 2),
        ("unclosed-html", "html", 2),
        ("repeated", "code", 2),
        ("repeated", "code", 5),
        ("margin", "price", 2),
        ("shown-without-stock", "shown", 2),
    ]
    put("live.csv", "sku,price,cost\nQA-1,9.00,4.00\nQA-2,3.00,4.00\n")
    put("neat-delta.toml", 'version = 1\n[key]\nfields = ["sku"]\n[fields.sku]\nkind = "code"\n[fields.price]\n'
        'kind = "money"\n[fields.cost]\nkind = "money"\n[relations]\nprice = "price"\ncost = "cost"\n')  # fmt: skip
    done = run("check", "live.csv")
    assert (done.returncode, done.stderr) == (1, "")
    assert "  QA-2, row 3: the price is 3.00 and the cost 4.00\n" in done.stdout
    assert json.loads(run("check", "live.csv", "--json").stdout)["found"][0]["check"] == "margin"
    put("live.csv", "sku,price,cost\nQA-1,9.00,4.00\n")
    done = run("check", "live.csv")
    assert done.returncode == 0 and "Nothing was found." in done.stdout.splitlines()


@pytest.mark.parametrize(
    "text, said",
    [
        ('[checks]\nmargn = "off"', 'checks.margn: there is no such check. Did you mean "margin"?'),
        ('[checks]\nmargin = "never"', 'checks.margin: "never" is none of: stop, warn, note, off.'),
        ('[[exceptions]]\ncheck = "margin"\nreason = "x"\nuntil = "May"', 'until is no day: "May"'),
        ('[[exceptions]]\ncheck = "margin"', "reason"),
        ('[relations]\nprise = "price"', 'there is no such key. Did you mean "price"?'),
        (
            '[relations]\nprice = "prise"\n[fields.price]',
            'there is no field "prise", here or in live. Did you mean "price"?',
        ),
    ],
)
def test_a_store_file_that_says_checks_wrongly_is_refused(run, put, text, said):
    put("live.csv", "sku\nQA-1\n")
    put("neat-delta.toml", f"version = 1\n{text}\n")
    done = run("check", "live.csv")
    assert done.returncode == 2 and said in done.stderr


def test_what_a_check_stops_is_held_by_the_program_and_let_through(run, put):
    put("live.csv", "sku,price,image\nQA-1,9.00,a.jpg\nQA-2,3.00,b.jpg\n")
    put("sheet.csv", "sku,price,image\nQA-1,4.00,c.jpg\nQA-2,3.10,b.jpg\n")
    put("neat-delta.toml", 'version = 1\n[key]\nfields = ["sku"]\n[fields.sku]\nkind = "code"\n[fields.price]\n'
        'kind = "money"\nlargest_change = 30\n[fields.image]\nkind = "image"\n')  # fmt: skip
    Path(put("img.txt", "")).parent.joinpath("pics").mkdir()
    put("pics/a.jpg", "")
    done = run("compare", "live.csv", "sheet.csv", "-o", "c.jsonl", "--images", "pics")
    assert done.returncode == 1
    for line in (
        "  large-change  price (B)  1 cell  held\n",
        "    QA-1, row 2: from 9.00 to 4.00, more than 30 %\n",
        "  no-image  image (C)  1 cell  warned\n",
        " to send, 1 held, nothing lost.",
    ):
        assert line in done.stdout
    assert "large-change" in run("preview", "c.jsonl").stdout
    assert run("write", "c.jsonl", "--to", "out").returncode == 1
    done = run("compare", "live.csv", "sheet.csv", "-o", "c.jsonl", "--accept", "large-change:QA-1", "--json")
    assert done.returncode == 0 and json.loads(done.stdout)["header"]["counts"]["flags"] == 1
    failed = run("compare", "live.csv", "sheet.csv", "--accept", "large-chnge")
    assert failed.returncode == 2 and 'Did you mean "large-change"?' in failed.stderr
    assert "there is no such folder" in run("compare", "live.csv", "sheet.csv", "--images", "none").stderr


SHOWN = """version = 1
[relations]
shown = "status"
stock = "stock"
[fields.stock]
kind = "integer"
[fields.status]
kind = "choice"
values = ["active", "hidden", "archived"]
"""


def test_a_choice_says_whether_an_item_is_shown_or_its_check_is_said_not_to_run(run, put):
    put("live.csv", "sku,status,stock\nQA-1,active,3\nQA-2,hidden,4\nQA-3,active,0\nQA-4,archived,5\n")
    put("neat-delta.toml", SHOWN)
    idle = json.loads(run("check", "live.csv", "--json").stdout)["not_run"]
    why = 'a flag for "status", or yes = ["active"] and no = ["hidden"] of it as a choice'
    assert {idle["hidden-in-stock"], idle["shown-without-stock"]} == {why}
    put("neat-delta.toml", SHOWN + 'yes = [" active"]\nno = ["hidden"]\n')
    facts = json.loads(run("check", "live.csv", "--json").stdout)
    assert {(one["key"][0], one["check"]) for one in facts["found"]} == {
        ("QA-2", "hidden-in-stock"),
        ("QA-3", "shown-without-stock"),
    }
    assert {"hidden-in-stock", "shown-without-stock"}.isdisjoint(facts["not_run"])


def test_bytes_are_counted_in_the_encoding_of_the_store_s_files():
    """Six fit: four letters with accents do in cp1252, and not in UTF-8, as which other forms than text are written."""
    for importer, encoding, found in (
        (Importer(), "cp1252", 0),
        (Importer(), "utf-8", 1),
        (Importer(form="json"), "cp1252", 1),
    ):
        live, sheet = catalogue(table(shop())), catalogue(table(shop(short="éééé")), "sheet.csv")
        object.__setattr__(live, "layout", Layout(encoding=encoding))
        store = msgspec.structs.replace(STORE, importer=importer)
        flags = [
            flag.what for flag in compare(live, sheet, store=store).iter_check_findings() if flag.check == "too-long"
        ]
        assert flags == ["8 bytes, and at most 6 fit"] * found, (importer.form, encoding)


SETTINGS = {
    "repeated": Field(unique=True),
    "check-digit": Field("code", check_digit="gtin"),
    "dead-link": Field("code", refers=True),
    "required": Field(required=True),
    "outside-bounds": Field("money", least=Decimal(1)),
    "too-long": Field(longest=5),
}


@pytest.mark.parametrize("name", SETTINGS)
def test_a_check_is_idle_until_a_field_has_its_setting(name):
    live = as_catalogue({"sku": ["QA-1"], "one": ["1"], "two": ["2"]}, "live")
    for field, idle in ((Field(), True), (SETTINGS[name], False)):
        store = Store(key=Key(["sku"]), fields={"one": Field(), "two": field})
        assert (name in check(live, store).idle) is idle


@pytest.mark.parametrize(("others", "found"), [(9, True), (8, False)])
def test_a_price_that_was_nothing_is_no_outlier_and_one_of_ten_changes_may_be(others, found):
    """Of the changes of a price that was above nothing, ten are needed to say of one that it is far from the others."""
    before = ["0.00", "10.00", *(f"{100 + 7 * n}.00" for n in range(others))]
    after = ["5.00", "80.00", *(f"{103 + 7 * n}.50" for n in range(others))]
    skus = [f"QA-{n}" for n in range(len(before))]
    live, sheet = (as_catalogue({"sku": skus, "price": texts}, "x") for texts in (before, after))
    changes = compare(live, sheet, store=Store(key=Key(["sku"]), fields={"price": Field("money", decimals=2)}))
    hit = changes.flags.filter(pl.col("check") == "outlier")["item"].to_list()
    assert [changes.keys["sku"][item] for item in hit] == ["QA-1"] * found


@pytest.mark.parametrize(
    ("relations", "is_idle"),
    [({}, True), ({"least_price": "least"}, False), ({"most_price": "most"}, False),
     ({"least_price": "least", "most_price": "most"}, False)],
)  # fmt: skip
def test_a_price_has_a_range_as_soon_as_one_end_of_it_is_named(relations, is_idle):
    live = as_catalogue({"sku": ["QA-1"], "price": ["9.90"], "least": ["8.00"], "most": ["12.00"]}, "live")
    store = Store(key=Key(["sku"]), relations=Relations(price="price", **relations))
    assert ("price-range" in check(live, store).idle) is is_idle
