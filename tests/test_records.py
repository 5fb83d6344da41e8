"""Files that are told apart record by record: whatever is asked of them, and whenever, they are as if read whole."""

from __future__ import annotations

import csv
import io
import json
import os
import random
import shutil
import subprocess
import sys
from collections.abc import Iterator
from contextlib import contextmanager, nullcontext
from dataclasses import replace
from itertools import pairwise
from pathlib import Path
from typing import Any
from unittest import mock

import polars as pl
import pytest
from hypothesis import strategies as st

import neat_delta
from neat_delta import CatalogueError, Field, FileError, Importer, Key, NeatDeltaError, Store
from neat_delta.app import inputs
from neat_delta.core.base.model.catalogue import Catalogue
from neat_delta.core.base.model.deferred import DeferredTable
from neat_delta.core.base.support import sizes
from neat_delta.core.base.support.joins import met_by_hash
from neat_delta.core.base.support.progress import Progress, shown_by
from neat_delta.files import changeset, footprint
from neat_delta.files.footprint import memory_at_most
from neat_delta.files.glance import files_alike, files_read_later, memory_of
from neat_delta.files.readers import records
from neat_delta.files.readers.deferred import HASH, TextRecords
from neat_delta.files.reading import read
from tests.conftest import environment, in_this_process, in_two_lengths
from tests.oracle import CELLS, rounds
from tests.test_reading import texts

PIECES = st.sampled_from([1, 7, 64, 1 << 22])


@contextmanager
def by_records_of(piece: int = 64, rows: int = 1, columns: int = 1) -> Iterator[None]:
    """As if small files were large: pieces of so many bytes, rows and columns read by themselves in any case."""
    settings = {"BYTES_INDEXED": 0, "BYTES_OF_A_PIECE": piece, "BYTES_SCANNED_AT_ONCE": piece,
                "ROWS_READ_APART": rows, "COLUMNS_READ_APART": columns, "RECORDS_AT_A_GLANCE": 1 << 30,
                "BYTES_A_QUOTE": 0}  # fmt: skip
    with mock.patch.dict(vars(sizes), settings):
        yield


def facts(catalogue: Catalogue) -> tuple[object, ...]:
    """All that is known of a file that was read."""
    return (
        catalogue.cells.to_dict(as_series=False), catalogue.digest(), catalogue.layout, catalogue.notes,
        catalogue.unnamed, catalogue.regular, catalogue.first, catalogue.height,
    )  # fmt: skip


@in_two_lengths(texts(), st.sampled_from(["", "\ufeff", "a line above\n"]), PIECES, few=30, many=500)
def test_a_file_is_the_same_read_now_or_later(text, above, piece):
    path = Path(os.environ["PYTEST_FOLDER"]) / "made.csv"
    path.write_text(above + text, encoding="utf-8", newline="")
    outcomes: list[object] = []
    for deferred in (False, True):
        with by_records_of(piece):
            try:
                outcomes.append(facts(read(str(path), deferred=deferred)))
            except CatalogueError as error:
                outcomes.append(str(error))
    assert outcomes[0] == outcomes[1]
    whole = None if isinstance(outcomes[0], str) else read(str(path))
    if whole is not None and whole.regular:  # as the header of a change set says of live
        wanted = whole.fields[::2]
        for apart in (nullcontext(), by_records_of(piece)):
            with apart:
                some = read(str(path), whole.layout, wanted)
                assert facts(some) == facts(replace(whole.narrowed(wanted), notes=some.notes))


