"""Impact: to the cent what a plain calculation with dictionaries gives, on generated rounds; then by hand."""

from __future__ import annotations

import json
import random
from decimal import ROUND_HALF_UP, Decimal
from statistics import median
from typing import Literal

import msgspec
import polars as pl
import pytest

from neat_delta import ChangeSet, Field, Store, as_catalogue, compare
from neat_delta.core.base.model.store import Key, Relations
from neat_delta.core.review.clashes import clash_count
from neat_delta.core.review.impact import Sums, impact_of, points
from neat_delta.core.review.movement import movement
from tests import afternoons
from tests.afternoons import STORE, Sheet, catalogue
from tests.conftest import first_of

PRICED = msgspec.structs.replace(STORE, relations=Relations(price="price", cost="cost", stock="stock"))


def half_up(number: Decimal, step: str) -> Decimal:
    return number.quantize(Decimal(step), ROUND_HALF_UP)


def as_sent(live: Sheet, changes: ChangeSet) -> tuple[dict[str, dict[str, str]], dict[str, dict[str, str]], int]:
    """The items of which something is sent, before and after, by SKU, and how many cells that is."""
    before = {sku: {name: live[name][row] for name in live} for row, sku in enumerate(live["sku"])}
    old, new, cells = {}, {}, 0
    for item in changes.iter_items():
        held = {one.field for one in item.held}
        sent = {name: after or "" for name, (_, after) in item.cells.items() if name not in held and None not in held}
        if sent:
            sku = item.key["sku"]
            old[sku] = before.get(sku, dict.fromkeys(live, ""))
            new[sku] = old[sku] | sent
            cells += len(sent)
    return old, new, cells


def sums(items: list[dict[str, str]]) -> Sums:
    both = [(Decimal(item["price"]), Decimal(item["cost"])) for item in items if item["price"] and item["cost"]]
    margin, prices = sum((p - c for p, c in both), Decimal(0)), sum((p for p, _ in both), Decimal(0))
    stocked = [item for item in items if item["stock"]]
    return Sums(
        margin,
        half_up(margin * 100 / prices, "0.1") if prices else None,
        sum((Decimal(item["stock"]) for item in stocked), Decimal(0)),
        sum((Decimal(item["stock"]) * Decimal(item["cost"] or 0) for item in stocked), Decimal(0)),
    )


@pytest.mark.parametrize("seed", first_of(range(25), 4))
def test_the_figures_agree_to_the_cent_with_a_plain_calculation(seed):
    rng = random.Random(seed)
    live = afternoons.shop(rng, 120)
    sheet = afternoons.ordinary(rng, live)
    afternoons.price_rise(rng, sheet)
    afternoons.failed(rng, sheet)  # what is held changes nothing
    for name in sheet:
        sheet[name].append({"sku": "QA-X", "price": "5.00", "cost": "2.00", "stock": "3"}.get(name, ""))
    changes = compare(catalogue(live, "live"), catalogue(sheet, "sheet"), store=PRICED, with_new=bool(seed % 2))
    old, new, cells = as_sent(live, changes)

    def first_level(sku: str) -> str:
        return new[sku]["category"].split(" > ")[0]

    groups: dict[str | None, list[str]] = {None: list(new)}
    for sku in new:
        groups.setdefault(first_level(sku), []).append(sku)
    names = [""] * changes.items.height
    effect = impact_of(changes, catalogue(live, "live"), pl.Series(names), "category")
    found = effect.groups
    assert found[0].group is None and {one.group for one in found} == set(groups)
    assert found[0].cells == cells
    for one in found:
        skus = groups[one.group]
        assert one.items == len(skus)
        assert (one.before, one.after) == (sums([old[sku] for sku in skus]), sums([new[sku] for sku in skus]))
        steps = [
            Decimal(new[sku]["price"]) - Decimal(old[sku]["price"])
            for sku in skus
            if old[sku]["price"] and new[sku]["price"] and Decimal(old[sku]["price"]) != Decimal(new[sku]["price"])
        ]
        assert (one.up, one.down) == (sum(step > 0 for step in steps), sum(step < 0 for step in steps))
        assert one.median == (half_up(median(steps), "0.01") if steps else None)
        assert one.most_up == max((step for step in steps if step > 0), default=None)
        assert one.most_down == min((step for step in steps if step < 0), default=None)
    shares = {
        sku: half_up((Decimal(new[sku]["price"]) - Decimal(row["price"])) * 100 / Decimal(row["price"]), "0.1")
        for sku, row in old.items()
        if row["price"] and new[sku]["price"] and Decimal(row["price"]) != Decimal(new[sku]["price"])
    }
    most = effect.movers
    assert {one.key["sku"]: one.per_cent for one in most}.items() <= shares.items()
    assert len(most) == min(20, len(shares))
    keeps: tuple[Literal["percent", "amount"], ...] = ("percent", "amount")
    for keep in keeps:
        for one_price in impact_of(changes, catalogue(live, "live"), pl.Series(names), keep=keep).suggestions:
            price, was, cost = Decimal(old[one_price.key["sku"]]["price"]), one_price.cost_before, one_price.cost
            exact = cost * price / was if keep == "percent" else cost + price - was
            assert cost > was and one_price.suggested == half_up(exact, "0.01")


