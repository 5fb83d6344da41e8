"""What the commands cost, round by round, against only reading their files with the same engine, as whole processes.

    pip install -e '.[bench]' && python bench/speed.py [--items 1000000] [--rounds 5] [--write docs/speed.md]

Makes a catalogue of 30 fields and several sheets of it in a temporary folder, and prints the medians of the rounds as a
table: seconds, the ratio to the reading of the same round (other work on the machine slows both), and the peak memory
against the size of both files. `--write` puts the table into a page, with what the machine is.
"""

from __future__ import annotations

import argparse
import os
import platform
import shutil
import sys
import tempfile
from collections.abc import Callable, Iterable
from datetime import date
from multiprocessing import Process
from pathlib import Path
from statistics import median

import numpy as np
import polars as pl

sys.path.insert(0, str(Path(__file__).parent))
from compare import make, run

FLOOR = """
import sys, polars as pl
for path in sys.argv[1:]:
    separator = ";" if path == "turned.csv" else ","
    globals()[path] = pl.read_csv(path, infer_schema=False, empty_string_is_null=False, separator=separator)
"""
PROGRAM = [sys.executable, "-m", "neat_delta"]


def shuffled(table: pl.DataFrame) -> pl.DataFrame:
    """The rows in another order."""
    return table[np.random.default_rng(22).permutation(table.height)]


def changed(table: pl.DataFrame, seed: int = 23) -> pl.DataFrame:
    """Four in a hundred prices, and one in a hundred stocks."""
    rng = np.random.default_rng(seed)
    prices, stocks = (pl.Series(rng.random(table.height) < share) for share in (0.04, 0.01))
    return table.with_columns(
        pl.when(prices).then(_times(table["price"], "1.03")).otherwise("price").alias("price"),
        pl.when(stocks).then(pl.lit("7")).otherwise("stock").alias("stock"),
    )


def raised(table: pl.DataFrame) -> pl.DataFrame:
    """Every price by three per cent."""
    return table.with_columns(price=_times(table["price"], "1.03"))


def distinct(table: pl.DataFrame) -> pl.DataFrame:
    """Every price, each to one that no other item has."""
    cents = pl.int_range(table.height, eager=True) + 100_000_00
    return table.with_columns(price=(cents.cast(pl.Decimal(14, 2)) / 100).cast(pl.Decimal(14, 2)).cast(pl.String))


def _times(prices: pl.Series, factor: str) -> pl.Series:
    exact = prices.cast(pl.Decimal(12, 2)).to_frame().select(pl.col("price") * pl.lit(factor).cast(pl.Decimal(3, 2)))
    return exact.to_series().cast(pl.Decimal(12, 2)).cast(pl.String)


FILES: dict[str, Callable[[pl.DataFrame], pl.DataFrame]] = {
    "shuffled.csv": lambda live: shuffled(changed(live)),
    "ordered.csv": changed,
    "turned.csv": lambda live: shuffled(changed(live))[live.columns[::-1]],
    "raised.csv": lambda live: shuffled(raised(live)),
    "distinct.csv": lambda live: shuffled(distinct(live)),
    "same.csv": lambda live: live,
    "moved.csv": lambda live: changed(live, 29),
}
"""What each file is, made of live; `turned.csv` has semicolons."""

COMPARE = ["compare", "live.csv", "shuffled.csv", "-o", "changes.jsonl"]
SPARING = ["--memory", "500MB"]
"""Less than either pair of files takes as a whole, so that they are read a few columns at a time."""

