"""Three sides: what the sheet changed since the base, against what the store changed since.

Rule: nothing of ours where the sheet is as the base; sent where only the sheet changed; already so where both changed
to the same; else a clash, unless both only added to a list of values or took from it.
"""

from __future__ import annotations

from collections.abc import Callable, Collection, Mapping
from dataclasses import dataclass
from decimal import Decimal
from typing import TYPE_CHECKING

import polars as pl

from neat_delta.core.base.kinds import KINDS
from neat_delta.core.base.kinds.base import EXACT
from neat_delta.core.base.kinds.notation import affixes
from neat_delta.core.base.kinds.number import marks
from neat_delta.core.base.model.reasons import CHANGED_TOO, LEFT_STORE, NEW_TOO, STILL_CHANGED, SWAPPED
from neat_delta.core.base.model.schemas import CELL_FINDINGS, MEANWHILE_SCHEMA, TEXTS, conform, empty, stopping
from neat_delta.core.base.model.store import Field
from neat_delta.core.base.support.distinct import deduplicate
from neat_delta.core.base.support.series import constant, gathered, scattered, true_places
from neat_delta.core.compare.diff.equality import equal
from neat_delta.core.compare.diff.outcomes import Outcomes
from neat_delta.core.sheets.match.keys import stripped

if TYPE_CHECKING:
    from neat_delta.core.base.model.catalogue import Catalogue
    from neat_delta.core.base.model.layout import Notation
    from neat_delta.core.sheets.match.base import Based
    from neat_delta.core.sheets.match.rows import Matched

__all__ = ["Merged", "ThreeSides", "against_live", "carried_over", "merged_list", "whole_round"]


@dataclass(frozen=True, slots=True)
class Merged:
    """The cells that differ from the base, as changes of live (`deltas`); the `findings` that were made of them before,
    by their new cells and items, and those of clashes; what only the store changed (`MEANWHILE_SCHEMA`).

    `deltas` has `base` (the text there; null where it is as before, or there is none), `added` (live's number with the
    sheet's difference; null where there is none) and `apart`: that a cell is no change for another reason than its
    writing. `departed` are the sheet's new rows that are as they were cut, and gone from the store since.
    """

    deltas: pl.DataFrame
    findings: pl.DataFrame
    meanwhile: pl.DataFrame
    departed: pl.Series
    already: int
    merged: int


@dataclass(frozen=True, slots=True)
class ThreeSides:
    """The base with its rows (`based`), `live`, and the `sheet`; `matched` are the rows of live and sheet, `fields` and
    `writing` what is known of the store, and `outcomes_of` gives the outcomes of texts that differ (`TEXTS`).
    """

    based: Based
    live: Catalogue
    sheet: Catalogue
    matched: Matched
    fields: Mapping[str, Field]
    writing: Notation
    outcomes_of: Callable[[pl.DataFrame], Outcomes]

    def same(self, names: pl.Series, first: pl.Series, other: pl.Series) -> pl.Series:
        """Per cell whether two texts of its field are one value."""
        same = constant(False, names.len())
        for name in names.unique(maintain_order=True):
            at, field = true_places(names == name), self.fields.get(name, Field())
            same = scattered(same, at, equal(gathered(first, at), gathered(other, at), field, self.writing))
        return same

    def outcomes(self, texts: pl.DataFrame) -> pl.DataFrame:
        """The outcome of each of the cells (`field`, `before`, `after`)."""
        turned = self.outcomes_of(conform(texts, TEXTS))
        return turned.distinct.expand(turned.table)


