"""Rules run in their order, each seeing what the last made: the cells they set, how each came about, and what could not
be worked out.

Rule: a value whose input is missing or unreadable is not guessed; the cell stays as it is, and is said.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, replace

import polars as pl
from sqlglot import exp

from neat_delta.core.base.kinds import KINDS
from neat_delta.core.base.model.catalogue import MARK, listed
from neat_delta.core.base.model.layout import Notation
from neat_delta.core.base.model.rules import Lookup, Rule, RuleInput, Rules, RuleText
from neat_delta.core.base.model.schemas import PROBLEMS, WORKED, conform, empty
from neat_delta.core.base.model.store import Field
from neat_delta.core.base.query.compile import Column
from neat_delta.core.base.query.expressions import (
    Condition,
    Expression,
    Own,
    Rows,
    Truth,
    Values,
    compute,
    condition,
    expression,
    truth,
)
from neat_delta.core.base.support.distinct import deduplicate
from neat_delta.core.base.support.errors import ConditionError
from neat_delta.core.base.support.nearest import did_you_mean, nearest
from neat_delta.core.base.support.series import constant, gathered, scattered, true_places
from neat_delta.core.sheets.rules.writing import written

__all__ = ["RuleTables", "Worked", "fields_of", "run_rules"]

SO_FAR, LIVE, SHEET = "", "live", "sheet"


@dataclass(frozen=True, slots=True)
class RuleTables:
    """What rules are about, row by row: the cells as they stand `so_far`, live's (blank where it has no item), and
    those of a list with headings of its own, under its headings and its fields (None: there is none). `settings` and
    `writing` are the store's, `sheet_own` the list's. `lookups` are the tables to look up in; `named` says which field
    a heading of the list stands for.
    """

    so_far: pl.DataFrame
    live: pl.DataFrame
    settings: Mapping[str, Field]
    writing: Notation
    sheet: pl.DataFrame | None = None
    sheet_own: Own | None = None
    lookups: Mapping[str, pl.DataFrame] = field(default_factory=dict)
    named: Mapping[str, str] = field(default_factory=dict)


@dataclass(frozen=True, slots=True)
class Worked:
    """The cells after all rules; which rows of each field were set; the steps (`WORKED`), the `problems`, and what the
    rules said, by their number in the steps.
    """

    cells: pl.DataFrame
    set: dict[str, pl.Series]
    steps: pl.DataFrame
    problems: pl.DataFrame
    rules: list[RuleText]


def fields_of(rules: Rules) -> list[str]:
    """The fields that rules set, each once.

    >>> fields_of(Rules(rule=[Rule("retail", {"price": "cost * 2"}), Rule("ends", {"price": "price"})]))
    ['price']
    """
    return list(dict.fromkeys(name for rule in rules.rule for name in rule.set))


def run_rules(rules: Rules, tables: RuleTables, values: Mapping[str, str] | None = None, path: str = "") -> Worked:
    """Run the rules; `values` are said besides what the rules let names stand for, and count before it.

    ConditionError names the rule and the word that means nothing there, or a field that is none.
    """
    let = {name: str(value) for name, value in rules.let.items()} | dict(values or {})
    run = _Run(tables, let)
    names = [rule.name for rule in rules.rule]
    for name in names:
        if names.count(name) > 1:
            raise ConditionError(f'{path or "The rules"}: two rules are called "{name}". Give each a name of its own.')
    for number, rule in enumerate(rules.rule):
        try:
            for name in rule.replaces:
                if name not in names[:number]:
                    raise ConditionError(
                        f'over names "{name}", and no rule before it is called that.'
                        + did_you_mean(name, names[:number])
                    )
            run.look_up(rules.table)
            run.apply(rule)
        except ConditionError as error:
            raise ConditionError(f'{path + ": " if path else ""}rule "{rule.name}": {error}') from None
    return Worked(
        run.cells, run.done, pl.concat(run.steps or [empty(WORKED)]), pl.concat(run.problems or [empty(PROBLEMS)]),
        run.texts,
    )  # fmt: skip


@dataclass(frozen=True, slots=True)
class _Joined:
    """A table with a row for each of ours, the headings' kinds, and why a row has none (null: it has)."""

    cells: pl.DataFrame
    own: Own
    wrong: pl.Series
    by: list[Column]


