"""Scripts: what they do in a real database, where all is as it was, and where it is not."""

from __future__ import annotations

import sqlite3
from typing import Any
from urllib.parse import urlsplit

import pytest
from hypothesis import strategies as st

from neat_delta import Field
from neat_delta.app.script import script
from neat_delta.core.base.model.rows import RowChange
from neat_delta.core.base.support.errors import ProofError
from neat_delta.files.sqlscript import prove_script, sql_script
from tests import servers
from tests.conftest import first_of, in_two_lengths
from tests.test_delivery import round_of, table_of
from tests.test_sources import DATABASES, ROWS, TYPES, databases, fill, home

__all__ = ["databases", "home"]


def run_script(address, text, *, goes_on=False):
    """Run a script as a client does: it ends at the first error, or goes on; whether there was one."""
    where = urlsplit(address)
    connection: Any
    if where.scheme == "sqlite":
        connection = sqlite3.connect(where.path.removeprefix("/"), isolation_level=None)
    elif where.scheme == "postgresql":
        import psycopg

        connection = psycopg.connect(
            host="127.0.0.1", port=where.port, user=servers.USER, password=servers.PASSWORD, dbname="shop",
            autocommit=True,
        )  # fmt: skip
    else:
        import pymysql

        connection = pymysql.connect(
            host="127.0.0.1", port=where.port, user=servers.USER, password=servers.PASSWORD, database="shop",
            autocommit=True,
        )  # fmt: skip
    failed, cursor = False, connection.cursor()
    plain = [line for line in text.split(";\n") if line.strip()]
    for statement in plain:
        try:
            cursor.execute(statement)
        except Exception as error:
            print(statement, error)
            failed = True
            if not goes_on:
                break
    connection.close()
    return failed


FIELDS = {
    "sku": Field("code"),
    "name": Field(),
    "price": Field("money", decimals=2),
    "stock": Field("integer"),
    "active": Field("flag", yes=["true", "1"], no=["false", "0"]),
    "since": Field("date", date_form="YYYY-MM-DD"),
    "changed": Field("date", date_form="YYYY-MM-DDThh:mm:ss"),
}
SHEET = [
    {"sku": "QA-10", "name": "Veil; 100 % 'cotton' \\ ☃", "price": "1200000.50"},
    {"sku": "QA-1", "name": "It's", "price": "3.00"},
    {"sku": "QA-7", "name": "Frame", "price": "2.10"},
]


@DATABASES
def test_a_script_does_all_of_it_once_and_its_undo_takes_it_back(databases, sort, tmp_path, run):
    address, execute = databases(sort)
    fill(execute, sort, [row.format(**TYPES[sort]) for row in ROWS])
    before = table_of(address)
    out = round_of(address, tmp_path, SHEET, FIELDS, with_new=True, with_gone=True, whole=True)
    text = script(out, "items", dialect=sort)
    assert not run_script(address, text)
    after = table_of(address)
    assert {line.split(",")[0] for line in after.splitlines()[1:]} == {"QA-1", "QA-10", "QA-7"}
    assert "Veil; 100 % 'cotton' \\ ☃" in after
    for goes_on in (False, True):
        assert run_script(address, text, goes_on=goes_on)
        assert table_of(address) == after
    if sort == "sqlite":  # which has 1200000.5 for 1200000.50, and says so
        return
    assert run("undo", "changes.jsonl", "--to", "back").returncode == 0
    back = script(str(tmp_path / "back"), "items", dialect=sort, changes=str(tmp_path / "changes.jsonl"))
    assert not run_script(address, back)
    assert table_of(address) == before


@DATABASES
@pytest.mark.parametrize("goes_on", first_of([False, True], 1))
def test_where_something_is_otherwise_a_script_does_nothing(databases, sort, goes_on, tmp_path):
    address, execute = databases(sort)
    for number, statement in enumerate(
        (
            "UPDATE items SET name = 'VEIL, FOLDING' WHERE sku = 'QA-10'",
            "UPDATE items SET stock = 9 WHERE sku = 'QA-2'",
            "DELETE FROM items WHERE sku = 'QA-1'",
            "INSERT INTO items (sku, name) VALUES ('QA-7', 'Feeder')",
        )
    ):
        fill(execute, sort, [row.format(**TYPES[sort]) for row in ROWS])
        out = round_of(address, tmp_path / str(number), SHEET, FIELDS, with_new=True, with_gone=True, whole=True)
        text = script(out, "items", dialect=sort)
        execute(statement)
        stands = table_of(address)
        assert run_script(address, text, goes_on=goes_on)
        assert table_of(address) == stands


@DATABASES
def test_codes_change_places_and_a_freed_one_goes_to_another(databases, sort):
    address, execute = databases(sort)
    fill(execute, sort, [row.format(**TYPES[sort]) for row in ROWS])
    rows = [
        RowChange({"sku": "QA-2"}, {"sku": "QA-2", "stock": "0"}, {"sku": "QA-1"}),
        RowChange({"sku": "QA-1"}, {"sku": "QA-1", "name": r"\N"}, {"sku": "QA-2", "name": "Hat"}),
        RowChange({"sku": "QA-10"}, {"sku": "QA-10"}),
        RowChange({"sku": "QA-10"}, after={"sku": "QA-10", "name": "Lid"}),
    ]
    assert not run_script(address, sql_script(rows, "items", {"sku", "name"}, sort))
    names = {line.split(",")[0]: line.split(",")[1] for line in table_of(address).splitlines()[1:]}
    assert names == {"QA-1": "", "QA-2": "Hat", "QA-10": "Lid"}


TEXT = st.text(st.characters(blacklist_categories=["Cs"], blacklist_characters="\0"), max_size=6)


@in_two_lengths(
    st.lists(st.tuples(TEXT, TEXT), min_size=1, max_size=5, unique_by=lambda pair: pair[0]), few=20, many=1000
)
def test_whatever_a_cell_holds_stands_there_afterwards(cells):
    """By SQLite itself: quotes, line ends, semicolons, signs of every script."""
    import polars as pl

    live = pl.DataFrame({"sku": [f"QA-{n}" for n in range(len(cells))], "na me": [before for before, _ in cells]})
    target = live.with_columns(pl.Series("na me", [after for _, after in cells]))
    changes = [
        RowChange({"sku": f"QA-{n}"}, {"na me": before}, {"na me": after}) for n, (before, after) in enumerate(cells)
    ]
    prove_script(changes, "it\"em's", {"sku", "na me"}, live, target)
    if any(before != after for before, after in cells):
        with pytest.raises(ProofError):
            prove_script(changes, "items", {"sku", "na me"}, live, live)


def test_the_program_writes_it_and_says_what_it_is(run, store, tmp_path):
    assert run("compare", "live.csv", "sheet.csv", "-o", "changes.jsonl").returncode in {0, 1}
    run("write", "changes.jsonl", "--to", "out")
    done = run("script", "out", "--table", "shop.items", "--dialect", "mysql", "-o", "update.sql")
    assert (done.returncode, "proven in SQLite on live" in done.stdout) == (0, True), done.stderr
    text = (tmp_path / "update.sql").read_text()
    assert "UPDATE `shop`.`items` SET `price` = " in text
    assert text == run("script", "out", "--table", "shop.items", "--dialect", "mysql").stdout
    assert run("script", "out", "--table", "items", "-o", "update.sql").returncode == 2
    assert sql_script([], "items", set(), "sqlite").splitlines()[2] == "BEGIN IMMEDIATE;"