def against_live(
    deltas: pl.DataFrame,
    findings: pl.DataFrame,
    sides: ThreeSides,
    changed_by_store: pl.DataFrame,
    *,
    adding: Collection[str],
    is_whole: bool,
) -> Merged:
    """Hold the cells that differ between base and sheet against live (`deltas`, their `pair` and `new` being rows of
    `sides.based`). `changed_by_store` are the texts that differ between base and live (their pairs are
    `based.store`'s); of the fields `adding` the difference is worked out; `is_whole` says that the sheet is meant to
    have every item.
    """
    based, matched, live = sides.based, sides.matched, sides.live
    columns = [*deltas.columns, "base", "added"]
    pair = gathered(based.pair, deltas["pair"])
    new = gathered(based.new, deltas["pair"])
    new = new.zip_with(new.is_not_null(), gathered(based.new_rows, deltas["new"]).cast(pl.UInt32))
    place = gathered(matched.pairs["live"], pair)
    now = live.texts(deltas["field"], place)
    in_live, changed = pair.is_not_null(), ~deltas["same"]
    arrived = gathered(based.arrived, deltas["pair"]).fill_null(value=False)
    theirs = (now != deltas["before"]).fill_null(value=False)
    gone = ~in_live & deltas["pair"].is_not_null()
    left = based.new.filter(based.pair.is_null())  # the sheet's rows that are gone from the store
    ours = new.filter(gone & changed).unique()
    base = deltas["before"].set(~theirs, None)
    table = deltas.with_columns(
        pair=pair,
        new=new,
        base=base,
        before=now.zip_with(in_live, constant(None, now.len(), pl.String)),
        item=place.cast(pl.Int64).zip_with(in_live, new.cast(pl.Int64) + live.height),
        added=pl.lit(None, pl.String),
        apart=gone,
        same=deltas["same"] | gone,
    )
    # What both changed is looked at anew, as a change of what stands in the store now.
    at = true_places(changed & theirs)
    clashing, counts = at.clear(), {"already": 0, "merged": 0}
    if at.len():
        table, clashing, counts = _both_changed(table, at, sides, adding)
    new_too = pl.DataFrame({"cell": true_places(arrived & ~table["same"]), "reason": NEW_TOO})
    parts = [table.select(columns)]
    if ours.len():
        parts.append(_whole_items(ours, sides, table).select(columns))
    whole_table = pl.concat(parts) if len(parts) > 1 else parts[0]
    both_changed = pl.DataFrame({"cell": clashing, "reason": CHANGED_TOO})
    cells = pl.concat([conform(part, CELLS) for part in (both_changed, new_too)])
    finding_columns = [
        _again(findings, table, whole_table, table.height),
        _clashes(cells, whole_table),
        _items(ours.cast(pl.Int64).sort() + live.height, LEFT_STORE),
    ]
    meanwhile = _meanwhile(changed_by_store, sides, table)
    if is_whole:
        leaving = matched.gone.cast(pl.Int64)
        finding_columns.append(_items(leaving.filter(_changed_since(sides)), STILL_CHANGED))
    if sides.sheet.origin is None and counts["already"] > meanwhile.height:  # else the sheet itself names its base
        finding_columns.append(whole_round("swapped", SWAPPED))
    departed = left.filter(~left.is_in(ours.implode())).sort()
    meanwhile = pl.concat([meanwhile, _departed(sides.sheet, matched, departed)])
    return Merged(whole_table, pl.concat(finding_columns), meanwhile, departed, counts["already"], counts["merged"])


CELLS = {"cell": pl.UInt32, "reason": pl.String}


def _both_changed(
    table: pl.DataFrame, at: pl.Series, sides: ThreeSides, adding: Collection[str]
) -> tuple[pl.DataFrame, pl.Series, dict[str, int]]:
    """The cells at these places, whose text both sides changed, with what becomes of them; which of them clash; and how
    many are already so, or lists of which both changes are sent.
    """
    some = table[at][["field", "before", "base", "raw"]]
    turned = sides.outcomes(some.select("field", "before", after="raw"))
    after = turned["after"]
    kept = sides.same(some["field"], some["base"], some["before"])
    already = turned["same"] | (after == some["before"]) | sides.same(some["field"], after, some["before"])
    already &= ~(kept & ~turned["same"] & (after != some["before"]))
    clash = true_places(~already & ~kept)
    names = gathered(some["field"], clash)
    sums, merged, clashing = constant(None, after.len(), pl.String), 0, [clash.clear()]
    for name in names.unique(maintain_order=True):
        of, field = clash.filter(names == name), sides.fields.get(name, Field())
        cells = some[of]
        if field.kind == "list":
            rows = cells[["base", "before", "raw"]].iter_rows()
            texts = [_merged_steps(base, now, raw, field) for base, now, raw in rows]
            together = pl.Series(texts, dtype=pl.String)
            fits, is_live = together.is_not_null(), (together == cells["before"]).fill_null(value=False)
            after = scattered(after, of.filter(fits), together.filter(fits))
            already = scattered(already, of.filter(is_live), True)
            merged += int((fits & ~is_live).sum())
            of = of.filter(~fits)
        elif name in adding:
            steps = cells["raw"].str.contains(r"^\s*\+")  # what is typed so is a difference by itself
            carried = carried_over(
                cells["base"].set(steps, "0"), cells["before"], gathered(after, of), field, sides.writing
            )
            sums = scattered(sums, of, carried)
        clashing.append(of)
    settled = already | turned["same"]
    where = at.cast(pl.UInt32)
    table = table.with_columns(
        after=scattered(table["after"], where, after),
        unread=scattered(table["unread"], where, turned["unread"]),
        nothing=scattered(table["nothing"], where, turned["nothing"]),
        same=scattered(table["same"], where, settled),
        apart=scattered(table["apart"], where, settled),
        added=scattered(table["added"], where, sums),
    )
    return table, gathered(at, pl.concat(clashing).sort()), {"already": int(settled.sum()), "merged": merged}


