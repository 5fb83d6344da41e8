"""What is at an address: fetched from real servers on loopback, whole or not at all, once, and no secret is said."""

from __future__ import annotations

import json
import os
import random
import resource
import shutil
import signal
import sqlite3
import subprocess
import sys
import threading
import time
import types
from dataclasses import replace
from datetime import UTC, datetime
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import Any
from unittest import mock
from urllib.parse import urlsplit

import pytest
import trustme
from blake3 import blake3
from hypothesis import strategies as st

from neat_delta.core.base.support import sizes
from neat_delta.core.base.support.errors import CatalogueError, ChangeSetError, FileError
from neat_delta.files.codes import read_codes
from neat_delta.files.reading import read
from neat_delta.files.sources import cache, not_older_than
from neat_delta.files.sources.address import parse, without_secrets
from neat_delta.files.sources.base import Terms
from neat_delta.files.sources.fetch import fetch
from tests import servers
from tests.conftest import PROGRAM, campaign, environment, first_of, in_two_lengths

LIVE = 'sku,name,price\nQA-1,Hive tool,9.90\nQA-2,"Veil, folding",20.00\nQA-3,Smoker,34.50\n'
SHEET = LIVE.replace("9.90", "10.50")
SOON = Terms(wait_seconds=0.01, read_seconds=5, connect_seconds=5)
PATIENT = Terms(wait_seconds=0.01, read_seconds=5, connect_seconds=5, attempts=10)
"""For a machine that stops for seconds by itself while a test breaks connections off."""


@pytest.fixture(autouse=True)
def home(tmp_path, monkeypatch):
    """A home of its own, with who asks in the environment."""
    place = tmp_path / "home"
    place.mkdir()
    for name in ("HOME", "XDG_CACHE_HOME", "XDG_CONFIG_HOME"):
        monkeypatch.setenv(name, str(place))
    for name in ("NETRC", "SSL_CERT_FILE", "SSH_AUTH_SOCK", "AWS_ENDPOINT_URL"):
        monkeypatch.delenv(name, raising=False)
    monkeypatch.setenv("NEAT_DELTA_PASSWORD_127_0_0_1", servers.PASSWORD)
    monkeypatch.setenv("AWS_ACCESS_KEY_ID", servers.USER)
    monkeypatch.setenv("AWS_SECRET_ACCESS_KEY", servers.PASSWORD)
    monkeypatch.setenv("AWS_DEFAULT_REGION", "us-east-1")
    return place


@pytest.fixture
def web():
    """A web server with live.csv."""
    with servers.web() as files:
        files.content["/live.csv"] = LIVE.encode()
        yield files


@pytest.fixture(scope="session")
def authority():
    """Who signs the servers' certificates."""
    return trustme.CA()


@pytest.fixture
def trusted(authority, tmp_path, monkeypatch):
    """The authority, where the program looks for it."""
    path = tmp_path / "authority.pem"
    authority.cert_pem.write_to_path(path)
    monkeypatch.setenv("SSL_CERT_FILE", str(path))
    return authority


DRAWN = random.Random(4).randbytes(300_000)


def web_with_faults(faults):
    """What comes of a file from a server with these faults, one a request."""
    with servers.web() as files:
        files.content["/drawn.bin"] = DRAWN
        files.faults[:] = faults
        try:
            return fetch(f"{files.place}/drawn.bin", on=SOON), files
        except FileError as error:
            return error, files


FAULTS = st.one_of(st.integers(0, 300_000).map("cut {}".format), st.sampled_from(["drop", "500", "503", "429", "408"]))


@in_two_lengths(st.lists(FAULTS, max_size=7), few=5, many=80)
def test_whatever_breaks_off_the_web_gives_the_whole_file_or_none(faults):
    shutil.rmtree(cache.place("."), ignore_errors=True)
    fetched, files = web_with_faults(faults)
    came, breaks = 0, 0
    for fault in faults[: SOON.attempts]:
        came += int(fault[4:]) if fault.startswith("cut ") else 0
        if came >= len(DRAWN):
            break
        breaks += 1
    if breaks < SOON.attempts:
        assert fetched.path.read_bytes() == DRAWN
        sent = sum(int(fault[4:]) for fault in faults[: len(files.requests) - 1] if fault.startswith("cut "))
        assert sent <= len(DRAWN) * len(files.requests)
    else:
        assert "5 times. Try again later." in str(fetched)
        assert not [path for path in cache.place(".").iterdir() if len(path.name) == 64]
    assert not list(cache.place(".").glob(".partial-*"))


def test_what_has_come_is_not_fetched_again(web):
    web.content["/drawn.bin"] = DRAWN
    web.faults[:] = ["cut 100000", "cut 150000"]
    assert fetch(f"{web.place}/drawn.bin", on=SOON).path.read_bytes() == DRAWN
    assert [headers.get("Range") for _, _, headers, _ in web.requests] == [None, "bytes=100000-", "bytes=250000-"]


