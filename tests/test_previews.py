"""What a preview tells besides the terminal: records against changed costs, Markdown, charts."""

from __future__ import annotations

import json
import random
import re
import shutil
from decimal import Decimal
from typing import Any

import polars as pl
import pytest
from matplotlib.patches import Rectangle

from neat_delta import compare
from neat_delta.core.base.model.choices import KeepMargin
from neat_delta.core.review.impact import impact_of
from neat_delta.core.review.records import records
from neat_delta.report.charts import Chart, as_png, as_svg, charts
from tests import afternoons
from tests.afternoons import catalogue
from tests.conftest import first_of
from tests.test_impact import PRICED, as_sent, half_up


def round_of(seed: int) -> tuple[Any, Any]:
    rng = random.Random(seed)
    live = afternoons.shop(rng, 150)
    sheet = afternoons.ordinary(rng, live)
    afternoons.price_rise(rng, sheet)
    for row in rng.sample(range(len(sheet["sku"])), 30):
        if sheet["cost"][row]:
            sheet["cost"][row] = f"{Decimal(sheet['cost'][row]) * rng.randint(90, 125) / 100:.2f}"
    afternoons.failed(rng, sheet)
    return live, compare(catalogue(live, "live"), catalogue(sheet, "sheet"), store=PRICED)


@pytest.mark.parametrize("seed", first_of(range(12), 3))
@pytest.mark.parametrize("keep", ["percent", "amount"])
def test_records_agree_to_the_cent_with_a_plain_calculation(seed: int, keep: KeepMargin):
    live, changes = round_of(seed)
    rng = random.Random(seed + 1)
    skus = [*rng.choices(live["sku"], k=200), "QA-none", ""]
    prices = [f"{rng.randint(100, 20_000) / 100:.2f}" for _ in skus]
    prices[0] = "on request"
    table = catalogue({"Quote": [f"q{n}" for n in range(len(skus))], "SKU": skus, "Unit price": prices}, "quotes")
    found = records(changes, catalogue(live, "live"), table, keep=keep)
    old, new, _ = as_sent(live, changes)
    touched = [
        (n, sku, Decimal(price), Decimal(old[sku]["cost"]), Decimal(new[sku]["cost"]))
        for n, (sku, price) in enumerate(zip(skus, prices, strict=True))
        if n and sku in old and old[sku]["cost"] and new[sku]["cost"] not in {"", old[sku]["cost"]}
    ]
    assert found.unpriced == 1 and found.unknown == 2
    assert found.rows == len(skus) == found.untouched + found.unknown + found.unpriced + len(found.touched)
    assert [(one.row, one.about, one.key) for one in found.touched] == [
        (n + 2, {"Quote": f"q{n}"}, {"sku": sku}) for n, sku, *_ in touched
    ]
    for one, (_, _, price, before, cost) in zip(found.touched, touched, strict=True):
        assert (one.price, one.cost_before, one.cost) == (price, before, cost)
        assert (one.margin_before, one.margin) == (price - before, price - cost)
        assert one.per_cent == half_up((price - cost) * 100 / price, "0.1")
        assert one.restores == half_up(price * cost / before if keep == "percent" else price + cost - before, "0.01")


def test_records_in_the_program(run, store, put, whole_demo):
    shutil.copytree(whole_demo[0], store / "q")
    quotes = "Quote;Customer;SKU;Unit price\nQ-1;Meadow school;QA-1034;65,00\nQ-2;Orchard club;QA-1001;9,00\n"
    put("q/own.csv", quotes + "Q-3;Hill farm;QA-1036;33,90\nQ-4;;QA-9999;1,00\nQ-5;;QA-1036;call\n")
    done = run("preview", "q/changes.jsonl", "--live", "q/live.csv", "--records", "q/own.csv", COLUMNS="120")
    lines = [" ".join(line.split()) for line in done.stdout.splitlines()]
    assert "2 QA-1034 Q-1, Meadow school 65.00 42.54 → 45.09 34.6 → 30.6 68.90" in lines
    assert "4 QA-1036 Q-3, Hill farm 33.90 32.45 → 34.40 4.3 → −1.5 35.94" in lines
    said = "2 records of 5 touched by a changed cost; 1 of them below cost; 1 not touched; 1 not in live; 1 without"
    assert said in " ".join(lines)
    call = (
        "preview",
        "q/changes.jsonl",
        "--live",
        "q/live.csv",
        "--records",
        "q/own.csv",
        "--keep-margin",
        "amount",
    )
    facts = json.loads(run(*call, "--json").stdout)["records"]
    assert [one["restores"] for one in facts["touched"]] == ["67.55", "35.85"]
    put("q/none.csv", "SKU,Discount\nQA-1034,5\n")
    failed = run(*call[:5], "q/none.csv")
    assert failed.returncode == 2 and "Say which it is with --record-price. It has: SKU, Discount." in failed.stderr
    assert run(*call[:5], "q/none.csv", "--record-price", "Discount").returncode == 0
    put("q/none.csv", "Art,Price\nQA-1034,5\n")
    failed = run(*call[:5], "q/none.csv")
    assert failed.returncode == 2 and 'no heading stands for "sku", which is the key' in failed.stderr


