"""The change set as a file: JSON Lines, a header and then one item a line (docs/formats/change-set.md)."""

from __future__ import annotations

import os
from collections.abc import Callable, Collection, Sequence
from dataclasses import replace
from functools import partial
from io import BytesIO
from pathlib import Path
from typing import get_args

import msgspec
import polars as pl
from polars.exceptions import PolarsError

from neat_delta.core.base.model.agreement import check_against
from neat_delta.core.base.model.catalogue import MARK, Catalogue, Source
from neat_delta.core.base.model.changeset import ChangeSet
from neat_delta.core.base.model.choices import Verdict
from neat_delta.core.base.model.header import (
    FORMAT,
    VERSION,
    CheckFinding,
    Computed,
    Damaged,
    Header,
    Meanwhile,
    Unresolved,
)
from neat_delta.core.base.model.schemas import (
    COMPUTED_SCHEMA,
    DAMAGED_SCHEMA,
    FLAGS_SCHEMA,
    MEANWHILE_SCHEMA,
    UNRESOLVED_SCHEMA,
    conform,
    empty,
)
from neat_delta.core.base.support.background import submit
from neat_delta.core.base.support.errors import ChangeSetError, NeatDeltaError, OutputError
from neat_delta.core.base.support.series import in_one_piece
from neat_delta.core.sheets.match.keys import comparable
from neat_delta.core.sheets.match.prepare import prepare_columns, with_unseen
from neat_delta.files.changeitems import AGAIN, decoded_lines, item_tables
from neat_delta.files.changelines import SEALED, change_lines
from neat_delta.files.glance import files_read_later
from neat_delta.files.malformed import plain_error
from neat_delta.files.reading import read
from neat_delta.files.sources.address import is_address
from neat_delta.files.whole import AnyPath, Loaded, digest_of, loaded, read_whole, write_whole

__all__ = [
    "as_live",
    "digest_in",
    "header_of_file",
    "live_of_changes",
    "read_changes",
    "read_live",
    "read_with_live",
    "sheet_rows",
    "write_changes",
]


def write_changes(changes: ChangeSet, path: AnyPath) -> None:
    """Write a change set. OutputError when it cannot be written, or the file there is not a change set.

    >>> from pathlib import Path
    >>> from tempfile import mkdtemp
    >>> from neat_delta import as_catalogue, compare
    >>> live = as_catalogue({"sku": ["QA-1", "QA-2"], "price": ["9.90", "20.00"]}, "live")
    >>> sheet = as_catalogue({"sku": ["QA-2", "QA-1"], "price": ["20.00", "10.50"]}, "sheet")
    >>> path = Path(mkdtemp()) / "changes.jsonl"
    >>> write_changes(compare(live, sheet), str(path))
    >>> len(path.read_text().splitlines())  # its header, one item, its seal
    3
    """
    path = os.fspath(path)
    place = Path(path)
    if place.is_file() and place.stat().st_size:
        with place.open("rb") as file:
            if not file.read(len(_MARK)).startswith(_MARK):
                raise OutputError(
                    f"{path}: there is a file of that name, and it is no change set. Name another with -o."
                )
    write_whole(path, change_lines(changes))


_MARK = b'{"format":"' + FORMAT.encode() + b'"'


class _Version(msgspec.Struct):
    format: str
    version: int


def read_changes(path: AnyPath, *, findings: bool = True) -> ChangeSet:
    """Read a change set back; without its `findings`, cell by cell, where only the changes matter. ChangeSetError says
    what is wrong with it, and in which line.

    >>> from pathlib import Path
    >>> from tempfile import mkdtemp
    >>> from neat_delta import as_catalogue, compare
    >>> live = as_catalogue({"sku": ["QA-1", "QA-2"], "price": ["9.90", "20.00"]}, "live")
    >>> sheet = as_catalogue({"sku": ["QA-2", "QA-1"], "price": ["20.00", "10.50"]}, "sheet")
    >>> path = str(Path(mkdtemp()) / "changes.jsonl")
    >>> write_changes(compare(live, sheet), path)
    >>> read_changes(path).header.counts.changed
    1
    """
    path = os.fspath(path)
    header, lines, digest = _lines(path)
    return replace(_changes(header, lines, path, findings=findings), digest=digest)


def live_of_changes(path: str) -> str | None:
    """Where the live catalogue of a change set is, as its first line says; None where nobody can tell."""
    header = header_of_file(path)
    return None if header is None else _place(header.live, path)