def test_a_file_that_is_another_by_now_is_begun_anew(web):
    web.content["/drawn.bin"] = DRAWN
    web.faults[:] = ["cut 100000"]
    said = []

    def say(line):
        said.append(line)
        web.content["/drawn.bin"] = DRAWN[::-1]

    fetched = fetch(f"{web.place}/drawn.bin", on=Terms(wait_seconds=0.01, say=say))
    assert fetched.path.read_bytes() == DRAWN[::-1]
    assert said[0].endswith("the connection broke off; trying again")


def test_the_same_as_last_time_is_known_without_fetching_it(web):
    first, second = (fetch(f"{web.place}/live.csv", on=SOON) for _ in range(2))
    assert (first.same, second.same, first.digest) == (False, True, second.digest)
    assert "If-None-Match" in web.requests[1][2]
    web.content["/live.csv"] = SHEET.encode()
    third = fetch(f"{web.place}/live.csv", on=SOON)
    assert not third.same
    assert third.path.read_text() == SHEET
    assert first.path.read_text() == LIVE  # nobody fetches anew what was compared


def test_more_bytes_than_are_allowed_are_not_fetched(web):
    with pytest.raises(FileError, match="it has 80 bytes, and at most 40 are fetched"):
        fetch(f"{web.place}/live.csv", on=Terms(most_bytes=40))


def test_credentials_go_to_nobody_else(web, trusted):
    with servers.web() as other:
        other.content["/live.csv"] = LIVE.encode()
        web.secret = servers.PASSWORD
        address = web.place.replace("//", f"//{servers.USER}@") + "/live.csv"
        web.faults[:] = [f"to {other.place}/live.csv"]
        assert fetch(address, on=SOON).path.read_text() == LIVE
        assert "Authorization" in web.requests[0][2]
        assert "Authorization" not in other.requests[0][2]
    with servers.web(trusted) as safe:
        safe.faults[:] = [f"to {web.place}/live.csv"]
        with pytest.raises(FileError, match="which is less safe"):
            fetch(f"{safe.place}/live.csv", on=SOON)
        assert len(web.requests) == 1
        safe.faults[:] = [f"to {safe.place}/live.csv"] * 20
        with pytest.raises(FileError, match="it leads on more than 10 times"):
            fetch(f"{safe.place}/live.csv", on=SOON)


def test_a_certificate_that_nobody_vouches_for_is_refused(authority, tmp_path):
    with servers.web(authority) as web, pytest.raises(FileError, match="its certificate is not to be trusted"):
        fetch(f"{web.place}/live.csv", on=SOON)
    (tmp_path / "shop").mkdir()
    with servers.ftp(tmp_path / "shop", authority) as ftps, pytest.raises(FileError, match="its certificate is not"):
        fetch(f"{ftps}/live.csv", on=SOON)


@pytest.mark.parametrize(("status", "words"), [("404", "there is no such file"), ("401", "it wants to know who asks")])
def test_what_does_not_pass_is_not_tried_again(web, status, words):
    web.faults[:] = [status]
    with pytest.raises(FileError, match=words):
        fetch(f"{web.place}/live.csv", on=SOON)
    assert len(web.requests) == 1


@pytest.fixture
def folder(tmp_path):
    """What a server of files has: live.csv, and three lists, of which the first by name is the newest."""
    place = tmp_path / "shop"
    place.mkdir()
    (place / "live.csv").write_text(LIVE)
    for days, name in ((0, "prices-1.csv"), (9, "prices-2.csv"), (3, "prices-3.csv")):
        (place / name).write_text(f"{LIVE}{name},,1\n")
        then = datetime(2026, 11, 20 - days, tzinfo=UTC).timestamp()
        os.utime(place / name, (then, then))
    return place


@pytest.fixture
def server(request, folder, tmp_path, monkeypatch, trusted):
    """The address of a server of files, of each sort."""
    if request.param == "s3":
        import boto3

        with servers.s3("shop") as endpoint:
            monkeypatch.setenv("AWS_ENDPOINT_URL", endpoint)
            client = boto3.client("s3")
            for path in sorted(folder.iterdir(), key=lambda path: path.stat().st_mtime):
                client.put_object(Bucket="shop", Key=path.name, Body=path.read_bytes())
                time.sleep(1)  # S3 says the time in seconds
            client.put_object(Bucket="shop", Key="prices-1.csv", Body=(folder / "prices-1.csv").read_bytes())
            yield "s3://shop"
        return
    if request.param == "sftp":
        monkeypatch.setenv("NEAT_DELTA_KNOWN_HOSTS", str(tmp_path / "known_hosts"))
        with servers.ssh(folder, tmp_path / "known_hosts") as (address, _):
            yield address
        return
    with servers.ftp(folder, trusted if request.param == "ftps" else None) as address:
        yield address


