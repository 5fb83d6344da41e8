"""The catalogue of a practice store in SQLite: its items in their order, and what was done to each. One transaction an
import: all of it is there, or the rows that were said to be done.
"""

from __future__ import annotations

import sqlite3
from collections.abc import Iterator, Sequence
from contextlib import contextmanager

import msgspec
import polars as pl

__all__ = ["Item", "Shelf"]

Item = dict[str, str]
"""An item's fields and their texts."""

TABLES = """
CREATE TABLE items (id INTEGER PRIMARY KEY, key TEXT NOT NULL, cells TEXT NOT NULL);
CREATE INDEX items_by_key ON items (key);
CREATE TABLE history (id INTEGER PRIMARY KEY, import INTEGER, item INTEGER NOT NULL, key TEXT NOT NULL,
                      by TEXT NOT NULL, field TEXT, before TEXT, after TEXT);
CREATE INDEX history_by_item ON history (item);
CREATE TABLE imports (number INTEGER PRIMARY KEY, file TEXT NOT NULL, report TEXT NOT NULL);
CREATE TABLE facts (name TEXT PRIMARY KEY, value TEXT NOT NULL);
"""


TEXTS = msgspec.json.Decoder(list[str])


def encode(value: str | Sequence[str]) -> str:
    """Texts as they are kept: JSON."""
    return msgspec.json.encode(value).decode()


