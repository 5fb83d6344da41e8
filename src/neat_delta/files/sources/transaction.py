"""Rows of a database's table changed in one transaction: all of them as they were meant, or none.

Rule: a row is looked at and locked before it is changed, and what stands there must be what stood there when the change
was planned, text for text as `database` reads it. Otherwise nothing is done, and every difference is listed.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from decimal import Decimal, InvalidOperation
from typing import TYPE_CHECKING, Any

from neat_delta.core.base.model.rows import Difference, RowChange, Texts
from neat_delta.core.base.support.errors import FileError, OutputError
from neat_delta.files.sources.address import Address
from neat_delta.files.sources.base import Terms
from neat_delta.files.sources.credentials import Credentials
from neat_delta.files.sources.database import NULL, Database, engine_of, text_of

if TYPE_CHECKING:
    from sqlalchemy import Connection

__all__ = ["change_rows"]


def change_rows(
    where: Address, known: Credentials, changes: Sequence[RowChange], terms: Terms, *, begun: bool = False
) -> list[Difference]:
    """Change the rows of the table that the fragment names; what differs from what was planned, and then nothing was
    done. Where it was `begun` before, and all of it stands there as meant, it is done already.

    FileError where the table is none, or the database does not allow it; PassingError where it may pass.
    """
    database = Database(where, engine_of(where, known, terms, reads=False), None)
    try:
        with database.faults(), database.engine.connect() as connection:
            if where.scheme == "sqlite":
                connection.exec_driver_sql("BEGIN IMMEDIATE")  # or another may write after we have looked
            table = _Table(where, connection, database)
            rows = [table.row(change.key) for change in changes]
            if begun and table.all_stands(changes):
                return []
            differences = [
                cell for change, row in zip(changes, rows, strict=True) for cell in table.compared(change, row)
            ]
            if not differences:
                table.change(changes)
                differences = table.kept_otherwise(changes)
            connection.rollback() if differences else connection.commit()
            return differences
    finally:
        database.close()


Rows = list[dict[str, str]]


class _Table:
    """The table, within its transaction."""

    def __init__(self, where: Address, connection: Connection, database: Database) -> None:
        self.where, self.connection = where, connection
        self.name, self.textual, self.columns = database.table(connection)
        self.quote = database.engine.dialect.identifier_preparer.quote
        self.lock = "" if where.scheme == "sqlite" else " FOR UPDATE"

    def value(self, column: str, text: str) -> str | None:
        """A cell as the database takes it: blank is nothing in a column without texts, and the mark of nothing in one
        that has them.
        """
        if column not in self.columns:
            raise FileError(f'{self.where.masked}: the table has no column "{column}". Compare with the table itself.')
        nothing = NULL if column in self.textual else ""
        return None if text == nothing else text

    def _run(self, statement: str, values: Mapping[str, str | None]) -> Any:  # noqa: ANN401 - SQLAlchemy's result
        return self.connection.exec_driver_sql(statement, dict(values))

    def _by_key(self, key: Texts) -> tuple[str, dict[str, str | None]]:
        values = {f"k{place}": self.value(column, text) for place, (column, text) in enumerate(key.items())}
        parts = [
            f"{self.quote(column)} = {self._mark(f'k{place}')}"
            if values[f"k{place}"] is not None
            else f"{self.quote(column)} IS NULL"
            for place, column in enumerate(key)
        ]
        return " AND ".join(parts), {name: value for name, value in values.items() if value is not None}

    def _mark(self, name: str) -> str:
        """Where a value stands in a statement, as the driver has it (PEP 249)."""
        return f":{name}" if self.where.scheme == "sqlite" else f"%({name})s"

    def row(self, key: Texts) -> Rows:
        """The rows that stand under a key, to the letter, as texts; locked until the transaction ends."""
        condition, values = self._by_key(key)
        answer = self._run(f"SELECT * FROM {self.name} WHERE {condition}{self.lock}", values)
        names = list(answer.keys())
        rows = [
            {name: self._text(cell, name) for name, cell in zip(names, row, strict=True)} for row in answer.fetchall()
        ]
        return [row for row in rows if all(row[column] == text for column, text in key.items())]

    def _text(self, cell: Any, name: str) -> str:  # noqa: ANN401 - whatever a driver gives
        if cell is None:
            return NULL if name in self.textual else ""
        return text_of(cell, name, self.where)

    def compared(self, change: RowChange, rows: Rows) -> Iterator[Difference]:
        """Where the rows that stand there under a key are not the one that was planned for."""
        if not change.before:
            if rows:
                yield Difference(change.key, None, None, "new", "it is there")
            return
        if len(rows) != 1:
            now = "it is there several times" if rows else None
            yield Difference(change.key, None, "one row", None, now)
            return
        for name, before in change.before.items():
            now = rows[0].get(name)
            if now is None or not self._same(name, now, before):
                yield Difference(change.key, name, before, change.after.get(name), now)

    def change(self, changes: Sequence[RowChange]) -> None:
        """Remove, change and add rows, each exactly one; codes that are passed on by way of one that nobody has."""
        for change in changes:
            if change.before and not change.after:
                self._remove(change)
        moves = {number: self._out_of_the_way(change) for number, change in enumerate(changes) if _is_move(change)}
        for number, change in enumerate(changes):
            if change.before and change.after:
                self._set(moves.get(number, change.key), change.after)
        for change in changes:
            if not change.before:
                self._add(change)

    def _out_of_the_way(self, change: RowChange) -> Texts:
        """Give a row whose key changes one that nobody has, so that another may get the old one meanwhile."""
        column = next(name for name, text in change.key.items() if change.after.get(name, text) != text)
        for number in range(1_000_000):
            key = {**change.key, column: f"~{number}"}
            if not self.row(key):
                self._set(change.key, {column: f"~{number}"})
                return key
        raise OutputError(f"{self.where.masked}: no free code is left to pass codes on by. Recode in two rounds.")

    def _set(self, key: Texts, after: Texts) -> None:
        condition, values = self._by_key(key)
        new = {f"v{place}": self.value(column, text) for place, (column, text) in enumerate(after.items())}
        sets = ", ".join(f"{self.quote(column)} = {self._mark(f'v{place}')}" for place, column in enumerate(after))
        self._must_be_single(self._run(f"UPDATE {self.name} SET {sets} WHERE {condition}", {**values, **new}), key)

    def _remove(self, change: RowChange) -> None:
        condition, values = self._by_key(change.key)
        self._must_be_single(self._run(f"DELETE FROM {self.name} WHERE {condition}", values), change.key)

    def _add(self, change: RowChange) -> None:
        given = {
            name: text
            for name, text in change.after.items()
            if change.in_full or self.value(name, text) not in {None, ""}
        }
        columns = ", ".join(self.quote(column) for column in given)
        marks = ", ".join(self._mark(f"v{place}") for place in range(len(given)))
        values = {f"v{place}": self.value(column, text) for place, (column, text) in enumerate(given.items())}
        self._must_be_single(self._run(f"INSERT INTO {self.name} ({columns}) VALUES ({marks})", values), change.key)

    def _must_be_single(self, result: Any, key: Texts) -> None:  # noqa: ANN401 - SQLAlchemy's result
        if result.rowcount != 1:
            raise OutputError(
                f"{self.where.masked}: a change of {' / '.join(key.values())} met {result.rowcount} rows, and must "
                "meet one. Nothing was changed. Name a key that only one row has."
            )

    def _same(self, column: str, text: str, other: str) -> bool:
        """Whether the database has one as the other: to the letter, or in a column without texts as the same number."""
        if text == other or column in self.textual:
            return text == other
        try:
            return Decimal(text) == Decimal(other)
        except InvalidOperation:
            return False

    def all_stands(self, changes: Sequence[RowChange]) -> bool:
        """Whether all of it is done already."""
        return all(not list(self._lacking(change)) for change in changes)

    def kept_otherwise(self, changes: Sequence[RowChange]) -> list[Difference]:
        """What the database has otherwise than it was meant, right after it was changed: cut, rounded, set by it."""
        return [difference for change in changes for difference in self._lacking(change)]

    def _lacking(self, change: RowChange) -> Iterator[Difference]:
        key = {name: change.after.get(name, text) for name, text in change.key.items()}
        rows = self.row(key)
        if not change.after:
            if rows and key == change.key:
                yield Difference(key, None, None, None, "it is there")
            return
        if len(rows) != 1:
            yield Difference(key, None, None, None, "it is there several times" if rows else None)
            return
        for name, after in change.after.items():
            blank = not change.before and not change.in_full and after in {"", NULL}
            if not blank and not self._same(name, rows[0][name], after):
                yield Difference(key, name, change.before.get(name), after, rows[0][name])


def _is_move(change: RowChange) -> bool:
    return bool(change.before) and any(change.after.get(name, text) != text for name, text in change.key.items())
