"""The rules written a second time, plainly, with dictionaries and loops: what the product is held against.

Also the catalogues and edits that hypothesis draws.
"""

from __future__ import annotations

import random
import re
import unicodedata
from collections import Counter
from collections.abc import Mapping
from dataclasses import dataclass

import polars as pl
from hypothesis import strategies as st

from neat_delta import Catalogue, Importer

Table = tuple[list[str], list[list[str]]]
"""Headings, and rows of texts."""

HEADINGS = [
    "sku",
    "name",
    "price",
    "item",
    "row",
    "place",
    "live",
    "hash",
    "field",
    "held",
    'size, 1/2"',
    "größe",
    "note\nlong",
    " odd ",
]
TEXTS = [
    "",
    "",
    "",
    " ",
    "a",
    "A",
    "1.50",
    "1.5",
    "00417",
    "é",
    "e\u0301",
    'q"uote',
    '"',
    "x,y",
    "x;y",
    "l\nb",
    "l\r\nb",
    "\t",
]
CELLS = st.one_of(st.sampled_from(TEXTS), st.text(st.characters(codec="utf-8", exclude_characters="\0"), max_size=4))
KEYS = st.sampled_from(["", " ", *"abcdefgh", "A", "a ", "007", "7", 'k"1', "k\n2", "ключ"])


WHITE = "\t\n\x0b\x0c\r \x85\xa0\u1680\u2028\u2029\u202f\u205f\u3000" + "".join(map(chr, range(0x2000, 0x200B)))
"""The characters of Unicode's property White_Space."""


def value(text: str) -> str:
    """What a text is without the differences that nobody typed."""
    return unicodedata.normalize("NFC", text.replace("\r\n", "\n").replace("\r", "\n")).strip(WHITE)


def filled(text: str) -> bool:
    """Whether a cell is not blank."""
    return bool(text.strip(WHITE))


@st.composite
def rounds(draw: st.DrawFn) -> tuple[Table, Table]:
    """A live catalogue, and a sheet that was made from it: cut, shuffled, edited, with rows of its own."""
    fields = ["sku", *draw(st.lists(st.sampled_from(HEADINGS[1:]), min_size=1, max_size=5, unique=True))]
    rng = random.Random(draw(st.integers(0, 2**32)))
    rng.shuffle(fields)
    keys = draw(st.lists(KEYS, min_size=1, max_size=9, unique=draw(st.booleans())))
    live = [[key if field == "sku" else draw(CELLS) for field in fields] for key in keys]
    kept = [field for field in fields if field == "sku" or rng.random() < 0.8]
    if kept == ["sku"]:
        kept = fields
    headings = [*kept, "own"] if rng.random() < 0.3 else list(kept)
    rng.shuffle(headings)
    sheet = []
    for row in live:
        if rng.random() < 0.8:
            cells = dict(zip(fields, row, strict=True)) | {"own": "remark"}
            for field in kept:
                if field != "sku" and rng.random() < 0.3:
                    cells[field] = draw(CELLS)
            sheet.append([cells[field] for field in headings])
    for key in draw(st.lists(KEYS, max_size=3)):
        sheet.append([key if field == "sku" else draw(CELLS) for field in headings])
    rng.shuffle(sheet)
    return (fields, live), (headings, sheet)


