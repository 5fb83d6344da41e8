"""From a change set to a folder of proven update files."""

from __future__ import annotations

from neat_delta.core.model.catalogue import Catalogue
from neat_delta.core.model.changeset import ChangeSet
from neat_delta.core.model.importer import Importer
from neat_delta.core.model.manifest import Manifest
from neat_delta.core.review.signoff import sign_off
from neat_delta.files.updates import write_updates

__all__ = ["write"]


def write(
    changes: ChangeSet,
    live: Catalogue,
    importer: Importer,
    folder: str,
    *,
    answers: Catalogue | None = None,
    replace: bool = False,
    most_files: int = 8,
    whole: bool = False,
) -> Manifest:
    """Plan what is to be sent, write it into a new folder with its undo, and prove it; as `write_updates`. With
    `answers`, the workbook of a preview, only what was answered yes is sent.

    >>> from pathlib import Path
    >>> from tempfile import mkdtemp
    >>> from neat_delta import as_catalogue, compare
    >>> live = as_catalogue({"sku": ["QA-1"], "price": ["9.90"]}, "live")
    >>> sheet = as_catalogue({"sku": ["QA-1"], "price": ["10.50"]}, "sheet")
    >>> manifest = write(compare(live, sheet), live, Importer("skip"), str(Path(mkdtemp()) / "out"))
    >>> [one.file for one in manifest.undo]
    ['undo-1.csv']
    """
    sent = changes if answers is None else sign_off(changes, answers)
    return write_updates(sent, live, importer, folder, replace=replace, most_files=most_files, whole=whole)
