"""The practice store's import against replay: two implementations of an importer's rules that share no code."""

from __future__ import annotations

import random

import polars as pl
import pytest

from neat_delta import Field, Importer, Key, Store, as_catalogue
from neat_delta.core.base.model.importer import PATCHES, SPARSE, CodeChange, Removal
from neat_delta.core.base.support.errors import NeatDeltaError, ProofError
from neat_delta.core.updates.prove.replay import replay
from neat_delta.files.writers.forms import FORMS, UpdateLayout
from neat_delta.practice.shop import Shop
from tests.conftest import first_of, some_of

FIELDS = {
    "sku": Field("code"),
    "name": Field(),
    "stock": Field("integer"),
    "tags": Field("list", separator=", "),
    "note": Field(),
}
TEXTS = {
    "name": ["Veil", "Smoker, large", "", " ", "(none)", 'say "when"', "蜜"],
    "stock": ["0", "5", "-3", "", "1.5", "many"],
    "tags": ["a", "a, b", "", "+b", "-a", "+c, -b", "new"],
    "note": ["x", "", "\ttab", "two\nlines", "(none)"],
    "leaves": ["", "1", "no"],
    "why": ["counted", ""],
}
CODES = ["A", "B", "C", "D", "", " ", "é/~1"]
FORM_NAMES = ("delimited", "xlsx", "json", "json lines", "xml", "merge patch", "json patch")


def _importer(draw):
    pick = draw.choice
    form = pick(FORM_NAMES)
    removal = pick([Removal(), Removal(), Removal("row"), Removal("flag", "leaves", "1")])
    return Importer(
        blanks=pick(["skip", "clear"]),
        empties=pick([None, "(none)"]) if form not in PATCHES else None,
        takes=pick(["both", "both", "updates", "additions"]),
        carries=pick([[], [], ["name"]]),
        needs=pick([[], [], ["note"]]),
        missing=pick(["kept", "kept", "kept", "deleted"]) if form not in PATCHES else "kept",
        removal=removal if form not in PATCHES else Removal("row"),
        code_change=pick([CodeChange("row"), CodeChange("row", "new_sku"), CodeChange()]),
        lists=pick(["replaced", "marked"]),
        adjusted=pick([[], ["stock"]]),
        with_adjusted=pick([{}, {"why": "counted"}]),
        headings=pick([[], [], ["sku", "name", "stock"]]) if form not in SPARSE else [],
        form=form,
    )


def _round(draw):
    """A catalogue, an importer, and a table for it, of which some is what no plan would write."""
    rows = [
        {"sku": sku, **{name: draw.choice(TEXTS[name]) for name in ("name", "stock", "tags", "note")}}
        for sku in draw.sample(CODES[:4] + CODES[6:], draw.randint(1, 4))
    ]
    if draw.random() < 0.1:
        rows.append(dict(rows[0]))
    importer = _importer(draw)
    action = draw.choice(["change", "change", "change", "add", "remove", "recode"])
    sparse = importer.form in SPARSE
    names = [name for name in ("name", "stock", "tags", "note") if draw.random() < 0.6]
    if importer.headings and draw.random() < 0.9:
        names = importer.headings[1:]
    names += [name for name in ("leaves", "why") if draw.random() < 0.15]
    if action == "remove" and draw.random() < 0.9:
        names = []
    codes = importer.code_change.heading if importer.form not in PATCHES else "new code"
    if action == "recode":
        names = [*([] if draw.random() < 0.8 else names[:1]), codes]
    drawn = [row["sku"] for row in rows] + CODES
    keys = [draw.choice(drawn[: len(rows)] if draw.random() < 0.7 else drawn) for _ in range(draw.randint(1, 3))]
    table = []
    for key in keys if draw.random() < 0.1 else dict.fromkeys(keys):
        row = {"sku": key}
        for name in names:
            text = draw.choice(["E", "F", "B", ""] if name == codes else TEXTS[name])
            row[name] = None if sparse and draw.random() < 0.2 and name != codes else text
        table.append(row)
    cells = pl.DataFrame(table, schema=dict.fromkeys(["sku", *names], pl.String), orient="row")
    return rows, importer, action, cells, draw.random() < 0.3


