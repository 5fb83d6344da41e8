"""What each further column, member of an IN and cell of a workbook costs, as whole processes.

    pip install -e '.[bench]' && python bench/shapes.py [--rounds 3]

Each shape is measured at two sizes, so that the start of the program falls out; printed are the seconds at the larger
one, the milliseconds each further one takes, and how much dearer they are than at the smaller size (1 is linear). Ends
with status 1 where one costs more than is bearable on a slow machine, or is not linear.
"""

from __future__ import annotations

import argparse
import random
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path
from statistics import median

PROGRAM = str(Path(sys.executable).with_name("neat-delta"))


def columns(folder: Path, many: int) -> list[str]:
    """Compare two catalogues of 50 rows and so many columns, of which one cell in fifty differs."""
    rng = random.Random(1)
    heads = ["sku", *(f"field {n}" for n in range(many))]
    rows = [[f"QA-{row}", *(f"{rng.randint(1, 999)}.50" if n % 2 else f"wax {rng.randint(1, 9)}" for n in range(many))]
            for row in range(50)]  # fmt: skip
    put(folder / "live.csv", heads, rows)
    edited = [
        [
            row[0],
            *(cell.replace(".50", ".90").replace("wax", "honey") if rng.random() < 0.02 else cell for cell in row[1:]),
        ]
        for row in rows
    ]
    put(folder / "sheet.csv", heads, edited)
    return ["compare", "live.csv", "sheet.csv"]


def members(folder: Path, many: int) -> list[str]:
    """Cut a sheet by a condition that names so many codes."""
    put(folder / "live.csv", ["sku", "name"], [[f"QA-{row}", "Jar"] for row in range(10_000)])
    codes = ", ".join(f"'QA-{number}'" for number in range(many))
    return ["sheet", "live.csv", "-o", "cut.csv", "--replace", "--where", f"sku IN ({codes})"]


def cells(folder: Path, many: int) -> list[str]:
    """Write the workbook to sign off of a round in which so many prices with a currency change."""
    rows = [[f"QA-{row}", f"{row % 900 + 1},50 €"] for row in range(many)]
    put(folder / "live.csv", ["sku", "price"], rows, ";")
    put(folder / "sheet.csv", ["sku", "price"], [[sku, price.replace(",50", ",90")] for sku, price in rows], ";")
    call = [PROGRAM, "compare", "live.csv", "sheet.csv", "-o", "c.jsonl", "--accept", "slip"]
    subprocess.run(call, cwd=folder, capture_output=True, check=False)
    return ["preview", "c.jsonl", "--workbook", "sign.xlsx", "--replace"]


def in_order(folder: Path, many: int) -> list[str]:
    """Compare a round in which so many prices change, one in three of the rows, and go up all the way."""
    rng = random.Random(1)
    rows = [[f"QA-{row}", f"{rng.randint(100, 99_999) / 100:.2f}"] for row in range(many * 3)]
    put(folder / "live.csv", ["sku", "price"], rows)
    put(folder / "sheet.csv", ["sku", "price"], [[sku, f"{row / 100 + 1:.2f}" if row % 3 == 0 else price]
                                                 for row, (sku, price) in enumerate(rows)])  # fmt: skip
    return ["compare", "live.csv", "sheet.csv"]


def dense(folder: Path, many: int) -> list[str]:
    """Compare 400 rows of so many columns, of which one cell in ten is another."""
    rng = random.Random(1)
    heads = ["sku", *(f"field {n}" for n in range(many))]
    rows = [[f"QA-{row}", *(f"wax {rng.randint(1, 9_999)}" for _ in range(many))] for row in range(400)]
    put(folder / "live.csv", heads, rows)
    edited = [[row[0], *(f"honey {rng.randint(1, 9_999)}" if rng.random() < 0.1 else cell for cell in row[1:])]
              for row in rows]  # fmt: skip
    put(folder / "sheet.csv", heads, edited)
    return ["compare", "live.csv", "sheet.csv"]


def put(path: Path, heads: list[str], rows: list[list[str]], separator: str = ",") -> None:
    path.write_text("\n".join(separator.join(row) for row in [heads, *rows]) + "\n")


SHAPES: dict[str, tuple[Callable[[Path, int], list[str]], int, int, float]] = {
    "columns × 50 rows": (columns, 500, 4_000, 10.0),
    "columns × 400 rows, dense": (dense, 100, 800, 25.0),
    "prices in order": (in_order, 10_000, 60_000, 0.3),
    "members of an IN": (members, 500, 3_000, 1.0),
    "workbook cells": (cells, 1_000, 8_000, 1.0),
}
"""What is measured, at which two sizes, and how many milliseconds each may take at most."""


def seconds(make: Callable[[Path, int], list[str]], many: int, rounds: int) -> float:
    with tempfile.TemporaryDirectory() as folder:
        call = [PROGRAM, *make(Path(folder), many)]
        taken = []
        for _ in range(rounds):
            start = time.perf_counter()
            done = subprocess.run(call, cwd=folder, capture_output=True, text=True, check=False)
            taken.append(time.perf_counter() - start)
            if done.returncode > 1:
                sys.exit(done.stderr)
        return median(taken)


def main() -> None:
    """Measure every shape."""
    options = argparse.ArgumentParser(description=__doc__.partition("\n")[0])
    options.add_argument("--rounds", type=int, default=3)
    rounds = options.parse_args().rounds
    failed = False
    for name, (make, small, large, most) in SHAPES.items():
        none, few, many = (seconds(make, size, rounds) for size in (1, small, large))
        each, dearer = (many - none) / large * 1000, ((many - few) / (large - small)) / max((few - none) / small, 1e-6)
        print(f"{name}: {large:,} in {many:.1f} s, {each:.2f} ms each, {dearer:.1f} × as dear as at {small:,}")
        failed |= each > most or (dearer > 3 and many - none > 2)
    sys.exit(1 if failed else 0)


if __name__ == "__main__":
    main()
