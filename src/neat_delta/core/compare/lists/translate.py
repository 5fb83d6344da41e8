"""A supplier's list as a sheet of the store: its rows items by their SKU, its columns fields, its words the store's."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace

import msgspec
import polars as pl

from neat_delta.core.base.infer.learn import known_store
from neat_delta.core.base.kinds import blank
from neat_delta.core.base.kinds.number import NUMBER_KINDS
from neat_delta.core.base.model.catalogue import Catalogue, listed
from neat_delta.core.base.model.columns import ColumnMapping, ColumnMatch
from neat_delta.core.base.model.importer import NEW_CODE
from neat_delta.core.base.model.lists import ListMapping
from neat_delta.core.base.model.provenance import Provenance, placed_anew
from neat_delta.core.base.model.rules import Rule, RuleInput, Rules, RuleText
from neat_delta.core.base.model.schemas import PROBLEMS, WORKED, empty
from neat_delta.core.base.model.store import Continued, Field, Key, Store, continued
from neat_delta.core.base.query.terms import Own
from neat_delta.core.base.support.errors import CatalogueError
from neat_delta.core.base.support.nearest import did_you_mean
from neat_delta.core.base.support.series import constant, gathered, true_places
from neat_delta.core.compare.lists.draft import Draft, ListOptions, ListSteps, placed_rows
from neat_delta.core.compare.lists.matching import match_list
from neat_delta.core.compare.lists.reshape import Reshaped, reshape
from neat_delta.core.compare.lists.words import UNIT, translated_words, unit_rules
from neat_delta.core.sheets.match.columns import match_columns
from neat_delta.core.sheets.match.continuation import merge_lines
from neat_delta.core.sheets.match.prepare import prepare, unseen_fields
from neat_delta.core.sheets.rules.edited import read_by, refuse_keys

__all__ = ["TranslatedList", "translate"]


@dataclass(frozen=True, slots=True)
class TranslatedList:
    """A list as a sheet of the store, and its rows of which live has no item and that have no code, under the fields'
    names, with those that a new item needs (None: there are none).
    """

    sheet: Catalogue
    new: pl.DataFrame | None


ANY = ListOptions()


def translate(
    live: Catalogue,
    supplied: Catalogue,
    mapping: ListMapping,
    store: Store | None = None,
    *,
    options: ListOptions = ANY,
) -> TranslatedList:
    """Put a list into the store's language: `compare` takes the sheet like any other.

    CatalogueError when a heading or a field is none, or no row can be matched; ConditionError for what a rule cannot
    mean.

    >>> from neat_delta import as_catalogue, compare
    >>> from neat_delta.core.base.model.lists import ListField
    >>> live = as_catalogue({"sku": ["QA-1"], "barcode": ["29001"], "cost": ["5.00"]}, "live")
    >>> supplied = as_catalogue({"EAN": ["29001"], "Trade": ["520"]}, "list")
    >>> mapping = ListMapping(match_by=["barcode"], headings={"EAN": "barcode", "Trade": "cost"},
    ...     fields={"cost": ListField(per=100)})
    >>> [(item.key, item.cells) for item in compare(live, translate(live, supplied, mapping).sheet).iter_items()]
    [({'sku': 'QA-1'}, {'cost': ('5.00', '5.20')})]
    """
    prepared = prepare(live, store, options.columns.key, unseen_fields(store, options.columns.added))
    store_catalogue, key = prepared.catalogue, prepared.key
    by = list(mapping.match_by or key.fields)
    _must_have(store_catalogue.fields, [*by, *mapping.words, *mapping.fields, *mapping.constants], "The mapping")
    matches, shaped, headings = _shaped(store_catalogue, supplied, mapping, store, options, [*by, *key.fields])
    named = {heading: name for name, heading in headings.items()}
    texts = shaped.cells.select([*named]).rename(named)
    supplied, shaped, texts = _with_lines_merged(supplied, shaped, texts, by, continued(store or Store()))
    steps = ListSteps()
    texts = _with_constants(texts, mapping, steps, supplied.path)
    texts = _with_words(texts, mapping, steps)
    for name in by:
        if name not in texts.columns:
            raise CatalogueError(
                f'{supplied.path}: no heading stands for "{name}", by which its rows are to be matched. Say which one '
                f"does with ‹map›, or what it always is with ‹constant›. It has: {listed(supplied.fields)}."
            )
    writing = options.writing.over(mapping.writing)
    wanted = [
        name
        for name in store_catalogue.fields
        if name in {*texts.columns, *_read(options.rules, store_catalogue.fields)}
    ]
    shop = known_store(store_catalogue, store, key.fields, wanted)
    # Where a working sheet was cut from still tells whether it is stale.
    sheet = replace(supplied, table=texts, row_numbers=shaped.rows, provenance=None, memory=None)
    same_key = by == key.fields
    match_key = key if same_key else Key(by, ignore_case=key.ignore_case)
    met = match_list(
        store_catalogue, sheet, match_key, key, mapping, options.policy, settings=shop.fields,
        writing=writing.over(shop.writing),
    )  # fmt: skip
    placed = placed_rows(store_catalogue, sheet, met, key, mapping)
    draft = Draft(store_catalogue, texts, placed, steps)
    draft.take_keys([*key.fields, *(name for name in by if name in store_catalogue.fields)])
    draft.fill_absent(shaped.absent)
    draft.merge_values(mapping, shop.fields)
    book = _rules_of(mapping, headings, shop, options.rules)
    refuse_keys(book, key.fields)
    kinds = {headings[name]: shop.fields[name] for name in headings if name in shop.fields}
    draft.read(shop, writing, learned=store is None)
    readings = draft.notations | {
        heading: draft.notations[name] for name, heading in headings.items() if name in draft.notations
    }
    own = Own({**shop.fields, **kinds}, writing.over(shop.writing), readings)
    draft.run(book, shaped.cells, own, shop, options, named)
    steps, kept = draft.steps_made, true_places(~placed.codeless)
    provenance = Provenance(
        columns=matches,
        computed={name: gathered(flags, kept) for name, flags in draft.computed.items()},
        worked=placed_anew(pl.concat(steps.steps or [empty(WORKED)]), kept),
        problems=placed_anew(pl.concat(steps.problems or [empty(PROBLEMS)]), kept),
        rules=steps.rules,
        set_aside=[*shaped.set_aside, *placed.set_aside],
        near=met.near,
        folded=shaped.folded,
        copied=shaped.copied + met.copied,
        matched_by=by if by != key.fields else [],
        nearly=gathered(store_catalogue.select(key.fields), met.nearly) if met.nearly.len() else None,
    )
    cells = draft.ours.select([*key.fields, *(name for name in draft.ours.columns if name not in key.fields)])
    untouched = [name for name in draft.plain.columns if name in cells.columns and name not in draft.computed]
    new = cells.with_columns(draft.plain.select(untouched)).filter(placed.codeless)
    notes = (*supplied.notes, *_lacking(supplied, mapping, headings))
    row_numbers = gathered(gathered(shaped.rows, placed.source), kept)
    cells = gathered(cells, kept)
    made_sheet = replace(sheet, table=cells, row_numbers=row_numbers, provenance=provenance, notes=notes)
    return TranslatedList(made_sheet, _new_items(new, store_catalogue.fields, shop, key) if new.height else None)


def _with_lines_merged(
    supplied: Catalogue, shaped: Reshaped, texts: pl.DataFrame, by: Sequence[str], lines: Continued | None
) -> tuple[Catalogue, Reshaped, pl.DataFrame]:
    """The list with each item on one row, where the store's files go on with one over several lines."""
    if lines is None or not {*by} <= {*texts.columns} or shaped.folded or shaped.copied:
        return supplied, shaped, texts
    merged = merge_lines(replace(supplied, table=texts, row_numbers=shaped.rows), by, lines)
    if merged.cells.height == texts.height or merged.row_numbers is None:
        return supplied, shaped, texts
    kept = shaped.rows.is_in(merged.row_numbers.implode())
    absent = {name: flags.filter(kept) for name, flags in shaped.absent.items()}
    shaped = replace(shaped, cells=shaped.cells.filter(kept), rows=merged.row_numbers, absent=absent)
    return replace(supplied, notes=merged.notes, continued=merged.continued), shaped, merged.cells


