"""Values by rule: prices held against Python's decimal, each rule of the rules at its edges, and the whole way to
proven update files, crossed with what it meets there.
"""

from __future__ import annotations

import json
from decimal import ROUND_HALF_UP, Decimal
from importlib.resources import files
from pathlib import Path

import polars as pl
import pytest
from hypothesis import strategies as st

import neat_delta
from neat_delta import as_catalogue, edit, explain
from neat_delta.core.base.model.rules import Lookup, Rule, Rules
from neat_delta.core.base.model.store import Field, Key, Relations, Store
from neat_delta.core.base.support.errors import ConditionError, StoreError
from neat_delta.core.compare.made import problems_said
from neat_delta.core.review.explain import trials
from neat_delta.files.rulesfile import read_rules, rules_schema
from tests.conftest import in_two_lengths

CENT = Decimal("0.01")
MONEY = st.decimals(0, 400, places=2).map(str)
SHELF = st.lists(st.tuples(MONEY | st.sampled_from(["", "on request"]), MONEY, st.booleans()), min_size=1, max_size=8)
STORE = Store(
    key=Key(["sku"]),
    fields={
        "sku": Field("code"),
        "cost": Field("money", decimals=2),
        "price": Field("money", decimals=2),
        "wax": Field("flag", yes=["yes"], no=["no"]),
        "tags": Field("list", separator=","),
        "status": Field("choice", values=["A", "D"]),
    },
)


@in_two_lengths(SHELF, MONEY, few=15, many=200)
def test_a_price_by_rule_is_what_decimal_says(shelf, markup):
    """Cost times a markup, ending in .90, only for wax: to the cent; and an item without a readable cost is left alone
    and said, never guessed.
    """
    live = as_catalogue(
        {
            "sku": [f"QA-{number}" for number in range(len(shelf))],
            "cost": [cost for cost, _, _ in shelf],
            "price": [price for _, price, _ in shelf],
            "wax": ["yes" if wax else "no" for _, _, wax in shelf],
        }
    )
    rules = Rules(
        let={"markup": markup},
        rule=[
            Rule("retail", {"price": "ROUND(cost * :markup, 2)"}, where="wax"),
            Rule("ends", {"price": "ENDS_AT(price, 0.90, 'up')"}, where="wax", over="retail"),
        ],
    )
    changes = edit(live, rules, store=STORE)
    got = {item.key["sku"]: item.cells["price"][1] for item in changes.iter_items()}
    wanted, unknown = {}, []
    for number, (cost, price, wax) in enumerate(shelf):
        if not wax:
            continue
        if cost in {"", "on request"}:
            unknown.append(f"QA-{number}")
            continue
        raw = (Decimal(cost) * Decimal(markup)).quantize(CENT, ROUND_HALF_UP)
        ended = next(
            whole + Decimal("0.90") for whole in range(int(raw) - 1, int(raw) + 2) if whole + Decimal("0.90") >= raw
        )
        if ended != Decimal(price):
            wanted[f"QA-{number}"] = str(ended)
    assert got == wanted
    assert [key for (key,) in changes.unresolved["key"]] == unknown
    for sku, after in wanted.items():
        one = explain(changes, sku)[0].cells[0]
        assert [step.rule.rule for step in one.steps] == ["retail", "ends"]
        assert one.steps[-1].result == after == one.steps[-1].parts[-1][1]
        assert Decimal(str(one.steps[0].parts[0][1])) == Decimal(str(dict(one.steps[0].inputs)["cost"])) * Decimal(
            markup
        )
        assert dict(one.steps[1].inputs)["price"] == one.steps[0].result


def of(live, *rules, store=STORE, **more):
    book = Rules(rule=list(rules), **more.pop("book", {}))
    changes = edit(as_catalogue(live), book, store=store, with_new_values=["tags"], **more)
    cells = {
        f"{item.key['sku']}.{name}": after for item in changes.iter_items() for name, (_, after) in item.cells.items()
    }
    return changes, cells, [row[-1] for row in changes.unresolved.rows()]


