"""A supplier's list as a sheet of the store: its rows items by their SKU, its columns fields, its words the store's."""

from __future__ import annotations

import dataclasses
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace

import msgspec
import polars as pl

from neat_delta.core.decide.policy import Policy
from neat_delta.core.detect.near_keys import near_reasons
from neat_delta.core.diff.equality import by_value, notations
from neat_delta.core.infer.learn import known_store
from neat_delta.core.kinds import blank
from neat_delta.core.kinds.notation import AS_LIVE, ColumnNotation
from neat_delta.core.kinds.number import NUMBER_KINDS
from neat_delta.core.lists.aside import rows_aside
from neat_delta.core.lists.matching import ListMatch, match_list
from neat_delta.core.lists.reshape import Reshaped, reshape
from neat_delta.core.lists.words import UNIT, merged_values, translated_words, unit_rules
from neat_delta.core.match.columns import match_columns
from neat_delta.core.match.continuation import merge_lines
from neat_delta.core.match.prepare import ANY_COLUMNS, prepare, unseen_fields
from neat_delta.core.match.rows import NOT_TAKEN
from neat_delta.core.model.catalogue import Catalogue, listed
from neat_delta.core.model.changeset import SetAside
from neat_delta.core.model.columns import ColumnMapping, ColumnMatch, ColumnOptions
from neat_delta.core.model.importer import NEW_CODE
from neat_delta.core.model.layout import Notation
from neat_delta.core.model.lists import ListMapping
from neat_delta.core.model.provenance import Provenance, moved
from neat_delta.core.model.rules import Rule, RuleInput, Rules, RuleText
from neat_delta.core.model.schemas import PROBLEMS, WORKED, Schema, conform, empty
from neat_delta.core.model.store import Continued, Field, Key, Store, continued
from neat_delta.core.query.terms import Own
from neat_delta.core.rules.edited import read_by, refuse_keys
from neat_delta.core.rules.run import RuleTables, fields_of, run_rules
from neat_delta.core.support.errors import CatalogueError
from neat_delta.core.support.nearest import did_you_mean
from neat_delta.core.support.series import constant, scattered

__all__ = ["NO_CODE", "ListOptions", "TranslatedList", "translate"]

NO_CODE = "new, without a code"
"""The reason for which a row is set aside that live has no item for, and that has no key of the store."""


@dataclass(frozen=True, slots=True)
class ListOptions:
    """What is said of a list besides its description: the headings, as a person says now, the store's key and the only
    fields that are wanted (`columns`); whether near keys are taken, or those that a spreadsheet made, and whether rules
    see live's value where the list is blank (`policy`); the rules for what is computed of it, with the tables that they
    look up in, and what `:name` stands for; and how the list writes values (`writing`), over what its description says.
    """

    columns: ColumnOptions = ANY_COLUMNS
    policy: Policy = dataclasses.field(default_factory=Policy)
    rules: Rules | None = None
    lookups: Mapping[str, pl.DataFrame] | None = None
    values: Mapping[str, str] | None = None
    writing: Notation = dataclasses.field(default_factory=Notation)


@dataclass(frozen=True, slots=True)
class TranslatedList:
    """A list as a sheet of the store, and its rows of which live has no item and that have no code, under the fields'
    names, with those that a new item needs (None: there are none).
    """

    sheet: Catalogue
    new: pl.DataFrame | None


ANY = ListOptions()

