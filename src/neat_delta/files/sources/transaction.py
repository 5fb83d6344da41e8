"""Rows of a database's table changed in one transaction: all of them as they were meant, or none.

Rule: a row is looked at and locked before it is changed, and what stands there must be what stood there when the change
was planned, text for text as `database` reads it. Otherwise nothing is done, and every difference is listed.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from decimal import Decimal, InvalidOperation
from typing import TYPE_CHECKING, Any

from neat_delta.core.base.model.rows import NULL, Difference, RowChange, Texts
from neat_delta.core.base.support.errors import FileError, OutputError
from neat_delta.files.sources.address import Address
from neat_delta.files.sources.base import Terms
from neat_delta.files.sources.credentials import Credentials
from neat_delta.files.sources.database import Database, engine_of, text_of

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
            if begun and not table.lacking(changes):
                return []
            differences = table.differing(changes)
            if not differences:
                table.change(changes)
                differences = table.lacking(changes)
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
        self.free = 0

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

    def _by_key(self, key: Texts, prefix: str = "k") -> tuple[str, dict[str, str | None]]:
        """The condition that a row has a key, with the values that stand in it."""
        values = {f"{prefix}{place}": self.value(column, text) for place, (column, text) in enumerate(key.items())}
        parts = [
            f"{self.quote(column)} IS NULL" if value is None else f"{self.quote(column)} = {self._mark(name)}"
            for column, (name, value) in zip(key, values.items(), strict=True)
        ]
        return " AND ".join(parts), {name: value for name, value in values.items() if value is not None}

    def _mark(self, name: str) -> str:
        """Where a value stands in a statement, as the driver has it (PEP 249)."""
        return f":{name}" if self.where.scheme == "sqlite" else f"%({name})s"

    def rows(self, keys: Sequence[Texts]) -> list[Rows]:
        """The rows that stand under each key, to the letter, as texts; locked until the transaction ends."""
        by_key: dict[tuple[str, ...], Rows] = {}
        columns = list(keys[0]) if keys else []
        for start in range(0, len(keys), KEYS_AT_ONCE):
            conditions, values = list[str](), dict[str, str | None]()
            for number, key in enumerate(keys[start : start + KEYS_AT_ONCE]):
                condition, those = self._by_key(key, f"k{number}_")
                conditions.append(f"({condition})")
                values |= those
            answer = self._run(f"SELECT * FROM {self.name} WHERE {' OR '.join(conditions)}{self.lock}", values)
            names = list(answer.keys())
            for cells in answer.fetchall():
                row = {name: self._text(cell, name) for name, cell in zip(names, cells, strict=True)}
                by_key.setdefault(tuple(row[column] for column in columns), []).append(row)
        return [by_key.get(tuple(key.values()), []) for key in keys]

    def _text(self, cell: Any, name: str) -> str:  # noqa: ANN401 - whatever a driver gives
        if cell is None:
            return NULL if name in self.textual else ""
        return text_of(cell, name, self.where)

    def differing(self, changes: Sequence[RowChange]) -> list[Difference]:
        """Where the rows that stand there are not those that were planned for. A new row may have the code of one that
        goes or gets another.
        """
        freed = {
            _key(change.key) for change in changes if change.before and _key(_key_after(change)) != _key(change.key)
        }
        freed |= {_key(change.key) for change in changes if not change.after}
        rows = self.rows([change.key for change in changes])
        return [
            difference
            for change, stands in zip(changes, rows, strict=True)
            for difference in self._compared(change, stands)
            if change.before or _key(change.key) not in freed
        ]

    def _compared(self, change: RowChange, rows: Rows) -> Iterator[Difference]:
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
        keys = {number: moves.get(number, change.key) for number, change in enumerate(changes)}
        alike: dict[tuple[str, ...], list[int]] = {}
        for number, change in enumerate(changes):
            if change.before and change.after:
                alike.setdefault(tuple(change.after), []).append(number)
        for same_columns in alike.values():
            self._set([(keys[number], changes[number].after) for number in same_columns])
        for change in changes:
            if not change.before:
                self._add(change)

    def _out_of_the_way(self, change: RowChange) -> Texts:
        """Give a row whose key changes one that nobody has, so that another may get the old one meanwhile."""
        column = next(name for name, text in change.key.items() if change.after.get(name, text) != text)
        while True:
            key = {**change.key, column: f"~{self.free}"}
            self.free += 1
            if not self.rows([key])[0]:
                self._set([(change.key, {column: key[column]})])
                return key

    def _set(self, rows: Sequence[tuple[Texts, Texts]]) -> None:
        """Set the same columns of some rows, each known by its key, and each exactly one row."""
        after = rows[0][1]
        sets = ", ".join(f"{self.quote(column)} = {self._mark(f'v{place}')}" for place, column in enumerate(after))
        by_condition: dict[str, list[dict[str, str | None]]] = {}
        for key, texts in rows:
            condition, values = self._by_key(key)
            values |= {f"v{place}": self.value(column, text) for place, (column, text) in enumerate(texts.items())}
            by_condition.setdefault(condition, []).append(values)
        for condition, all_values in by_condition.items():
            statement = f"UPDATE {self.name} SET {sets} WHERE {condition}"
            result = self.connection.exec_driver_sql(statement, all_values)
            self._must_meet(len(all_values), result, rows[0][0])

    def _remove(self, change: RowChange) -> None:
        condition, values = self._by_key(change.key)
        self._must_meet(1, self._run(f"DELETE FROM {self.name} WHERE {condition}", values), change.key)

    def _add(self, change: RowChange) -> None:
        given = {
            name: text
            for name, text in change.after.items()
            if change.in_full or self.value(name, text) not in {None, ""}
        }
        columns = ", ".join(self.quote(column) for column in given)
        marks = ", ".join(self._mark(f"v{place}") for place in range(len(given)))
        values = {f"v{place}": self.value(column, text) for place, (column, text) in enumerate(given.items())}
        self._must_meet(1, self._run(f"INSERT INTO {self.name} ({columns}) VALUES ({marks})", values), change.key)

    def _must_meet(self, rows: int, result: Any, key: Texts) -> None:  # noqa: ANN401 - SQLAlchemy's result
        if result.rowcount != rows:
            raise OutputError(
                f"{self.where.masked}: changes of {rows:,} rows, from {' / '.join(key.values())} on, met "
                f"{result.rowcount:,}. Nothing was changed. Name a key that only one row has."
            )

    def _same(self, column: str, text: str, other: str) -> bool:
        """Whether the database has one as the other: to the letter, or in a column without texts as the same number."""
        if text == other or column in self.textual:
            return text == other
        try:
            return Decimal(text) == Decimal(other)
        except InvalidOperation:
            return False

    def lacking(self, changes: Sequence[RowChange]) -> list[Difference]:
        """What does not stand there as it was meant: not changed yet, or kept otherwise (cut, rounded, set by it)."""
        keys = [_key_after(change) for change in changes]
        held = {_key(key) for key, change in zip(keys, changes, strict=True) if change.after}
        return [
            difference
            for change, key, rows in zip(changes, keys, self.rows(keys), strict=True)
            for difference in self._lacking(change, key, rows)
            if change.after or _key(key) not in held
        ]

    def _lacking(self, change: RowChange, key: Texts, rows: Rows) -> Iterator[Difference]:
        if not change.after:
            if rows:
                yield Difference(key, None, None, None, "it is there")
            return
        if len(rows) != 1:
            yield Difference(key, None, None, None, "it is there several times" if rows else None)
            return
        for name, after in change.after.items():
            blank = not change.before and not change.in_full and after in {"", NULL}
            if not blank and not self._same(name, rows[0][name], after):
                yield Difference(key, name, change.before.get(name), after, rows[0][name])


KEYS_AT_ONCE = 200
"""So many rows are asked for in one statement; SQLite takes 32,766 values in one."""


def _key(key: Texts) -> tuple[str, ...]:
    return tuple(key.values())


def _key_after(change: RowChange) -> Texts:
    """The key that a row has once it is changed."""
    return {name: change.after.get(name, text) for name, text in change.key.items()}


def _is_move(change: RowChange) -> bool:
    return bool(change.before and change.after) and _key_after(change) != change.key
