"""Every two settings of an importer together: a store file that holds can be written for, is proven, and rehearsed."""

from __future__ import annotations

import itertools
import random
from collections import Counter
from decimal import Decimal
from pathlib import Path
from typing import Any

import msgspec
import pytest

import neat_delta
from neat_delta import Accept, Field, Importer, Key, OutputError, Store
from neat_delta.core.base.model.conflicts import besides_fields, conflicting_settings, unknown_fields
from neat_delta.core.base.model.importer import PATCHES, CodeChange, FormName, OutputColumn, Removal
from neat_delta.practice.rehearse import rehearsal
from tests.conftest import LENGTH, campaign
from tests.oracle import Table, catalogue

FORM_NAMES: tuple[FormName, ...] = ("delimited", "xlsx", "json", "json lines", "xml", "merge patch", "json patch")
HEADINGS = ["sku", "price", "note", "name", "tags", "stock"]

SETTINGS: dict[str, list[Any]] = {
    "blanks": ["skip", "clear"],
    "empties": [None, "(none)"],
    "takes": ["both", "updates", "additions"],
    "carries": [[], ["name"], ["note"], ["tags"]],
    "needs": [[], ["note"]],
    "defaults": [{}, {"note": "as new", "tags": "a"}],
    "missing": ["kept", "deleted"],
    "removal": [Removal(), Removal("row"), Removal("flag", "leaves", "1"), Removal("value", "name", "gone")],
    "code_change": [CodeChange(), CodeChange("row"), CodeChange("replace"), CodeChange("row", heading="newer")],
    "lists": ["replaced", "marked"],
    "adjusted": [[], ["stock"], ["price"]],
    "with_adjusted": [{}, {"why": "counted"}],
    "most_rows": [None, 1, 2],
    "most_bytes": [None, 400],
    "headings": [[], HEADINGS, HEADINGS[:3], [*HEADINGS[:2], "leaves", *HEADINGS[2:]]],
    "form": list(FORM_NAMES),
    "separator": [None, "\t", "|"],
    "encoding": [None, "cp1252", "utf-16-le"],
    "line_end": [None, "CRLF", "CR"],
    "quote_all": [None, True],
    # of the store and of write, crossed with those
    "moving": [False, True],
    "locked": [False, True],
    "shared": ["error", "all"],
    "most_files": [8, 1],
}
LIVE: Table = (
    ["sku", "name", "price", "stock", "tags", "note", "parent"],
    [
        ["A", "Veil", "9.90", "5", "a,b", "first\r\nsecond", ""],
        ["B", "Suit", "20.00", "7", "a", "", "A"],
        ["C", "Hat", "3.00", "0", "", "x|y\tz", "A"],
        ["D", "Gant d'été", "4.50", "", "c, b", "蜜", "B"],
        ["E", "Smoker", "30.00", "12", "b,b", "(none)", ""],
        ["F", "Wax", "8.00", "3", "a,c", "a\rb", "E"],
        ["G", " ", "1.00", "-2", "a", "plain", ""],
        ["H", "Jar", "", "9", "c", 'say "when"', "G"],
    ],
)
TEXTS: dict[str, list[str]] = {
    "name": ["Veil, long", "Gant d'été", "Jar", "", "蜜罐"],
    "price": ["10.90", "8.00", "", "0.05", "19.99"],
    "stock": ["4", "0", "", "12", "-1"],
    "tags": ["b,new", "a", "", "c,a", "a,a", "+a"],
    "note": ["", "second", "a\r\nb", "é|", "(none)", " ", "x\ty"],
    "parent": ["", "A", "E"],
}


def edited(rng: random.Random) -> Table:
    """A sheet of live: cells changed and emptied, an item gone, one or two new, codes that change."""
    headings = [*LIVE[0], "new code"]
    rows = []
    for row in LIVE[1]:
        if rng.random() < 0.15:
            continue
        cells = [rng.choice(TEXTS[name]) if name != "sku" and rng.random() < 0.25 else text
                 for name, text in zip(LIVE[0], row, strict=True)]  # fmt: skip
        rows.append([*cells, ""])
    for sku in rng.sample(["N1", "N2"], rng.randint(0, 2)):
        rows.append([sku, *(rng.choice(TEXTS[name]) for name in LIVE[0][1:]), ""])
    known = [row for row in rows if not row[0].startswith("N")]
    if rng.random() < 0.5 and len(known) > 2:
        one, other = rng.sample(known, 2)
        one[-1] = rng.choice([other[0], "Z1"])
        other[-1] = rng.choice([one[0], "Z2", ""])
    rng.shuffle(rows)
    return headings, rows


def store_of(places: Chosen) -> Store:
    chosen = {name: SETTINGS[name][place] for name, place in places.items()}
    moving, locked, shared, _ = (chosen.pop(name) for name in ("moving", "locked", "shared", "most_files"))
    fields = {
        "sku": Field(kind="code"),
        "name": Field(),
        "price": Field(kind="money"),
        "stock": Field(kind="integer", moving=moving, least=Decimal(-100)),
        "tags": Field(kind="list", separator=","),
        "note": Field(locked=locked),
        "parent": Field(kind="code", refers=True),
    }
    checks = dict.fromkeys(("near-twin", "new-value", "dead-link", "large-round", "unwritable", "negative"), "off")
    importer = with_all_headings(Importer(**chosen))
    return Store(key=Key(["sku"], shared=shared), fields=fields, importer=importer, checks=checks)  # type: ignore[arg-type]