def _looked_up(name: str, lookup: Lookup, tables: RuleTables, rows: Rows) -> _Joined:
    """For each row the one row of a table that it names."""
    cells = tables.lookups[name]
    for heading in (*lookup.by, *lookup.kinds):
        if heading not in cells.columns:
            raise ConditionError(f'the table "{name}" has no heading "{heading}"; it has: {listed(cells.columns)}.')
    sought = {heading: compute(expression(text), rows) for heading, text in lookup.by.items()}
    wanted = pl.DataFrame({heading: values.texts.cast(pl.String) for heading, values in sought.items()})
    by = list(lookup.by)
    keys = cells.select(pl.col(by).str.strip_chars())
    first = keys.with_row_index(MARK).with_columns(times=pl.len().over(by)) if MARK not in by else keys
    first = first.unique(by, keep="first")
    met = wanted.join(first, on=by, how="left", maintain_order="left")
    texts = pl.concat_str([pl.col(part).fill_null("") for part in by], separator=", ")
    wrong = met.select(
        pl.when(pl.any_horizontal(pl.col(by).is_null()))
        .then(pl.lit(f"{', '.join(lookup.by.values())} is blank, so {name} has no row for it"))
        .when(pl.col(MARK).is_null())
        .then(pl.format('{} has no row for "{}"', pl.lit(name), texts))
        .when(pl.col("times") > 1)
        .then(pl.format('{} has {} rows for "{}"', pl.lit(name), "times", texts))
    ).to_series()
    at = met[MARK].set(wrong.is_not_null(), None)
    settings = {heading: Field(kind) for heading, kind in lookup.kinds.items()}
    read = [column for values in sought.values() for column in values.inputs]
    return _Joined(gathered(cells, at).fill_null(""), Own(settings, tables.writing), wrong, read)


