"""How long the page of a preview takes: to be made, to be painted, and to answer its own controls in Chromium.

    pip install -e '.[bench]' && python bench/page.py [--items 50000] [--rounds 3]

Needs Chromium and its driver (Debian: chromium, chromium-driver).
"""

from __future__ import annotations

import argparse
import csv
import json
import random
import subprocess
import sys
import tempfile
import time
from pathlib import Path
from statistics import median

from sheet import WORDS, make

sys.path.insert(0, str(Path(__file__).parents[1]))
from tests.browser import browser, show

TIMED = """
const [id, value, done] = arguments, control = document.getElementById(id), start = performance.now();
control.value = value;
control.dispatchEvent(new Event(id === "search" ? "input" : "change", {bubbles: true}));
requestAnimationFrame(() => setTimeout(() => done(performance.now() - start)));
"""
CONTROLS = [
    ("search", "amber"),
    ("search", "oak cedar pine"),
    ("search", "qa-0123"),
    ("search", ""),
    ("field", "cost"),
    ("field", ""),
]


ANSWERED = """
const done = arguments[1], start = performance.now();
document.querySelector(`button[data-all="${arguments[0]}"]`).click();
document.body.offsetHeight;
requestAnimationFrame(() => setTimeout(() => done(performance.now() - start)));
"""
"""Answers all items that are shown, and takes the time until that is painted."""


def edit(live: Path, sheet: Path) -> None:
    """Every price a little up, and some costs and descriptions changed."""
    rng = random.Random(5)
    with live.open(newline="") as source, sheet.open("w", newline="") as target:
        rows = csv.DictReader(source)
        out = csv.DictWriter(target, rows.fieldnames or [])
        out.writeheader()
        for row in rows:
            row["price"] = f"{float(row['price']) * rng.uniform(1.01, 1.1):.2f}"
            if rng.random() < 0.5:
                row["cost"] = f"{float(row['cost']) * rng.uniform(1.01, 1.1):.2f}"
            if rng.random() < 0.3:
                row["description"] = row["description"].replace(rng.choice(WORDS), "amber")
            out.writerow(row)


def main() -> None:
    parser = argparse.ArgumentParser(description="How long the page of a preview takes.")
    parser.add_argument("--items", type=int, default=50_000)
    parser.add_argument("--rounds", type=int, default=3)
    asked = parser.parse_args()
    taken: dict[str, list[float]] = {}
    with tempfile.TemporaryDirectory() as place:
        folder = Path(place)
        make(folder / "live.csv", asked.items)
        edit(folder / "live.csv", folder / "sheet.csv")
        program = [sys.executable, "-m", "neat_delta"]
        subprocess.run(
            [*program, "compare", "live.csv", "sheet.csv", "-o", "c.jsonl"],
            cwd=folder,
            capture_output=True,
            check=False,
        )
        for number in range(asked.rounds):
            start = time.perf_counter()
            call = [*program, "preview", "c.jsonl", "--page", "page.html", "--replace"]
            subprocess.run(call, cwd=folder, capture_output=True, check=True)
            taken.setdefault("made", []).append(time.perf_counter() - start)
            with browser(folder / f"profile{number}") as driver:
                start = time.perf_counter()
                show(driver, folder / "page.html")
                taken.setdefault("items there", []).append(time.perf_counter() - start)
                paint = driver.execute_script("return performance.getEntriesByType('paint').map(one => one.startTime)")
                taken.setdefault("first paint", []).append(max(paint) / 1000)
                for control, value in CONTROLS:
                    spent = driver.execute_async_script(TIMED, control, value)
                    taken.setdefault(f"{control} {json.dumps(value)}", []).append(spent / 1000)
                for word in ("yes", "no", ""):
                    spent = driver.execute_async_script(ANSWERED, word)
                    taken.setdefault(f"all shown answered {json.dumps(word)}", []).append(spent / 1000)
        size = (folder / "page.html").stat().st_size / 1e6
    print(f"{asked.items:,} changed items, a page of {size:.1f} MB")
    for name, seconds in taken.items():
        print(f"  {name}: {median(seconds):.2f} s ({min(seconds):.2f} to {max(seconds):.2f})")


if __name__ == "__main__":
    main()