def _must_have(fields: Sequence[str], names: Sequence[str], who: str) -> None:
    for name in names:
        if name not in fields:
            hint = did_you_mean(name, fields, f"It has: {listed(fields)}.")
            raise CatalogueError(f'{who} names the field "{name}", and live has none of that name.{hint}')


def _read(rules: Rules | None, fields: Sequence[str]) -> list[str]:
    return [] if rules is None else read_by(rules, fields)


def _shaped(
    live: Catalogue,
    supplied: Catalogue,
    mapping: ListMapping,
    store: Store | None,
    options: ListOptions,
    always: Sequence[str],
) -> tuple[list[ColumnMatch], Reshaped, dict[str, str]]:
    """Which heading is which field, the rows in the store's shape, and what they call each field."""
    shop, column_options = store or Store(), options.columns
    shaping = set()
    if mapping.spread is not None:
        shaping = {mapping.spread.by, mapping.spread.value}
    elif mapping.stack is not None:
        shaping = set(mapping.stack.columns)
    fields = [*live.fields, *({NEW_CODE} - set(live.fields))]
    kept_names = [name for name in supplied.fields if name not in shaping]
    places = [n for n in range(1, len(supplied.fields) + len(supplied.unnamed) + 1) if n not in supplied.unnamed]
    columns = dict(zip(supplied.fields, places, strict=True))
    saved = ColumnMapping({h: f for h, f in mapping.headings.items() if h in kept_names}, mapping.ignore)
    matches = match_columns(
        kept_names, fields, field_settings=dict(shop.fields), mapping=column_options.mapping,
        saved=saved, only=column_options.only, key=always, path=supplied.path,
        places=[columns[name] for name in kept_names],
    )  # fmt: skip
    if mapping.headings:  # what its description does not name is said, and not taken
        matches = [
            match
            if match.field is None or match.heading in mapping.headings or match.field in always or match.how == "told"
            else msgspec.structs.replace(match, field=None, how="not described", nearest=match.field)
            for match in matches
        ]
        matches = [
            msgspec.structs.replace(match, how="not described") if match.how == "unmatched" else match
            for match in matches
        ]
    headings = {match.field: match.heading for match in matches if match.field is not None}
    shaped = reshape(supplied, mapping, list(headings.values()))
    if mapping.spread is not None:
        spread_columns = dict.fromkeys(mapping.spread.columns.values())
        _must_have(live.fields, list(spread_columns), "The mapping's spread")
        headings |= {name: name for name in spread_columns}
        matches += [ColumnMatch(mapping.spread.by, mapping.spread.by, "told", column=columns[mapping.spread.by])]
        matches += [
            ColumnMatch(mapping.spread.value, ", ".join(spread_columns), "told", column=columns[mapping.spread.value])
        ]
    elif mapping.stack is not None:
        _must_have(live.fields, [mapping.stack.by, mapping.stack.value], "The mapping's stack")
        headings |= {mapping.stack.by: mapping.stack.by, mapping.stack.value: mapping.stack.value}
        matches += [
            ColumnMatch(heading, mapping.stack.value, "told", column=columns[heading])
            for heading in mapping.stack.columns
        ]
    return matches, shaped, headings


