"""What every command gives, recorded, so that two versions of the program can be held side by side, byte by byte.

python bench/outputs.py draw inputs                # once: the demo's round, importers, drawn afternoons
python bench/outputs.py record inputs before       # with one version installed
python bench/outputs.py record inputs after        # with the other
diff -r before after
"""

from __future__ import annotations

import io
import os
import random
import re
import shutil
import subprocess
import sys
import tempfile
from collections.abc import Callable, Iterable, Sequence
from concurrent.futures import ProcessPoolExecutor
from fnmatch import fnmatch
from functools import partial
from importlib.resources import files
from multiprocessing import get_context
from pathlib import Path
from unittest import mock

ROOT = Path(__file__).parents[1]
ROUNDS = 60
PROGRAM = Path(sys.executable).with_name("neat-delta")

ASKED = ("--repair", "--with-new", "--whole", "--with-gone", "--blanks", "clear", "--with-new-values", "tags")
"""What lets nearly all of the demo's round through."""

STEPS: tuple[tuple[str, ...], ...] = (
    ("compare", "live.csv", "sheet.csv", "--json"),
    ("compare", "live.csv", "sheet.csv", "-o", "c.jsonl"),
    ("compare", "live.csv", "sheet.csv", "-o", "all.jsonl", *ASKED, "--accept", "required", "--accept", "large-round"),
    ("preview", "c.jsonl", "--json", "--all"),
    ("preview", "all.jsonl"),
    ("preview", "all.jsonl", "--findings", "--sort", "size", "--page", "page.html", "--workbook", "sign.xlsx"),
    ("preview", "c.jsonl", "--markdown"),
    ("write", "c.jsonl", "--to", "held", "--json"),
    ("write", "all.jsonl", "--to", "out", "--whole-catalogue"),
    ("write", "all.jsonl", "--to", "out", "--json"),
    ("write", "all.jsonl", "--to", "skipped", "--importer-blanks", "skip"),
    ("confirm", "all.jsonl", "live.csv", "--json"),
    ("confirm", "all.jsonl", "sheet.csv", "--files", "out", "--retry", "again"),
    ("confirm", "all.jsonl", "sheet.csv", "--json"),
    ("undo", "all.jsonl", "--to", "back", "--json"),
    ("undo", "all.jsonl", "--now", "sheet.csv", "--to", "back2"),
    ("match", "live.csv", "sheet.csv", "--json"),
    ("check", "live.csv", "--json"),
    ("check", "sheet.csv"),
    ("sheet", "live.csv", "-o", "cut.csv", "--json"),
)

DEMO_STEPS: tuple[tuple[str, ...], ...] = (
    *STEPS,
    ("compare", "live.csv", "sheet.csv"),
    ("compare", "live.csv", "supplier.csv", "--key", "barcode", "--json"),
    ("compare", "live.csv", "supplier.csv", "--key", "barcode", "--blanks", "keep", "--accept-near-keys"),
    ("compare", "live.csv", "sheet.csv", "--recode", "codes.csv", "--likely-codes", "likely.csv"),
    ("recode", "live.csv", "codes.csv", "-o", "recoded.jsonl"),
    ("recode", "live.csv", "codes.csv", "--json"),
    ("write", "recoded.jsonl", "--to", "recoded"),
    ("confirm", "recoded.jsonl", "live.csv", "--json"),
    ("undo", "recoded.jsonl", "--to", "recoded-back", "--json"),
    ("match", "live.csv", "supplier.csv", "--key", "barcode", "--save", "supplier.toml"),
    ("compare", "live.csv", "supplier.csv", "--mapping", "supplier.toml", "--json"),
    ("learn", "live.csv", "-o", "learned.toml"),
    ("learn", "live.csv", "--json"),
    ("check", "live.csv"),
    ("preview", "all.jsonl", "--records", "quotes.csv", "--keep-margin", "percent", "--by", "category"),
    ("preview", "all.jsonl", "--records", "quotes.csv", "--json", "--where", "price > before.price"),
    ("sheet", "live.csv", "-o", "wax.xlsx", "--where", "category = 'Wax'", "--fields", "price,cost,stock"),
    ("compare", "live.csv", "wax.xlsx", "--json"),
    ("write", "all.jsonl", "--to", "signed", "--signed-off", "sign.xlsx"),
)


