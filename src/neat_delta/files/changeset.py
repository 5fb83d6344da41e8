"""The change set as a file: JSON Lines, a header and then one item a line (docs/formats/change-set.md)."""

from __future__ import annotations

import re
from collections.abc import Callable, Collection, Iterator, Sequence
from dataclasses import replace
from functools import partial
from io import BytesIO
from itertools import chain
from pathlib import Path
from typing import NoReturn, TypeVar, get_args

import msgspec
import polars as pl
from blake3 import blake3
from polars.exceptions import PolarsError

from neat_delta.core.match.keys import comparable
from neat_delta.core.match.prepare import prepare_columns, with_unseen
from neat_delta.core.model.catalogue import MARK, Catalogue, Source
from neat_delta.core.model.changeset import (
    FORMAT,
    VERSION,
    ChangeSet,
    CheckFinding,
    Computed,
    Damaged,
    Header,
    Item,
    Meanwhile,
    Unresolved,
    held,
)
from neat_delta.core.model.choices import Verdict
from neat_delta.core.model.schemas import (
    COMPUTED_SCHEMA,
    DAMAGED_SCHEMA,
    FLAGS_SCHEMA,
    ITEMS_SCHEMA,
    MEANWHILE_SCHEMA,
    UNRESOLVED_SCHEMA,
    cells_schema,
    conform,
    empty,
)
from neat_delta.core.prove.proof import check_against
from neat_delta.core.support import sizes
from neat_delta.core.support.background import submit
from neat_delta.core.support.distinct import all_differ
from neat_delta.core.support.errors import ChangeSetError, NeatDeltaError, OutputError
from neat_delta.core.support.series import constant, scattered
from neat_delta.files.reading import read
from neat_delta.files.whole import digest_of, read_whole, write_whole

__all__ = [
    "as_live",
    "change_lines",
    "digest_in",
    "live_of_changes",
    "read_changes",
    "read_live",
    "read_with_live",
    "sheet_rows",
    "write_changes",
]

AGAIN = "Make it again with `neat-delta compare`."


def change_lines(changes: ChangeSet) -> Iterator[bytes]:
    """The bytes of a change set's file, some lines at a time; last its seal, the digest of all lines before it."""
    digest = blake3()
    for chunk in _unsealed(changes):
        digest.update(chunk)
        yield chunk
    yield SEAL % digest.hexdigest().encode()


SEAL = b'{"blake3":"%s"}\n'
SEALED = re.compile(rb'\{"blake3":"([0-9a-f]{64})"\}\n\Z')


def _unsealed(changes: ChangeSet) -> Iterator[bytes]:
    encoder = msgspec.json.Encoder()
    yield encoder.encode(changes.header) + b"\n"
    lines = _item_lines(changes)
    for start in range(0, lines.height, sizes.LINES_WRITTEN_AT_ONCE):
        buffer = BytesIO()
        lines.slice(start, sizes.LINES_WRITTEN_AT_ONCE).write_csv(buffer, include_header=False, quote_style="never")
        yield buffer.getvalue()
    yield encoder.encode_lines(list(changes.iter_damaged()))
    yield encoder.encode_lines(list(changes.iter_check_findings()))
    for table, line in (
        (changes.meanwhile, _meanwhile_line),
        (changes.computed, _computed_line),
        (changes.unresolved, _unresolved_line),
    ):
        for start in range(0, table.height, sizes.LINES_WRITTEN_AT_ONCE):
            buffer = BytesIO()
            lines = line(table.slice(start, sizes.LINES_WRITTEN_AT_ONCE), changes).to_frame("line")
            lines.write_csv(buffer, include_header=False, quote_style="never")
            yield buffer.getvalue()


def _meanwhile_line(part: pl.DataFrame, changes: ChangeSet) -> pl.Series:
    """The lines of what the store changed since the base: the same as each `Meanwhile` as JSON."""
    key = pl.col("key").list.to_struct(fields=changes.header.key)
    return part.select(
        pl.struct(key.alias("meanwhile"), "field", "row", "base", "live").struct.json_encode()
    ).to_series()


def _unresolved_line(part: pl.DataFrame, changes: ChangeSet) -> pl.Series:
    """The lines of what could not be worked out: the same as each `Unresolved` as JSON."""
    key = pl.col("key").list.to_struct(fields=changes.header.key)
    whole = pl.struct(key.alias("unresolved"), "row", "field", "source", "rule", "what")
    return part.select(whole.struct.json_encode()).to_series()


