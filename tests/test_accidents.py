"""Damage and slips: found on generated afternoons, none seen on ordinary ones; then what is done about them."""

from __future__ import annotations

import random

import pytest

from neat_delta import ChangeSet, compare
from neat_delta.core.damage import DAMAGES
from tests import afternoons
from tests.afternoons import DAMAGE, ROWS, SLIPS, STORE, Sheet, catalogue

ROUNDS = 25
"""Afternoons for each accident, all of which must be found: ten in a thousand may be missed, so one is too many."""

ITEMS = (80, 220)


def compared(live: Sheet, sheet: Sheet, *, told: bool, repair: bool = False) -> ChangeSet:
    return compare(catalogue(live, "live"), catalogue(sheet, "sheet"), store=STORE if told else None, repair=repair)


@pytest.mark.parametrize("hundred", range(10))
def test_nothing_is_found_on_ordinary_afternoons(hundred):
    """A thousand rounds of price rises, stock counts, sales, renames and changes of status, with a store file and
    without.
    """
    for seed in range(hundred * 100, hundred * 100 + 100):
        rng = random.Random(seed)
        live = afternoons.shop(rng, rng.randint(*ITEMS))
        changes = compared(live, afternoons.ordinary(rng, live), told=bool(seed % 2))
        assert [(seed, one.name, one.why) for one in changes.header.findings] == []


def afternoon(accident, seed: int) -> tuple[Sheet, Sheet, Sheet, list[str]]:
    """Live, the sheet as it was meant, the sheet as it came back, and the fields that the accident hit."""
    rng = random.Random(f"{accident.__name__} {seed}")
    live = afternoons.shop(rng, rng.randint(*ITEMS))
    if accident is afternoons.dated:
        live["price"] = [f"{rng.randint(1, 28)}.{rng.randint(1, 12):02}" for _ in live["price"]]
    meant = {name: list(texts) for name, texts in live.items()}
    afternoons.arranged(rng, meant)
    (afternoons.sale if accident in SLIPS else afternoons.stock_count)(rng, meant)
    sheet = {name: list(texts) for name, texts in meant.items()}
    return live, meant, sheet, accident(rng, sheet)


def hit(meant: Sheet, sheet: Sheet, fields: list[str]) -> set[tuple[str, str]]:
    """The cells that an accident changed: SKU and field."""
    rows = range(len(meant["sku"]))
    return {(meant["sku"][row], name) for name in fields for row in rows if meant[name][row] != sheet[name][row]}


def sent(changes: ChangeSet) -> set[tuple[str, str]]:
    """The cells that would be sent."""
    return {
        (item.key["sku"], name)
        for item in changes.each()
        for name in item.cells.keys() - {held.field for held in item.held}
    }


@pytest.mark.parametrize("accident", [*DAMAGE, *SLIPS], ids=lambda accident: accident.__name__)
def test_an_accident_in_20_cells_or_more_is_found_and_held(accident):
    """Named rightly where a store file says the kinds; without one, what is not seen is at least no change."""
    name, counted = (DAMAGE | SLIPS)[accident], 0
    for seed in range(ROUNDS):
        live, meant, sheet, fields = afternoon(accident, seed)
        cells = hit(meant, sheet, fields)
        if len(cells) < 20:
            continue
        counted += 1
        changes = compared(live, sheet, told=bool(seed % 2))
        found = [one for one in changes.header.findings if set(one.fields) & set(fields)]
        if seed % 2:
            assert name in {one.name for one in found}, seed
        leaked = cells & sent(changes)
        assert len(leaked) * 20 <= len(cells), (seed, sorted(leaked)[:5])
        if seed < 5 and accident in DAMAGE and DAMAGES[name].certain:
            repaired = compared(live, sheet, told=bool(seed % 2), repair=True)
            wanted = sent(compared(live, meant, told=bool(seed % 2)))
            assert len(sent(repaired) ^ wanted) * 20 <= len(cells), seed
    assert counted >= ROUNDS // 2


@pytest.mark.parametrize("accident", ROWS, ids=lambda accident: accident.__name__)
def test_rows_that_are_missing_or_there_twice_are_found(accident):
    counted = 0
    for seed in range(ROUNDS):
        live, meant, sheet, _ = afternoon(accident, seed)
        before, after = len(meant["sku"]), len(sheet["sku"])
        if min(after, abs(before - after)) < max(20, before / 10):
            continue
        counted += 1
        names = [one.name for one in compared(live, sheet, told=bool(seed % 2)).header.findings]
        assert ROWS[accident] in names, seed
        if accident is afternoons.pasted_twice:
            changes = compared(live, sheet, told=True, repair=True)
            assert sent(changes) == sent(compared(live, meant, told=True))
            counts = changes.header.counts
            assert counts.same + counts.changed + counts.new + counts.set_aside_sheet == after
    assert counted >= ROUNDS // 3
