"""A rehearsal as part of the proof: update files imported into a practice store without faults, before they are handed
over.
"""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING

import msgspec
import polars as pl

from neat_delta.core.base.model.importer import Importer
from neat_delta.core.base.support.errors import NeatDeltaError, ProofError
from neat_delta.practice.shop import Shop

if TYPE_CHECKING:
    from neat_delta.core.base.model.catalogue import Catalogue
    from neat_delta.core.base.model.changeset import ChangeSet
    from neat_delta.core.base.model.manifest import Manifest

__all__ = ["Rehearse", "rehearsal"]

Rehearse = Callable[[Path, "Manifest"], pl.DataFrame]
"""A folder of update files and its manifest in, the catalogue of the store that took them out."""


def rehearsal(changes: ChangeSet, live: Catalogue, importer: Importer) -> Rehearse:
    """What imports the update files of a change set against `live` into a practice store, and gives its catalogue.
    ProofError where that store refuses a file or a row.
    """
    header = changes.header
    headings = header.headings | {name: field.heading for name, field in header.settings.items() if field.heading}

    def rehearse(folder: Path, manifest: Manifest) -> pl.DataFrame:
        fields = {
            name: msgspec.structs.replace(field, heading=None, unseen=name in header.unseen)
            for name, field in header.settings.items()
        }
        store = msgspec.structs.replace(header.store, fields=fields, importer=importer)
        shop = Shop(live, store, headings=headings)
        for file in manifest.update:
            try:
                report = shop.import_file((folder / file.file).read_bytes(), file.file, file.action)
            except NeatDeltaError as error:
                raise ProofError(f"a practice store does not take the files: {error}") from None
            for row in report.rows:
                if row.status != "done":
                    raise ProofError(
                        f"a practice store does not take {file.file}, row {row.row:,} ({', '.join(row.key)}): "
                        f"{row.message}."
                    )
        return shop.shelf.table()

    return rehearse