_CELLS: Schema = {"place": pl.UInt32, "field": pl.String, "before": pl.String, "after": pl.String}
"""Cells of the list that are not as live has them: their place in the draft, field, both texts (null before: new)."""


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
    >>> from neat_delta.core.model.lists import ListField
    >>> live = as_catalogue({"sku": ["QA-1"], "barcode": ["29001"], "cost": ["5.00"]}, "live")
    >>> supplied = as_catalogue({"EAN": ["29001"], "Trade": ["520"]}, "list")
    >>> mapping = ListMapping(match_by=["barcode"], headings={"EAN": "barcode", "Trade": "cost"},
    ...     fields={"cost": ListField(per=100)})
    >>> [(item.key, item.cells) for item in compare(live, translate(live, supplied, mapping).sheet).iter_items()]
    [({'sku': 'QA-1'}, {'cost': ('5.00', '5.20')})]
    """
    prepared = prepare(live, store, options.columns.key, unseen_fields(store, options.columns.added))
    shown, key = prepared.catalogue, prepared.key
    by = list(mapping.match_by or key.fields)
    _must_have(shown.fields, [*by, *mapping.words, *mapping.fields, *mapping.constants], "The mapping")
    matches, shaped, headings = _shaped(shown, supplied, mapping, store, options, [*by, *key.fields])
    named = {heading: name for name, heading in headings.items()}
    texts = shaped.cells.select([*named]).rename(named)
    supplied, shaped, texts = _with_lines_merged(supplied, shaped, texts, by, continued(store or Store()))
    made = _Made()
    texts = _with_constants(texts, mapping, made, supplied.path)
    texts = _with_words(texts, mapping, made)
    for name in by:
        if name not in texts.columns:
            raise CatalogueError(
                f'{supplied.path}: no heading stands for "{name}", by which its rows are to be matched. Say which one '
                f"does with ‹map›, or what it always is with ‹constant›. It has: {listed(supplied.fields)}."
            )
    told = options.writing.over(mapping.writing)
    wanted = [name for name in shown.fields if name in {*texts.columns, *_read(options.rules, shown.fields)}]
    shop = known_store(shown, store, key.fields, wanted)
    # Where a working sheet was cut from still tells whether it is stale.
    sheet = replace(supplied, cells=texts, numbers=shaped.rows, provenance=None, memory=None)
    same_key = by == key.fields
    match_key = key if same_key else Key(by, ignore_case=key.ignore_case)
    met = match_list(
        shown, sheet, match_key, key, mapping, options.policy, settings=shop.fields,
        writing=told.over(shop.writing),
    )  # fmt: skip
    placed = _placed(shown, sheet, met, key, mapping)
    draft = _Draft(shown, texts, placed, made)
    draft.take_keys([*key.fields, *(name for name in by if name in shown.fields)])
    draft.fill_absent(shaped.absent)
    draft.merge_values(mapping, shop.fields)
    book = _rules_of(mapping, headings, shop, options.rules)
    refuse_keys(book, key.fields)
    kinds = {headings[name]: shop.fields[name] for name in headings if name in shop.fields}
    draft.read(shop, told, learned=store is None)
    readings = draft.notations | {
        heading: draft.notations[name] for name, heading in headings.items() if name in draft.notations
    }
    own = Own({**shop.fields, **kinds}, told.over(shop.writing), readings)
    draft.run(book, shaped.cells, own, shop, options, named)
    made, kept = draft.made, (~placed.codeless).arg_true()
    provenance = Provenance(
        columns=matches,
        computed={name: flags.gather(kept) for name, flags in draft.computed.items()},
        worked=moved(pl.concat(made.steps or [empty(WORKED)]), kept),
        problems=moved(pl.concat(made.problems or [empty(PROBLEMS)]), kept),
        rules=made.rules,
        set_aside=[*shaped.set_aside, *placed.set_aside],
        near=met.near,
        folded=shaped.folded,
        copied=shaped.copied + met.copied,
        matched_by=by if by != key.fields else [],
        nearly=shown.cells.select(key.fields).gather(met.nearly) if met.nearly.len() else None,
    )
    cells = draft.ours.select([*key.fields, *(name for name in draft.ours.columns if name not in key.fields)])
    untouched = [name for name in draft.plain.columns if name in cells.columns and name not in draft.computed]
    new = cells.with_columns(draft.plain.select(untouched)).filter(placed.codeless)
    notes = (*supplied.notes, *_lacking(supplied, mapping, headings))
    numbers = shaped.rows.gather(placed.source).gather(kept)
    cells = cells.select(pl.all().gather(kept))
    made_sheet = replace(sheet, cells=cells, numbers=numbers, provenance=provenance, notes=notes)
    return TranslatedList(made_sheet, _new_items(new, shown.fields, shop, key) if new.height else None)


def _with_lines_merged(
    supplied: Catalogue, shaped: Reshaped, texts: pl.DataFrame, by: Sequence[str], lines: Continued | None
) -> tuple[Catalogue, Reshaped, pl.DataFrame]:
    """The list with each item on one row, where the store's files go on with one over several lines."""
    if lines is None or not {*by} <= {*texts.columns} or shaped.folded or shaped.copied:
        return supplied, shaped, texts
    merged = merge_lines(replace(supplied, cells=texts, numbers=shaped.rows), by, lines)
    if merged.cells.height == texts.height or merged.numbers is None:
        return supplied, shaped, texts
    kept = shaped.rows.is_in(merged.numbers.implode())
    absent = {name: flags.filter(kept) for name, flags in shaped.absent.items()}
    shaped = replace(shaped, cells=shaped.cells.filter(kept), rows=merged.numbers, absent=absent)
    return replace(supplied, notes=merged.notes, continued=merged.continued), shaped, merged.cells


