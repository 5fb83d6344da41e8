"""Whole rounds through a practice store with faults, over HTTP: what went wrong is named, and nothing else; what is
sent again until it is done comes to the target, and what is taken back to live.
"""

from __future__ import annotations

import random
from collections import Counter
from decimal import Decimal
from pathlib import Path
from typing import Any, get_args

import msgspec
import pytest

import neat_delta
from neat_delta import ChangeSet, Field, Importer, Key, ResultsForm, Store
from neat_delta.core.base.model.importer import Removal
from neat_delta.core.base.model.store import CheckName
from neat_delta.core.outcomes.unsent import as_sent
from neat_delta.files.whole import Loaded
from neat_delta.practice.faults import NO_FAULTS, faults_of
from neat_delta.practice.shop import Shop
from tests.conftest import first_of, some_of
from tests.oracle import catalogue
from tests.practice import Served, served

RESULTS = ResultsForm(
    key=["sku"], row="row", status="status", done=["done"], warned=["warned"], skipped=["skipped"],
    refused=["refused"], message="message", ids=["item"],
)  # fmt: skip
FIELDS = {
    "sku": Field("code"),
    "name": Field(),
    "price": Field("money"),
    "stock": Field("integer", moving=True),
    "note": Field(),
}
NAMES = ["Veil", "Smoker, large", "Hat", "Jar 28 ml", "蜜罐", 'say "when"', "Frame 1 3/8"]
HEADINGS = list(FIELDS)


@pytest.fixture(scope="module")
def server():
    with served() as one:
        yield one


@pytest.fixture
def folder(tmp_path):
    return tmp_path


def _row(rng: random.Random, sku: str) -> list[str]:
    price = f"{rng.randint(1, 99)}.{rng.randint(0, 99):02}"
    return [sku, rng.choice(NAMES), price, str(rng.randint(0, 40)), rng.choice(["", "x", "two\nlines", "é"])]


def _importer(rng: random.Random) -> Importer:
    blanks: Any = rng.choice(["skip", "clear"])
    return Importer(
        blanks=blanks,
        empties="(none)" if blanks == "skip" else None,
        removal=Removal("row"),
        most_rows=rng.choice([None, None, 20]),
        carries=rng.choice([[], ["name"]]),
        adjusted=rng.choice([[], ["stock"]]),
        form=rng.choice(["delimited", "delimited", "json", "json lines", "xml", "merge patch", "json patch"]),
    )


def _rounds(rng: random.Random, together: int) -> tuple[list[list[str]], list[list[str]]]:
    """Rounds side by side in one catalogue, each with keys of its own: as dear as one by itself."""
    rounds = [_round(rng, f"{n}-") for n in range(together)]
    live, sheet = ([row for one in rounds for row in one[side]] for side in (0, 1))
    rng.shuffle(sheet)
    return live, sheet


def _round(rng: random.Random, start: str) -> tuple[list[list[str]], list[list[str]]]:
    """A catalogue, and a sheet of it that was edited: cells, items that are gone, new ones."""
    skus = [f"{start}QA-{n}" for n in rng.sample(range(1, 40), rng.randint(3, 8))]
    live = [_row(rng, sku) for sku in skus]
    sheet = []
    for row in live:
        if rng.random() < 0.1:
            continue
        fresh = _row(rng, row[0])
        cells = [new if rng.random() < 0.4 else old for old, new in zip(row, fresh, strict=True)]
        sheet.append([*cells[:4], "" if rng.random() < 0.1 else cells[4]])
    sheet += [_row(rng, f"{start}NEW-{n}") for n in range(rng.randint(0, 2))]
    return live, sheet


