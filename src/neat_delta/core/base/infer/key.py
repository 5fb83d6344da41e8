"""The key: where the code repeats, the further field that tells its items apart."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass

import polars as pl

from neat_delta.core.base.infer.headings import SKU_HEADINGS, plain_heading
from neat_delta.core.base.model.catalogue import Catalogue, listed
from neat_delta.core.base.support.errors import CatalogueError

__all__ = ["Known", "fields_of_key", "find_key"]

APART = re.compile(
    r"location|warehouse|store|branch|site|depot|shelf|language|locale|lang$|channel|market|country|currency|region|"
    r"unit|lager|standort|filiale|sprache|land$|entrep|magasin|langue|almac|idioma|magazzino|lingua|magazyn|język",
    re.IGNORECASE,
)
"""Headings of what an item may have several rows for: its place, its language, its market."""


@dataclass(frozen=True, slots=True)
class Known:
    """What items are known by, and how that was seen."""

    fields: list[str]
    evidence: str


def fields_of_key(cells: pl.DataFrame, code: str) -> Known:
    """The fields of the key of which `code` is the first.

    Where the code stands in several rows, and with one more field every row is another, that field belongs to the
    key: one whose heading says place, language or market, or, where the code repeats in half the rows and more, any
    field that is never blank and takes few values.
    """
    codes = cells[code].str.strip_chars()
    filled = cells.filter(codes != "")
    codes = filled[code].str.strip_chars()
    repeats = int(codes.is_duplicated().sum())
    if not repeats:
        return Known([code], "every row has its own")
    named = [name for name in cells.columns if name != code and APART.search(name)]
    others = [name for name in cells.columns if name not in {code, *named}] if repeats * 2 >= filled.height else []
    for name in (*named, *others):
        if _tells_apart(filled, codes, name):
            return Known(
                [code, name], f"{code} stands several times in {repeats:,} rows; with {name}, every row has its own"
            )
    return Known(
        [code],
        f"{code} stands several times in {repeats:,} rows, and no other field tells them apart: compare sets them "
        'aside; shared = "all" changes them together',
    )


def _tells_apart(cells: pl.DataFrame, codes: pl.Series, name: str) -> bool:
    """Whether a field is never blank, takes few values, and makes every row another."""
    texts = cells[name].str.strip_chars()
    if (texts == "").any() or texts.n_unique() * 2 > max(texts.len(), 2):
        return False
    return not pl.DataFrame([codes.alias("code"), texts.alias("other")]).is_duplicated().any()


def find_key(live: Catalogue, key: Sequence[str] = ()) -> list[str]:
    """The key fields: the ones named, or the one heading that is plainly the SKU. CatalogueError when there is none.

    >>> from neat_delta import as_catalogue
    >>> find_key(as_catalogue({"Name": ["Veil"], "Item No.": ["QA-1"]}))
    ['Item No.']
    """
    if len(set(key)) != len(key):
        raise CatalogueError(f"‹key› names the same field twice: {', '.join(key)}. Name each once.")
    for name in key:
        if name not in live.fields:
            raise CatalogueError(
                f'{live.path}: there is no heading "{name}" for the key. It has: {listed(live.fields)}.'
                + live.elsewhere
            )
    if key:
        return list(key)
    sku = plain_heading(live.fields, SKU_HEADINGS)
    if sku is None:
        raise CatalogueError(
            f"{live.path}: no heading is plainly the SKU. Name the key with ‹key›. It has: {listed(live.fields)}."
            + live.elsewhere
        )
    return [sku]