def _computed_line(part: pl.DataFrame, changes: ChangeSet) -> pl.Series:
    """The lines of how computed cells came about: the same as each `Computed` as JSON."""
    item = part["item"]
    table = part.with_columns(changes.keys.gather(item).to_struct("computed"), changes.items["live"].gather(item))
    names = ["computed", "field", "rule", "inputs", "result", *(["live"] if changes.header.shared else [])]
    return table.select(pl.struct(names).struct.json_encode()).to_series()


def _item_lines(changes: ChangeSet) -> pl.DataFrame:
    """The lines of the items, as the only column: the same as each `Item` as JSON, and many times faster. They are made
    column by column, and lazily, as Polars then uses all cores.
    """
    part = [f"key {number}" for number in range(changes.keys.width)]
    keys = _escaped(changes.keys.rename(dict(zip(changes.keys.columns, part, strict=True))))
    items = pl.concat([changes.items.with_columns(_escaped(changes.items.select("held"))), keys], how="horizontal")
    cells = _cells(changes)
    said = [pl.col("name"), pl.lit(":["), *_text(cells["before"]), pl.lit(","), *_text(cells["after"]), pl.lit("]")]
    why = pl.concat_str(pl.lit('{"field":'), "name", pl.lit(',"reason":"'), "why", pl.lit('"}'))
    old = pl.concat_str(pl.col("name"), pl.lit(':"'), "base", pl.lit('"'))
    if cells["item"].equals(pl.int_range(items.height, eager=True).alias("item")):
        told = items.hstack(cells.drop("item"))
    else:
        one = cells.lazy().select("item", cells=pl.concat_str(said), why=why, base=old).collect()
        one = one.group_by("item", maintain_order=True).agg(pl.all().drop_nulls().str.join(","))
        one = one.with_columns(pl.col("why", "base").replace("", None))
        old = pl.col("base")
        told = items.with_row_index("item").with_columns(pl.col("item").cast(pl.Int64))
        told = told.join(one, on="item", how="left", maintain_order="left")
        said, why = [pl.col("cells").fill_null("")], pl.col("why")
    whole = pl.concat_str(pl.lit('{"field":null,"reason":"'), "held", pl.lit('"}'))
    held = pl.concat_str(whole, why, separator=",", ignore_nulls=True)
    named = [
        (pl.lit(f"{',' * (number > 0)}{_json(name)}:"), *_text(keys[part[number]]))
        for number, name in enumerate(changes.keys.columns)
    ]
    line = pl.concat_str(
        pl.lit('{"key":{'),
        *chain.from_iterable(named),
        pl.lit('},"verdict":"'),
        "verdict",
        pl.lit('","cells":{'),
        *said,
        pl.lit('},"held":['),
        held if items["held"].count() or cells["why"].count() else pl.lit(""),
        pl.lit('],"row":{"live":'),
        pl.col("live").cast(pl.String).fill_null("null"),
        pl.lit(',"sheet":'),
        pl.col("sheet").cast(pl.String).fill_null("null"),
        pl.lit("}"),
        pl.concat_str(pl.lit(',"base":{'), old, pl.lit("}")).fill_null("") if cells["base"].count() else pl.lit(""),
        pl.lit("}"),
    )
    return told.lazy().select(line=line).collect()


def _cells(changes: ChangeSet) -> pl.DataFrame:
    """What the cells have in JSON: `item`, `name` (of the field), `before`, `after`, `base` and, escaped, `why` it is
    held.
    """
    fields = changes.cells["field"]
    names = pl.Series([_json(name) for name in changes.header.fields], dtype=pl.String)
    texts = _escaped(changes.cells.select("before", "after", "base", why="held"))
    return texts.with_columns(item=changes.cells["item"], name=names.gather(fields.to_physical()))


def _text(texts: pl.Series) -> list[pl.Expr]:
    """The parts that make JSON of the escaped texts of this name; null stays null."""
    parts = [pl.lit('"'), pl.col(texts.name), pl.lit('"')]
    return [pl.concat_str(parts).fill_null("null")] if texts.has_nulls() else parts


def _json(text: str) -> str:
    return msgspec.json.encode(text).decode()