@pytest.mark.parametrize("piece", [1, 7, 64])
@pytest.mark.parametrize("end", ["", "\n", "\n\n\n", "\n" * 100, "\r\n" * 50], ids=["none", "1", "3", "100", "CRLF"])
@pytest.mark.parametrize("header", ["x,y", "x"])
def test_blank_lines_at_the_end_are_no_rows_wherever_a_piece_ends(put, header, end, piece):
    text = f"{header}\n,aaaa\nb,c{end}" if "," in header else f"{header}\naaaa\nb{end}"
    text = text.replace("\n", "\r\n") if "\r" in end else text
    path = put("live.csv", text.replace("\r\r", "\r"))
    whole = read(path)
    assert whole.height == 2
    for deferred, wanted in ((True, None), (False, ["x"])):
        with by_records_of(piece):
            some = read(path, whole.layout if wanted else None, wanted, deferred=deferred)
            assert facts(some) == facts(replace(whole.narrowed(some.fields), notes=some.notes))


@pytest.fixture(autouse=True)
def folder(tmp_path, monkeypatch):
    monkeypatch.setenv("PYTEST_FOLDER", str(tmp_path))


def written(
    table: tuple[list[str], list[list[str]]], quoting: Any = csv.QUOTE_MINIMAL, end: str = "\n", separator: str = ","
) -> str:
    """A table as delimited text."""
    out = io.StringIO(newline="")
    csv.writer(out, delimiter=separator, lineterminator=end, quoting=quoting).writerows([table[0], *table[1]])
    return out.getvalue()


@in_two_lengths(
    rounds(), st.lists(st.tuples(st.booleans(), st.integers(0, 9), st.integers(0, 9)), max_size=6), PIECES,
    few=12, many=150,
)  # fmt: skip
def test_columns_and_rows_in_any_order_are_those_of_the_file(tables, asked, piece):
    """Also of a sheet whose rows are mostly taken over from live's."""
    folder = Path(os.environ["PYTEST_FOLDER"])
    for name, table in zip(("live.csv", "sheet.csv"), (tables[0], (tables[0][0], tables[0][1][::-1])), strict=True):
        returns = any("\r" in cell for row in table[1] for cell in row)  # which the writer would leave bare
        text = written(table, csv.QUOTE_ALL if returns else csv.QUOTE_MINIMAL)
        (folder / name).write_text(text, encoding="utf-8", newline="")
    with by_records_of(piece):
        live = read(str(folder / "live.csv"), deferred=True)
        sheet = read(str(folder / "sheet.csv"), like=live, deferred=True)
        for name, catalogue in (("sheet.csv", sheet), ("live.csv", live)):
            whole = read(str(folder / name))
            for rows, place, column in asked:
                field = whole.fields[column % len(whole.fields)]
                at = pl.Series([place % whole.height, None, 0])
                if rows:
                    assert catalogue.rows(at, [field]).rows() == whole.rows(at, [field]).rows()
                    assert catalogue.at(field, at).to_list() == whole.at(field, at).to_list()
                else:
                    assert catalogue.column(field).to_list() == whole.column(field).to_list()
            assert catalogue.cells.equals(whole.cells)


def outcome(live: Path, sheet: Path, base: Path | None, **settings: Any) -> bytes | str:
    """The change set of two files, or what is wrong."""
    try:
        changes = neat_delta.compare(live, sheet, base=base, **settings)
    except NeatDeltaError as error:
        return str(error)
    changes.save(live.with_name("changes.jsonl"))
    return live.with_name("changes.jsonl").read_bytes()