def _lacking(supplied: Catalogue, mapping: ListMapping, headings: Mapping[str, str]) -> list[str]:
    """What its description names and this list does not have: of several headings for one field it needs only one."""
    return [
        f'it has no heading "{heading}", which the mapping takes for {name}'
        for heading, name in mapping.headings.items()
        if heading not in supplied.fields and name not in headings
    ]


def _with_constants(texts: pl.DataFrame, mapping: ListMapping, steps: ListSteps, path: str) -> pl.DataFrame:
    every = pl.int_range(texts.height, dtype=pl.UInt32, eager=True)
    for name, text in mapping.constants.items():
        if name in texts.columns:
            raise CatalogueError(f'{path}: "{name}" is a constant, and a heading stands for it, too. Leave one out.')
        column = constant(text, texts.height, pl.String)
        texts = texts.with_columns(column.alias(name))
        steps.step(name, RuleText("constant", name, why="the same in every row of the list"), every, None, column)
        steps.computed[name] = constant(True, texts.height)
    return texts


def _with_words(texts: pl.DataFrame, mapping: ListMapping, steps: ListSteps) -> pl.DataFrame:
    for name, words in mapping.words.items():
        if name not in texts.columns:
            continue
        column = translated_words(texts[name], words)
        bad = column.wrong.is_not_null()
        good = ~bad & ~texts.select(blank(pl.col(name))).to_series()
        if bad.any():
            steps.problem(name, "words", true_places(bad), column.wrong.filter(bad))
        at = true_places(good)
        rule = RuleText("words", name, why="the list's word for it", inputs=[RuleInput(name)])
        steps.step(name, rule, at, gathered(texts[name], at), gathered(column.texts, at))
        steps.computed[name] = good
        texts = texts.with_columns(column.texts.alias(name))
    return texts


def _rules_of(mapping: ListMapping, headings: Mapping[str, str], shop: Store, rules: Rules | None) -> Rules:
    """The rules for a list's units, and for numbers that it adds to live's, before those that were said."""
    units = unit_rules(mapping, headings)
    for name, field in mapping.fields.items():
        if field.means != "replaces" and shop.fields.get(name, Field()).kind in NUMBER_KINDS:
            sign = "+" if field.means == "adds" else "-"
            own = next((rule for rule in units if name in rule.set), None)
            quoted = '"' + headings.get(name, name).replace('"', '""') + '"'
            expression = f'live."{name}" {sign} ({own.set[name] if own else f"sheet.{quoted}"})'
            units = [rule for rule in units if name not in rule.set]
            units.append(Rule(f"{UNIT}{field.means} {name}", {name: expression}, why=field.why or f"{field.means}"))
    given = rules or Rules()
    over = [rule.name for rule in units]
    allowed = [msgspec.structs.replace(rule, over=[*rule.replaces, *over]) if over else rule for rule in given.rule]
    return msgspec.structs.replace(given, rule=[*units, *allowed])


def _new_items(rows: pl.DataFrame, fields: Sequence[str], shop: Store, key: Key) -> pl.DataFrame:
    """New items as a sheet to be filled in: the key, what is known, what is needed, and the importer's defaults."""
    needed = [name for name, field in shop.fields.items() if field.required]
    needed += [name for name in (*shop.importer.needs, *shop.importer.defaults) if name not in needed]
    names = [
        *key.fields,
        *(name for name in fields if name not in key.fields and (name in rows.columns or name in needed)),
    ]
    columns = []
    for name in names:
        text = rows[name] if name in rows.columns else constant("", rows.height, pl.String)
        default = shop.importer.defaults.get(name)
        columns.append((text if default is None else text.replace("", default)).alias(name))
    return pl.DataFrame(columns)
