"""The demo store's files: what the generator makes, and fit to be shown."""

from __future__ import annotations

import csv
import io
from importlib.resources import files

from tests.generate import FIELDS, demo_files


def test_the_shipped_files_are_what_the_generator_makes():
    for name, content in demo_files().items():
        assert files("neat_delta.demo").joinpath(name).read_bytes() == content


def test_the_catalogue_is_like_a_real_one():
    items = list(csv.DictReader(io.StringIO(demo_files()["live.csv"].decode(), newline="")))
    assert len(items) == len({item["sku"] for item in items}) == 418
    assert len(FIELDS) == 22
    assert {item["parent_sku"] for item in items} <= {"", *(item["sku"] for item in items)}
    assert all(float(item["cost"]) < float(item["price"]) for item in items)
    assert any("\n" in item["description"] for item in items)
    assert any(item["supplier_code"].startswith("0") for item in items)
    for item in items:
        digits = [int(digit) for digit in item["barcode"]]
        assert sum(digits[::2] + [3 * digit for digit in digits[1::2]]) % 10 == 0
