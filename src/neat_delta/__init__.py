"""Neat Delta as a library: the same steps as the commands, as functions on tables and plain values.

    live, dialect = neat_delta.read_delimited("live.csv")
    sheet, _ = neat_delta.read_delimited("sheet.csv")
    changes = neat_delta.compare(live, sheet)
    neat_delta.write_changes(changes, "changes.jsonl")
    importer = neat_delta.Importer(blanks="skip")
    neat_delta.write_updates(changes, live, dialect, importer, "out")

The names are loaded when they are first used, so that `neat-delta --help` does not wait for Polars.
"""

from __future__ import annotations

from importlib import import_module
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from neat_delta.core.catalogue import Catalogue, Source
    from neat_delta.core.changes import ChangeSet, Counts, Header, Held, HeldCount, Item, Row, SetAside
    from neat_delta.core.compare import compare
    from neat_delta.core.errors import (
        CatalogueError,
        ChangeSetError,
        FileError,
        NeatDeltaError,
        OutputError,
        ProofError,
    )
    from neat_delta.core.figures import FieldFigures, figures
    from neat_delta.core.importer import Importer
    from neat_delta.core.manifest import Manifest
    from neat_delta.core.match import find_key
    from neat_delta.core.proof import prove, target
    from neat_delta.core.replay import replay
    from neat_delta.core.update import Plan, Table, plan
    from neat_delta.files.changeset import read_changes, read_live, write_changes
    from neat_delta.files.delimited import Dialect, read_delimited, write_delimited
    from neat_delta.files.updates import write_updates

__version__ = "0.1.0"

_MODULES = (
    "core.catalogue",
    "core.changes",
    "core.compare",
    "core.errors",
    "core.figures",
    "core.importer",
    "core.manifest",
    "core.match",
    "core.proof",
    "core.replay",
    "core.update",
    "files.changeset",
    "files.delimited",
    "files.updates",
)

__all__ = [
    "Catalogue",
    "CatalogueError",
    "ChangeSet",
    "ChangeSetError",
    "Counts",
    "Dialect",
    "FieldFigures",
    "FileError",
    "Header",
    "Held",
    "HeldCount",
    "Importer",
    "Item",
    "Manifest",
    "NeatDeltaError",
    "OutputError",
    "Plan",
    "ProofError",
    "Row",
    "SetAside",
    "Source",
    "Table",
    "__version__",
    "compare",
    "figures",
    "find_key",
    "plan",
    "prove",
    "read_changes",
    "read_delimited",
    "read_live",
    "replay",
    "target",
    "write_changes",
    "write_delimited",
    "write_updates",
]


def __getattr__(name: str) -> Any:  # noqa: ANN401 - whatever the name stands for
    """Load a public name from its module."""
    if name in __all__:
        for home in _MODULES:
            module = import_module(f"{__name__}.{home}")
            if name in module.__all__:
                globals()[name] = getattr(module, name)
                return globals()[name]
    raise AttributeError(f"module {__name__!r} has no attribute {name!r}")