def _whole_items(rows: pl.Series, sides: ThreeSides, table: pl.DataFrame) -> pl.DataFrame:
    """All cells of the sheet's rows that the store has no item for any more: what would be an item again."""
    based, matched = sides.based, sides.matched
    rows = rows.sort()
    at = pl.DataFrame({"new": rows.cast(pl.UInt32), "place": gathered(matched.new, rows)})
    by_row = pl.DataFrame({"new": based.new, "of": based.matched.pairs["live"]}).filter(pl.col("new").is_not_null())
    at = at.join(by_row, on="new", how="left", maintain_order="left")
    parts = []
    for name in matched.fields:
        after, old = sides.sheet.at(name, at["place"]), based.base.at(name, at["of"])
        parts.append(at.select("new", field=pl.lit(name)).with_columns(after=after, base=old))
    cells = pl.concat(parts).with_columns(before=pl.lit(None, pl.String))
    turned = sides.outcomes(cells)
    of_items = cells[["new", "base"]].hstack(turned)
    item = of_items["new"].cast(pl.Int64) + sides.live.height
    return conform(of_items.with_columns(item=item, apart=pl.lit(value=False)), table.schema)


def _again(findings: pl.DataFrame, table: pl.DataFrame, of_items: pl.DataFrame, many: int) -> pl.DataFrame:
    """The findings of cells by their items in live, without those of cells that are no change any more; those of a row
    that is gone from the store are about its cell in the item that would come again.
    """
    if not findings.height:
        return findings
    cell = findings["cell"]
    if of_items.height > many:
        later = of_items.slice(many).with_row_index("to").select("item", "field", pl.col("to") + many)
        cells = gathered(table[["item", "field"]].with_row_index("cell"), cell.unique())
        cells = cells.join(later, on=["item", "field"], how="inner").select("cell", pl.col("to").cast(pl.UInt32))
        met = findings.join(cells, on="cell", how="left", maintain_order="left")
        cell = met["to"].zip_with(met["to"].is_not_null(), cell)
    stays = ~gathered(of_items["same"], cell)
    return findings.with_columns(cell=cell, item=gathered(of_items["item"], cell)).filter(stays)


def _clashes(cells: pl.DataFrame, table: pl.DataFrame) -> pl.DataFrame:
    """The findings of cells that clash: what is "mendable" is a number to which the difference can be added."""
    of = gathered(table.select("item", "field", mendable=pl.col("added").is_not_null()), cells["cell"])
    return stopping(cells.hstack(of), "clash").with_columns(cell=cells["cell"])


def _items(items: pl.Series, reason: str) -> pl.DataFrame:
    """The findings of whole items that clash."""
    items_held = pl.DataFrame({"item": items}).with_columns(reason=pl.lit(reason))
    return conform(stopping(items_held, "clash"), CELL_FINDINGS)


def whole_round(source: str, reason: str) -> pl.DataFrame:
    """A finding of the whole round."""
    return conform(stopping(pl.DataFrame({"reason": [reason]}), source), CELL_FINDINGS)


def _meanwhile(texts: pl.DataFrame, sides: ThreeSides, table: pl.DataFrame) -> pl.DataFrame:
    """What the store changed in the sheet's items and fields, and the sheet did not."""
    if not texts.height:
        return empty(MEANWHILE_SCHEMA)
    based, matched, live = sides.based, sides.matched, sides.live
    distinct = deduplicate(texts[["field", "before", "after"]])
    distinct_rows = distinct.rows
    same = sides.same(*distinct_rows[["field", "before", "after"]]).alias("same").to_frame()
    texts = texts.filter(~distinct.expand(same)["same"])
    texts = texts.with_columns(pair=gathered(based.store_pair, texts["pair"]))
    ours = table.filter(~pl.col("same") | pl.col("apart"))[["pair", "field"]]
    texts = texts.join(ours, on=["pair", "field"], how="anti", maintain_order="left")
    places = gathered(matched.pairs["live"], texts["pair"])
    keys = gathered(stripped(live, matched.keys["live"].key), places).select(pl.concat_list(pl.all())).to_series()
    listed = pl.DataFrame(
        {"key": keys, "field": texts["field"], "row": live.row(places), "base": texts["before"], "live": texts["after"]}
    )
    order = pl.col("field").cast(pl.Enum(matched.fields))
    return conform(listed.sort("row", order, maintain_order=True), MEANWHILE_SCHEMA)


