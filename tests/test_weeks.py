"""The same round every week, from real servers to a practice store and back; and who hears of it."""

from __future__ import annotations

import hashlib
import hmac
import json
import random
import socket
import ssl
from contextlib import contextmanager
from email import message_from_bytes, policy
from pathlib import Path

import pytest
from aiosmtpd.controller import Controller
from aiosmtpd.smtp import AuthResult

import neat_delta
from neat_delta.files.telling import SIGNATURE
from neat_delta.practice.faults import Faults, Refusal
from neat_delta.practice.shop import Shop
from tests import servers
from tests.practice import served
from tests.test_rounds import ROUND, ROWS, answers, as_csv, changed, edit, shop, taken
from tests.test_sources import authority, home, trusted

__all__ = ["authority", "home", "shop", "trusted"]

STORE = """version = 1
[store]
name = "Quillfern Apiary Supply"
[key]
fields = ["sku"]
[importer]
blanks = "skip"
[results]
key = ["sku"]
row = "row"
file = "file"
status = "result"
done = ["imported"]
warned = ["imported, see message"]
refused = ["rejected"]
message = "message"
[delivery]
headers = {{ Accept = "text/csv" }}
[fields.price]
kind = "money"
decimals = 2
largest_change = 30
[fields.cost]
kind = "money"
decimals = 2
[fields.stock]
kind = "integer"
moving = true
[relations]
price = "price"
cost = "cost"
least_margin = 10
"""

ROUND_FILE = """version = 1
live = "{url}/export.csv"

[[sheet]]
file = "{list}/trade.csv"
mapping = "trade.toml"
rules = "retail.toml"

[[sheet]]
file = "counter.csv"

[limits]
smaller = 40
price_sum = 20

[sign_off]
wanted = true

[deliver]
to = ["{url}/import?name={{file}}&action={{action}}"]
"""

RULES = """version = 1
[let]
rate = "{rate}"
[[rule]]
name = "retail"
where = "cost <> live.cost"
set = {{ price = "ROUND(cost * 2.05 * :rate, 2)" }}
"""


