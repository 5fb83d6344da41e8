"""Files and folders whole or not at all: read in one go, written beside their place and then moved into it."""

from __future__ import annotations

import contextlib
import ctypes
import mmap
import os
import shutil
import sys
from collections.abc import Callable, Iterable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path

from neat_delta.core.beside import in_background
from neat_delta.core.errors import FileError, OutputError

__all__ = ["Loaded", "digest_of", "load", "new_folder", "quiet", "read_whole", "write_whole"]


def read_whole(path: str) -> bytes:
    """The bytes of a file; FileError when there is none or it cannot be read."""
    try:
        return Path(path).read_bytes()
    except FileNotFoundError:
        raise FileError(f"{path}: there is no such file. Check the name and the folder.") from None
    except IsADirectoryError:
        raise FileError(f"{path}: this is a folder. Name a file in it.") from None
    except (OSError, ValueError) as error:
        raise FileError(f"{path}: it cannot be read ({_why(error)}).") from None


LARGE = 1 << 24
"""Files of more bytes than this are mapped into memory."""


@dataclass(frozen=True, slots=True)
class Loaded:
    """A file's bytes under the path it was named by; those of a large file are mapped, not copied.

    `digest` gives their BLAKE3 digest, and waits for it if need be.
    """

    path: str
    data: bytes | mmap.mmap
    digest: Callable[[], str]


def load(path: str) -> Loaded:
    """Read a file; its digest is made in the background.

    For that a large file is read a second time, so that its bytes need not be kept; `digest` raises FileError when it
    was changed in between. FileError also when there is no such file or it cannot be read. The path `-` is standard
    input.
    """
    if path == "-":
        data = sys.stdin.buffer.read()
        return Loaded(path, data, in_background(lambda: digest_of(data)))
    before = _stamp(path)
    large = before is not None and Path(path).is_file() and before[2] > LARGE
    data = _mapped(path) if large else read_whole(path)

    def digest() -> str:
        try:
            found = _digest(path)
        except OSError as error:
            raise FileError(f"{path}: it cannot be read ({_why(error)}).") from None
        if _stamp(path) != before:
            raise FileError(f"{path}: it was changed while it was being read. Run the command again.")
        return found

    return Loaded(path, data, in_background(digest))


def _mapped(path: str) -> mmap.mmap:
    try:
        with Path(path).open("rb") as file:
            return mmap.mmap(file.fileno(), 0, prot=mmap.PROT_READ)
    except OSError as error:
        raise FileError(f"{path}: it cannot be read ({_why(error)}).") from None


def digest_of(data: bytes) -> str:
    """The digest by which a file is known again: BLAKE3, in hexadecimal, as `b3sum` prints it.

    It is as hard to fool as SHA-256 and several times faster, which counts with large files.
    """
    from blake3 import blake3

    return blake3(data).hexdigest()


def _digest(path: str) -> str:
    from blake3 import blake3

    return blake3().update_mmap(path).hexdigest()


def _stamp(path: str) -> tuple[int, ...] | None:
    """What tells one state of a file from another, as far as the system knows."""
    try:
        there = Path(path).stat()
    except (OSError, ValueError):
        return None
    return there.st_dev, there.st_ino, there.st_size, there.st_mtime_ns


@contextmanager
def quiet() -> Iterator[None]:
    """Keep what a library writes to standard error on damaged files from the user, who gets an error of ours
    instead.
    """
    try:
        saved = os.dup(2)
    except OSError:  # there is no standard error
        yield
        return
    nowhere = os.open(os.devnull, os.O_WRONLY)
    try:
        os.dup2(nowhere, 2)
        yield
    finally:
        os.dup2(saved, 2)
        os.close(saved)
        os.close(nowhere)


def write_whole(path: str, chunks: Iterable[bytes]) -> None:
    """Write a file so that it appears complete or not at all; OutputError when it cannot be written."""
    place = Path(os.path.realpath(path))  # a link stays a link; its file is replaced
    if place.exists() and not place.is_file():
        raise OutputError(f"{path}: this is not a plain file. Name a file to write.")
    partial = place.with_name(f".{place.name}.partial-{os.getpid()}")
    try:
        with partial.open("wb") as out:
            for chunk in chunks:
                out.write(chunk)
            out.flush()
            os.fsync(out.fileno())
        partial.replace(place)
        _folder_to_disk(place.parent)
    except OSError as error:
        raise OutputError(f"{path}: it cannot be written ({_why(error)}). Nothing was written.") from None
    finally:
        with contextlib.suppress(OSError):
            partial.unlink(missing_ok=True)


@contextmanager
def new_folder(path: str, may_replace: Callable[[Path], bool]) -> Iterator[Path]:
    """A folder to fill, which gets its name only when the block has ended well; otherwise nothing of it stays.

    A folder of that name that is not empty is replaced only if `may_replace` says so of it. OutputError
    when it may not be replaced or cannot be written.
    """
    place = Path(os.path.realpath(path))
    try:
        occupied = place.exists() and (not place.is_dir() or any(place.iterdir()))
        if occupied and not place.is_dir():
            raise OutputError(f"{path}: there is a file of that name. Name a folder.")
        if occupied and not may_replace(place):
            raise OutputError(
                f"{path}: the folder is not empty. Name another, or add --replace if all in it came from `write`."
            )
        place.parent.mkdir(parents=True, exist_ok=True)
        partial = place.with_name(f".{place.name}.partial-{os.getpid()}")
        partial.mkdir()
    except OSError as error:
        raise OutputError(f"{path}: it cannot be written ({_why(error)}). Nothing was written.") from None
    try:
        yield partial
        for file in partial.iterdir():
            with file.open("rb") as written:
                os.fsync(written.fileno())
        _folder_to_disk(partial)
        _move(partial, place, occupied)
        _folder_to_disk(place.parent)
    except OSError as error:
        raise OutputError(f"{path}: it cannot be written ({_why(error)}). Nothing was written.") from None
    finally:
        shutil.rmtree(partial, ignore_errors=True)


def _move(partial: Path, place: Path, occupied: bool) -> None:
    """Give the finished folder its name. One that is to be replaced changes places with it, at once where it can."""
    if not occupied:
        partial.rename(place)  # an empty folder of that name gives way
    elif not _exchange(partial, place):
        old = place.with_name(f".{place.name}.replaced-{os.getpid()}")
        place.rename(old)
        try:
            partial.rename(place)
        except OSError:
            old.rename(place)
            raise
        old.rename(partial)


def _exchange(one: Path, other: Path) -> bool:
    """Swap two names in one step, as Linux' renameat2 does; False where the system cannot."""
    renameat2 = getattr(ctypes.CDLL(None), "renameat2", None)
    here, exchange = -100, 2  # AT_FDCWD, RENAME_EXCHANGE
    return renameat2 is not None and renameat2(here, os.fsencode(one), here, os.fsencode(other), exchange) == 0


def _folder_to_disk(folder: Path) -> None:
    """Make a rename last. Some file systems cannot sync a folder; the names are right all the same."""
    with contextlib.suppress(OSError):
        descriptor = os.open(folder, os.O_RDONLY)
        try:
            os.fsync(descriptor)
        finally:
            os.close(descriptor)


def _why(error: Exception) -> str:
    return getattr(error, "strerror", None) or str(error)