class Shelf:
    """Items by number and by key. A change goes into the history with who made it (`by`): an import, a sale."""

    def __init__(self, path: str, fields: Sequence[str] = (), key: Sequence[str] = ()) -> None:
        self.db = sqlite3.connect(path, check_same_thread=False, isolation_level=None)
        self.fields, self.key = list(fields), list(key)

    @property
    def is_filled(self) -> bool:
        """Whether there is a catalogue in it."""
        return bool(self.db.execute("SELECT count(*) FROM sqlite_master WHERE name = 'items'").fetchone()[0])

    def fill(self, cells: pl.DataFrame) -> None:
        """Make the tables, and put these items on the shelf."""
        self.db.executescript("BEGIN;" + TABLES)
        rows = ((self._key(row), self._packed(row)) for row in cells.iter_rows(named=True))
        self.db.executemany("INSERT INTO items (key, cells) VALUES (?, ?)", rows)
        facts = {"fields": encode(self.fields), "key": encode(self.key)}
        self.db.executemany("INSERT INTO facts VALUES (?, ?)", facts.items())
        self.db.execute("COMMIT")

    def kept(self) -> tuple[list[str], list[str]]:
        """The fields and the key of the catalogue that is in it."""
        facts = dict(self.db.execute("SELECT name, value FROM facts"))
        return TEXTS.decode(facts["fields"]), TEXTS.decode(facts["key"])

    @contextmanager
    def transaction(self) -> Iterator[None]:
        """All that is done in it, or nothing."""
        self.db.execute("BEGIN IMMEDIATE")
        try:
            yield
        except BaseException:
            self.db.execute("ROLLBACK")
            raise
        self.db.execute("COMMIT")

    def _key(self, item: Item) -> str:
        return self.key_of([item[name] for name in self.key])

    @staticmethod
    def key_of(texts: Sequence[str]) -> str:
        """The key as it is looked up."""
        return encode(list(texts))

    def _packed(self, item: Item) -> str:
        return encode([item[name] for name in self.fields])

    def _item(self, cells: str) -> Item:
        return dict(zip(self.fields, TEXTS.decode(cells), strict=True))

    def with_key(self, texts: Sequence[str]) -> list[int]:
        """The numbers of the items that have this key."""
        rows = self.db.execute("SELECT id FROM items WHERE key = ? ORDER BY id", (self.key_of(texts),))
        return [number for (number,) in rows]

    def get(self, number: int) -> Item:
        """The item of this number."""
        return self._item(self.db.execute("SELECT cells FROM items WHERE id = ?", (number,)).fetchone()[0])

    def put(self, number: int, item: Item, by: str, during: int | None = None, *, before: Item | None = None) -> None:
        """Change an item, which was as it was `before` (None: it is looked up)."""
        before = self.get(number) if before is None else before
        self.db.execute(
            "UPDATE items SET key = ?, cells = ? WHERE id = ?", (self._key(item), self._packed(item), number)
        )
        cells = [(name, before[name], item[name]) for name in self.fields if before[name] != item[name]]
        self._note(number, item, by, during, cells)

    def add(self, item: Item, by: str, during: int | None = None) -> int:
        """Add an item at the end; its number."""
        number = self.db.execute("INSERT INTO items (key, cells) VALUES (?, ?)", (self._key(item), self._packed(item)))
        self._note(number.lastrowid or 0, item, by, during, [(None, None, "added")])
        return number.lastrowid or 0

    def remove(self, number: int, by: str, during: int | None = None) -> None:
        """Take an item away."""
        item = self.get(number)
        self.db.execute("DELETE FROM items WHERE id = ?", (number,))
        self._note(number, item, by, during, [(None, "removed", None)])

    def _note(
        self,
        number: int,
        item: Item,
        by: str,
        during: int | None,
        cells: Sequence[tuple[str | None, str | None, str | None]],
    ) -> None:
        rows = ((during, number, self._key(item), by, *cell) for cell in cells)
        insert = "INSERT INTO history (import, item, key, by, field, before, after) VALUES (?, ?, ?, ?, ?, ?, ?)"
        self.db.executemany(insert, rows)

    def item_numbers(self) -> list[int]:
        """The numbers of all items, in their order."""
        return [number for (number,) in self.db.execute("SELECT id FROM items ORDER BY id")]

    def table(self) -> pl.DataFrame:
        """All items, one row each."""
        rows = [TEXTS.decode(cells) for (cells,) in self.db.execute("SELECT cells FROM items ORDER BY id")]
        return pl.DataFrame(rows, schema=dict.fromkeys(self.fields, pl.String), orient="row")

    def page(self, search: str, start: int, many: int) -> tuple[list[Item], int]:
        """The items in which a text stands, from `start` on, and how many there are of them."""
        like = "%" + encode(search)[1:-1].replace("\\", "\\\\").replace("%", "\\%").replace("_", "\\_") + "%"
        where = "FROM items WHERE cells LIKE ? ESCAPE '\\'" if search else "FROM items WHERE ? IS NOT NULL"
        total = self.db.execute(f"SELECT count(*) {where}", (like,)).fetchone()[0]
        rows = self.db.execute(f"SELECT cells {where} ORDER BY id LIMIT ? OFFSET ?", (like, many, start))
        return [self._item(cells) for (cells,) in rows], total

    def history(self, number: int | None = None, most: int = 1000) -> list[dict[str, str | int | None]]:
        """What was done, the latest first: to one item, or to all."""
        names = ["import", "key", "by", "field", "before", "after"]
        where = "" if number is None else "WHERE item = ?"
        rows = self.db.execute(
            f"SELECT {', '.join(names)} FROM history {where} ORDER BY id DESC LIMIT ?",
            (most,) if number is None else (number, most),
        )
        return [dict(zip(names, row, strict=True)) for row in rows]

    def keep_report(self, number: int, file: str, report: str) -> None:
        """Keep what an import came to."""
        self.db.execute("INSERT INTO imports VALUES (?, ?, ?)", (number, file, report))

    def imports(self) -> int:
        """How many imports there were."""
        return int(self.db.execute("SELECT count(*) FROM imports").fetchone()[0])

    def reports(self, number: int | None = None) -> list[str]:
        """What the imports came to, or one of them, the latest first."""
        where = "" if number is None else "WHERE number = ?"
        rows = self.db.execute(
            f"SELECT report FROM imports {where} ORDER BY number DESC", () if number is None else (number,)
        )
        return [report for (report,) in rows]