SORTS = pytest.mark.parametrize("server", first_of(["ftp", "ftps", "sftp", "s3"], 3), indirect=True)


@SORTS
def test_a_file_and_the_newest_of_a_pattern_come_from_every_server(server):
    said: list[str] = []
    terms = Terms(wait_seconds=0.01, read_seconds=5, say=said.append)
    assert fetch(f"{server}/live.csv", on=terms).path.read_text() == LIVE
    newest = fetch(f"{server}/prices-*.csv", on=terms)
    assert (newest.path.read_text().splitlines()[-1], newest.address) == ("prices-1.csv,,1", f"{server}/prices-1.csv")
    assert "prices-1.csv is the newest that fits prices-*.csv; passed over: prices-3.csv, prices-2.csv" in said
    with pytest.raises(FileError, match=r"no file there is called like \"frames-\*.csv\""):
        fetch(f"{server}/frames-*.csv", on=terms)
    with pytest.raises(FileError, match="there is no such file there"):
        fetch(f"{server}/frames.csv", on=terms)


@pytest.mark.parametrize("server", ["ftp", "ftps", "sftp"], indirect=True)
def test_a_wrong_password_is_said_once(server):
    wrong, said = server.replace(servers.USER, f"{servers.USER}:nectar-S3CRET"), list[str]()
    with pytest.raises(FileError, match='the server does not let "anna" in') as error:
        fetch(f"{wrong}/live.csv", on=Terms(wait_seconds=0.01, read_seconds=5, say=said.append))
    assert "S3CRET" not in f"{error.value}{said}"


@pytest.mark.parametrize("server", ["ftp", "sftp"], indirect=True)
def test_a_file_that_grows_while_it_is_read_is_no_catalogue(server, folder):
    growing, stop = folder / "growing.csv", threading.Event()

    def grow():
        with growing.open("ab", buffering=0) as file:
            while not stop.is_set():
                file.write(b"QA-9,Frame,1.00\n" * 5000)
                time.sleep(0.001)

    growing.write_bytes(DRAWN * 30)
    writer = threading.Thread(target=grow, daemon=True)
    writer.start()
    try:
        with pytest.raises(FileError, match="it was changed while it was being fetched, 2 times"):
            fetch(f"{server}/growing.csv", on=Terms(attempts=2, wait_seconds=0.01))
    finally:
        stop.set()
        writer.join()
    assert not [path for path in cache.place(".").iterdir() if len(path.name) == 64]


@in_two_lengths(st.lists(st.integers(0, 300_000), max_size=4), st.booleans(), few=2, many=25)
def test_a_transfer_that_breaks_off_is_taken_up_again(tmp_path_factory, authority, cuts, over_tls):
    shutil.rmtree(cache.place("."), ignore_errors=True)
    shop = tmp_path_factory.mktemp("ftp") / "shop"
    shop.mkdir()
    (shop / "drawn.bin").write_bytes(DRAWN)
    authority.cert_pem.write_to_path(shop.with_name("authority.pem"))
    with (
        pytest.MonkeyPatch.context() as patched,
        servers.ftp(shop, authority if over_tls else None, list(cuts)) as address,
    ):
        patched.setenv("SSL_CERT_FILE", str(shop.with_name("authority.pem")))
        assert fetch(f"{address}/drawn.bin", on=replace(PATIENT, read_seconds=1)).path.read_bytes() == DRAWN


CUTS = st.lists(st.integers(0, 400_000), max_size=4)


@in_two_lengths(CUTS, few=2, many=25)
def test_a_connection_to_an_ssh_server_that_breaks_off_is_made_anew(tmp_path_factory, cuts):
    shutil.rmtree(cache.place("."), ignore_errors=True)
    place = tmp_path_factory.mktemp("ssh")
    (place / "shop").mkdir()
    (place / "shop" / "drawn.bin").write_bytes(DRAWN)
    with servers.ssh(place / "shop", place / "known") as (address, line), pytest.MonkeyPatch.context() as patched:
        port = urlsplit(address).port
        with servers.cutting(int(port or 0), list(cuts)) as way:
            (place / "known").write_text(line.replace(f":{port}", f":{way}") + "\n")
            patched.setenv("NEAT_DELTA_KNOWN_HOSTS", str(place / "known"))
            fetched = fetch(address.replace(f":{port}", f":{way}") + "/drawn.bin", on=PATIENT)
            assert fetched.path.read_bytes() == DRAWN


@pytest.fixture(scope="module")
def s3_server():
    """An S3 server with one large file."""
    import boto3

    with servers.s3("shop") as endpoint:
        boto3.client(
            "s3", endpoint_url=endpoint, aws_access_key_id="a", aws_secret_access_key="b", region_name="us-east-1"
        ).put_object(Bucket="shop", Key="drawn.bin", Body=DRAWN)
        yield urlsplit(endpoint).port


