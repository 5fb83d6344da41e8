"""Changes of a table's rows as an SQL script, for people who run it themselves: one transaction, all of it or nothing.

Rule: before anything is changed the row of each change is counted, with what stood there, into a table that takes no
count but 1; and each statement only does something if all counts are there. So whatever runs the script, and even if it
goes on after an error, nothing is changed where one row is not as it was.
"""

from __future__ import annotations

import sqlite3
from collections.abc import Collection, Sequence

import polars as pl
from sqlglot import exp
from sqlglot.dialects.dialect import Dialect as Writer

from neat_delta.core.base.model.rows import NULL, Dialect, RowChange, Texts
from neat_delta.core.base.support.errors import ProofError

__all__ = ["prove_script", "sql_script"]

NAMES: dict[Dialect, str] = {"postgresql": "postgres", "mysql": "mysql", "sqlite": "sqlite"}
BEGINS: dict[Dialect, str] = {"postgresql": "BEGIN", "mysql": "START TRANSACTION", "sqlite": "BEGIN IMMEDIATE"}
COUNTS = "neat_delta_counts"
"""The table of counts, which is gone when the script has run."""


def sql_script(changes: Sequence[RowChange], table: str, textual: Collection[str], dialect: Dialect) -> str:
    r"""The script that makes these changes in a `table` (SCHEMA.NAME where it has one); `textual` are the columns that
    can hold text, in which `\N` is NULL; in the others a blank cell is.

    >>> change = RowChange({"sku": "QA-1"}, {"price": "9.90"}, {"price": "10.50"})
    >>> print(sql_script([change], "items", {"sku"}, "postgresql").splitlines()[5])
    UPDATE "items" SET "price" = '10.50' WHERE "sku" = 'QA-1' AND (SELECT COUNT(*) FROM neat_delta_counts) = 1;
    """
    return _Script(table, textual, dialect).text(changes)