def _escaped(texts: pl.DataFrame) -> pl.DataFrame:
    """The texts as they stand within the quotes of JSON (RFC 8259); null stays null."""
    odd = texts.lazy().select(pl.all().str.contains(r'["\\\x00-\x1f]')).collect()
    for name in texts.columns:
        at = odd[name].arg_true()
        if at.len():
            within = pl.Series([_json(text)[1:-1] for text in texts[name].gather(at)])
            texts = texts.with_columns(scattered(texts[name], at, within))
    return texts


def write_changes(changes: ChangeSet, path: str) -> None:
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
    place = Path(path)
    if place.is_file() and place.stat().st_size:
        with place.open("rb") as there:
            if not there.read(len(_MARK)).startswith(_MARK):
                raise OutputError(
                    f"{path}: there is a file of that name, and it is no change set. Name another with -o."
                )
    write_whole(path, change_lines(changes))


_MARK = b'{"format":"' + FORMAT.encode() + b'"'


class _Version(msgspec.Struct):
    format: str
    version: int


def read_changes(path: str, *, findings: bool = True) -> ChangeSet:
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
    header, lines, digest = _lines(path)
    return replace(_changes(header, lines, path, findings=findings), digest=digest)


def live_of_changes(path: str) -> str | None:
    """Where the live catalogue of a change set is, as its first line says; None where nobody can tell."""
    try:
        with Path(path).open("rb") as file:
            wanted = msgspec.json.decode(file.readline(), type=Header).live
    except (OSError, ValueError):
        return None
    return _place(wanted, path)


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


def read_with_live(path: str, live: str | None = None, needs: Needs | None = None) -> tuple[ChangeSet, Catalogue]:
    """A change set without its findings, and its live catalogue, as `read_live` has it: of all fields, and read while
    the change set is; or only of those that are needed for it (None: all), where live is such that the rest can be
    passed over.
    """
    header, lines, digest = _lines(path)
    if needs is None or not header.live.regular or header.live.continued is not None:
        reading = submit(partial(_read_live, header, path, live))
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
    changes = _tables(header, lines[:wanted], path)
    if not findings:
        start = end + flags + meanwhile
        return replace(changes, computed=_computed_by_rule(changes, lines[start : start + steps], path))
    damaged = _damaged(changes, _decoded(lines[wanted:end].to_list(), path, Damaged, wanted + 2), path)
    flagged = _flags(changes, _decoded(lines[end : end + flags].to_list(), path, CheckFinding, end + 2), path)
    end += flags
    part = lines[end : end + meanwhile].to_list()
    since = _meanwhile(changes, _decoded(part, path, Meanwhile, end + 2), path)
    end += meanwhile
    part = lines[end : end + steps].to_list()
    computed = _computed(changes, _decoded(part, path, Computed, end + 2), path)
    end += steps
    open_questions = _unresolved(changes, _decoded(lines[end:].to_list(), path, Unresolved, end + 2), path)
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
        raise ChangeSetError(f"{path}, line 1: {_plain(error)}. {AGAIN}") from None
    if not header.key or any(len(set(names)) < len(names) for names in (header.key, header.fields)):
        raise ChangeSetError(f"{path}, line 1: the key and the fields must each be named once. {AGAIN}")
    return header


Line = TypeVar("Line")


def _decoded(lines: list[bytes], path: str, kind: type[Line], first: int = 2) -> list[Line]:
    """The lines as values of a type; all at once, and one by one only to find the line that is wrong."""
    try:
        return msgspec.json.Decoder(kind).decode_lines(b"\n".join(lines)) if b"" not in lines else _by_line(lines, kind)
    except msgspec.MsgspecError:
        decoder = msgspec.json.Decoder(kind)
        for number, line in enumerate(lines, first):
            try:
                decoder.decode(line)
            except msgspec.MsgspecError as error:
                raise ChangeSetError(f"{path}, line {number:,}: {_plain(error)}. {AGAIN}") from None
        raise


def _by_line(lines: list[bytes], kind: type[Line]) -> list[Line]:
    decoder = msgspec.json.Decoder(kind)
    return [decoder.decode(line) for line in lines]


def _plain(error: Exception) -> str:
    """Msgspec's message, which names the place within the line, without its full stop."""
    return str(error).rstrip(".")


