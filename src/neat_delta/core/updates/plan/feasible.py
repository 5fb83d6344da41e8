"""What is asked for, and what of it one importer can take: everything else is listed with its reason."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import replace
from typing import Any

import polars as pl

from neat_delta.core.base.kinds import blank
from neat_delta.core.base.model.after import Requested, field_after, requested, reverse
from neat_delta.core.base.model.schemas import NOT_SENT, conform, empty
from neat_delta.core.base.model.update import ITEM
from neat_delta.core.base.support.series import constant, filtered, gathered, not_null, scattered
from neat_delta.core.updates.plan.base import PlanContext, Step
from neat_delta.core.updates.plan.texts import unwritable_cells

__all__ = [
    "feasible_step",
    "kept_rows",
    "refused_additions",
    "refused_removals",
    "requested_step",
    "step_back",
    "whole_rows",
    "with_live_keys",
    "with_reasons",
]

CANNOT_EMPTY = "the importer skips blanks, so it cannot empty a field"
CANNOT_REMOVE = "the importer cannot remove an item"
CANNOT_TELL_APART = "items with the same key had different values before"
CANNOT_ADD = "the importer takes updates only, so it cannot add an item"
CANNOT_CHANGE = "the importer takes new items only, so it cannot change one"
CANNOT_ADJUST = "the importer takes a difference here, and these are not two plain numbers"
CANNOT_MARK = "the importer adds and takes away values here, and that does not give this list"
CANNOT_SAY = "the text is the importer's own mark for something else"
CANNOT_NAME = "the importer's files have no heading for it"
CANNOT_WRITE = "the importer's files cannot hold this text"
CANNOT_FILL = "the importer wants a value in every row, and it is blank: "
CANNOT_ALL = "the importer wants the whole catalogue in one file"
CANNOT_RESTORE = "what stood there before is in no export, so it is not known"
CANNOT_NEED = "the importer wants more of a new item: "


def requested_step(context: PlanContext) -> Step:
    """All that is not held."""
    wanted = requested(context.changes, context.live, context.importer.removal)
    added = wanted.added
    for name, text in context.importer.defaults.items():
        if name in context.live.fields:
            held = context.changes.cells.filter((pl.col("field") == name) & pl.col("held").is_not_null())["item"]
            fill = blank(pl.col(name)) & ~pl.col(ITEM).is_in(held.implode())
            added = added.with_columns(pl.when(fill).then(pl.lit(text)).otherwise(name).alias(name))
    return Step(wanted.cells, parents_first(context, added), with_live_keys(context, wanted.removed))


def with_live_keys(context: PlanContext, items: pl.Series) -> pl.DataFrame:
    """These items with their keys as live has them."""
    return pl.DataFrame({ITEM: items, **{name: gathered(context.changes.keys[name], items) for name in context.key}})


def whole_rows(context: PlanContext, items: pl.Series, cells: pl.DataFrame | None = None) -> pl.DataFrame:
    """Known items with all that live has of them, once the cells are changed."""
    return pl.DataFrame({ITEM: items, **{name: context.now(name, items, cells) for name in context.live.fields}})


def parents_first(context: PlanContext, added: pl.DataFrame) -> pl.DataFrame:
    """New items that others refer to before those."""
    names = [name for name, field in context.changes.header.settings.items() if field.refers and name in added.columns]
    if len(context.key) != 1 or not names or added.height < 2:
        return added
    keys = added[context.key[0]].to_list()
    places = {key: place for place, key in enumerate(keys)}
    wanted = [[places[text] for text in row if text in places] for row in added.select(names).rows()]
    order: dict[int, None] = {}
    for start in range(len(keys)):
        path = [start]
        while path:
            ahead = [item for item in wanted[path[-1]] if item not in order and item not in path]
            if ahead:
                path.append(ahead[0])
            else:
                order.setdefault(path.pop())
    return gathered(added, list(order))


def step_back(context: PlanContext, step: Step) -> Step:
    """The way back."""
    forth = Requested(step.cells, step.added, step.removed[ITEM])
    back = reverse(forth, context.live, context.places)
    moves = tuple(
        [type(move)(move.item, move.new, move.old) for move in step_moves] for step_moves in reversed(step.moves)
    )
    removed = step.added.select(ITEM, *context.key)
    return Step(back.cells, back.added, removed, moves, back=True, absent=forth.removed)


def feasible_step(context: PlanContext, step: Step) -> tuple[Step, pl.DataFrame]:
    """What of it the importer can take, and what it cannot: item, field (null for all of it), reason."""
    why = _why_not(context, step.cells, back=step.back)
    lists = [with_reasons(step.cells.with_columns(reason=why))]
    cells = step.cells.filter(why.is_null())
    lacking = _lacking(context, cells)
    lists.append(with_reasons(cells.join(lacking, on="item", how="inner", maintain_order="left")))
    if lacking.height:
        cells = cells.join(lacking, on="item", how="anti", maintain_order="left")
    no = pl.concat([refused_additions(context, step.added), refused_removals(context, step.removed)]).unique(
        "item", maintain_order=True
    )
    lists.append(with_reasons(no.with_columns(field=pl.lit(None, pl.String))))
    # Neither half of what would be made anew, nor a retirement.
    anew = no["item"].filter(not_null(gathered(context.places, no["item"])))
    torn = cells.filter(cells["item"].is_in(anew.implode()))
    lists.append(with_reasons(torn.join(no, on="item", how="inner", maintain_order="left")))
    cells = cells.filter(~cells["item"].is_in(anew.implode()))
    added, removed = (rows.filter(~rows[ITEM].is_in(no["item"].implode())) for rows in (step.added, step.removed))
    kept = replace(step, cells=cells, added=added, removed=removed)
    if context.whole_catalogue and context.filled:
        kept, unfit = _without_unfit_columns(context, kept)
        lists.append(unfit)
    blocked = _why_no_catalogue(context, kept) if context.whole_catalogue else None
    if blocked is not None:
        lists += [_all_of(rows, blocked) for rows in (kept.cells, kept.added, kept.removed)]
        kept = replace(step, cells=kept.cells.clear(), added=kept.added.clear(), removed=kept.removed.clear())
    return kept, pl.concat(lists).unique(["item", "field"], keep="first", maintain_order=True).sort(
        "item", maintain_order=True
    )


def kept_rows(context: PlanContext, step: Step) -> pl.Series:
    """The places in live of the items that a file of the whole catalogue has as live has them, or with their cells
    changed: all but those that go, are made anew, or are not there.
    """
    places = pl.int_range(context.live.height, eager=True)
    for items in (step.removed[ITEM], step.added[ITEM], step.absent):
        places = places.filter(~places.is_in(gathered(context.places, items).drop_nulls().implode()))
    return places


def _why_no_catalogue(context: PlanContext, step: Step) -> str | None:
    """Why no file of the whole catalogue can be written, as an item that stays has not what every row must have."""
    stays = kept_rows(context, step)

    def after(name: str) -> pl.Series:
        """A field of the items that stay, as it will be."""
        cells = filtered(step.cells, step.cells["field"] == name)
        at = cells.select(gathered(context.places, cells["item"]).alias("item"), "after").drop_nulls("item")
        return gathered(field_after(context.live.column(name), at), stays)

    for name in (*context.key, *context.importer.carries):
        texts = after(name)
        if name not in context.key and (texts.str.strip_chars() == "").any():
            return f"{CANNOT_ALL}: {name} of another item is blank"
        if not context.fit(texts).all() or (
            name not in context.key and (texts == (context.importer.empties or "")).any()
        ):
            return f"{CANNOT_ALL}: {name} of another item cannot be written"

    for name, texts in _output_columns(context, after, stays.len()):
        if not context.fit(texts).all():
            return f"{CANNOT_ALL}: {name} of another item cannot be written"
    return None


def _without_unfit_columns(context: PlanContext, step: Step) -> tuple[Step, pl.DataFrame]:
    """The step without the fields that a file of the whole catalogue cannot have, as it cannot hold the text of an item
    that stays; and what is held for that.
    """
    stays, held = kept_rows(context, step), [empty(NOT_SENT)]
    for name in context.live.fields:
        field_cells = filtered(step.cells, step.cells["field"] == name)
        new = step.added.filter(pl.col(name).str.strip_chars() != "")
        if (
            name in context.key
            or not (field_cells.height or new.height)
            or context.fit(context.live.at(name, stays)).all()
        ):
            continue
        why = f"{CANNOT_ALL}: {name} of another item cannot be written"
        held += [_all_of(field_cells, why), _all_of(new, why)]
        step = replace(step, cells=filtered(step.cells, step.cells["field"] != name),
                       added=step.added.filter(~pl.col(ITEM).is_in(new[ITEM].implode())))  # fmt: skip
    return step, pl.concat(held)


def _all_of(items: pl.DataFrame, why: str) -> pl.DataFrame:
    """All of these cells, or of these items as a whole, with one reason."""
    field = pl.col("field").cast(pl.String) if "field" in items.columns else pl.lit(None, pl.String)
    item = "item" if "item" in items.columns else ITEM
    return with_reasons(items.select(item=pl.col(item), field=field, reason=pl.lit(why)))


def with_reasons(cells: pl.DataFrame) -> pl.DataFrame:
    """The items and fields of these cells that have a reason."""
    return conform(cells, NOT_SENT).filter(pl.col("reason").is_not_null())


def _why_not(context: PlanContext, cells: pl.DataFrame, *, back: bool) -> pl.Series:
    """Per cell why the importer cannot take it; null where it can."""
    importer, field = context.importer, pl.col("field")
    emptied = blank(pl.col("after"))
    unseen = context.changes.header.unseen if back else []
    whens: Any = pl.when(field.is_in(unseen)).then(pl.lit(CANNOT_RESTORE))
    whens = whens.when(importer.takes == "additions").then(pl.lit(CANNOT_CHANGE))
    if not context.clears and not context.patches:  # a mark leaves nothing, where white space may have been
        whens = whens.when(emptied if importer.empties is None else emptied & (pl.col("after") != "")).then(
            pl.lit(CANNOT_EMPTY)
        )
    if importer.empties is not None:
        whens = whens.when(pl.col("after") == importer.empties).then(pl.lit(CANNOT_SAY))
    if importer.headings:
        whens = whens.when(~field.is_in(importer.headings)).then(pl.lit(CANNOT_NAME))
    if context.whole_catalogue and context.filled:
        whens = whens.when(field.is_in(list(context.never))).then(pl.lit(CANNOT_FILL + "a field that is never carried"))
    why = cells.with_columns(why=whens.otherwise(None))["why"]
    for as_difference, reason in ((True, CANNOT_ADJUST), (False, CANNOT_MARK)):
        why = scattered(why, unwritable_cells(context, cells, as_difference=as_difference), reason)
    why = _with_reason(why, ~context.fit(cells["after"]), CANNOT_WRITE)
    if context.changes.header.shared:
        of_twins = cells["field"].is_in([*importer.adjusted, *context.marked]) | back
        why = _with_reason(why, of_twins & ~context.uniform(cells, back=back), CANNOT_TELL_APART)
    return why


def _lacking(context: PlanContext, cells: pl.DataFrame) -> pl.DataFrame:
    """The items of these cells that are blank in a field that every row must have."""
    items = cells["item"].unique().sort()
    lacks = constant(None, items.len(), pl.String)
    for name in context.everywhere:
        now = context.now(name, items, cells)
        if name in context.importer.carries:
            lacks = _with_reason(lacks, now.str.strip_chars() == "", CANNOT_FILL + name)
        lacks = _with_reason(lacks, ~context.fit(now), f"{CANNOT_WRITE}: {name}")
        if context.importer.empties is not None:
            lacks = _with_reason(lacks, now == context.importer.empties, f"{CANNOT_SAY}: {name}")
    for name in context.key:
        lacks = _with_reason(lacks, ~context.fit(gathered(context.keys[name], items)), f"{CANNOT_WRITE}: {name}")
    for name, texts in _output_columns(context, lambda field: context.now(field, items, cells), items.len()):
        lacks = _with_reason(lacks, ~context.fit(texts), f"{CANNOT_WRITE}: {name}")
    return pl.DataFrame({"item": items, "reason": lacks}).filter(pl.col("reason").is_not_null())


def refused_additions(context: PlanContext, added: pl.DataFrame) -> pl.DataFrame:
    """The items that cannot be added, and why."""
    importer = context.importer
    if not added.height:
        return pl.DataFrame(schema={"item": pl.Int64, "reason": pl.String})
    why = constant(CANNOT_ADD if importer.takes == "updates" else None, added.height, pl.String)
    for name in dict.fromkeys((*importer.needs, *importer.carries)):
        if name in added.columns:
            why = _with_reason(why, added[name].str.strip_chars() == "", CANNOT_NEED + name)
    for name in added.columns[1:]:
        texts = added[name]
        mark = importer.empties if name not in context.key else None
        wrong = ~context.fit(texts)
        if mark:
            wrong |= texts == mark
        if not context.clears and not context.patches:  # white space alone is skipped like any blank
            wrong |= (texts.str.strip_chars() == "") & (texts != "")
        if importer.headings and name not in importer.headings:
            wrong |= texts.str.strip_chars() != ""
        why = _with_reason(why, wrong, f"{CANNOT_WRITE}: {name}")
    for name, texts in _output_columns(context, lambda field: added[field], added.height):
        why = _with_reason(why, ~context.fit(texts), f"{CANNOT_WRITE}: {name}")
    return pl.DataFrame({"item": added[ITEM], "reason": why}).filter(pl.col("reason").is_not_null())


def _with_reason(why: pl.Series, wrong: pl.Series, reason: str) -> pl.Series:
    """The reasons why each cannot be taken, with this one where it is wrong and there is none yet."""
    return why.set(wrong & why.is_null(), reason) if wrong.any() else why


def _output_columns(
    context: PlanContext, of: Callable[[str], pl.Series], height: int
) -> Iterable[tuple[str, pl.Series]]:
    """The importer's columns that are no fields, if it has any, for so many items of which `of` gives the fields."""
    if not context.importer.columns or not height:
        return []
    from neat_delta.core.updates.plan.columns import output_columns  # and the parser of expressions

    return output_columns(context, of, height).items()


def refused_removals(context: PlanContext, removed: pl.DataFrame) -> pl.DataFrame:
    """The items that cannot be removed, and why."""
    importer, items = context.importer, removed[ITEM]
    how = importer.removal.how
    can = (
        how == "row" or (how == "flag" and importer.takes != "additions") or context.patches or context.whole_catalogue
    )
    why = constant(None if can else CANNOT_REMOVE, items.len(), pl.String)
    for name in importer.carries if how == "flag" else ():
        now = context.now(name, items)
        why = why.set((now.str.strip_chars() == "") & why.is_null(), CANNOT_FILL + name)
        why = why.set(
            (~context.fit(now) | (now == (importer.empties or ""))) & why.is_null(), f"{CANNOT_WRITE}: {name}"
        )
    for name in context.key:
        why = why.set(~context.fit(removed[name]) & why.is_null(), f"{CANNOT_WRITE}: {name}")
    return pl.DataFrame({"item": items, "reason": why}).filter(pl.col("reason").is_not_null())