def many_rounds(rng: random.Random, many: int) -> tuple[Table, Table, Table]:
    """So many rounds side by side in one catalogue, each with keys of its own: live, the sheet, and new codes.

    A round by itself takes a hundred steps of the engine, and so do a hundred together.
    """
    fields = ["sku", *rng.sample(HEADINGS[1:], rng.randint(1, 4))]
    kept = [field for field in fields if field == "sku" or rng.random() < 0.8]
    kept = kept if len(kept) > 1 else list(fields)
    headings = [*kept, "own"] if rng.random() < 0.3 else list(kept)
    rng.shuffle(fields)
    rng.shuffle(headings)
    live, sheet, codes = [], [], []
    for number in range(many):
        keys = [f"{rng.choice(['', ' '])}{number}.{place}" for place in range(rng.randint(1, 6))]
        if rng.random() < 0.05:
            keys.append(rng.choice(["", keys[0]]))
        rows = [[key if field == "sku" else rng.choice(TEXTS) for field in fields] for key in keys]
        live += rows
        for row in rows:
            cells = dict(zip(fields, row, strict=True)) | {"own": "remark"}
            cells |= {field: rng.choice(TEXTS) for field in kept if field != "sku" and rng.random() < 0.3}
            if rng.random() < 0.85:
                sheet.append([cells[field] for field in headings])
        if rng.random() < 0.3:
            new = f"{number}.new"
            sheet.append([new if field == "sku" else rng.choice(TEXTS) for field in headings])
        known = [key.strip() for key in keys if key.strip() and [one.strip() for one in keys].count(key.strip()) == 1]
        olds = rng.sample(known, rng.randint(0, len(known))) if rng.random() < 0.3 else []
        news = [*olds[1:], *olds[:1]] if rng.random() < 0.5 else rng.choices([*known, f"{number}.x", ""], k=len(olds))
        codes += [list(pair) for pair in zip(olds, news, strict=True)]
    rng.shuffle(sheet)
    return (fields, live), (headings, sheet), (["sku", "new code"], codes)


@st.composite
def code_lists(draw: st.DrawFn, live: Table) -> Table:
    """A list of code changes for live: to free codes, to those of others, in chains and circles."""
    keys = [row[live[0].index("sku")].strip(WHITE) for row in live[1]]
    known = [key for key in keys if key and keys.count(key) == 1]
    if not known or not draw(st.booleans()):
        return ["sku", "new code"], []
    olds = draw(st.lists(st.sampled_from(known), unique=True, max_size=6))
    news = st.one_of(st.sampled_from([*known, *known, "x1", "x2", "x3", ""]), st.sampled_from(["x4", "new, one", "é"]))
    shifted = st.just([*olds[1:], *draw(st.sampled_from([olds[:1], ["x9"]]))])
    codes = draw(st.one_of(st.lists(news, min_size=len(olds), max_size=len(olds)), shifted))
    return ["sku", "new code"], [list(pair) for pair in zip(olds, codes, strict=False)]


def catalogue(table: Table, path: str = "made.csv") -> Catalogue:
    """The table as the product holds it."""
    headings, rows = table
    columns = {name: [row[n] for row in rows] for n, name in enumerate(headings)}
    return Catalogue(pl.DataFrame(columns, schema=dict.fromkeys(headings, pl.String)), path, lambda: "0" * 64)


@dataclass
class Expected:
    """What a comparison must find."""

    items: dict[str, tuple[str, dict[str, tuple[str | None, str | None]], set[tuple[str | None, str]]]]
    same: int
    aside: Counter[str]