LIVE = {
    "sku": ["QA-1", "QA-2", "QA-3"],
    "cost": ["5.00", "7.77", ""],
    "price": ["9.90", "20.00", "30.00"],
    "wax": ["yes", "no", ""],
    "tags": ["gift, bulk", "", "gift"],
    "status": ["A", "A", "D"],
}


@pytest.mark.parametrize(
    "said, cells, questions",
    [
        ({"price": "cost * 2"}, {"QA-1.price": "10.00", "QA-2.price": "15.54"}, ["cost is blank"]),
        ({"price": "price * 1.015"}, {"QA-2.price": "20.30", "QA-3.price": "30.45"},
         ["it comes to 10.0485, of 4 decimals, and price has 2: ROUND(…, 2) in the rule"]),
        ({"price": "price / 0"}, {}, ["it has no value: a division by zero, or no case that holds"] * 3),
        ({"price": "NULL"}, {"QA-1.price": "", "QA-2.price": "", "QA-3.price": ""}, []),
        ({"price": "COALESCE(cost, price)"}, {"QA-1.price": "5.00", "QA-2.price": "7.77"}, []),
        ({"price": "19.9"}, {"QA-1.price": "19.90", "QA-2.price": "19.90", "QA-3.price": "19.90"}, []),
        ({"tags": "ARRAY_APPEND(tags, 'new')"},
         {"QA-1.tags": "gift, bulk, new", "QA-2.tags": "new", "QA-3.tags": "gift,new"}, []),
        ({"tags": "ARRAY_REMOVE(tags, 'gift')"}, {"QA-1.tags": "bulk", "QA-3.tags": ""}, ["tags is blank"]),
        ({"wax": "cost > 6"}, {"QA-1.wax": "no", "QA-2.wax": "yes"}, ["cost is blank"]),
        ({"wax": "'maybe'"}, {}, ['"maybe" is not a flag'] * 3),
        ({"status": "CASE WHEN cost > 6 THEN 'D' ELSE status END"}, {"QA-2.status": "D"}, []),
    ],
)  # fmt: skip
def test_what_a_rule_sets_and_what_it_cannot(said, cells, questions):
    changes, got, asked = of(LIVE, Rule("one", said))
    assert (got, asked) == (cells, questions)
    assert (
        changes.header.counts.held_cells == 0
    )  # what could not be worked out is no change, and what was meant no loss
    assert changes.header.counts.unresolved == len(questions)


def test_rules_run_in_order_and_two_for_one_cell_are_told():
    doubled, ended = Rule("double", {"price": "price * 2"}), {"price": "ENDS_AT(price, 0.95)"}
    _, cells, asked = of(LIVE, doubled, Rule("ends", ended))
    assert cells == {"QA-1.price": "19.80", "QA-2.price": "40.00", "QA-3.price": "60.00"}
    assert len(asked) == 3 and asked[0].startswith("double set it, too, and this rule comes to 19.95")
    _, cells, asked = of(LIVE, doubled, Rule("ends", ended, over=["double"]))
    assert (cells, asked) == ({"QA-1.price": "19.95", "QA-2.price": "39.95", "QA-3.price": "59.95"}, [])
    # A rule that rests on what an earlier one could not work out does not go on from live's value.
    _, cells, asked = of(LIVE, Rule("cost up", {"cost": "cost * 2"}), Rule("retail", {"price": "cost + 1"}))
    assert cells == {"QA-1.cost": "10.00", "QA-1.price": "11.00", "QA-2.cost": "15.54", "QA-2.price": "16.54"}
    assert asked == ["cost is blank", "cost could not be worked out"]


def test_tables_beside_the_items_have_exactly_one_row_for_each():
    margins = pl.DataFrame({"kind": ["A", "D", "D"], "factor": ["1.5", "2", "3"]})
    book = {"table": {"margins": Lookup("margins.csv", {"kind": "status"}, {"factor": "decimal"})}}
    rule = Rule("by kind", {"price": "ROUND(price * margins.factor, 2)"})
    _, cells, asked = of(LIVE, rule, book=book, lookups={"margins": margins})
    assert cells == {"QA-1.price": "14.85", "QA-2.price": "30.00"}
    assert asked == ['margins has 2 rows for "D"']
    _, cells, asked = of(LIVE, rule, book=book, lookups={"margins": margins.head(1)})
    assert asked == ['margins has no row for "D"']