def with_all_headings(importer: Importer) -> Importer:
    """An importer with fixed headings has those among them that are no fields, too."""
    more = [name for name in besides_fields(importer) if name not in importer.headings] if importer.headings else []
    return msgspec.structs.replace(importer, headings=[*importer.headings, *more])


Chosen = dict[str, int]
"""For each setting, which of its ways."""


def pairs_of(chosen: Chosen) -> set[tuple[tuple[str, int], ...]]:
    return set(itertools.combinations(sorted(chosen.items()), 2))


def importers(seed: int) -> list[Chosen]:
    """Settings that can be together, so that every two ways of two settings that can be, are, in one or more."""
    rng = random.Random(seed)
    ways = [(name, place) for name, some in SETTINGS.items() for place in range(len(some))]
    open_pairs = {tuple(sorted(pair)) for pair in itertools.combinations(ways, 2) if pair[0][0] != pair[1][0]}
    found = []
    for pair in rng.sample(sorted(open_pairs), len(open_pairs)):
        chosen = drawn(pair, rng) if pair in open_pairs else None
        if chosen is not None:
            found.append(chosen)
            open_pairs -= pairs_of(chosen)
    return found


def drawn(pair: tuple[tuple[str, int], ...], rng: random.Random) -> Chosen | None:
    """Settings with this pair in them, the more of the others otherwise than usual the better; None where no store file
    can have them.
    """
    for boldness in (0.6, 0.6, 0.4, 0.4, 0.3, 0.2, 0.1, 0.05, 0.0):
        chosen = {name: rng.randrange(len(ways)) if rng.random() < boldness else 0 for name, ways in SETTINGS.items()}
        chosen |= dict(pair)
        for name, needed in NEEDED.items():
            if chosen[name] and name in dict(pair):
                chosen |= {other: place for other, place in needed.items() if other not in dict(pair)}
        store = store_of(chosen)
        if not conflicting_settings(store) and not [*unknown_fields(store, store.fields)]:
            return chosen
    return None


NEEDED: dict[str, Chosen] = {
    "empties": {"blanks": 0},
    "with_adjusted": {"adjusted": 1},
    "headings": {"blanks": 0, "form": 0, "carries": 0, "needs": 0},
    "code_change": {"removal": 1},
}
"""What a setting needs beside it to mean something."""


COLUMNS: list[dict[str, Any]] = [
    {},
    {"columns": {"who": OutputColumn("shop")}},
    {
        "columns": {
            "twice": OutputColumn(expression="price * 2"),
            "label": OutputColumn(expression="COALESCE(note, sku) || '!'"),
        },
        "called": {"price": "item price"},
    },
]
"""The columns that are no fields, and what fields are called: each importer has the next of these, where its form takes
any.
"""


def write(chosen: Chosen, rng: random.Random, folder: Path, columns: dict[str, Any]) -> str:
    """Write a drawn round for an importer with these settings; how it ended. ProofError, and anything else that no line
    of the store file is to blame for, goes out.
    """
    store, live = store_of(chosen), catalogue(LIVE)
    if store.importer.form not in PATCHES:
        importer = with_all_headings(msgspec.structs.replace(store.importer, **columns))
        store = msgspec.structs.replace(store, importer=importer)
    accept = [Accept(one) for one in ("damage", "slip", "emptied", "required")]
    changes = neat_delta.compare(
        live, catalogue(edited(rng), "sheet.csv"), store=store,
        accept=accept, with_new=rng.random() < 0.8, with_gone=rng.random() < 0.7, whole=True,
    )  # fmt: skip
    try:
        manifest = neat_delta.write_updates(
            changes, live, store.importer, str(folder), whole=store.importer.missing == "deleted", replace=True,
            most_files=SETTINGS["most_files"][chosen["most_files"]], rehearse=rehearsal(changes, live, store.importer),
        )  # fmt: skip
    except OutputError as error:
        if "under [importer]" not in str(error):
            raise
        return "too small"
    held = {(one.key["sku"], one.field) for one in manifest.held}
    for item in changes.iter_items() if not manifest.update else ():
        whole = {None} & {one.field for one in item.held} or (item.key["sku"], None) in held
        assert whole or all(
            (item.key["sku"], field) in held or field in {one.field for one in item.held} for field in item.cells
        )
    return "written" if manifest.update else "nothing to write"


@pytest.mark.parametrize(
    "seed, step", [(1, 10), *(pytest.param(seed, 1, marks=campaign) for seed in range(2, 2 + LENGTH))]
)
def test_every_pair_of_settings_is_written_and_proven(tmp_path, seed, step):
    """By default some of them."""
    rng, ends = random.Random(seed), Counter[str]()
    for number, chosen in enumerate(importers(seed)[::step]):
        try:
            ends[write(chosen, rng, tmp_path / "out", COLUMNS[number % len(COLUMNS)])] += 1
        except Exception as error:
            said = {name: SETTINGS[name][place] for name, place in chosen.items() if place}
            raise AssertionError(f"{said}: {error}") from error
    assert ends["written"] > ends.total() * 0.6


def test_settings_are_all_drawn():
    mine = {"moving", "locked", "shared", "most_files"}
    assert (set(SETTINGS) - mine) | {"columns", "called"} == set(msgspec.structs.asdict(Importer())) - {
        "adds",
        "takes_away",
    }
