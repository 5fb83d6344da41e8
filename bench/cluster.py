"""What workers gain and cost: `compare` alone and with 1 and 2 workers of one core each, round by round, in turn.

    pip install -e '.[bench,cluster]' && python bench/cluster.py [--items 3000000] [--rounds 3]

Makes a catalogue of 30 fields and a shuffled sheet of it of which 4 % changed, in a temporary folder. Prints the
medians of the rounds: seconds, seconds of CPU of all processes together, the largest memory of the process that was
called and of a worker; and how many times as fast two workers are as one (in the same round: other work slows both).
Nothing that comes of it differs, or it ends with status 1.
"""

from __future__ import annotations

import argparse
import os
import resource
import subprocess
import sys
import tempfile
import time
from multiprocessing import Process
from pathlib import Path
from statistics import median
from typing import NamedTuple

import psutil

sys.path.insert(0, str(Path(__file__).parent))
from speed import make_files

WAYS: dict[str, list[str]] = {"alone": [], "1 worker": ["--workers", "1"], "2 workers": ["--workers", "2"]}
SECONDS_BETWEEN_LOOKS = 0.05


class Cost(NamedTuple):
    """Of one run: seconds, seconds of CPU, and megabytes at most, of the program itself and of any worker."""

    wall: float
    cpu: float
    own: float
    worker: float


def cost(folder: Path, words: list[str]) -> Cost:
    """Compare once, each process with one thread of the engine."""
    (folder / "changes.jsonl").unlink(missing_ok=True)
    call = [sys.executable, "-m", "neat_delta", "compare", "live.csv", "shuffled.csv", "-o", "changes.jsonl", "-q"]
    before, began = resource.getrusage(resource.RUSAGE_CHILDREN), time.monotonic()
    environment = {**os.environ, "POLARS_MAX_THREADS": "1"}
    running = subprocess.Popen([*call, *words], cwd=folder, env=environment, stdout=subprocess.DEVNULL)
    program, peaks = psutil.Process(running.pid), {"own": 0, "worker": 0}
    while running.poll() is None:
        try:
            peaks["own"] = max(peaks["own"], program.memory_info().rss)
            peaks["worker"] = max(
                [peaks["worker"], *(each.memory_info().rss for each in program.children(recursive=True))]
            )
        except psutil.NoSuchProcess:  # it ended just now
            pass
        time.sleep(SECONDS_BETWEEN_LOOKS)
    wall, after = time.monotonic() - began, resource.getrusage(resource.RUSAGE_CHILDREN)
    if running.returncode:
        sys.exit("compare failed")
    cpu = after.ru_utime + after.ru_stime - before.ru_utime - before.ru_stime
    return Cost(wall, cpu, peaks["own"] / 1e6, peaks["worker"] / 1e6)


def main() -> None:
    """Measure, and print the medians."""
    options = argparse.ArgumentParser(description=__doc__.partition("\n")[0])
    options.add_argument("--items", type=int, default=3_000_000)
    options.add_argument("--rounds", type=int, default=3)
    asked = options.parse_args()
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        making = Process(target=make_files, args=(folder, asked.items, ["shuffled.csv"]))
        making.start()
        making.join()
        runs: list[dict[str, Cost]] = []
        for _ in range(asked.rounds):
            costs, contents = {}, set[bytes]()
            for way, words in WAYS.items():
                costs[way] = cost(folder, words)
                contents.add((folder / "changes.jsonl").read_bytes())
                print(f"  {way:10} {costs[way].wall:6.1f} s", file=sys.stderr, flush=True)
            if len(contents) > 1:
                sys.exit("the change sets differ")
            runs.append(costs)
    print(f"{asked.items:,} items, medians of {asked.rounds} rounds")
    for way in WAYS:
        wall, cpu, own, worker = (median(values) for values in zip(*(run[way] for run in runs), strict=True))
        print(f"{way:10} {wall:6.1f} s {cpu:6.1f} s of CPU {own:6,.0f} MB, a worker {worker:6,.0f} MB")
    ratio = median(run["1 worker"].wall / run["2 workers"].wall for run in runs)
    more = median(run["2 workers"].cpu / run["alone"].cpu for run in runs)
    print(f"two workers are {ratio:.2f} times as fast as one, and take {more:.2f} times the CPU of the program alone")


if __name__ == "__main__":
    main()
