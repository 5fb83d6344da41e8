"""The catalogue of a practice store in SQLite: its items in their order, and what was done to each. One transaction an
import: all of it is there, or the rows that were said to be done. Many items are looked up, and changed, in one go.
"""

from __future__ import annotations

import sqlite3
from collections.abc import Callable, Iterable, Iterator, Sequence
from contextlib import contextmanager
from operator import itemgetter
from typing import TypeVar

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

AT_ONCE = 500
"""So many items are asked for in one question."""


def encode(value: str | Sequence[str]) -> str:
    """Texts as they are kept: JSON."""
    return msgspec.json.encode(value).decode()


class Shelf:
    """Items by number and by key. A change goes into the history with who made it (`by`): an import, a sale."""

    def __init__(self, path: str, fields: Sequence[str] = (), key: Sequence[str] = ()) -> None:
        self._db = sqlite3.connect(path, check_same_thread=False, isolation_level=None)
        self.fields, self.key = list(fields), list(key)
        self._texts, self._key_texts = _texts_of(self.fields), _texts_of(self.key)
        self._changed: list[tuple[str, str, int]] = []
        self._noted: list[tuple[object, ...]] = []

    @property
    def db(self) -> sqlite3.Connection:
        """The database, with all in it that was done."""
        if self._changed or self._noted:
            changed, noted = self._changed, self._noted
            self._changed, self._noted = [], []
            self._db.executemany("UPDATE items SET key = ?, cells = ? WHERE id = ?", changed)
            insert = "INSERT INTO history (import, item, key, by, field, before, after) VALUES (?, ?, ?, ?, ?, ?, ?)"
            self._db.executemany(insert, noted)
        return self._db

    @property
    def is_filled(self) -> bool:
        """Whether there is a catalogue in it."""
        return bool(self.db.execute("SELECT count(*) FROM sqlite_master WHERE name = 'items'").fetchone()[0])

    def fill(self, cells: pl.DataFrame) -> None:
        """Make the tables, and put these items on the shelf."""
        self.db.executescript("BEGIN;" + TABLES)
        keys = map(encode, cells.select(self.key).iter_rows())
        rows = zip(keys, map(encode, cells.select(self.fields).iter_rows()), strict=True)
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
            self._changed, self._noted = [], []
            self._db.execute("ROLLBACK")
            raise
        self.db.execute("COMMIT")

    def _key(self, item: Item) -> str:
        return self.key_of(self._key_texts(item))

    @staticmethod
    def key_of(texts: Sequence[str]) -> str:
        """The key as it is looked up."""
        return encode(texts)

    def _packed(self, item: Item) -> str:
        return encode(self._texts(item))

    def _item(self, cells: str) -> Item:
        return dict(zip(self.fields, TEXTS.decode(cells), strict=True))

    def with_key(self, texts: Sequence[str]) -> list[int]:
        """The numbers of the items that have this key."""
        return self.with_keys([texts])[tuple(texts)]

    def with_keys(self, keys: Iterable[Sequence[str]]) -> dict[tuple[str, ...], list[int]]:
        """The numbers of the items that have each of these keys."""
        texts_of = {tuple(key): self.key_of(key) for key in keys}
        by_text: dict[str, list[int]] = {text: [] for text in texts_of.values()}
        for texts in _batches(list(by_text)):
            where = f"WHERE key IN ({', '.join('?' * len(texts))})"
            for key, number in self.db.execute(f"SELECT key, id FROM items {where} ORDER BY id", texts):
                by_text[key].append(number)
        return {key: by_text[text] for key, text in texts_of.items()}

    def items(self, ids: Iterable[int]) -> dict[int, Item]:
        """The items of these numbers."""
        out: dict[int, Item] = {}
        for some in _batches(list(ids)):
            where = f"WHERE id IN ({', '.join('?' * len(some))})"
            rows = self.db.execute(f"SELECT id, cells FROM items {where}", some)
            out |= {number: self._item(cells) for number, cells in rows}
        return out

    def get(self, number: int) -> Item:
        """The item of this number."""
        return self.items([number])[number]

    def put(self, number: int, item: Item, by: str, during: int | None = None, *, before: Item | None = None) -> None:
        """Change an item, which was as it was `before` (None: it is looked up)."""
        before = self.get(number) if before is None else before
        self._changed.append((self._key(item), self._packed(item), number))
        texts = zip(self.fields, self._texts(before), self._texts(item), strict=True)
        self._note(number, item, by, during, [cell for cell in texts if cell[1] != cell[2]])

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
        key = self._key(item)
        self._noted += [(during, number, key, by, *cell) for cell in cells]

    def item_numbers(self) -> list[int]:
        """The numbers of all items, in their order."""
        return [number for (number,) in self.db.execute("SELECT id FROM items ORDER BY id")]

    def table(self) -> pl.DataFrame:
        """All items, one row each."""
        texts = [cells for (cells,) in self.db.execute("SELECT cells FROM items ORDER BY id")]
        rows = pl.Series(texts, dtype=pl.String).str.json_decode(pl.List(pl.String))
        return rows.list.to_struct(fields=self.fields).struct.unnest()

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


def _texts_of(fields: Sequence[str]) -> Callable[[Item], tuple[str, ...]]:
    """What takes the texts of these fields out of an item, in their order."""
    if len(fields) > 1:
        return itemgetter(*fields)
    return lambda item: tuple(item[name] for name in fields)


Value = TypeVar("Value")


def _batches(values: list[Value]) -> Iterator[list[Value]]:
    """Values so many at a time."""
    return (values[start : start + AT_ONCE] for start in range(0, len(values), AT_ONCE))
