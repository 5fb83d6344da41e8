"""The cells that change, as was decided of those that differ; and what is to be said of each by itself."""

from __future__ import annotations

from collections import Counter
from dataclasses import dataclass
from typing import TYPE_CHECKING

import polars as pl

from neat_delta.core.base.model.reasons import EMPTIED
from neat_delta.core.base.model.store import Field, Store, accompanying
from neat_delta.core.base.support.series import constant, filtered, gathered, not_null, scattered, true_places
from neat_delta.core.compare.diff.equality import by_value
from neat_delta.core.sheets.match.keys import stripped
from neat_delta.core.sheets.rekey.requests import code_cells, with_followed_links
from neat_delta.core.sheets.rules.resting import left_alone

if TYPE_CHECKING:
    from neat_delta.core.compare.round import Round
    from neat_delta.core.sheets.match.rows import Matched


__all__ = ["Changed", "changed_cells", "with_rules"]


CELL = ["item", "field", "before", "after", "unread", "base"]


@dataclass(frozen=True, slots=True)
class Changed:
    """The `cells` that change (`CELL`, and the `reason` for which a code cannot), by items as they are numbered before
    there is a change set; those of new items that are `filled` by default; how many emptied cells are `kept`, how many
    cells of each field are only `rewritten`, how many cells and items stay as the store has them, and the cells in
    which live's own value is put back (`repaired`).
    """

    cells: pl.DataFrame
    filled: pl.DataFrame
    kept: int
    rewritten: dict[str, int]
    left_to_store: int
    repaired: pl.Series


def changed_cells(round_: Round) -> Changed:
    """The cells that change, as was decided of those that differ."""
    matched = round_.rows.matched
    repaired = filtered(round_.decided, round_.decided["done"] == "repaired")["cell"]
    deltas = round_.deltas
    if not round_.merged:
        deltas = deltas.hstack([constant(None, deltas.height, pl.String).alias("base")])
    deltas = _put_back(deltas, repaired)
    deltas, left_to_store = _with_clashes(deltas, round_)
    decided = round_.decided
    as_live = decided["cell"].filter((decided["source"] == EMPTIED) & (decided["done"] == "kept"))
    deltas = deltas.hstack([scattered(constant(False, deltas.height), as_live, True).alias("kept")])
    added = filtered(deltas, ~not_null(deltas["pair"]) & ~deltas["same"] & (deltas["after"] != ""))
    differing = filtered(deltas, not_null(deltas["pair"]))
    also, differs = differing["same"] & ~differing["nothing"] & ~differing["apart"], ~differing["same"]
    if round_.aligned.key.shared == "all":
        differs |= _with_their_twins(differing, matched)
        also &= ~differs
    counted = Counter(differing["field"].filter(also))
    kept = differs & differing["kept"]
    filled = _by_default(added, round_)
    cells = pl.concat([filtered(differing, differs & ~kept)[CELL], added[CELL], filled])
    coded = _with_codes(cells.hstack([constant(None, cells.height, pl.String).alias("reason")]), round_)
    cells = _beside_changes(coded, accompanying(round_.known.fields))
    rewritten = {name: counted[name] for name in matched.fields if name in counted}
    return Changed(cells, filled, int(kept.sum()), rewritten, left_to_store, repaired)


def _beside_changes(cells: pl.DataFrame, names: list[str]) -> pl.DataFrame:
    """The cells without those of these fields whose item has no other: they go only with another change."""
    if not names:
        return cells
    alone = left_alone(cells, names).filter(pl.col("before").is_not_null())
    return cells.join(alone, on=["item", "field"], how="anti", maintain_order="left")


def _by_default(added: pl.DataFrame, round_: Round) -> pl.DataFrame:
    """The cells (`CELL`) that new items get from the importer's defaults, where they have nothing of their own."""
    shop, live = round_.known, round_.aligned.live
    parts = [added.select(CELL).clear()]
    new = round_.arriving.cast(pl.Int64) + live.height
    for name, text in shop.importer.defaults.items() if new.len() else ():
        if name in live.fields and text.strip():
            has = filtered(added, added["field"] == name)["item"]
            cells = pl.DataFrame({"item": new.filter(~new.is_in(has.implode()))})
            cells = cells.with_columns(pl.lit(name).alias("field"), pl.lit(text).alias("after"))
            cells = cells.with_columns(pl.lit(None, pl.String).alias(column) for column in ("before", "base"))
            read = by_value(cells.head(1), {name: shop.fields.get(name, Field())}, shop.writing, {}, learned=False)
            unread = read["held"][0] if cells.height else None
            cells = cells.with_columns(unread=pl.lit(unread, pl.String)).select(CELL)
            parts.append(cells.cast(dict(parts[0].schema)))  # type: ignore[arg-type]
    return pl.concat(parts)