def _damaged(changes: ChangeSet, listed: Sequence[Damaged], path: str) -> pl.DataFrame:
    """The damaged cells as a table."""
    header, rows = changes.header, []
    for one in listed:
        if one.key.keys() != set(header.key) or one.field not in header.fields:
            raise ChangeSetError(f"{path}: a damaged cell has a key or a field that line 1 does not name. {AGAIN}")
        key = [one.key[name] for name in header.key]
        rows.append((one.damage, key, one.field, one.row, one.before, one.sheet, one.repair, one.done))
    schema = {name: kind for name, kind in DAMAGED_SCHEMA.items() if name != "item"}
    table = pl.DataFrame(rows, schema=schema, orient="row")
    return conform(table.with_columns(item=_numbers(changes, listed)), DAMAGED_SCHEMA)


def _flags(changes: ChangeSet, listed: Sequence[CheckFinding], path: str) -> pl.DataFrame:
    """The findings of the checks as a table."""
    header, rows = changes.header, []
    for one in listed:
        if (one.key is not None and one.key.keys() != set(header.key)) or one.field not in {None, *header.fields}:
            raise ChangeSetError(f"{path}: a finding has a key or a field that line 1 does not name. {AGAIN}")
        rows.append((one.check, one.level, one.field, one.row, one.value, one.what, one.done))
    schema = {name: kind for name, kind in FLAGS_SCHEMA.items() if name != "item"}
    table = pl.DataFrame(rows, schema=schema, orient="row")
    return conform(table.with_columns(item=_numbers(changes, listed)), FLAGS_SCHEMA)


def _meanwhile(changes: ChangeSet, listed: Sequence[Meanwhile], path: str) -> pl.DataFrame:
    """What the store changed since the base as a table."""
    header, rows = changes.header, []
    for one in listed:
        if one.meanwhile.keys() != set(header.key):
            raise ChangeSetError(f"{path}: a change of the store has a key that line 1 does not name. {AGAIN}")
        rows.append(([one.meanwhile[name] for name in header.key], one.field, one.row, one.base, one.live))
    return pl.DataFrame(rows, schema=dict(MEANWHILE_SCHEMA), orient="row")


def _computed(changes: ChangeSet, listed: Sequence[Computed], path: str) -> pl.DataFrame:
    """How computed cells came about as a table."""
    header = changes.header
    for one in listed:
        if one.computed.keys() != set(header.key) or one.field not in header.fields or one.rule >= len(header.rules):
            raise ChangeSetError(
                f"{path}: a computed cell has a key, a field or a rule that line 1 does not name. {AGAIN}"
            )
    rows = [(one.field, one.rule, one.inputs, one.result) for one in listed]
    schema = {name: kind for name, kind in COMPUTED_SCHEMA.items() if name != "item"}
    table = pl.DataFrame(rows, schema=schema, orient="row")
    return conform(table.with_columns(item=_numbers(changes, listed)), COMPUTED_SCHEMA)


def _computed_by_rule(changes: ChangeSet, lines: pl.Series, path: str) -> pl.DataFrame:
    """Which cells were computed by which rule, column by column, without the texts of the steps; none where no rule
    reads a field of the item.
    """
    header = changes.header
    if not any(one.reads for one in header.rules):
        return empty(COMPUTED_SCHEMA)
    key = pl.Struct(dict.fromkeys(header.key, pl.String))
    form = pl.Struct({"computed": key, "field": pl.String, "rule": pl.UInt16, "live": pl.Int64})
    try:
        table = lines.cast(pl.String).str.json_decode(form).struct.unnest()
    except PolarsError:
        table = pl.DataFrame(schema=dict(form))
    if table.height != len(lines) or table["computed"].null_count() or table["rule"].null_count():
        return _computed(changes, _decoded(lines.to_list(), path, Computed), path)
    keys = table["computed"].struct.unnest().with_columns(table["live"].alias(MARK))
    return conform(table.with_columns(item=_items_named(changes, keys)), COMPUTED_SCHEMA)


def _unresolved(changes: ChangeSet, listed: Sequence[Unresolved], path: str) -> pl.DataFrame:
    """What could not be worked out as a table."""
    header, rows = changes.header, []
    for one in listed:
        if one.unresolved.keys() != set(header.key):
            raise ChangeSetError(f"{path}: what could not be worked out has a key that line 1 does not name. {AGAIN}")
        key = [one.unresolved[name] for name in header.key]
        rows.append((key, one.row, one.field, one.source, one.rule, one.what))
    return pl.DataFrame(rows, schema=dict(UNRESOLVED_SCHEMA), orient="row")


