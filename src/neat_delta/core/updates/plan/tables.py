"""The tables of a step: the fewest cells in at most so many files, in import order."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass
from typing import TYPE_CHECKING

import polars as pl

from neat_delta.core.base.model.after import field_after
from neat_delta.core.base.model.importer import REASON
from neat_delta.core.base.model.store import accompanying
from neat_delta.core.base.model.update import ITEM, Table
from neat_delta.core.base.support.series import constant, filtered, gathered, scattered
from neat_delta.core.updates.plan.feasible import kept_rows
from neat_delta.core.updates.plan.grouping import grouped
from neat_delta.core.updates.plan.recoding import carried_with_codes, with_keys
from neat_delta.core.updates.plan.texts import as_file_texts

if TYPE_CHECKING:
    from neat_delta.core.updates.plan.base import PlanContext, Step

__all__ = ["everything", "tables"]


def tables(context: PlanContext, step: Step) -> list[Table]:
    """The tables of a step, in import order, there and back: changes of the items whose codes change, their code
    changes, new items, the other changes, removals.

    An item is changed under the code that it has at the beginning, so that no row finds another item, or makes one,
    where a code change was refused before it.
    """
    cells = as_file_texts(context, context.once(step.cells))
    moving = cells["item"].is_in([move.item for moves in step.moves for move in moves])
    own = _grouped(context, cells.filter(moving), max(context.most - 1, 1))
    others = _grouped(context, cells.filter(~moving), max(context.most - len(own), 1))
    tables_made = [_changing(context, part, cells) for part in own]
    tables_made += _code_tables(context, step)
    if step.added.height:
        tables_made.append(_adding(context, step.added))
    tables_made += [_changing(context, part, cells) for part in others]
    if step.removed.height:
        tables_made.append(_removing(context, step.removed))
    return tables_made


def _code_tables(context: PlanContext, step: Step) -> Iterator[Table]:
    """The tables of code changes, one step after the other: rows with both codes."""
    for moves in step.moves:
        olds = with_keys(context, {move.item: move.old for move in moves})
        items, columns = olds[ITEM], olds.drop(ITEM).to_dict()
        place = context.key.index(context.code_field)
        for name in carried_with_codes(context):
            columns[name] = context.now(name, items, step.cells)
        required = items.len() * (len(columns) - len(context.key))
        columns[context.code_heading] = pl.Series([move.new[place] for move in moves], dtype=pl.String)
        yield Table("recode", _ordered(context, columns), items.len(), required)


@dataclass(frozen=True, slots=True)
class _Part:
    """The cells that one table tells, and its fields."""

    cells: pl.DataFrame
    fields: list[str]


def _grouped(context: PlanContext, cells: pl.DataFrame, most: int) -> list[_Part]:
    """The cells of each table, in at most so many tables, and the fields that it has."""
    if not cells.height:
        return []
    here = set(cells["field"].unique())
    names = [name for name in context.live.fields if name in here]
    if not context.filled or context.importer.headings or len(names) == 1:
        return [_Part(cells, names)]
    kind = pl.Enum(names)
    places = cells.select("item", place=pl.col("field").cast(kind).to_physical().cast(pl.Int64)).sort("item", "place")
    sets = places.group_by("item", maintain_order=True).agg("place").group_by("place").agg(pl.col("item"))
    sets = sets.sort("place")
    always = {place for place, name in enumerate(names) if name in context.importer.carries}
    separate = set(range(len(names))) if context.changes.header.shared else set()
    never_carried = context.never
    never = {place for place, name in enumerate(names) if name in never_carried} | separate
    fields_of = [frozenset(place_list) for place_list in sets["place"].to_list()]
    free = [fields_there - always for fields_there in fields_of]
    if len(set(free)) < len(free) or not all(free):  # they differ only in what every row has anyway
        free, always = fields_of, set()
    for place, name in enumerate(names) if len(free) > 1 else ():
        if not context.fit(context.now(name, cells["item"].unique(), cells)).all():
            never.add(place)  # what the files cannot hold is not carried
    groups = grouped(
        free, sets["item"].list.len().to_list(), most, context.file_cost, frozenset(never - always),
        split=not (context.importer.columns or accompanying(context.changes.header.settings)),
    )  # fmt: skip
    if len(groups) == 1:
        return [_Part(cells, names)]
    placed: set[int] = set()
    items = sets.with_row_index("set")[["set", "item"]].explode("item")
    parts = []
    for group in groups:
        fields, rows = set(group.fields), list[tuple[int, str]]()
        for place, part in group.parts.items():
            more = fields_of[place] & always if place not in placed else frozenset[int]()
            placed.add(place)
            fields |= more
            rows += [(place, names[field]) for field in part | more]
        table = pl.DataFrame(rows, schema={"set": pl.UInt32, "field": pl.String}, orient="row")
        part_cells = cells.join(items.join(table, on="set"), on=["item", "field"], how="semi", maintain_order="left")
        parts.append(_Part(part_cells, [names[place] for place in sorted(fields)]))
    return parts


def _changing(context: PlanContext, part: _Part, every: pl.DataFrame) -> Table:
    """A table of known items: their keys, the fields, and what every row must have; `every` are the cells of all
    tables, as what is carried along is as the item will be.
    """
    importer, cells, fields = context.importer, part.cells, part.fields
    rows = cells["item"].unique().sort()
    at = cells.join(pl.DataFrame({"item": rows}).with_row_index("row"), on="item", how="left", maintain_order="left")
    by_field = {str(name): filtered(at, at["field"] == name) for name in at["field"].unique()}
    filled = context.filled
    wanted = {*fields, *importer.carries, *(set(importer.headings) - set(context.key))} & set(context.live.fields)
    columns: dict[str, pl.Series] = {name: gathered(context.keys[name], rows) for name in context.key}
    required = carried = 0
    for name in context.live.fields:
        if name not in wanted or name in context.key:
            continue
        must = name in importer.carries or (filled and name in importer.headings)
        if must or filled:
            column = context.now(name, rows, every)
            extra = rows.len() - (by_field[name].height if name in by_field else 0)
            required, carried = required + must * extra, carried + (not must) * extra
        else:
            column = constant(None, rows.len(), pl.String)
        if name in by_field:
            column = scattered(column, by_field[name]["row"], by_field[name]["said"])
        columns[name] = column
    carried_with_codes = [name for name in importer.adjusted if name in by_field]
    if carried_with_codes and importer.with_adjusted:
        as_file_texts = pl.concat([by_field[name]["row"] for name in carried_with_codes]).unique()
        for name, text in importer.with_adjusted.items():
            none = constant(None, rows.len(), pl.String)
            columns[name] = scattered(none, as_file_texts, text)
            required += as_file_texts.len()

    def as_it_will_be(name: str) -> pl.Series:
        return gathered(context.keys[name], rows) if name in context.key else context.now(name, rows, every)

    required += _add_output_columns(context, columns, as_it_will_be, rows.len())
    return Table("change", _ordered(context, columns), cells.height, required, carried)


def _add_output_columns(
    context: PlanContext, columns: dict[str, pl.Series], of: Callable[[str], pl.Series], height: int
) -> int:
    """Add the importer's columns that are no fields, if it has any (`plan.columns`). How many cells."""
    if not context.importer.columns:
        return 0
    from neat_delta.core.updates.plan.columns import output_columns  # and the parser of expressions

    columns.update(output_columns(context, of, height))
    return height * len(context.importer.columns)