class _Made:
    """What is said of cells while they are put into the store's words, by the places of the list's rows."""

    def __init__(self) -> None:
        self.rules: list[RuleText] = []
        self.steps: list[pl.DataFrame] = []
        self.problems: list[pl.DataFrame] = []
        self.computed: dict[str, pl.Series] = {}

    def step(self, name: str, rule: RuleText, at: pl.Series, inputs: pl.Series | None, result: pl.Series) -> None:
        """A step of one input (None: of none) that gave the cells of a field in the rows `at`."""
        if not at.len():
            return
        listed_inputs = (
            pl.Series([[]], dtype=pl.List(pl.String)).new_from_index(0, at.len())
            if inputs is None
            else inputs.to_frame("i").select(pl.concat_list("i")).to_series()
        )
        table = pl.DataFrame({"place": at, "inputs": listed_inputs, "result": result})
        table = table.with_columns(field=pl.lit(name), step=pl.lit(0), rule=pl.lit(len(self.rules)))
        self.steps.append(conform(table, WORKED))
        self.rules.append(rule)

    def problem(self, name: str | None, rule: str, at: pl.Series, what: pl.Series) -> None:
        """What is wrong with the cells of a field in the rows `at`."""
        said = {"field": name, "source": "list", "rule": rule}
        table = pl.DataFrame({"place": at, "what": what})
        self.problems.append(
            conform(table.with_columns(pl.lit(text, pl.String).alias(n) for n, text in said.items()), PROBLEMS)
        )


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
    shop, said = store or Store(), options.columns
    shaping = set()
    if mapping.spread is not None:
        shaping = {mapping.spread.by, mapping.spread.value}
    elif mapping.stack is not None:
        shaping = set(mapping.stack.columns)
    fields = [*live.fields, *({NEW_CODE} - set(live.fields))]
    there = [name for name in supplied.fields if name not in shaping]
    places = [n for n in range(1, len(supplied.fields) + len(supplied.unnamed) + 1) if n not in supplied.unnamed]
    columns = dict(zip(supplied.fields, places, strict=True))
    saved = ColumnMapping({h: f for h, f in mapping.headings.items() if h in there}, mapping.ignore)
    matches = match_columns(
        there, fields, field_settings=dict(shop.fields), mapping=said.mapping,
        saved=saved, only=said.only, key=always, path=supplied.path, places=[columns[name] for name in there],
    )  # fmt: skip
    if mapping.headings:  # what its description does not name is said, and not taken
        matches = [
            one
            if one.field is None or one.heading in mapping.headings or one.field in always or one.how == "told"
            else msgspec.structs.replace(one, field=None, how="not described", nearest=one.field)
            for one in matches
        ]
        matches = [
            msgspec.structs.replace(one, how="not described") if one.how == "unmatched" else one for one in matches
        ]
    headings = {one.field: one.heading for one in matches if one.field is not None}
    shaped = reshape(supplied, mapping, list(headings.values()))
    if mapping.spread is not None:
        made = dict.fromkeys(mapping.spread.columns.values())
        _must_have(live.fields, list(made), "The mapping's spread")
        headings |= {name: name for name in made}
        matches += [ColumnMatch(mapping.spread.by, mapping.spread.by, "told", column=columns[mapping.spread.by])]
        matches += [ColumnMatch(mapping.spread.value, ", ".join(made), "told", column=columns[mapping.spread.value])]
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