ROUNDS: dict[str, tuple[list[str], list[list[str]]]] = {
    "compare, 4 % changed, shuffled, same layout": (["live.csv", "shuffled.csv"], []),
    "compare, 4 % changed, rows in order": (["live.csv", "ordered.csv"], []),
    "compare, 4 % changed, columns turned round and semicolons": (["live.csv", "turned.csv"], []),
    "compare, every price raised": (["live.csv", "raised.csv"], []),
    "compare, every price raised, no two alike": (["live.csv", "distinct.csv"], []),
    "compare, no change at all": (["live.csv", "same.csv"], []),
    "compare, columns turned round and semicolons, `--memory 500MB`": (
        ["live.csv", "turned.csv"],
        [["compare", "live.csv", "turned.csv", "-o", "changes.jsonl", *SPARING]],
    ),
    "compare, every price raised, `--memory 500MB`": (
        ["live.csv", "raised.csv"],
        [["compare", "live.csv", "raised.csv", "-o", "changes.jsonl", *SPARING]],
    ),
    "compare, three sides, 4 % changed by each": (
        ["moved.csv", "shuffled.csv", "live.csv"],
        [["compare", "moved.csv", "shuffled.csv", "--base", "live.csv", "-o", "changes.jsonl"]],
    ),
    "confirm, 4 % changed": (
        ["live.csv", "shuffled.csv"],
        [COMPARE, ["confirm", "changes.jsonl", "shuffled.csv"]],
    ),
    "write with its proof, 4 % changed": (
        ["live.csv", "shuffled.csv"],
        [COMPARE, ["write", "changes.jsonl", "--to", "out"]],
    ),
}
"""Of each round the files that it is about, and the commands, of which the last is measured; none: it compares them."""


def make_files(folder: Path, items: int, names: Iterable[str] = FILES) -> None:
    """Write live and the files of these names. In a process of its own: a child's peak of memory begins with its
    parent's.
    """
    make(folder, items, 0.0)
    live = pl.read_csv(folder / "live.csv", infer_schema=False)  # what is null is written as a bare blank
    for name in names:
        FILES[name](live).write_csv(folder / name, separator=";" if name == "turned.csv" else ",")


def measured(folder: Path, rounds: int) -> list[tuple[str, float, float, float]]:
    """Of each round its name, the seconds, the ratio to only reading, the memory against the files."""
    lines = []
    for name, (files, commands) in ROUNDS.items():
        *before, command = commands or [["compare", *files, "-o", "changes.jsonl"]]
        size = sum((folder / file).stat().st_size for file in files) / 1e9
        (folder / "changes.jsonl").unlink(missing_ok=True)
        for step in before:
            run([*PROGRAM, *step], folder)
        runs = []
        for _ in range(rounds):
            floor = run([sys.executable, "-c", FLOOR, *files], folder)
            if not before:
                (folder / "changes.jsonl").unlink(missing_ok=True)
            shutil.rmtree(folder / "out", ignore_errors=True)
            runs.append((floor, run([*PROGRAM, *command], folder)))
        ratio = median(own / floor for (floor, _), (own, _) in runs)
        lines.append((name, median(own for _, (own, _) in runs), ratio, max(memory for _, (_, memory) in runs) / size))
    return lines


def page(lines: list[tuple[str, float, float, float]], items: int, rounds: int) -> str:
    """The table, with what was measured, and where."""
    cores, memory = os.cpu_count(), os.sysconf("SC_PHYS_PAGES") * os.sysconf("SC_PAGE_SIZE") / (1 << 30)
    rows = "\n".join(f"| {name} | {seconds:.1f} s | {ratio:.2f} × | {of:.2f} × |" for name, seconds, ratio, of in lines)
    return f"""# How long it takes

Each command as a whole process, {items:,} items of 30 fields, medians of {rounds} rounds; against only reading its
files with the same engine (Polars {pl.__version__}) in the same round; the peak memory against their size together.

| round | time | against reading | memory |
| --- | --- | --- | --- |
{rows}

Measured on {date.today()}: {cores} cores ({platform.machine()}), {memory:.0f} GiB, {platform.system()}, Python
{platform.python_version()}. Ratios say more than seconds: other work slows both. Measure it on yours with
`python bench/speed.py`.
"""


def main() -> None:
    """Make the files, measure, print, and write the page if asked to."""
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0] if __doc__ else None)
    parser.add_argument("--items", type=int, default=1_000_000)
    parser.add_argument("--rounds", type=int, default=5)
    parser.add_argument("--write", metavar="PAGE", help="write the table into this page")
    asked = parser.parse_args()
    with tempfile.TemporaryDirectory() as place:
        folder = Path(place)
        making = Process(target=make_files, args=(folder, asked.items))
        making.start()
        making.join()
        text = page(measured(folder, asked.rounds), asked.items, asked.rounds)
    print(text)
    if asked.write:
        Path(asked.write).write_text(text, encoding="utf-8")


if __name__ == "__main__":
    main()
