"""The index of a ledger (SQLite): which rounds there are, and every cell of them, to be asked quickly.

Rule: the folders are the truth. The index is made of them, a round in one transaction, and brought up to date whenever
it is opened; whoever loses it loses nothing.
"""

from __future__ import annotations

import contextlib
import sqlite3
from collections.abc import Iterable, Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path

import msgspec

from neat_delta.core.base.model.history import BETWEEN, LANDED, SENT, WRITTEN, HistoryCell, RoundCell
from neat_delta.core.base.model.rounds import RoundSummary, summary_of
from neat_delta.core.base.support.errors import NeatDeltaError, OutputError
from neat_delta.files.ledger.folder import RoundFolder, round_folders

__all__ = ["INDEX", "Index", "opened"]

INDEX = "ledger.sqlite"
"""The file of the index, beside the folders of the rounds."""

MIGRATIONS = (
    """
    CREATE TABLE rounds (number INTEGER PRIMARY KEY, folder TEXT, size INTEGER, day TEXT, summary BLOB, broken TEXT);
    CREATE TABLE digests (digest TEXT, round INTEGER, PRIMARY KEY (digest, round)) WITHOUT ROWID;
    CREATE TABLE words (id INTEGER PRIMARY KEY, word TEXT UNIQUE);
    CREATE TABLE cells (round INTEGER, key TEXT, field INTEGER, before TEXT, after TEXT, rule INTEGER, state INTEGER,
        undone INTEGER, PRIMARY KEY (round, key, field)) WITHOUT ROWID;
    CREATE INDEX cells_by_key ON cells (key);
    CREATE TABLE codes (old TEXT, new TEXT, round INTEGER, PRIMARY KEY (old, new, round)) WITHOUT ROWID;
    CREATE INDEX codes_by_new ON codes (new);
    CREATE TABLE at_work (open INTEGER);
    """,
)
"""What makes each version of the index of the one before; the version is SQLite's `user_version`."""


STANDING = (WRITTEN, SENT, LANDED, "reported done", "reported warned")
"""What became of cells that stand, as far as anybody knows, as a round set them."""


