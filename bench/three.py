"""What a base costs: compare of three sides against compare of two, in the same run.

    pip install -e '.[bench]' && python bench/three.py [--items 1000000] [--changed 0.04] [--rounds 5]

Live and the sheet are as in `bench/compare.py`; the base is live before the store changed the price of that share of
its items and the stock of as many. Prints the medians: seconds, the ratio of the same round, the peak memory.
"""

from __future__ import annotations

import argparse
import sys
import tempfile
from pathlib import Path
from statistics import median

import numpy as np
import polars as pl

sys.path.insert(0, str(Path(__file__).parent))
from compare import make, run


def make_live(folder: Path, changed: float) -> None:
    """From live.csv, the base, what the store has now: fresh.csv, with as much changed as in the sheet."""
    rng = np.random.default_rng(21)
    table = pl.read_csv(folder / "live.csv", infer_schema=False, empty_string_is_null=False)
    some = [pl.Series(rng.random(table.height) < share) for share in (changed, changed / 4)]
    table.with_columns(
        pl.when(some[0]).then(pl.lit("1.01")).otherwise(pl.col("price")).alias("price"),
        pl.when(some[1]).then(pl.lit("3")).otherwise(pl.col("stock")).alias("stock"),
    ).write_csv(folder / "fresh.csv")


def main() -> None:
    """Make the files and measure."""
    parser = argparse.ArgumentParser()
    parser.add_argument("--items", type=int, default=1_000_000)
    parser.add_argument("--changed", type=float, default=0.04)
    parser.add_argument("--rounds", type=int, default=5)
    parser.add_argument("--folder", help="where the files are kept for another run")
    asked = parser.parse_args()
    with tempfile.TemporaryDirectory() as temporary:
        folder = Path(asked.folder or temporary)
        if not (folder / "live.csv").exists():
            make(folder, asked.items, asked.changed)
        if not (folder / "fresh.csv").exists():
            make_live(folder, asked.changed)
        program = [sys.executable, "-m", "neat_delta", "compare"]
        two, three = [], []
        for _ in range(asked.rounds):
            two.append(run([*program, "live.csv", "sheet.csv", "-o", "two.jsonl"], folder))
            three.append(run([*program, "fresh.csv", "sheet.csv", "--base", "live.csv", "-o", "three.jsonl"], folder))
        ratio = median(one / other for (one, _), (other, _) in zip(three, two, strict=True))
        for name, rounds in (("two sides", two), ("three sides", three)):
            print(f"{name:12} {median(s for s, _ in rounds):6.2f} s  {max(m for _, m in rounds):5.2f} GB")
        print(f"three to two: {ratio:.2f}")


if __name__ == "__main__":
    main()