def test_checks_look_at_computed_cells_and_locks_hold():
    store = Store(
        key=Key(["sku"]),
        fields=dict(STORE.fields) | {"cost": Field("money", decimals=2, locked=True)},
        relations=Relations(price="price", cost="cost"),
    )
    changes, _, _ = of(LIVE, Rule("cheap", {"price": "4.00"}), Rule("cost", {"cost": "1.00"}), store=store)
    held = {one.field: one.reason for item in changes.iter_items() for one in item.held}
    assert held == {"price": "check: margin", "cost": "check: locked"}


def test_items_that_share_a_key_come_to_one_value_or_are_held():
    live = {"sku": ["QA-1", "QA-1", "QA-2"], "cost": ["1.00", "1.00", "2.00"], "price": ["9.00", "9.00", "9.00"]}
    store = Store(key=Key(["sku"], shared="all"), fields=dict(STORE.fields))
    changes, _, _ = of(live, Rule("double", {"price": "cost * 2"}), store=store)
    assert [item.cells["price"] for item in changes.iter_items()] == [("9.00", "2.00")] * 2 + [("9.00", "4.00")]
    changes, _, asked = of(
        live | {"cost": ["1.00", "3.00", "2.00"]}, Rule("double", {"price": "cost * 2"}), store=store
    )
    assert asked == ["items that share the key come to different values"]
    assert [bool(item.held) for item in changes.iter_items()] == [True, True, False]


@pytest.mark.parametrize(
    "rule, why",
    [
        (Rule("x", {"sku": "'QA-9'"}), '"sku" is what items are known by'),
        (Rule("x", {"prise": "1"}), 'no field "prise" to set; did you mean "price"?'),
        (Rule("x", {"price": "kost * 2"}), 'rule "x": price: In the expression, at "kost" (character 1)'),
        (Rule("x", {"price": "1"}, where="kost > 1"), 'rule "x": In the condition, at "kost"'),
        (Rule("x", {"price": "tags"}), '"price" holds money, and this gives a list'),
        (Rule("x", {"status": "cost"}), "CAST(… AS TEXT)"),
        (Rule("x", {"price": "1"}, over="retial"), "no rule before it is called that"),
    ],
)
def test_what_is_no_rule_is_refused_with_its_name(rule, why):
    with pytest.raises(ConditionError) as refusal:
        of(LIVE, rule)
    assert why in str(refusal.value)


@pytest.mark.parametrize(
    "text, why",
    [
        ("version = 1\n", "it has no rule"),
        ("version = 2\n[[rule]]\nname = 'a'\nset = { price = '1' }\n", "line 1, version"),
        ("version = 1\n[[rule]]\nname = 'a'\nset = { price = '1' }\n[[rule]]\nnme = 'b'\n",
         'line 6, rule.1.nme: there is no such key. Did you mean "name"?'),
        ("version = 1\n[[rule]]\nname = 'a'\nset = 'price'\n", "line 4, rule.0.set: it must be a table"),
        ("version = 1\n[rule]\nname = 'a'\n", "rule: it must be a list of tables"),
    ],
)  # fmt: skip
def test_a_rules_file_is_read_with_line_and_key(tmp_path, text, why):
    path = tmp_path / "rules.toml"
    path.write_text(text)
    with pytest.raises(StoreError) as refusal:
        read_rules(str(path))
    assert why in str(refusal.value)


def test_the_schema_of_rules_files_is_the_one_in_the_docs():
    there = Path(__file__).parent.parent / "docs/rules-file.schema.json"
    assert json.loads(there.read_text()) == rules_schema()


def nearest(value, ends):
    """The ending next to a value; of two as near the greater."""
    return min(ends, key=lambda end: (abs(end - value), -end))


