"""The cache folder: what was fetched, by its digest, so that a later command has the very bytes that were compared.

Rule: a file there is whole, and is called by its BLAKE3 digest; what is not used for thirty days is removed.
"""

from __future__ import annotations

import contextlib
import os
import re
import tempfile
import time
from collections.abc import Iterator
from contextlib import contextmanager
from datetime import datetime
from pathlib import Path
from typing import IO

import msgspec

from neat_delta.core.base.support.errors import FileError
from neat_delta.files.sources.base import FileState

__all__ = ["Known", "cached", "keep", "known", "place", "put", "unfinished"]

DAYS_KEPT = 30


class Known(msgspec.Struct, frozen=True):
    """What was fetched last from an address: the digest of its bytes, and its state then."""

    digest: str
    size: int | None = None
    modified: datetime | None = None
    tag: str | None = None

    @property
    def state(self) -> FileState:
        """Its state then."""
        return FileState(self.size, self.modified, self.tag)


def folder() -> Path:
    """The cache folder, which is made if need be; its files are for their owner alone."""
    kept = place(".")
    try:
        kept.mkdir(parents=True, exist_ok=True, mode=0o700)
    except OSError as error:
        raise FileError(
            f"{kept}: what is fetched is kept there, and it cannot be made ({error.strerror}). Say in XDG_CACHE_HOME "
            "which folder is to be taken."
        ) from None
    return kept


@contextmanager
def unfinished() -> Iterator[IO[bytes]]:
    """A file in the cache that has no name yet, for its owner alone; it is gone afterwards, unless it was kept."""
    kept = folder()
    _remove_unused(kept)
    try:
        file = tempfile.NamedTemporaryFile(dir=kept, prefix=".partial-", delete=False, buffering=0)  # noqa: SIM115
    except OSError as error:
        raise FileError(
            f"{kept}: nothing can be written there ({error.strerror}). Make room, or see to that."
        ) from None
    from neat_delta.files.whole import UNFINISHED

    UNFINISHED.add(file.name)
    try:
        yield file
    finally:
        with contextlib.suppress(OSError):
            file.close()
        with contextlib.suppress(OSError):
            Path(file.name).unlink()
        UNFINISHED.discard(file.name)


def keep(file: IO[bytes], name: str, state: FileState, digest: str) -> Path:
    """Give a file that is whole its place, and remember what it was fetched by; where it is from now on."""
    file.flush()
    kept = folder() / digest
    Path(file.name).replace(kept)
    entry = _entry(name)
    partial = entry.with_suffix(f".partial-{os.getpid()}")
    partial.write_bytes(msgspec.json.encode(Known(digest, state.size, state.modified, state.tag)))
    partial.replace(entry)
    return kept


def put(data: bytes, digest: str) -> Path:
    """Put the bytes of this digest into the cache, if they are not there; where they are."""
    known_file = cached(digest)
    if known_file is not None:
        return known_file
    with unfinished() as file:
        file.write(data)
        file.flush()
        kept = folder() / digest
        Path(file.name).replace(kept)
    return kept


def known(name: str) -> Known | None:
    """What was fetched last by this name, if it is still there."""
    try:
        entry = msgspec.json.decode(_entry(name).read_bytes(), type=Known)
    except (OSError, msgspec.MsgspecError):
        return None
    return entry if cached(entry.digest) is not None else None


def place(digest: str) -> Path:
    """Where the file of this digest is, if it is there."""
    home = os.environ.get("XDG_CACHE_HOME") or str(Path("~/.cache").expanduser())
    return Path(home) / "neat-delta" / digest


def cached(digest: str) -> Path | None:
    """The file of this digest, if it was fetched and is still there."""
    file = place(digest)
    if not re.fullmatch("[0-9a-f]{64}", digest) or not file.is_file():
        return None
    with contextlib.suppress(OSError):
        _mark(file).touch()  # and not the file, which somebody may be reading right now
    return file


def _mark(file: Path) -> Path:
    """What says by its age when a file was last used."""
    return file.with_name(f"{file.name}.used")


def _entry(name: str) -> Path:
    """Where it is kept what was fetched last by a name; the name itself, which may have a secret in it, is not."""
    from blake3 import blake3

    return folder() / f"{blake3(name.encode()).hexdigest()}.json"


def _remove_unused(kept: Path) -> None:
    limit = time.time() - DAYS_KEPT * 86400
    for path in kept.iterdir():
        with contextlib.suppress(OSError):
            used = [each.stat().st_mtime for each in (path, _mark(path)) if each.exists()]
            if max(used, default=limit) < limit:
                path.unlink()
