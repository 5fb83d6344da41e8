"""From an address to a file on this machine."""

from __future__ import annotations

from contextlib import nullcontext
from datetime import timedelta

from neat_delta.files.sources import fetch as sources
from neat_delta.files.sources import not_older_than
from neat_delta.files.sources.fetch import Fetched

__all__ = ["fetch"]


def fetch(address: str, *, query: str | None = None, older_than: timedelta | None = None) -> Fetched:
    """Fetch what is at an address, whole or not at all, into the cache folder: a file, the newest of a pattern, or a
    table of a database as CSV (what its fragment names, or what a `query` gives). Every function that takes a path
    takes an address, too; this tells besides whether it is the same as the last time. FileError where it cannot be had,
    or is `older_than` that.

    >>> from neat_delta import FileError
    >>> try:
    ...     fetch("htps://shop.quillfern.example/export.csv")
    ... except FileError as error:
    ...     print(str(error).partition(": ")[2])
    nothing opens addresses that begin with "htps://". Did you mean "https"?
    """
    with nullcontext() if older_than is None else not_older_than(older_than.total_seconds()):
        return sources.fetch(address, query)