@in_two_lengths(
    rounds(), st.lists(st.lists(CELLS, min_size=7, max_size=7), max_size=3), PIECES,
    st.sampled_from([csv.QUOTE_MINIMAL, csv.QUOTE_ALL]), st.sampled_from(["\n", "\r\n"]), st.integers(0, 2**32),
    few=12, many=160,
)  # fmt: skip
def test_a_round_is_the_same_by_records_and_whole(tables, more, piece, quoting, end, seed):
    """Bytes of the change set, or the error; also with a base, with rows that repeat, with cells quoted for nothing."""
    rng, folder = random.Random(seed), Path(os.environ["PYTEST_FOLDER"])
    fields, rows = tables[0]
    edited = [[rng.choice(["", "7.50", cell, cell, cell, cell]) for cell in row] for row in rows]
    key = fields.index("sku")
    for before, after in zip(rows, edited, strict=True):
        if rng.random() < 0.9:
            after[key] = before[key]
        if rng.random() < 0.5:
            after[:] = before
    edited += [row[: len(fields)] for row in more] + rng.sample(edited, min(len(edited), rng.choice([0, 0, 1])))
    rng.shuffle(edited)
    base = [[rng.choice([cell, cell, "old"]) if n != key else cell for n, cell in enumerate(row)] for row in rows]
    files = {name: folder / f"{name}.csv" for name in ("live", "sheet", "base")}
    for name, of in (("live", rows), ("sheet", edited), ("base", base)):
        text = written((fields, of), quoting if name != "sheet" or rng.random() < 0.8 else csv.QUOTE_ALL, end)
        files[name].write_text(text if rng.random() < 0.8 else text.rstrip("\r\n"), encoding="utf-8", newline="")
    older = files["base"] if rng.random() < 0.3 else None
    settings = {"key": "sku", "whole": rng.random() < 0.3, "repair": rng.random() < 0.5}
    with by_records_of(piece, rng.choice([1, 2, 8]), rng.choice([1, 3])):
        by_records = outcome(files["live"], files["sheet"], older, **settings)
        with mock.patch.object(inputs, "files_read_later", return_value=set()):
            assert by_records == outcome(files["live"], files["sheet"], older, **settings)


@in_two_lengths(
    rounds(), st.lists(st.lists(CELLS, min_size=7, max_size=7), max_size=3), PIECES, st.sampled_from(";\t|,"),
    st.sampled_from([csv.QUOTE_MINIMAL, csv.QUOTE_ALL]), st.integers(0, 2**32), few=12, many=160,
)  # fmt: skip
def test_a_round_is_the_same_a_few_columns_at_a_time_and_whole(tables, more, piece, separator, quoting, seed):
    """Of files that take more memory than there is: whatever of their rows differs, and in how many fields; also of a
    sheet with other columns, in another order, in another dialect; with a base; where memory for a few rows is all.
    """
    rng, folder = random.Random(seed), Path(os.environ["PYTEST_FOLDER"])
    fields, rows = tables[0]
    key = fields.index("sku")
    raised = {n for n in range(len(fields)) if n != key and rng.random() < 0.3}
    edited = [[f"{cell}1" if n in raised else cell for n, cell in enumerate(row)] for row in rows]
    edited += [row[: len(fields)] for row in more] + rng.sample(edited, min(len(edited), rng.choice([0, 0, 1])))
    rng.shuffle(edited)
    order = [key, *rng.sample([n for n in range(len(fields)) if n != key], rng.randint(1, len(fields) - 1))]
    rng.shuffle(order)
    base = [[rng.choice([cell, cell, "old"]) if n != key else cell for n, cell in enumerate(row)] for row in rows]
    files = {name: folder / f"{name}.csv" for name in ("live", "sheet", "base")}
    for name, of in (("live", rows), ("base", base)):
        files[name].write_text(written((fields, of), csv.QUOTE_ALL), encoding="utf-8", newline="")
    header, *turned = ([row[n] for n in order] for row in [fields, *edited])
    sheet = written((header, turned), quoting, separator=separator)
    files["sheet"].write_text(sheet, encoding="utf-8", newline="")
    older = files["base"] if rng.random() < 0.3 else None
    settings = {"key": "sku", "repair": rng.random() < 0.5}
    whole = outcome(files["live"], files["sheet"], older, **settings)
    few = rng.choice([1, 3, 1 << 20])
    of_few = {"ROWS_KEPT": few, "ROWS_COMPARED_AT_ONCE": few, "ROWS_JOINED_AT_ONCE": few, "CELLS_COMPARED_AT_ONCE": 0,
              "ITEMS_AT_A_GLANCE": rng.choice([1, 1 << 20]), "BYTES_A_RECORD_APART": rng.choice([1, 1 << 16]),
              "BYTES_A_QUOTE": 16}  # fmt: skip
    apart = by_records_of(piece, rng.choice([1, 2, 8]), rng.choice([1, 3]))
    with apart, mock.patch.dict(vars(sizes), of_few), memory_at_most(1):
        assert outcome(files["live"], files["sheet"], older, **settings) == whole