def _faults(rng: random.Random, keys: list[str]):
    said: dict[str, Any] = {
        "refuse": rng.sample(keys, rng.randint(0, len(keys) // 6)) + (["price > 90"] if rng.random() < 0.2 else []),
        "rounded": rng.choice([[], [], ["price:0"], ["price:1"]]),
        "cut": rng.choice([[], [], ["name:4"]]),
        "drop": rng.choice([None, None, "30%"]),
        "fail_after": rng.choice([None, None, None, rng.randint(1, 60)]),
        "busy": rng.random() < 0.2,
        "seed": rng.randint(0, 10**6),
    }
    return faults_of(**said, keys=keys, fields=HEADINGS)


def _post(server: Served, folder: Path, files, *, stops: bool = True) -> list[dict]:
    """Import files over HTTP in their order; what is said of each. A store that is busy is asked again."""
    reports = []
    for file in files:
        data = (folder / file.file).read_bytes()
        where = {"name": file.file, "action": file.action}
        headers = {"Content-Type": "application/octet-stream"}
        answer = server.http.post("/import", params=where, content=data, headers=headers)
        if answer.status_code == 429:
            assert answer.headers["Retry-After"] == "1"
            answer = server.http.post("/import", params=where, content=data, headers=headers)
        assert answer.status_code in {200, 500}, answer.text
        reports.append(answer.json())
        if answer.status_code == 500:
            assert reports[-1]["stopped"] and stops
            break
    return reports


def _export(server: Served) -> neat_delta.Catalogue:
    data = server.http.get("/export.csv").content
    return neat_delta.read(Loaded("after.csv", data, lambda: "0"))


def _table(server: Served, number: int):
    data = server.http.get(f"/results/{number}.csv").content
    return neat_delta.read(Loaded(f"{number}.csv", data, lambda: "0")).cells


@pytest.mark.parametrize("hundred", first_of(some_of(range(10), 5), few=1))
def test_faults_are_named_and_nothing_else(hundred, server, folder):
    """A hundred rounds: by default fifty together, with seeds that draw every sort of fault between them; in the
    campaign twenty.
    """
    ends, together = Counter[str](), 20 if hundred else 50
    for seed in range(hundred * 5, hundred * 5 + 5) if hundred else (13, 15):
        try:
            ends += _played(random.Random(seed), server, folder / str(seed), together)
        except Exception as error:
            raise AssertionError(f"seed {seed}: {error!r}") from error
    every = ("altered", "dropped", "not mentioned") if not hundred else ()
    assert all(ends[one] for one in ("refused", "sent again", *every))


def _played(rng: random.Random, server: Served, folder: Path, together: int) -> Counter:
    live_rows, sheet_rows = _rounds(rng, together)
    importer = _importer(rng)
    store = Store(key=Key(["sku"]), fields=FIELDS, importer=importer, results=RESULTS)
    live = catalogue((HEADINGS, live_rows), "live.csv")
    sheet = catalogue((HEADINGS, sheet_rows), "sheet.csv")
    asked: dict[str, Any] = {"with_new": True, "with_gone": True, "blanks": "clear", "whole": True}
    changes: ChangeSet = neat_delta.compare(live, sheet, store=_without_checks(store), **asked)
    manifest = neat_delta.write_updates(changes, live, importer, str(folder))
    changes = as_sent(changes, manifest)
    shop = server.open(Shop(live, store))
    faults = _faults(rng, [row[0] for row in live_rows + sheet_rows])
    shop.with_faults(faults)
    reports = _post(server, folder, manifest.update)
    after = _export(server)
    tables = [(f"{one['import']}.csv", _table(server, one["import"])) for one in reports]
    rows = neat_delta.file_rows(str(folder), changes, live, manifest)
    said = neat_delta.results(changes, tables, store, rows) if tables else None
    result = neat_delta.confirm_changes(changes, live, after, store)
    besides = _hold(changes, result, live, after, reports, said)
    again = _until_done(changes, live, after, store, server, folder, shop, rng)
    shop.with_faults(NO_FAULTS)
    _undone(changes, live, store, server, folder, live_rows, besides)
    ends = Counter({"sent again": again})
    if said is not None:
        ends += Counter(said.counts)
        both = neat_delta.witnesses(changes, said, result)
        ends["dropped"] += both.counts.get(("done", "not landed"), 0)
    ends["altered"] += result.counts["differently"]
    return ends


def _without_checks(store: Store) -> Store:
    return msgspec.structs.replace(store, checks=dict.fromkeys(get_args(CheckName), "off"))


def _same(field: str, one: str, other: str) -> bool:
    if field in {"price", "stock"} and one.strip() and other.strip():
        return Decimal(one) == Decimal(other)
    return one.strip() == other.strip()


def _hold(changes, result, live, after, reports, said) -> set[tuple[str, str]]:
    """Hold what is said and seen against what the store really has, cell by cell; the cells that are otherwise though
    nobody meant it: the store cut or rounded what was only carried along.
    """
    there = {row["sku"]: row for row in after.cells.iter_rows(named=True)}
    wrong, items = set(), {}
    for item in changes.iter_items():
        sku = item.key["sku"]
        held = {one.field for one in item.held}
        if None in held:
            continue
        items[sku] = item
        if item.verdict == "gone":
            wrong |= {(sku, None)} if sku in there else set()
        elif item.verdict == "new" and item.cells.keys() <= held:  # with nothing but its key
            wrong |= {(sku, None)} if sku not in there else set()
        for field, (_, meant) in item.cells.items() if item.verdict != "gone" else ():
            if field not in held and (sku not in there or not _same(field, there[sku][field], meant or "")):
                wrong.add((sku, field))
    assert {(one.key["sku"], one.field) for one in result.trouble} == wrong
    besides = set()
    for row in live.cells.iter_rows(named=True):
        cells = items[row["sku"]].cells if row["sku"] in items else {}
        sent = {*cells} - {one.field for one in items[row["sku"]].held} if cells else set()
        now = there.get(row["sku"], {})
        besides |= {(row["sku"], field) for field in HEADINGS[1:] if now and field not in sent
                    and not _same(field, row[field], now[field])}  # fmt: skip
    assert {*result.other_changes.select("sku", "field").iter_rows()} == besides
    assert not result.twice and not result.came and not result.went
    if said is None:
        return besides
    worst: dict[str, str] = {}
    order = ["done", "warned", "skipped", "refused"]
    for report in reports:
        for row in report["rows"]:
            worst[row["sku"]] = max(worst.get(row["sku"], "done"), row["status"], key=order.index)
    numbers = {changes.keys["sku"][number]: one.status for number, one in said.by_item.items()}
    sent = {
        sku
        for sku, item in items.items()
        if item.verdict in {"gone", "new"} or {*item.cells} - {h.field for h in item.held}
    }
    assert {*numbers} == sent
    assert numbers == {sku: worst.get(sku, "not mentioned") for sku in sent}
    assert not said.others and not said.repeated and not said.aside
    return besides


def _until_done(changes, live, after, store, server, folder, shop, rng) -> int:
    """Send again what did not land until all of it has; how often that took."""
    times = 0
    while True:
        result = neat_delta.confirm_changes(changes, live, after, store)
        if result.all_landed:
            return times
        times += 1
        assert times < 8
        last = times > 1
        keys = list(after.cells["sku"])
        shop.with_faults(NO_FAULTS if last else faults_of(drop="30%", seed=rng.randint(0, 999), keys=keys))
        again, export = neat_delta.retry(changes, after, result, store, altered=True)
        place = folder.with_name(f"{folder.name}-{times}")
        manifest = neat_delta.write_updates(again, export, store.importer, str(place))
        assert not manifest.held
        _post(server, place, manifest.update, stops=False)
        after = _export(server)


def _undone(changes, live, store, server, folder, live_rows, besides) -> None:
    """Take it all back against what is there now: the store is as it was."""
    now = _export(server)
    back, base, left = neat_delta.undo(changes, live, now, store)
    assert not left
    place = folder.with_name(f"{folder.name}-back")
    manifest = neat_delta.write_updates(back, base, store.importer, str(place))
    _post(server, place, manifest.update, stops=False)
    there = sorted(_export(server).cells.rows())
    one_way = {(one.key["sku"], one.field) for one in manifest.one_way} | besides
    wanted = sorted(tuple(row) for row in live_rows)
    assert [row[0] for row in there] == [row[0] for row in wanted]
    for row, before in zip(there, wanted, strict=True):
        for field, one, other in zip(HEADINGS, row, before, strict=True):
            assert (row[0], field) in one_way or _same(field, one, other), (row, before)
