"""What a ledger of a thousand rounds costs: to be asked of an item, to be listed, and on disk.

`python -m bench.history [ROUNDS] [CHANGES]`; the folders of the rounds are made of one change set with other keys.
"""

from __future__ import annotations

import random
import subprocess
import sys
import tempfile
import time
from pathlib import Path

import neat_delta
from neat_delta.core.base.model.rounds import RoundStep
from neat_delta.files.changelines import change_lines
from neat_delta.files.ledger.folder import CHANGES
from neat_delta.files.ledger.index import INDEX
from neat_delta.files.ledger.ledger import Ledger

__all__ = ["main"]

ITEMS = 50_000


def main(rounds: int = 1_000, changes: int = 5_000) -> None:
    """Make the ledger, and say what it costs."""
    rng = random.Random(3)
    with tempfile.TemporaryDirectory() as place:
        ledger = Ledger(Path(place) / "rounds")
        for number in range(rounds):
            items = rng.sample(range(ITEMS), changes)
            live = {"sku": [f"QA-{item:06d}" for item in items], "price": [f"{item % 90 + 9}.90" for item in items]}
            sheet = live | {"price": [f"{(item + number) % 90 + 10}.50" for item in items]}
            store = neat_delta.Store(largest_round=100)  # type: ignore[arg-type]
            made = neat_delta.compare(live, sheet, store=store, accept=["large-change", "outlier"])
            folder = ledger.begin("weekly")
            with (folder.path / CHANGES).open("wb") as file:
                file.writelines(change_lines(made))
            folder.note(RoundStep("", "compared", changes=f"{number:064d}", file=CHANGES))
        began = time.perf_counter()
        with ledger.index(rebuild=True) as index:
            many = index.connection.execute("SELECT count(*) FROM cells").fetchone()[0]
        seconds, size = time.perf_counter() - began, (ledger.folder / INDEX).stat().st_size
        print(f"{rounds:,} rounds, {many:,} changes: indexed in {seconds:.0f} s, {size / many:.0f} bytes each")
        program = str(Path(sys.executable).with_name("neat-delta"))
        for words in (["--version"], ["history", "--all"], ["history", "--sku", "QA-000123"], ["history", "7"]):
            call = [program, *words] + ([] if words == ["--version"] else ["--ledger", str(ledger.folder)])
            times = []
            for _ in range(5):
                began = time.perf_counter()
                subprocess.run(call, check=True, capture_output=True)
                times.append(time.perf_counter() - began)
            print(f"{' '.join(words):30} {sorted(times)[2]:.2f} s")


if __name__ == "__main__":
    main(*map(int, sys.argv[1:]))
