"""A list on its way to a sheet: its rows at the items that they are for, its values, and how each was made."""

from __future__ import annotations

import dataclasses
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import polars as pl

from neat_delta.core.base.kinds import blank
from neat_delta.core.base.kinds.notation import AS_LIVE, ColumnNotation
from neat_delta.core.base.kinds.number import NUMBER_KINDS
from neat_delta.core.base.model.catalogue import Catalogue
from neat_delta.core.base.model.columns import ColumnOptions
from neat_delta.core.base.model.header import SetAside
from neat_delta.core.base.model.layout import Notation
from neat_delta.core.base.model.lists import ListMapping
from neat_delta.core.base.model.provenance import placed_anew
from neat_delta.core.base.model.rules import RuleInput, Rules, RuleText
from neat_delta.core.base.model.schemas import PROBLEMS, WORKED, Schema, conform, empty
from neat_delta.core.base.model.store import Field, Key, Store
from neat_delta.core.base.query.terms import Own
from neat_delta.core.base.support.errors import CatalogueError
from neat_delta.core.base.support.series import constant, gathered, scattered, true_places
from neat_delta.core.compare.decide.policy import Policy
from neat_delta.core.compare.detect.near_keys import near_reasons
from neat_delta.core.compare.diff.equality import by_value, notations
from neat_delta.core.compare.lists.aside import rows_aside
from neat_delta.core.compare.lists.matching import ListMatch
from neat_delta.core.compare.lists.words import UNIT, merged_values
from neat_delta.core.sheets.match.prepare import ANY_COLUMNS
from neat_delta.core.sheets.match.rows import NOT_TAKEN
from neat_delta.core.sheets.rules.run import RuleTables, fields_of, run_rules

__all__ = ["NO_CODE", "Draft", "ListOptions", "ListSteps", "placed_rows"]


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


_CELLS: Schema = {"place": pl.UInt32, "field": pl.String, "before": pl.String, "after": pl.String}
"""Cells of the list that are not as live has them: their place in the draft, field, both texts (null before: new)."""


class ListSteps:
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
        columns = {"field": name, "source": "list", "rule": rule}
        table = pl.DataFrame({"place": at, "what": what})
        self.problems.append(
            conform(table.with_columns(pl.lit(text, pl.String).alias(n) for n, text in columns.items()), PROBLEMS)
        )


@dataclass(frozen=True, slots=True)
class _Placed:
    """The rows that are put into the store's words: the place of each in the list and in live (null: it is new), and
    whether it is a new item without a code, which goes into a sheet of its own; and the rows that were set aside.
    """

    source: pl.Series
    live: pl.Series
    codeless: pl.Series
    set_aside: list[SetAside]


def placed_rows(live: Catalogue, sheet: Catalogue, met: ListMatch, key: Key, mapping: ListMapping) -> _Placed:
    """Which rows go into the sheet."""
    aside = list(met.set_aside)

    def leave_out(places: pl.Series, reason: str | pl.Series) -> None:
        fields = [name for name in (mapping.match_by or key.fields) if name in sheet.cells.columns]
        reasons = [reason] * places.len() if isinstance(reason, str) else reason
        aside.extend(rows_aside(sheet.cells, fields, places, sheet.row(places), reasons))

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
        coded = sheet.rows(new).select(~pl.any_horizontal(blank(pl.col(key.fields)))).to_series()
    nearly = near_reasons(met.near)
    if nearly and not coded.all():  # what nearly is an item is no new one that lacks a code
        nearly_of = sheet.row(new).replace_strict(nearly, default=None, return_dtype=pl.String).set(coded, None)
        leave_out(new.filter(nearly_of.is_not_null()), nearly_of.drop_nulls())
        new, coded = new.filter(nearly_of.is_null()), coded.filter(nearly_of.is_null())
    codeless = new.filter(~coded)
    leave_out(codeless, NO_CODE)
    if not sheet.height and not aside:
        raise CatalogueError(f"{sheet.path}: it has no row. Name the list, or save it again.")
    rows = pl.concat(
        [
            pairs.select(source=pl.col("sheet").cast(pl.Int64), live=pl.col("live").cast(pl.Int64), bare=pl.lit(False)),
            pl.DataFrame({"source": new.cast(pl.Int64), "bare": ~coded}).select(
                "source", pl.lit(None, pl.Int64).alias("live"), "bare"
            ),
        ]
    ).sort("source", "live")
    return _Placed(rows["source"], rows["live"], rows["bare"], aside)