def _numbers(changes: ChangeSet, listed: Sequence[Damaged] | Sequence[CheckFinding] | Sequence[Computed]) -> pl.Series:
    """The numbers of the items that findings name: by their key, and by their row in live where items share a key."""
    key, row = changes.header.compared_by, MARK
    keys = [(one.computed if isinstance(one, Computed) else one.key, one.live) for one in listed]
    named = [None if its is None else [*(its[name] for name in key.fields), live_row] for its, live_row in keys]
    schema = {**dict.fromkeys(key.fields, pl.String), row: pl.Int64}
    wanted = pl.DataFrame([one or [None] * len(schema) for one in named], schema=schema, orient="row")
    return _items_named(changes, wanted)


def _items_named(changes: ChangeSet, wanted: pl.DataFrame) -> pl.Series:
    """The numbers of the items of these keys; where items share a key, by their row in live (`MARK`), too."""
    key, row = changes.header.compared_by, MARK
    live = changes.items["live"] if key.shared == "all" else pl.lit(None, pl.Int64)
    there = comparable(changes.keys, key).with_columns(live.alias(row)).with_row_index(MARK + MARK)
    wanted = comparable(wanted, key).with_columns(wanted[row])
    met = wanted.join(there, on=[*key.fields, row], how="left", nulls_equal=True, maintain_order="left")
    return met[MARK + MARK].cast(pl.Int64)


def _tables(header: Header, lines: pl.Series, path: str) -> ChangeSet:
    """The items as tables. Of very many, the plain ones are read column by column, and the others one by one."""
    plain = _single(header, lines) if len(lines) >= sizes.ITEMS_READ_BY_COLUMN else None
    numbers = pl.int_range(len(lines), eager=True)
    if plain is not None:
        numbers = numbers.filter(plain["live"].is_null())
    others = lines.gather(numbers).to_list()
    try:
        items_read = msgspec.json.Decoder(list[Item]).decode(b"[" + b",".join(others) + b"]")
        keys, items, cells = _laid_out(header, items_read)
        if plain is not None:
            keys, items, cells = _with_plain(header, plain, numbers, keys, items, cells)
        right = len(items_read) == len(others) and _fits(header, items_read, items, cells)
    except (KeyError, PolarsError, msgspec.MsgspecError):
        right = False
    if not right:
        _say_what_is_wrong(header, _decoded(lines.to_list(), path, Item), path)
    changes = ChangeSet(header, keys, items, cells)
    for what, counted, there in (
        *(
            (verdict, getattr(header.counts, verdict), (changes.items["verdict"] == verdict).sum())
            for verdict in get_args(Verdict)
        ),
        ("cells", header.counts.cells, changes.cells.height),
        ("held cells", header.counts.held_cells, held(changes.items, changes.cells).sum()),
    ):
        if counted != there:
            raise ChangeSetError(f"{path}: the header counts {counted:,} {what}, and there are {there:,}. {AGAIN}")
    if not header.shared and not all_differ(changes.keys):
        raise ChangeSetError(f"{path}: an item stands in it twice. {AGAIN}")
    return changes


def _single(header: Header, lines: pl.Series) -> pl.DataFrame | None:
    """The lines of items of which one cell changed, and nothing is held or escaped: `key`, `field`, `before`, `after`,
    `live`, `sheet`, a row for each line; null where a line is another. None where the key has several fields.
    """
    if len(header.key) > 1:
        return None
    text, number = r'([^"\\\x00-\x1f]*)', "([1-9][0-9]{0,14})"
    form = (
        rf'^\{{"key":\{{{re.escape(_json(header.key[0]))}:"{text}"\}},"verdict":"changed",'
        rf'"cells":\{{"{text}":\["{text}","{text}"\]\}},"held":\[\],"row":\{{"live":{number},"sheet":{number}\}}\}}$'
    )
    texts = lines.cast(pl.String, strict=False).to_frame("line").lazy()
    names = ["key", "field", "before", "after", "live", "sheet"]
    groups = pl.col("line").str.extract_groups(form).struct.rename_fields(names)
    in_header = pl.col("field").is_in([name for name in header.fields if name not in header.key])
    parts = texts.select(groups).unnest("line").select(pl.when(in_header).then(pl.all()))
    return parts.with_columns(pl.col("live", "sheet").cast(pl.Int64)).collect().rechunk()