def _can_say(cells, importer, action):
    """Whether the form has a way to say the table: a patch of a key that stands twice, or blank, has none."""
    if importer.form in PATCHES:
        if cells["sku"].is_duplicated().any() or (action == "recode" and importer.form == "merge patch"):
            return False
        if {"leaves", "why"} & {*cells.columns} or (
            action in {"remove", "recode"} and cells.width > 1 + (action == "recode")
        ):
            return False
        if action == "add" and importer.form == "json patch" and (cells["sku"] == "").any():
            return False
    nothing = pl.all() if importer.form in {"delimited", "xlsx"} else pl.exclude("sku")
    if importer.form in {"delimited", "xlsx", "json patch"} and action == "change":  # a blank line is none
        said = nothing != "" if importer.form != "json patch" else nothing.is_not_null()
        return cells.width > 1 and bool(cells.select(pl.any_horizontal(said).all()).item())
    return importer.form not in {"delimited", "xlsx"} or not (cells["sku"] == "").any()


@pytest.mark.parametrize("hundred", first_of(some_of(range(200), 100), few=2))
def test_it_imports_as_replay_does(hundred):
    """The same catalogue afterwards; and it refuses a row where replay refuses the table, and only there."""
    for seed in range(hundred * 100, hundred * 100 + 100):
        _agree(random.Random(seed), seed)


def _agree(draw, seed):
    rows, importer, action, cells, shared = _round(draw)
    while not _can_say(cells, importer, action):
        rows, importer, action, cells, shared = _round(draw)
    cells = cells.select("sku", *(name for name in cells.columns[1:] if cells[name].count()))
    store = Store(key=Key(["sku"], shared="all" if shared else "error"), fields=FIELDS, importer=importer)
    live = pl.DataFrame(rows)
    shop = Shop(as_catalogue(live, "live"), store)
    data = FORMS[importer.form].write(cells, UpdateLayout(shop.layout, ["sku"], action, "update-1"))
    try:
        reports = shop.import_file(data, "update-1", action).rows
        refused = any(row.status == "refused" for row in reports)
    except NeatDeltaError:
        refused = True
    said = cells.select(pl.all().fill_null("")) if importer.form not in SPARSE else cells
    if importer.form in PATCHES and action == "add":  # which says nothing of what a new item has not
        said = cells.with_columns(pl.exclude("sku").replace("", None))
    separators = {"tags": ", "}
    try:
        wanted = replay(live, said, ["sku"], importer, shared=shared, action=action, separators=separators)
    except ProofError as why:
        assert refused, f"{seed}: replay refuses what the store takes: {why}"
        return
    assert not refused, f"{seed}: the store refuses what replay takes"
    new = wanted.slice(live.height) if action == "change" else wanted.head(0)
    if new.height and (importer.empties and (new == importer.empties).sum_horizontal().sum()):
        return  # a mark in a new item: no plan sends one
    assert shop.table().rows() == wanted.rows(), seed


@pytest.mark.parametrize(("keys", "why"), [
    (["QA-1", "QA-1"], "a key stands twice in one update table"),
    (["QA-1", " "], 'a row of the update table has a blank key field "sku"'),
])  # fmt: skip
def test_replay_refuses_a_table_that_cannot_be_understood(keys, why):
    live = pl.DataFrame({"sku": ["QA-1", "QA-2"], "price": ["9.90", "20.00"]})
    update = pl.DataFrame({"sku": keys, "price": ["10.50", "11.00"]})
    with pytest.raises(ProofError, match=why):
        replay(live, update, ["sku"], Importer("skip"))
