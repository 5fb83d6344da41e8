"""Delivery: each file once and whole at the other end, however it is broken off; a table at its target or untouched."""

from __future__ import annotations

import fcntl
import json
import re
import shutil
import sqlite3
import threading
from contextlib import ExitStack, closing, contextmanager
from dataclasses import replace
from functools import partialmethod
from pathlib import Path
from urllib.parse import urlsplit

import pytest
from hypothesis import example
from hypothesis import strategies as st

import neat_delta
from neat_delta.app.deliver import deliver
from neat_delta.core.base.model.importer import Removal
from neat_delta.core.base.model.rows import RowChange
from neat_delta.core.base.model.store import Delivery
from neat_delta.core.base.support.errors import FileError, OutputError
from neat_delta.files import delivery
from neat_delta.files.delivery import deliver_files
from neat_delta.files.journal import JOURNAL, journal_of, kept_answers
from neat_delta.files.manifest import read_manifest
from neat_delta.files.sources import base, fetching
from neat_delta.files.sources.address import parse
from neat_delta.files.sources.base import FileState, PassingError, Terms
from neat_delta.files.sources.credentials import credentials_for
from neat_delta.files.sources.transaction import change_rows
from neat_delta.practice.shop import Shop
from neat_delta.practice.watch import watch
from tests import servers
from tests.conftest import in_two_lengths
from tests.test_sources import (
    DATABASES,
    LIVE,
    ROWS,
    SHEET,
    SOON,
    SORTS,
    TYPES,
    authority,
    databases,
    fill,
    folder,
    home,
    server,
    trusted,
    web,
)

__all__ = ["authority", "databases", "folder", "home", "server", "trusted", "web"]

NOW = Terms(wait_seconds=0, attempts=2)
IMPATIENT = replace(NOW, read_seconds=2)


def written(place: Path, *, files: int = 1, price: str = "10.50") -> Path:
    """A folder of so many update files."""
    store = neat_delta.Store(importer=neat_delta.Importer("skip", most_rows=1 if files > 1 else None))
    sheet = LIVE.replace("9.90", price)
    sheet = sheet.replace("20.00", "21.00").replace("34.50", "35.50") if files > 1 else sheet
    place.mkdir(parents=True, exist_ok=True)
    (place / "live.csv").write_text(LIVE)
    (place / "sheet.csv").write_text(sheet)
    compared = neat_delta.compare(str(place / "live.csv"), str(place / "sheet.csv"), store=store)
    neat_delta.write_changes(compared, str(place / "changes.jsonl"))
    changes = neat_delta.read_changes(str(place / "changes.jsonl"))
    live = neat_delta.read_live(changes, str(place / "changes.jsonl"))
    manifest = neat_delta.write(changes, live, store.importer, str(place / "out"), most_files=files)
    assert len(manifest.update) == files
    return place / "out"


@pytest.fixture(scope="module")
def out_of_three(tmp_path_factory):
    """A folder of three update files, to be copied and not changed."""
    return written(tmp_path_factory.mktemp("three"), files=3)


class Killed(BaseException):
    """The machine stops."""