def expected(live: Table, sheet: Table, blanks: str, with_new: bool) -> Expected:
    """Compare by the rules, one row at a time; the items by their keys without outer white space."""
    tables = {"live": live, "sheet": sheet}
    keyed: dict[str, dict[str, dict[str, str]]] = {}
    seen: dict[str, Counter[str]] = {}
    for name, (headings, rows) in tables.items():
        items = [dict(zip(headings, row, strict=True)) for row in rows]
        for item in items:
            item["sku"] = item["sku"].strip(WHITE)
        seen[name] = Counter(item["sku"] for item in items if filled(item["sku"]))
        keyed[name] = {item["sku"]: item for item in items if filled(item["sku"])}
    twice = {key for counted in seen.values() for key, times in counted.items() if times > 1}
    aside = Counter(
        {name: len(rows) - sum(1 for key in keyed[name] if key not in twice) for name, (_, rows) in tables.items()}
    )
    common = [field for field in live[0] if field in sheet[0] and field != "sku"]
    found = Expected({}, 0, aside)
    for key, item in keyed["live"].items():
        if key in twice:
            continue
        if key not in keyed["sheet"]:
            found.items[key] = ("gone", {}, {(None, "gone")})
            continue
        cells: dict[str, tuple[str | None, str | None]] = {}
        held: set[tuple[str | None, str]] = set()
        for field in common:
            before, after = item[field], keyed["sheet"][key][field]
            if value(before) == value(after):
                continue
            if not filled(after):
                if blanks == "keep":
                    continue
                if blanks == "hold":
                    held.add((field, "emptied"))
                after = ""
            cells[field] = (before, after)
        if cells:
            found.items[key] = ("changed", cells, held)
        else:
            found.same += 1
    usable = [key for key in keyed["live"] if key not in twice]
    new = [key for key in keyed["sheet"] if key not in twice and key not in keyed["live"]]
    for key in new:
        cells = {field: (None, keyed["sheet"][key][field]) for field in common if filled(keyed["sheet"][key][field])}
        held = set() if with_new else {(None, "new")}
        near = [other for other in usable if bare(other) == bare(key)]
        if near:
            held = {(None, nearly(near, [one for one in new if one != key and bare(one) == bare(key)], tables, twice))}
            found.items |= {one: ("gone", {}, {(None, NEAR)}) for one in near if one not in keyed["sheet"]}
        found.items[key] = ("new", cells, held)
    return found


NEAR = "near: a row nearly has its key"


def bare(key: str) -> str:
    """A key without what near ones differ in."""
    return re.sub(r"\s", "", key.lower()).lstrip("0") or "0"


def nearly(near: list[str], others: list[str], tables: Mapping[str, Table], twice: set[str]) -> str:
    """Why a new item is held whose key nearly is one of live's or several, in live's order."""
    rows = {row[tables["sheet"][0].index("sku")].strip(WHITE): n for n, row in enumerate(tables["sheet"][1], 2)}
    if len(near) > 1:
        return "near: nearly " + " and ".join(near)
    if near[0] in rows:
        return f"near: nearly {near[0]}, which row {rows[near[0]]} is for"
    if others:
        return f"near: nearly {near[0]}, and so is row {', '.join(str(rows[one]) for one in others)}"
    return f"near: nearly {near[0]}"


Rows = list[dict[str, str | None]]


def imported(table: Table, update: Rows, importer: Importer, action: str) -> Table:
    """What a store has after importing one update table, one row at a time; None is a cell that is not there."""
    headings, rows = table[0], [list(row) for row in table[1]]
    at = headings.index("sku")
    if action == "recode":
        heading = "new code" if importer.form == "json patch" else importer.code_change.heading
        new = {cells["sku"]: cells[heading] for cells in update}
        there = {row[at] for row in rows}
        assert new.keys() <= there and not there & set(new.values()), "a code is not there, or is not free"
        assert len(new) == len(set(new.values())) == len(update), "two items would get one code"
        return headings, [[(new.get(cell) or cell) if n == at else cell for n, cell in enumerate(row)] for row in rows]
    for cells in update:
        hits = [item for item in rows if item[at] == cells["sku"]]
        assert len(hits) <= 1, "an importer cannot tell which item is meant"
        flagged = importer.removal.how == "flag" and cells.get("leaves") == "1"
        if flagged or (action == "remove" and importer.removal.how != "flag"):
            assert hits, "there is no such item to remove"
            rows.remove(hits[0])
            continue
        assert importer.takes != ("additions" if hits else "updates"), "the importer refuses this row"
        wanted = [*importer.carries, *([] if hits else importer.needs)]
        assert all(filled(cells.get(field) or "") for field in wanted), "the importer misses a value"
        if not hits:
            hits = [[cells["sku"] or "" if heading == "sku" else "" for heading in headings]]
            rows.append(hits[0])
        for field, text in cells.items():
            if field not in headings or field == "sku" or text is None:
                continue
            if importer.blanks == "clear" or "patch" in importer.form or filled(text):
                hits[0][headings.index(field)] = "" if text == importer.empties else text
    return headings, rows
