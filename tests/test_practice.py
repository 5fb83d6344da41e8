"""The practice store through its doors: the command, HTTP on loopback, and its pages in a real browser."""

from __future__ import annotations

import csv
import io
import json
import os
import random
import re
import signal
import sqlite3
import subprocess
import threading
import time
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import replace
from pathlib import Path
from urllib.parse import quote

import httpx
import polars as pl
import pytest
from selenium.common.exceptions import NoSuchElementException, StaleElementReferenceException
from selenium.webdriver.chrome.webdriver import WebDriver
from selenium.webdriver.common.by import By
from selenium.webdriver.common.keys import Keys
from selenium.webdriver.support import expected_conditions as expected
from selenium.webdriver.support.ui import WebDriverWait

import neat_delta
from neat_delta import Field, Importer, Key, Store, as_catalogue
from neat_delta.core.base.model.importer import CodeChange, OutputColumn, Removal
from neat_delta.core.base.support.errors import NeatDeltaError
from neat_delta.practice.faults import NO_FAULTS, Faults, faults_of
from neat_delta.practice.folder import import_folder
from neat_delta.practice.rehearse import rehearsal
from neat_delta.practice.shop import Shop
from tests.browser import browser, scheme
from tests.conftest import PROGRAM, environment, first_of, started
from tests.made import files_of_every_format
from tests.practice import Served, served
from tests.test_page import AXE, needs_axe, needs_browser

ROWS = [["QA-1", "Veil", "9.90", "4"], ["QA-2", "Smoker, large", "20.00", "7"], ["a/b~c", "Hat", "3.00", "0"]]
STORE = Store(
    key=Key(["sku"], name="name"),
    fields={"sku": Field("code"), "price": Field("money"), "stock": Field("integer", moving=True)},
    importer=Importer("skip", removal=Removal("row"), code_change=CodeChange("row", "new_sku")),
)


def shop_of(store: Store = STORE, faults: Faults = NO_FAULTS, keep: str | None = None) -> Shop:
    live = as_catalogue({name: [row[n] for row in ROWS] for n, name in enumerate(["sku", "name", "price", "stock"])})
    return Shop(live, store, keep=keep).with_faults(faults)


@pytest.fixture(scope="module")
def server() -> Iterator[Served]:
    with served() as one:
        yield one


@pytest.fixture
def http(server: Served) -> httpx.Client:
    server.open(shop_of())
    return server.http


def post(http: httpx.Client, text: str | bytes, **params: str) -> httpx.Response:
    data = text if isinstance(text, bytes) else text.encode()
    return http.post("/import", params=params, content=data, headers={"Content-Type": "text/csv"})


def prices(http: httpx.Client) -> dict[str, str]:
    return {row["sku"]: row["price"] for row in csv.DictReader(io.StringIO(http.get("/export.csv").text))}


def test_import_check_results_and_history(http):
    tried = post(http, "sku,price\nQA-1,10.50\nQA-2,\nX,1.00\n", check="1").json()
    assert tried["checked"] and tried["counts"] == {"done": 3} and prices(http)["QA-1"] == "9.90"
    done = post(http, "sku,price\nQA-1,10.50\nQA-2,\nX,1.00\n").json()
    assert [(row["sku"], row["status"]) for row in done["rows"]] == [("QA-1", "done"), ("QA-2", "done"), ("X", "done")]
    assert prices(http) == {"QA-1": "10.50", "QA-2": "20.00", "a/b~c": "3.00", "X": "1.00"}
    report = list(csv.DictReader(io.StringIO(http.get(done["results"]).text)))
    assert report[0] == {"file": "import", "row": "2", "sku": "QA-1", "status": "done", "message": "", "item": "1"}
    assert [(one["by"], one["field"], one["after"]) for one in http.get("/history").json()] == [
        ("import 1", None, "added"),
        ("import 1", "price", "10.50"),
    ]
    recoded = post(http, "sku,new_sku\nX,Y\nQA-1,QA-2\n").json()  # what it is for is told by its headings
    assert recoded["counts"] == {"done": 1, "refused": 1} and "Y" in prices(http)
    gone = post(http, "sku\nY\nnone\n", action="remove").json()
    assert gone["counts"] == {"done": 1, "refused": 1} and "Y" not in prices(http)
    upload = http.post("/import", files={"file": ("u.csv", b"sku,price\nQA-1,11.00\n")}, data={"check": "1"})
    assert upload.json()["file"] == "u.csv" and upload.json()["checked"]


