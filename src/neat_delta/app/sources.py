"""What may be given where a catalogue is wanted: a path, a catalogue, or a table at hand of any common sort."""

from __future__ import annotations

import os
from datetime import time
from decimal import Decimal
from pathlib import PurePath
from typing import TYPE_CHECKING, Any

import polars as pl

from neat_delta.core.base.model.catalogue import Catalogue, as_catalogue
from neat_delta.core.base.model.store import Field, Store
from neat_delta.core.base.support.errors import CatalogueError

if TYPE_CHECKING:
    from neat_delta.core.base.model.layout import Layout

__all__ = ["Table", "catalogue_of", "export_of", "store_of", "table_of"]

Table = Any
"""A path, a `Catalogue`, a data frame (Polars, pandas, or what else gives Arrow), a dictionary of columns, or a list of
dictionaries, one a row.
"""


def store_of(store: Store | str | os.PathLike[str] | None) -> Store | None:
    """The store that is given, or that a file describes; StoreError as `read_store`."""
    if store is None or isinstance(store, Store):
        return store
    from neat_delta.files.storefile import read_store

    return read_store(os.fspath(store))


def catalogue_of(
    source: Table,
    name: str,
    store: Store | None = None,
    *,
    layout: Layout | None = None,
    like: Catalogue | None = None,
    deferred: bool = False,
) -> Catalogue:
    """What is given as a catalogue: a file is read (FileError, CatalogueError; `like` and `deferred` as in
    `files.reading.read`), of a table at hand each cell becomes its exact text (`table_of`), and messages call it
    `name`.

    >>> catalogue_of({"sku": ["QA-1"], "stock": [7]}, "sheet").cells.rows()
    [('QA-1', '7')]
    """
    if isinstance(source, Catalogue):
        return source
    if isinstance(source, str | PurePath):
        from neat_delta.files.reading import read

        return read(os.fspath(source), layout, like=like, deferred=deferred)
    return as_catalogue(table_of(source, name, store), name)


def export_of(source: Table, name: str, store: Store | None, *, deferred: bool = False) -> Catalogue:
    """An export of the store as a catalogue: as `catalogue_of`, a file laid out as the store file says.

    >>> export_of({"sku": ["QA-1"]}, "live", None).path
    'live'
    """
    return catalogue_of(source, name, store, layout=store.file.layout if store else None, deferred=deferred)


def table_of(source: Table, name: str, store: Store | None = None) -> pl.DataFrame:
    """A table at hand with each cell as its exact text: nothing is "", a date ISO 8601, a number its digits, with the
    store file's decimal mark. Of binary floating point numbers the text is only known where the `store` says how many
    decimals their field has; CatalogueError where it does not, or where one has more of them, as for what is no cell.

    >>> from neat_delta import Store, Field
    >>> store = Store(fields={"price": Field("money", decimals=2)})
    >>> table_of([{"sku": "QA-1", "price": 9.9}, {"sku": "QA-2", "price": None}], "sheet", store).rows()
    [('QA-1', '9.90'), ('QA-2', '')]
    """
    try:
        if source is None:
            raise TypeError("nothing was given")
        table = source if isinstance(source, pl.DataFrame) else pl.DataFrame(source, infer_schema_length=None)
    except ImportError as error:  # pandas' tables are taken by way of Arrow
        raise CatalogueError(
            f"{name}: this table cannot be taken without another package ({error}). Install it, or give a path."
        ) from error
    except Exception as error:  # whatever a stranger's table raises
        raise CatalogueError(
            f"{name}: this is no table ({type(source).__name__}). Give a path, a data frame, a dictionary of columns, "
            f"or a list of dictionaries, one a row."
        ) from error
    fields = store.fields if store else {}
    by_heading = {str(field.heading): field for field in fields.values() if field.heading is not None}
    mark = "." if store is None else store.writing.decimal_mark or "."
    columns = {
        heading: _texts(table[heading], fields.get(heading) or by_heading.get(heading) or Field(), mark, name)
        for heading in table.columns
    }
    return pl.DataFrame(columns, schema=dict.fromkeys(columns, pl.String))


AS_IT_STANDS = (pl.String, pl.Categorical, pl.Enum, pl.Date, pl.Time, pl.Null)


def _texts(column: pl.Series, field: Field, mark: str, name: str) -> pl.Series:
    """The cells of one column as texts."""
    kind = column.dtype
    if kind == pl.Object and all(isinstance(cell, str | None) for cell in column):
        texts = pl.Series(column.to_list(), dtype=pl.String)
    elif kind.is_integer() or kind in AS_IT_STANDS:
        texts = column.cast(pl.String)
    elif kind == pl.Boolean:
        texts = column.replace_strict({True: "true", False: "false"}, return_dtype=pl.String)
    elif kind == pl.Datetime:
        days = (column.drop_nulls().dt.time() == time()).all()  # pandas has no dates without a time
        texts = column.dt.to_string("%Y-%m-%d" if days else "%Y-%m-%dT%H:%M:%S")
    elif kind == pl.Decimal:
        texts = column.cast(pl.String).str.replace(".", mark, literal=True)
    elif kind.is_float():
        texts = _of_floats(column, field, mark, name)
    else:
        what = f'the column "{column.name}" holds {kind}, and a cell is one text or number'
        raise CatalogueError(f"{name}: {what}. Make a text of each first.")
    return texts.fill_null("").alias(column.name)


def _of_floats(column: pl.Series, field: Field, mark: str, name: str) -> pl.Series:
    """Binary floating point numbers as the decimals that they stand for."""
    if field.decimals is None:
        raise CatalogueError(
            f'{name}: the column "{column.name}" holds binary floating point numbers, and how many decimals they have '
            "is not known. Give texts or exact decimals, or a store file that says [fields."
            f"{column.name}] decimals = 2."
        )
    texts: dict[float, str] = {}
    for number in column.drop_nulls().unique():
        exact = Decimal(repr(number))
        if not exact.is_finite():
            texts[number] = ""
            continue
        rounded = round(exact, field.decimals)
        if rounded != exact:
            raise CatalogueError(
                f'{name}: {number!r} in the column "{column.name}" has more than {field.decimals} decimals. Round it '
                "before."
            )
        texts[number] = f"{rounded or abs(rounded):f}".replace(".", mark)
    return column.replace_strict(texts, default="", return_dtype=pl.String)
