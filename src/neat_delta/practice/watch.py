"""A folder that a practice store looks into: it imports what is delivered there, and puts its report beside it, as many
shops do.

Rule: a file is taken once it has its name and has stood there unchanged for one look; then it moves into `imported`,
and what was not understood into `refused`, so that none is ever imported twice.
"""

from __future__ import annotations

import time
from collections.abc import Callable
from pathlib import Path

from neat_delta.core.base.support.errors import NeatDeltaError, OutputError
from neat_delta.files.whole import read_whole, write_whole
from neat_delta.practice.shop import BusyError, Report, Shop, report_csv

__all__ = ["look", "watch"]

SECONDS_BETWEEN_LOOKS = 0.5
NOT_DATA = (".report.csv", ".txt", ".html", ".partial")
"""How files end that are there for people, or come from the store itself."""


def watch(shop: Shop, folder: str, say: Callable[[str], None], looks: int | None = None) -> None:
    """Look into a folder again and again, until it is stopped (or so many `looks` were taken), and say what was
    imported. It ends where the folder cannot be looked into any more, or a report not be written, and says so.
    """
    sizes: dict[str, int] = {}
    while looks is None or looks > 0:
        try:
            sizes = look(shop, Path(folder), sizes, say)
        except (OSError, OutputError) as error:
            say(f"{folder}: nothing is imported from there any more ({error})")
            return
        looks = None if looks is None else looks - 1
        time.sleep(SECONDS_BETWEEN_LOOKS)


def look(shop: Shop, folder: Path, before: dict[str, int], say: Callable[[str], None]) -> dict[str, int]:
    """Import the files that are as they were at the look `before`, by their names' order; the others' sizes."""
    sizes = {
        path.name: path.stat().st_size
        for path in sorted(folder.iterdir())
        if path.is_file() and not path.name.startswith(".") and not path.name.endswith(NOT_DATA)
    }
    for name, size in sizes.items():
        if before.get(name) == size:
            say(_take(shop, folder / name))
    return {name: size for name, size in sizes.items() if (folder / name).exists()}


def _take(shop: Shop, path: Path) -> str:
    """Import one file, put the report beside it, and move it away; what is to be said."""
    try:
        report = shop.import_file(read_whole(str(path)), path.name)
    except BusyError:
        return f"{path.name}: the store is busy, and takes it at the next look"
    except NeatDeltaError as error:
        write_whole(f"{path}.report.txt", [f"{error}\n".encode()])
        _move(path, "refused")
        return f"{path.name}: refused as a whole: {error}"
    write_whole(f"{path}.report.csv", [report_csv([report], shop.store.results)])
    _move(path, "imported")
    return f"{path.name}: {_in_words(report)}"


def _in_words(report: Report) -> str:
    words = ", ".join(f"{many:,} {word}" for word, many in report.counts.items()) or "no rows"
    return words + ("; it stopped in the middle" if report.stopped else "")


def _move(path: Path, where: str) -> None:
    """Move a file into a folder beside it, under a name that is free there."""
    place = path.parent / where
    place.mkdir(exist_ok=True)
    number, name = 1, place / path.name
    while name.exists():
        number += 1
        name = place / f"{path.stem}-{number}{path.suffix}"
    path.rename(name)