@in_two_lengths(CUTS, few=2, many=25)
def test_a_connection_to_s3_that_breaks_off_is_made_anew(s3_server, cuts):
    shutil.rmtree(cache.place("."), ignore_errors=True)
    with servers.cutting(s3_server, list(cuts)) as way, pytest.MonkeyPatch.context() as patched:
        patched.setenv("AWS_ENDPOINT_URL", f"http://127.0.0.1:{way}")
        assert fetch("s3://shop/drawn.bin", on=PATIENT).path.read_bytes() == DRAWN


@pytest.mark.parametrize("server", ["ftp", "sftp"], indirect=True)
def test_a_folder_of_ten_thousand_names(server, folder):
    for number in range(10_000):
        (folder / f"export-{number:05}.csv").touch()
    (folder / "export-04711.csv").write_text(SHEET)
    late = time.time() + 1000
    os.utime(folder / "export-04711.csv", (late, late))
    assert fetch(f"{server}/export-*.csv", on=SOON).path.read_text() == SHEET


@campaign
def test_a_bucket_of_ten_thousand_names(s3_server, monkeypatch):
    """S3 lists a thousand at a time."""
    from moto.core.models import DEFAULT_ACCOUNT_ID
    from moto.s3.models import s3_backends

    shop = s3_backends[DEFAULT_ACCOUNT_ID]["aws"]
    for number in range(10_000):
        shop.put_object("shop", f"many/export-{number:05}.csv", b"")
    time.sleep(1)  # S3 says the time in seconds
    shop.put_object("shop", "many/export-04711.csv", SHEET.encode())
    monkeypatch.setenv("AWS_ENDPOINT_URL", f"http://127.0.0.1:{s3_server}")
    assert fetch("s3://shop/many/export-*.csv", on=SOON).path.read_text() == SHEET


def test_a_host_is_known_by_its_key(folder, tmp_path, monkeypatch):
    known = tmp_path / "known_hosts"
    monkeypatch.setenv("NEAT_DELTA_KNOWN_HOSTS", str(known))
    with servers.ssh(folder, known) as (address, line):
        known.write_text("")
        with pytest.raises(
            FileError, match=r"is not in known_hosts: ssh-ed25519 SHA256:\S{43}\. Ask its owner"
        ) as error:
            fetch(f"{address}/live.csv", on=SOON)
        accept = str(error.value).partition("accept it: ")[2]
        subprocess.run(accept, shell=True, check=True)
        assert known.read_text() == line + "\n"
        assert fetch(f"{address}/live.csv", on=SOON).path.read_text() == LIVE
        with servers.ssh(folder, tmp_path / "other") as (_, other):
            known.write_text(f"{line.split()[0]} {' '.join(other.split()[1:])}\n")
        with pytest.raises(FileError, match="another one than in known_hosts"):
            fetch(f"{address}/live.csv", on=SOON)


def test_a_key_file_lets_in_without_a_password(folder, tmp_path, monkeypatch):
    monkeypatch.delenv("NEAT_DELTA_PASSWORD_127_0_0_1")
    monkeypatch.setenv("NEAT_DELTA_KNOWN_HOSTS", str(tmp_path / "known_hosts"))
    with servers.ssh(folder, tmp_path / "known_hosts") as (address, _):
        with pytest.raises(FileError, match='does not let "anna" in'):
            fetch(f"{address}/live.csv", on=SOON)
        monkeypatch.setenv("HOME", str(tmp_path))
        monkeypatch.setenv("NEAT_DELTA_KEY_FILE_127_0_0_1", "~/client")
        assert fetch(f"{address}/live.csv", on=SOON).path.read_text() == LIVE


def test_the_keyring_is_asked_last(web, monkeypatch):
    monkeypatch.delenv("NEAT_DELTA_PASSWORD_127_0_0_1")
    web.secret = "wax-S3CRET"
    keyring = types.ModuleType("keyring")
    asked = []

    def get_credential(service, user):
        asked.append((service, user))
        return types.SimpleNamespace(username="anna", password="wax-S3CRET")

    keyring.get_credential = get_credential  # type: ignore[attr-defined]
    monkeypatch.setitem(sys.modules, "keyring", keyring)
    assert fetch(f"{web.place}/live.csv", on=SOON).path.read_text() == LIVE
    assert asked == [("neat-delta 127.0.0.1", None)]
    monkeypatch.setenv("NEAT_DELTA_TOKEN_127_0_0_1", "wax-S3CRET")
    assert fetch(f"{web.place}/live.csv?again", on=SOON).path.read_text() == LIVE
    assert len(asked) == 1


TYPES = {
    "postgresql": {"flag": "boolean", "moment": "timestamptz", "yes": "true"},
    "mysql": {"flag": "boolean", "moment": "datetime(3)", "yes": "true"},
    "sqlite": {"flag": "boolean", "moment": "text", "yes": "1"},
}