@in_two_lengths(rounds(), PIECES, st.integers(0, 2**32), few=6, many=75)
def test_what_became_of_a_round_is_the_same_by_records_and_whole(tables, piece, seed):
    """The next export has some of what was sent, and something else besides; and what takes it back from there."""
    rng, folder = random.Random(seed), Path(os.environ["PYTEST_FOLDER"])
    fields, rows = tables[0]
    key = fields.index("sku")
    edited, after = ([[cell if n == key or rng.random() < 0.6 else other for n, cell in enumerate(row)] for row in rows]
                     for other in ("7.50", "8.50"))  # fmt: skip
    for now, meant in zip(after, edited, strict=True):
        now[:] = meant if rng.random() < 0.6 else now
    after = [row for row in after if rng.random() < 0.9] + [[f"new {n}" for n in range(len(fields))]] * rng.choice(
        [0, 1]
    )
    files = {name: folder / f"{name}.csv" for name in ("live", "sheet", "after")}
    for name, of in (("live", rows), ("sheet", edited), ("after", after)):
        files[name].write_text(written((fields, of), csv.QUOTE_ALL), encoding="utf-8", newline="")
    try:
        changes = neat_delta.compare(files["live"], files["sheet"], key="sku")
        changes.plan(Importer("skip")).write(folder / "out", replace=True)
    except NeatDeltaError:
        return
    outcomes: list[object] = []
    for alike in ({"any"}, set[str]()):
        with (
            by_records_of(piece, rng.choice([1, 8])),
            mock.patch.object(changeset, "files_read_later", return_value=alike),
        ):
            shutil.rmtree(folder / "back", ignore_errors=True)
            undone = in_this_process(folder, "undo", "out", "--now", "after.csv", "--to", "back")
            files_back = {path.name: path.read_bytes() for path in sorted(folder.glob("back/*"))}
            outcomes.append((undone.returncode, undone.stdout, undone.stderr, files_back))
            try:
                outcome = neat_delta.confirm(folder / "out", files["after"])
            except NeatDeltaError as error:
                outcomes.append(str(error))
                continue
            seen = outcome.seen
            assert seen is not None
            outcomes.append((
                outcome.to_frame().rows(), seen.counts, seen.other_changes.rows(), seen.came, seen.went, seen.twice
            ))  # fmt: skip
    assert outcomes[:2] == outcomes[2:]


PLAIN = "".join(f"QB-{number},Frame {number},9.90\n" for number in range(30))
LIVE = f'sku,name,price\n{PLAIN}QA-1,"Jar, small",1.20\n{PLAIN}QA-2,"Two\nlines",3.40\nQA-3,Veil,5.00\n{PLAIN}'


@pytest.mark.parametrize(
    ("text", "why"),
    [
        (LIVE.replace("QA-3,Veil", "QA-3,Veil,x"), "a row of four cells"),
        (LIVE.replace("QA-3,Veil,", "QA-3,"), "a row of two"),
        (LIVE.replace("QA-3,Veil,5.00", "QA-3,Veil\nQA-4,Wax,1.00,x"), "one too short beside one too long"),
        (LIVE.replace("Veil", 'Ve"il'), "a quote inside a cell"),
        (LIVE.replace('small"', 'small" x'), "a cell that goes on after its quote"),
        (LIVE + '"QA-4,Wax,1', "a quote that is never closed"),
        (LIVE.replace("5.00", "5.00\n\nQA-4,Wax,1"), "a blank line"),
        (LIVE.replace("Veil", "Ve\ril"), "a line end of another sort"),
        (LIVE.replace("Two\n", "Two\r\n"), "both line ends"),
        (LIVE.replace("Veil", "Ve\0il"), "a zero character"),
    ],
)
def test_what_is_not_regular_is_read_whole(put, text, why):
    """And then has its error, or is taken as it is, as ever."""
    path = put("live.csv", text)
    with by_records_of(1 << 22):
        try:
            assert not isinstance(read(path, deferred=True).table, DeferredTable), why
        except CatalogueError as error:
            assert str(error).startswith(path), why
        assert isinstance(read(put("live.csv", LIVE), deferred=True).table, DeferredTable)


