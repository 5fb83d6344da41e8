"""Law 10: the store moves while somebody edits. What is sent is ours and not theirs; what both changed clashes."""

from __future__ import annotations

import json
import random
from decimal import Decimal
from typing import Any

import pytest
from hypothesis import Phase
from hypothesis import strategies as st

import neat_delta
from neat_delta import Accept, Field, Importer, Key, Layout, Store
from neat_delta.core.compare.checks import CHECKS
from neat_delta.files.changelines import change_lines
from tests.conftest import in_two_lengths
from tests.oracle import catalogue
from tests.test_laws import hold_the_laws

Row = dict[str, str]
Shop = dict[str, Row]

FIELDS = ("name", "price", "stock", "tags")
STORE = Store(
    key=Key(["sku"]),
    fields={
        "price": Field("money", decimals=2),
        "stock": Field("integer"),
        "tags": Field("list", separator=","),
    },
    checks={check.name: "off" for check in CHECKS.values()},
)
"""A shop with a text, two numbers and a list; what the checks say is another matter."""

VALUES = {
    "name": ("Veil", "Smoker", "Hive tool", ""),
    "price": ("9.90", "10.50", "12.00", ""),
    "stock": ("0", "5", "8", "12", ""),
    "tags": ("wax", "gift,wax", "gift", "sale,wax", "gift,sale,spring", ""),
}
RESPELT = {"9.90": "9.9", "10.50": "10.5", "gift,wax": "wax, gift", "sale,wax": "wax,sale"}
"""How a store may write the same value in another export."""

THROUGH = [Accept(one) for one in ("damage", "slip", "swapped")]

TOGETHER = 50
SEEDS = st.integers(0, 2**32).map(random.Random)


def drawn(rng: random.Random) -> tuple[Shop, Shop, Shop]:
    """Many small rounds side by side: the base, and what became of it in the store and in the sheet."""
    base: Shop = {}
    for number in range(TOGETHER):
        for place in range(rng.randint(1, 4)):
            base[f"Q{number}-{place}"] = {name: rng.choice(VALUES[name]) for name in FIELDS}
    return base, edited(rng, base), edited(rng, base)


def edited(rng: random.Random, base: Shop, often: float = 0.25) -> Shop:
    """The base as somebody edited it: cells, items given up, items of their own, maybe under the same new key."""
    copy = {}
    for key, row in base.items():
        if rng.random() < 0.9:
            copy[key] = {name: rng.choice(VALUES[name]) if rng.random() < often else text for name, text in row.items()}
    for number in range(TOGETHER):
        if rng.random() < 0.2:
            copy[f"N{number}"] = {name: rng.choice(VALUES[name]) for name in FIELDS}
    return copy


def table(shop: Shop, rng: random.Random, fields: tuple[str, ...] = FIELDS, path: str = "made.csv"):
    """A shop as a catalogue, its rows and columns in any order."""
    headings = ["sku", *fields]
    rng.shuffle(headings)
    rows = [[key if name == "sku" else row[name] for name in headings] for key, row in shop.items()]
    rng.shuffle(rows)
    return catalogue((headings, rows), path)


def value(field: str, text: str) -> Any:
    """What a text means in its field."""
    if field in {"price", "stock"}:
        return Decimal(text) if text.strip() else None
    return frozenset(part.strip() for part in text.split(",") if part.strip()) if field == "tags" else text.strip()


def only_steps(base: str, sheet: str) -> bool:
    """Whether a list only got values, and none in front, or lost some: it has no order of its own then."""
    old, new = ([part.strip() for part in text.split(",") if part.strip()] for text in (base, sheet))
    both = [part for part in new if part in old]
    return both == [part for part in old if part in new] and (not old or not new or new[0] in old)


def outcome(field: str, base: str | None, live: str, sheet: str) -> tuple[str, Any]:
    """What the table of the rules says of one cell, and the value that is then to be there."""
    old: Any
    now: Any
    new: Any
    old, now, new = (None if text is None else value(field, text) for text in (base, live, sheet))
    if base is None:
        return ("same", now) if new == now else ("clash", new)
    if new == old and (field != "tags" or base == sheet):
        return ("meanwhile" if now != old else "same"), now
    if now == new:
        return "already", now
    if now == old:
        return "sent", new
    if field == "tags" and old != new and only_steps(base, sheet):
        together: Any = now - (old - new) | (new - old)
        return ("already", now) if together == now else ("sent", together)
    return "clash", new


