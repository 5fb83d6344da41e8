"""The items of a change set out of its lines: as tables, and whether each is as a change set has it."""

from __future__ import annotations

import re
from typing import NoReturn, TypeVar, get_args

import msgspec
import polars as pl
from polars.exceptions import PolarsError

from neat_delta.core.base.model.changeset import ChangeSet, Item, held
from neat_delta.core.base.model.choices import Verdict
from neat_delta.core.base.model.header import Header
from neat_delta.core.base.model.schemas import (
    ITEMS_SCHEMA,
    cells_schema,
)
from neat_delta.core.base.support import sizes
from neat_delta.core.base.support.distinct import all_differ
from neat_delta.core.base.support.errors import ChangeSetError
from neat_delta.core.base.support.series import constant, gathered, not_null, scattered
from neat_delta.files.changelines import json_text
from neat_delta.files.malformed import plain_error

__all__ = ["AGAIN", "decoded_lines", "item_tables"]


AGAIN = "Make it again with `neat-delta compare`."


Line = TypeVar("Line")


def decoded_lines(lines: list[bytes], path: str, kind: type[Line], first: int = 2) -> list[Line]:
    """The lines as values of a type; all at once, and one by one only to find the line that is wrong."""
    try:
        return msgspec.json.Decoder(kind).decode_lines(b"\n".join(lines)) if b"" not in lines else _by_line(lines, kind)
    except msgspec.MsgspecError:
        decoder = msgspec.json.Decoder(kind)
        for number, line in enumerate(lines, first):
            try:
                decoder.decode(line)
            except msgspec.MsgspecError as error:
                raise ChangeSetError(f"{path}, line {number:,}: {plain_error(error)}. {AGAIN}") from None
        raise


def _by_line(lines: list[bytes], kind: type[Line]) -> list[Line]:
    decoder = msgspec.json.Decoder(kind)
    return [decoder.decode(line) for line in lines]


def item_tables(header: Header, lines: pl.Series, path: str) -> ChangeSet:
    """The items as tables. Of very many, the plain ones are read column by column, and the others one by one."""
    plain = _single(header, lines) if len(lines) >= sizes.ITEMS_READ_BY_COLUMN else None
    line_numbers = pl.int_range(len(lines), eager=True)
    if plain is not None:
        line_numbers = line_numbers.filter(plain["live"].is_null())
    others = gathered(lines, line_numbers).to_list()
    try:
        items_read = msgspec.json.Decoder(list[Item]).decode(b"[" + b",".join(others) + b"]")
        keys, items, cells = _laid_out(header, items_read)
        if plain is not None:
            keys, items, cells = _with_plain(header, plain, line_numbers, keys, items, cells)
        right = len(items_read) == len(others) and _fits(header, items_read, items, cells)
    except (KeyError, PolarsError, msgspec.MsgspecError):
        right = False
    if not right:
        _say_what_is_wrong(header, decoded_lines(lines.to_list(), path, Item), path)
    changes = ChangeSet(header, keys, items, cells)
    for what, counted, present in (
        *(
            (verdict, getattr(header.counts, verdict), (changes.items["verdict"] == verdict).sum())
            for verdict in get_args(Verdict)
        ),
        ("cells", header.counts.cells, changes.cells.height),
        ("held cells", header.counts.held_cells, held(changes.items, changes.cells).sum()),
    ):
        if counted != present:
            raise ChangeSetError(f"{path}: the header counts {counted:,} {what}, and there are {present:,}. {AGAIN}")
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
        rf'^\{{"key":\{{{re.escape(json_text(header.key[0]))}:"{text}"\}},"verdict":"changed",'
        rf'"cells":\{{"{text}":\["{text}","{text}"\]\}},"held":\[\],"row":\{{"live":{number},"sheet":{number}\}}\}}$'
    )
    texts = lines.cast(pl.String, strict=False).to_frame("line").lazy()
    names = ["key", "field", "before", "after", "live", "sheet"]
    groups = pl.col("line").str.extract_groups(form).struct.rename_fields(names)
    in_header = pl.col("field").is_in([name for name in header.fields if name not in header.key])
    parts = texts.select(groups).unnest("line").select(pl.when(in_header).then(pl.all()))
    return parts.with_columns(pl.col("live", "sheet").cast(pl.Int64)).collect(engine="in-memory").rechunk()


def _with_plain(
    header: Header,
    plain: pl.DataFrame,
    line_numbers: pl.Series,
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
    if not line_numbers.len():
        return keys, items, single
    order = pl.concat([singles["item"], line_numbers]).arg_sort()
    cells = pl.concat([single, cells.with_columns(item=gathered(line_numbers, cells["item"]))]).sort("item", "field")
    return keys[order], items[order], cells


def _laid_out(header: Header, items_read: list[Item]) -> tuple[pl.DataFrame, pl.DataFrame, pl.DataFrame]:
    """The items' keys, the items and their cells as tables, as they stand in the file."""
    keys = {name: [item.key[name] for item in items_read] for name in header.key}
    reasons = [
        next((held_change.reason for held_change in item.held if held_change.field is None), None)
        if item.held
        else None
        for item in items_read
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
        (n, held_change.field, held_change.reason)
        for n, item in enumerate(items_read)
        for held_change in item.held
        if held_change.field is not None
    ]
    schema = {name: kind for name, kind in cells_schema(header.fields).items() if name in {"item", "field", "held"}}
    cells = cells.join(
        pl.DataFrame(held, schema=schema, orient="row"), on=["item", "field"], how="left", maintain_order="left"
    )
    table = pl.DataFrame(keys, schema=dict.fromkeys(header.key, pl.String))
    return table, items, cells.select(list(cells_schema(header.fields))).sort("item", "field")


def _fits(header: Header, items_read: list[Item], items: pl.DataFrame, cells: pl.DataFrame) -> bool:
    """Whether every item is as a change set has it; `_wrong` says in which way one is not."""
    live, sheet, verdict = not_null(items["live"]), not_null(items["sheet"]), items["verdict"]
    rows = ((verdict != "new") == live) & (verdict.is_in(["changed", "recoded"]) | ((verdict == "new") == sheet))
    code = scattered(
        constant(False, items.height), cells.filter(pl.col("field").cast(pl.String).is_in(header.key))["item"], True
    )
    new = gathered(verdict == "new", cells["item"])
    as_new = (cells["before"].is_null() == new) & not_null(cells["after"])
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
        and as_new.all()
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
