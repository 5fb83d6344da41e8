"""What compare costs, round by round, against only reading both files with the same engine, as whole processes.

    pip install -e '.[bench]' && python bench/speed.py [--items 1000000] [--rounds 5] [--write docs/speed.md]

Makes a catalogue of 30 fields and several sheets of it in a temporary folder, and prints the medians of the rounds as a
table: seconds, the ratio to the reading of the same round (other work on the machine slows both), and the peak memory
against the size of both files. `--write` puts the table into a page, with what the machine is.
"""

from __future__ import annotations

import argparse
import os
import platform
import sys
import tempfile
from collections.abc import Callable
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
for path, separator in (("live.csv", ","), tuple(sys.argv[1:])):
    globals()[path] = pl.read_csv(path, infer_schema=False, empty_string_is_null=False, separator=separator)
"""
PROGRAM = [sys.executable, "-m", "neat_delta"]


def shuffled(table: pl.DataFrame) -> pl.DataFrame:
    """The rows in another order."""
    return table[np.random.default_rng(22).permutation(table.height)]


def changed(table: pl.DataFrame) -> pl.DataFrame:
    """Four in a hundred prices, and one in a hundred stocks."""
    rng = np.random.default_rng(23)
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


SHEETS: dict[str, tuple[Callable[[pl.DataFrame], pl.DataFrame], str]] = {
    "4 % changed, shuffled, same layout": (lambda live: shuffled(changed(live)), ","),
    "4 % changed, rows in order": (changed, ","),
    "4 % changed, columns turned round and semicolons": (lambda live: shuffled(changed(live))[live.columns[::-1]], ";"),
    "every price raised": (lambda live: shuffled(raised(live)), ","),
    "every price raised, no two alike": (lambda live: shuffled(distinct(live)), ","),
    "no change at all": (lambda live: live, ","),
}
"""What each sheet is, made of live, and what stands between its cells."""


def make_files(folder: Path, items: int) -> None:
    """Write live and all sheets. In a process of its own: a child's peak of memory begins with what its parent has."""
    make(folder, items, 0.0)
    live = pl.read_csv(folder / "live.csv", infer_schema=False)  # what is null is written as a bare blank
    for number, (make_sheet, separator) in enumerate(SHEETS.values()):
        make_sheet(live).write_csv(folder / f"sheet-{number}.csv", separator=separator)


def measured(folder: Path, rounds: int) -> list[tuple[str, float, float, float]]:
    """Of each round its name, the seconds, the ratio to only reading, the memory against both files."""
    lines = []
    for number, name in enumerate(SHEETS):
        files = ["live.csv", f"sheet-{number}.csv"]
        size = sum((folder / file).stat().st_size for file in files) / 1e9
        runs = []
        for _ in range(rounds):
            floor = run([sys.executable, "-c", FLOOR, files[1], SHEETS[name][1]], folder)
            (folder / "changes.jsonl").unlink(missing_ok=True)
            runs.append((floor, run([*PROGRAM, "compare", *files, "-o", "changes.jsonl"], folder)))
        ratio = median(own / floor for (floor, _), (own, _) in runs)
        lines.append((name, median(own for _, (own, _) in runs), ratio, max(memory for _, (_, memory) in runs) / size))
    return lines


def page(lines: list[tuple[str, float, float, float]], items: int, rounds: int) -> str:
    """The table, with what was measured, and where."""
    cores, memory = os.cpu_count(), os.sysconf("SC_PHYS_PAGES") * os.sysconf("SC_PAGE_SIZE") / (1 << 30)
    rows = "\n".join(f"| {name} | {seconds:.1f} s | {ratio:.2f} × | {of:.2f} × |" for name, seconds, ratio, of in lines)
    return f"""# How long it takes

`neat-delta compare` as a whole process, {items:,} items of 30 fields, medians of {rounds} rounds; against only reading
both files with the same engine (Polars {pl.__version__}) in the same round; the peak memory against the size of both.

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
