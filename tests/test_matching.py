"""Matching items and fields: by key and heading, in any order, never by guess."""

from __future__ import annotations

import pytest

from neat_delta import CatalogueError, compare
from tests.oracle import catalogue


def test_order_of_rows_and_columns_means_nothing():
    live = catalogue((["sku", "price", "stock"], [["a", "1", "2"], ["b", "3", "4"]]))
    sheet = catalogue((["stock", "sku", "price"], [["4", "b", "3"], ["2", "a", "1.50"]]))
    changes = compare(live, sheet)
    assert [(item.key, item.cells, item.row.live, item.row.sheet) for item in changes.iter_items()] == [
        ({"sku": "a"}, {"price": ("1", "1.50")}, 2, 3)
    ]


@pytest.mark.parametrize("heading", ["SKU", "sku", "Item No.", "Art. No", "product_code", "Stock Code", "Variant SKU"])
def test_a_heading_that_is_plainly_the_sku_is_the_key(heading):
    table = catalogue((["Parent SKU", heading, "Name"], [["", "a", "x"]]))
    assert compare(table, table).header.key == [heading]


def test_several_fields_can_be_the_key():
    live = catalogue((["sku", "place", "stock"], [["a", "north", "1"], ["a", "south", "2"]]))
    sheet = catalogue((["place", "sku", "stock"], [["south", "a", "5"], ["", "a", "9"]]))
    changes = compare(live, sheet, key=["sku", "place"], whole=True)
    assert [(item.key, item.verdict) for item in changes.iter_items()] == [
        ({"sku": "a", "place": "north"}, "gone"),
        ({"sku": "a", "place": "south"}, "changed"),
    ]
    assert [(row.row, row.key, row.reason) for row in changes.header.set_aside] == [
        (3, {"sku": "a", "place": ""}, "no key")
    ]


def test_rows_that_nobody_can_place_are_set_aside_with_the_reason():
    live = catalogue((["sku", "price"], [["a", "1"], ["b", "1"], ["b", "1"], ["c", "1"], ["", ""]]))
    sheet = catalogue(
        (["sku", "price"], [["a", "2"], ["b", "2"], ["c", "2"], ["c", "2"], ["", "sum"], ["d", "1"], ["", "3"]])
    )
    changes = compare(live, sheet)
    assert [(row.file, row.row, row.reason) for row in changes.header.set_aside] == [
        ("live", 3, "key repeats in live"),
        ("live", 4, "key repeats in live"),
        ("live", 5, "key repeats in the sheet"),
        ("live", 6, "blank row"),
        ("sheet", 3, "key repeats in live"),
        ("sheet", 4, "key repeats in the sheet"),
        ("sheet", 5, "key repeats in the sheet"),
        ("sheet", 6, "total"),
        ("sheet", 8, "no key"),
    ]
    assert [(item.key["sku"], item.verdict) for item in changes.iter_items()] == [("a", "changed"), ("d", "new")]


LIVE = (["sku", "price"], [["a", "1"]])
USELESS = {
    "no sku": (
        (["code of it", "price"], [["a", "1"]]),
        LIVE,
        None,
        "no heading is plainly the SKU. Name the key with ‹key›",
    ),
    "sku not in the sheet": (
        LIVE,
        (["code", "price"], [["a", "1"]]),
        None,
        'no heading stands for "sku", which is the key in',
    ),
    "no such key": (LIVE, LIVE, ["ean"], 'there is no heading "ean" for the key. It has: sku, price'),
    "key twice": (LIVE, LIVE, ["sku", "sku"], "names the same field twice"),
    "nothing in common": (LIVE, (["sku", "stock"], [["a", "1"]]), None, "has no field of"),
    "key blank": (LIVE, (["sku", "price"], [["", "1"], [" ", "1"]]), None, "the key (sku) is blank in all 2 rows"),
    "key repeats": (LIVE, (["sku", "price"], [["a", "1"], ["a", "1"]]), None, "no row has a key of its own"),
}


@pytest.mark.parametrize("live, sheet, key, message", USELESS.values(), ids=USELESS)
def test_what_cannot_be_compared_is_one_clear_error(live, sheet, key, message):
    with pytest.raises(CatalogueError) as error:
        compare(catalogue(live, "live.csv"), catalogue(sheet, "sheet.csv"), key=key)
    assert message in str(error.value)


def test_a_total_in_the_key_s_own_column_is_no_item():
    live = catalogue((["sku", "stock"], [["a", "1"], ["Sum", "3"]]))
    sheet = catalogue(
        (["sku", "stock"], [["a", "2"], ["Sum", "4"], ["Summe", "6"], ["Grand total:", "6"], ["Sumac", "6"]])
    )
    changes = compare(live, sheet)
    assert [(item.key["sku"], item.verdict) for item in changes.iter_items()] == [
        ("a", "changed"),
        ("Sum", "changed"),
        ("Sumac", "new"),
    ]
    assert [(row.row, row.reason) for row in changes.header.set_aside] == [(4, "total"), (5, "total")]