def compared(live, sheet, base, **more):
    return neat_delta.compare(live, sheet, base=base, store=STORE, accept=THROUGH, blanks="clear", **more)


@in_two_lengths(
    SEEDS, st.sets(st.sampled_from(FIELDS), min_size=1), st.booleans(), st.booleans(),
    few=4, many=50, phases=[Phase.explicit, Phase.generate],
)  # fmt: skip
def test_what_is_sent_is_ours_and_not_theirs(tmp_path, rng, fields, two_way, whole):
    """Against the rules in dictionaries: every cell, every item, every count; and laws 1 to 6 hold on the result."""
    base, store_now, sheet = drawn(rng)
    live = {
        key: {name: RESPELT.get(text, text) if rng.random() < 0.2 else text for name, text in row.items()}
        for key, row in store_now.items()
    }
    names = tuple(name for name in FIELDS if name in fields)
    lacking = {names[0]} if two_way and len(names) > 1 else set()
    base_table = table(base, rng, tuple(name for name in FIELDS if name not in lacking), "monday.csv")
    live_table, sheet_table = table(live, rng, path="live.csv"), table(sheet, rng, names, "sheet.csv")
    changes = compared(live_table, sheet_table, base_table, whole=whole)
    items = {item.key["sku"]: item for item in changes.iter_items()}
    counted = dict.fromkeys(("same", "meanwhile", "already", "sent", "clash"), 0)
    wanted_items, departed = set(), 0
    for key, ours in sheet.items():
        was, now = base.get(key), live.get(key)
        if now is None:
            edits = was is None or any(ours[name] != was[name] for name in names if name not in lacking)
            departed += not edits
            if edits:
                wanted_items.add(key)
                assert items[key].verdict == "new"
                assert [(one.field, one.reason) for one in items[key].held if one.field is None] == [
                    (None, "new" if was is None else "clash: gone from the store")
                ]
            continue
        for name in names:
            before = now[name] if name in lacking and was is not None else None if was is None else was[name]
            what, after = outcome(name, before, now[name], ours[name])
            if (
                name in lacking
                and was is not None
                and ours[name] != now[name]
                and value(name, ours[name]) != value(name, now[name])
            ):
                what = "sent"
            counted[what] += 1
            cell = items[key].cells.get(name) if key in items else None
            held = [one.reason for one in items[key].held if one.field == name] if key in items else []
            if what in {"sent", "clash"}:
                wanted_items.add(key)
                assert cell is not None, (key, name, before, now[name], ours[name])
                assert cell[0] == now[name] and value(name, cell[1] or "") == after
                assert bool(held) == (what == "clash") and all(one.startswith("clash: ") for one in held)
                if what == "clash" and was is not None and before != now[name]:
                    assert items[key].base[name] == before
            elif cell is not None:  # a list in another order, as somebody typed it
                assert name == "tags" and value(name, cell[0] or "") == value(name, cell[1] or "")
                wanted_items.add(key)
                counted[what] -= 1
    gone = {key for key in live if key in base and key not in sheet} if whole else set()
    for key in gone:
        changed = any(
            value(name, live[key][name]) != value(name, base[key][name]) for name in names if name not in lacking
        )
        reason = "clash: gone from the sheet, changed in the store" if changed else "gone"
        assert (items[key].verdict, [one.reason for one in items[key].held]) == ("gone", [reason])
    assert items.keys() == wanted_items | gone
    counts = changes.header.counts
    assert (counts.departed, counts.gone) == (departed, len(gone))
    listed = {(one[0][0], one[1]) for one in changes.meanwhile.rows() if one[1] is not None}
    assert len(listed) == counted["meanwhile"] and changes.header.counts.meanwhile == counted["meanwhile"] + departed
    assert counts.same + counts.changed + counts.gone + counts.absent + counts.set_aside_live == len(live)
    assert counts.same + counts.changed + counts.new + counts.departed + counts.set_aside_sheet == len(sheet)
    hold_the_laws(
        changes, as_table(live_table), Importer("clear"), Layout(separator=","), rng.randint(1, 8), tmp_path, rng.choice
    )