def _with_constants(texts: pl.DataFrame, mapping: ListMapping, made: _Made, path: str) -> pl.DataFrame:
    every = pl.int_range(texts.height, dtype=pl.UInt32, eager=True)
    for name, text in mapping.constants.items():
        if name in texts.columns:
            raise CatalogueError(f'{path}: "{name}" is a constant, and a heading stands for it, too. Leave one out.')
        column = constant(text, texts.height, pl.String)
        texts = texts.with_columns(column.alias(name))
        made.step(name, RuleText("constant", name, why="the same in every row of the list"), every, None, column)
        made.computed[name] = constant(True, texts.height)
    return texts


def _with_words(texts: pl.DataFrame, mapping: ListMapping, made: _Made) -> pl.DataFrame:
    for name, words in mapping.words.items():
        if name not in texts.columns:
            continue
        column = translated_words(texts[name], words)
        bad = column.wrong.is_not_null()
        good = ~bad & ~texts.select(blank(pl.col(name))).to_series()
        if bad.any():
            made.problem(name, "words", bad.arg_true(), column.wrong.filter(bad))
        at = good.arg_true()
        rule = RuleText("words", name, why="the list's word for it", inputs=[RuleInput(name)])
        made.step(name, rule, at, texts[name].gather(at), column.texts.gather(at))
        made.computed[name] = good
        texts = texts.with_columns(column.texts.alias(name))
    return texts


@dataclass(frozen=True, slots=True)
class _Placed:
    """The rows that are put into the store's words: the place of each in the list and in live (null: it is new), and
    whether it is a new item without a code, which goes into a sheet of its own; and the rows that were set aside.
    """

    source: pl.Series
    live: pl.Series
    codeless: pl.Series
    set_aside: list[SetAside]


def _placed(live: Catalogue, sheet: Catalogue, met: ListMatch, key: Key, mapping: ListMapping) -> _Placed:
    """Which rows go into the sheet."""
    aside = list(met.set_aside)

    def leave_out(places: pl.Series, reason: str | pl.Series) -> None:
        shown = [name for name in (mapping.match_by or key.fields) if name in sheet.cells.columns]
        reasons = [reason] * places.len() if isinstance(reason, str) else reason
        aside.extend(rows_aside(sheet.cells, shown, places, sheet.row(places), reasons))

    pairs, new = met.pairs, met.new
    if mapping.take == "new":
        leave_out(pairs["sheet"].unique().sort(), NOT_TAKEN)
        pairs = pairs.clear()
    if mapping.take == "matched":
        leave_out(new, NOT_TAKEN)
        new = new.clear()
    has_key = all(name in sheet.cells.columns for name in key.fields)
    coded = constant(has_key, new.len(), pl.Boolean)
    if has_key and new.len():
        coded = sheet.cells.gather(new).select(~pl.any_horizontal(blank(pl.col(key.fields)))).to_series()
    nearly = near_reasons(met.near)
    if nearly and not coded.all():  # what nearly is an item is no new one that lacks a code
        said = sheet.row(new).replace_strict(nearly, default=None, return_dtype=pl.String).set(coded, None)
        leave_out(new.filter(said.is_not_null()), said.drop_nulls())
        new, coded = new.filter(said.is_null()), coded.filter(said.is_null())
    codeless = new.filter(~coded)
    leave_out(codeless, NO_CODE)
    if not sheet.cells.height and not aside:
        raise CatalogueError(f"{sheet.path}: it has no row.")
    rows = pl.concat(
        [
            pairs.select(source=pl.col("sheet").cast(pl.Int64), live=pl.col("live").cast(pl.Int64), bare=pl.lit(False)),
            pl.DataFrame({"source": new.cast(pl.Int64), "bare": ~coded}).select(
                "source", pl.lit(None, pl.Int64).alias("live"), "bare"
            ),
        ]
    ).sort("source", "live")
    return _Placed(rows["source"], rows["live"], rows["bare"], aside)


