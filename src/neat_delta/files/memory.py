"""What a working sheet remembers: the cells that it was cut with, packed into a text (docs/formats/base.md)."""

from __future__ import annotations

import base64
import io
import zlib

import polars as pl
from blake3 import blake3
from polars.exceptions import PolarsError

from neat_delta.core.base.model.catalogue import Catalogue, Origin

__all__ = ["CHUNK", "as_memory", "chunks_of", "digest", "packed", "unpacked"]

CHUNK = 32_000
"""So many characters go into a cell of a workbook, which holds 32,767."""


def digest(text: str) -> str:
    """The BLAKE3 digest of a packed text, in hexadecimal."""
    return blake3(text.encode()).hexdigest()


def chunks_of(text: str) -> list[str]:
    """A packed text in pieces for the cells of a workbook.

    >>> [len(one) for one in chunks_of("x" * 40_000)]
    [32000, 8000]
    """
    return [text[start : start + CHUNK] for start in range(0, len(text), CHUNK)]


def packed(cells: pl.DataFrame) -> str:
    r"""Cells as text: as CSV (RFC 4180, every cell quoted), by zlib (RFC 1950), in base64.

    >>> unpacked(packed(pl.DataFrame({"sku": ["QA-1"], "name": ['a "b"\r\n']}))).rows()
    [('QA-1', 'a "b"\r\n')]
    """
    text = io.BytesIO()
    cells.write_csv(text, quote_style="always")
    return base64.b64encode(zlib.compress(text.getvalue(), 6)).decode()


def unpacked(text: str) -> pl.DataFrame:
    """The cells that a text was made of by `packed`; ValueError when it is none."""
    try:
        data = _inflated(base64.b64decode(text, validate=True))
        return pl.read_csv(io.BytesIO(data), infer_schema=False).fill_null("")
    except (ValueError, zlib.error, PolarsError) as error:
        raise ValueError(str(error)) from None


MOST = 4 << 30
"""So many bytes may be in what a working sheet remembers."""


def _inflated(data: bytes) -> bytes:
    machine = zlib.decompressobj()
    inflated = machine.decompress(data, MOST)
    if machine.unconsumed_tail or not machine.eof:
        raise ValueError("cut short")
    return inflated


def as_memory(cells: pl.DataFrame, origin: Origin) -> Catalogue:
    """What a sheet was cut with, as the part of the catalogue that it was."""
    return Catalogue(cells, origin.path, lambda: origin.blake3)