class Weeks:
    """A shop's weeks: what its supplier and its people want, and what the store has."""

    def __init__(self, place: Path, run, address: str, lists: Path, practice) -> None:
        self.place, self.run, self.lists, self.practice = place, run, lists, practice
        self.rng = random.Random(7)
        costs = [f"{place % 7 + 5}.00" for place in range(len(ROWS))]
        rows = [
            [row[0], row[1], f"{float(cost) * 2.05:.2f}", cost, str(index + 50)]
            for index, (row, cost) in enumerate(zip(ROWS, costs, strict=True))
        ]
        (place / "first.csv").write_text(as_csv(rows))
        (place / "neat-delta.toml").write_text(STORE.replace("{{", "{").replace("}}", "}"))
        store = neat_delta.read_store(str(place / "neat-delta.toml"))
        self.shop = practice.open(Shop(neat_delta.read(str(place / "first.csv")), store))
        (place / "trade.toml").write_text('version = 1\n[headings]\nCode = "sku"\nTrade = "cost"\n')
        (place / "retail.toml").write_text(RULES.format(rate="1.00"))
        (place / "weekly.toml").write_text(ROUND_FILE.format(url=practice.url, list=address))
        self.costs = {row[0]: row[3] for row in rows}

    def now(self) -> dict[str, dict[str, str]]:
        """What the store has."""
        return {row["sku"]: row for row in self.shop.table().to_dicts()}

    def new_list(self, share: int = 10) -> dict[str, str]:
        """The supplier's list, with the costs of so many items otherwise; what is otherwise."""
        raised = self.rng.sample(sorted(self.costs), share)
        new = {sku: f"{float(self.costs[sku]) * 1.04:.2f}" for sku in raised}
        self.costs |= new
        self.lists.joinpath("trade.csv").write_text(
            as_csv([[sku, cost] for sku, cost in self.costs.items()], ["Code", "Trade"])
        )
        return new

    def counter(self, week: int, taboo: set[str]) -> dict[str, str]:
        """What people at the counter correct: names."""
        corrected = dict.fromkeys(self.rng.sample(sorted(set(self.costs) - taboo), 2), f"Jar of week {week}")
        rows = [[sku, name] for sku, name in corrected.items()]
        (self.place / "counter.csv").write_text(as_csv(rows, ["sku", "name"]))
        return corrected

    def sell(self) -> None:
        """The store sells, and a colleague corrects a price there."""
        self.shop.sell(3)

    def bad_list(self) -> None:
        """Half of the list is missing."""
        path, before = self.lists / "trade.csv", self.now()
        content = path.read_text()
        path.write_text("\n".join(content.splitlines()[:9]) + "\n")
        stopped = self.run("run", "weekly.toml")
        assert (stopped.returncode, "and had 30 the last time" in stopped.stderr) == (1, True)
        assert self.now() == before
        path.write_text(content)

    def bad_rate(self) -> None:
        """Somebody mistook a rate."""
        before = self.now()
        (self.place / "retail.toml").write_text(RULES.format(rate="10.0"))
        self.run("run", "weekly.toml")
        answers(self.place, f"{self.last():04d}")
        stopped = self.run("run", "weekly.toml", "--resume")
        assert (stopped.returncode, "check: large-change" in stopped.stdout) == (1, True)
        assert self.now() == before
        (self.place / "retail.toml").write_text(RULES.format(rate="1.00"))
        self.run("run", "weekly.toml", "--close", str(self.last()), "--because", "the rate was wrong")

    def last(self) -> int:
        """The number of the last round."""
        return len(list((self.place / "rounds").glob("0*")))

    def week(self, number: int, bad: str | None) -> None:
        """A week: what was wanted is what the store has in the end, and nothing else."""
        before, new = self.now(), self.new_list()
        corrected = self.counter(number, set(new))
        if bad == "list":
            self.bad_list()
        elif bad == "rate":
            self.bad_rate()
        refused = sorted(new)[0] if bad == "refused" else None
        if refused is not None:
            self.shop.faults = Faults(refuse=(Refusal(refused, None),))
        self.sell()
        assert self.run("run", "weekly.toml").returncode == 1  # it waits for its answers
        answers(self.place, f"{self.last():04d}")
        self.sell()  # live moves while it waits
        done = self.run("run", "weekly.toml", "--resume")
        assert done.returncode == 0, done.stdout + done.stderr
        looked = self.run("run", "weekly.toml", "--confirm")
        prices = {sku: f"{float(cost) * 2.05:.2f}" for sku, cost in new.items()}
        for sku, row in self.now().items():
            meant = (
                {} if sku == refused else {"cost": new.get(sku), "price": prices.get(sku), "name": corrected.get(sku)}
            )
            for name in ("cost", "name"):
                assert row[name] == (meant.get(name) or before[sku][name])
            assert abs(float(row["price"]) - float(meant.get("price") or before[sku]["price"])) < 0.011
        assert looked.returncode == (0 if refused is None else 1)
        if refused is not None:
            assert "landed otherwise than meant" in looked.stdout
            self.shop.faults = Faults()
            self.run("run", "weekly.toml", "--close", str(self.last()), "--because", "the supplier takes it back")
            self.costs[refused] = before[refused]["cost"]


@pytest.fixture
def weeks(tmp_path, run, home, monkeypatch):
    """The shop, its practice store on HTTP, and its supplier on SSH."""
    lists = tmp_path / "supplier"
    lists.mkdir()
    monkeypatch.setenv("NEAT_DELTA_KNOWN_HOSTS", str(tmp_path / "known_hosts"))
    with served() as practice, servers.ssh(lists, tmp_path / "known_hosts") as (address, _):
        where = address.replace("//", f"//{servers.USER}@") if "@" not in address else address
        monkeypatch.setenv("NEAT_DELTA_PASSWORD_127_0_0_1", servers.PASSWORD)
        monkeypatch.setenv("NEAT_DELTA_USER_127_0_0_1", servers.USER)
        yield Weeks(tmp_path, run, where, lists, practice)


BAD = {5: "list", 6: "rate", 7: "refused"}


@pytest.mark.parametrize(
    ("many", "bad"), [(4, {2: "list", 3: "rate", 4: "refused"}), pytest.param(12, BAD, marks=pytest.mark.campaign)]
)
def test_weeks(weeks, many, bad):
    for number in range(1, many + 1):
        weeks.week(number, bad.get(number))
    facts = json.loads(weeks.run("history", "--json").stdout)["rounds"]
    states = [entry["state"] for entry in facts]
    assert (states.count("done"), states.count("closed"), states.count("failed")) == (many - 1, 2, 1)
    # The last round that is done is taken back, and only what it set.
    before, last = weeks.now(), [entry["number"] for entry in facts if entry["state"] == "done"][-1]
    cells = json.loads(weeks.run("history", str(last), "--json").stdout)["cells"]
    weeks.place.joinpath("today.csv").write_bytes(weeks.practice.http.get("/export.csv").content)
    weeks.run("undo", "--round", str(last), "--now", "today.csv", "--to", "back")
    to = f"{weeks.practice.url}/import?name={{file}}&action={{action}}"
    assert weeks.run("deliver", "back", "--to", to).returncode == 0
    expected = {sku: dict(row) for sku, row in before.items()}
    for cell in cells:
        if before[cell["key"][0]][cell["field"]] == cell["after"]:
            expected[cell["key"][0]][cell["field"]] = cell["before"]
    assert weeks.now() == expected


