"""From a change set to a folder of proven update files."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from pathlib import Path

import polars as pl

from neat_delta.core.engine.answered import answer
from neat_delta.core.model.catalogue import Catalogue
from neat_delta.core.model.changeset import ChangeSet
from neat_delta.core.model.importer import Importer
from neat_delta.core.model.manifest import Comment, Contradiction, Manifest, StoreFile, Turn
from neat_delta.core.model.store import Store
from neat_delta.core.plan import FILE_COST
from neat_delta.core.review.answers import Answers
from neat_delta.files.updates import write_updates

__all__ = ["write"]


def write(
    changes: ChangeSet,
    live: Catalogue,
    importer: Importer,
    folder: str,
    *,
    answers: Sequence[Answers] = (),
    skus: Sequence[str] | None = None,
    store: Store | None = None,
    today: str | None = None,
    replace: bool = False,
    most_files: int = 8,
    file_cost: int = FILE_COST,
    whole: bool = False,
    store_file: StoreFile | None = None,
    rehearse: Callable[[ChangeSet], Callable[[Path, Manifest], pl.DataFrame]] | None = None,
) -> Manifest:
    """Plan what is to be sent, write it into a new folder with its undo, and prove it; as `write_updates`. With
    `answers` (`read_answers`), only what was answered yes is sent, and clashes at the value that was chosen; these are
    checked at the levels of the `store` file, whose exceptions end before `today`; of `skus` (None: all), only items
    with one of these in their key are sent. `store_file` says which file the store was read from, for the manifest.
    `rehearse` gives, for the change set as it is sent, what imports the files
    once more in its own way.

    >>> from pathlib import Path
    >>> from tempfile import mkdtemp
    >>> from neat_delta import as_catalogue, compare
    >>> live = as_catalogue({"sku": ["QA-1"], "price": ["9.90"]}, "live")
    >>> sheet = as_catalogue({"sku": ["QA-1"], "price": ["10.50"]}, "sheet")
    >>> manifest = write(compare(live, sheet), live, Importer("skip"), str(Path(mkdtemp()) / "out"))
    >>> [one.file for one in manifest.undo]
    ['undo-1.csv']
    """
    released, contradictions, comments = None, list[Contradiction](), list[Comment]()
    if answers:
        signed = answer(changes, live, answers, store, today=today)
        changes, released = signed.changes, signed.sent
        contradictions, comments = signed.contradictions, signed.comments
    if skus is not None:
        from neat_delta.core.match.keys import KeyIndex
        from neat_delta.core.model.reasons import NOT_NAMED
        from neat_delta.core.outcome.unsent import with_held

        others = ~KeyIndex.of(changes.keys, changes.header.compared_by).naming(skus)
        unsent = pl.DataFrame({"item": others.arg_true()}, schema={"item": pl.Int64})
        unsent = unsent.with_columns(field=pl.lit(None, pl.String), reason=pl.lit(NOT_NAMED))
        changes = with_held(changes, unsent)
    return write_updates(
        changes, live, importer, folder, replace=replace, most_files=most_files, file_cost=file_cost, whole=whole,
        released=released, contradictions=contradictions, comments=comments,
        turn=Turn(changes=changes.digest, store=store_file), rehearse=None if rehearse is None else rehearse(changes),
    )  # fmt: skip