def header_of_file(path: str) -> Header | None:
    """The first line of a change set; None where it is none, or cannot be read."""
    try:
        with Path(path).open("rb") as file:
            return msgspec.json.decode(file.readline(), type=Header)
    except (OSError, ValueError):
        return None


def _place(live: Source, path: str) -> str:
    """Where a change set's live catalogue is: from the working folder on, or from its own."""
    beside = Path(path).parent / live.path
    return live.path if Path(live.path).exists() or not beside.exists() else str(beside)


def digest_in(path: str) -> str | None:
    """The digest that a change set's file is sealed with; None where it is none."""
    try:
        with Path(path).open("rb") as file:
            file.seek(max(file.seek(0, 2) - 128, 0))
            seal = SEALED.search(file.read())
    except OSError:
        return None
    return None if seal is None else seal[1].decode()


Needs = Callable[[ChangeSet], Collection[str] | None]


def read_with_live(
    path: str, live: str | None = None, needs: Needs | None = None, beside: object = None
) -> tuple[ChangeSet, Catalogue]:
    """A change set without its findings, and its live catalogue, as `read_live` has it: of all fields, and read while
    the change set is; or only of those that are needed for it (None: all), where live is such that the rest can be
    passed over. Where it is held against the export `beside` it that is written alike, its cells are read when they are
    asked for.
    """
    header, lines, digest = _lines(path)
    if needs is None or not header.live.regular or header.live.continued is not None:
        reading = submit(partial(_read_live, header, path, live, beside=beside))
        changes = replace(_changes(header, lines, path, findings=False), digest=digest)
        return changes, _of_changes(reading(), changes, path)
    changes = replace(_changes(header, lines, path, findings=False), digest=digest)
    wanted = needs(changes)
    only = None if wanted is None else {header.headings.get(name, name) for name in (*header.key, *wanted)}
    only = None if only is None else only - {*header.unseen}
    try:
        catalogue = _read_live(header, path, live, only)
    except PolarsError:  # it has changed since, so much that it cannot be read in this way
        catalogue = _read_live(header, path, live)
    return changes, _of_changes(catalogue, changes, path, all_fields=only is None)


def _lines(path: str) -> tuple[Header, pl.Series, str]:
    """The first line of a change set, the bytes of the others but the seal, and the digest that it seals.
    ChangeSetError when it is broken.
    """
    data = read_whole(path)
    header = _header(data[: data.find(b"\n")] if b"\n" in data else data, path)
    if not data.endswith(b"\n"):
        raise ChangeSetError(f"{path}: the last line is cut short. {AGAIN}")
    seal = SEALED.search(data, data.rfind(b"\n", 0, -1) + 1)
    if seal is None:
        raise ChangeSetError(f"{path}: it does not end with its seal, so some of it is missing. {AGAIN}")
    if seal[1].decode() != digest_of(data[: seal.start()]):
        raise ChangeSetError(
            f"{path}: its seal is broken: it is not as `neat-delta compare` wrote it. What is to be sent otherwise is "
            f"said in the sheet, and by the options of compare. {AGAIN}"
        )
    try:
        lines = pl.read_lines(BytesIO(data)).to_series().cast(pl.Binary)
    except PolarsError:  # not UTF-8 throughout; where, is said when its lines are taken apart
        lines = pl.Series(data.split(b"\n")[:-1], dtype=pl.Binary)
    return header, lines[1:-1], seal[1].decode()


def _changes(header: Header, lines: pl.Series, path: str, *, findings: bool) -> ChangeSet:
    wanted = sum(getattr(header.counts, verdict) for verdict in get_args(Verdict))
    damages, flags, meanwhile = header.counts.damaged, header.counts.flags, header.counts.meanwhile
    steps = header.counts.computed
    besides = damages + flags + meanwhile + steps + header.counts.unresolved
    if len(lines) != wanted + besides:
        items_there = len(lines) - besides
        raise ChangeSetError(f"{path}: it has {items_there:,} items where its header counts {wanted:,}. {AGAIN}")
    end = wanted + damages
    changes = item_tables(header, lines[:wanted], path)
    if not findings:
        start = end + flags + meanwhile
        return replace(changes, computed=_computed_by_rule(changes, lines[start : start + steps], path))
    damaged = _damaged(changes, decoded_lines(lines[wanted:end].to_list(), path, Damaged, wanted + 2), path)
    flagged = _flags(changes, decoded_lines(lines[end : end + flags].to_list(), path, CheckFinding, end + 2), path)
    end += flags
    part = lines[end : end + meanwhile].to_list()
    since = _meanwhile(changes, decoded_lines(part, path, Meanwhile, end + 2), path)
    end += meanwhile
    part = lines[end : end + steps].to_list()
    computed = _computed(changes, decoded_lines(part, path, Computed, end + 2), path)
    end += steps
    open_questions = _unresolved(changes, decoded_lines(lines[end:].to_list(), path, Unresolved, end + 2), path)
    return replace(
        changes, damaged=damaged, flags=flagged, meanwhile=since, computed=computed, unresolved=open_questions
    )


