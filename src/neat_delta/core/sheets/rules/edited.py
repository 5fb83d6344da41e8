"""A sheet made by rules: live's items with the fields that rules set, and how each value came about."""

from __future__ import annotations

from collections.abc import Mapping
from typing import TYPE_CHECKING

import polars as pl
from blake3 import blake3
from sqlglot import exp

from neat_delta.core.base.infer.learn import known_store
from neat_delta.core.base.model.catalogue import MARK, Catalogue
from neat_delta.core.base.model.provenance import Provenance, placed_anew
from neat_delta.core.base.model.schemas import PROBLEMS, conform
from neat_delta.core.base.query.expressions import condition, expression
from neat_delta.core.base.support.errors import ConditionError
from neat_delta.core.base.support.series import constant, gathered, scattered, true_places
from neat_delta.core.sheets.match.keys import comparable
from neat_delta.core.sheets.match.prepare import Prepared, prepare, unseen_fields
from neat_delta.core.sheets.rules.run import RuleTables, Worked, fields_of, run_rules

if TYPE_CHECKING:
    from collections.abc import Sequence

    from neat_delta.core.base.model.rules import Rules
    from neat_delta.core.base.model.store import Store

__all__ = ["edited", "read_by", "refuse_keys"]


def edited(
    live: Catalogue,
    rules: Rules,
    store: Store | None = None,
    *,
    key: Sequence[str] = (),
    added: Sequence[str] = (),
    lookups: Mapping[str, pl.DataFrame] | None = None,
    values: Mapping[str, str] | None = None,
    path: str = "rules",
    content: bytes = b"",
) -> Catalogue:
    """The sheet that rules make of live: the items in which they set something, or could not, with the key and the
    fields that they set.

    `added` are fields that the store has though live lacks them, `lookups` the tables that the rules name, `values`
    what `:name` stands for besides, `path` and `content` what the sheet is known by. ConditionError names the rule and
    the word that means nothing there.
    """
    prepared = prepare(live, store, key, unseen_fields(store, added))
    store_catalogue = prepared.catalogue
    refuse_keys(rules, prepared.key.fields)
    needed = read_by(rules, store_catalogue.fields)
    shop = known_store(store_catalogue, store, prepared.key.fields, needed)

    def run(cells: pl.DataFrame) -> Worked:
        tables = RuleTables(cells, cells, shop.fields, shop.writing, lookups=lookups or {})
        return run_rules(rules, tables, values, path)

    try:
        worked = run(store_catalogue.select(list(dict.fromkeys([*prepared.key.fields, *needed]))))
    except ConditionError:
        worked = run(store_catalogue.cells)  # so that what is wrong is said with all fields that there are
    touched = scattered(constant(False, store_catalogue.height), worked.problems["place"].unique(), True)
    for rows in worked.set.values():
        touched |= rows
    kept, problems = true_places(touched), worked.problems
    if prepared.key.shared == "all":
        kept, problems = _one_of_each(prepared, worked, fields_of(rules), touched)
    provenance = Provenance(
        computed={name: gathered(rows, kept) for name, rows in worked.set.items()},
        worked=placed_anew(worked.steps, kept),
        problems=placed_anew(problems, kept),
        rules=worked.rules,
    )
    cells = gathered(worked.cells.select([*prepared.key.fields, *fields_of(rules)]), kept)
    digest = blake3(content).hexdigest()
    return Catalogue(cells, path, lambda: digest, row_numbers=store_catalogue.row(kept), provenance=provenance)


def _one_of_each(
    prepared: Prepared, worked: Worked, fields: list[str], touched: pl.Series
) -> tuple[pl.Series, pl.DataFrame]:
    """Of items that share a key the first, which stands for all, as an importer cannot tell them apart, where one of
    them is `touched`; and the problems, with those where they come to different values.
    """
    keys = comparable(worked.cells, prepared.key)
    group = keys.select(pl.struct(pl.all()).rank("dense").alias("group")).to_series()
    first = pl.DataFrame({"group": group}).with_row_index(MARK).unique("group", keep="first").sort(MARK)
    to_first = dict(zip(first["group"], first[MARK], strict=True))
    problems = worked.problems.with_columns(
        place=gathered(group, worked.problems["place"]).replace_strict(to_first, return_dtype=pl.UInt32)
    )
    parts = [problems]
    for name in fields:
        table = pl.DataFrame({"group": group, "value": worked.cells[name]})
        differing = table.filter(pl.col("value").n_unique().over("group") > 1)["group"].unique(maintain_order=True)
        if differing.len():
            what = "items that share the key come to different values"
            columns = {"field": name, "source": "rule", "rule": "one key", "what": what}
            at = pl.DataFrame({"place": differing.replace_strict(to_first, return_dtype=pl.UInt32)})
            at = at.with_columns(pl.lit(text).alias(column) for column, text in columns.items())
            parts.append(conform(at, PROBLEMS))
    groups = group.filter(touched).unique()
    return first.filter(pl.col("group").is_in(groups.implode()))[MARK], pl.concat(parts)


def read_by(rules: Rules, fields: Sequence[str]) -> list[str]:
    """The fields that rules read or set, each once, in the order of `fields`."""
    trees = [expression(text).tree for rule in rules.rule for text in rule.set.values()]
    trees += [condition(rule.where).tree for rule in rules.rule if rule.where]
    trees += [expression(text).tree for lookup in rules.table.values() for text in lookup.by.values()]
    names = {column.name.casefold() for tree in trees for column in tree.find_all(exp.Column)}
    names |= {name.casefold() for name in fields_of(rules)}
    return [name for name in fields if name.casefold() in names]


def refuse_keys(rules: Rules, key: Sequence[str]) -> None:
    """ConditionError when a rule sets a field of the key."""
    for rule in rules.rule:
        for name in rule.set:
            if name in key:
                raise ConditionError(
                    f'rule "{rule.name}": "{name}" is what items are known by. A list of new codes changes it.'
                )
