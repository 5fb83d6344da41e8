"""Neat Delta as a library: the same steps as the commands, as functions on tables and plain values.

    live, sheet = neat_delta.read("live.csv"), neat_delta.read("sheet.xlsx")
    changes = neat_delta.compare(live, sheet, store=neat_delta.read_store("store.toml"))
    neat_delta.write_changes(changes, "changes.jsonl")
    importer = neat_delta.Importer(blanks="skip")
    neat_delta.write_updates(changes, live, importer, "out")

The names are loaded when they are first used, so that `neat-delta --help` does not wait for Polars.
"""

from __future__ import annotations

from importlib import import_module

TYPE_CHECKING = False  # not imported, so that the program hears as early as can be that it is to stop
if TYPE_CHECKING:
    from typing import Any

    from neat_delta.core.catalogue import Catalogue, Source
    from neat_delta.core.changes import (
        Accept,
        ChangeSet,
        Counts,
        Damaged,
        Finding,
        Flag,
        Header,
        Held,
        HeldCount,
        Item,
        Likely,
        NearKey,
        Row,
        SetAside,
    )
    from neat_delta.core.compare import compare, recode
    from neat_delta.core.cut import Column, Cut, cut
    from neat_delta.core.errors import (
        CatalogueError,
        ChangeSetError,
        ConditionError,
        FileError,
        NeatDeltaError,
        OutputError,
        ProofError,
        StoreError,
    )
    from neat_delta.core.expressions import Condition, Rows, condition, holds
    from neat_delta.core.figures import FieldFigures, figures
    from neat_delta.core.headings import Pair, Pairing, pair
    from neat_delta.core.importer import Importer
    from neat_delta.core.layout import Layout, Writing
    from neat_delta.core.learn import Learned, learn
    from neat_delta.core.manifest import Manifest
    from neat_delta.core.match import HARMLESS, find_key
    from neat_delta.core.proof import prove, target
    from neat_delta.core.replay import replay
    from neat_delta.core.store import Field, FileForm, Key, Store
    from neat_delta.core.update import Plan, Table, plan
    from neat_delta.files.changeset import read_changes, read_live, write_changes
    from neat_delta.files.delimited import write_delimited
    from neat_delta.files.reading import read
    from neat_delta.files.storefile import read_mapping, read_store
    from neat_delta.files.updates import write_updates
    from neat_delta.files.worksheet import workbook

__version__ = "0.1.0"

_MODULES = (
    "core.catalogue",
    "core.changes",
    "core.compare",
    "core.errors",
    "core.figures",
    "core.headings",
    "core.importer",
    "core.layout",
    "core.learn",
    "core.manifest",
    "core.match",
    "core.proof",
    "core.replay",
    "core.store",
    "core.update",
    "files.changeset",
    "files.delimited",
    "files.reading",
    "files.storefile",
    "files.updates",
    "core.expressions",
    "core.cut",
    "files.worksheet",
)

__all__ = [
    "HARMLESS",
    "Accept",
    "Catalogue",
    "CatalogueError",
    "ChangeSet",
    "ChangeSetError",
    "Column",
    "Condition",
    "ConditionError",
    "Counts",
    "Cut",
    "Damaged",
    "Field",
    "FieldFigures",
    "FileError",
    "FileForm",
    "Finding",
    "Flag",
    "Header",
    "Held",
    "HeldCount",
    "Importer",
    "Item",
    "Key",
    "Layout",
    "Learned",
    "Likely",
    "Manifest",
    "NearKey",
    "NeatDeltaError",
    "OutputError",
    "Pair",
    "Pairing",
    "Plan",
    "ProofError",
    "Row",
    "Rows",
    "SetAside",
    "Source",
    "Store",
    "StoreError",
    "Table",
    "Writing",
    "__version__",
    "compare",
    "condition",
    "cut",
    "figures",
    "find_key",
    "holds",
    "learn",
    "pair",
    "plan",
    "prove",
    "read",
    "read_changes",
    "read_live",
    "read_mapping",
    "read_store",
    "recode",
    "replay",
    "target",
    "workbook",
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