class _Draft:
    """The sheet in the making: its rows in the store's words (`ours`), live's of the same items (`theirs`, blank where
    it is new), and what is said of its cells.
    """

    def __init__(self, live: Catalogue, texts: pl.DataFrame, placed: _Placed, made: _Made) -> None:
        self.source = placed.source
        self.ours = texts.select(pl.all().gather(placed.source))
        self.theirs = live.cells.select(pl.all().gather(placed.live)).fill_null("")
        self.known = placed.live.is_not_null()
        self.computed = {name: flags.gather(placed.source) for name, flags in made.computed.items()}
        self.live = live
        self.plain = pl.DataFrame()
        self.notations: dict[str, ColumnNotation] = {}
        self.made = _Made()
        self.made.rules = made.rules
        self.made.steps = [moved(one, placed.source) for one in made.steps]
        self.made.problems = [moved(one, placed.source) for one in made.problems]

    def mark(self, name: str, rows: pl.Series) -> None:
        """Rows of a field that nobody typed, besides those that are marked already."""
        before = self.computed.get(name)
        self.computed[name] = rows if before is None else before | rows

    def take_keys(self, names: Sequence[str]) -> None:
        """What an item is called, and what it was matched by, is live's to say."""
        for name in dict.fromkeys(names):
            there = name in self.ours.columns
            own = self.ours[name] if there else constant("", self.ours.height, pl.String)
            self.ours = self.ours.with_columns(self.theirs[name].zip_with(self.known, own).alias(name))
            self.computed.pop(name, None)

    def fill_absent(self, absent: Mapping[str, pl.Series]) -> None:
        """Of what a long list says nothing, live's value stays."""
        for name, flags in absent.items():
            said = ~flags.gather(self.source)
            self.ours = self.ours.with_columns(self.ours[name].zip_with(said, self.theirs[name]).alias(name))

    def merge_values(self, mapping: ListMapping, settings: Mapping[str, Field]) -> None:
        """Fields of several values to which the list's are added, or from which they are taken."""
        for name, field in mapping.fields.items():
            setting = settings.get(name, Field())
            if field.means == "replaces" or name not in self.ours.columns or setting.kind in NUMBER_KINDS:
                continue
            if setting.kind != "list" and setting.separator is None:
                raise CatalogueError(
                    f'The mapping says that fields.{name} {field.means}, and "{name}" is neither a list nor a number.'
                )
            said = self.ours[name]
            whole = merged_values(self.theirs[name], said, setting, field)
            at = (whole != said).arg_true()
            rule = RuleText(
                "values", name, why=f"{field.means}: live's others stay", inputs=[RuleInput(f"sheet.{name}")]
            )
            self.made.step(name, rule, at, said.gather(at), whole.gather(at))
            self.ours = self.ours.with_columns(whole.alias(name))
            self.mark(name, whole != self.theirs[name])

    def read(self, shop: Store, told: Notation, *, learned: bool) -> None:
        """Read the numbers and dates of the list as `compare` will: how it writes each field (`notations`), and its
        cells as live writes them (`plain`), where they have one reading.
        """
        kinds = (*NUMBER_KINDS, "date")
        names = [name for name in self.ours.columns
                 if name in self.theirs.columns and shop.fields.get(name, Field()).kind in kinds]  # fmt: skip
        parts = [empty(_CELLS)]
        for name in names if self.ours.height else ():
            rows = pl.DataFrame({"before": self.theirs[name].set(~self.known, None), "after": self.ours[name]})
            rows = rows.with_row_index("place").with_columns(field=pl.lit(name))
            other = pl.col("before").ne_missing(pl.col("after"))
            parts.append(conform(rows.filter(other & ~blank(pl.col("after"))), _CELLS))
        cells = pl.concat(parts)
        settings = {name: shop.fields[name] for name in names}
        self.notations = dict.fromkeys(names, AS_LIVE) | notations(
            cells, settings, shop.writing, told, self.ours, self.live.cells
        )
        read = by_value(cells, settings, shop.writing, self.notations, learned=learned, of_a_list=True)
        clear = read.filter(pl.col("held").is_null() & (pl.col("after") != cells["after"]))
        self.plain = self.ours.select(names)
        for (name,), part in clear.partition_by("field", as_dict=True).items():
            column = scattered(self.plain[str(name)], part["place"], part["after"])
            self.plain = self.plain.with_columns(column.alias(str(name)))

    def _without_units(self, problems: pl.DataFrame) -> None:
        """Numbers that could not be put into the store's unit are not shown as if they were: live's stay."""
        of_units = problems.filter(pl.col("rule").str.starts_with(UNIT))
        for (name,), part in of_units.partition_by("field", as_dict=True).items():
            at = part["place"].unique()
            column = scattered(self.ours[str(name)], at, self.theirs[str(name)].gather(at))
            self.ours = self.ours.with_columns(column.alias(str(name)))

    def run(
        self, book: Rules, headings: pl.DataFrame, own: Own, shop: Store, options: ListOptions, named: Mapping[str, str]
    ) -> None:
        """The list's units, and the rules; `headings` are its columns under its own headings, of which `named` says the
        fields.
        """
        if not book.rule:
            return
        there = [name for name in self.ours.columns if name in self.theirs.columns]
        typed = [name for name in there if name not in self.computed]
        said = self.ours.select(typed).with_columns(
            self.plain.select(name for name in self.plain.columns if name in typed)
        )
        kept = [name for name in typed if options.policy.blanks_of(name) == "keep"]  # there a blank is as live has it
        said = said.with_columns(
            said[name].zip_with(~said.select(blank(pl.col(name))).to_series(), self.theirs[name]) for name in kept
        )
        so_far = self.theirs.with_columns(self.ours.select(there)).with_columns(said)
        rows = headings.select(pl.all().gather(self.source))
        more = [self.ours[name] for name in self.ours.columns if name not in rows.columns]
        tables = RuleTables(
            so_far, self.theirs, shop.fields, shop.writing, rows.with_columns(more), own, options.lookups or {},
            {**{name: name for name in self.ours.columns}, **named},
        )  # fmt: skip
        worked = run_rules(book, tables, options.values)
        steps = self.made.steps
        last = max((int(one["step"].max() or 0) for one in steps if one.height), default=-1)  # type: ignore[arg-type]
        shift = len(self.made.rules)
        steps_of_rules = worked.steps.with_columns(pl.col("rule") + shift, pl.col("step") + last + 1)
        self.made.steps.append(conform(steps_of_rules, WORKED))
        self.made.problems.append(worked.problems)
        self.made.rules += worked.rules
        self._without_units(worked.problems)
        for name in fields_of(book):
            if name in worked.set:
                self.mark(name, worked.set[name])
                column = self.ours[name] if name in self.ours.columns else self.theirs[name]
                column = worked.cells[name].zip_with(worked.set[name], column)
                self.ours = self.ours.with_columns(column.alias(name))
            elif name not in self.ours.columns:
                self.ours = self.ours.with_columns(self.theirs[name])


def _rules_of(mapping: ListMapping, headings: Mapping[str, str], shop: Store, rules: Rules | None) -> Rules:
    """The rules for a list's units, and for numbers that it adds to live's, before those that were said."""
    units = unit_rules(mapping, headings)
    for name, field in mapping.fields.items():
        if field.means != "replaces" and shop.fields.get(name, Field()).kind in NUMBER_KINDS:
            sign = "+" if field.means == "adds" else "-"
            own = next((rule for rule in units if name in rule.set), None)
            quoted = '"' + headings.get(name, name).replace('"', '""') + '"'
            said = f'live."{name}" {sign} ({own.set[name] if own else f"sheet.{quoted}"})'
            units = [rule for rule in units if name not in rule.set]
            units.append(Rule(f"{UNIT}{field.means} {name}", {name: said}, why=field.why or f"{field.means}"))
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