def test_exports_in_three_forms_and_of_a_part(http):
    assert (
        http.get("/export.csv", params={"fields": "price", "where": "price > 5"}).text
        == "sku,price\nQA-1,9.90\nQA-2,20.00\n"
    )
    lines = [json.loads(line) for line in http.get("/export.jsonl").text.splitlines()]
    assert lines[2] == {"sku": "a/b~c", "name": "Hat", "price": "3.00", "stock": "0"}
    assert http.get("/export.xlsx").content[:2] == b"PK"
    for wrong, said in (({"fields": "colour"}, "no field"), ({"where": "price >"}, "condition")):
        answer = http.get("/export.csv", params=wrong)
        assert answer.status_code == 422 and said in answer.json()["error"]


def test_patches_of_both_kinds_with_an_etag(http):
    item = http.get("/items/a~1b~0c")
    tag, merge = item.headers["ETag"], {"Content-Type": "application/merge-patch+json"}
    assert item.json()["name"] == "Hat"
    done = http.patch("/items/a~1b~0c", json={"price": "3.50", "stock": None}, headers=merge | {"If-Match": tag})
    assert done.json()["price"] == "3.50" and done.json()["stock"] == "" and done.headers["ETag"] != tag
    stale = http.patch("/items/a~1b~0c", json={"price": "4"}, headers=merge | {"If-Match": tag})
    assert stale.status_code == 412 and "meanwhile" in stale.json()["error"]
    steps = [{"op": "test", "path": "/price", "value": "3.50"}, {"op": "replace", "path": "/name", "value": "Cap"}]
    kind = {"Content-Type": "application/json-patch+json"}
    assert http.patch("/items/a~1b~0c", json=steps, headers=kind).json()["name"] == "Cap"
    steps[0]["value"] = "9"
    assert http.patch("/items/a~1b~0c", json=steps, headers=kind).status_code == 422
    assert http.patch("/items/QA-1", json={"colour": "red"}, headers=merge).status_code == 422
    assert http.patch("/items/QA-1", json={"sku": "QA-2"}, headers=merge).status_code == 422
    assert http.patch("/items/QA-1", json={"sku": None}, headers=merge).status_code == 422
    assert http.patch("/items/QA-1", json={}).status_code == 415
    assert http.patch("/items/none", json={}, headers=merge).status_code == 404


def test_it_describes_itself(http):
    described = http.get("/openapi.json").json()
    assert {*described["paths"]} == {
        "/export.csv", "/export.jsonl", "/export.xlsx", "/import", "/results/{number}.csv", "/history", "/items/{key}",
    }  # fmt: skip
    assert "multipart/form-data" in described["paths"]["/import"]["post"]["requestBody"]["content"]
    assert "page: " in http.get("/", params={"page": "two"}).json()["error"]
    assert http.get("/docs").status_code == 404  # which would come from another machine
    assert http.get("/").headers["X-Practice-Store"].startswith("a stand-in")


def test_strangers_are_refused(server):
    server.open(shop_of(), token="honey")
    with httpx.Client(base_url=server.url) as http:
        for headers, status in (
            ({"Host": "evil.example"}, 403),
            ({"Host": "10.0.0.7:8421"}, 403),
            ({"Origin": "http://evil.example", "Authorization": "Bearer honey"}, 403),
            ({"Origin": "null", "Authorization": "Bearer honey"}, 403),
            ({"Origin": "http://[", "Authorization": "Bearer honey"}, 403),
            ({}, 401),
            ({"Authorization": "Bearer wax"}, 401),
            ({"Authorization": "Bearer honey"}, 200),
        ):
            answer = http.get("/export.csv", headers=headers)
            assert answer.status_code == status, headers
            assert status == 200 or answer.json()["error"]
        assert http.get("/", headers={"Accept": "text/html"}).headers["location"] == "/sign-in"
        assert http.post("/sign-in", data={"token": "wax"}).status_code == 401
        assert http.post("/sign-in", data={"token": "honey"}).status_code == 303
        assert http.get("/").status_code == 200


BROKEN = {
    "quotes that do not end": b'sku,price\n"QA-1,10.50\n',
    "another encoding": b"sku,name\nQA-1,\xff\xfe\n",
    "too many cells": b"sku,price\nQA-1,1,2\n",
    "no key": b"price\n1.00\n",
    "no such field": b"sku,colour\nQA-1,red\n",
    "a heading twice": b"sku,price,price\nQA-1,1,1\n",
    "empty": b"",
}


