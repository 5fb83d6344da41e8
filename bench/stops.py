"""How long the program takes to go when it is stopped, at sixty moments of a compare of 14 MB.

    pip install -e '.[bench]' && python bench/stops.py [--moments 60]

Prints the median and the longest, in milliseconds. Ends with status 1 where one took more than two seconds, or where
something half written was left.
"""

from __future__ import annotations

import argparse
import signal
import subprocess
import sys
import tempfile
import time
from pathlib import Path
from statistics import median

from compare import make

PROGRAM = str(Path(sys.executable).with_name("neat-delta"))
FIRST = 0.08
"""Python itself needs so many seconds, on a slow machine, before any line of ours can listen."""


def main() -> None:
    """Stop it again and again."""
    options = argparse.ArgumentParser(description=__doc__.partition("\n")[0])
    options.add_argument("--moments", type=int, default=60)
    moments = options.parse_args().moments
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        make(folder, 50_000, 0.04)
        call = [PROGRAM, "compare", "live.csv", "sheet.csv", "-o", "c.jsonl"]
        start = time.perf_counter()
        subprocess.run(call, cwd=folder, capture_output=True, check=False)
        lasts, took = time.perf_counter() - start, []
        (folder / "c.jsonl").unlink()
        for step in range(moments):
            process = subprocess.Popen(call, cwd=folder, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
            time.sleep(FIRST + lasts * step / moments)
            process.send_signal(signal.SIGINT if step % 2 else signal.SIGTERM)
            start = time.perf_counter()
            process.wait()
            took.append(1000 * (time.perf_counter() - start))
            (folder / "c.jsonl").unlink(missing_ok=True)
        left = {file.name for file in folder.iterdir()} - {"live.csv", "sheet.csv"}
    print(
        f"{moments} moments: median {median(took):.0f} ms, longest {max(took):.0f} ms; left behind: {left or 'nothing'}"
    )
    sys.exit(1 if max(took) > 2000 or left else 0)


if __name__ == "__main__":
    main()
