"""Codes that are named in a file: one a line, or a column of any table (`report.csv#sku`)."""

from __future__ import annotations

from pathlib import Path

from neat_delta.core.base.model.catalogue import listed
from neat_delta.core.base.support.errors import CatalogueError
from neat_delta.files.readers.magic import binary_format
from neat_delta.files.readers.packed import unpack
from neat_delta.files.reports import read_report
from neat_delta.files.sources.address import is_address, is_database, parse
from neat_delta.files.whole import load

__all__ = ["read_codes"]


def read_codes(reference: str) -> list[str]:
    r"""The codes that a file names, each once, in their order: `FILE` has one a line, `FILE#HEADING` a table with a
    column of them. FileError when it cannot be read, CatalogueError when it has no such heading.

    >>> from tempfile import mkdtemp
    >>> path = Path(mkdtemp()) / "report.csv"
    >>> _ = path.write_text("sku,status\nQA-1,refused\nQA-2,refused\nQA-1,refused\n")
    >>> read_codes(f"{path}#sku")
    ['QA-1', 'QA-2']
    """
    path, mark, heading = reference.rpartition("#")
    if is_address(path) and is_database(path) and "#" not in path:
        raise CatalogueError(f"{parse(reference).masked}: which column? Name it behind the table: #{heading}#HEADING")
    if not mark or Path(reference).exists():
        data = load(reference).data
        if binary_format(data) is not None or unpack(data, reference)[1] is not None:
            raise CatalogueError(
                f"{reference}: it is no list of codes, one a line. Name the column that has them: {reference}#HEADING"
            )
        lines = data.decode("utf-8-sig", errors="replace").splitlines()
        return _some(list(dict.fromkeys(line.strip() for line in lines if line.strip())), reference)
    table = read_report(path)
    if heading not in table.columns:
        raise CatalogueError(f'{path}: it has no heading "{heading}". It has: {listed(table.columns)}.')
    codes = table[heading].str.strip_chars().unique(maintain_order=True)
    return _some([text for text in codes if text], reference)


def _some(codes: list[str], reference: str) -> list[str]:
    if not codes:
        raise CatalogueError(f"{reference}: no code is in it, so nothing is named. Put one on each line.")
    return codes
