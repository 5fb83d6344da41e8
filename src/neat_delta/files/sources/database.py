r"""Tables of a database, by SQLAlchemy: what is fetched is CSV, each value as its exact text.

Rule: no order is relied upon that a database happens to give: the rows stand in the order of their texts, by the
primary key first. NULL is a blank cell in a column that can hold no text, and `\N` in one that can (as PostgreSQL's and
MySQL's own text formats write it), where a blank cell is the empty text.
"""

from __future__ import annotations

import json
from collections.abc import Callable, Iterable, Iterator
from contextlib import contextmanager
from datetime import date, datetime, time, timedelta
from decimal import Decimal
from typing import TYPE_CHECKING, Any

import polars as pl

from neat_delta.core.base.model.layout import Layout
from neat_delta.core.base.model.rows import NULL
from neat_delta.core.base.support.errors import FileError
from neat_delta.core.base.support.nearest import did_you_mean
from neat_delta.files.sources.address import Address
from neat_delta.files.sources.base import FileState, Opened, PassingError, Terms, needs_package
from neat_delta.files.sources.credentials import Credentials
from neat_delta.files.writers.delimited import write_delimited

if TYPE_CHECKING:
    from sqlalchemy import Connection, Engine

__all__ = ["Database", "connect", "database_faults", "engine_of", "text_of"]

ROWS_AT_ONCE = 20_000
DRIVERS = {"postgresql": "postgresql+psycopg", "mysql": "mysql+pymysql", "mariadb": "mysql+pymysql", "sqlite": "sqlite"}
"""Each sort of database with the driver that SQLAlchemy is to take."""


def connect(where: Address, known: Credentials, terms: Terms, query: str | None) -> Database:
    """What reads one table, or what a query gives; FileError where a package is not installed."""
    return Database(where, engine_of(where, known, terms, reads=True), query)


def engine_of(where: Address, known: Credentials, terms: Terms, *, reads: bool) -> Engine:
    """SQLAlchemy's engine for an address; one that `reads` cannot write.

    FileError where a package is not installed, or a file is not there.
    """
    try:
        from sqlalchemy import URL, create_engine, event
    except ImportError as error:
        raise needs_package(where.masked, "database", error) from None
    options: dict[str, Any] = {}
    seconds, name = int(terms.connect_seconds), where.path.removeprefix("/")
    if where.scheme == "sqlite":
        options = {"creator": _sqlite(where, reads=reads, seconds=seconds)}
    elif where.scheme == "postgresql":
        arguments: dict[str, Any] = {"connect_timeout": seconds}
        arguments["options"] = "-c TimeZone=UTC" + (" -c default_transaction_read_only=on" if reads else "")
        options = {"connect_args": arguments, "isolation_level": "REPEATABLE READ" if reads else "READ COMMITTED"}
    else:
        options = {
            "connect_args": {"connect_timeout": seconds, "charset": "utf8mb4"},
            "isolation_level": "REPEATABLE READ" if reads else "READ COMMITTED",
        }
    url = URL.create(
        DRIVERS[where.scheme], known.user if where.scheme != "sqlite" else None, known.password, where.host or None,
        where.port, name or None, _parameters(where),
    )  # fmt: skip
    if where.scheme == "sqlite":
        url = URL.create("sqlite")
    try:
        engine = create_engine(url, pool_pre_ping=False, **options)
    except ImportError as error:
        raise needs_package(where.masked, "database", error) from None
    if reads and where.scheme in {"mysql", "mariadb"}:

        @event.listens_for(engine, "connect")
        def read_only(connection: Any, record: object) -> None:  # noqa: ANN401 - the driver's own
            del record
            with connection.cursor() as cursor:
                cursor.execute("SET SESSION TRANSACTION READ ONLY")

    return engine


def _parameters(where: Address) -> dict[str, str]:
    from urllib.parse import parse_qsl

    return dict(parse_qsl(where.query))