def _with_plain(
    header: Header,
    plain: pl.DataFrame,
    numbers: pl.Series,
    keys: pl.DataFrame,
    items: pl.DataFrame,
    cells: pl.DataFrame,
) -> tuple[pl.DataFrame, pl.DataFrame, pl.DataFrame]:
    """The tables of the plain items with those of the others, which stand at these numbers, in their places."""
    none = pl.lit(None, pl.String)
    singles = (
        plain.with_row_index("item").filter(pl.col("live").is_not_null()).with_columns(pl.col("item").cast(pl.Int64))
    )
    verdicts = singles.with_columns(verdict=pl.lit("changed"), held=pl.lit(None, pl.String))
    items = pl.concat([verdicts.select(list(ITEMS_SCHEMA)).cast(ITEMS_SCHEMA), items])  # type: ignore[arg-type]
    keys = pl.concat([singles.select(pl.col("key").alias(header.key[0])), keys])
    schema = cells_schema(header.fields)
    single = singles.with_columns(held=none, base=none).select(list(schema)).cast(schema)  # type: ignore[arg-type]
    if not numbers.len():
        return keys, items, single
    order = pl.concat([singles["item"], numbers]).arg_sort()
    cells = pl.concat([single, cells.with_columns(item=numbers.gather(cells["item"]))]).sort("item", "field")
    return keys[order], items[order], cells


def _laid_out(header: Header, items_read: list[Item]) -> tuple[pl.DataFrame, pl.DataFrame, pl.DataFrame]:
    """The items' keys, the items and their cells as tables, as they stand in the file."""
    keys = {name: [item.key[name] for item in items_read] for name in header.key}
    reasons = [
        next((one.reason for one in item.held if one.field is None), None) if item.held else None for item in items_read
    ]
    items = pl.DataFrame(
        {
            "verdict": [item.verdict for item in items_read],
            "live": [item.row.live for item in items_read],
            "sheet": [item.row.sheet for item in items_read],
            "held": reasons,
        },
        schema=ITEMS_SCHEMA,
    )
    flat = [cell for item in items_read for cell in item.cells.values()]
    sizes = pl.Series([len(item.cells) for item in items_read], dtype=pl.Int64)
    cells = pl.DataFrame(
        {
            "item": pl.int_range(sizes.len(), dtype=pl.Int64, eager=True).repeat_by(sizes).explode(empty_as_null=False),
            "field": [name for item in items_read for name in item.cells],
            "before": [before for before, _ in flat],
            "after": [after for _, after in flat],
            "base": [item.base.get(name) for item in items_read for name in item.cells],
        },
        schema_overrides={name: kind for name, kind in cells_schema(header.fields).items() if name != "held"},
    )
    held = [
        (n, one.field, one.reason) for n, item in enumerate(items_read) for one in item.held if one.field is not None
    ]
    schema = {name: kind for name, kind in cells_schema(header.fields).items() if name in {"item", "field", "held"}}
    cells = cells.join(
        pl.DataFrame(held, schema=schema, orient="row"), on=["item", "field"], how="left", maintain_order="left"
    )
    table = pl.DataFrame(keys, schema=dict.fromkeys(header.key, pl.String))
    return table, items, cells.select(list(cells_schema(header.fields))).sort("item", "field")


def _fits(header: Header, items_read: list[Item], items: pl.DataFrame, cells: pl.DataFrame) -> bool:
    """Whether every item is as a change set has it; `_wrong` says in which way one is not."""
    live, sheet, verdict = items["live"].is_not_null(), items["sheet"].is_not_null(), items["verdict"]
    rows = ((verdict != "new") == live) & (verdict.is_in(["changed", "recoded"]) | ((verdict == "new") == sheet))
    code = scattered(
        constant(False, items.height), cells.filter(pl.col("field").cast(pl.String).is_in(header.key))["item"], True
    )
    new = (verdict == "new").gather(cells["item"])
    said = (cells["before"].is_null() == new) & cells["after"].is_not_null()
    changed = (cells["before"] != cells["after"]).fill_null(value=True)
    with_cells = scattered(constant(False, items.height), cells["item"], True)
    place = items.select(
        pl.when(pl.col("live").is_not_null()).then(pl.col("live")).otherwise(pl.col("sheet") + (1 << 40))
    ).to_series()
    held = sum(len(item.held) for item in items_read)
    return bool(
        rows.all()
        and (code == (verdict == "recoded")).all()
        and (place.diff().drop_nulls() >= (0 if header.counts.copied else 1)).all()
        and (place > 0).all()
        and said.all()
        and changed.all()
        and ((verdict == "new") | ((verdict == "gone") != with_cells)).all()
        and all(len(item.key) == len(header.key) for item in items_read)
        and held == items["held"].count() + cells["held"].count()
        and sum(len(item.base) for item in items_read) == (cells["base"].count() if header.base is not None else 0)
    )