def test_markdown_escapes_the_fields_of_emptied_cells(run, put):
    put("live.csv", "sku,<b>note|\nA,x\nB,y\n")
    put("sheet.csv", "sku,<b>note|\nA,\nB,y\n")
    run("compare", "live.csv", "sheet.csv", "-o", "c.jsonl", "--accept", "large-round")
    line = next(line for line in run("preview", "c.jsonl", "--markdown").stdout.splitlines() if "emptied" in line)
    assert r"1 cell of \<b\>note\|" in line and "<b>" not in line


def test_markdown_has_what_json_has_and_takes_nothing_for_markup(run, put):
    evil = "| **b** `c` <script>x</script> [l](u) #1 ~s~ @all\n# t"
    put("live.csv", f'sku,na|me,price\nA,"{evil}",1.00\nB,plain,2.00\nC,x,3.00\n')
    put("sheet.csv", f'sku,na|me,price\nA,"{evil} new",1.50\nB,,2.10\nD,n,4.00\n')
    run("compare", "live.csv", "sheet.csv", "-o", "c.jsonl", "--whole")
    text = run("preview", "c.jsonl", "--markdown").stdout
    tables = re.findall(r"(?:^\|.*\n)+", text, re.MULTILINE)
    for table in tables:
        widths = {len(re.findall(r"(?<!\\)\|", line)) for line in table.splitlines()}
        assert len(widths) == 1  # no cell breaks its row
    bare = re.sub(r"\\.", "", re.sub(r"(?m)^\*\*.*", "", text))
    assert not re.search(r"[<>`*#~@\[\]]", bare)
    assert r"\| \*\*b\*\* \`c\` \<script\>" in text and "| A |" in text
    facts = json.loads(run("preview", "c.jsonl", "--json").stdout)
    rows = tables[-1].splitlines()[2:]
    assert len(rows) == sum(max(1, len(item["item"]["cells"])) for item in facts["items"])
    assert "+0.50 +50.0 %" in text and "held: emptied" in text and "gone, held: gone" in text
    assert "**sheet.csv** against **live.csv**: 2 changed, 1 new, 1 gone" in text


def test_charts_show_the_figures_and_come_out_the_same_twice():
    live, changes = round_of(4)
    shop = catalogue(live, "live")
    drawn: dict[str, Chart] = {chart.name: chart for chart in charts(changes, shop, "category")}
    assert list(drawn) == ["price-changes", "margins", "fields", "categories"]
    whole = impact_of(changes, shop, pl.Series([""] * changes.items.height)).groups[0]
    (axes,) = drawn["price-changes"].figure.axes
    heights = [bar.get_height() for bar in axes.patches if isinstance(bar, Rectangle)]
    beyond = re.match(r"([0-9]+) ", axes.get_title("right"))
    assert sum(heights) + int(beyond[1] if beyond else 0) == whole.up + whole.down
    assert "per cent" in axes.get_xlabel() and axes.get_ylabel() == "items"
    (axes,) = drawn["fields"].figure.axes
    assert sum(bar.get_width() for bar in axes.patches if isinstance(bar, Rectangle)) == changes.header.counts.cells
    assert any(bar.get_hatch() for bar in axes.patches)  # held is told without colour
    again = charts(changes, shop, "category")
    for one, other in zip(drawn.values(), again, strict=True):
        picture, svg = as_png(one), as_svg(one)
        assert picture == as_png(other) and picture.startswith(b"\x89PNG")
        assert svg == as_svg(other) and "var(--ink)" in svg
    assert [chart.name for chart in charts(changes, None, None)] == ["fields"]


def test_charts_in_the_program(run, store, whole_demo):
    shutil.copytree(whole_demo[0], store / "q")
    done = run("preview", "q/changes.jsonl", "--live", "q/live.csv", "--charts", "pics/today")
    assert done.stdout.endswith("Wrote price-changes, margins, fields, categories to pics/today.\n")
    assert len(list((store / "pics" / "today").iterdir())) == 4
    (store / "pics" / "today" / "fields.png").write_bytes(b"somebody's")
    again = run("preview", "q/changes.jsonl", "--live", "q/live.csv", "--charts", "pics/today")
    assert again.returncode == 2 and "--replace" in again.stderr