def _header(line: bytes, path: str) -> Header:
    try:
        version = msgspec.json.decode(line, type=_Version)
    except msgspec.MsgspecError:
        version = None
    if version is None or version.format != FORMAT:
        raise ChangeSetError(f"{path}: this is not a change set. {AGAIN}")
    if version.version != VERSION:
        raise ChangeSetError(
            f"{path}: it is of version {version.version}, and this Neat Delta reads version {VERSION}. {AGAIN}"
        )
    try:
        header = msgspec.json.decode(line, type=Header)
    except msgspec.MsgspecError as error:
        raise ChangeSetError(f"{path}, line 1: {plain_error(error)}. {AGAIN}") from None
    if not header.key or any(len(set(names)) < len(names) for names in (header.key, header.fields)):
        raise ChangeSetError(f"{path}, line 1: the key and the fields must each be named once. {AGAIN}")
    return header


def _damaged(changes: ChangeSet, listed: Sequence[Damaged], path: str) -> pl.DataFrame:
    """The damaged cells as a table."""
    header, rows = changes.header, []
    for damaged in listed:
        if damaged.key.keys() != set(header.key) or damaged.field not in header.fields:
            raise ChangeSetError(f"{path}: a damaged cell has a key or a field that line 1 does not name. {AGAIN}")
        key = [damaged.key[name] for name in header.key]
        rows.append(
            (
                damaged.damage,
                key,
                damaged.field,
                damaged.row,
                damaged.before,
                damaged.sheet,
                damaged.repair,
                damaged.done,
            )
        )
    schema = {name: kind for name, kind in DAMAGED_SCHEMA.items() if name != "item"}
    table = pl.DataFrame(rows, schema=schema, orient="row")
    return conform(table.with_columns(item=_item_numbers(changes, listed)), DAMAGED_SCHEMA)


def _flags(changes: ChangeSet, listed: Sequence[CheckFinding], path: str) -> pl.DataFrame:
    """The findings of the checks as a table."""
    header, rows = changes.header, []
    for finding in listed:
        if (finding.key is not None and finding.key.keys() != set(header.key)) or finding.field not in {
            None,
            *header.fields,
        }:
            raise ChangeSetError(f"{path}: a finding has a key or a field that line 1 does not name. {AGAIN}")
        rows.append(
            (finding.check, finding.level, finding.field, finding.row, finding.value, finding.what, finding.done)
        )
    schema = {name: kind for name, kind in FLAGS_SCHEMA.items() if name != "item"}
    table = pl.DataFrame(rows, schema=schema, orient="row")
    return conform(table.with_columns(item=_item_numbers(changes, listed)), FLAGS_SCHEMA)


def _meanwhile(changes: ChangeSet, listed: Sequence[Meanwhile], path: str) -> pl.DataFrame:
    """What the store changed since the base as a table."""
    header, rows = changes.header, []
    for meanwhile in listed:
        if meanwhile.meanwhile.keys() != set(header.key):
            raise ChangeSetError(f"{path}: a change of the store has a key that line 1 does not name. {AGAIN}")
        rows.append(
            (
                [meanwhile.meanwhile[name] for name in header.key],
                meanwhile.field,
                meanwhile.row,
                meanwhile.base,
                meanwhile.live,
            )
        )
    return pl.DataFrame(rows, schema=dict(MEANWHILE_SCHEMA), orient="row")