def _sqlite(where: Address, *, reads: bool, seconds: int) -> Callable[[], Any]:
    """What opens a file of SQLite that is there: three slashes before a path from here, four before one from the
    root.
    """
    import sqlite3
    from pathlib import Path
    from urllib.parse import quote

    path = Path(where.path.removeprefix("/"))
    if where.host or not path.is_file():
        raise FileError(
            f"{where.masked}: there is no such file of SQLite. sqlite:///shop.db is one in this folder, and "
            "sqlite:////home/anna/shop.db one from the root."
        )
    how = "ro" if reads else "rw"
    return lambda: sqlite3.connect(
        f"file:{quote(str(path.resolve()))}?mode={how}", uri=True, timeout=seconds, check_same_thread=False
    )


@contextmanager
def database_faults(masked: str, wrong_password: Callable[[], FileError]) -> Iterator[None]:
    """Errors of a database as ours; what it says of a query is told, and of a connection only what it was."""
    from sqlalchemy.exc import DBAPIError, NoSuchModuleError

    try:
        yield
    except NoSuchModuleError:
        raise FileError(f"{masked}: nothing knows databases of this sort. There are: {', '.join(DRIVERS)}.") from None
    except DBAPIError as error:
        text = str(error.orig.args[-1] if error.orig and error.orig.args else error.orig)
        low = text.lower()
        if any(word in low for word in ("does not exist", "unknown database")) and error.statement is None:
            raise FileError(f"{masked}: there is no such database there. Check the address.") from None
        if any(word in low for word in ("password", "authentication", "access denied")):
            raise wrong_password() from None
        if error.connection_invalidated or any(word in low for word in PASSES):
            raise PassingError("the database cannot be reached, or is busy") from None
        raise FileError(f"{masked}: the database says: {text.splitlines()[0]}. Check the table or the query.") from None


PASSES = ("connection", "can't connect", "timeout", "locked", "deadlock", "gone away", "too many")
"""What a database says of what may pass."""