def as_table(one: neat_delta.Catalogue) -> tuple[list[str], list[list[str]]]:
    return one.fields, [list(row) for row in one.cells.rows()]


def applied(changes: neat_delta.ChangeSet, live: Shop) -> Shop:
    """The shop with everything imported that is sent."""
    shop = {key: dict(row) for key, row in live.items()}
    for item in changes.iter_items():
        held = {one.field for one in item.held}
        if None in held:
            continue
        row = shop.setdefault(item.key["sku"], dict.fromkeys(FIELDS, ""))
        row |= {name: after or "" for name, (_, after) in item.cells.items() if name not in held}
        if item.verdict == "gone":
            del shop[item.key["sku"]]
    return shop


def values(shop: Shop) -> dict[str, dict[str, object]]:
    return {key: {name: value(name, text) for name, text in row.items()} for key, row in shop.items()}


@in_two_lengths(SEEDS, few=1, many=10, phases=[Phase.explicit, Phase.generate])
def test_two_people_can_go_first_in_either_order(rng):
    """Where nothing clashes, it is the same whose round is imported first; and whose export is called live."""
    base, one, other = drawn(rng)
    policy = {"with_new": True, "with_gone": True, "whole": True}
    ways, clashes = [], set()
    for mine, yours in ((one, other), (other, one)):
        first = applied(compared(table(base, rng), table(mine, rng), table(base, rng), **policy), base)
        second = compared(table(first, rng), table(yours, rng), table(base, rng), **policy)
        direct = compared(table(mine, rng), table(yours, rng), table(base, rng), **policy)
        assert values(applied(second, first)) == values(applied(direct, mine))
        clashes |= {item.key["sku"] for item in second.iter_items() if any("clash" in why.reason for why in item.held)}
        ways.append(values(applied(second, first)))
    calm = [{key: row for key, row in way.items() if key not in clashes} for way in ways]
    assert calm[0] == calm[1]


@in_two_lengths(SEEDS, few=1, many=10, phases=[Phase.explicit, Phase.generate])
def test_the_choice_of_a_clash_is_the_target(rng):
    base, live, sheet = drawn(rng)
    tables = table(live, rng), table(sheet, rng), table(base, rng)
    asked = compared(*tables)
    clashing = {
        (item.key["sku"], one.field)
        for item in asked.iter_items()
        for one in item.held
        if one.reason.startswith("clash")
    }
    for choice in ("sheet", "live"):
        chosen = compared(*tables, clash=choice, with_new=True)
        shop = applied(chosen, live)
        for key, field in clashing:
            if field is None:
                assert (key in shop) == (choice == "sheet")
            else:
                assert value(field, shop[key][field]) == value(
                    field, (sheet if choice == "sheet" else live)[key][field]
                )
        assert not any(one.reason.startswith("clash") for item in chosen.iter_items() for one in item.held)
    added = compared(*tables, clash={"stock": "add", "price": "sheet"})
    shop = applied(added, live)
    for key, field in clashing:
        if field == "stock" and key in base:
            three = [value(field, shop_of[key][field]) for shop_of in (base, live, sheet)]
            if None not in three:
                assert value(field, shop[key][field]) == three[1] + three[2] - three[0]
            else:
                assert shop[key][field] == live[key][field]
        elif field == "price":
            assert value(field, shop[key][field]) == value(field, sheet[key][field])
        elif field is not None:
            assert shop[key][field] == live[key][field]


def test_a_base_that_was_swapped_with_live_is_asked_about():
    rng = random.Random(5)
    base = {f"Q{n}": {"name": "Veil", "price": "9.90", "stock": "5", "tags": "wax"} for n in range(30)}
    live = {key: row | ({"stock": "4"} if n % 2 else {}) for n, (key, row) in enumerate(base.items())}
    sheet = {key: row | ({"price": "12.00"} if n % 3 else {}) for n, (key, row) in enumerate(base.items())}
    right = neat_delta.compare(table(live, rng), table(sheet, rng), base=table(base, rng), store=STORE, accept="slip")
    assert right.header.counts.meanwhile == 15 and not right.items["held"].count()
    wrong = neat_delta.compare(table(base, rng), table(sheet, rng), base=table(live, rng), store=STORE, accept="slip")
    assert set(wrong.items["held"]) == {"swapped: the sheet comes nearer to live than to the base"}
    through = ["slip", "swapped"]
    asked = neat_delta.compare(table(base, rng), table(sheet, rng), base=table(live, rng), store=STORE, accept=through)
    assert not asked.items["held"].count()