def test_a_quoted_end_is_no_reason_to_read_all(put):
    """Where quotes are many, reading costs less than looking at each; a few bytes at the end say nothing of that."""
    path = put("live.csv", LIVE + '"QA-4","Wax","1"\n')
    with by_records_of(len(LIVE.encode())), mock.patch.object(sizes, "BYTES_A_QUOTE", 16):
        assert read(path, deferred=True).is_deferred
        all_quoted = written((["sku", "name", "price"], [["QA-1", "Wax", "1"]] * 90), csv.QUOTE_ALL)
        assert not read(put("all.csv", all_quoted), deferred=True).is_deferred


def test_bytes_that_are_no_utf8_are_read_whole(put):
    with by_records_of():
        assert read(put("live.csv", LIVE.encode().replace(b"Veil", b"V\xe9il")), deferred=True).guessed


@pytest.mark.parametrize("price", [None, Field("money", decimals=2)], ids=["learned", "said"])
def test_only_what_differs_is_read(put, price):
    """Of many items of which two are changed, two rows, and no column but the key; where a store file says what
    there is, a sample shows how live writes it.
    """
    store = None if price is None else Store(key=Key(["sku"]), fields={"sku": Field("code"), "price": price})
    rows = [[f"QA-{number}", f"Frame {number}", f"{number % 90 + 1}.50"] for number in range(20_000)]
    live = put("live.csv", written((["sku", "name", "price"], rows)))
    rows[7][1], rows[500][1] = "Frame, deep", "Frame, shallow"
    sheet = put("sheet.csv", written((["sku", "name", "price"], rows[::-1])))
    from neat_delta.files.readers.deferred import TextRecords

    with (
        by_records_of(4096, rows=8, columns=3),
        mock.patch.object(
            TextRecords, "_read_columns", autospec=True, side_effect=TextRecords._read_columns
        ) as columns,
        mock.patch.object(TextRecords, "_keep", autospec=True, side_effect=TextRecords._keep) as kept,
    ):
        changes = neat_delta.compare(live, sheet, store=store)
    assert [item.key["sku"] for item in changes.iter_items()] == ["QA-7", "QA-500"]
    assert [call.args[2].height for call in kept.call_args_list] == ([2, 2] if store is None else [2, 2, 999, 18])
    assert [call.args[1] for call in columns.call_args_list] == [["sku", "name"]]  # of live, once


def test_a_file_that_changes_meanwhile_is_an_error(put):
    path = put("live.csv", LIVE)
    with by_records_of(1 << 22):
        live = read(path, deferred=True)
        os.utime(path, ns=(1, 1))
        with pytest.raises(FileError, match=r"live\.csv: it was changed while it was being read"):
            live.column("sku")


def test_a_file_that_is_put_in_its_place_is_no_matter(put, tmp_path):
    path = put("live.csv", LIVE)
    with by_records_of(1 << 22):
        live = read(path, deferred=True)
        (tmp_path / "new.csv").write_text("sku,name,price\nQB-1,Wax,2.00\n")
        (tmp_path / "new.csv").replace(path)
        assert live.column("name")[30] == "Jar, small"


