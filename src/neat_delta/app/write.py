"""From a change set to a folder of proven update files."""

from __future__ import annotations

import os
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import Any

import msgspec
import polars as pl

from neat_delta.app.requests import WriteRequest
from neat_delta.app.settings import request_of
from neat_delta.core.base.model.catalogue import Catalogue
from neat_delta.core.base.model.changeset import ChangeSet
from neat_delta.core.base.model.importer import Importer, with_reason
from neat_delta.core.base.model.manifest import Comment, Contradiction, Manifest, StoreFile, Turn
from neat_delta.core.base.model.store import Store
from neat_delta.core.base.support.series import true_places
from neat_delta.core.review.answered import answer
from neat_delta.core.review.answers import Answers
from neat_delta.files.updates import write_updates
from neat_delta.files.whole import AnyPath

__all__ = ["importer_as_asked", "write"]


def write(
    changes: ChangeSet,
    live: Catalogue,
    importer: Importer,
    folder: AnyPath,
    *,
    answers: Sequence[Answers] = (),
    skus: Sequence[str] | None = None,
    store: Store | None = None,
    today: str | None = None,
    replace: bool = False,
    store_file: StoreFile | None = None,
    rehearse: Callable[[ChangeSet], Callable[[Path, Manifest], pl.DataFrame]] | None = None,
    request: WriteRequest | None = None,
    **settings: Any,  # noqa: ANN401 - those of `WriteRequest`, which reads and checks them
) -> Manifest:
    """Plan what is to be sent, write it into a new folder with its undo, and prove it; as `write_updates`. With
    `answers` (`read_answers`), only what was answered yes is sent, and clashes at the value that was chosen; these are
    checked at the levels of the `store` file, whose exceptions end before `today`; of `skus` (None: all), only items
    with one of these in their key are sent. `store_file` says which file the store was read from, for the manifest.
    `rehearse` gives, for the change set as it is sent, what imports the files once more in its own way.

    >>> from pathlib import Path
    >>> from tempfile import mkdtemp
    >>> from neat_delta import as_catalogue, compare
    >>> live = as_catalogue({"sku": ["QA-1"], "price": ["9.90"]}, "live")
    >>> sheet = as_catalogue({"sku": ["QA-1"], "price": ["10.50"]}, "sheet")
    >>> manifest = write(compare(live, sheet), live, Importer("skip"), str(Path(mkdtemp()) / "out"))
    >>> [one.file for one in manifest.undo]
    ['undo-1.csv']
    """
    folder = os.fspath(folder)
    asked = request or request_of(WriteRequest, settings)
    importer, store = importer_as_asked(importer, asked), changes.header.store_by_now(store)
    released, contradictions, comments = None, list[Contradiction](), list[Comment]()
    if answers:
        signed = answer(changes, live, answers, store, today=today)
        changes, released = signed.changes, signed.sent
        contradictions, comments = signed.contradictions, signed.comments
    if skus is not None:
        from neat_delta.core.base.model.reasons import NOT_NAMED
        from neat_delta.core.outcomes.unsent import with_held
        from neat_delta.core.sheets.match.keys import KeyIndex

        others = ~KeyIndex.of(changes.keys, changes.header.compared_by).naming(skus)
        unsent = pl.DataFrame({"item": true_places(others)}, schema={"item": pl.Int64})
        unsent = unsent.with_columns(field=pl.lit(None, pl.String), reason=pl.lit(NOT_NAMED))
        changes = with_held(changes, unsent)
    return write_updates(
        changes, live, importer, folder, replace=replace, most_files=asked.most_files, file_cost=asked.file_cost,
        whole=asked.whole_catalogue,
        released=released, contradictions=contradictions, comments=comments,
        turn=Turn(changes=changes.digest, store=store_file), rehearse=None if rehearse is None else rehearse(changes),
    )  # fmt: skip


def importer_as_asked(importer: Importer, asked: WriteRequest) -> Importer:
    """The importer with what is said of it now; StoreError for a reason that it has no column for.

    >>> importer_as_asked(Importer(), WriteRequest(importer_blanks="skip")).blanks
    'skip'
    """
    if asked.importer_blanks is not None:
        importer = msgspec.structs.replace(importer, blanks=asked.importer_blanks)
    return importer if asked.reason is None else with_reason(importer, asked.reason)
