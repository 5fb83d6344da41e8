"""Which items of a change set are looked at, in which order, and by which name; for a person as for a program."""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING

import polars as pl

from neat_delta.core.base.infer.headings import NAME_HEADINGS, plain_heading
from neat_delta.core.base.infer.learn import learn_sample
from neat_delta.core.base.model.after import field_after
from neat_delta.core.base.model.catalogue import MARK, Catalogue
from neat_delta.core.base.model.changeset import ChangeSet, held
from neat_delta.core.base.model.choices import ItemOrder
from neat_delta.core.base.model.header import Header
from neat_delta.core.base.model.reasons import sort_of
from neat_delta.core.base.support.series import constant, filtered, gathered, not_null, scattered
from neat_delta.core.review.figures import amounts
from neat_delta.core.sheets.match.keys import KeyIndex

if TYPE_CHECKING:
    from neat_delta.core.base.query.expressions import Rows

__all__ = ["View", "first", "flagged", "names_of", "rows_of", "view"]


@dataclass(frozen=True, slots=True)
class View:
    """The items to show, as a change set of their own; their names ("" where unknown); how many were found; and their
    numbers in the whole change set.
    """

    changes: ChangeSet
    names: list[str]
    matches: int
    item_numbers: pl.Series


def names_of(changes: ChangeSet, live: Catalogue | None) -> pl.Series:
    """Per item the name that a person knows it by, from live or, for a new item, from its cells; "" where unknown."""
    blanks = constant("", changes.items.height)
    headings = live.fields if live else changes.header.fields
    name_field = changes.header.store.key.name
    field = name_field if name_field in headings else plain_heading(headings, NAME_HEADINGS)
    if field is None:
        return blanks
    if live is not None:
        in_live = changes.items.with_row_index("item").filter(pl.col("live").is_not_null())
        blanks = scattered(blanks, in_live["item"], live.at(field, live.place(in_live["live"])))
    own = changes.cells.filter(pl.col("before").is_null() & (pl.col("field").cast(pl.String) == field))
    return field_after(blanks, own)


def rows_of(changes: ChangeSet, live: Catalogue) -> Rows:
    """The items as a condition sees them: as live has them (`before`), and with every change made, held or not
    (`after`, and plain names). What live has of a new item is blank; an item that is gone stays as it is.
    """
    from neat_delta.core.base.query.expressions import Rows

    items = changes.items.with_row_index("item")
    in_live = filtered(items, not_null(items["live"]))
    places = live.place(in_live["live"])
    before = {
        name: scattered(constant("", items.height), in_live["item"], live.at(name, places)) for name in live.fields
    }
    after = dict(before)
    for (field,), cells in changes.cells.group_by("field"):
        after[str(field)] = field_after(after[str(field)], cells)
    for name in changes.keys.columns:
        new = changes.cells.filter(pl.col("field").cast(pl.String) == name)
        after[name] = field_after(changes.keys[name], new)
    tables = {"before": pl.DataFrame(before), "after": pl.DataFrame(after)}
    settings = changes.header.settings
    if changes.header.learned:  # compare looked at the fields that change, and the condition may ask for others
        rest = learn_sample(live, changes.header.key, [name for name in live.fields if name not in settings])
        settings = rest.fields | settings
    return Rows(tables | {"": tables["after"]}, settings, changes.header.writing)


def flagged(changes: ChangeSet, checks: Collection[str], levels: Collection[str]) -> pl.Series:
    """The numbers of the items in which one of these checks (damage and slip among them), and at one of these levels,
    found something (each: any when empty); `rule` and `rule NAME` stand for what rules computed.
    """
    flags = filtered(changes.flags, not_null(changes.flags["item"]))
    if checks:
        flags = flags.filter(pl.col("check").is_in(list(checks)))
    if levels:
        flags = flags.filter(pl.col("level").is_in(list(levels)))
    items = [flags["item"]]
    if not levels and any(check == "rule" or check.startswith("rule ") for check in checks):
        rule_numbers = [n for n, rule in enumerate(changes.header.rules) if {"rule", f"rule {rule.rule}"} & set(checks)]
        items.append(changes.computed.filter(pl.col("rule").is_in(rule_numbers))["item"])
    if not levels and {"damage", "slip"} & set(checks):
        sorts = {reason: sort_of(reason) for reason in changes.cells["held"].drop_nulls().unique()}
        reasons = [reason for reason, sort in sorts.items() if sort in checks]
        items.append(changes.cells.filter(pl.col("held").is_in(reasons))["item"])
        if "damage" in checks:
            items.append(changes.damaged["item"].drop_nulls())
    return pl.concat(items).unique().sort()