@contextmanager
def mail_server(authority, *, user: str | None = None):
    """A mail server with STARTTLS; what it takes."""
    taken_mail = []

    class Keep:
        async def handle_DATA(self, server, session, envelope):  # noqa: N802 - as aiosmtpd calls it
            taken_mail.append(message_from_bytes(envelope.content, policy=policy.default))
            return "250 taken"

    def known(server, session, envelope, mechanism, data):
        return AuthResult(success=(data.login, data.password) == (servers.USER.encode(), servers.PASSWORD.encode()))

    context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
    authority.issue_cert("127.0.0.1", "localhost").configure_cert(context)
    with socket.socket() as free:
        free.bind(("127.0.0.1", 0))
        port = free.getsockname()[1]
    controller = Controller(
        Keep(), hostname="127.0.0.1", port=port, tls_context=context, require_starttls=True,
        authenticator=known if user else None, auth_required=bool(user),
    )  # fmt: skip
    controller.start()
    try:
        yield f"smtp://127.0.0.1:{port}", taken_mail
    finally:
        controller.stop()


def test_who_wants_to_know_is_told_and_of_nothing_secret(shop, run, home, trusted, monkeypatch):
    monkeypatch.setenv("SHOP_KEY", "honey-key")
    monkeypatch.setenv("NEAT_DELTA_USER_127_0_0_1", servers.USER)
    monkeypatch.setenv("NEAT_DELTA_PASSWORD_127_0_0_1", servers.PASSWORD)
    with mail_server(trusted, user=servers.USER) as (smtp, mails), servers.web() as web:
        tell = f"""[limits]
most_items = 1
[tell]
on = ["waits", "failed", "otherwise", "done"]
smtp = "{smtp}"
sender = "prices@quillfern.example"
to = ["anna@quillfern.example"]
url = "{web.place}/told"
key = "$SHOP_KEY"
"""
        (shop / "weekly.toml").write_text(ROUND + tell)
        waiting = run("run", "weekly.toml")
        assert waiting.returncode == 1, waiting.stderr
        assert "could not" not in waiting.stderr
        (mail,) = mails
        assert mail["Subject"] == "weekly, round 1 waits for you"
        text = mail.get_body(("plain",)).get_content()
        assert "2 items would change, and at most 1 may pass" in text
        assert "neat-delta run weekly.toml --resume" in text
        assert "<table>" in mail.get_body(("html",)).get_content()
        (page,) = mail.iter_attachments()
        assert page.get_filename() == "page.html"
        (_, _, headers, body) = web.requests[-1]
        assert headers[SIGNATURE] == hmac.new(b"honey-key", body, hashlib.sha256).hexdigest()
        facts = json.loads(body)
        assert (facts["event"], facts["round"], facts["cells"], facts["shop"]) == (
            "waits",
            1,
            2,
            "Quillfern Apiary Supply",
        )
        edit(shop, "weekly.toml", ("most_items = 1", "most_items = 9"))
        assert run("run", "weekly.toml", "--resume").returncode == 0
        assert json.loads(web.requests[-1][3])["event"] == "done"
        taken(shop)
        (shop / "sheet.csv").unlink()
        assert run("run", "weekly.toml").returncode == 2
        assert mails[-1]["Subject"] == "weekly, round 2 failed"
        for secret in (servers.PASSWORD, "honey-key"):
            assert secret not in str(mails) + str(body) + "".join(str(each) for each in mails)


def test_who_cannot_be_told_ends_no_round(shop, run, home, trusted):
    tell = '[tell]\non = ["done"]\nurl = "http://127.0.0.1:9/told"\n'
    (shop / "weekly.toml").write_text(ROUND + tell)
    done = run("run", "weekly.toml")
    assert done.returncode == 1
    assert "it could not be told" in done.stderr
    assert len(taken(shop)) == 1
    edit(
        shop,
        "weekly.toml",
        ("[tell]", '[limits]\nunchanged = "go on"\n[tell]'),
        ('url = "', 'key = "$NOBODY_SET_IT"\nurl = "'),
    )
    (shop / "sheet.csv").write_text(as_csv(changed(ROWS, QA_9_price="14.00")))
    assert "the key $NOBODY_SET_IT is not in the environment" in run("run", "weekly.toml").stderr
