"""What fetching a large file over HTTP costs beside copying it with the same client: `python -m bench.fetch [MB]`.

Both run in processes of their own against a server of the tests on loopback, in turn, into a folder in memory.
"""

from __future__ import annotations

import os
import subprocess
import sys
import tempfile
from pathlib import Path

from tests import servers

COPY = """
import httpx, sys, time
began = time.perf_counter()
with httpx.Client() as client, client.stream("GET", sys.argv[1]) as answer, open(sys.argv[2], "wb") as file:
    for chunk in answer.iter_raw():
        file.write(chunk)
print(time.perf_counter() - began)
"""
FETCH = """
import httpx, sys, time
from neat_delta.files.sources import cache, web
from neat_delta.files.sources.fetch import fetch
began = time.perf_counter()
fetch(sys.argv[1])
print(time.perf_counter() - began)
print(next(line.split()[1] for line in open("/proc/self/status") if line.startswith("VmHWM")))
"""


def main() -> None:
    """Print the seconds of each turn, their ratio, and the memory that fetching takes."""
    size = int(sys.argv[1]) if len(sys.argv) > 1 else 1000
    with (
        servers.web() as web,
        tempfile.TemporaryDirectory(dir="/dev/shm" if Path("/dev/shm").is_dir() else None) as place,
    ):
        web.content["/large.csv"] = b"QA-1,Hive tool,9.90\n" * (size * 50_000)
        for turn in range(3):
            call = [sys.executable, "-c", COPY, f"{web.place}/large.csv", f"{place}/copy"]
            copied = float(subprocess.run(call, capture_output=True, text=True, check=True).stdout)
            call = [sys.executable, "-c", FETCH, f"{web.place}/large.csv?{turn}"]
            env = {**os.environ, "XDG_CACHE_HOME": f"{place}/{turn}"}
            seconds, memory = subprocess.run(call, capture_output=True, text=True, check=True, env=env).stdout.split()
            ratio = float(seconds) / copied
            print(f"copy {copied:.2f} s, fetch {float(seconds):.2f} s: {ratio:.2f} x, {int(memory) / 1000:.0f} MB")


if __name__ == "__main__":
    main()