def _departed(sheet: Catalogue, matched: Matched, rows: pl.Series) -> pl.DataFrame:
    """The items that the store gave up since, and of which the sheet changed nothing."""
    keys = gathered(stripped(sheet, matched.keys["sheet"].key), gathered(matched.new, rows))
    return conform(keys.select(key=pl.concat_list(pl.all())), MEANWHILE_SCHEMA)


def _changed_since(sides: ThreeSides) -> pl.Series:
    """Per item that the sheet lacks whether the store changed it since the base."""
    based, matched = sides.based, sides.matched
    at = gathered(based.at, matched.gone)
    changed = constant(False, matched.gone.len())
    for name in matched.fields:
        if name not in based.two_way:
            old, now = based.base.at(name, at), sides.live.at(name, matched.gone)
            differs = true_places((old != now).fill_null(value=False))
            if differs.len():
                same = equal(
                    gathered(old, differs), gathered(now, differs), sides.fields.get(name, Field()), sides.writing
                )
                changed = scattered(changed, differs.filter(~same), True)
    return changed


def merged_list(base: str, live: str, sheet: str, field: Field) -> str | None:
    """Live's list of values with what the sheet added to the base and without what it took away; None where the order
    counts, a value stands twice, or the sheet changed nothing but the order.

    >>> merged_list("wax, gift", "wax, gift, sale", "gift, wax, spring", Field("list", separator=","))
    'wax, gift, sale, spring'
    """
    mark = field.separator or ","
    old, now, new = ([part for part in text.split(mark) if part.strip()] for text in (base, live, sheet))
    values = [[part.strip() for part in parts] for parts in (old, now, new)]
    if field.ordered or any(len(set(side)) < len(side) for side in values) or {*values[0]} == {*values[2]}:
        return None
    lost, come = {*values[0]} - {*values[2]}, [part for part in new if part.strip() not in {*values[0], *values[1]}]
    kept = [part for part in now if part.strip() not in lost]
    space = " " if any(part.startswith(" ") for part in now[1:] or new[1:]) else ""
    values_after = kept + [space + part.strip() for part in come]
    return mark.join([values_after[0].strip(), *values_after[1:]]) if values_after else ""


def _merged_steps(base: str, live: str, sheet: str, field: Field) -> str | None:
    """`merged_list`, where the sheet only added values after the first, or took some away; None where it put them in
    another order, or another one first, which a merge would drop.
    """
    mark = field.separator or ","
    old, new = ([part.strip() for part in text.split(mark) if part.strip()] for text in (base, sheet))
    if [value for value in old if value in new] != [value for value in new if value in old]:
        return None
    return merged_list(base, live, sheet, field) if not old or not new or new[0] in old else None


def carried_over(base: pl.Series, live: pl.Series, sheet: pl.Series, field: Field, writing: Notation) -> pl.Series:
    """Live's numbers with the difference between base and sheet added, exactly, as live writes them; null where one of
    the three is no number. All are written as live writes.

    >>> from neat_delta import Field, Notation
    >>> texts = [pl.Series([text]) for text in ("10.00", "8.50", "15.00")]
    >>> carried_over(*texts, Field("money"), Notation(".")).to_list()
    ['13.50']
    """
    kind = KINDS[field.kind]
    values = [kind.read(texts, field, writing) for texts in (base, live, sheet)]
    point, thousands = marks(field, writing)
    written = affixes(live)
    sums = list[str | None]()
    for old, now, new, bare, head, tail in zip(*values, written["bare"], written["head"], written["tail"], strict=True):
        if old is None or now is None or new is None or bare is None:
            sums.append(None)
            continue
        total = EXACT.add(Decimal(now), EXACT.subtract(Decimal(new), Decimal(old)))
        decimals = len(bare.rpartition(point)[2]) if point in bare else 0
        least = max(decimals, field.decimals or 0)
        if -int(total.as_tuple().exponent) < least:
            total = total.quantize(Decimal(1).scaleb(-least), context=EXACT)
        text = f"{abs(total):,f}" if thousands and thousands in bare else f"{abs(total):f}"
        text = text.replace(",", "\0").replace(".", point).replace("\0", thousands)
        sums.append(f"{'-' if total < 0 else ''}{head}{text}{tail}")
    return pl.Series(sums, dtype=pl.String)