class Draft:
    """The sheet in the making: its rows in the store's words (`ours`), live's of the same items (`theirs`, blank where
    it is new), and what is said of its cells.
    """

    def __init__(self, live: Catalogue, texts: pl.DataFrame, placed: _Placed, steps_made: ListSteps) -> None:
        self.source = placed.source
        self.ours = gathered(texts, placed.source)
        self.theirs = live.rows(placed.live).fill_null("")
        self.known = placed.live.is_not_null()
        self.computed = {name: gathered(flags, placed.source) for name, flags in steps_made.computed.items()}
        self.live = live
        self.plain = pl.DataFrame()
        self.notations: dict[str, ColumnNotation] = {}
        self.steps_made = ListSteps()
        self.steps_made.rules = steps_made.rules
        self.steps_made.steps = [placed_anew(step, placed.source) for step in steps_made.steps]
        self.steps_made.problems = [placed_anew(problem, placed.source) for problem in steps_made.problems]

    def mark(self, name: str, rows: pl.Series) -> None:
        """Rows of a field that nobody typed, besides those that are marked already."""
        before = self.computed.get(name)
        self.computed[name] = rows if before is None else before | rows

    def take_keys(self, names: Sequence[str]) -> None:
        """What an item is called, and what it was matched by, is live's to say."""
        for name in dict.fromkeys(names):
            present = name in self.ours.columns
            own = self.ours[name] if present else constant("", self.ours.height, pl.String)
            self.ours = self.ours.with_columns(self.theirs[name].zip_with(self.known, own).alias(name))
            self.computed.pop(name, None)

    def fill_absent(self, absent: Mapping[str, pl.Series]) -> None:
        """Of what a long list says nothing, live's value stays."""
        for name, flags in absent.items():
            unknown = ~gathered(flags, self.source)
            self.ours = self.ours.with_columns(self.ours[name].zip_with(unknown, self.theirs[name]).alias(name))

    def merge_values(self, mapping: ListMapping, settings: Mapping[str, Field]) -> None:
        """Fields of several values to which the list's are added, or from which they are taken."""
        for name, field in mapping.fields.items():
            setting = settings.get(name, Field())
            if field.means == "replaces" or name not in self.ours.columns or setting.kind in NUMBER_KINDS:
                continue
            if setting.kind != "list" and setting.separator is None:
                raise CatalogueError(
                    f'The mapping says that fields.{name} {field.means}, and "{name}" is neither a list nor a number. '
                    "Put it right in the mapping, or say its kind in the store file."
                )
            ours = self.ours[name]
            merged = merged_values(self.theirs[name], ours, setting, field)
            at = true_places(merged != ours)
            rule = RuleText(
                "values", name, why=f"{field.means}: live's others stay", inputs=[RuleInput(f"sheet.{name}")]
            )
            self.steps_made.step(name, rule, at, gathered(ours, at), gathered(merged, at))
            self.ours = self.ours.with_columns(merged.alias(name))
            self.mark(name, merged != self.theirs[name])

    def read(self, shop: Store, writing: Notation, *, learned: bool) -> None:
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
            cells, settings, shop.writing, writing, self.ours, self.live.table
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
            column = scattered(self.ours[str(name)], at, gathered(self.theirs[str(name)], at))
            self.ours = self.ours.with_columns(column.alias(str(name)))

    def run(
        self, book: Rules, headings: pl.DataFrame, own: Own, shop: Store, options: ListOptions, named: Mapping[str, str]
    ) -> None:
        """The list's units, and the rules; `headings` are its columns under its own headings, of which `named` says the
        fields.
        """
        if not book.rule:
            return
        names = [name for name in self.ours.columns if name in self.theirs.columns]
        typed = [name for name in names if name not in self.computed]
        typed_texts = self.ours.select(typed).with_columns(
            self.plain.select(name for name in self.plain.columns if name in typed)
        )
        kept = [name for name in typed if options.policy.blanks_of(name) == "keep"]  # there a blank is as live has it
        typed_texts = typed_texts.with_columns(
            typed_texts[name].zip_with(~typed_texts.select(blank(pl.col(name))).to_series(), self.theirs[name])
            for name in kept
        )
        so_far = self.theirs.with_columns(self.ours.select(names)).with_columns(typed_texts)
        rows = gathered(headings, self.source)
        more = [self.ours[name] for name in self.ours.columns if name not in rows.columns]
        tables = RuleTables(
            so_far, self.theirs, shop.fields, shop.writing, rows.with_columns(more), own, options.lookups or {},
            {**{name: name for name in self.ours.columns}, **named},
        )  # fmt: skip
        worked = run_rules(book, tables, options.values)
        steps = self.steps_made.steps
        last = max((int(step["step"].max() or 0) for step in steps if step.height), default=-1)  # type: ignore[arg-type]
        shift = len(self.steps_made.rules)
        steps_of_rules = worked.steps.with_columns(pl.col("rule") + shift, pl.col("step") + last + 1)
        self.steps_made.steps.append(conform(steps_of_rules, WORKED))
        self.steps_made.problems.append(worked.problems)
        self.steps_made.rules += worked.rules
        self._without_units(worked.problems)
        for name in fields_of(book):
            if name in worked.set:
                self.mark(name, worked.set[name])
                column = self.ours[name] if name in self.ours.columns else self.theirs[name]
                column = worked.cells[name].zip_with(worked.set[name], column)
                self.ours = self.ours.with_columns(column.alias(name))
            elif name not in self.ours.columns:
                self.ours = self.ours.with_columns(self.theirs[name])