class Shelf:
    """A server of files that is stopped at drawn moments, before or after what it was asked, and whose store takes
    what has its name at drawn moments, too. `at_once`: a file gets its name in one step.
    """

    def __init__(self, moments: list[tuple[str, bool]], *, at_once: bool) -> None:
        self.files: dict[str, bytes] = {}
        self.taken: list[tuple[str, bytes]] = []
        self.named: list[str] = []
        self.moments, self.at_once = moments, at_once

    def _moment(self, work):
        """What may happen around one step: nothing, a break, a stop, or a look of the store, before or after it."""
        what, before = self.moments.pop(0) if self.moments else ("", False)
        if what == "look":
            self.look()
        if before and what in {"break", "stop"}:
            raise PassingError("it broke") if what == "break" else Killed
        result = work()
        if what == "look":
            self.look()
        if what in {"break", "stop"}:
            raise PassingError("it broke") if what == "break" else Killed
        return result

    def look(self):
        """The store takes all that has its name."""
        for name in sorted(self.files):
            if not Path(name).name.startswith("."):
                self.taken.append((Path(name).name, self.files.pop(name)))

    def stat(self, path):
        """The state of a file."""

        def work():
            if path not in self.files:
                raise FileNotFoundError(path)
            return FileState(len(self.files[path]))

        return self._moment(work)

    def read(self, path):
        """The bytes of a file."""

        def work():
            if path not in self.files:
                raise FileNotFoundError(path)
            return self.files[path]

        return self._moment(work)

    def put(self, path, chunks):
        """Write a file; a stop leaves half of it."""
        data = b"".join(chunks)
        self._moment(lambda: self.files.update({path: data[: len(data) // 2]}))
        self._moment(lambda: self.files.update({path: data}))

    def rename(self, path, name):
        """Give a file its name."""

        def work():
            self.files[name] = self.files.pop(path) if self.at_once else self.files[path]
            self.named.append(Path(name).name)

        self._moment(work)
        if not self.at_once:
            self._moment(lambda: self.files.pop(path))

    def remove(self, path):
        """Remove a file."""
        self._moment(lambda: self.files.pop(path, None))

    def close(self):
        """Nothing is open."""


MOMENTS = st.tuples(st.sampled_from(["", "", "", "look", "break", "stop"]), st.booleans())


BROKEN = [("", False)] * 2 + [("break", False)] + [("", False)] * 5 + [("break", True)] + [("", False)] * 5
"""A file was written and checked, and the connection breaks before it has its name: the person says to send it."""


@example([*BROKEN, ("break", True), ("look", False)], False, "few")
@in_two_lengths(st.lists(MOMENTS, max_size=60), st.booleans(), few=40, many=1000)
def test_whatever_happens_each_file_arrives_once_and_whole(tmp_path_factory, out_of_three, moments, at_once):
    """The person runs the command again until it is done, and where nobody can tell, looks and says what is so."""
    out = tmp_path_factory.mktemp("delivered") / "out"
    shutil.copytree(out_of_three, out)
    manifest, shelf = read_manifest(str(out)), Shelf(list(moments), at_once=at_once)
    wanted = {file.file: (out / file.file).read_bytes() for file in manifest.update}
    wanted["READ-ME-FIRST.txt"] = (out / "READ-ME-FIRST.txt").read_bytes()
    perhaps: delivery.Perhaps = None
    with pytest.MonkeyPatch.context() as patched:
        patched.setattr(delivery, "_Server", lambda where, terms: shelf)
        for _ in range(len(moments) + 3):
            try:
                deliver_files(str(out), manifest, "sftp://shop.quillfern.example/in", Delivery(), NOW, perhaps)
                break
            except (FileError, Killed):
                perhaps = None
            except OutputError as error:
                assert "nobody can tell whether" in str(error)
                name = str(error).partition("whether ")[2].partition(" arrived")[0]
                perhaps = "arrived" if name in {file for file, _ in shelf.taken} else "again"
        else:
            raise AssertionError("it never ends")
    shelf.look()
    assert dict(shelf.taken) == wanted
    assert len(shelf.taken) == len(wanted)
    assert list(dict.fromkeys(shelf.named)) == list(wanted)
    with pytest.raises(OutputError, match="all of it was delivered"):
        deliver_files(str(out), manifest, "sftp://shop.quillfern.example/in", Delivery(), NOW)


@SORTS
def test_files_arrive_at_every_server(server, tmp_path):
    out = written(tmp_path / "round", files=3)
    outcome = deliver(str(out), server)
    names = ["update-1.csv", "update-2.csv", "update-3.csv", "READ-ME-FIRST.txt"]
    assert [(file.file, file.outcome) for file in outcome.files] == [(name, "arrived") for name in names]
    from neat_delta.files.sources.fetch import fetch

    for name in names:
        assert fetch(f"{server}/{name}", on=SOON).path.read_bytes() == (out / name).read_bytes()
    with pytest.raises(FileError, match="no file there is called like"):
        fetch(f"{server}/.update*", on=SOON)
    with pytest.raises(OutputError, match="all of it was delivered"):
        deliver(str(out), server)
    other = written(tmp_path / "other", price="11.00")
    with pytest.raises(
        OutputError, match=r"there is another update-1\.csv there, which the store has perhaps not taken"
    ):
        deliver(str(other), server)
    if server != "s3://shop":
        with pytest.raises(OutputError, match="there is no such folder there"):
            deliver(str(other), f"{server}/nowhere")


@contextmanager
def breaking(sort, place, cuts, authority):
    """A server of a sort behind a way that breaks off at drawn bytes, either way: the address of it, and a call that
    says what arrived there, by name.
    """
    shop, known, cuts = place / "shop", place / "known", list(cuts)
    shop.mkdir()

    def files():
        return {path.name: path.read_bytes() for path in shop.iterdir()}

    with ExitStack() as stack:
        patched = stack.enter_context(pytest.MonkeyPatch.context())
        if sort == "sftp":
            address, line = stack.enter_context(servers.ssh(shop, known))
        elif sort in {"ftp", "ftps"}:  # what is carried goes beside the connection that says what to do
            of_transfers = [-cut for cut in cuts if cut < 0]
            cuts = [cut for cut in cuts if cut >= 0]
            authority.cert_pem.write_to_path(place / "authority.pem")
            patched.setenv("SSL_CERT_FILE", str(place / "authority.pem"))
            address = stack.enter_context(servers.ftp(shop, authority if sort == "ftps" else None, of_transfers))
        elif sort == "s3":
            import boto3

            address = stack.enter_context(servers.s3("shop"))
            bucket = boto3.resource("s3", endpoint_url=address).Bucket("shop")
            bucket.objects.all().delete()  # of the server before, which has the same memory
        else:
            web = stack.enter_context(servers.web())
            address = web.place
        port = int(urlsplit(address).port or 0)
        way = stack.enter_context(servers.cutting(port, cuts))
        through = address.replace(f":{port}", f":{way}")
        if sort == "sftp":
            known.write_text(line.replace(f":{port}", f":{way}") + "\n")
            patched.setenv("NEAT_DELTA_KNOWN_HOSTS", str(known))
        if sort == "s3":
            patched.setenv("AWS_ENDPOINT_URL", through)
            yield "s3://shop", lambda: {thing.key: thing.get()["Body"].read() for thing in bucket.objects.all()}
        elif sort == "http":
            yield (
                f"{through}/import/{{file}}",
                lambda: {path.rpartition("/")[2]: body for method, path, _, body in web.requests if method == "POST"},
            )
            posts = [path for method, path, *_ in web.requests if method == "POST"]
            assert len(posts) == len(set(posts))  # none came twice
        else:
            yield through, files


BREAKS = st.lists(st.one_of(st.integers(-700, 700), st.integers(-9000, 9000)), max_size=4)


@in_two_lengths(st.sampled_from(["sftp", "ftp", "ftps", "s3", "http"]), BREAKS, few=2, many=25)
def test_a_delivery_that_breaks_off_on_the_wire_goes_on(tmp_path_factory, out_of_three, authority, sort, cuts):
    """At drawn bytes, until it is done, by somebody who looks where nobody can tell: each file once and whole, and
    nothing beside them.
    """
    place = tmp_path_factory.mktemp(sort)
    shutil.copytree(out_of_three, place / "out")
    manifest = read_manifest(str(place / "out"))
    perhaps: delivery.Perhaps = None
    with breaking(sort, place, cuts, authority) as (address, files), fetching(lambda: IMPATIENT):
        for _ in range(2 * len(cuts) + 3):
            try:
                deliver_files(str(place / "out"), manifest, address, Delivery(), IMPATIENT, perhaps)
                break
            except FileError:
                perhaps = None
            except OutputError as error:
                names = re.findall(r"(update-\d\.csv|READ-ME-FIRST\.txt) (?:arrived|was sent)", str(error))
                perhaps = "arrived" if names[0] in files() else "again"
        else:
            raise AssertionError("it never ends")
        arrived = files()
    wanted = [*(f"update-{n}.csv" for n in (1, 2, 3)), *(["READ-ME-FIRST.txt"] if sort != "http" else [])]
    assert arrived == {name: (place / "out" / name).read_bytes() for name in wanted}


def test_a_folder_gets_the_files_and_an_edited_one_never_goes(tmp_path, run):
    out, polled = written(tmp_path, files=3), tmp_path / "polled"
    missing = run("deliver", "out", "--to", "polled")
    assert (missing.returncode, "there is no such folder to deliver into" in missing.stderr) == (2, True)
    polled.mkdir()
    whole = (out / "update-3.csv").read_bytes()
    (out / "update-3.csv").write_bytes(whole + b"\n")
    edited = run("deliver", "out", "--to", "polled")
    assert (edited.returncode, "it was edited since" in edited.stderr) == (2, True)
    assert list(polled.iterdir()) == []
    (out / "update-3.csv").write_bytes(whole)
    assert run("deliver", "out", "--to", "polled").returncode == 0
    assert {path.name for path in polled.iterdir()} == {
        "update-1.csv", "update-2.csv", "update-3.csv", "READ-ME-FIRST.txt",
    }  # fmt: skip
    for path in polled.iterdir():
        assert path.read_bytes() == (out / path.name).read_bytes()
        path.unlink()
    assert run("deliver", "out", "--to", "polled").returncode == 2
    facts = json.loads(run("deliver", "out", "--to", "polled", "--again", "--json").stdout)
    assert (facts["arrived"], len(list(polled.iterdir()))) == (True, 4)
    (tmp_path / "sheet.csv").write_text(SHEET)
    assert run("compare", "live.csv", "sheet.csv", "-o", "changes.jsonl").returncode == 0
    replaced = run("write", "changes.jsonl", "--to", "out", "--replace")
    assert (replaced.returncode, "it was delivered, and delivery.jsonl in it says" in replaced.stderr) == (2, True)


def test_where_nothing_is_to_be_sent_nothing_is_delivered(tmp_path, run):
    (tmp_path / "live.csv").write_text(LIVE)
    (tmp_path / "polled").mkdir()
    assert run("compare", "live.csv", "live.csv", "-o", "changes.jsonl").returncode == 0
    assert run("write", "changes.jsonl", "--to", "out", "--deliver", "polled").returncode == 0
    done = run("deliver", "out", "--to", "polled")
    assert (done.returncode, "it has no update files" in done.stderr) == (2, True)
    assert list((tmp_path / "polled").iterdir()) == []
    assert not (tmp_path / "out" / JOURNAL).exists()


def test_two_cannot_deliver_one_folder_at_once(tmp_path):
    out, polled = written(tmp_path), tmp_path / "polled"
    polled.mkdir()
    with (out / JOURNAL).open("ab") as held:
        fcntl.flock(held, fcntl.LOCK_EX)
        with pytest.raises(OutputError, match="it is being delivered right now"):
            deliver(str(out), str(polled))
    assert len(deliver(str(out), str(polled)).files) == 2


def test_a_journal_that_was_cut_off_goes_on_and_one_that_was_edited_does_not(tmp_path):
    out, polled = written(tmp_path), tmp_path / "polled"
    polled.mkdir()
    deliver(str(out), str(polled))
    lines = (out / JOURNAL).read_bytes().splitlines(keepends=True)
    (out / JOURNAL).write_bytes(b"".join(lines[:-1]) + lines[-1][:20])
    assert len(journal_of(str(out))) == len(lines) - 1
    assert [file.outcome for file in deliver(str(out), str(polled)).files] == ["before", "arrived"]
    (out / JOURNAL).write_bytes(b"arrived\n" + lines[0])
    with pytest.raises(OutputError, match="it is not as deliveries wrote it"):
        deliver(str(out), str(polled))


def of_web(out, web, perhaps=None, **settings):
    """Deliver a folder to a web server."""
    address = f"{web.place}/import/{{file}}?action={{action}}"
    return deliver_files(str(out), read_manifest(str(out)), address, Delivery(**settings), NOW, perhaps)


def test_the_web_gets_each_file_as_the_store_file_says(web, tmp_path, monkeypatch):
    out = written(tmp_path, files=3)
    monkeypatch.setenv("SHOP_KEY", "wax-S3CRET")
    web.answers["/import/update-1.csv"] = lambda body: (201, "text/csv", b"sku,result\nQA-1,done\n")
    web.faults[:] = ["429"]
    headers = {"Accept": "text/csv", "X-Shop-Key": "$SHOP_KEY"}
    files = of_web(out, web, method="PUT", content_type="text/plain", headers=headers)
    assert [file.outcome for file in files] == ["arrived"] * 3
    puts = [request for request in web.requests if request[0] == "PUT"]
    assert [path for _, path, _, _ in puts] == [f"/import/update-{n}.csv?action=change" for n in (1, 2, 3)]
    assert [body for *_, body in puts] == [(out / f"update-{n}.csv").read_bytes() for n in (1, 2, 3)]
    assert {(h["Content-Type"], h["Accept"], h["X-Shop-Key"]) for _, _, h, _ in puts} == {
        ("text/plain", "text/csv", "wax-S3CRET")
    }
    assert len({h["Idempotency-Key"] for _, _, h, _ in puts}) == 3
    assert (out / "answer-update-1.csv").read_bytes() == b"sku,result\nQA-1,done\n"
    assert kept_answers(str(out)) == [
        str(out / f"answer-update-{n}") + e for n, e in ((1, ".csv"), (2, ".txt"), (3, ".txt"))
    ]
    assert [path for path in out.iterdir() if b"S3CRET" in path.read_bytes()] == []
    monkeypatch.delenv("SHOP_KEY")
    with pytest.raises(OutputError, match="is taken from SHOP_KEY, which is not in the environment"):
        of_web(out, web, "again", headers=headers)


@pytest.mark.parametrize("perhaps", ["again", "arrived"])
def test_where_no_answer_came_nobody_sends_it_twice_unasked(web, tmp_path, perhaps):
    out = written(tmp_path, files=3)
    web.faults[:] = ["", "lost"]
    with pytest.raises(OutputError, match=r"update-2\.csv was sent, and no answer came"):
        of_web(out, web)
    for _ in range(2):
        with pytest.raises(OutputError, match=r"update-2\.csv was sent, and no answer came"):
            of_web(out, web)
    assert next(file.outcome for file in of_web(out, web, perhaps)) == "before"
    paths = [path.partition("?")[0][-12:] for method, path, _, _ in web.requests if method == "POST"]
    assert paths == ["update-1.csv", "update-2.csv", *["update-2.csv"] * (perhaps == "again"), "update-3.csv"]


def test_a_store_that_knows_a_request_again_is_asked_again(web, tmp_path):
    out = written(tmp_path)
    web.faults[:] = ["lost"]
    assert [file.outcome for file in of_web(out, web, repeatable=True)] == ["arrived"]
    keys = [headers["Idempotency-Key"] for method, _, headers, _ in web.requests if method == "POST"]
    assert len(keys) == 2
    assert keys[0] == keys[1]
    of_web(out, web, "again", repeatable=True)
    again = [headers["Idempotency-Key"] for method, _, headers, _ in web.requests if method == "POST"][-1]
    assert again != keys[0]


def test_what_the_store_does_not_take_ends_the_delivery(web, tmp_path, run):
    written(tmp_path, files=3)
    web.answers["/import/update-2.csv"] = lambda body: (422, "application/json", b'{"error": "no"}')
    done = run("deliver", "out", "--to", f"{web.place}/import/{{file}}")
    assert done.returncode == 1
    assert "Not taken: update-2.csv: the store answers 422; what it says is in answer-update-2.json" in done.stdout
    assert sum(method == "POST" for method, *_ in web.requests) == 2
    del web.answers["/import/update-2.csv"]
    done = run("deliver", "out", "--to", f"{web.place}/import/{{file}}")
    assert (done.returncode, "Delivered 2 files" in done.stdout) == (0, True)
    assert sum(method == "POST" for method, *_ in web.requests) == 4


def test_a_store_that_cannot_be_reached_has_got_nothing(tmp_path):
    out = written(tmp_path)
    with servers.web() as gone:
        place = gone.place
    for _ in range(2):
        with pytest.raises(FileError, match="it cannot be reached, 2 times"):
            deliver_files(str(out), read_manifest(str(out)), f"{place}/import", Delivery(), NOW)


def test_what_cannot_be_reached_is_no_error_of_the_call(tmp_path, run, monkeypatch):
    """The files are written; that they did not arrive is exit status 1, and the same command goes on."""
    written(tmp_path)
    monkeypatch.setattr(base.Terms, "__init__", partialmethod(base.Terms.__init__, attempts=1))
    with servers.web() as gone:
        place = f"{gone.place}/import"
    done = run("write", "changes.jsonl", "--to", "out2", "--deliver", place)
    assert done.returncode == 1
    assert "Wrote 4 files to out2" in done.stdout
    assert f"Not all of it arrived: {place}: it cannot be reached" in done.stderr
    facts = json.loads(run("deliver", "out2", "--to", place, "--json").stdout)
    assert (facts["arrived"], "cannot be reached" in facts["broken"]) == (False, True)


def test_the_kept_answers_are_the_report(web, tmp_path, run):
    """And an answer that is no report is left out where an export tells."""
    written(tmp_path)
    web.answers["/import"] = lambda body: (200, "text/csv", b"sku,result,message\nQA-1,refused,too dear\n")
    assert run("write", "changes.jsonl", "--to", "out2", "--deliver", f"{web.place}/import").returncode == 0
    told = run("confirm", "changes.jsonl", "--files", "out2")
    assert told.returncode == 1
    assert "too dear" in told.stdout
    assert "As the store answered when it was delivered: out2/answer-update-1.csv." in told.stdout
    web.answers["/import"] = lambda body: (200, "text/plain", b"taken\n")
    assert run("write", "changes.jsonl", "--to", "out3", "--deliver", f"{web.place}/import").returncode == 0
    assert run("confirm", "changes.jsonl", "--files", "out3").returncode == 2
    seen = run("confirm", "changes.jsonl", "sheet.csv", "--files", "out3")
    assert (seen.returncode, "is no report that is understood" in seen.stdout) == (0, True)


def test_a_header_that_may_be_secret_stands_in_no_store_file(tmp_path, run):
    written(tmp_path)
    (tmp_path / "store.toml").write_text('version = 1\n[delivery]\nheaders = { Authorization = "Bearer honey" }\n')
    done = run("deliver", "out", "--to", "polled", "--store", "store.toml")
    assert (done.returncode, "it may be a secret" in done.stderr) == (2, True)


def table_of(address):
    """The rows of the table, as they are now."""
    from neat_delta.files.sources.fetch import fetch

    return fetch(f"{address}#items", on=SOON).path.read_text()


def round_of(address, tmp_path, sheet, fields=None, **options):
    """A folder of what a sheet changes in the table, by the library."""
    store = neat_delta.Store(importer=neat_delta.Importer("clear", removal=Removal("row")), fields=fields or {})
    compared = neat_delta.compare(f"{address}#items", sheet, store=store, **options)
    tmp_path.mkdir(parents=True, exist_ok=True)
    neat_delta.write_changes(compared, str(tmp_path / "changes.jsonl"))
    changes = neat_delta.read_changes(str(tmp_path / "changes.jsonl"))
    live = neat_delta.read_live(changes, str(tmp_path / "changes.jsonl"))
    neat_delta.write(changes, live, store.importer, str(tmp_path / "out"))
    return str(tmp_path / "out")


@DATABASES
def test_a_table_is_changed_and_taken_back_in_one_transaction(databases, sort, tmp_path, run):
    address, execute = databases(sort)
    fill(execute, sort, [row.format(**TYPES[sort]) for row in ROWS])
    before = table_of(address)
    sheet = [
        {"sku": "QA-10", "name": "Veil; 100 % cotton", "price": "1200000.50"},
        {"sku": "QA-1", "name": "It's", "price": "3.00"},
        {"sku": "QA-7", "name": "Frame", "price": "2.10"},
    ]
    out = round_of(address, tmp_path, sheet, with_new=True, with_gone=True, whole=True)
    outcome = deliver(out, f"{address}#items")
    assert outcome.arrived, outcome
    lines = {line.split(",")[0]: line.split(",")[1:3] for line in table_of(address).splitlines()[1:]}
    assert lines == {
        "QA-1": ["It's", "3.00" if sort != "sqlite" else "3"],
        "QA-10": ["Veil; 100 % cotton", "1200000.50" if sort != "sqlite" else "1200000.5"],
        "QA-7": ["Frame", "2.10" if sort != "sqlite" else "2.1"],
    }
    with pytest.raises(OutputError, match="all of it was delivered"):
        deliver(out, f"{address}#items")
    assert run("undo", "changes.jsonl", "--to", "back").returncode == 0
    outcome = deliver(str(tmp_path / "back"), f"{address}#items", changes=str(tmp_path / "changes.jsonl"))
    assert outcome.arrived, outcome
    assert table_of(address) == before


@DATABASES
def test_what_a_colleague_changed_stops_all_of_it(databases, sort, tmp_path, run):
    """The cells that are sent are looked at to the letter, rows that go in all their cells, new ones by their key."""
    address, execute = databases(sort)
    for number, (statement, shown) in enumerate(
        (
            ("UPDATE items SET name = 'VEIL, FOLDING' WHERE sku = 'QA-10'", "VEIL, FOLDING"),
            ("UPDATE items SET stock = 9 WHERE sku = 'QA-2'", "stock"),
            ("DELETE FROM items WHERE sku = 'QA-10'", "no such row"),
            ("INSERT INTO items (sku, name) VALUES ('QA-7', 'Feeder')", "it is there"),
        )
    ):
        fill(execute, sort, [row.format(**TYPES[sort]) for row in ROWS])
        sheet = [{"sku": "QA-10", "name": "Veil"}, {"sku": "QA-1", "name": "Hat"}, {"sku": "QA-7", "name": "Frame"}]
        out = round_of(address, tmp_path / str(number), sheet, with_new=True, with_gone=True, whole=True)
        execute(statement)
        stands = table_of(address)
        done = run("deliver", out, "--to", f"{address}#items")
        assert (done.returncode, shown in done.stdout) == (1, True), done.stdout + done.stderr
        assert "nothing was changed" in done.stdout
        assert table_of(address) == stands


@DATABASES
def test_codes_change_places_in_one_transaction(databases, sort, tmp_path):
    address, execute = databases(sort)
    fill(execute, sort, [row.format(**TYPES[sort]) for row in ROWS])
    recoded = neat_delta.recode(f"{address}#items", {"sku": ["QA-1", "QA-2"], "new_sku": ["QA-2", "QA-1"]})
    importer = neat_delta.Importer("clear", code_change=neat_delta.CodeChange("row"))
    neat_delta.write_changes(recoded, str(tmp_path / "changes.jsonl"))
    changes = neat_delta.read_changes(str(tmp_path / "changes.jsonl"))
    live = neat_delta.read_live(changes, str(tmp_path / "changes.jsonl"))
    neat_delta.write(changes, live, importer, str(tmp_path / "out"))
    outcome = deliver(str(tmp_path / "out"), f"{address}#items")
    assert outcome.arrived, outcome
    prices = {line.split(",")[0]: line.split(",")[2] for line in table_of(address).splitlines() if "QA-10" not in line}
    assert prices["QA-2"] == ""
    assert prices["QA-1"].startswith("20.5")


STEPS = st.lists(
    st.tuples(st.integers(0, 9), st.sampled_from(["price", "name"]), st.integers(1, 5), st.booleans()), max_size=6
)


@in_two_lengths(STEPS, STEPS, few=6, many=120)
def test_a_table_is_at_its_target_or_untouched(tmp_path_factory, ours, theirs):
    """With another writer, before and while it is delivered; never anything between, and never his work undone."""
    place = tmp_path_factory.mktemp("table")
    path, address = place / "shop.db", f"sqlite:///{place / 'shop.db'}"
    with sqlite3.connect(path) as connection:
        connection.execute("CREATE TABLE items (sku text PRIMARY KEY, name text, price numeric, other text)")
        connection.executemany(
            "INSERT INTO items VALUES (?, ?, ?, '')", [(f"QA-{n}", "Hive", n + 101) for n in range(10)]
        )
    sheet = {n: {"sku": f"QA-{n}", "name": "Hive", "price": str(n + 101)} for n in range(10)}
    for n, field, by, _ in ours:
        sheet[n][field] = str(n + 101 + by) if field == "price" else f"Hive {by}"
    out = round_of(address, place, list(sheet.values()))
    manifest = read_manifest(out)
    early = [step for step in theirs if step[3]]

    def write(steps):
        with sqlite3.connect(path, timeout=20) as other:
            for n, field, by, _ in steps:
                value = n + 111 + by if field == "price" else f"Skep {by}"
                other.execute(f"UPDATE items SET {field} = ? WHERE sku = ?", (value, f"QA-{n}"))

    def rows():
        with sqlite3.connect(path) as connection:
            return {row[0]: row[1:3] for row in connection.execute("SELECT * FROM items")}

    write(early)
    before = rows()
    if not manifest.update:
        return
    late = threading.Thread(target=write, args=([step for step in theirs if not step[3]],))
    late.start()
    outcome = deliver(out, f"{address}#items")
    late.join()
    after = rows()
    sent = {(n, field) for n in sheet for field in ("name", "price")
            if sheet[n][field] != {"name": "Hive", "price": str(n + 101)}[field]}  # fmt: skip
    touched = {(n, field) for n, field, *_ in theirs}
    if outcome.arrived:
        for n, field in sent:
            value = after[f"QA-{n}"][field == "price"]
            assert str(value) == sheet[n][field] or (n, field) in touched
    else:
        assert touched & sent or any(step in early for step in theirs)
        for n, field in sent - touched:
            assert after[f"QA-{n}"][field == "price"] == before[f"QA-{n}"][field == "price"]


ITEMS = range(8)
TURNS = st.lists(
    st.tuples(st.sampled_from(ITEMS), st.sampled_from(["price", "name", "add", "remove"]), st.integers(1, 5)),
    max_size=6,
)


@in_two_lengths(TURNS, TURNS, TURNS, few=30, many=1000)
def test_a_transaction_does_all_of_it_or_nothing_with_another_writer_at_work(tmp_path_factory, ours, early, late):
    """He writes before it and while it goes on; what stands there then is what one of the two orders gives."""
    path = tmp_path_factory.mktemp("table") / "shop.db"
    start = {f"QA-{n}": ["Hive", str(n + 101)] for n in ITEMS if n % 4}
    with closing(sqlite3.connect(path)) as connection, connection:
        connection.execute("CREATE TABLE items (sku text PRIMARY KEY, name text, price numeric)")
        connection.executemany("INSERT INTO items VALUES (?, ?, ?)", [(sku, *row) for sku, row in start.items()])

    changes = _planned(start, _turned(start, ours, "Frame"))

    def write(turns):
        """The other's turns, in one transaction of his own."""
        with closing(sqlite3.connect(path, timeout=20, isolation_level=None)) as other:
            other.execute("BEGIN IMMEDIATE")
            now = {sku: [name, str(price)] for sku, name, price in other.execute("SELECT * FROM items")}
            other.execute("DELETE FROM items")
            rows = [(sku, *row) for sku, row in _turned(now, turns, "Skep").items()]
            other.executemany("INSERT INTO items VALUES (?, ?, ?)", rows)
            other.execute("COMMIT")

    write(early)
    before = _turned(start, early, "Skep")
    where = parse(f"sqlite:///{path}#items")
    thread = threading.Thread(target=write, args=(late,))
    thread.start()
    differences = change_rows(where, credentials_for(where), changes, SOON)
    thread.join()
    with closing(sqlite3.connect(path)) as connection:
        now = {sku: [name, str(price)] for sku, name, price in connection.execute("SELECT * FROM items")}
    if differences:
        assert now == _turned(before, late, "Skep")
    else:
        done = [  # ours between his turns, or after all of them
            _turned(_applied(before, changes), late, "Skep"),
            _applied(_turned(before, late, "Skep"), changes),
        ]
        assert now in done
    if not changes:
        assert not differences


def _turned(rows, turns, whose):
    """The rows after somebody's turns, of which he makes those that are possible."""
    rows = {sku: [*row] for sku, row in rows.items()}
    for n, what, by in turns:
        sku, row = f"QA-{n}", [f"{whose} {by}", str(n + 111 + by + (50 if whose == "Skep" else 0))]
        if what == "add" and sku not in rows:
            rows[sku] = row
        elif what == "remove":
            rows.pop(sku, None)
        elif what in {"price", "name"} and sku in rows:
            at = ("name", "price").index(what)
            rows[sku][at] = row[at]
    return rows


def _planned(start, target):
    """The changes that make of the rows what they are to be."""
    changes = []
    for sku in sorted({*start, *target}):
        old, new = (dict(zip(("name", "price"), rows.get(sku, ()), strict=False)) for rows in (start, target))
        if not new:
            changes.append(RowChange({"sku": sku}, {"sku": sku, **old}))
        elif not old:
            changes.append(RowChange({"sku": sku}, after={"sku": sku, **new}, in_full=True))
        elif old != new:
            fields = [name for name in old if old[name] != new[name]]
            changes.append(
                RowChange({"sku": sku}, {name: old[name] for name in fields}, {name: new[name] for name in fields})
            )
    return changes


def _applied(rows, changes):
    """The rows after changes, as they stand there."""
    rows = {sku: [*row] for sku, row in rows.items()}
    for change in changes:
        sku = change.key["sku"]
        if not change.after:
            rows.pop(sku, None)
        else:
            row = dict(zip(("name", "price"), rows.get(sku, ["", ""]), strict=True)) | dict(change.after)
            rows[sku] = [row["name"], row["price"]]
    return rows


@in_two_lengths(st.lists(st.integers(0, 6000), max_size=3), few=2, many=20)
def test_a_database_whose_connection_breaks_off_is_at_its_target_or_untouched(databases, tmp_path_factory, cuts):
    """Also where the answer to its COMMIT was lost: the next delivery finds it done."""
    address, execute = databases("postgresql")
    fill(execute, "postgresql", [row.format(**TYPES["postgresql"]) for row in ROWS])
    place = tmp_path_factory.mktemp("broken")
    out = round_of(address, place, [{"sku": "QA-10", "name": "Veil"}, {"sku": "QA-2", "name": "Hat"}])
    before = table_of(address)
    port = urlsplit(address).port
    with servers.cutting(int(port or 0), list(cuts)) as way, fetching(lambda: NOW):
        for _ in range(len(cuts) + 2):
            try:
                outcome = deliver(out, address.replace(f":{port}", f":{way}") + "#items")
                break
            except FileError:
                assert table_of(address) in {
                    before,
                    before.replace('"Veil, folding"', "Veil").replace("QA-2,,", "QA-2,Hat,"),
                }
    assert outcome.arrived, outcome
    assert table_of(address) == before.replace('"Veil, folding"', "Veil").replace("QA-2,,", "QA-2,Hat,")


@DATABASES
def test_a_code_that_is_freed_may_go_to_another_at_once(databases, sort):
    address, execute = databases(sort)
    fill(execute, sort, [row.format(**TYPES[sort]) for row in ROWS])
    rows = [
        RowChange({"sku": "QA-2"}, {"sku": "QA-2"}, {"sku": "QA-3"}),
        RowChange({"sku": "QA-10"}, {"sku": "QA-10", "stock": "4"}),
        RowChange({"sku": "QA-2"}, after={"sku": "QA-2", "name": "Frame"}),
        RowChange({"sku": "QA-10"}, after={"sku": "QA-10", "name": "Lid"}),
    ]
    where = parse(f"{address}#items")
    assert change_rows(where, credentials_for(where), rows, SOON) == []
    lines = {line.split(",")[0]: line.split(",")[1] for line in table_of(address).splitlines()[1:]}
    assert lines == {"QA-1": r"\N", "QA-2": "Frame", "QA-3": "", "QA-10": "Lid"}
    assert change_rows(where, credentials_for(where), rows, SOON, begun=True) == []
    assert change_rows(where, credentials_for(where), rows, SOON)  # and not a second time


def test_where_the_answer_to_a_commit_is_lost_it_is_found_done(databases, tmp_path):
    """The connection breaks off within the last bytes of all that the database sends."""
    address, execute = databases("postgresql")
    port, sent = int(urlsplit(address).port or 0), list[int]()
    for number, back in enumerate((0, 1, 8, 16, 24, 40)):
        fill(execute, "postgresql", [row.format(**TYPES["postgresql"]) for row in ROWS])
        out = round_of(address, tmp_path / str(number), [{"sku": "QA-10", "name": "Veil"}])
        cuts = [max(sent) - back] if sent else []
        with servers.cutting(port, cuts, sent) as way, fetching(lambda: NOW):
            outcome = deliver(out, address.replace(f":{port}", f":{way}") + "#items")
        assert outcome.arrived, (back, outcome)
        assert '"Veil, folding"' not in table_of(address)
        assert cuts == []


def test_a_column_that_cuts_what_it_is_given_takes_nothing(tmp_path):
    """What a database keeps otherwise than it was meant is shown, and taken back with all the rest."""
    path, address = tmp_path / "shop.db", f"sqlite:///{tmp_path / 'shop.db'}"
    with sqlite3.connect(path) as connection:
        connection.execute("CREATE TABLE items (sku text PRIMARY KEY, name text)")
        connection.execute("INSERT INTO items VALUES ('QA-1', 'Hive'), ('QA-2', 'Veil')")
        connection.execute(
            "CREATE TRIGGER cut AFTER UPDATE ON items BEGIN "
            "UPDATE items SET name = substr(new.name, 1, 4) WHERE sku = new.sku; END"
        )
    out = round_of(address, tmp_path, [{"sku": "QA-1", "name": "Smoker"}, {"sku": "QA-2", "name": "Hat"}])
    outcome = deliver(out, f"{address}#items")
    assert [(cell.key["sku"], cell.after, cell.now) for cell in outcome.differences] == [("QA-1", "Smoker", "Smok")]
    with sqlite3.connect(path) as connection:
        assert connection.execute("SELECT name FROM items ORDER BY sku").fetchall() == [("Hive",), ("Veil",)]


def test_a_practice_store_takes_what_is_delivered_into_its_folder(tmp_path, run):
    written(tmp_path)
    polled, lines = tmp_path / "polled", list[str]()
    polled.mkdir()
    assert run("deliver", "out", "--to", "polled").returncode == 0
    (polled / "broken.csv").write_bytes(b"")
    (polled / "half.csv.partial").write_text("sku")
    shop = Shop(neat_delta.read(str(tmp_path / "live.csv")), neat_delta.Store(importer=neat_delta.Importer("skip")))
    watch(shop, str(polled), lines.append, looks=3)
    assert shop.export_csv(shop.table()).decode() == SHEET
    assert {path.name for path in polled.iterdir()} == {
        "READ-ME-FIRST.txt", "broken.csv.report.txt", "half.csv.partial", "imported", "refused",
        "update-1.csv.report.csv",
    }  # fmt: skip
    assert lines[1] == "update-1.csv: 1 done"
    confirmed = run("confirm", "changes.jsonl", "--files", "out", "--results", "polled/update-1.csv.report.csv")
    assert confirmed.returncode == 0, confirmed.stderr


def test_what_the_program_writes_is_for_its_owner_to_read(web, home, tmp_path):
    """What is fetched may be confidential: nobody else may read the cache."""
    neat_delta.read(f"{web.place}/live.csv")
    for path in (home / "neat-delta").iterdir():
        assert path.stat().st_mode & 0o077 == 0 or path.suffix == ".json"
