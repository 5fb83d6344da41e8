"""One reading of a text, whoever asks: `compare`, rules, conditions, `:name`, literals and lists."""

from __future__ import annotations

from decimal import Decimal

import polars as pl
import pytest

import neat_delta
from neat_delta import Field, Notation, Rows
from neat_delta.core.base.query.expressions import compute, expression
from tests.test_same_door import LIVE, MAPPING, STORE, cells

RETAIL = 'version = 1\n[[rule]]\nname = "retail"\nset = { price = "ROUND(cost * 2, 2)" }\n'


@pytest.fixture
def shop(put):
    put("live.csv", LIVE)
    put("neat-delta.toml", STORE)
    put("m.toml", MAPPING)
    put("r.toml", RETAIL)
    return put


def listed(run, *more):
    return run(
        "compare", "live.csv", "list.csv", "--mapping", "m.toml", *more, "--accept", "large-change", "-o", "c.jsonl"
    )


@pytest.mark.parametrize("told", [(), ("--decimal-mark", "sheet=,")], ids=["untold", "told"])
def test_a_rule_reads_a_list_as_compare_does(shop, run, tmp_path, told):
    """Whatever mark the list has: the price is twice the cost that is sent."""
    shop("list.csv", "Art;Trade\nQA-1;11,00\nQA-3;1.234,50\nQA-4;0,9\n")
    listed(run, "--rules", "r.toml", *told)
    after = cells(tmp_path / "c.jsonl")
    for sku, cost in (("QA-1", "11.00"), ("QA-3", "1234.50"), ("QA-4", "0.90")):
        assert after[sku, "cost"] == cost and Decimal(after[sku, "price"]) == 2 * Decimal(cost)


def test_a_told_mark_reads_what_untold_is_read(shop, run, tmp_path):
    shop("list.csv", "Art;Trade\nQA-1;1.234,50\nQA-2;1 350,5\nQA-3;1.350\n")
    listed(run, "--decimal-mark", "sheet=,", "--accept", "slip")
    after = cells(tmp_path / "c.jsonl")
    assert [after[sku, "cost"] for sku in ("QA-1", "QA-2", "QA-3")] == ["1234.50", "1350.50", "1350.00"]


def test_a_doubt_under_a_unit_is_not_worked_out(shop, run, tmp_path):
    """The list is for 100 pieces: what may be two numbers gives no cost, and no price."""
    shop("m.toml", MAPPING + "[fields.cost]\nper = 100\n")
    shop("list.csv", "Art;Trade\nQA-1;1.100,00\nQA-2;1.350\n")
    done = listed(run, "--rules", "r.toml")
    assert "Trade may be decimals or thousands" in done.stdout
    after = cells(tmp_path / "c.jsonl")
    assert after["QA-1", "cost"] == "11.00" and after["QA-1", "price"] == "22.00"
    assert not {("QA-2", "cost"), ("QA-2", "price")} & set(after)


def test_by_the_lists_own_heading_too(shop, run, tmp_path):
    shop("r.toml", RETAIL.replace("cost * 2", "sheet.Trade * 2"))
    shop("list.csv", "Art;Trade\nQA-1;11,00\nQA-3;1.234,50\nQA-2;1.350\n")
    done = listed(run, "--rules", "r.toml")
    after = cells(tmp_path / "c.jsonl")
    assert (after["QA-1", "price"], after["QA-3", "price"]) == ("22.00", "2469.00")
    assert ("QA-2", "price") not in after and "Trade may be decimals or thousands" in done.stdout
    shown = run("preview", "c.jsonl", "--explain", "QA-3").stdout
    assert "1.234,50" in shown and "2469" in shown


COMMA = Rows(
    {"": pl.DataFrame({"price": ["12,345", "12.345,00"], "stock": ["2", "3"], "code": ["007", "7"]})},
    {"price": Field("decimal"), "stock": Field("integer"), "code": Field("code")},
    Notation(",", "."),
    values={"floor": "12.345", "half": "2.5", "zeros": "007", "local": "12,345"},
)


@pytest.mark.parametrize(
    ("condition", "holds"),
    [
        ("price = 12.345", [True, False]),
        ("price = :floor", [True, False]),
        ("price = :local", [True, False]),
        ("price = '12.345'", [False, True]),
        ("stock > :half", [False, True]),
        ("stock > 2.5", [False, True]),
        ("code = :zeros", [True, False]),
        ("stock IN (2, 3)", [True, True]),
    ],
)
def test_a_name_stands_for_what_would_stand_there(condition, holds):
    assert neat_delta.evaluate(neat_delta.condition(condition), COMMA).to_list() == holds


TEXTS = Rows(
    {"": pl.DataFrame({"name": ["Oak hive 1", "Hive 100%", "A_b", "Pine"], "maker": ["Oak", "100%", "A_", ""]})},
    {},
    Notation("."),
    values={"more": " hive"},
)


@pytest.mark.parametrize(
    ("condition", "holds"),
    [
        ("name LIKE '%' || maker || '%'", [True, True, True, False]),
        ("name LIKE maker || '%'", [True, False, True, False]),
        ("name LIKE REPLACE(maker, '_', '!_') || 'b' ESCAPE '!'", [False, False, True, False]),
        ("name LIKE maker || :more || '%'", [True, False, False, False]),
        ("maker || ' hive 1' = name", [True, False, False, False]),
        ("NOT name LIKE '%' || maker || '%'", [False, False, False, False]),
        ("maker = ' Oak '", [True, False, False, False]),
    ],
)
def test_texts_keep_their_spaces_where_they_are_joined(condition, holds):
    assert neat_delta.evaluate(neat_delta.condition(condition), TEXTS).to_list() == holds


def test_a_name_with_spaces_is_joined_like_a_text():
    rows = Rows(TEXTS.tables, {}, TEXTS.writing, values={"x": " x"})
    for said in ("' x'", ":x"):
        assert compute(expression(f"name || {said}"), rows).texts[3] == "Pine x"


def test_what_a_cast_cannot_read_is_said(shop, run):
    done = run("edit", "live.csv", "--set", "price = CAST(name AS DECIMAL)", "--where", "sku = 'QA-1'")
    assert '"Hive" is no number' in done.stdout and "division" not in done.stdout


@pytest.mark.parametrize("said", [".5.5", "1.2.3", "5..5", "1e", "1e999999", ".", "0x1F", "5 5", "'", "--", "price.5"])
def test_no_literal_is_a_fault(shop, run, said):
    for call in (("--set", f"price = {said}"), ("--set", "price = 1", "--where", f"price > {said}")):
        done = run("edit", "live.csv", *call)
        assert "fault" not in done.stderr and "Traceback" not in done.stderr
        assert done.returncode in {0, 1} or done.stderr.count("\n") == 1


def test_a_sign_stands_before_the_currency(put, run, tmp_path):
    put("live.csv", "sku,price\nQA-1,€2.00\nQA-2,-€3.00\n")
    put("neat-delta.toml", 'version = 1\nkey = { fields = ["sku"] }\n[fields.price]\nkind = "money"\ndecimals = 2\n')
    run("edit", "live.csv", "--set", "price = price - 3", "--accept", "negative", "-o", "c.jsonl")
    assert cells(tmp_path / "c.jsonl") == {("QA-1", "price"): "-€1.00", ("QA-2", "price"): "-€6.00"}