@pytest.fixture(scope="session")
def databases():
    """The addresses of the databases that are installed here, with what runs a statement in each."""
    from contextlib import ExitStack

    with ExitStack() as stack:
        base = Path(stack.enter_context(TemporaryDirectory()))  # servers run as users of their own, who must get there
        base.chmod(0o755)
        started = {}

        def database(sort):
            if sort not in started:
                programs = {"postgresql": ["initdb", "pg_ctl"], "mysql": ["mariadbd", "mariadb-install-db"]}
                lacking = servers.lacking(*programs.get(sort, []))
                if lacking:
                    pytest.skip(lacking)
                started[sort] = stack.enter_context(running(sort, base / sort))
            return started[sort]

        yield database


def running(sort, place):
    """A database of a sort, and what runs statements in it."""
    from contextlib import contextmanager

    @contextmanager
    def run():
        place.mkdir()
        if sort == "sqlite":
            path = place / "shop.db"

            def execute(*statements):
                with sqlite3.connect(path) as connection:
                    for statement in statements:
                        connection.execute(statement)

            execute("CREATE TABLE empty (sku text)")
            yield f"sqlite:///{path}", execute
            return
        with (servers.postgresql if sort == "postgresql" else servers.mariadb)(place) as address:

            def execute(*statements):
                import psycopg
                import pymysql

                where = urlsplit(address)
                account: dict[str, Any] = {
                    "host": "127.0.0.1",
                    "port": where.port,
                    "user": servers.USER,
                    "password": servers.PASSWORD,
                }
                if sort == "postgresql":
                    with psycopg.connect(**account, dbname="shop", autocommit=True) as connection:
                        for statement in statements:
                            connection.execute(statement)
                    return
                with pymysql.connect(**account, database="shop", autocommit=True) as connection:
                    for statement in statements:
                        connection.cursor().execute(statement)

            yield address, execute

    return run()


def fill(execute, sort, rows):
    """The shop's table, with these rows in this order."""
    types = TYPES[sort]
    execute("DROP TABLE IF EXISTS items")
    execute(
        "CREATE TABLE items (sku varchar(20) PRIMARY KEY, name varchar(60), price decimal(12,2), stock int, "
        f"active {types['flag']}, since date, changed {types['moment']})"
    )
    execute(*[f"INSERT INTO items VALUES ({row})" for row in rows])


ROWS = [
    "'QA-10', 'Veil, folding', 1234567.89, 4, {yes}, '2026-01-02', '2026-01-02 10:11:12'",
    "'QA-2', '', 20.50, 0, NULL, NULL, NULL",
    "'QA-1', NULL, NULL, NULL, NULL, NULL, NULL",
]
DATABASES = pytest.mark.parametrize("sort", first_of(["sqlite", "postgresql", "mysql"], 2))


@DATABASES
def test_a_table_comes_as_exact_text_in_an_order_of_its_own(databases, sort):
    address, execute = databases(sort)
    rows = [row.format(**TYPES[sort]) for row in ROWS]
    fill(execute, sort, rows)
    first = fetch(f"{address}#items", on=SOON)
    yes = {"postgresql": "true"}.get(sort, "1")
    moment = {"postgresql": "2026-01-02T10:11:12+00:00", "mysql": "2026-01-02T10:11:12"}.get(
        sort, "2026-01-02 10:11:12"
    )
    nothing = r"\N" if sort == "sqlite" else ""  # a moment is a text there
    assert first.path.read_text() == (
        "sku,name,price,stock,active,since,changed\n"
        f"QA-1,\\N,,,,,{nothing}\n"
        f'QA-10,"Veil, folding",1234567.89,4,{yes},2026-01-02,{moment}\n'
        f"QA-2,,{'20.5' if sort == 'sqlite' else '20.50'},0,,,{nothing}\n"
    )
    fill(execute, sort, rows[::-1])
    assert fetch(f"{address}#items", on=SOON).same
    asked = fetch(address, "SELECT sku, price AS cost FROM items WHERE stock = 4", SOON)
    assert asked.path.read_text() == "sku,cost\nQA-10,1234567.89\n"
    asked = fetch(address, "SELECT sku FROM items WHERE name LIKE '%folding%'", SOON)
    assert asked.path.read_text() == "sku\nQA-10\n"


@DATABASES
def test_a_query_cannot_write(databases, sort):
    address, execute = databases(sort)
    fill(execute, sort, [row.format(**TYPES[sort]) for row in ROWS])
    before = fetch(f"{address}#items", on=SOON).digest
    for query in ("DELETE FROM items", "UPDATE items SET stock = 1", "DROP TABLE items", "no query"):
        with pytest.raises(FileError, match=r"the database says: .*\. Check the table or the query\."):
            fetch(address, query, SOON)
    with pytest.raises(FileError, match=r'there is no table "itms"\. Did you mean "items"'):
        fetch(f"{address}#itms", on=SOON)
    with pytest.raises(FileError, match="which table"):
        fetch(address, on=SOON)
    assert fetch(f"{address}#items", on=SOON).digest == before
    if sort != "sqlite":
        with pytest.raises(FileError, match="the database does not let anna in"):
            fetch(f"{address.replace('anna', 'anna:nectar')}#items", on=SOON)