@pytest.mark.parametrize(
    "base, live, sheet, together",
    [
        ("wax,gift", "wax,gift,sale", "wax,gift,spring", "wax,gift,sale,spring"),
        ("wax, gift", "gift", "wax, gift, spring", "gift, spring"),
        ("wax,gift", "wax", "gift", ""),
        ("", "sale", "spring", "sale,spring"),
        ("wax,gift", "wax,gift,sale", " wax,gift,spring", "wax,gift,sale,spring"),
        ("wax,gift", "wax,gift,sale", "gift,wax", None),
        ("wax", "wax,sale", "wax,wax", None),
    ],
)
def test_lists_merge_by_their_values(base, live, sheet, together):
    from neat_delta.core.compare.diff.clashes import merged_list

    assert merged_list(base, live, sheet, Field("list", separator=",")) == together
    assert merged_list(base, live, sheet, Field("list", separator=",", ordered=True)) is None


@pytest.mark.parametrize(
    "three, field, writing, total",
    [
        (("10", "8", "15"), Field("integer"), neat_delta.Notation("."), "13"),
        (("10,00", "8,50", "10,10"), Field("money"), neat_delta.Notation(","), "8,60"),
        (("€1.200,00", "€1.100,00", "€900,00"), Field("money"), neat_delta.Notation(",", "."), "€800,00"),
        (("0.1", "0.2", "0.3"), Field("decimal"), neat_delta.Notation("."), "0.4"),
        (("5", "2", "1"), Field("integer"), neat_delta.Notation("."), "-2"),
        (("", "2", "1"), Field("integer"), neat_delta.Notation("."), None),
    ],
)
def test_a_difference_is_carried_over_exactly(three, field, writing, total):
    import polars as pl

    from neat_delta.core.compare.diff.clashes import carried_over

    base, live, sheet = (pl.Series([text]) for text in three)
    assert carried_over(base, live, sheet, field, writing).to_list() == [total]


def test_the_file_of_three_sides_is_read_back(tmp_path):
    rng = random.Random(11)
    base, live, sheet = drawn(rng)
    odd = {'"Q" \\ é\n': {"name": 'a "b"\\c', "price": "9.90", "stock": "5", "tags": ""}}
    moved = {key: row | {"name": "x\ty", "stock": "8"} for key, row in odd.items()}
    mine = {key: row | {"name": "é\n"} for key, row in odd.items()}
    changes = compared(table(live | moved, rng), table(sheet | mine, rng), table(base | odd, rng))
    path = str(tmp_path / "c.jsonl")
    neat_delta.write_changes(changes, path)
    back = neat_delta.read_changes(path)
    assert back.header == changes.header and back.meanwhile.equals(changes.meanwhile)
    assert back.cells.equals(changes.cells) and back.items.equals(changes.items) and back.meanwhile.height
    assert list(change_lines(back)) == list(change_lines(changes))


def test_a_base_has_the_rows_that_it_has(run, put):
    """Not those of live that it lacks."""
    put("live.csv", "sku,name,price\nQA-1,Veil,9.90\nQA-2,Hood,5.00\nQA-3,Cap,4.00\n")
    put("base.csv", "sku,name,price\nQA-1,Veil,9.90\n,,\nQA-7,Boot,1.00\nQA-8,Suit,1.00\n")
    put("sheet.csv", "sku,name,price\nQA-1,Veil,10.90\nQA-2,Hood,5.00\nQA-3,Cap,4.00\n")
    done = run("compare", "live.csv", "sheet.csv", "--base", "base.csv", "-o", "c.jsonl")
    assert "base   base.csv: 4 rows" in done.stdout
    assert json.loads(run("preview", "c.jsonl", "--json").stdout)["header"]["base"]["rows"] == 4