class _Run:
    """The state of a run: the cells so far, and which rule set each last."""

    def __init__(self, tables: RuleTables, values: Mapping[str, str]) -> None:
        self.tables, self.values = tables, values
        self.cells = tables.so_far
        self.height = self.cells.height
        self.joined: dict[str, _Joined] = {}
        self.done: dict[str, pl.Series] = {}
        self.failed: dict[str, pl.Series] = {}
        self.last: dict[str, pl.Series] = {}
        self.count: dict[str, pl.Series] = {}
        self.steps: list[pl.DataFrame] = []
        self.problems: list[pl.DataFrame] = []
        self.texts: list[RuleText] = []
        self.asked: list[Column] = []

    def look_up(self, lookups: Mapping[str, Lookup]) -> None:
        """Find the rows of the tables anew, as what they are looked up by may have changed."""
        rows = self.rows()
        self.joined = {name: _looked_up(name, lookup, self.tables, rows) for name, lookup in lookups.items()}

    def rows(self, those: pl.Series | None = None) -> Rows:
        """The tables, of all rows or of `those`."""
        tables = {SO_FAR: self.cells, LIVE: self.tables.live}
        own = {}
        if self.tables.sheet is not None:
            tables[SHEET] = self.tables.sheet
            if self.tables.sheet_own is not None:
                own[SHEET] = self.tables.sheet_own
        for name, lookup in self.joined.items():
            tables[name.casefold()], own[name.casefold()] = lookup.cells, lookup.own
        if those is not None:
            tables = {name: table.filter(those) for name, table in tables.items()}
        return Rows(tables, self.tables.settings, self.tables.writing, own, self.values)

    def apply(self, rule: Rule) -> None:
        """Run one rule."""
        holds, self.asked = constant(True, self.height), []
        if rule.where is not None:
            where = condition(rule.where)
            seen = self.true_of(where)
            holds = seen.holds
            self.asked = [*seen.inputs, *self._sought(where)]
            for column in seen.inputs:
                unread = seen.unknown & column.texts.is_not_null() & ~column.readable
                self.report(rule, None, true_places(unread), _cannot_read(column).filter(unread))
            self.missing_rows(rule, None, where, seen.unknown)
            holds = holds & ~self.rest_on_failed(rule, None, seen.inputs, holds)
        for name in rule.set:
            if name not in self.cells.columns:
                near = nearest(name, self.cells.columns)
                hint = f'did you mean "{near}"?' if near else f"there are: {listed(self.cells.columns)}."
                raise ConditionError(f'there is no field "{name}" to set; {hint}')
        those = None if holds.all() else holds
        at = true_places(holds)
        rows, changed = self.rows(those), {}
        for name, text in rule.set.items():
            changed[name] = self.compute(rule, name, expression(text), rows, at)
        self.cells = self.cells.with_columns(**changed)

    def compute(self, rule: Rule, name: str, wanted: Expression, rows: Rows, at: pl.Series) -> pl.Series:
        """The column of a field after a rule set it in the rows `at`."""
        values, texts, wrong = self.worked_out(wanted, rows, name)
        missing = gathered(self.missing_rows(rule, name, wanted, constant(True, self.height)), at)
        for column in values.inputs:
            unread = column.texts.is_not_null() & ~column.readable
            if unread.any():
                missing = missing.zip_with(missing.is_not_null() | ~unread, _cannot_read(column))
        missing = missing.zip_with(missing.is_not_null(), wrong)
        failed = gathered(self.rest_on_failed(rule, name, values.inputs, constant(True, self.height)), at)
        lacking = texts.is_null() & missing.is_null()
        if lacking.any():
            missing = missing.zip_with(~lacking, values.failed)
            lacking &= missing.is_null()
            missing = missing.zip_with(~lacking, _blank_inputs(values.inputs, at.len()))
        earlier = self.last.get(name)
        if earlier is not None:
            by = gathered(earlier, at)
            over = [number for number, text in enumerate(self.texts) if text.rule in rule.replaces]
            conflict = by.is_not_null() & ~by.is_in(over) & missing.is_null()
            conflict &= (texts != gathered(self.cells[name], at)).fill_null(value=True)
            if conflict.any():
                named = by.replace_strict({n: text.rule for n, text in enumerate(self.texts)}, return_dtype=pl.String)
                what = pl.select(
                    pl.format('{} set it, too, and this rule comes to {}: over = "{}" lets it', named, texts, named)
                ).to_series()
                missing = missing.zip_with(~conflict, what)
        bad = missing.is_not_null() & ~failed
        self.report(rule, name, at.filter(bad), missing.filter(bad))
        bad |= failed
        if bad.any():
            before = self.failed.get(name, constant(False, self.height))
            self.failed[name] = scattered(before, at.filter(bad), True)
        good, result = at.filter(~bad), texts.filter(~bad)
        number = len(self.texts)
        self.note(rule, name, wanted, values.inputs)
        if good.len():
            step = self.count.get(name, constant(0, self.height, pl.UInt16))
            inputs = pl.DataFrame({str(n): column.texts.filter(~bad) for n, column in enumerate(values.inputs)})
            listed_inputs = (
                inputs.select(pl.concat_list(pl.all())).to_series()
                if values.inputs
                else pl.Series([[]], dtype=pl.List(pl.String)).new_from_index(0, good.len())
            )
            steps = pl.DataFrame(
                {"place": good, "step": gathered(step, good), "inputs": listed_inputs, "result": result}
            )
            self.steps.append(conform(steps.with_columns(field=pl.lit(name), rule=pl.lit(number)), WORKED))
            self.count[name] = scattered(step, good, gathered(step, good) + 1)
            none = constant(None, self.height, pl.Int64)
            self.last[name] = scattered(none if earlier is None else earlier, good, number)
            set_already = self.done.get(name, constant(False, self.height))
            self.done[name] = scattered(set_already, good, True)
        if good.len() == self.height:
            return result.alias(name)
        return scattered(self.cells[name], good, result)

    def true_of(self, where: Condition) -> Truth:
        """For which rows a condition holds. Of rows that are like others it is worked out once."""
        rows = self.rows()
        distinct = _distinct(where, rows)
        if distinct is None:
            return truth(where, rows)
        seen, which = truth(where, replace(rows, tables=distinct.tables)), distinct.which
        return Truth(gathered(seen.holds, which), gathered(seen.unknown, which), _expanded(seen.inputs, which))

    def worked_out(self, wanted: Expression, rows: Rows, name: str) -> tuple[Values, pl.Series, pl.Series]:
        """The values of an expression, the texts of the field that they come to, and what is wrong with those that
        cannot be written. Of rows that are like others it is worked out once.
        """
        settings = self.tables.settings.get(name, Field())
        distinct = _distinct(wanted, rows, name)
        few = rows if distinct is None else replace(rows, tables=distinct.tables)
        try:
            values = compute(wanted, few)
            texts, wrong = written(values, name, settings, self.tables.writing, few.tables[SO_FAR][name])
        except ConditionError as error:
            raise ConditionError(f"{name}: {error}") from None
        if distinct is None:
            return values, texts, wrong
        which = distinct.which
        inputs, failed = _expanded(values.inputs, which), gathered(values.failed, which)
        return replace(values, inputs=inputs, failed=failed), gathered(texts, which), gathered(wrong, which)

    def rest_on_failed(self, rule: Rule, name: str | None, inputs: list[Column], concerned: pl.Series) -> pl.Series:
        """Which rows read a cell that an earlier rule could not work out: they are left as they are. Of a field other
        than that cell's this is reported; without a field, of all that the rule sets.
        """
        rest = constant(False, self.height)
        names = {column.field for column in inputs if column.table == SO_FAR} | ({name} if name else set())
        for field_name in sorted(names & set(self.failed)):
            failed = self.failed[field_name] & concerned
            rest |= failed
            for other in [name] if name is not None else rule.set:
                if other != field_name and failed.any():
                    what = constant(f"{field_name} could not be worked out", int(failed.sum()))
                    self.report(rule, other, true_places(failed), what)
                    mark = self.failed.get(other, constant(False, self.height))
                    self.failed[other] = mark | failed
        return rest

    def missing_rows(
        self, rule: Rule, name: str | None, wanted: Condition | Expression, concerned: pl.Series
    ) -> pl.Series:
        """Why a row has no row in a table that is looked up in (null: it has); of a condition, it is reported."""
        missing = constant(None, self.height, pl.String)
        used = {column.table.casefold() for column in wanted.tree.find_all(exp.Column)}
        for table, lookup in self.joined.items():
            if table.casefold() in used:
                missing = missing.zip_with(missing.is_not_null() | ~concerned, lookup.wrong)
        if name is None:
            self.report(rule, None, true_places(missing.is_not_null()), missing.drop_nulls())
        return missing

    def report(self, rule: Rule, name: str | None, places: pl.Series, what: pl.Series) -> None:
        """Say what could not be worked out; without a field, of all that the rule sets."""
        if not places.len():
            return
        for field_name in [name] if name is not None else rule.set:
            table = pl.DataFrame({"place": places, "what": what})
            columns = {"field": field_name, "source": "rule", "rule": rule.name}
            table = table.with_columns(pl.lit(text).alias(column) for column, text in columns.items())
            self.problems.append(conform(table, PROBLEMS))

    def note(self, rule: Rule, name: str, wanted: Expression, inputs: list[Column]) -> None:
        """Keep what a rule said of a field."""
        kinds = [RuleInput(column.name, column.settings, self._writing(column)) for column in inputs]
        used = {str(placeholder.this) for placeholder in wanted.tree.find_all(exp.Placeholder)}
        values = {key: value for key, value in self.values.items() if key in used}
        reads = [self._field_read(column) for column in (*inputs, *self._sought(wanted), *self.asked)]
        named = [field_read for field_read in dict.fromkeys(reads) if field_read is not None]
        self.texts.append(RuleText(rule.name, name, wanted.text, rule.where, rule.why, kinds, values, named))

    def _sought(self, wanted: Condition | Expression) -> list[Column]:
        """What the tables that this names are looked up by."""
        used = {column.table.casefold() for column in wanted.tree.find_all(exp.Column)}
        return [column for name, lookup in self.joined.items() if name.casefold() in used for column in lookup.by]

    def _field_read(self, column: Column) -> str | None:
        """The field of the item, as it will be, that a column is; None where it is live's, or of another table."""
        if column.table == SO_FAR:
            return column.field
        return self.tables.named.get(column.field) if column.table == SHEET else None

    def _writing(self, column: Column) -> Notation | None:
        """How a column is written; None where like live."""
        own = self.tables.sheet_own if column.table == SHEET else None
        if own is None:
            joined = (lookup.own for name, lookup in self.joined.items() if name.casefold() == column.table)
            return next((source.writing for source in joined), None)
        notation = own.notations.get(column.field)
        return own.writing if notation is None else notation.over(own.writing)