class Database:
    """A database that is asked for one table or by one query, in a transaction of its own that only reads."""

    def __init__(self, where: Address, engine: Engine, query: str | None) -> None:
        self.where, self.engine, self.query = where, engine, query
        if not query and not where.fragment:
            raise FileError(f"{where.masked}: which table? Name it behind the address, as #items, or ask by ‹query›.")

    def open(self, path: str, start: int, known: FileState | None) -> Opened:
        """The table as CSV, from its beginning."""
        del path, start, known
        with self.faults(), self.engine.connect() as connection:
            cells, key = self._cells(connection)
        cells = cells.sort([*key, *(name for name in cells.columns if name not in key)])
        layout = Layout(format="delimited", encoding="utf-8", separator=",", quote='"', line_end="LF")
        return Opened(FileState(), 0, iter([write_delimited(cells, layout, self.where.masked)]))

    def _cells(self, connection: Connection) -> tuple[pl.DataFrame, list[str]]:
        """All rows as texts, and the headings of the primary key."""
        query, textual, key = self.query, None, list[str]()
        if query is None:
            name, textual, _ = self.table(connection)
            query, key = f"SELECT * FROM {name}", self._key(connection)
        as_typed = self.query is not None  # a per cent sign in it is one
        options = connection.execution_options(stream_results=True, no_parameters=as_typed)
        answer = options.exec_driver_sql(query)
        if not answer.returns_rows:
            raise FileError(f"{self.where.masked}: the query gives no rows. It has to be one that reads (SELECT).")
        names = list(answer.keys())
        twice = [name for name in names if names.count(name) > 1]
        if twice:
            raise FileError(f'{self.where.masked}: the query gives "{twice[0]}" twice. Name one otherwise (AS).')
        parts, with_text = [], set[str]()
        while rows := answer.fetchmany(ROWS_AT_ONCE):
            columns = dict(zip(names, zip(*rows, strict=True), strict=True))
            parts.append(pl.DataFrame({name: _texts(cells, name, self.where) for name, cells in columns.items()}))
            with_text |= {name for name, cells in columns.items() if any(isinstance(cell, str) for cell in cells)}
        schema = dict.fromkeys(names, pl.String)
        table = pl.concat(parts) if parts else pl.DataFrame(schema=schema)
        holds_text = with_text if textual is None else textual
        fills = [pl.col(name).fill_null(NULL if name in holds_text else "") for name in names]
        return table.with_columns(fills), [name for name in key if name in names]

    def table(self, connection: Connection) -> tuple[str, set[str], set[str]]:
        """The table's name, quoted; its columns that can hold text, and all of them. FileError where there is none."""
        from sqlalchemy import inspect
        from sqlalchemy.types import Enum, String

        schema, _, table = self.where.fragment.rpartition(".")
        catalogue = inspect(connection)
        tables = [*catalogue.get_table_names(schema or None), *catalogue.get_view_names(schema or None)]
        if table not in tables:
            more = did_you_mean(table, tables, f"There are: {', '.join(sorted(tables)[:20]) or 'none'}.")
            raise FileError(f'{self.where.masked}: there is no table "{table}".{more}')
        columns = catalogue.get_columns(table, schema or None)
        text_columns = {column["name"] for column in columns if isinstance(column["type"], String | Enum)}
        quote = self.engine.dialect.identifier_preparer.quote
        name = f"{quote(schema)}.{quote(table)}" if schema else quote(table)
        return name, text_columns, {column["name"] for column in columns}

    def _key(self, connection: Connection) -> list[str]:
        """The columns of the primary key."""
        from sqlalchemy import inspect

        schema, _, table = self.where.fragment.rpartition(".")
        return inspect(connection).get_pk_constraint(table, schema or None).get("constrained_columns") or []

    @contextmanager
    def faults(self) -> Iterator[None]:
        """Errors of the database as ours."""
        with database_faults(self.where.masked, self.wrong_password):
            yield

    def wrong_password(self) -> FileError:
        """The error of a database that does not let us in."""
        return FileError(
            f"{self.where.masked}: the database does not let {self.where.user or 'who asks'} in. Check the user and "
            "the password, which are read from the environment, .netrc or the file of credentials "
            "(`neat-delta help addresses`)."
        )

    def stat(self, path: str) -> FileState:
        """A table has no state that a database would say."""
        del path
        return FileState()

    def list(self, folder: str) -> list[tuple[str, FileState]]:
        """A database has no folders."""
        del folder
        return []

    def close(self) -> None:
        """Let go of the connection."""
        self.engine.dispose()


def _texts(cells: Iterable[Any], name: str, where: Address) -> pl.Series:
    """Values as a database's driver gives them, each as its exact text; NULL stays null."""
    return pl.Series(name, [None if cell is None else text_of(cell, name, where) for cell in cells], dtype=pl.String)


def text_of(cell: Any, name: str, where: Address) -> str:  # noqa: ANN401 - whatever a driver gives
    """One value as its exact text: decimals as digits, times as ISO 8601 with the zone that they have."""
    write = next((write for sort, write in WRITTEN.items() if isinstance(cell, sort)), str)
    try:
        return write(cell)
    except UnicodeDecodeError:
        raise FileError(
            f'{where.masked}: "{name}" holds bytes that are no text. Leave that column out with ‹query›.'
        ) from None


def _time_of_day(cell: timedelta) -> str:
    """MySQL's TIME, which may be more than a day, and negative."""
    seconds = abs(int(cell.total_seconds()))
    sign = "-" if cell < timedelta() else ""
    return f"{sign}{seconds // 3600:02d}:{seconds // 60 % 60:02d}:{seconds % 60:02d}"


WRITTEN: dict[Any, Callable[[Any], str]] = {
    str: str,
    bool: lambda cell: "true" if cell else "false",
    Decimal: lambda cell: f"{cell:f}",
    float: lambda cell: f"{Decimal(repr(cell)):f}",
    datetime | date | time: lambda cell: cell.isoformat(),
    timedelta: _time_of_day,
    bytes | memoryview: lambda cell: bytes(cell).decode(),
    list | dict: lambda cell: json.dumps(cell, ensure_ascii=False, default=str),
}
"""How values are written; what is of none of these sorts, as Python does."""