def test_a_sheet_that_is_mostly_another_text_is_read_by_itself(put):
    """As nothing is gained by looking for its rows among live's: a glance at its beginning says so, and all of it."""
    rows = [[f"QA-{number}", f"{number}.50"] for number in range(400)]
    live, other = put("live.csv", written((["sku", "price"], rows))), [[key, "9.90"] for key, _ in rows]
    for glance in (1, 1 << 30):
        with by_records_of(rows=8), mock.patch.object(sizes, "RECORDS_AT_A_GLANCE", glance):
            first = read(live, deferred=True)
            sheet = read(put("sheet.csv", written((["sku", "price"], other))), like=first, deferred=True)
            assert (first.way, sheet.way) == ("columns", "columns")
            assert sheet.cells.rows() == [tuple(row) for row in other]


def test_rows_that_repeat_by_the_thousand_meet_once(put):
    """As the blank rows that a spreadsheet leaves at the end: not each in one file with each in the other."""
    rows = [["QA-1", "9.90"], ["QA-2", "7.50"], *([["", ""]] * 3000)]
    live, met = put("live.csv", written((["sku", "price"], rows))), list[int]()

    def counted(*tables: Any) -> pl.DataFrame:
        met.append(met_by_hash(*tables).height)
        return met_by_hash(*tables)

    rows[0] = ["QA-1", "10.50"]
    with by_records_of(), mock.patch.object(records, "met_by_hash", counted):
        changes = neat_delta.compare(live, put("sheet.csv", written((["sku", "price"], rows))), key="sku")
    assert met == [len(rows) - 1] and changes["QA-1"].cells == {"price": ("9.90", "10.50")}


def test_the_program_says_which_way_was_taken(run, put):
    """A base is told apart, too; with columns in another order, all is read: at once, or, where that takes more memory
    than there may be, a few columns at a time. The change set is the same.
    """
    put("live.csv", LIVE.replace("5.00", "6.00"))
    put("base.csv", LIVE)
    put("sheet.csv", LIVE.replace("Jar", "Pot"))
    rows = [row[::-1] for row in csv.reader(io.StringIO(LIVE.replace("Jar", "Pot")))]
    put("turned.csv", written((rows[0], rows[1:])))
    with by_records_of(1 << 22):
        for sheet, way, *memory in (
            ("sheet.csv", "records"),
            ("turned.csv", "whole"),
            ("turned.csv", "columns", "--memory", "1KB"),
            ("sheet.csv", "records", "--memory", "1KB"),
        ):
            words = ("compare", "live.csv", sheet, "--base", "base.csv", "--key", "sku", "--json", *memory)
            facts = json.loads(run(*words).stdout)
            assert (facts["read"], facts["to_send"], facts["header"]["counts"]["changed"]) == (way, 1, 1)


def test_where_every_price_is_raised_nothing_is_told_apart(put):
    """As a glance at both files shows, so that no time is lost on it; whatever the order of the rows."""
    rows = [[f"QA-{number}", f"{number}.50"] for number in range(60)]
    live = put("live.csv", written((["sku", "price"], rows)))
    raised = [[key, f"{price}1"] for key, price in rows]
    for edited, alike in (
        (raised, set()),
        (raised[::-1], set()),
        (rows[::-1], {live, str(Path(live).with_name("s.csv"))}),
    ):
        assert files_alike(live, put("s.csv", written((["sku", "price"], edited)))) == alike


def test_of_long_files_in_any_order_as_much_is_looked_at_as_makes_rows_meet(put):
    """The first 64 KiB of a long file have hardly a row in common with those of a sheet that was sorted."""
    rows = [[f"QA-{number:06}", f"Hive {number}, with a lid and a floor of pine", "9.90"] for number in range(150_000)]
    live, other = put("live.csv", written((["sku", "name", "price"], rows))), list(rows)
    random.Random(5).shuffle(other)
    edited = [[key, name, "9.95" if number % 25 == 0 else price] for number, (key, name, price) in enumerate(other)]
    sheet = put("sheet.csv", written((["sku", "name", "price"], edited)))
    assert files_alike(live, sheet) == {live, sheet}
    raised = [[key, name, "9.95"] for key, name, _ in other]
    assert files_alike(live, put("raised.csv", written((["sku", "name", "price"], raised)))) == set()