def _adding(context: PlanContext, added: pl.DataFrame) -> Table:
    """A table of new items: every field that one of them has something in."""
    filled = added.select((pl.col(context.live.fields) != "").sum()).row(0, named=True)
    names = [name for name in context.live.fields if filled[name] or name in context.key]
    cells = added.select(pl.col(name).replace("", None) for name in names)
    changed = sum(filled[name] for name in names if name not in context.key)
    columns = {name: cells[name] for name in names}
    required = _add_output_columns(context, columns, lambda name: added[name], added.height)
    return Table("add", _ordered(context, columns), changed, required)


def _removing(context: PlanContext, removed: pl.DataFrame) -> Table:
    """A table of items that go away, in the way the importer is told."""
    items = removed[ITEM]
    columns = removed.select(context.key).to_dict()
    removal, required = context.importer.removal, 0
    if removal.how == "flag" and not context.patches:
        for name in context.importer.carries:
            columns[name] = context.now(name, items)
            required += items.len()
        columns[str(removal.heading)] = constant(str(removal.value), items.len())
        columns = dict(_ordered(context, columns).to_dict())
    cells = pl.DataFrame(columns)
    if context.changes.header.shared:
        cells = cells.unique(context.key, keep="first", maintain_order=True)
    return Table("remove", cells, cells.height if removal.how == "flag" and not context.patches else 0, required)


