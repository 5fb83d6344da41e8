"""A catalogue as a table of texts, with what is known of the file it came from. Reading it is `files`' work."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING, Literal

import msgspec
import polars as pl
from blake3 import blake3

from neat_delta.core.base.model.deferred import Cells, DeferredTable, frame_of, narrowed
from neat_delta.core.base.model.layout import Layout
from neat_delta.core.base.model.store import Continued
from neat_delta.core.base.support.errors import CatalogueError
from neat_delta.core.base.support.series import gathered, row_hashes, scattered, true_places

if TYPE_CHECKING:
    from neat_delta.core.base.model.provenance import Provenance

__all__ = [
    "MARK",
    "Catalogue",
    "Origin",
    "Source",
    "Way",
    "as_catalogue",
    "column_letter",
    "listed",
    "renamed",
    "rows_that_may_differ",
]


NOTHING_KNOWN = Layout()

Way = Literal["whole", "columns", "records"]
"""How a file is read."""


class Origin(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """Where a working sheet was cut from: the live file's path, BLAKE3 digest, rows and fields; and its own rows."""

    path: str
    blake3: str
    rows: int
    fields: int
    cut: int


class Source(msgspec.Struct, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """The file a catalogue was read from: its path as it was given, its BLAKE3 digest, its rows, its layout.

    `regular` delimited text has every quote and separator where it may stand, so that it can be read again without a
    look at that; `continued` says how its lines were folded, if they were; `notes` what was noticed while it was read;
    `origin` where a working sheet was cut from.
    """

    path: str
    blake3: str
    rows: int
    layout: Layout = Layout()
    continued: Continued | None = None
    notes: list[str] = []
    regular: bool = False
    origin: Origin | None = None


@dataclass(frozen=True, slots=True)
class Catalogue:
    """One row an item, one column a field; every cell is the text that stands in the file, a blank is "".

    The cells stand in a `table`, or are read when they are asked for: `cells` are all of them, `select` gives some
    columns and `rows` some rows.
    `path` names it in messages. `digest` gives the BLAKE3 digest of its bytes, in hexadecimal; it is
    called late, as it may still be in the making. `unnamed` lists the columns (counted from 1) without a heading:
    they are no field, and not in `cells`. `row_numbers` has the rows' numbers as a spreadsheet shows them; where it is
    None they count up from `first`. `origin` says where a working sheet was cut from, and `guessed` that nothing told
    its encoding. `memory` are the items and values that it was cut with, where it remembers them. `provenance` is what
    is known of the making of a sheet that was not read as it stands, but made of a list, or by rules. `unseen` are
    fields that the file lacks and the store has: blank here, and not known.
    """

    table: Cells
    path: str
    digest: Callable[[], str]
    unnamed: tuple[int, ...] = ()
    layout: Layout = NOTHING_KNOWN
    notes: tuple[str, ...] = ()
    first: int = 2
    row_numbers: pl.Series | None = None
    continued: Continued | None = None
    origin: Origin | None = None
    regular: bool = False
    guessed: bool = False
    memory: Catalogue | None = None
    provenance: Provenance | None = None
    unseen: tuple[str, ...] = ()

    @property
    def cells(self) -> pl.DataFrame:
        """All cells; those that are read when they are asked for are all read now."""
        return frame_of(self.table)

    @property
    def is_deferred(self) -> bool:
        """Whether its cells are read when they are asked for."""
        return isinstance(self.table, DeferredTable)

    @property
    def way(self) -> Way:
        """How its cells are read: all of them at once, column by column, or only the rows that another lacks."""
        if not isinstance(self.table, DeferredTable):
            return "whole"
        return "records" if self.table.source.is_shared else "columns"

    @property
    def fields(self) -> list[str]:
        """The headings, in the file's order."""
        return self.table.columns

    @property
    def height(self) -> int:
        """How many items there are."""
        return self.table.height

    def column(self, name: str) -> pl.Series:
        """A field: one text an item, in the file's order.

        >>> as_catalogue({"sku": ["QA-1", "QA-2"], "price": ["9.90", "20.00"]}).column("price").to_list()
        ['9.90', '20.00']
        """
        return self.table[name]

    def select(self, names: Sequence[str]) -> pl.DataFrame:
        """These fields of all items.

        >>> as_catalogue({"sku": ["QA-1"], "price": ["9.90"], "cost": ["4.00"]}).select(["sku", "cost"]).rows()
        [('QA-1', '4.00')]
        """
        return frame_of(narrowed(self.table, names))

    def rows(self, places: pl.Series | Sequence[int], names: Sequence[str] | None = None) -> pl.DataFrame:
        """The items at these places (counted from 0), or these fields of them; null where the place is.

        >>> live = as_catalogue({"sku": ["QA-1", "QA-2"], "price": ["9.90", "20.00"]})
        >>> live.rows([1]).rows(), live.rows([1, 0], ["sku"])["sku"].to_list()
        ([('QA-2', '20.00')], ['QA-2', 'QA-1'])
        """
        table = self.table if names is None else narrowed(self.table, names)
        if not table.columns:
            return pl.DataFrame()
        if isinstance(table, DeferredTable):
            return table.rows(places if isinstance(places, pl.Series) else pl.Series(places, dtype=pl.UInt32))
        return gathered(table, places)

    def row_hashes(self, names: Sequence[str], also: Sequence[str] = ()) -> pl.Series:
        """64 bits of hash of these fields of each item, by their texts in this order: equal where all of them are. What
        is read when it is asked for is not kept for it, but `also` of these fields, which will be asked for next.

        >>> live, sheet = as_catalogue({"sku": ["QA-1"], "price": ["9.90"]}), as_catalogue({"code": ["QA-1"]})
        >>> (live.row_hashes(["sku"]) == sheet.row_hashes(["code"])).to_list()
        [True]
        """
        if isinstance(self.table, DeferredTable):
            return self.table.row_hashes(names, also)
        return row_hashes(self.select(names))

    def sample(self, names: Sequence[str], most: int) -> pl.DataFrame:
        """These fields of no more than about so many items, spread over all of them.

        >>> as_catalogue({"sku": ["QA-1", "QA-2", "QA-3", "QA-4"]}).sample(["sku"], 2)["sku"].to_list()
        ['QA-1', 'QA-3']
        """
        return self.rows(list(range(0, self.height, max(1, self.height // most))), names)

    def head(self, names: Sequence[str], most: int) -> pl.DataFrame:
        """These fields of the first items.

        >>> as_catalogue({"sku": ["QA-1", "QA-2", "QA-3"]}).head(["sku"], 2)["sku"].to_list()
        ['QA-1', 'QA-2']
        """
        return self.rows(list(range(min(most, self.height))), names)

    def narrowed(self, names: Sequence[str]) -> Catalogue:
        """The catalogue with these fields alone, in this order.

        >>> as_catalogue({"sku": ["QA-1"], "price": ["9.90"]}).narrowed(["price"]).fields
        ['price']
        """
        return replace(self, table=narrowed(self.table, names))

    def at(self, name: str, places: pl.Series | Sequence[int]) -> pl.Series:
        """A field at these places (items counted from 0); null where the place is.

        >>> live = as_catalogue({"sku": ["QA-1", "QA-2"], "price": ["9.90", "20.00"]})
        >>> live.at("price", pl.Series([1, None])).to_list()
        ['20.00', None]
        """
        if isinstance(self.table, DeferredTable):
            return self.rows(places, [name])[name]
        return gathered(self.table[name].rechunk(), places)  # faster from one piece

    @property
    def elsewhere(self) -> str:
        """What an error adds of a workbook of which another sheet may be meant; "" of any other file."""
        return next((f" It was {note}." for note in self.notes if "‹sheet_name›" in note), "")

    @property
    def source(self) -> Source:
        """The file it was read from, as a change set names it."""
        return Source(
            self.path,
            self.digest(),
            self.height + (provenance.unseen_rows if (provenance := self.provenance) else 0),
            self.layout,
            self.continued,
            list(self.notes),
            self.regular,
            self.origin,
        )

    def texts(self, fields: pl.Series, places: pl.Series) -> pl.Series:
        """The text of each of these fields at the place beside it; null where there is no place, or no field.

        >>> live = as_catalogue({"sku": ["QA-1", "QA-2"], "price": ["9.90", "20.00"]})
        >>> live.texts(pl.Series(["price", "sku", None]), pl.Series([1, 0, 1])).to_list()
        ['20.00', 'QA-1', None]
        """
        texts = pl.Series([None], dtype=pl.String).new_from_index(0, fields.len())
        for name in fields.drop_nulls().unique():
            at = true_places((fields == name).fill_null(value=False))
            texts = scattered(texts, at, self.at(name, gathered(places, at)))
        return texts

    def row(self, places: pl.Series) -> pl.Series:
        """The rows, as a spreadsheet numbers them, of the items at these places (from 0; null stays null)."""
        if self.row_numbers is None:
            return places.cast(pl.Int64) + self.first
        return gathered(self.row_numbers, places).cast(pl.Int64)

    def place(self, rows: pl.Series) -> pl.Series:
        """The places of the items in these rows, null where the file has no item there."""
        if self.row_numbers is None:
            places = rows - self.first
            return places.set(~places.is_between(0, self.height - 1), None)
        numbered = pl.DataFrame({"row": self.row_numbers.cast(pl.Int64)}).with_row_index("place")
        numbered = numbered.unique("row", keep="first", maintain_order=True)  # a row of a list may go to several items
        located = pl.DataFrame({"row": rows.cast(pl.Int64)}).join(numbered, on="row", how="left", maintain_order="left")
        return located["place"].cast(pl.Int64)


def rows_that_may_differ(
    catalogue: Catalogue, other: Catalogue, fields: Sequence[str], places: pl.Series, other_places: pl.Series
) -> pl.Series | None:
    """Of each item at these places and the one beside it in another catalogue, whether a cell of these fields may
    differ: where it says no, none does. None where that cannot be told without reading them.

    >>> live = as_catalogue({"sku": ["QA-1"]})
    >>> rows_that_may_differ(live, live, ["sku"], pl.Series([0]), pl.Series([0])) is None
    True
    """
    ours, theirs = catalogue.table, other.table
    if isinstance(ours, DeferredTable) and isinstance(theirs, DeferredTable):
        return ours.differ(theirs, fields, places, other_places)
    return None


def as_catalogue(table: pl.DataFrame | Mapping[str, Sequence[str]], name: str = "table") -> Catalogue:
    """A table that is at hand (one row an item, one column a field, all of them texts) as a catalogue called `name`.

    >>> as_catalogue({"sku": ["QA-1"], "price": ["9.90"]}).fields
    ['sku', 'price']
    """
    cells = (
        pl.DataFrame(table, schema_overrides=dict.fromkeys(table.keys(), pl.String))
        if isinstance(table, Mapping)
        else table
    )

    def digest() -> str:
        return blake3(cells.write_csv().encode()).hexdigest()

    return Catalogue(cells.cast(pl.String), name, digest)


def renamed(catalogue: Catalogue, names: dict[str, str]) -> Catalogue:
    """The catalogue with these headings as those fields; CatalogueError when a name would stand twice."""
    if not names:
        return catalogue
    fields = [names.get(heading, heading) for heading in catalogue.fields]
    for name in names.values():
        if fields.count(name) > 1:
            raise CatalogueError(f'{catalogue.path}: two headings stand for the field "{name}". Rename one.')
    return replace(catalogue, table=catalogue.table.rename(names))


def listed(names: Sequence[str], most: int = 12) -> str:
    """Names for a message, the first dozen."""
    names = [name if len(name) <= 60 else f"{name[:59]}…" for name in names]
    more = f" and {len(names) - most} more" if len(names) > most else ""
    return ", ".join(names[:most]) + more


def column_letter(number: int) -> str:
    """The letters a spreadsheet gives a column (1 is A, 27 is AA)."""
    letters = ""
    while number:
        number, rest = divmod(number - 1, 26)
        letters = chr(65 + rest) + letters
    return letters


MARK = "\0"
"""A column name of our own beside the fields: no heading holds a zero character."""