def test_a_table_is_compared_with_a_sheet(databases, run, tmp_path):
    """Without one line about files: the table as live, the sheet as a person saved it."""
    address, execute = databases("sqlite")
    fill(execute, "sqlite", [row.format(**TYPES["sqlite"]) for row in ROWS])
    (tmp_path / "sheet.csv").write_text("sku,price\nQA-10,1230000.00\n")
    done = run("compare", f"{address}#items", "sheet.csv", "-o", "changes.jsonl", "--json")
    assert json.loads(done.stdout)["to_send"] == 1, done.stderr
    assert run("write", "changes.jsonl", "--to", "out").returncode == 0
    assert (tmp_path / "out" / "update-1.csv").read_text() == "sku,price\nQA-10,1230000.00\n"


def test_codes_are_named_by_a_column_of_a_table(databases):
    address, execute = databases("sqlite")
    fill(execute, "sqlite", [row.format(**TYPES["sqlite"]) for row in ROWS])
    assert sorted(read_codes(f"{address}#items#sku")) == ["QA-1", "QA-10", "QA-2"]
    with pytest.raises(CatalogueError, match="which column"):
        read_codes(f"{address}#items")


def test_a_round_over_the_web_goes_by_what_was_fetched(web, run, tmp_path, home):
    (tmp_path / "sheet.csv").write_text(SHEET)
    live = f"{web.place}/live.csv"
    compared = run("compare", live, "sheet.csv", "-o", "changes.jsonl", "-v")
    assert compared.returncode == 0, compared.stderr
    assert f"{live}: fetched, 80 bytes" in compared.stderr
    web.content["/live.csv"] = LIVE.replace("34.50", "99.00").encode()  # the shop goes on
    asked = len(web.requests)
    assert run("write", "changes.jsonl", "--to", "out").returncode == 0
    assert run("undo", "changes.jsonl", "--to", "back").returncode == 0
    assert len(web.requests) == asked
    assert (tmp_path / "out" / "update-1.csv").read_text() == "sku,price\nQA-1,10.50\n"
    assert (tmp_path / "back" / "update-1.csv").read_text() == "sku,price\nQA-1,9.90\n"
    web.content["/after.csv"] = SHEET.encode()
    assert run("confirm", "changes.jsonl", f"{web.place}/after.csv").returncode == 0
    shutil.rmtree(home / "neat-delta")
    lost = run("write", "changes.jsonl", "--to", "again")
    assert (lost.returncode, "is not in the cache any more" in lost.stderr) == (2, True)
    other = run("write", "changes.jsonl", "--to", "again", "--live", live)
    assert (other.returncode, "it has changed since" in other.stderr) == (2, True)
    web.content["/live.csv"] = LIVE.encode()
    assert run("write", "changes.jsonl", "--to", "again", "--live", live).returncode == 0


def test_a_change_set_names_no_file_that_nobody_keeps(web, home):
    from neat_delta import compare, read_live, write_changes

    changes = compare(f"{web.place}/live.csv", {"sku": ["QA-1"], "price": ["10.50"]})
    write_changes(changes, str(home / "changes.jsonl"))
    assert read_live(changes, str(home / "changes.jsonl")).cells.height == 3
    shutil.rmtree(home / "neat-delta")
    with pytest.raises(ChangeSetError, match="‹live›"):
        read_live(changes, str(home / "changes.jsonl"))


def test_fetch_writes_a_file_and_leaves_one_that_is_there(web, run, tmp_path):
    assert run("fetch", f"{web.place}/live.csv").returncode == 0
    assert (tmp_path / "live.csv").read_text() == LIVE
    assert run("fetch", f"{web.place}/live.csv").returncode == 0  # it is there to the byte
    (tmp_path / "live.csv").write_text("mine")
    refused = run("fetch", f"{web.place}/live.csv")
    assert (refused.returncode, "--replace overwrites it" in refused.stderr) == (2, True)
    assert (tmp_path / "live.csv").read_text() == "mine"
    facts = json.loads(run("fetch", f"{web.place}/live.csv", "--replace", "--json").stdout)
    assert (facts["bytes"], facts["same"], facts["address"]) == (80, True, f"{web.place}/live.csv")
    assert run("fetch", f"{web.place}/live.csv", "-o", "-").stdout == LIVE
    assert "this is no address" in run("fetch", "live.csv").stderr