class Index:
    """The index of a ledger, open, and as the folders are."""

    def __init__(self, ledger: Path, connection: sqlite3.Connection) -> None:
        self.ledger, self.connection = ledger, connection

    def rounds(self) -> list[RoundSummary]:
        """All rounds, by their numbers."""
        rows = self.connection.execute("SELECT summary FROM rounds ORDER BY number")
        return [msgspec.json.decode(summary, type=RoundSummary) for (summary,) in rows]

    def broken(self) -> list[str]:
        """What of the folders cannot be read, and so is not in the index."""
        return [why for (why,) in self.connection.execute("SELECT broken FROM rounds WHERE broken IS NOT NULL")]

    def round_of(self, digest: str) -> RoundFolder | None:
        """The last round that has a change set or a folder of update files of this digest."""
        row = self.connection.execute(
            "SELECT folder, number FROM rounds JOIN digests ON round = number WHERE digest = ? ORDER BY number DESC",
            (digest,),
        ).fetchone()
        return None if row is None or not digest else RoundFolder(self.ledger / row[0], row[1])

    def of_item(self, code: str) -> list[HistoryCell]:
        """Every cell of an item that a round has, under each code that it had: the first round first."""
        codes, fresh = set[str](), self._keys(code)
        while fresh:
            codes |= fresh
            marks = ",".join("?" * len(fresh))
            olds = self.connection.execute(f"SELECT old FROM codes WHERE new IN ({marks})", [*fresh])
            news = self.connection.execute(f"SELECT new FROM codes WHERE old IN ({marks})", [*fresh])
            fresh = {each for (each,) in (*olds, *news)} - codes
        return self._cells(f"cells.key IN ({','.join('?' * len(codes))})", [*codes]) if codes else []

    def _keys(self, code: str) -> set[str]:
        """The keys that a person may mean by a code: the whole key, its first field, or another way of writing it."""
        key = BETWEEN.join(part.strip() for part in code.split(" / "))
        ask = self.connection.execute
        exact = ask(
            "SELECT DISTINCT key FROM cells WHERE key IN (?, ?) OR (key >= ? AND key < ?)",
            (key, code, f"{code}{BETWEEN}", f"{code}{chr(ord(BETWEEN) + 1)}"),
        ).fetchall()
        of_codes = ask("SELECT new FROM codes WHERE new = ?", (code,)).fetchall()
        keys = (
            exact or of_codes or ask("SELECT DISTINCT key FROM cells WHERE key = ? COLLATE NOCASE", (key,)).fetchall()
        )
        return {each for (each,) in keys}

    def of_field(self, field: str, since: str = "") -> list[HistoryCell]:
        """Every cell of a field, of rounds that began on a day or later: the first round first."""
        return self._cells("field = (SELECT id FROM words WHERE word = ?) AND rounds.day >= ?", [field, since])

    def of_round(self, number: int) -> list[HistoryCell]:
        """Every cell of a round."""
        return self._cells("cells.round = ?", [number])

    def _cells(self, condition: str, values: Sequence[object]) -> list[HistoryCell]:
        rows = self.connection.execute(
            "SELECT cells.round, day, key, fields.word, before, after, rules.word, states.word, undone FROM cells "
            "JOIN rounds ON rounds.number = cells.round JOIN words fields ON fields.id = field "
            f"JOIN words rules ON rules.id = rule JOIN words states ON states.id = state WHERE {condition} "
            "ORDER BY cells.round, key, fields.word",
            values,
        )
        return [HistoryCell._make((*row[:-1], bool(row[-1]))) for row in rows]

    def fields(self) -> list[str]:
        """The fields that rounds have changed."""
        rows = self.connection.execute("SELECT word FROM words WHERE id IN (SELECT DISTINCT field FROM cells)")
        return [name for (name,) in rows if name]

    def earlier(self, cells: Iterable[tuple[str, str, str]], before: int | None = None) -> list[HistoryCell]:
        """Of these cells (key, field, the text that it is to have) the last change of each that took it away from that
        text; of rounds `before` that number.
        """
        connection = self.connection
        connection.execute("CREATE TEMP TABLE IF NOT EXISTS asked (key TEXT, field TEXT, after TEXT)")
        connection.execute("DELETE FROM asked")
        connection.executemany("INSERT INTO asked VALUES (?, ?, ?)", cells)
        standing = ", ".join(repr(word) for word in STANDING)
        rows = connection.execute(
            "SELECT cells.round, day, cells.key, asked.field, cells.before, cells.after, rules.word, states.word, "
            "undone FROM asked CROSS JOIN words fields ON fields.word = asked.field CROSS JOIN cells "
            "ON cells.key = asked.key AND cells.field = fields.id AND cells.before = asked.after "
            "JOIN rounds ON number = cells.round JOIN words rules ON rules.id = rule "
            f"JOIN words states ON states.id = state WHERE states.word IN ({standing}) AND NOT undone "
            "AND cells.round < ? ORDER BY cells.round",
            (before if before is not None else 1 << 62,),
        )
        last = {(row[2], row[3]): HistoryCell._make((*row[:-1], bool(row[-1]))) for row in rows}
        connection.execute("DELETE FROM asked")
        return list(last.values())

    def later(self, cells: Iterable[tuple[str, str]], after: int) -> list[HistoryCell]:
        """Of these cells (key, field) the last change of each by a round after that number."""
        rows = [
            cell
            for key, field in cells
            for cell in self._cells("cells.key = ? AND fields.word = ? AND cells.round > ?", [key, field, after])
            if cell.state in STANDING and not cell.undone
        ]
        return list({(cell.key, cell.field): cell for cell in rows}.values())

    def catch_up(self) -> None:
        """Bring the index up to date with the folders: each round that has other steps by now, in one transaction."""
        sizes = dict(self.connection.execute("SELECT number, size FROM rounds"))
        folders = {folder.number: folder for folder in round_folders(self.ledger)}
        for number in sizes.keys() - folders.keys():
            self._replace(number, None)
        for number, folder in folders.items():
            with contextlib.suppress(OSError):
                if sizes.get(number) != folder.size():
                    self._replace(number, folder)

    def _replace(self, number: int, folder: RoundFolder | None) -> None:
        """Put a round as it is now into the place of what the index has of it."""
        connection = self.connection
        connection.execute("BEGIN IMMEDIATE")
        try:
            connection.execute("INSERT INTO at_work SELECT 1 WHERE NOT EXISTS (SELECT 1 FROM at_work)")
            for table, column in (("rounds", "number"), ("digests", "round"), ("cells", "round"), ("codes", "round")):
                connection.execute(f"DELETE FROM {table} WHERE {column} = ?", (number,))
            if folder is not None:
                self._insert(folder)
            connection.execute("COMMIT")
        except BaseException:
            connection.execute("ROLLBACK")
            raise

    def _insert(self, folder: RoundFolder) -> None:
        from neat_delta.files.ledger.cells import cells_of_round, code_changes_of_round  # and the tables' engine

        connection, number, size, broken = self.connection, folder.number, folder.size(), None
        summary, cells, digests, key = summary_of(number, folder.name, []), list[RoundCell](), set[str](), list[str]()
        try:
            steps = folder.steps()
            summary = summary_of(number, folder.name, steps)
            digests = {digest for step in steps for digest in (step.changes, step.seal) if digest}
            cells = list(cells_of_round(folder, steps))
            key = _key_fields(folder, [step.file for step in steps if step.step == "compared"])
        except (NeatDeltaError, msgspec.MsgspecError) as error:
            broken = f"round {number}: {error}"
        connection.execute(
            "INSERT INTO rounds VALUES (?, ?, ?, ?, ?, ?)",
            (number, folder.name, size, summary.day, msgspec.json.encode(summary), broken),
        )
        connection.executemany("INSERT OR IGNORE INTO digests VALUES (?, ?)", [(digest, number) for digest in digests])
        words = {word for cell in cells for word in (cell.field, cell.rule, cell.state)}
        connection.executemany("INSERT OR IGNORE INTO words (word) VALUES (?)", [(word,) for word in sorted(words)])
        ids = {word: id_ for id_, word in connection.execute("SELECT id, word FROM words")}
        connection.executemany(
            "INSERT OR IGNORE INTO cells VALUES (?, ?, ?, ?, ?, ?, ?, ?)",
            [
                (
                    number,
                    cell.key,
                    ids[cell.field],
                    cell.before,
                    cell.after,
                    ids[cell.rule],
                    ids[cell.state],
                    cell.undone,
                )
                for cell in cells
            ],
        )
        connection.executemany(
            "INSERT OR IGNORE INTO codes VALUES (?, ?, ?)",
            [(old, new, number) for old, new in code_changes_of_round(cells, key)],
        )