def draw(folder: Path) -> None:
    """The inputs: one folder a case, each with live.csv, sheet.csv, maybe neat-delta.toml; `demo` has more."""
    sys.path.insert(0, str(ROOT))
    from tests import afternoons
    from tests.test_importers import IMPORTERS

    demo = files("neat_delta.demo")
    for name, importer in {"demo": None, **IMPORTERS}.items():
        place = folder / ("importer " + name if importer else name)
        place.mkdir(parents=True)
        for one in ("live.csv", "sheet.csv", *(() if importer else ("supplier.csv", "codes.csv", "quotes.csv"))):
            (place / one).write_bytes(demo.joinpath(one).read_bytes())
        text = demo.joinpath("neat-delta.toml").read_text()
        if importer:
            text = re.sub(r"\[importer\].*?(?=\n# Which)", f"[importer]\n{importer}\n".replace("\\", "\\\\"), text,
                          flags=re.DOTALL)  # fmt: skip
        (place / "neat-delta.toml").write_text(text)
    hands: list[Callable[[random.Random, afternoons.Sheet], list[str]]] = [
        *afternoons.DAMAGE, *afternoons.SLIPS, *afternoons.HANDS, *afternoons.ROWS
    ]  # fmt: skip
    for number in range(ROUNDS):
        rng, place = random.Random(number), folder / f"round {number:02}"
        place.mkdir()
        live = afternoons.shop(rng, rng.choice((40, 120, 300)))
        sheet = afternoons.ordinary(rng, live)
        for hand in rng.sample(hands, rng.choice((0, 1, 1))):
            hand(rng, sheet)
        _reworked(rng, sheet)
        for name, table in (("live", live), ("sheet", sheet)):
            afternoons.catalogue(table, name).cells.write_csv(place / f"{name}.csv")
        if number % 2:
            subprocess.run([PROGRAM, "learn", "live.csv", "-o", "neat-delta.toml"], cwd=place, check=True,
                           stdout=subprocess.DEVNULL)  # fmt: skip
            if number % 4 == 3:
                text = (place / "neat-delta.toml").read_text()
                chosen = rng.choice(list(IMPORTERS.values())[:9])
                place.joinpath("neat-delta.toml").write_text(
                    re.sub(r"(?m)^\[importer\]$\n(^[a-z].*\n)*", lambda _: f"[importer]\n{chosen}\n\n", text)  # noqa: B023
                )


def _reworked(rng: random.Random, sheet: dict[str, list[str]]) -> None:
    """Items that go, come and repeat, keys that nearly are live's, and emptied cells."""
    many = len(sheet["sku"])
    for row in sorted(rng.sample(range(many), min(many, 6)), reverse=True):
        how = rng.randrange(6)
        if how == 0:
            for texts in sheet.values():
                del texts[row]
        elif how == 1:
            for name, texts in sheet.items():
                texts.append(f"NEW-{row}" if name == "sku" else texts[row])
        elif how == 2:
            for texts in sheet.values():
                texts.append(texts[row])
        elif how == 3:
            sheet["sku"][row] = sheet["sku"][row].lower()
        elif how == 4:
            sheet[rng.choice(("sale_price", "name", "tags"))][row] = ""
        else:
            sheet["sku"][row] = ""


def record(inputs: Path, folder: Path, only: str) -> None:
    """What every command gives for every case (whose name fits): its words, status and files."""
    cases = sorted(one for one in inputs.iterdir() if one.is_dir() and fnmatch(one.name, only))
    with ProcessPoolExecutor(os.cpu_count(), get_context("spawn")) as pool:
        for _ in pool.map(partial(_case, folder=folder.resolve()), cases):
            pass


def _case(case: Path, folder: Path) -> None:
    with tempfile.TemporaryDirectory() as scratch:
        place = Path(scratch) / "shop"
        shutil.copytree(case, place)
        out = folder / case.name
        out.mkdir(parents=True)
        _run(place, DEMO_STEPS if case.name == "demo" else STEPS, out)
        for path in sorted(place.rglob("*")):
            name = path.relative_to(place)
            if path.is_file() and not (case / name).exists():
                (out / name).parent.mkdir(parents=True, exist_ok=True)
                shutil.copy(path, out / name)


def _run(place: Path, steps: Iterable[Sequence[str]], out: Path) -> None:
    """The steps in this process, one after the other, which spares each the start of a program."""
    from neat_delta.cli.main import main

    here = Path.cwd()
    os.chdir(place)
    with (out / "said.txt").open("w") as said:
        for step in steps:
            status: object = 0
            streams = [io.TextIOWrapper(io.BytesIO(), "utf-8", write_through=True) for _ in range(2)]
            with (
                mock.patch.dict(os.environ, COLUMNS="80"),
                mock.patch.object(sys, "argv", ["neat-delta", *step]),
                mock.patch.object(sys, "stdout", streams[0]),
                mock.patch.object(sys, "stderr", streams[1]),
                mock.patch("os._exit", sys.exit),
            ):
                try:
                    main()
                except SystemExit as stopped:
                    status = stopped.code
            words = "".join(stream.buffer.getvalue().decode() for stream in streams)
            said.write(f"$ neat-delta {' '.join(step)}\n{words}[{status}]\n\n")
    os.chdir(here)


if __name__ == "__main__":
    match sys.argv[1:]:
        case ["draw", folder]:
            draw(Path(folder))
        case ["record", inputs, folder, *only]:
            record(Path(inputs), Path(folder), *(only or ["*"]))
        case _:
            sys.exit(__doc__)