@pytest.mark.parametrize("where", ["file", "web"])
def test_what_is_too_old_is_refused(web, run, tmp_path, where):
    old = time.time() - 3 * 86400
    (tmp_path / "live.csv").write_text(LIVE)
    os.utime(tmp_path / "live.csv", (old, old))
    web.modified = old
    live = "live.csv" if where == "file" else f"{web.place}/live.csv"
    assert run("check", live, "--older-than", "4d").returncode == 0
    stale = run("check", live, "--older-than", "2d")
    assert stale.returncode == 2
    assert "is older than --older-than allows" in stale.stderr
    assert "is no age. Say 90m" in run("check", live, "--older-than", "soon").stderr
    with not_older_than(86400), pytest.raises(FileError, match="is older than"):
        read(str(tmp_path / "live.csv"))


def test_nothing_that_is_secret_is_printed_or_kept(web, run, tmp_path, home, monkeypatch):
    """Marked secrets in every place that can hold one; all that was written and printed is searched."""
    monkeypatch.delenv("NEAT_DELTA_PASSWORD_127_0_0_1")
    (tmp_path / "sheet.csv").write_text(SHEET)
    web.secret = "wax-S3CRET"
    secret = web.place.replace("//", "//anna:wax-S3CRET@") + "/live.csv?key=query-S3CRET"
    other = web.place.replace("//", "//anna:wax-S3CRET@") + "/live.csv?key=other-S3CRET"
    kept = home / "neat-delta" / "credentials.toml"
    printed = []

    def typed(*words, **extra):
        done = run(*words, **extra)
        printed.append(done.stdout + done.stderr)
        return done

    assert typed("compare", secret, "sheet.csv", "-o", "changes.jsonl", "-v").returncode == 0
    assert typed("compare", secret, other, "-o", "two.jsonl").returncode == 0
    assert typed("learn", secret, "-o", "learned.toml").returncode == 0
    assert typed("write", "changes.jsonl", "--to", "out", "--json").returncode == 0
    assert typed("write", "changes.jsonl", "--to", "out2", f"--live={secret}").returncode == 0
    assert typed("fetch", secret, "-o", "fetched.csv", "--json").returncode == 0
    for words in (["compare", secret], ["compare", secret, "none.csv"], ["check", secret.replace("live", "none")]):
        assert typed(*words).returncode == 2
    web.faults[:] = ["404"]
    assert typed("check", secret, NEAT_DELTA_TRACEBACK="1").returncode == 2
    kept.write_text('["127.0.0.1"]\nuser = "anna"\npassword = "wax-S3CRET"\ntoken = 5  # toml-S3CRET\n')
    assert "others may read it" in typed("check", f"{web.place}/live.csv").stderr
    kept.chmod(0o600)
    assert '"token" of 127.0.0.1 is no text' in typed("check", f"{web.place}/live.csv").stderr
    kept.write_text("[toml-S3CRET")
    assert "this is no TOML" in typed("check", f"{web.place}/live.csv").stderr
    kept.write_text('["127.0.0.1"]\nuser = "anna"\npassword = "wax-S3CRET"\n')
    assert typed("check", f"{web.place}/live.csv").returncode == 0
    kept.unlink()
    netrc = home / ".netrc"
    netrc.write_text("machine 127.0.0.1 login anna password wax-S3CRET\n")
    assert "others may read it" in typed("check", f"{web.place}/live.csv").stderr
    netrc.chmod(0o600)
    assert typed("check", f"{web.place}/live.csv").returncode == 0
    netrc.unlink()
    web.secret = "token-S3CRET"
    assert typed("check", f"{web.place}/live.csv", NEAT_DELTA_TOKEN_127_0_0_1="token-S3CRET").returncode == 0
    written = [path for path in tmp_path.rglob("*") if path.is_file()]
    assert len(written) > 12
    assert [path for path in written if b"S3CRET" in path.read_bytes()] == []
    assert [text for text in printed if "S3CRET" in text] == []


def test_a_file_of_ours_carries_no_password(run, tmp_path, web):
    (tmp_path / "live.csv").write_text(LIVE)
    place = web.place.replace("//", "//anna:wax-S3CRET@")
    (tmp_path / "rules.toml").write_text(
        f'version = 1\n[table.rates]\nfile = "{place}/live.csv"\nby = {{ sku = "sku" }}\n'
        '[[rule]]\nname = "up"\nset = { price = "price + 1" }\n'
    )
    refused = run("edit", "live.csv", "--rules", "rules.toml", "-o", "changes.jsonl")
    assert refused.returncode == 2
    assert "carries a password there" in refused.stderr
    assert "S3CRET" not in refused.stderr


MISSING = """
import sys
sys.modules |= dict.fromkeys(["paramiko", "s3fs", "psycopg", "pymysql"])
from neat_delta.core.base.support.errors import FileError
from neat_delta.files.sources.fetch import fetch
for address in sys.argv[1:]:
    if address.startswith("sqlite"):
        sys.modules["sqlalchemy"] = None
    try:
        fetch(address)
    except FileError as error:
        print(error)
"""