class _Script:
    """A script in the making."""

    def __init__(self, table: str, textual: Collection[str], dialect: Dialect) -> None:
        self.textual, self.dialect = textual, dialect
        self.writer = Writer.get_or_raise(NAMES[dialect])
        self.table = ".".join(self._name(part) for part in table.split("."))

    def text(self, changes: Sequence[RowChange]) -> str:
        """The whole of it: every row counted; then removals, codes out of each other's way, changes, new rows."""
        kept = [change for change in changes if change.before and change.after]
        freed = {
            tuple(change.key.values()) for change in changes if change.before and (not change.after or _moves(change))
        }
        counts = [
            self._count("COUNT(*)", {**change.key, **change.before}) if change.before
            else self._count("1 + COUNT(*)", change.key)
            for change in changes
            if change.before or tuple(change.key.values()) not in freed
        ]  # fmt: skip
        met = f"(SELECT COUNT(*) FROM {COUNTS}) = {len(counts)}"
        removed = [change.key for change in changes if not change.after]
        lines = [f"DELETE FROM {self.table} WHERE {self._condition(key)} AND {met};" for key in removed]
        keys = {number: change.key for number, change in enumerate(kept)}
        for number, change in enumerate(kept):
            if _moves(change):
                column = next(name for name, text in change.key.items() if change.after.get(name, text) != text)
                lines.append(self._update(change.key, {column: f"~{number}"}, met))
                keys[number] = {**change.key, column: f"~{number}"}
        lines += [self._update(keys[number], change.after, met) for number, change in enumerate(kept)]
        lines += [self._addition(change, met) for change in changes if not change.before]
        temporary = "TEMPORARY " if self.dialect == "mysql" else ""
        return "\n".join(
            [
                f"-- {len(changes):,} rows of {self.table}, in one transaction: all of them, or none where one is",
                "-- not as it was, which is an error of the table that counts them.",
                f"{BEGINS[self.dialect]};",
                f"CREATE TEMPORARY TABLE {COUNTS} (n INTEGER NOT NULL CHECK (n = 1));",
                *counts,
                *lines,
                f"DROP {temporary}TABLE {COUNTS};",
                "COMMIT;",
                "",
            ]
        )

    def _update(self, key: Texts, after: Texts, met: str) -> str:
        sets = ", ".join(f"{self._name(name)} = {self._literal(name, text)}" for name, text in after.items())
        return f"UPDATE {self.table} SET {sets} WHERE {self._condition(key)} AND {met};"

    def _addition(self, change: RowChange, met: str) -> str:
        given = {
            name: text
            for name, text in change.after.items()
            if change.in_full or (self._value(name, text) is not None and text)
        }
        names = ", ".join(self._name(name) for name in given)
        values = ", ".join(self._literal(name, text) for name, text in given.items())
        nowhere = " FROM DUAL" if self.dialect == "mysql" else ""
        return f"INSERT INTO {self.table} ({names}) SELECT {values}{nowhere} WHERE {met};"

    def _count(self, what: str, cells: Texts) -> str:
        return f"INSERT INTO {COUNTS} SELECT {what} FROM {self.table} WHERE {self._condition(cells)};"

    def _condition(self, cells: Texts) -> str:
        return " AND ".join(self._equals(name, text) for name, text in cells.items())

    def _equals(self, name: str, text: str) -> str:
        """That a column has this text. A blank one is NULL or the empty text, whichever its type has."""
        value = self._value(name, text)
        if not text:
            blank = exp.Coalesce(
                this=exp.cast(exp.column(name, quoted=True), "text"), expressions=[exp.Literal.string("")]
            )
            return f"{blank.sql(self.writer)} = ''"
        if value is None:
            return f"{self._name(name)} IS NULL"
        if self.dialect == "mysql" and name in self.textual:  # which holds abc for ABC otherwise
            return f"CAST({self._name(name)} AS BINARY) = CAST({self._literal(name, text)} AS BINARY)"
        return f"{self._name(name)} = {self._literal(name, text)}"

    def _value(self, name: str, text: str) -> str | None:
        return None if text == NULL or (not text and name not in self.textual) else text

    def _literal(self, name: str, text: str) -> str:
        """A value, quoted as the dialect has it."""
        value = self._value(name, text)
        return (exp.Null() if value is None else exp.Literal.string(value)).sql(self.writer)

    def _name(self, name: str) -> str:
        """An identifier, quoted as the dialect has it."""
        return exp.to_identifier(name, quoted=True).sql(self.writer)


def _moves(change: RowChange) -> bool:
    """Whether a row's key changes."""
    return bool(change.after) and any(change.after.get(name, text) != text for name, text in change.key.items())


def prove_script(
    changes: Sequence[RowChange], table: str, textual: Collection[str], live: pl.DataFrame, target: pl.DataFrame
) -> None:
    """Run the script in SQLite on a table of `live`, under its own columns; ProofError where that does not give the
    `target` exactly, in whatever order.
    """
    columns = live.columns
    plain = table.rpartition(".")[2]
    quoted = [exp.to_identifier(name, quoted=True).sql("sqlite") for name in columns]
    name = exp.to_identifier(plain, quoted=True).sql("sqlite")
    blank = [NULL if column in textual else "" for column in columns]
    with sqlite3.connect(":memory:", isolation_level=None) as connection:
        connection.execute(f"CREATE TABLE {name} ({', '.join(quoted)})")
        rows = [
            [None if text in {of, NULL} else text for text, of in zip(row, blank, strict=True)]
            for row in live.iter_rows()
        ]
        connection.executemany(f"INSERT INTO {name} VALUES ({', '.join('?' * len(columns))})", rows)
        connection.executescript(sql_script(changes, plain, textual, "sqlite"))
        after = connection.execute(f"SELECT * FROM {name}").fetchall()
    texts = [tuple(of if text is None else text for text, of in zip(row, blank, strict=True)) for row in after]
    wanted = [tuple("" if text is None else text for text in row) for row in target.iter_rows()]
    # A new row has nothing where nothing was given: that is the table's own affair, and a blank cell here.
    same = [tuple("" if text == NULL else text for text in row) for row in sorted(texts)]
    if sorted(same) != sorted(tuple("" if text == NULL else text for text in row) for row in wanted):
        raise ProofError("The script does not give the target, so it is not handed over. That is a fault of ours.")
