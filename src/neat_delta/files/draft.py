"""The text of a store file that `learn` drafts, with the evidence in comments, and what is for a person to decide."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from decimal import Decimal
from pathlib import Path
from typing import Any

import msgspec

from neat_delta.core.base.infer.learn import Learned
from neat_delta.core.base.infer.questions import QUESTIONS, answered
from neat_delta.core.base.infer.results import DraftedResults
from neat_delta.core.base.model.catalogue import Catalogue
from neat_delta.core.base.model.layout import Layout
from neat_delta.core.base.model.store import VERSION

__all__ = ["draft", "results_draft"]

WRITTEN = ("format", "encoding", "bom", "separator", "quote", "escape", "line_end", "header_line", "sheet_name")
"""What of a layout a draft says, in this order."""

USUAL = Layout(bom=False, quote='"', escape="", header_line=1)
"""What a draft need not say."""


def draft(
    learned: Learned, live: Catalogue, results: DraftedResults | None = None, answers: Mapping[str, str] | None = None
) -> str:
    """The text of a store file for what was learned from a catalogue, with the evidence in comments; for what a store's
    report says of its `results`; and for the `answers` to what no export shows, by their settings. What is only
    suggested is commented out.
    """
    import tomlkit

    store, document = answered(learned.store, answers or {}), tomlkit.document()
    rows, fields = live.height, len(live.fields)
    for line in (
        f"Drafted by `neat-delta learn` from {_name(live.path)}: {rows:,} rows, {fields} fields.",
        "Keep what is right and change what is not: from now on this file is yours.",
    ):
        document.add(tomlkit.comment(line))
    document["version"] = VERSION
    form = tomlkit.table()
    for name in WRITTEN:
        value = getattr(store.file, name)
        if value is not None and value != getattr(USUAL, name):
            form[name] = value
    document["file"] = form
    writing = tomlkit.table()
    for name in store.writing.__struct_fields__:
        value = getattr(store.writing, name)
        if value not in {None, ""}:
            writing[name] = list(value) if isinstance(value, tuple) else value
    document["writing"] = writing
    document["key"] = _table(store.key)
    if learned.key:
        document["key"]["fields"].comment(learned.key)
    importer = tomlkit.table()
    for question in QUESTIONS:
        value = getattr(store.importer, question.setting)
        importer[question.setting] = value
        importer[question.setting].comment(question.meaning(value, known=question.setting in (answers or {})))
    document["importer"] = importer
    if results is not None:
        document["results"] = _results(results)
    if learned.relations:
        document["relations"] = _table(store.relations)
        for role, seen in learned.relations.items():
            document["relations"][role].comment(seen)
        _suggest(document["relations"], learned, None)
    every = tomlkit.table(is_super_table=True)
    for name, field in store.fields.items():
        table = _table(field, always=("kind",))
        table.comment(learned.evidence[name])
        _suggest(table, learned, name)
        every[name] = table
    document["fields"] = every
    return re.sub(r"\n{3,}", "\n\n", tomlkit.dumps(document)).rstrip("\n") + "\n"


def _suggest(table: Any, learned: Learned, field: str | None) -> None:  # noqa: ANN401 - tomlkit's table
    """Add the limits that are for a person to decide, commented out, with the figures."""
    import tomlkit

    for limit in learned.suggested:
        if limit.field == field:
            value = str(limit.value).lower()
            table.add(tomlkit.comment(f"{limit.setting} = {value} # {limit.figures}"))


def results_draft(drafted: DraftedResults) -> str:
    """The text of [results] for what was guessed from a report, with the evidence in comments."""
    import tomlkit

    document = tomlkit.document()
    document["results"] = _results(drafted)
    return tomlkit.dumps(document)


def _results(drafted: DraftedResults) -> Any:  # noqa: ANN401 - tomlkit's table
    table = _table(drafted.form)
    for name, why in drafted.evidence.items():
        if name in table:
            table[name].comment(why)
    return table


def _table(value: msgspec.Struct, always: Sequence[str] = ()) -> Any:  # noqa: ANN401 - tomlkit's table
    import tomlkit

    table = tomlkit.table()
    plain = msgspec.to_builtins(value)
    for name in value.__struct_fields__:
        if name in plain or name in always:
            item = getattr(value, name)
            table[name] = tomlkit.value(str(item)) if isinstance(item, Decimal) else item
    return table


def _name(path: str) -> str:
    return "standard input" if path == "-" else Path(path).name