def test_of_files_that_are_alike_no_command_reads_all_columns(run, put):
    """Of two sides, of three, of an export afterwards: only the rows that differ, and the columns of these cells."""
    names = ["sku", "price", *(f"field_{number}" for number in range(20))]
    rows = [[f"QA-{number}", "9.90", *(f"{number}-{at}" for at in range(20))] for number in range(400)]

    def changed(step: int, price: str) -> str:
        return written((names, [[row[0], price, *row[2:]] if n % step == 0 else row for n, row in enumerate(rows)]))

    put("base.csv", written((names, rows)))
    put("live.csv", changed(50, "9.95"))
    put("sheet.csv", changed(60, "10.50"))
    asked, was = list[set[str]](), TextRecords._read_columns

    def noted(source: TextRecords, headings: list[str]) -> pl.DataFrame:
        asked.append({*headings})
        return was(source, headings)

    large = {"BYTES_INDEXED": 0, "RECORDS_AT_A_GLANCE": 1 << 30}
    with mock.patch.dict(vars(sizes), large), mock.patch.object(TextRecords, "_read_columns", noted):
        for call in (
            ("compare", "base.csv", "sheet.csv", "-o", "two.jsonl"),
            ("compare", "live.csv", "sheet.csv", "--base", "base.csv", "-o", "three.jsonl"),
            ("confirm", "two.jsonl", "sheet.csv"),
        ):
            assert run(*call, *(["--key", "sku"] if call[0] == "compare" else [])).returncode in {0, 1}
            assert asked and all(headings <= {"sku", "price"} for headings in asked), (call, asked)
            asked.clear()


@pytest.mark.parametrize("share", [0.3, 1.0])
def test_where_many_rows_differ_in_a_field_no_other_is_read_for_it(put, share):
    """However many they are: all else of the rows is compared by a hash of each, and nothing of it is kept."""
    names = ["sku", "stock", *(f"field_{number}" for number in range(20))]
    rows = [[f"QA-{number}", "100", *(f"{number}-{at}" for at in range(20))] for number in range(12_000)]
    live, kept = put("live.csv", written((names, rows))), list[set[str]]()
    edited = [
        [key, "7" if number < share * len(rows) else stock, *rest] for number, (key, stock, *rest) in enumerate(rows)
    ]
    edited[5][4] = "a name of its own"
    random.Random(3).shuffle(edited)
    was = TextRecords._by_pieces

    def noted(source: TextRecords, headings: list[str], of_piece: Any = None) -> pl.DataFrame:
        table = was(source, headings, of_piece)
        kept.append({*table.columns} - {HASH})
        return table

    sheet = put("sheet.csv", written((names, edited)))
    with (
        by_records_of(1 << 22, rows=8, columns=3),
        mock.patch.object(sizes, "CELLS_COMPARED_AT_ONCE", 0),
        mock.patch.object(TextRecords, "_by_pieces", noted),
        memory_at_most(1),
    ):
        changes = neat_delta.compare(live, sheet, key="sku")
    assert len(changes) == share * len(rows) and "field_2" in changes["QA-5"].cells
    assert set[str]().union(*kept) == {"sku", "stock"}


def test_how_far_the_reading_is_is_said_piece_by_piece(put):
    """Of each file the bytes from its header to its end, in one go through it after another; and not a piece twice."""
    rows = [[f"QA-{number}", f"Hive {number}", "9.90"] for number in range(400)]
    text = written((["sku", "name", "price"], rows))
    live, seen = put("live.csv", text), list[Progress]()
    with by_records_of(997), shown_by(seen.append):
        read(live, deferred=True).column("price")
    done = [progress.done for progress in seen]
    ends = [place for place, (now, then) in enumerate(pairwise([*done, 0])) if then < now]
    assert {(progress.what, progress.unit, progress.total) for progress in seen} == {("live.csv", "bytes", len(text))}
    assert [done[place] for place in ends] == [len(text) - 1, len(text) - 1]  # without the last line end
    assert len(done) > 10


