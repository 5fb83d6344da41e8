"""The lines of a change set as bytes: its header, its items, what was found and computed, and the seal under them."""

from __future__ import annotations

import re
from collections.abc import Iterator
from io import BytesIO
from itertools import chain

import msgspec
import polars as pl
from blake3 import blake3

from neat_delta.core.base.model.changeset import ChangeSet
from neat_delta.core.base.support import sizes
from neat_delta.core.base.support.series import gathered, scattered, true_places

__all__ = ["SEALED", "change_lines", "digest_of_changes", "json_text"]


def change_lines(changes: ChangeSet) -> Iterator[bytes]:
    """The bytes of a change set's file, some lines at a time; last its seal, the digest of all lines before it."""
    digest = blake3()
    for chunk in _unsealed(changes):
        digest.update(chunk)
        yield chunk
    yield SEAL % digest.hexdigest().encode()


SEAL = b'{"blake3":"%s"}\n'


SEALED = re.compile(rb'\{"blake3":"([0-9a-f]{64})"\}\n\Z')


def digest_of_changes(changes: ChangeSet) -> str:
    """The digest that a change set's file is sealed with.

    >>> from neat_delta import as_catalogue, compare
    >>> live = as_catalogue({"sku": ["QA-1"], "price": ["9.90"]}, "live")
    >>> len(digest_of_changes(compare(live, live)))
    64
    """
    if changes.digest:
        return changes.digest
    digest = blake3()
    for chunk in _unsealed(changes):
        digest.update(chunk)
    return digest.hexdigest()


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
    line = pl.struct(key.alias("unresolved"), "row", "field", "source", "rule", "what")
    return part.select(line.struct.json_encode()).to_series()


def _computed_line(part: pl.DataFrame, changes: ChangeSet) -> pl.Series:
    """The lines of how computed cells came about: the same as each `Computed` as JSON."""
    item = part["item"]
    table = part.with_columns(gathered(changes.keys, item).to_struct("computed"), gathered(changes.items["live"], item))
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
    parts = [pl.col("name"), pl.lit(":["), *_text(cells["before"]), pl.lit(","), *_text(cells["after"]), pl.lit("]")]
    why = pl.concat_str(pl.lit('{"field":'), "name", pl.lit(',"reason":"'), "why", pl.lit('"}'))
    old = pl.concat_str(pl.col("name"), pl.lit(':"'), "base", pl.lit('"'))
    if cells["item"].equals(pl.int_range(items.height, eager=True).alias("item")):
        cells_of_items = items.hstack(cells.drop("item"))
    else:
        cell_lines = (
            cells.lazy().select("item", cells=pl.concat_str(parts), why=why, base=old).collect(engine="in-memory")
        )
        cell_lines = cell_lines.group_by("item", maintain_order=True).agg(pl.all().drop_nulls().str.join(","))
        cell_lines = cell_lines.with_columns(pl.col("why", "base").replace("", None))
        old = pl.col("base")
        cells_of_items = items.with_row_index("item").with_columns(pl.col("item").cast(pl.Int64))
        cells_of_items = cells_of_items.join(cell_lines, on="item", how="left", maintain_order="left")
        parts, why = [pl.col("cells").fill_null("")], pl.col("why")
    held_line = pl.concat_str(pl.lit('{"field":null,"reason":"'), "held", pl.lit('"}'))
    held = pl.concat_str(held_line, why, separator=",", ignore_nulls=True)
    named = [
        (pl.lit(f"{',' * (number > 0)}{json_text(name)}:"), *_text(keys[part[number]]))
        for number, name in enumerate(changes.keys.columns)
    ]
    line = pl.concat_str(
        pl.lit('{"key":{'),
        *chain.from_iterable(named),
        pl.lit('},"verdict":"'),
        "verdict",
        pl.lit('","cells":{'),
        *parts,
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
    return cells_of_items.lazy().select(line=line).collect(engine="in-memory")


def _cells(changes: ChangeSet) -> pl.DataFrame:
    """What the cells have in JSON: `item`, `name` (of the field), `before`, `after`, `base` and, escaped, `why` it is
    held.
    """
    fields = changes.cells["field"]
    names = pl.Series([json_text(name) for name in changes.header.fields], dtype=pl.String)
    texts = _escaped(changes.cells.select("before", "after", "base", why="held"))
    return texts.with_columns(item=changes.cells["item"], name=gathered(names, fields.to_physical()))


def _text(texts: pl.Series) -> list[pl.Expr]:
    """The parts that make JSON of the escaped texts of this name; null stays null."""
    parts = [pl.lit('"'), pl.col(texts.name), pl.lit('"')]
    return [pl.concat_str(parts).fill_null("null")] if texts.has_nulls() else parts


def json_text(text: str) -> str:
    """A text as JSON."""
    return msgspec.json.encode(text).decode()


def _escaped(texts: pl.DataFrame) -> pl.DataFrame:
    """The texts as they stand within the quotes of JSON (RFC 8259); null stays null."""
    odd = texts.lazy().select(pl.all().str.contains(r'["\\\x00-\x1f]')).collect(engine="in-memory")
    for name in texts.columns:
        at = true_places(odd[name])
        if at.len():
            within = pl.Series([json_text(text)[1:-1] for text in gathered(texts[name], at)])
            texts = texts.with_columns(scattered(texts[name], at, within))
    return texts