@pytest.fixture
def ask(store, run):
    """Run the program on the demo store, with its store file; its exit status is to be this (None: 0 or 1)."""
    (store / "neat-delta.toml").write_bytes(files("neat_delta.demo").joinpath("neat-delta.toml").read_bytes())

    def go(*args, status=0):
        done = run(*args)
        assert done.returncode in ((0, 1) if status is None else (status,)), done.stdout + done.stderr
        return done

    return go


def test_by_rule_from_the_catalogue_to_proven_files(store, ask):
    """The installed program: what is tried is what is written; a page and a workbook name the rule; undo is exact."""
    (store / "rates.csv").write_text("band,factor\nshown,1.10\nhidden,1.05\n")
    (store / "spring.toml").write_text(
        "version = 1\n[table.rates]\nfile = 'rates.csv'\nkinds = { factor = 'decimal' }\n"
        "by = { band = \"CASE WHEN status THEN 'shown' ELSE 'hidden' END\" }\n"
        "[[rule]]\nname = 'spring'\nwhere = \"category LIKE 'Jars%' AND price > :least\"\n"
        "set = { price = 'ENDS_AT(price * rates.factor, 0.90, 0.50)' }\n"
    )
    args = ("edit", "live.csv", "--rules", "spring.toml", "--let", "least=1")
    tried = json.loads(ask(*args, "--try", "500", "--json", status=None).stdout)
    ask(*args, "-o", "edit.jsonl", status=None)
    changes = neat_delta.read_changes(str(store / "edit.jsonl"))
    live = neat_delta.read(str(store / "live.csv")).cells
    prices = dict(live.select("sku", "price").rows())
    shown = dict(live.select("sku", "status").rows())
    ends = [Decimal(whole) + end for whole in range(500) for end in (Decimal("0.50"), Decimal("0.90"))]
    wanted = {}
    for sku in live.filter(pl.col("category").str.starts_with("Jars"))["sku"]:
        if Decimal(prices[sku]) > 1:
            raw = Decimal(prices[sku]) * Decimal("1.10" if shown[sku] == "shown" else "1.05")
            wanted[sku] = nearest(raw, ends)
    wanted = {sku: price for sku, price in wanted.items() if price != Decimal(prices[sku])}
    assert {item.key["sku"]: Decimal(item.cells["price"][1] or "") for item in changes.iter_items()} == wanted
    assert wanted and tried["fields"]["price"]["cells"] == len(wanted)
    assert {one["key"]["sku"]: Decimal(one["after"]) for one in tried["fields"]["price"]["sample"]} == wanted
    sku = next(iter(wanted))
    said = ask("preview", "edit.jsonl", "--explain", sku).stdout
    assert "spring" in said and f"price = {prices[sku]}" in said and ":least = 1" not in said
    ask("preview", "edit.jsonl", "--page", "page.html", "--workbook", "book.xlsx", "--check", "rule spring")
    ask("write", "edit.jsonl", "--to", "out", "--signed-off", "book.xlsx", status=None)
    assert not list((store / "out").glob("update*.csv"))  # nobody answered yes
    done = ask("write", "edit.jsonl", "--to", "out2", status=None)
    assert "the undo files then give live again" in done.stdout


def test_a_quick_edit_says_what_is_wrong_with_the_call(ask):
    for args, why in (
        ((), "Say what to set"),
        (("--set", "price"), "is not FIELD = EXPRESSION"),
        (("--set", "price = 1", "--rules", "x.toml"), "Say what to set"),
        (("--rules", "x.toml", "--where", "stock = 0"), "--where goes with --set"),
        (("--set", "price = :rate"), "say what it is with --let rate=…"),
        (("--set", "price = 1", "--let", "rate"), "is not NAME=VALUE"),
        (("--set", "price = 1 +"), "ends too early"),
        (("--set", "price = 1", "-o", "live.csv"), "this is an input"),
    ):
        assert why in " ".join(ask("edit", "live.csv", *args, status=2).stderr.split())
    done = ask("edit", "live.csv", "--set", "price = price", "-o", "same.jsonl")
    assert "Nothing to send" in done.stdout


