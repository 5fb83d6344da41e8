"""Headings that are plain in themselves: those of the SKU and of the name."""

from __future__ import annotations

from collections.abc import Sequence

__all__ = ["NAME_HEADINGS", "SKU_HEADINGS", "plain_heading"]

SKU_HEADINGS = (
    "sku",
    "skucode",
    "skunumber",
    "productsku",
    "itemsku",
    "variantsku",
    "itemnumber",
    "itemno",
    "itemcode",
    "articlenumber",
    "articleno",
    "artno",
    "productcode",
    "productnumber",
    "stockcode",
    *("artikelnummer", "artikelnr", "artnr", "produktnummer", "varenummer", "varenr"),
    *("codearticle", "référencearticle", "codicearticolo", "códigodeartículo", "códigoartículo"),
    *("kodproduktu", "cikkszám", "артикул"),
)
"""Headings that plainly mean the code an item is known by, without case, spaces and marks; the plainest first."""

NAME_HEADINGS = (
    *("name", "productname", "itemname", "title", "producttitle", "itemtitle"),
    *("bezeichnung", "artikelbezeichnung", "artikelname", "produktname", "désignation", "nomduproduit", "libellé"),
    *("denominazione", "nombre", "naam", "nazwa", "navn", "namn", "megnevezés", "название", "наименование"),
)
"""Headings under which a person knows an item, likewise."""


def plain_heading(fields: Sequence[str], wanted: Sequence[str]) -> str | None:
    """The field whose heading, without case, spaces and marks, is the first of `wanted` that any field has."""
    plain = {"".join(c for c in name.casefold() if c.isalnum()): name for name in reversed(fields)}
    return next((plain[heading] for heading in wanted if heading in plain), None)