def test_the_impact_in_the_program(run, put):
    put("neat-delta.toml", """\
version = 1
[writing]
decimal_mark = ","
thousands_mark = "."
[key]
fields = ["sku"]
[relations]
price = "price"
cost = "cost"
stock = "stock"
[fields.sku]
kind = "code"
[fields.price]
kind = "money"
[fields.cost]
kind = "money"
[fields.stock]
kind = "integer"
[fields.group]
""")  # fmt: skip
    put("live.csv", 'sku;price;cost;stock;group\nA;"€ 1.000,10";500,05;3;x\nB;€ 20,00;10,00;;y\nC;€ 3,00;1,00;7;x\n')
    put("sheet.csv", 'sku;price;cost;stock\nA;"1.000,10";550,06;3\nB;21,00;10,00;\nC;2,75;1,00;5\n')
    assert run("compare", "live.csv", "sheet.csv", "-o", "c.jsonl").returncode == 0
    shown = run("preview", "c.jsonl", "--by", "group", "--keep-margin", "percent").stdout
    lines = [" ".join(line.split()) for line in shown.splitlines()]
    assert "impact of what is sent, in €; the margin is price less cost, of one of each" in lines
    assert "all 3 1 1 −49.26 50.0 → 45.2 +148.03" in lines
    assert "x 2 1 −50.26 50.0 → 45.1 +148.03" in lines
    assert "A (blank) 500.05 550.06 1,000.10 1,100.12" in lines
    facts = json.loads(run("preview", "c.jsonl", "--json").stdout)["impact"]
    assert facts["groups"][0]["after"] == {
        "margin": "462.79", "margin_per_cent": "45.2", "units": "8", "stock_value": "1655.18",
    }  # fmt: skip
    assert [one["per_cent"] for one in facts["movers"]] == ["-8.3", "5.0"]
    failed = run("preview", "c.jsonl", "--by", "grupe")
    assert failed.returncode == 2 and 'live has no field "grupe"' in failed.stderr


def test_amounts_of_any_length_are_told_and_checked(run, put):
    long = "9" * 40
    put("neat-delta.toml", """\
version = 1
[key]
fields = ["sku"]
[relations]
price = "price"
cost = "cost"
least_margin = 10
[fields.sku]
kind = "code"
[fields.price]
kind = "money"
largest_change = 5000
[fields.cost]
kind = "money"
""")  # fmt: skip
    put("live.csv", f"sku,price,cost\nA,{long}.01,{long}\nB,{'8' * 24},1.00\n")
    put("sheet.csv", f"sku,price,cost\nA,{long}.02,{long}.5\nB,{'8' * 23}9,1.25\n")
    assert run("compare", "live.csv", "sheet.csv", "-o", "c.jsonl").returncode == 0
    done = run("preview", "c.jsonl", "--keep-margin", "amount", "--by", "sku")
    assert (done.returncode, done.stderr) == (0, "")
    facts = json.loads(run("preview", "c.jsonl", "--json", "--keep-margin", "amount").stdout)["impact"]
    assert facts["suggestions"][0]["suggested"] == f"{long}.51"


@pytest.mark.parametrize(
    ("prices", "middle"), [(["7"], "7"), (["7", "1"], "4"), (["9", "1", "4"], "4"), (["9", "1", "4", "5"], "4.5"),
                           (["9", "1", "4", "5", "30"], "5"), (["1", "2", "3", "10", "20", "99"], "6.5")],
)  # fmt: skip
def test_a_median_is_what_stands_in_the_middle(prices, middle):
    live = as_catalogue({"sku": [f"QA-{n}" for n in range(len(prices))], "price": prices}, "live")
    store = Store(fields={"price": Field("money")})
    changes = compare(live, live, store=store)
    assert movement(changes, live, "price").median_before == Decimal(middle)
    assert clash_count(changes) == 0  # there is no base


def test_of_prices_that_move_alike_the_first_items_are_told():
    skus = [f"QA-{number}" for number in range(40)]
    before = [str(number % 7 + 1) for number in range(40)]
    after = [str(int(text) * (3 if number == 33 else 2)) for number, text in enumerate(before)]
    live = as_catalogue(pl.DataFrame({"sku": skus, "price": before}), "live")
    store = Store(key=Key(["sku"]), fields={"price": Field("integer")}, relations=Relations(price="price"))
    sheet = {"sku": skus, "price": after}
    accept = ["large-round", "large-change", "outlier", "slip"]
    effect = impact_of(compare(live, sheet, store=store, accept=accept), live, pl.Series(skus))
    assert [mover.key["sku"] for mover in effect.movers] == ["QA-33", *skus[:19]]
    assert [mover.per_cent for mover in effect.movers] == [200] + [100] * 19


def test_charts_have_the_changes_and_the_margins_in_per_cent():
    """Not rounded; of an item whose price was 0 there is no change in per cent, of one whose price is 0 no margin."""
    skus = ["QA-1", "QA-2", "QA-3", "QA-4"]
    live = as_catalogue({"sku": skus, "price": ["8.00", "20.00", "0.00", "4.00"], "cost": ["2.00"] * 4}, "live")
    sheet = as_catalogue({"sku": skus, "price": ["10.00", "16.00", "5.00", "4.00"]}, "sheet")
    fields = {name: Field("money", decimals=2) for name in ("price", "cost")}
    store = Store(key=Key(["sku"]), fields=fields, relations=Relations(price="price", cost="cost"))
    drawn = points(compare(live, sheet, store=store), live)
    assert drawn.prices == [Decimal(25), Decimal(-20)]
    assert drawn.margins == [(Decimal(75), Decimal(80)), (Decimal(90), Decimal("87.5"))]