def _with_clashes(deltas: pl.DataFrame, round_: Round) -> tuple[pl.DataFrame, int]:
    """The cells that differ, as was decided where they clash: as live has them, or with the difference added. And how
    many cells and items stay as the store has them.
    """
    clashes = filtered(round_.decided, round_.decided["source"] == "clash")[["cell", "done"]]
    if not clashes.height:
        return deltas, 0
    left_to_store = round_.left_to_store
    kept = filtered(clashes, clashes["done"] == "kept")["cell"].drop_nulls()
    kept = pl.concat([kept, true_places(deltas["item"].is_in(left_to_store.implode())).cast(pl.UInt32)])
    deltas = _put_back(deltas, kept)
    added = filtered(clashes, clashes["done"] == "added")["cell"]
    after = scattered(deltas["after"], added, gathered(deltas["added"], added))
    return deltas.with_columns(after=after), int((clashes["done"] == "kept").sum())


def _put_back(deltas: pl.DataFrame, cells: pl.Series) -> pl.DataFrame:
    """The cells that differ, of which these are again as live has them."""
    if not cells.len():
        return deltas
    return deltas.with_columns(
        same=scattered(deltas["same"], cells, True),
        apart=scattered(deltas["apart"], cells, True),
        after=scattered(deltas["after"], cells, gathered(deltas["before"], cells)),
    )


def _with_their_twins(differing: pl.DataFrame, matched: Matched) -> pl.Series:
    """The cells that change because those of another item with the same key do: the importer cannot tell them apart."""
    row = gathered(matched.pairs["sheet"], differing["pair"])
    changes = (~differing["same"]).to_frame("change").with_columns(row=row, field=differing["field"])
    any_of_them = changes.select(pl.col("change").any().over("row", "field")).to_series()
    return any_of_them & (differing["before"] != differing["after"])


def _with_codes(cells: pl.DataFrame, round_: Round) -> pl.DataFrame:
    """The cells with those by which codes change, and with links that follow them; `reason` says why a code cannot."""
    rows, live, fields = round_.rows, round_.aligned.live, round_.known.fields
    if not rows.codes.moves:
        return cells
    matched, key = rows.matched, round_.aligned.key
    arriving = set(gathered(stripped(rows.sheet, key), matched.new).rows())
    more, codes = code_cells(live, rows.codes, arriving, fields, key)
    cells = cells.with_columns(after=with_followed_links(cells, fields, codes))
    more = more.rename({"place": "item"}).with_columns(unread=pl.lit(None, pl.String), base=pl.lit(None, pl.String))
    more = more.join(cells, on=["item", "field"], how="anti", maintain_order="left")
    if round_.options.policy.with_gone and round_.options.drops:  # a link of an item that goes away is of no account
        recoded = more.filter(pl.col("field").is_in(key.fields))["item"]
        leaves = round_.leaving.cast(pl.Int64)
        leaves = leaves.filter(~leaves.is_in(recoded.implode()))
        more = more.filter(~pl.col("item").is_in(leaves.implode()))
    return pl.concat([cells, more.select(cells.columns)])


def with_rules(cells: pl.DataFrame, decided: pl.DataFrame, shop: Store, key: list[str]) -> pl.DataFrame:
    """The cells with what is to be said of each by itself (`rule`), where neither damage nor a slip holds it."""
    locked = [name for name, field in shop.fields.items() if field.locked and name not in key]
    required = [name for name, field in shop.fields.items() if field.required and name not in key]
    name = pl.col("field").cast(pl.String)
    rule = (
        pl.when(name.is_in(locked) & pl.col("before").is_not_null())
        .then(pl.lit("locked"))
        .when(pl.col("unread").is_not_null())
        .then(pl.lit("unreadable"))
        .when(name.is_in(required) & (pl.col("after") == ""))
        .then(pl.lit("required"))
    )
    ruled = cells.lazy().with_columns(rule=rule)
    held = decided.lazy().filter((pl.col("done") == "held") & (pl.col("source") != EMPTIED))
    held = held.select("item", pl.col("field").cast(cells.schema["field"])).unique().with_columns(held=pl.lit(True))
    ruled = ruled.join(held, on=["item", "field"], how="left", maintain_order="left")
    return (
        ruled.with_columns(rule=pl.when(pl.col("held").is_null()).then("rule")).drop("held").collect(engine="in-memory")
    )