def _say_what_is_wrong(header: Header, items_read: list[Item], path: str) -> NoReturn:
    """ChangeSetError with the first item that is not as a change set has it."""
    fields = {field: number for number, field in enumerate(header.fields)}
    last = (0, 0)
    for number, item in enumerate(items_read):
        wrong = _wrong(item, header, fields)
        place = (0, item.row.live) if item.row.live is not None else (1, item.row.sheet or 0)
        if wrong is None and (place < last or (place == last and not header.counts.copied)):
            wrong = "the items are not in the order of their rows"
        if wrong is not None:
            raise ChangeSetError(f"{path}, line {number + 2:,}: {wrong}. {AGAIN}")
        last = place
    raise ChangeSetError(f"{path}: its items do not fit together. {AGAIN}")


def _wrong(item: Item, header: Header, fields: dict[str, int]) -> str | None:
    """What is wrong with an item by itself, if anything."""
    in_sheet = {"new": (True,), "gone": (False,)}.get(item.verdict, (True, False))
    places = [held.field for held in item.held]
    cells = item.cells.items()
    troubles = (
        (
            (item.row.live is None) != (item.verdict == "new") or (item.row.sheet is not None) not in in_sheet,
            "its rows do not fit its verdict",
        ),
        (bool(item.cells.keys() & {*header.key}) != (item.verdict == "recoded"), "only a recoded item has a new code"),
        (item.key.keys() != set(header.key), f"its key must have {', '.join(header.key)}"),
        (item.cells.keys() - fields.keys(), "it has a field that line 1 does not name"),
        (any((before is None) != (item.verdict == "new") for _, (before, _) in cells), "a cell lacks its value before"),
        (any(after is None or before == after for _, (before, after) in cells), "a cell says no change"),
        (item.verdict != "new" and bool(item.cells) == (item.verdict == "gone"), "its cells do not fit its verdict"),
        (
            len(set(places)) != len(places) or set(places) - item.cells.keys() - {None},
            "what is held is not in its cells",
        ),
        (
            item.base.keys() - item.cells.keys() or (item.base and header.base is None),
            "what it was in the base is not in its cells",
        ),
    )
    return next((what for wrong, what in troubles if wrong), None)


def read_live(changes: ChangeSet, path: str, live: str | None = None) -> Catalogue:
    r"""The live catalogue of the change set read from `path`, read in the way it was read then.

    It is looked for where `compare` found it, from the working folder and from the change set's own, or
    at `live`. ChangeSetError when it is not the same file any more, byte for byte.

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
    return _of_changes(_read_live(changes.header, path, live), changes, path)


def _read_live(header: Header, path: str, live: str | None, only: Collection[str] | None = None) -> Catalogue:
    """The live catalogue that a change set names, or only these headings of it."""
    wanted = header.live
    place = live or _place(wanted, path)
    if place == "-":
        raise ChangeSetError(
            f"{path}: live was read from standard input when it was made. Say with ‹live› in which file it is."
        )
    if live is None and not Path(place).is_file():
        there = "is no regular file" if Path(place).exists() else "is not there"
        raise ChangeSetError(f"{path}: {place}, its live catalogue, {there}. Say with ‹live› in which file it is.")
    return as_live(read(place, wanted.layout, only), header, path)


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
    # Planning and proof look at it again and again, and a step on many chunks costs several times as much.
    catalogue = replace(catalogue, cells=catalogue.cells.rechunk())
    return with_unseen(prepare_columns(catalogue, header.headings, header.key, wanted.continued), header.unseen)


def sheet_rows(header: Header, path: str, rows: Sequence[int]) -> dict[int, dict[str, str]]:
    """The rows of the sheet with these numbers as they came, by number: where it still is the file that the change set
    at `path` was made of, and nothing otherwise.
    """
    source = header.sheet
    beside = Path(path).parent / source.path
    place = source.path if Path(source.path).is_file() else str(beside)
    if header.by_rules or not Path(place).is_file():
        return {}
    try:
        catalogue = read(place, source.layout)
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