def _computed(changes: ChangeSet, listed: Sequence[Computed], path: str) -> pl.DataFrame:
    """How computed cells came about as a table."""
    header = changes.header
    for computed in listed:
        if (
            computed.computed.keys() != set(header.key)
            or computed.field not in header.fields
            or computed.rule >= len(header.rules)
        ):
            raise ChangeSetError(
                f"{path}: a computed cell has a key, a field or a rule that line 1 does not name. {AGAIN}"
            )
    rows = [(computed.field, computed.rule, computed.inputs, computed.result) for computed in listed]
    schema = {name: kind for name, kind in COMPUTED_SCHEMA.items() if name != "item"}
    table = pl.DataFrame(rows, schema=schema, orient="row")
    return conform(table.with_columns(item=_item_numbers(changes, listed)), COMPUTED_SCHEMA)


def _computed_by_rule(changes: ChangeSet, lines: pl.Series, path: str) -> pl.DataFrame:
    """Which cells were computed by which rule, column by column, without the texts of the steps; none where no rule
    reads a field of the item.
    """
    header = changes.header
    if not any(rule.reads for rule in header.rules):
        return empty(COMPUTED_SCHEMA)
    key = pl.Struct(dict.fromkeys(header.key, pl.String))
    form = pl.Struct({"computed": key, "field": pl.String, "rule": pl.UInt16, "live": pl.Int64})
    try:
        table = lines.cast(pl.String).str.json_decode(form).struct.unnest()
    except PolarsError:
        table = pl.DataFrame(schema=dict(form))
    if table.height != len(lines) or table["computed"].null_count() or table["rule"].null_count():
        return _computed(changes, decoded_lines(lines.to_list(), path, Computed), path)
    keys = table["computed"].struct.unnest().with_columns(table["live"].alias(MARK))
    return conform(table.with_columns(item=_items_named(changes, keys)), COMPUTED_SCHEMA)


def _unresolved(changes: ChangeSet, listed: Sequence[Unresolved], path: str) -> pl.DataFrame:
    """What could not be worked out as a table."""
    header, rows = changes.header, []
    for unresolved in listed:
        if unresolved.unresolved.keys() != set(header.key):
            raise ChangeSetError(f"{path}: what could not be worked out has a key that line 1 does not name. {AGAIN}")
        key = [unresolved.unresolved[name] for name in header.key]
        rows.append((key, unresolved.row, unresolved.field, unresolved.source, unresolved.rule, unresolved.what))
    return pl.DataFrame(rows, schema=dict(UNRESOLVED_SCHEMA), orient="row")


def _item_numbers(
    changes: ChangeSet, listed: Sequence[Damaged] | Sequence[CheckFinding] | Sequence[Computed]
) -> pl.Series:
    """The numbers of the items that findings name: by their key, and by their row in live where items share a key."""
    key, row = changes.header.compared_by, MARK
    keys = [(entry.computed if isinstance(entry, Computed) else entry.key, entry.live) for entry in listed]
    named = [None if its is None else [*(its[name] for name in key.fields), live_row] for its, live_row in keys]
    schema = {**dict.fromkeys(key.fields, pl.String), row: pl.Int64}
    wanted = pl.DataFrame([names or [None] * len(schema) for names in named], schema=schema, orient="row")
    return _items_named(changes, wanted)


def _items_named(changes: ChangeSet, wanted: pl.DataFrame) -> pl.Series:
    """The numbers of the items of these keys; where items share a key, by their row in live (`MARK`), too."""
    key, row = changes.header.compared_by, MARK
    live = changes.items["live"] if key.shared == "all" else pl.lit(None, pl.Int64)
    keyed = comparable(changes.keys, key).with_columns(live.alias(row)).with_row_index(MARK + MARK)
    wanted = comparable(wanted, key).with_columns(wanted[row])
    met = wanted.join(keyed, on=[*key.fields, row], how="left", nulls_equal=True, maintain_order="left")
    return met[MARK + MARK].cast(pl.Int64)


def read_live(changes: ChangeSet, path: AnyPath, live: AnyPath | None = None, *, deferred: bool = False) -> Catalogue:
    r"""The live catalogue of the change set read from `path`, read in the way it was read then.

    It is looked for where `compare` found it, from the working folder and from the change set's own, or
    at `live`. If reading may be `deferred`, cells are read when they are asked for (`files.reading.read`).
    ChangeSetError when it is not the same file any more, byte for byte.

    >>> from pathlib import Path
    >>> from tempfile import mkdtemp
    >>> from neat_delta import compare, read
    >>> folder = Path(mkdtemp())
    >>> live = folder / "live.csv"
    >>> _ = live.write_text("sku,price\nQA-1,9.90\n")
    >>> _ = (folder / "sheet.csv").write_text("sku,price\nQA-1,10.50\n")
    >>> write_changes(compare(read(str(live)), read(str(folder / "sheet.csv"))), str(folder / "c.jsonl"))
    >>> read_live(read_changes(str(folder / "c.jsonl")), str(folder / "c.jsonl")).cells.rows()
    [('QA-1', '9.90')]
    """
    path = os.fspath(path)
    live = None if live is None else os.fspath(live)
    return _of_changes(_read_live(changes.header, path, live, deferred=deferred), changes, path)