def test_no_columns_at_all_are_none(put):
    """Of a table at hand as of one that is read later: an empty list of names is no list of rows."""
    with by_records_of(1 << 22):
        deferred = read(put("live.csv", LIVE), deferred=True)
    for catalogue in (deferred, read(put("live.csv", LIVE))):
        assert catalogue.select([]).shape == catalogue.rows([0, 1], []).shape == catalogue.sample([], 2).shape == (0, 0)
        assert catalogue.narrowed([]).fields == []


@pytest.mark.parametrize("size", ["lots", "0GB", "2 XB", "-1GB", ""])
def test_what_is_no_size_is_refused(run, put, size):
    put("live.csv", LIVE)
    failed = run("compare", "live.csv", "live.csv", "--memory", size)
    assert failed.returncode == 2 and f"{size!r} is no size; write it like 2GB or 800MB." in failed.stderr


@pytest.mark.parametrize(("words", "told"), [(["--memory", "2GB"], True), (["--memory=2GB"], True), (["--all"], False)])
def test_where_memory_is_told_what_is_freed_is_given_back(words, told):
    """The engine's allocator is told so before it loads, unless the environment says something else."""
    code = f"import os, sys; sys.argv += {words}; import neat_delta.start; print(os.environ.get('_RJEM_MALLOC_CONF'))"
    bare = {name: value for name, value in environment().items() if name != "_RJEM_MALLOC_CONF"}  # Polars sets it here
    for given, kept in (
        ({}, "dirty_decay_ms:0,muzzy_decay_ms:0" if told else "None"),
        ({"_RJEM_MALLOC_CONF": "narenas:2"}, "narenas:2"),
    ):
        done = subprocess.run(
            [sys.executable, "-c", code], env=bare | given, capture_output=True, text=True, check=True
        )
        assert done.stdout.strip() == kept


def test_half_of_what_is_free_is_for_tables(put, tmp_path):
    """Of the machine, or of the group that the system holds the process to, whichever has less. What the group has of
    files that were read is free.
    """
    live = put("live.csv", LIVE)
    group = {"limit": "4000", "without": "max", "taken": "2500", "memory.stat": "anon 1000\ninactive_file 1500"}
    for name, content in group.items():
        (tmp_path / name).write_text(f"{content}\n")
    limited, without = ((str(tmp_path), name, "taken", "inactive_file") for name in ("limit", "without"))
    none = ("/no/such/group", "limit", "taken", "inactive_file")
    with mock.patch.object(footprint, "CGROUPS", [none, without]):
        of_machine = footprint.memory_allowed()
    with mock.patch.object(footprint, "CGROUPS", [none, without, limited]):
        assert footprint.memory_allowed() == 1500 < of_machine
        needed = memory_of(2 * len(LIVE), LIVE)
        with mock.patch.object(sizes, "BYTES_ANY_MACHINE_HAS", needed):
            assert files_read_later(live, put("none.csv", "code\n")) == set()
        with mock.patch.object(sizes, "BYTES_ANY_MACHINE_HAS", 0):
            other = put("other.csv", LIVE.replace("sku", "code"))
            assert needed > 1500 and files_read_later(live, other) == {live, other}


def test_what_takes_more_memory_than_is_free_is_not_begun(put):
    """Said before it is read, of what can only be read as a whole; delimited text is read a few columns at a time."""
    objects, text = put("live.json", '[{"sku": "QA-1", "price": "9.90"}]'), put("live.csv", LIVE)
    with mock.patch.object(footprint, "memory_free", lambda: 200), mock.patch.object(sizes, "BYTES_ANY_MACHINE_HAS", 0):
        with pytest.raises(CatalogueError, match=r"some 0\.0 GB of memory, and 0\.0 GB are free\. Save it"):
            read(objects)
        assert read(text).height == 93
    with mock.patch.object(footprint, "memory_free", lambda: 300):
        assert read(objects).height == 1
