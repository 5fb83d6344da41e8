"""From a folder of update files to an SQL script that does the same in a table."""

from __future__ import annotations

import os

from neat_delta.app.deliver import row_changes, sent_and_live
from neat_delta.core.base.infer.learn import learn
from neat_delta.core.base.kinds.number import NUMBER_KINDS
from neat_delta.core.base.model.after import applied
from neat_delta.core.base.model.rows import Dialect
from neat_delta.core.base.support.errors import OutputError
from neat_delta.files.manifest import read_manifest
from neat_delta.files.sqlscript import prove_script, sql_script
from neat_delta.files.whole import AnyPath

__all__ = ["script"]

WITHOUT_TEXT = frozenset({*NUMBER_KINDS, "flag", "date"})
"""The kinds whose columns hold no text, so that a blank cell is NULL there."""


def script(
    folder: AnyPath,
    table: str,
    *,
    dialect: Dialect = "postgresql",
    changes: AnyPath | None = None,
    live: AnyPath | None = None,
) -> str:
    r"""The script that makes the changes of a folder (or of an undo) in a `table`, in one transaction, where all of it
    is as it was; run in SQLite on live beforehand, which has to give the target. OutputError where a folder cannot be
    said so, ProofError where the script is not right.

    >>> from pathlib import Path
    >>> from tempfile import mkdtemp
    >>> from neat_delta import compare, write_changes
    >>> base = Path(mkdtemp())
    >>> _ = (base / "live.csv").write_text("sku,price\nQA-1,9.90\n")
    >>> changes = compare(str(base / "live.csv"), {"sku": ["QA-1"], "price": ["10.50"]})
    >>> write_changes(changes, str(base / "changes.jsonl"))
    >>> from neat_delta import read_changes, read_live, write, Importer
    >>> changes = read_changes(str(base / "changes.jsonl"))
    >>> _ = write(changes, read_live(changes, str(base / "changes.jsonl")), Importer(), str(base / "out"))
    >>> script(str(base / "out"), "items").count('"price"')
    2
    """
    folder = os.fspath(folder)
    manifest = read_manifest(folder)
    sent, catalogue = sent_and_live(folder, manifest, changes, live)
    rows = row_changes(sent, catalogue, manifest)
    headings = sent.header.headings
    fields = {**learn(catalogue, sent.header.key).store.fields, **sent.header.settings}
    textual = {headings.get(name, name) for name in catalogue.fields if fields[name].kind not in WITHOUT_TEXT}
    before, after = catalogue.cells, applied(sent, catalogue, manifest.importer.removal).cells
    if manifest.purpose == "undo":
        if manifest.left:
            raise OutputError(
                f"{folder}: it leaves some of it alone, which no export here proves. Deliver it to the table instead."
            )
        before, after = after, before
    called = {name: headings.get(name, name) for name in before.columns}
    prove_script(rows, table, textual, before.rename(called), after.rename(called))
    return sql_script(rows, table, textual, dialect)