def test_a_list_goes_out_in_the_order_in_which_a_rule_writes_it(run, put, tmp_path):
    """Whatever order means; the same values in another order are no change."""
    put("live.csv", 'sku,tags\nQA-1,"wax,gift"\nQA-2,"gift,spring,wax"\nQA-3,\n')
    put("neat-delta.toml", 'version = 1\n[fields.tags]\nkind = "list"\nseparator = ","\n')
    run("edit", "live.csv", "--set", "tags = 'spring, wax,gift'", "--with-new-values", "tags", "-o", "c.jsonl")
    run("write", "c.jsonl", "--to", "out")
    sent = (tmp_path / "out" / "update-1.csv").read_text()
    assert sent == 'sku,tags\nQA-1,"spring,wax,gift"\nQA-3,"spring,wax,gift"\n'


def test_a_field_whose_name_has_a_point_is_explained_under_it():
    live = as_catalogue({"sku": ["A"], "unit.price": ["2.00"], "price": ["3.00"]}, "live")
    changes = edit(live, set={"price": '"unit.price" * 2'})
    (item,) = explain(changes, "A")
    (cell,) = item.cells
    assert [(one.inputs, one.result) for one in cell.steps] == [([("unit.price", "2.00")], "4.00")]
    assert cell.steps[0].parts == [('"unit.price" * 2', "4")]


def test_what_could_not_be_worked_out_is_summed_up_with_what_is_most_often_wrong():
    live = as_catalogue({"sku": [*"ABCD"], "note": ["x", "x", "y", "3"], "price": ["3.00"] * 4}, "live")
    header = edit(live, set={"price": "CAST(note AS DECIMAL)"}).header
    (why,) = [finding.why for finding in header.findings if finding.check == "rule"]
    assert why == '"x" is no number (2 times), and 1 others'


@pytest.mark.parametrize(("tags", "wanted"), [("wax;gift", "wax;gift;bulk"), ("wax; gift", "wax; gift; bulk")])
def test_a_list_by_rule_is_written_with_the_field_s_own_separator(tags, wanted):
    live = as_catalogue({"sku": ["A"], "tags": [tags]}, "live")
    store = Store(key=Key(["sku"]), fields={"tags": Field("list", separator=";")})
    (item,) = edit(live, store=store, set={"tags": "ARRAY_APPEND(tags, 'bulk')"})
    assert item.cells == {"tags": (tags, wanted)}


def test_a_rule_makes_a_sheet_of_what_it_sets_or_could_not_and_no_more():
    live = {"sku": ["A", "B", "C"], "price": ["1.00", "2.00", "3.00"], "cost": ["0.50", "", "1.00"]}
    changes = neat_delta.edit(live, set=["price = cost * 3"], where="sku <> 'C'", key=["sku"])
    assert changes.header.sheet.rows == 2 and len(changes) == 1


def test_what_stands_out_of_a_trial_goes_by_what_cells_become():
    """Not by what they were: the dearest before is the cheapest after."""
    live = as_catalogue({"sku": ["QA-1", "QA-2", "QA-3"], "price": ["9.90", "20.00", "30.00"]}, "live")
    changes = edit(live, Rules(rule=[Rule("turned", {"price": "45 - price"})]))
    (trial,) = trials(changes, 20)
    assert trial.least["after"].to_list() == ["15.00", "25.00", "35.10"]
    assert trial.greatest["after"].to_list() == ["35.10", "25.00", "15.00"]


@pytest.mark.parametrize(
    ("what", "why"),
    [
        (["no price"], "no price"),
        (["no price", "no price"], "no price (2 times)"),
        (["no price", "too long", "no price"], "no price (2 times), and 1 others"),
    ],
)
def test_what_could_not_be_worked_out_is_told_with_what_is_wrong_most_often(what, why):
    columns = {"source": "rule", "rule": "spring", "field": "price"}
    problems = pl.DataFrame({"what": what}).with_columns(pl.lit(text).alias(name) for name, text in columns.items())
    (finding,) = problems_said(problems)
    assert (finding.why, finding.cells) == (why, len(what))