@pytest.mark.parametrize("what", BROKEN)
def test_a_file_that_cannot_be_understood_changes_nothing(what, http):
    before = prices(http)
    answer = post(http, BROKEN[what])
    assert answer.status_code == 422 and answer.json()["error"] and prices(http) == before
    assert http.get("/results/1.csv").status_code == 404


def test_limits_of_rows_and_bytes(server):
    server.open(shop_of(Store(importer=Importer(most_rows=2, most_bytes=200))))
    assert post(server.http, "sku,price\nA,1\nB,1\nC,1\n").status_code == 413
    assert post(server.http, "sku,price\n" + "A,1\n" * 200).status_code == 413

    def unmeasured() -> Iterator[bytes]:
        yield from [b"x" * 1000] * 3

    assert server.http.post("/import", content=unmeasured()).status_code == 413  # no length is told


def test_faults_are_what_was_asked_for(server):
    faults = faults_of(
        refuse=["QA-2", "price>100"], rounded=["price:0"], cut=["name:4"], keys=["QA-1", "QA-2"],
        fields=["sku", "name", "price", "stock"], busy=True,
    )  # fmt: skip
    server.open(shop_of(faults=faults))
    text = "sku,name,price\nQA-1,Veil long,10.50\nQA-2,x,1\na/b~c,y,101\n"
    busy = post(server.http, text)
    assert busy.status_code == 429 and busy.headers["Retry-After"] == "1"
    rows = post(server.http, text).json()["rows"]
    assert [(row["status"], row["message"]) for row in rows] == [
        ("warned", "name was cut after 4 characters."),
        ("refused", "refused on demand: this item"),
        ("refused", "refused on demand: price>100"),
    ]
    assert prices(server.http) == {"QA-1": "11", "QA-2": "20.00", "a/b~c": "3.00"}


def test_it_stops_in_the_middle_once(server):
    server.open(shop_of(faults=Faults(fail_after=2)))
    text = "sku,price\nQA-1,1\nQA-2,2\na/b~c,3\n"
    stopped = post(server.http, text)
    assert stopped.status_code == 500 and stopped.json()["stopped"] and len(stopped.json()["rows"]) == 2
    assert prices(server.http) == {"QA-1": "1", "QA-2": "2", "a/b~c": "3.00"}
    assert "stopped in the middle" in server.http.get("/imports/1", headers={"Accept": "text/html"}).text
    assert post(server.http, text).json()["counts"] == {"done": 3}


def test_what_is_dropped_is_the_same_for_one_seed():
    def dropped(seed: int) -> list[bool]:
        return [Faults(dropped=faults_of(drop="30%").dropped, seed=seed).drops(1, row) for row in range(200)]

    assert dropped(1) == dropped(1) != dropped(2)
    assert 30 < sum(dropped(1)) < 90


def test_stock_is_sold_in_time():
    def sold(seed: int) -> list[tuple[str, ...]]:
        shop = shop_of(faults=Faults(sold=2, seed=seed))
        shop.sell(0.4)
        assert shop.shelf.table()["stock"].to_list() == ["4", "7", "0"]
        shop.sell(4)
        shop.sell(4)  # no more is due
        return shop.shelf.table().rows()

    assert sold(1) == sold(1) and any(sold(1) != sold(seed) for seed in range(2, 6))
    left = sum(int(row[3]) for row in sold(1))
    assert 11 > left >= 3