def _ordered(context: PlanContext, columns: dict[str, pl.Series]) -> pl.DataFrame:
    """Columns in live's order, then those that are no fields; or in the order of the importer's own headings."""
    names = [name for name in context.live.fields if name in columns]
    names += [name for name in columns if name not in names]
    if context.importer.headings:
        height = next(iter(columns.values())).len()
        for name in context.importer.headings:
            if name not in columns:
                columns[name] = constant(None, height, pl.String)
        names = context.importer.headings
    return pl.DataFrame({name: columns[name] for name in names})


def everything(context: PlanContext, step: Step) -> list[Table]:
    """One table of the whole catalogue as a step leaves it, in the fields that change or that new items have."""
    stays = kept_rows(context, step)
    texts = as_file_texts(context, step.cells)
    new = step.added.select((pl.col(context.live.fields).str.strip_chars() != "").any()).row(0, named=True)
    here = set(texts["field"].unique()) | set(context.importer.carries) | {name for name, has in new.items() if has}
    names = [name for name in context.live.fields if name in here or name in context.key]
    filled = context.filled
    place = pl.DataFrame({"item": pl.int_range(context.places.len(), eager=True), "place": context.places})
    row = pl.DataFrame({"place": stays}).with_row_index("row")
    rows = place.join(row, on="place", how="inner")
    columns, changed, required, carried = {}, 0, 0, 0
    for name in names:
        must = name in context.importer.carries
        if name in context.key or must or filled:
            column = context.live.at(name, stays)
        else:
            column = constant(None, stays.len(), pl.String)
        field_cells = filtered(texts, texts["field"] == name).join(rows, on="item", how="inner")
        column = scattered(column, field_cells["row"], field_cells["said"])
        changed += field_cells.height
        if name not in context.key and (must or filled):
            required += must * (stays.len() - field_cells.height)
            carried += (not must) * (stays.len() - field_cells.height)
        more = step.added[name]
        if name not in context.key:
            changed += int((more != "").sum())
        columns[name] = pl.concat([column, more if name in context.key else more.replace("", None)])
    height = stays.len() + step.added.height
    required += _add_output_columns(
        context, columns, lambda name: _column_after(context, step, stays, rows, name), height
    )
    if REASON in context.importer.columns and context.importer.columns[REASON].expression is None:
        rows_changed = texts.join(rows, on="item", how="inner")["row"].unique()
        column = constant(None, height, pl.String)
        news = pl.int_range(stays.len(), height, eager=True)
        changing = pl.concat([rows_changed.cast(pl.Int64), news])
        columns[REASON] = scattered(column, changing, context.importer.columns[REASON].text or "")
        required -= height - changing.len()
    return (
        [Table("change", _ordered(context, columns), changed, required, carried)]
        if changed or step.removed.height or step.added.height
        else []
    )


def _column_after(context: PlanContext, step: Step, stays: pl.Series, rows: pl.DataFrame, name: str) -> pl.Series:
    """A field of the whole catalogue as a step leaves it."""
    cells = filtered(step.cells, step.cells["field"] == name).join(rows, on="item", how="inner")
    column = field_after(context.live.at(name, stays), cells.select("after", item="row"))
    return pl.concat([column, step.added[name]])