@dataclass(frozen=True, slots=True)
class _Distinct:
    """The different rows of what an expression reads, as tables; and which of them each row is."""

    tables: Mapping[str, pl.DataFrame]
    which: pl.Series


def _expanded(inputs: list[Column], which: pl.Series) -> list[Column]:
    """Columns of the different rows as columns of all."""
    return [
        replace(
            column,
            texts=gathered(column.texts, which),
            readable=gathered(column.readable, which),
            doubts=gathered(column.doubts, which),
        )
        for column in inputs
    ]


def _distinct(wanted: Condition | Expression, rows: Rows, name: str | None = None) -> _Distinct | None:
    """The different rows of the columns that an expression reads, and of the field that it sets; None where a name is
    none, as `compute` will say, or most rows differ.
    """
    used = [] if name is None else [(SO_FAR, name)]
    for column in wanted.tree.find_all(exp.Column):
        table = column.table.casefold()
        names = rows.tables[table].columns if table in rows.tables and not column.args.get("db") else []
        alike = [column_there for column_there in names if column_there == column.name] or [
            column_there for column_there in names if column_there.casefold() == column.name.casefold()
        ]
        if len(alike) != 1:
            return None
        used.append((table, alike[0]))
    used = list(dict.fromkeys(used))
    if not used:
        return None
    together = pl.DataFrame({str(n): rows.tables[table][field_name] for n, (table, field_name) in enumerate(used)})
    distinct = deduplicate(together)
    if distinct.which is None:
        return None
    tables: dict[str, dict[str, pl.Series]] = {SO_FAR: {}}
    for n, (table, field_name) in enumerate(used):
        tables.setdefault(table, {})[field_name] = distinct.rows[str(n)]
    tables[SO_FAR] = tables[SO_FAR] or {MARK: distinct.rows.to_series(0)}  # which says how many rows there are
    return _Distinct({table: pl.DataFrame(columns) for table, columns in tables.items()}, distinct.which)


def _cannot_read(column: Column) -> pl.Series:
    why = column.doubts.fill_null(f"is not {KINDS[column.settings.kind]}")
    return pl.select(pl.format("{} {}: {}", pl.lit(column.name), why, column.texts)).to_series()


def _blank_inputs(inputs: list[Column], height: int) -> pl.Series:
    """Which of the inputs are blank; where none is, that there is no value."""
    parts = [pl.select(pl.when(column.texts.is_null()).then(pl.lit(column.name))).to_series() for column in inputs]
    none = pl.lit("it has no value: a division by zero, or no case that holds")
    if not parts:
        return pl.select(pl.repeat(none, height)).to_series() if height else pl.Series([], dtype=pl.String)
    table = pl.DataFrame({str(n): part for n, part in enumerate(parts)})
    names = pl.concat_str(pl.all(), separator=", ", ignore_nulls=True)
    return table.select(pl.when(names != "").then(names + " is blank").otherwise(none)).to_series()