def test_two_imports_at_once_go_one_after_the_other(server):
    server.open(shop_of(faults=Faults(slow=0.02)))
    answers = []

    def one(price: str) -> None:
        with httpx.Client(base_url=server.url) as http:
            answers.append(post(http, f"sku,price\nQA-1,{price}\nQA-2,{price}\na/b~c,{price}\n").json())

    threads = [threading.Thread(target=one, args=(str(n),)) for n in range(1, 5)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert sorted(one["import"] for one in answers) == [1, 2, 3, 4]
    assert len({*prices(server.http).values()}) == 1  # never half of one and half of another
    order = [one["import"] for one in server.http.get("/history").json()]
    assert order == sorted(order, reverse=True)


@contextmanager
def program(folder: Path, *args: str, **extra: str) -> Iterator[tuple[subprocess.Popen, str]]:
    """The installed program as a server, and its address."""
    call = [str(PROGRAM), "practice", "live.csv", "--port", "0", *args]
    with started(
        [*call], cwd=folder, env=environment(**extra), stdout=subprocess.PIPE, stderr=subprocess.STDOUT
    ) as child:
        assert child.stdout is not None
        line = child.stdout.readline()
        address = re.search(r"http://127\.0\.0\.1:\d+", line)
        try:
            assert address, line
            while child.poll() is None:
                try:
                    httpx.get(address[0])
                    break
                except httpx.TransportError:
                    time.sleep(0.05)
            yield child, address[0]
        finally:
            child.kill()


LIVE = "sku,name,price,stock\n" + "".join(f"QA-{n},Jar,1.00,5\n" for n in range(40))


def _cut_off(address: str, text: str) -> None:
    with pytest.raises(httpx.HTTPError):
        httpx.post(f"{address}/import", content=text)


@pytest.mark.process
def test_killed_in_the_middle_nothing_is_half_done(put, tmp_path):
    """All of an import, or the rows that were said to be done: here it said nothing yet."""
    put("live.csv", LIVE)
    text = "sku,price\n" + "".join(f"QA-{n},2.00\n" for n in range(40))
    with program(tmp_path, "--keep", "shop.db", "--slow") as (child, address):
        assert httpx.post(f"{address}/import", content="sku,price\nQA-0,1.50\n").json()["counts"] == {"done": 1}
        thread = threading.Thread(target=_cut_off, args=(address, text))
        thread.start()
        time.sleep(0.8)
        os.kill(child.pid, signal.SIGKILL)
        thread.join()
    with program(tmp_path, "--keep", "shop.db") as (child, address):
        rows = list(csv.DictReader(io.StringIO(httpx.get(f"{address}/export.csv").text)))
        assert {row["price"] for row in rows} == {"1.50", "1.00"} and rows[0]["price"] == "1.50"
        child.send_signal(signal.SIGINT)
        assert child.wait(10) == 130


def test_what_is_kept_is_a_practice_stores(put, tmp_path):
    """A file of somebody else's is left as it is; a catalogue of other fields is no one to go on with."""
    other = put("notes.txt", "somebody's only copy, and longer than nothing")
    with pytest.raises(NeatDeltaError, match="no practice store's"):
        shop_of(keep=other)
    assert Path(other).read_text().startswith("somebody's")
    kept = str(tmp_path / "shop.db")
    shop_of(keep=kept).import_file(b"sku,price\nQA-1,1.00\n", "u.csv")
    assert shop_of(keep=kept).table()["price"][0] == "1.00"
    with pytest.raises(NeatDeltaError, match="other fields"):
        Shop(as_catalogue({"sku": ["QA-1"], "cost": ["1"]}), STORE, keep=kept)


def test_nobody_looks_into_the_middle_of_an_import(server):
    server.open(shop_of(faults=Faults(slow=0.1)))
    thread = threading.Thread(target=lambda: post(server.http, "sku,price\nQA-1,1\nQA-2,1\na/b~c,1\n"))
    thread.start()
    time.sleep(0.15)
    with httpx.Client(base_url=server.url, timeout=30) as http:
        page = http.get("/", headers={"Accept": "text/html"}).text
    thread.join()
    assert ("9.90" in page) == ("20.00" in page)


def test_a_fault_of_its_own_is_one_line(server, monkeypatch):
    server.open(shop_of())
    monkeypatch.setattr(Shop, "table", lambda *_: 1 / 0)
    answer = server.http.get("/export.csv")
    assert answer.status_code == 500 and answer.json()["error"].startswith("a fault in the practice store itself (Zero")


@pytest.mark.process
def test_the_server_by_its_command(put, tmp_path, run):
    put("live.csv", LIVE)
    with program(tmp_path, "--token-env", "HONEY", HONEY="secret") as (_, address):
        assert httpx.get(f"{address}/export.csv").status_code == 401
        assert httpx.get(f"{address}/export.csv", headers={"Authorization": "Bearer secret"}).text == LIVE
        port = address.rpartition(":")[2]
        taken = run("practice", "live.csv", "--port", port)
        assert taken.returncode == 2 and f"Port {port} cannot be used" in taken.stderr
    none = run("practice", "live.csv", "--token-env", "NO_SUCH")
    assert none.returncode == 2 and "There is no token" in none.stderr


def test_what_it_cannot_keep_is_one_line(put, run, tmp_path):
    put("live.csv", LIVE)
    put("folder/x", "") if (tmp_path / "folder").mkdir() else None
    with sqlite3.connect(tmp_path / "other.db") as other:
        other.execute("CREATE TABLE items (id INTEGER)")
    before = (tmp_path / "other.db").read_bytes()
    for place, said in (
        ("no/such/shop.db", "there is no such folder"),
        ("folder", "there is no such folder to keep a file in, or it is one"),
        ("other.db", "this is no practice store's"),
        ("live.csv", "this is no practice store's"),
        ("/dev/full", "it cannot be written (database or disk is full)"),
    ):
        done = run("practice", "live.csv", "--keep", place, "--port", "0")
        assert done.returncode == 2 and said in done.stderr and done.stderr.count("\n") == 1, (place, done.stderr)
    assert (tmp_path / "other.db").read_bytes() == before


@pytest.mark.process
def test_a_full_disk_is_one_line(put, tmp_path):
    """A file system without room is a limit on how large a file may grow."""
    put("live.csv", LIVE.replace("Jar", "Jar" * 5_000))
    call = f"ulimit -f 100; trap '' XFSZ; {PROGRAM} practice live.csv --keep shop.db --port 0"
    done = subprocess.run(["bash", "-c", call], cwd=tmp_path, capture_output=True, text=True, timeout=60, check=False)
    assert done.returncode == 2 and "shop.db: it cannot be written" in done.stderr, done.stderr
    assert done.stderr.count("\n") == 1


def test_sales_without_end_come_to_an_end(put, run, tmp_path):
    put("live.csv", LIVE)
    run("compare", "live.csv", put("sheet.csv", "sku,price\nQA-1,2.00\n"), "-o", "c.jsonl")
    run("write", "c.jsonl", "--to", "out")
    done = run("practice", "live.csv", "--import", "out", "--to", "p", "--sell", "99999/min")
    assert done.returncode == 0, done.stderr
    for rate in ("1000000/min", "9" * 5000 + "/min", "-1/min"):
        done = run("practice", "live.csv", "--import", "out", "--to", "q", "--sell", rate)
        assert done.returncode == 2 and done.stderr.count("\n") == 1


def test_what_a_row_leaves_blank_is_not_rounded(put, run, tmp_path):
    put("live.csv", "sku,price,cost\nA,1.25,1.00\nB,2.25,1.00\n")
    run("compare", "live.csv", put("sheet.csv", "sku,price,cost\nA,1.35,1.00\nB,2.25,1.10\n"), "-o", "c.jsonl",
        "--accept", "large-round")  # fmt: skip
    run("write", "c.jsonl", "--to", "out", "--importer-blanks", "skip")
    run("practice", "live.csv", "--import", "out", "--to", "p", "--round", "price:0")
    assert (tmp_path / "p" / "after.csv").read_text() == "sku,price,cost\nA,1,1.00\nB,2.25,1.10\n"


NASTY = [
    "",
    "0",
    "1",
    "-1",
    "9" * 30,
    "1e999",
    "\0",
    "\ufeff",
    "'",
    '"',
    "%",
    "{",
    "[",
    "[" * 2_000,
    '{"a":' * 2_000,
    "price > 1",
    "price >",
    "(" * 500 + "price" + ")" * 500,
    "NOT " * 300 + "price",
    "price IN ()",
    "sku LIKE '%'",
    "x" * 5_000,
    "sku,price\nQA-1,1\n",
    "sku\n",
    "sku,price\n",
    ",\n,",
    "sku,new_sku\nQA-1,QA-2\n",
    "<a>",
    "PK\x03\x04",
    "é",
    "🐝",
    "change",
    "add",
    "recode",
    "remove",
    "../..",
    "a/b~c",
    "~1~0",
    "QA-1",
    "price",
    "name,price",
    "null",
    "true",
    '{"price":"1"}',
    '[{"op":"replace","path":"/price","value":"2"}]',
    '[{"op":"copy"}]',
    '{"price":{"a":[]}}',
    '{"nope":"1"}',
    "{}",
    "[]",
    '--b\r\nContent-Disposition: form-data; name="file"; filename="u.csv"\r\n\r\nsku,price\nQA-1,3\n\r\n--b--\r\n',
    "--b",
    "waiting=",
    "waiting=1",
    "token=",
]
PLACES = [
    "/",
    "/import",
    "/imports",
    "/imports/1",
    "/results/1.csv",
    "/history",
    "/items/QA-1",
    "/items/a~1b~0c",
    "/sign-in",
    "/export.csv",
    "/export.jsonl",
    "/export.xlsx",
    "/openapi.json",
    "/page.css",
    "/items/",
    "/nothing",
]
KINDS = [
    "text/csv",
    "application/json",
    "application/merge-patch+json",
    "application/json-patch+json",
    "text/html",
    "",
    "multipart/form-data; boundary=b",
    "multipart/form-data",
    "application/x-www-form-urlencoded",
]


@pytest.mark.parametrize("drawn", first_of([(0, 100), (0, 250), *((seed, 1_000) for seed in range(1, 4))], few=1))
def test_nothing_that_is_asked_breaks_it(server, drawn):
    """Requests drawn from nasty parts: each is answered, and none is a fault of the store's own."""
    seed, many = drawn
    rng = random.Random(seed)
    server.open(shop_of())
    for _ in range(many):
        names = rng.sample(["q", "page", "fields", "where", "check", "action", "name"], 2)
        words = {name: rng.choice(NASTY) for name in names}
        place = rng.choice([*PLACES, "/items/" + quote(rng.choice(NASTY)[:200], safe="~")])
        headers = {"Content-Type": rng.choice(KINDS), "If-Match": rng.choice(["*", '"x"', ""])}
        headers |= {"Accept": "text/html"} if rng.random() < 0.3 else {}
        body = "".join(rng.sample(NASTY, rng.choice([1, 1, 2]))).encode("utf-8", "replace")
        verb = rng.choice(["GET", "GET", "POST", "PATCH", "PUT"])
        answer = server.http.request(
            verb, place, params=words, headers=headers, content=body if verb != "GET" else None
        )
        assert answer.status_code < 500, (verb, place, words, headers, body[:200], answer.text[:300])
    assert server.http.get("/export.csv").status_code == 200


def test_a_rehearsal_is_one_command(put, run, tmp_path):
    put("live.csv", LIVE)
    put("sheet.csv", LIVE.replace("QA-3,Jar,1.00", "QA-3,Jar,2.00").replace("QA-4,Jar,1.00", "QA-4,Jar,2.50"))
    put("neat-delta.toml", 'version = 1\n[relations]\nstock = "stock"\n')
    run("compare", "live.csv", "sheet.csv", "-o", "c.jsonl")
    assert "Rehearsed: a practice store took every row" in run("write", "c.jsonl", "--to", "out", "--rehearse").stdout
    fine = run("practice", "live.csv", "--import", "out", "--to", "r")
    assert fine.returncode == 0 and "  update-1.csv: 2 done\n" in fine.stdout
    assert run("confirm", "c.jsonl", "r/after.csv", "--files", "out", "--results", "r/results.csv").returncode == 0
    assert "confirm c.jsonl r/after.csv --files out --results r/results.csv" in fine.stdout
    put("r/results.csv", "somebody's only copy")
    assert run("practice", "live.csv", "--import", "out", "--to", "r").returncode == 2
    again = ("practice", "live.csv", "--import", "out", "--to", "r", "--replace")
    facts = json.loads(run(*again, "--refuse", "QA-3", "--sell", "20/min", "--json").stdout)
    assert facts["counts"] == {"refused": 1, "done": 1}
    moved = json.loads(run("confirm", "c.jsonl", "r/after.csv", "--results", "r/results.csv", "--json").stdout)
    assert [one["key"]["sku"] for one in moved["trouble"]] == ["QA-3"] and all(
        one["field"] == "stock" for one in moved["moved"]
    )
    back = run("practice", "r/after.csv", "--import", "out", "--undo", "--to", "b")
    assert back.returncode == 0 and (tmp_path / "b" / "after.csv").read_text() != LIVE  # stock was sold
    for wrong, said in (
        (("--round", "price"), "is not FIELD:NUMBER"),
        (("--cut", "colour:4"), "is not FIELD:NUMBER"),
        (("--drop", "1"), "no share of the rows"),
        (("--sell", "5"), "no number of pieces a minute"),
        (("--refuse", "price >"), "no code, and no condition"),
        (("--refuse", "colour = 'red'"), 'there is no field "colour"'),
    ):
        done = run(*again, *wrong)
        assert done.returncode == 2 and said in done.stderr and "‹" not in done.stderr, wrong
    assert "go with --import" in run("practice", "live.csv", "--to", "x").stderr


def test_a_store_that_reads_otherwise_fails_the_rehearsal(put, run, tmp_path, monkeypatch):
    """The files are not handed over where a practice store refuses a row, or comes to something else."""
    put("live.csv", LIVE)
    put("sheet.csv", LIVE.replace("QA-3,Jar,1.00", "QA-3,Jar,2.00"))
    run("compare", "live.csv", "sheet.csv", "-o", "c.jsonl")
    monkeypatch.setattr("neat_delta.practice.importer._Import._changed", lambda self, item, line: item)
    done = run("write", "c.jsonl", "--to", "out", "--rehearse")
    assert done.returncode == 2 and "importing the update files into a practice store does not give" in done.stderr
    monkeypatch.setattr("neat_delta.practice.importer._Import._must_have", lambda *_: 1 / 0)
    assert not (tmp_path / "out").exists()


def test_a_rehearsal_knows_the_files_own_names(put, run):
    """Headings of live, what the files call a field, columns that are no fields, several lines an item, two keys."""
    put("live.csv", "Art.Nr;Lager;Preis;Tags\nA;N;1,00;x\n;;;y\nB;N;2,00;z\nB;S;2,00;\n")
    put("sheet.csv", "Art.Nr;Lager;Preis;Tags\nA;N;1,50;x\n;;;w\nB;N;2,00;z\nB;S;2,20;q\n")
    put(
        "neat-delta.toml",
        """version = 1
[file]
separator = ";"
continued = ["tags"]
[writing]
decimal_mark = ","
[key]
fields = ["sku", "shop"]
[importer]
[importer.called]
price = "Brutto"
[importer.columns]
why = { text = "spring" }
[fields.sku]
heading = "Art.Nr"
[fields.shop]
heading = "Lager"
[fields.price]
heading = "Preis"
kind = "money"
[fields.tags]
heading = "Tags"
kind = "list"
separator = "|"
[checks]
new-value = "off"
large-round = "off"
""",
    )
    assert run("compare", "live.csv", "sheet.csv", "-o", "c.jsonl").returncode == 0
    done = run("write", "c.jsonl", "--to", "out", "--rehearse")
    assert done.returncode == 0 and "Rehearsed" in done.stdout, done.stderr
    fine = run("practice", "live.csv", "--import", "out", "--to", "r")
    assert fine.returncode == 0, fine.stdout
    done = run("confirm", "c.jsonl", "r/after.csv", "--files", "out", "--results", "r/results.csv")
    assert done.returncode == 0 and "all of them done and landed" in done.stdout, done.stdout


FORMATS = files_of_every_format()
ODD = ["escaped quotes", "title lines above", "in utf-16", "in cp1252", "xlsx with titles", "JSON", "gzip", "Parquet"]


@pytest.mark.parametrize("form", first_of([*ODD, *(name for name in FORMATS if name not in ODD)], len(ODD)))
def test_catalogues_of_every_format_are_rehearsed(form, put, tmp_path):
    """What was exported in any format and dialect is imported, exported as it was, and confirmed."""
    live = neat_delta.read(put("live", FORMATS[form]))
    lines = pl.when(pl.int_range(pl.len()) == 1).then(pl.lit('new "q", | ;\nline \\ back')).otherwise(pl.col("note"))
    cells = live.cells.with_columns(lines.alias("note"), price=pl.col("price").str.replace("20", "99.00"))
    accept = [neat_delta.Accept(one) for one in ("damage", "slip", "large-round")]
    changes, importer = neat_delta.compare(live, replace(live, table=cells), accept=accept), Importer("clear")
    out = str(tmp_path / "out")
    neat_delta.write_updates(changes, live, importer, out, rehearse=rehearsal(changes, live, importer))
    made = import_folder(Shop(live, Store(importer=importer)), out)
    after = neat_delta.read(put("after", made.after), live.layout if live.layout.format == "delimited" else None)
    result = neat_delta.confirm_changes(changes, live, after)
    assert result.counts == {"landed": 2, "not landed": 0, "differently": 0} and not result.other_changes.height


def test_the_importers_columns_and_flags():
    store = Store(
        key=Key(["sku"]),
        importer=Importer(
            "clear", removal=Removal("flag", "leaves", "1"), columns={"why": OutputColumn("x")}, takes="updates"
        ),
    )
    shop = shop_of(store)
    report = shop.import_file(b"sku,price,leaves,why\nQA-1,,0,x\nQA-2,,1,x\nNEW,,0,x\n", "u.csv")
    assert report.counts == {"done": 2, "refused": 1}
    assert shop.shelf.table()["sku"].to_list() == ["QA-1", "a/b~c"]


# The pages, in a real browser


@pytest.fixture(scope="module")
def driver(tmp_path_factory) -> Iterator[WebDriver]:
    with browser(tmp_path_factory.mktemp("profile")) as one:
        yield one


def shows(driver: WebDriver, *texts: str) -> bool:
    """Whether the page comes to have these texts: what a key opens may take a moment."""

    def there(one: WebDriver) -> bool:
        said = one.find_element(By.TAG_NAME, "main").text
        return all(text in said for text in texts)

    gone = (StaleElementReferenceException, NoSuchElementException)
    return bool(WebDriverWait(driver, 15, ignored_exceptions=gone).until(there))


def press(driver: WebDriver, by: str, what: str) -> None:
    """Press Enter on what a person would go to."""
    WebDriverWait(driver, 15).until(expected.presence_of_element_located((by, what))).send_keys(Keys.ENTER)


@needs_browser
def test_the_pages_by_keyboard(server, driver, put):
    """Search, open an item, try a file, import it, look at what became of it and at the item's history."""
    server.open(shop_of(faults=faults_of(refuse=["QA-2"], keys=["QA-2"])))
    file = put("update.csv", "sku,price\nQA-1,10.50\nQA-2,5.00\n")
    driver.get(server.url)
    banner = driver.find_element(By.CLASS_NAME, "stand-in").text
    assert "A stand-in on this machine" in banner and "refuses QA-2" in banner
    search = driver.find_element(By.NAME, "q")
    search.send_keys("smoker", Keys.ENTER)
    assert shows(driver, "1 item with “smoker”")
    press(driver, By.LINK_TEXT, "Import")
    assert shows(driver, "The file is tried first")
    driver.find_element(By.NAME, "file").send_keys(file)
    press(driver, By.CSS_SELECTOR, "button.main")
    assert shows(driver, "This was a trial. Nothing was changed yet.") and prices(server.http)["QA-1"] == "9.90"
    press(driver, By.CSS_SELECTOR, "button.main")
    assert shows(driver, "Import 1: update.csv", "refused on demand: this item")
    assert prices(server.http)["QA-1"] == "10.50"
    press(driver, By.LINK_TEXT, "QA-1")
    assert shows(driver, "import 1 price 9.90 10.50")
    driver.get(f"{server.url}/items/none")
    assert shows(driver, "There is no item none.")
    driver.get(server.url)
    press(driver, By.LINK_TEXT, "a/b~c")
    assert shows(driver, "Hat")


@needs_browser
@needs_axe
@pytest.mark.parametrize("shade", first_of(["light", "dark"], 1))
def test_the_pages_are_accessible(server, driver, shade, put):
    server.open(shop_of(faults=faults_of(refuse=["QA-2"], cut=["name:3"], keys=["QA-2"], fields=["name"])))
    post(server.http, "sku,name\nQA-1,Veil long\nQA-2,x\n")
    scheme(driver, shade)
    assert AXE is not None
    for path in (
        "/",
        "/?q=none",
        "/import",
        "/imports",
        "/imports/1",
        "/history",
        "/items/QA-1",
        "/nowhere",
        "/sign-in",
    ):
        driver.get(server.url + path)
        driver.execute_script(Path(AXE).read_text())
        found = driver.execute_async_script("axe.run().then(arguments[0])")
        assert not found["violations"], (path, [(one["id"], one["nodes"][0]["html"]) for one in found["violations"]])
        assert "A stand-in on this machine" in driver.find_element(By.CLASS_NAME, "stand-in").text


@needs_browser
def test_nothing_in_a_catalogue_is_markup(server, driver):
    live = as_catalogue({"sku": ["<b>1</b>", "2"], "name": ["<script>document.title='x'</script>", '"><img src=x>']})
    server.open(Shop(live))
    for path in ("/", "/items/%3Cb%3E1%3C~1b%3E", "/?q=%3Cimg%3E"):
        driver.get(server.url + path)
        assert driver.title.endswith("practice store") and not driver.find_elements(By.CSS_SELECTOR, "main img, main b")
