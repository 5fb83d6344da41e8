"""A folder of update files imported into a practice store, without a server: in the order of its manifest."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from neat_delta.files.manifest import read_manifest
from neat_delta.files.whole import read_whole
from neat_delta.practice.shop import BusyError, Report, Shop, report_csv

__all__ = ["Rehearsal", "import_folder"]


@dataclass(frozen=True, slots=True)
class Rehearsal:
    """What an import of a folder came to: a report for each file, the catalogue afterwards as the store exports it, and
    the reports as the store gives them.
    """

    reports: list[Report]
    after: bytes
    results: bytes


def import_folder(shop: Shop, folder: str, *, undo: bool = False) -> Rehearsal:
    r"""Import the update files of a folder (or its undo files), one a minute. A store that is busy is asked again, and
    one that stops in the middle is not asked any more. FileError, or TooLargeError, when a file is refused as a whole.

    >>> from tempfile import mkdtemp
    >>> from neat_delta import Importer, Store, as_catalogue, compare, write
    >>> live = as_catalogue({"sku": ["QA-1"], "price": ["9.90"]}, "live")
    >>> sheet = as_catalogue({"sku": ["QA-1"], "price": ["10.50"]}, "sheet")
    >>> out = str(Path(mkdtemp()) / "out")
    >>> manifest = write(compare(live, sheet), live, Importer("skip"), out)
    >>> import_folder(Shop(live, Store(importer=Importer("skip"))), out).after
    b'sku,price\nQA-1,10.50\n'
    """
    manifest = read_manifest(folder)
    reports: list[Report] = []
    for minute, file in enumerate(manifest.undo if undo else manifest.update, 1):
        shop.sell(minute)
        data = read_whole(str(Path(folder) / file.file))
        try:
            report = shop.import_file(data, file.file, file.action)
        except BusyError:
            report = shop.import_file(data, file.file, file.action)
        reports.append(report)
        if report.stopped:
            break
    return Rehearsal(reports, shop.export_csv(shop.table()), report_csv(reports, shop.store.results))
