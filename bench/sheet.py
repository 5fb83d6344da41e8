"""How long a working sheet takes to be cut, as a whole process, and to be compared again.

pip install -e '.[bench]' && python bench/sheet.py [--items 100000] [--rounds 5]
"""

from __future__ import annotations

import argparse
import csv
import random
import subprocess
import sys
import tempfile
import time
from pathlib import Path
from statistics import median

WORDS = [
    "oak",
    "cedar",
    "pine",
    "hive",
    "frame",
    "wax",
    "honey",
    "smoker",
    "glove",
    "veil",
    "jar",
    "lid",
    "feeder",
    "queen",
    "brood",
    "super",
    "comb",
]
FIELDS = [
    "sku",
    "name",
    "brand",
    "category",
    "price",
    "sale_price",
    "cost",
    "stock",
    "status",
    "weight",
    "size",
    "colour",
    "barcode",
    "tags",
    "short",
    "description",
    "tax",
    "supplier_code",
    "created",
    "min_order",
]


def make(path: Path, items: int) -> None:
    """A live catalogue of twenty fields: texts, codes with zeros, numbers, dates, flags."""
    rng = random.Random(3)

    def words(many: int) -> str:
        return " ".join(rng.choice(WORDS) for _ in range(many))

    with path.open("w", newline="") as file:
        rows = csv.writer(file)
        rows.writerow(FIELDS)
        for number in range(items):
            price = rng.randrange(100, 20_000)
            rows.writerow(
                [
                    f"QA-{number:06}",
                    words(4),
                    words(1),
                    f"{words(1)} > {words(1)}",
                    f"{price / 100:.2f}",
                    f"{price * 0.9 / 100:.2f}" if rng.random() < 0.2 else "",
                    f"{price * 0.6 / 100:.2f}",
                    rng.randrange(300),
                    rng.choice(["shown", "hidden"]),
                    f"{rng.random() * 9:.3f}",
                    f"{rng.randrange(9)} l",
                    rng.choice(["red", "blue", ""]),
                    f"0{rng.randrange(10**12):012}",
                    f"{words(1)}, {words(1)}",
                    words(12),
                    words(30),
                    rng.choice(["a", "b"]),
                    f"{rng.randrange(10**5):05}",
                    f"20{rng.randrange(10, 26)}-0{rng.randrange(1, 10)}-1{rng.randrange(9)}",
                    rng.randrange(1, 7),
                ]
            )


def main() -> None:
    parser = argparse.ArgumentParser(description="How long a working sheet takes.")
    parser.add_argument("--items", type=int, default=100_000)
    parser.add_argument("--rounds", type=int, default=5)
    asked = parser.parse_args()
    with tempfile.TemporaryDirectory() as place:
        make(Path(place) / "live.csv", asked.items)
        calls = {
            "sheet": ["sheet", "live.csv", "-o", "sheet.xlsx", "--replace"],
            "compare": ["compare", "live.csv", "sheet.xlsx"],
        }
        for name, call in calls.items():
            taken = []
            for _ in range(asked.rounds):
                start = time.perf_counter()
                subprocess.run([sys.executable, "-m", "neat_delta", *call], cwd=place, capture_output=True, check=True)
                taken.append(time.perf_counter() - start)
            size = (Path(place) / "sheet.xlsx").stat().st_size / 1e6
            print(f"{name}: {median(taken):.2f} s ({min(taken):.2f} to {max(taken):.2f}); sheet of {size:.0f} MB")


if __name__ == "__main__":
    main()