def _read_live(
    header: Header,
    path: str,
    live: str | None,
    only: Collection[str] | None = None,
    beside: object = None,
    *,
    deferred: bool = False,
) -> Catalogue:
    """The live catalogue that a change set names, or only these headings of it; its cells are read when they are asked
    for if that may be, or if it is held against an export `beside` it that is written alike.
    """
    wanted = header.live
    place = live or _place(wanted, path)
    if live is None and is_address(place):
        return as_live(read(_fetched(wanted, path, "live"), wanted.layout, only), header, path)
    if place == "-":
        raise ChangeSetError(
            f"{path}: live was read from standard input when it was made. Say with ‹live› in which file it is."
        )
    if live is None and not Path(place).is_file():
        problem = "is no regular file" if Path(place).exists() else "is not there"
        raise ChangeSetError(f"{path}: {place}, its live catalogue, {problem}. Say with ‹live› in which file it is.")
    later = only is None and (deferred or bool(files_read_later(place, beside)))
    return as_live(read(place, wanted.layout, only, deferred=later), header, path)


def _fetched(source: Source, path: str, setting: str) -> Loaded:
    """What was fetched from an address when a change set was made of it; ChangeSetError where it is not in the cache
    any more, as nobody fetches it again unasked.
    """
    from neat_delta.files.sources.cache import cached

    kept = cached(source.blake3)
    if kept is None:
        raise ChangeSetError(
            f"{path}: what was fetched from {source.path} is not in the cache any more. Fetch it again by saying where "
            f"it is with ‹{setting}›; it has to be as it was then."
        )
    return loaded(source.path, read_whole(str(kept)))


def as_live(catalogue: Catalogue, header: Header, path: str) -> Catalogue:
    """A catalogue as the change set of this `header`, read from `path`, has its live one: under its fields' names.
    ChangeSetError when it is another one.

    >>> from neat_delta import as_catalogue, compare
    >>> live = as_catalogue({"sku": ["QA-1"], "price": ["9.90"]}, "live")
    >>> changes = compare(live, {"sku": ["QA-1"], "price": ["10.50"]})
    >>> as_live(live, changes.header, "changes").fields
    ['sku', 'price']
    """
    wanted, place = header.live, catalogue.path
    if catalogue.digest() != wanted.blake3:
        raise ChangeSetError(
            f"{place}: this is not the file that {path} was made from; it has changed since. Compare again with the "
            "live catalogue as it is now, and name the export that the sheet was cut from with ‹base›, so that "
            "nobody's work is reverted."
        )
    if not catalogue.is_deferred:
        # Planning and proof look at it again and again, and a step on many chunks costs several times as much.
        catalogue = replace(catalogue, table=in_one_piece(catalogue.cells))
    return with_unseen(prepare_columns(catalogue, header.headings, header.key, wanted.continued), header.unseen)


def sheet_rows(header: Header, path: str, rows: Sequence[int]) -> dict[int, dict[str, str]]:
    """The rows of the sheet with these numbers as they came, by number: where it still is the file that the change set
    at `path` was made of, and nothing otherwise.
    """
    source = header.sheet
    beside = Path(path).parent / source.path
    place = source.path if Path(source.path).is_file() else str(beside)
    elsewhere = is_address(source.path)
    if header.by_rules or not (elsewhere or Path(place).is_file()):
        return {}
    try:
        catalogue = read(_fetched(source, path, "sheet") if elsewhere else place, source.layout)
    except NeatDeltaError:
        return {}
    if catalogue.digest() != source.blake3:
        return {}
    places = catalogue.place(pl.Series(rows, dtype=pl.Int64))
    return {row: catalogue.cells.row(at, named=True) for row, at in zip(rows, places, strict=True) if at is not None}


def _of_changes(catalogue: Catalogue, changes: ChangeSet, path: str, *, all_fields: bool = True) -> Catalogue:
    """The catalogue, if the change set can be one of it."""
    check_against(catalogue, changes, path, all_fields=all_fields)
    return catalogue
