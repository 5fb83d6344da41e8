"""A change set in the hands of whoever made it: with its live catalogue, so that it is planned, written and looked at
without another word.
"""

from __future__ import annotations

import os
from collections.abc import Mapping
from dataclasses import dataclass, fields
from dataclasses import replace as replace_fields
from pathlib import Path as FilePath
from typing import TYPE_CHECKING, Any

from neat_delta.app.requests import WriteRequest
from neat_delta.app.settings import request_of
from neat_delta.core.base.model.changeset import ChangeSet
from neat_delta.core.base.model.importer import Importer
from neat_delta.core.base.model.update import Plan
from neat_delta.core.base.support.errors import ChangeSetError, OutputError
from neat_delta.files.changelines import digest_of_changes
from neat_delta.files.changeset import as_live, write_changes
from neat_delta.files.whole import AnyPath

if TYPE_CHECKING:
    import polars as pl

    from neat_delta.core.base.model.catalogue import Catalogue
    from neat_delta.core.base.model.manifest import Manifest
    from neat_delta.core.base.model.store import Store
    from neat_delta.core.review.facts import Facts

__all__ = ["Changes", "PlannedUpdate", "in_hand"]


@dataclass(frozen=True, slots=True, repr=False)
class Changes(ChangeSet):
    """A change set with its `live` catalogue, as it was read, and what is known of the `store`; and of a list the rows
    of which live has no item and that have no code, under the fields' names (`without_code`; None: there are none).

    >>> from neat_delta import compare
    >>> changes = compare({"sku": ["QA-1"], "price": ["9.90"]}, {"sku": ["QA-1"], "price": ["10.50"]})
    >>> len(changes), changes["QA-1"].cells
    (1, {'price': ('9.90', '10.50')})
    >>> changes.plan(Importer("skip")).tables["update-1"].rows()
    [('QA-1', '10.50')]
    """

    live: Catalogue | None = None
    store: Store | None = None
    without_code: pl.DataFrame | None = None

    def plan(self, importer: Importer | None = None, **settings: Any) -> PlannedUpdate:  # noqa: ANN401
        """The update and undo tables that an `importer` (None: the store file's, or one that clears blanks) turns it
        into; the settings are those of `WriteRequest`.
        """
        from neat_delta.app.write import importer_as_asked

        asked = request_of(WriteRequest, settings)
        known = importer or (self.store.importer if self.store else Importer())
        return PlannedUpdate(self, importer_as_asked(known, asked), asked)

    def preview(self, **settings: Any) -> Facts:  # noqa: ANN401 - those of `PreviewRequest`
        """What is to be said of it before it is sent, as `neat_delta.preview`."""
        from neat_delta.app.preview import preview

        return preview(self, self.its_live, **settings)

    def save(self, path: AnyPath) -> None:
        """Write it to a file, as `neat_delta.write_changes`."""
        write_changes(self, os.fspath(path))

    @property
    def its_live(self) -> Catalogue:
        """Its live catalogue under its fields' names, as the steps after it take it."""
        if self.live is None:
            raise ChangeSetError("The change set has no live catalogue in hand. Give it as `live`.")
        return as_live(self.live, self.header, "the change set")


@dataclass(frozen=True, slots=True)
class PlannedUpdate:
    """What goes to one importer, and what takes it back."""

    changes: Changes
    importer: Importer
    asked: WriteRequest

    @property
    def planned(self) -> Plan:
        """The plan with all its parts (`neat_delta.plan`)."""
        from neat_delta.core.updates.plan import plan

        return plan(
            self.changes,
            self.changes.its_live,
            self.importer,
            most_files=self.asked.most_files,
            file_cost=self.asked.file_cost,
            whole=self.asked.whole_catalogue,
        )

    @property
    def tables(self) -> Mapping[str, pl.DataFrame]:
        """The tables in the order of the import, `update-1` and on, then those that take them back, `undo-1` and on; a
        cell of which nothing is said is null.
        """
        planned = self.planned
        return {
            f"{name}-{number}": table.cells
            for name, tables in (("update", planned.update), ("undo", planned.undo))
            for number, table in enumerate(tables, 1)
        }

    def write(self, folder: AnyPath, *, replace: bool = False, today: str | None = None) -> Manifest:
        """Write the files into a new folder, proven by replay, as `neat_delta.write`. A change set that is in no file
        yet is written beside it, as FOLDER.jsonl: without it nobody can confirm what was sent, or take it back.
        """
        from neat_delta.app.write import write

        where, changes = os.fspath(folder), self.changes
        beside = None if changes.digest else f"{where.rstrip(os.sep)}.jsonl"
        if beside is not None and FilePath(beside).exists() and not replace:
            raise OutputError(
                f"{beside}: there is a file of that name. It may be somebody's work; name another folder."
            )
        manifest = write(
            replace_fields(changes, digest=digest_of_changes(changes)),
            changes.its_live,
            self.importer,
            where,
            store=changes.store,
            today=today,
            replace=replace,
            request=self.asked,
        )
        if beside is not None:  # once there is a folder that it goes with
            write_changes(changes, beside)
        return manifest


def in_hand(changes: ChangeSet, live: Catalogue, store: Store | None) -> Changes:
    """A change set with the catalogue that it was made of, as that was read, and what is known of the store."""
    parts = {part.name: getattr(changes, part.name) for part in fields(ChangeSet)}
    return Changes(**parts, live=live, store=store)