def first(seen: View, most: int) -> View:
    """The first so many items of a view."""
    item_numbers = pl.int_range(min(most, len(seen.names)), eager=True)
    return View(seen.changes.choose(item_numbers), seen.names[:most], seen.matches, seen.item_numbers.head(most))


def view(
    changes: ChangeSet,
    names: pl.Series,
    *,
    fields: Collection[str] = (),
    wanted: pl.Series | None = None,
    flagged: pl.Series | None = None,
    keys: Collection[str] = (),
    verdicts: Collection[str] = (),
    sort: ItemOrder = "file",
) -> View:
    """The items that change one of `fields`, have one of `keys` in their key and one of `verdicts` (each: any when
    empty), in the order of `sort`; `wanted` and `flagged` are the numbers of the only items to
    look at (None: all). With `fields`, only those cells are kept.
    """
    chosen_changes = changes
    chosen = changes.items.with_columns(name=names).with_row_index("item")
    if fields:
        cells = changes.cells.filter(pl.col("field").cast(pl.String).is_in(list(fields)))
        chosen_changes = replace(changes, cells=cells)
        chosen = chosen.filter(pl.col("item").is_in(cells["item"].unique().implode()))
    if flagged is not None:
        chosen = chosen.filter(pl.col("item").is_in(flagged.implode()))
    if wanted is not None:
        chosen = chosen.filter(pl.col("item").is_in(wanted.implode()))
    if keys:
        named = KeyIndex.of(changes.keys, changes.header.compared_by).naming(keys)
        chosen = chosen.filter(gathered(named, chosen["item"]))
    if verdicts:
        chosen = chosen.filter(pl.col("verdict").is_in(list(verdicts)))
    if sort == "key":
        by_key = changes.keys.with_row_index(MARK).sort(changes.keys.columns)[MARK]
        chosen = pl.DataFrame({"item": by_key}).join(chosen, on="item", how="inner", maintain_order="left")
    elif sort == "name":
        chosen = chosen.sort("name", maintain_order=True)
    elif sort == "size":
        stays = held(chosen_changes.items, chosen_changes.cells)
        for name, cells in (
            ("size", chosen_changes.cells.filter(~stays)),
            ("stays", chosen_changes.cells.filter(stays)),
        ):
            size = _sizes(chosen_changes.header, cells).rename({"size": name})
            chosen = chosen.join(size, on="item", how="left", maintain_order="left")
        chosen = chosen.sort("size", "stays", descending=True, nulls_last=True, maintain_order=True)
    numbers_shown = chosen["item"]
    return View(
        chosen_changes.choose(numbers_shown), gathered(names, numbers_shown).to_list(), chosen.height, numbers_shown
    )


def _sizes(header: Header, changed: pl.DataFrame) -> pl.DataFrame:
    """Per item its largest change of a number, in parts of the value before; a rise from nothing counts as endless.

    Floating point is good enough here: it only orders.
    """
    parts = [pl.DataFrame(schema={"item": pl.UInt32, "size": pl.Float64})]
    in_live = filtered(changed, not_null(changed["before"]))
    for (field,), cells in in_live.group_by("field", maintain_order=True):
        values = amounts(header, str(field), cells)
        if values is not None:
            before, after = (side.cast(pl.Float64) for side in values)
            parts.append(
                pl.DataFrame({"item": cells["item"].cast(pl.UInt32), "size": ((after - before) / before).abs()})
            )
    return pl.concat(parts).drop_nulls().group_by("item").agg(pl.col("size").max())