def _key_fields(folder: RoundFolder, files: Sequence[str]) -> list[str]:
    """The fields of the key, as the last change set has them."""
    from neat_delta.files.changeset import header_of_file

    header = header_of_file(folder.place(files[-1])) if files else None
    return [] if header is None else header.key


@contextmanager
def opened(ledger: Path, *, rebuild: bool = False) -> Iterator[Index]:
    """The index of the ledger in this folder, up to date. Where the folder may not be written, it is made in memory.

    OutputError where there is no such folder, or the index is of a later version.
    """
    if not ledger.is_dir():
        raise OutputError(f"{ledger}: there is no such folder, so there is no ledger. Name the folder of the rounds.")
    path = ledger / INDEX
    if rebuild:
        _remove(path)
    connection, kept = _connect(path)
    try:
        index = Index(ledger, connection)
        index.catch_up()
        yield index
        if kept and not connection.in_transaction:
            with contextlib.suppress(sqlite3.Error):
                connection.execute("DELETE FROM at_work")
    finally:
        connection.close()


def _connect(path: Path) -> tuple[sqlite3.Connection, bool]:
    """The index's file, checked where it was not closed well, and made anew where it is broken; or one in memory."""
    for _ in range(2):
        try:
            connection = sqlite3.connect(path, timeout=60, isolation_level=None)
            connection.execute("PRAGMA journal_mode = WAL")
            connection.execute("PRAGMA synchronous = NORMAL")
            _migrate(connection, path)
            connection.execute("UPDATE at_work SET open = open")  # whether it may be written
            left_open = connection.execute("SELECT count(*) FROM at_work").fetchone()[0]
            if not left_open or connection.execute("PRAGMA integrity_check").fetchone()[0] == "ok":
                return connection, True
            connection.close()
        except sqlite3.OperationalError:  # the folder may not be written, or there is no room
            with contextlib.suppress(UnboundLocalError):
                connection.close()
            break
        except sqlite3.DatabaseError:  # it is no database any more
            connection.close()
        _remove(path)
    connection = sqlite3.connect(":memory:", isolation_level=None)
    _migrate(connection, path)
    return connection, False


def _migrate(connection: sqlite3.Connection, path: Path) -> None:
    version = connection.execute("PRAGMA user_version").fetchone()[0]
    if version > len(MIGRATIONS):
        raise OutputError(
            f"{path}: it was made by a later Neat Delta (version {version}, and this one knows {len(MIGRATIONS)}). "
            "Install that one."
        )
    for number, script in enumerate(MIGRATIONS[version:], version + 1):
        connection.executescript(f"BEGIN IMMEDIATE; {script} PRAGMA user_version = {number}; COMMIT;")


def _remove(path: Path) -> None:
    for name in (path.name, f"{path.name}-wal", f"{path.name}-shm"):
        with contextlib.suppress(OSError):
            path.with_name(name).unlink(missing_ok=True)
