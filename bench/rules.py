"""What a rule costs: `edit` of a million items against doing nothing but read live with `neat_delta.read`, in one run.

    pip install -e '.[bench]' && python bench/rules.py [--items 1000000] [--rounds 5]

One rule sets the price of every item, another that of the items without stock. Prints the medians: seconds, the ratio
of the same round, the peak memory.
"""

from __future__ import annotations

import argparse
import sys
import tempfile
from pathlib import Path
from statistics import median

sys.path.insert(0, str(Path(__file__).parent))
from compare import make, run

RULE = ("--set", "price = ROUND(price * 1.05, 2)")


def main() -> None:
    """Make the file and measure."""
    parser = argparse.ArgumentParser()
    parser.add_argument("--items", type=int, default=1_000_000)
    parser.add_argument("--rounds", type=int, default=5)
    parser.add_argument("--folder", help="where the files are kept for another run")
    asked = parser.parse_args()
    with tempfile.TemporaryDirectory() as temporary:
        folder = Path(asked.folder or temporary)
        if not (folder / "live.csv").exists():
            make(folder, asked.items, 0.04)
        ways = {
            "read live": [sys.executable, "-c", "import neat_delta; neat_delta.read('live.csv')"],
            "every item": [sys.executable, "-m", "neat_delta", "edit", "live.csv", *RULE, "-o", "all.jsonl"],
            "some items": [
                *(sys.executable, "-m", "neat_delta", "edit", "live.csv", *RULE),
                *("--where", "stock = 0", "-o", "some.jsonl"),
            ],
        }
        rounds: dict[str, list[tuple[float, float]]] = {name: [] for name in ways}
        for _ in range(asked.rounds):
            for name, call in ways.items():
                rounds[name].append(run(call, folder))
        for name, taken in rounds.items():
            ratio = median(one / other for (one, _), (other, _) in zip(taken, rounds["read live"], strict=True))
            print(f"{name:12} {median(s for s, _ in taken):6.2f} s  {max(m for _, m in taken):5.2f} GB  x {ratio:.2f}")


if __name__ == "__main__":
    main()