def test_what_is_missing_is_named_with_the_line_that_installs_it():
    addresses = {
        "sftp://127.0.0.1/live.csv": "remote",
        "s3://shop/live.csv": "remote",
        "postgresql://127.0.0.1/shop#items": "database",
        "mysql://127.0.0.1/shop#items": "database",
        "sqlite:///shop.db#items": "database",
    }
    done = subprocess.run([sys.executable, "-c", MISSING, *addresses], capture_output=True, text=True, check=True)
    for line, (address, extra) in zip(done.stdout.splitlines(), addresses.items(), strict=True):
        assert line.startswith(f"{address}: this sort of address needs a package that is not installed")
        assert line.endswith(f"Install it: pip install 'neat-delta[{extra}]'")
    with pytest.raises(FileError, match=r'nothing opens addresses that begin with "htpps://"\. Did you mean "https"'):
        fetch("htpps://shop.quillfern.example/live.csv", on=SOON)


def test_a_full_disk_keeps_nothing(web, tmp_path, home):
    web.content["/drawn.bin"] = DRAWN

    def fill_up():
        signal.signal(signal.SIGXFSZ, signal.SIG_IGN)
        resource.setrlimit(resource.RLIMIT_FSIZE, (1000, 1000))

    done = subprocess.run(
        [PROGRAM, "fetch", f"{web.place}/drawn.bin"], cwd=tmp_path, preexec_fn=fill_up, capture_output=True, text=True,
        check=False, env=environment(XDG_CACHE_HOME=str(home)),
    )  # fmt: skip
    assert done.returncode == 2
    assert "it cannot be kept in the cache (File too large)" in done.stderr
    assert not (tmp_path / "drawn.bin").exists()
    assert list((home / "neat-delta").iterdir()) == []


@campaign
def test_a_large_file_takes_little_memory(web, tmp_path, home):
    web.content["/large.csv"] = b"QA-1,Hive tool,9.90\n" * 15_000_000
    code = (
        "from neat_delta.files.sources.fetch import fetch\n"
        f"fetch('{web.place}/large.csv')\n"
        "print(next(line.split()[1] for line in open('/proc/self/status') if line.startswith('VmHWM')))\n"
    )
    done = subprocess.run(
        [sys.executable, "-c", code], capture_output=True, text=True, check=True,
        env=environment(XDG_CACHE_HOME=str(home)),
    )  # fmt: skip
    assert int(done.stdout) < 100_000


def test_codes_come_from_an_address_with_a_secret(web, run, tmp_path):
    """What stands behind the # is no secret, and not lost."""
    (tmp_path / "sheet.csv").write_text(SHEET)
    assert run("compare", f"{web.place}/live.csv", "sheet.csv", "-o", "changes.jsonl").returncode == 0
    web.content["/report.csv"] = b"number,sku\n1,QA-1\n"
    secret = web.place.replace("//", "//anna:wax-S3CRET@") + "/report.csv?key=S3CRET#sku"
    done = run("write", "changes.jsonl", "--to", "out", "--skus", secret)
    assert done.returncode == 0, done.stderr
    assert (tmp_path / "out" / "update-1.csv").exists()
    wrong = run("write", "changes.jsonl", "--to", "other", "--skus", secret.replace("#sku", "#code"))
    assert (wrong.returncode, "S3CRET" in wrong.stderr) == (2, False)


def test_addresses_are_masked_as_they_are_typed():
    assert without_secrets(["--live=https://a:b@shop.example/x?k=1", "a=b://c:d@e", "x"]) == [
        "--live=https://shop.example/x?k=…", "a=b://c:d@e", "x",
    ]  # fmt: skip
    assert "b" not in repr(parse("https://a:b@shop.example/x")).replace("shop.example", "")


def test_what_is_used_meanwhile_is_no_changed_file(home):
    """By a later step of the command, or by another one; and it stays as long as it is used."""
    digest = blake3(LIVE.encode()).hexdigest()
    kept = cache.put(LIVE.encode(), digest)
    old = kept.stat().st_mtime - 3 * cache.DAYS_KEPT * 86400
    os.utime(kept, (old, old))
    with mock.patch.object(sizes, "BYTES_INDEXED", 0):
        live = read(kept, deferred=True)
        assert cache.cached(digest) == kept
        assert live.is_deferred and live.column("price").to_list() == ["9.90", "20.00", "34.50"]
    cache.put(b"another", blake3(b"another").hexdigest())  # and what is not used any more goes
    assert kept.exists()
    used = next(path for path in kept.parent.iterdir() if path.name.startswith(digest) and path != kept)
    os.utime(used, (old, old))
    cache.put(b"a third", blake3(b"a third").hexdigest())
    assert not kept.exists() and not used.exists()
