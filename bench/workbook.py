"""How long a workbook takes to be read, as a whole process and by itself.

pip install -e '.[bench,test]' && python bench/workbook.py [--rows 100000] [--columns 20] [--rounds 5]
"""

from __future__ import annotations

import argparse
import subprocess
import sys
import tempfile
import time
from pathlib import Path
from statistics import median

import xlsxwriter

READ = """
import gc, sys, time
gc.disable()
import neat_delta, neat_delta.files.readers.xlsx
start = time.perf_counter()
neat_delta.read(sys.argv[1])
print(time.perf_counter() - start)
"""


def make(path: Path, rows: int, columns: int) -> None:
    """A third of the columns are texts, the rest numbers with decimals."""
    with xlsxwriter.Workbook(path, {"constant_memory": True}) as book:
        sheet = book.add_worksheet("Prices")
        for column in range(columns):
            sheet.write_string(0, column, f"field {column}")
        for row in range(1, rows + 1):
            for column in range(columns):
                if column % 3:
                    sheet.write_number(row, column, round(row * 1.01 + column, 2))
                else:
                    sheet.write_string(row, column, f"QA-{row} {column}")


def main() -> None:
    parser = argparse.ArgumentParser(description="How long a workbook takes to be read.")
    parser.add_argument("--rows", type=int, default=100_000)
    parser.add_argument("--columns", type=int, default=20)
    parser.add_argument("--rounds", type=int, default=5)
    asked = parser.parse_args()
    with tempfile.TemporaryDirectory() as place:
        path = Path(place) / "prices.xlsx"
        make(path, asked.rows, asked.columns)
        whole, alone = [], []
        for _ in range(asked.rounds):
            start = time.perf_counter()
            done = subprocess.run([sys.executable, "-c", READ, path], capture_output=True, text=True, check=True)
            whole.append(time.perf_counter() - start)
            alone.append(float(done.stdout))
        print(f"{asked.rows:,} rows × {asked.columns} columns, {path.stat().st_size / 1e6:.0f} MB")
        print(f"read {median(alone):.2f} s ({min(alone):.2f} to {max(alone):.2f}), the process {median(whole):.2f} s")


if __name__ == "__main__":
    main()
