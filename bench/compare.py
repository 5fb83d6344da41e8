"""How fast compare and write are, as whole processes, against only reading both files with Polars.

    pip install -e '.[bench]' && python bench/compare.py [--items 1000000] [--changed 0.04 | --raised] [--rounds 5]

Makes two catalogues of 30 fields in a temporary folder, the second shuffled and with that share of its items
changed, or with every price raised by 3 %. Prints the median of the rounds: seconds, the ratio to the read-only floor
of the same round (other work on the machine slows both), and the peak memory.
"""

from __future__ import annotations

import argparse
import os
import subprocess
import sys
import tempfile
import time
from pathlib import Path
from statistics import median

import numpy as np
import polars as pl

FLOOR = """
import sys, polars as pl
for path in sys.argv[1:]:
    globals()[path] = pl.read_csv(path, infer_schema=False, empty_string_is_null=False)
"""
READ = """
import sys, gc
gc.disable()
import neat_delta
for path in ("live.csv", "sheet.csv"):
    layout = neat_delta.Layout(**%s)
    globals()[path] = neat_delta.read(path, layout)
    globals()[path].digest()
"""
TOLD = {
    "separator": ",",
    "line_end": "LF",
    "bom": False,
    "quote_all": False,
    "encoding": "utf-8",
    "quote": '"',
    "escape": "",
    "header_line": 1,
    "format": "delimited",
}
WORDS = np.array(
    [
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
        "tank",
        "filter",
    ]
)


def make(folder: Path, items: int, changed: float, *, raised: bool = False) -> None:
    """Write live.csv and sheet.csv: with so many items changed, or with every price raised and nothing else."""
    rng = np.random.default_rng(20)

    def text(words: int) -> pl.Series:
        parts = [pl.Series(WORDS[rng.integers(0, len(WORDS), items)]) for _ in range(words)]
        return pl.select(pl.concat_str(parts, separator=" ")).to_series()

    def some(share: float) -> pl.Series:
        return pl.Series(rng.random(items) < share)

    def money() -> pl.Series:
        return pl.Series(rng.integers(100, 99999, items)).cast(pl.Decimal(12, 0)).cast(pl.Decimal(12, 2)) / 100

    sku = pl.select(pl.lit("QA-") + pl.Series(np.arange(1_000_001, 1_000_001 + items)).cast(pl.String)).to_series()
    table = pl.DataFrame({"sku": sku, "name": text(5), "brand": text(1)})
    quoted = pl.select(text(8) + ', the "best"\n' + text(5)).to_series()
    table = table.with_columns(
        pl.when(some(0.2)).then(quoted).otherwise(text(14)).alias("description"),
        *(money().cast(pl.Decimal(12, 2)).cast(pl.String).alias(name) for name in ("price", "cost", "list_price")),
        pl.Series(rng.integers(0, 500, items)).cast(pl.String).alias("stock"),
        pl.select(text(1) + " > " + text(1)).to_series().alias("category"),
    )
    for number in range(21):
        words = pl.when(some(0.3)).then(None).otherwise(text(1))
        digits = pl.Series(rng.integers(0, 10**7, items)).cast(pl.String)
        table = table.with_columns((pl.lit(digits) if number % 2 else words).alias(f"attribute_{number}"))
    table.write_csv(folder / "live.csv")
    raise_ = pl.col("price").cast(pl.Decimal(12, 2)) * pl.lit("1.03").cast(pl.Decimal(3, 2))
    more = raise_.cast(pl.Decimal(12, 2)).cast(pl.String)
    if raised:
        edited = table.with_columns(price=more)
    else:
        edited = table.with_columns(
            pl.when(some(changed)).then(more).otherwise(pl.col("price")).alias("price"),
            pl.when(some(changed / 4)).then(pl.lit("7")).otherwise(pl.col("stock")).alias("stock"),
        )
    edited.select(pl.all().gather(rng.permutation(items))).write_csv(folder / "sheet.csv")


def run(command: list[str], folder: Path) -> tuple[float, float]:
    """Seconds and peak GB of a process."""
    start = time.perf_counter()
    process = subprocess.Popen(command, cwd=folder, stdout=subprocess.DEVNULL)
    _, status, usage = os.wait4(process.pid, 0)
    if os.waitstatus_to_exitcode(status) not in (0, 1):
        raise SystemExit(f"{command} failed")
    return time.perf_counter() - start, usage.ru_maxrss / 1e6


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0] if __doc__ else None)
    parser.add_argument("--items", type=int, default=1_000_000)
    parser.add_argument("--changed", type=float, default=0.04)
    parser.add_argument("--raised", action="store_true", help="raise every price by 3 %%, and change nothing else")
    parser.add_argument("--rounds", type=int, default=5)
    asked = parser.parse_args()
    with tempfile.TemporaryDirectory() as place:
        folder = Path(place)
        make(folder, asked.items, asked.changed, raised=asked.raised)
        size = sum((folder / name).stat().st_size for name in ("live.csv", "sheet.csv")) / 1e9
        what = "every price raised" if asked.raised else f"{asked.changed:.0%} changed"
        print(f"{asked.items:,} items × 30 fields, {what}, {size:.2f} GB in both files")
        delta = [sys.executable, "-m", "neat_delta"]
        commands = {
            "read both (floor)": [sys.executable, "-c", FLOOR, "live.csv", "sheet.csv"],
            "read live": [sys.executable, "-c", FLOOR, "live.csv"],
            "read, all told": [sys.executable, "-c", READ % TOLD],
            "read, all found out": [sys.executable, "-c", READ % {}],
            "compare": [*delta, "compare", "live.csv", "sheet.csv", "-o", "changes.jsonl"],
            "write, blanks skip": [
                *delta,
                "write",
                "changes.jsonl",
                "--to",
                "skip",
                "--importer-blanks",
                "skip",
                "--replace",
            ],
            "write, blanks clear": [*delta, "write", "changes.jsonl", "--to", "clear", "--replace"],
        }
        found: dict[str, list[tuple[float, float]]] = {name: [] for name in commands}
        for _ in range(asked.rounds):
            for name, command in commands.items():
                found[name].append(run(command, folder))
        for name, runs in found.items():
            seconds, memory = median(seconds for seconds, _ in runs), max(memory for _, memory in runs)
            both, told, live = (
                median(mine / theirs for (mine, _), (theirs, _) in zip(runs, found[base], strict=True))
                for base in ("read both (floor)", "read, all told", "read live")
            )
            print(
                f"{name:<20} {seconds:6.2f} s   {both:5.2f} × both   {told:5.2f} × told   "
                f"{live:5.2f} × live   "
                f"{memory:5.2f} GB   {memory / size:4.2f} × the files"
            )


if __name__ == "__main__":
    main()
