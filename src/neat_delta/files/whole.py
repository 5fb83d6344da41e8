"""Files and folders whole or not at all: read in one go, written beside their place and then moved into it."""

from __future__ import annotations

import contextlib
import ctypes
import os
import shutil
import stat
import subprocess
import sys
import threading
from collections.abc import Callable, Iterable, Iterator, Mapping
from contextlib import contextmanager
from dataclasses import dataclass
from datetime import UTC, datetime
from functools import partial
from pathlib import Path
from typing import IO

from neat_delta.core.base.support import sizes
from neat_delta.core.base.support.background import submit
from neat_delta.core.base.support.errors import FileError, OutputError
from neat_delta.files.inputs import must_not_be_input, remember
from neat_delta.files.readers.magic import binary_format
from neat_delta.files.sources import AGES
from neat_delta.files.sources.address import is_address, is_database

__all__ = [
    "AnyPath",
    "Loaded",
    "begin_reader",
    "changed_meanwhile",
    "copy_new",
    "digest_of",
    "load",
    "loaded",
    "new_folder",
    "print_whole",
    "read_whole",
    "remove_unfinished",
    "stamp",
    "unreadable",
    "write_new",
    "write_whole",
]

AnyPath = str | os.PathLike[str]
"""A path as somebody says it: as text, which may be an address, or as pathlib has it."""


def read_whole(path: str) -> bytes:
    """The bytes of a file, read once; FileError when there is none or it cannot be read, or when it changes meanwhile.

    A pipe is read to its end; a device that never ends is no file.
    """
    if is_address(path):
        from neat_delta.files.sources.fetch import fetch

        path = str(fetch(path).path)
    try:
        with Path(path).open("rb") as file:
            before = os.fstat(file.fileno())
            if stat.S_ISBLK(before.st_mode) or (stat.S_ISCHR(before.st_mode) and not _ends(file, before)):
                raise FileError(f"{path}: this is a device, and no file. Name a file.")
            if stat.S_ISREG(before.st_mode):
                remember(path, before)
            data = file.read()
            after = os.fstat(file.fileno())
    except FileNotFoundError:
        raise FileError(f"{path}: there is no such file. Check the name and the folder.") from None
    except IsADirectoryError:
        raise FileError(f"{path}: this is a folder. Name a file in it.") from None
    except (OSError, ValueError) as error:
        raise unreadable(path, error) from None
    sized = stat.S_ISREG(before.st_mode) and (before.st_size or after.st_size)  # some of the system's have no size
    if sized and (stamp(before) != stamp(after) or len(data) != after.st_size):
        raise changed_meanwhile(path)
    return data


def _ends(file: IO[bytes], state: os.stat_result) -> bool:
    """Whether a character device gives what a person types, or nothing."""
    return file.isatty() or os.path.samestat(state, Path(os.devnull).stat())


def unreadable(path: str, error: Exception) -> FileError:
    """The error of a file that the system does not give."""
    return FileError(f"{path}: it cannot be read ({_why(error)}). See to that, and run the command again.")


def changed_meanwhile(path: str) -> FileError:
    """The error of a file that is another one by now than when reading began."""
    return FileError(f"{path}: it was changed while it was being read. Run the command again.")


def stamp(state: os.stat_result) -> tuple[int, ...]:
    """What tells one state of a file from another, as far as the system knows."""
    return state.st_dev, state.st_ino, state.st_size, state.st_mtime_ns


@dataclass(frozen=True, slots=True)
class Loaded:
    """A file's bytes under the path it was named by.

    `digest` gives their BLAKE3 digest, and waits for it if need be. `reader` is the process that is to take the bytes
    apart, begun ahead, where they need one (`apart.read_apart`).
    """

    path: str
    data: bytes
    digest: Callable[[], str]
    reader: subprocess.Popen[bytes] | None = None


def load(path: str, query: str | None = None) -> Loaded:
    """Read a file, once; the digest of what was read is made in the background. The path `-` is standard input. What is
    at an address is fetched, and goes by it without what is secret in it; a database is asked by the `query`, if there
    is one.

    FileError when there is no such file, or it cannot be read.
    """
    if path != "-" and is_address(path):
        from neat_delta.files.sources.fetch import fetch

        fetched = fetch(path, query if is_database(path) else None)
        path, data = fetched.address, read_whole(str(fetched.path))
    else:
        data = sys.stdin.buffer.read() if path == "-" else read_whole(path)
        if AGES and path != "-":
            from neat_delta.files.sources.fetch import must_be_fresh

            must_be_fresh(path, datetime.fromtimestamp(Path(path).stat().st_mtime, UTC))
    return loaded(path, data)


def loaded(path: str, data: bytes) -> Loaded:
    """The bytes of a file that were read, under the path that it goes by; what they need ahead is begun."""
    reader = None if binary_format(data) is None else begin_reader()
    return Loaded(path, data, submit(partial(digest_of, data)), reader)


def begin_reader() -> subprocess.Popen[bytes]:
    """A process for `apart.read_here`, which ends by itself when nobody asks it anything."""
    call = [sys.executable, "-c", "from neat_delta.files.readers.apart import read_here; read_here()"]
    child = subprocess.Popen(call, stdin=subprocess.PIPE, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL)
    RUNNING.append(child)
    return child


def digest_of(data: bytes) -> str:
    """The digest by which a file is known again: BLAKE3, in hexadecimal, as `b3sum` prints it.

    It is as hard to fool as SHA-256 and several times faster, which counts with large files.
    """
    from blake3 import blake3

    return blake3(data, max_threads=blake3.AUTO if len(data) > sizes.BYTES_HASHED_BY_ALL_CORES else 1).hexdigest()


def write_whole(path: str, chunks: Iterable[bytes]) -> None:
    """Write a file so that it appears complete or not at all; OutputError when it cannot be written."""
    place = Path(os.path.realpath(path))  # a link stays a link; its file is replaced
    must_not_be_input(path)
    if place.exists() and not place.is_file():
        raise OutputError(f"{path}: this is not a plain file. Name a file to write.")
    unfinished = place.with_name(f".{place.name}.partial-{os.getpid()}")
    try:
        with _created(unfinished) as out:
            for chunk in chunks:
                out.write(chunk)
            out.flush()
            os.fsync(out.fileno())
        unfinished.replace(place)
        _folder_to_disk(place.parent)
    except OSError as error:
        raise OutputError(f"{path}: it cannot be written ({_why(error)}). Nothing was written.") from None
    finally:
        with contextlib.suppress(OSError):
            unfinished.unlink(missing_ok=True)
        UNFINISHED.discard(str(unfinished))


def _has(path: str, content: bytes) -> bool:
    """Whether a file has just these bytes; one that cannot be read has not."""
    try:
        place = Path(path)
        return place.is_file() and place.stat().st_size == len(content) and place.read_bytes() == content
    except OSError:
        return False


REPLACES = "‹replace› overwrites it."


def write_new(contents: Mapping[str, bytes], *, replace: bool = False, otherwise: str = REPLACES) -> None:
    """Write files by their paths, none of them where one of them may not be: OutputError where a file is there already
    that is not to be replaced, saying what to do `otherwise`. One that has just these bytes is as it should be.

    >>> from tempfile import mkdtemp
    >>> path = str(Path(mkdtemp()) / "sheet.csv")
    >>> write_new({path: b"sku"})
    >>> write_new({path: b"sku"})
    >>> try:
    ...     write_new({path: b"SKU"})
    ... except OutputError as error:
    ...     print(str(error).removeprefix(path))
    : there is a file of that name. It may be somebody's work; ‹replace› overwrites it.
    """
    written = {path: _has(path, content) for path, content in contents.items()}
    for path, same in written.items():
        if Path(path).exists() and not same and not replace:
            raise OutputError(f"{path}: there is a file of that name. It may be somebody's work; {otherwise}")
    for path, content in contents.items():
        if not written[path]:
            write_whole(path, [content])


def copy_new(source: Path, path: str, *, replace: bool = False) -> None:
    """Write a copy of a file, as `write_new`, of whatever size."""
    from filecmp import cmp

    place = Path(path)
    same = place.is_file() and cmp(source, place, shallow=False)
    if place.exists() and not same and not replace:
        raise OutputError(f"{path}: there is a file of that name. It may be somebody's work; {REPLACES}")
    if not same:
        with source.open("rb") as content:
            write_whole(path, iter(partial(content.read, BYTES_AT_ONCE), b""))


def print_whole(source: Path) -> None:
    """Write a file to standard output."""
    with source.open("rb") as content:
        shutil.copyfileobj(content, sys.stdout.buffer, BYTES_AT_ONCE)
    sys.stdout.buffer.flush()


BYTES_AT_ONCE = 1 << 20

CREATING = threading.Lock()
"""Held while an output is created, and for good by whoever ends the program: none is created any more then."""


def _created(unfinished: Path) -> IO[bytes]:
    """An output that has not got its name yet, open to be written."""
    with CREATING:
        UNFINISHED.add(str(unfinished))
        return unfinished.open("wb")


UNFINISHED: set[str] = set()
"""The outputs that have not got their names yet: whoever ends the program removes them."""


RUNNING: list[subprocess.Popen[bytes]] = []
"""The processes of our own that are at work: whoever ends the program ends them, too."""


def remove_unfinished() -> None:
    """Remove what is only half written, also while another thread goes on writing it; for whoever ends the program."""
    CREATING.acquire(timeout=1)
    for path in list(UNFINISHED):
        for _ in range(50):
            shutil.rmtree(path, ignore_errors=True)
            with contextlib.suppress(OSError):
                Path(path).unlink()
            if not os.path.lexists(path):
                break


@contextmanager
def new_folder(
    path: str, why_kept: Callable[[Path], str | None], besides: Callable[[str], bool] = lambda name: False
) -> Iterator[Path]:
    """A folder to fill, which gets its name only when the block has ended well; otherwise nothing of it stays.

    A folder of that name that is not empty is replaced only if `why_kept` has no reason to keep it, and stays as it is
    where the new one has the same files to the byte, `besides` those that came into it since. OutputError with the
    reason, or when it cannot be written.
    """
    place = Path(os.path.realpath(path))
    try:
        occupied = place.exists() and (not place.is_dir() or any(place.iterdir()))
        if occupied and not place.is_dir():
            raise OutputError(f"{path}: there is a file of that name. Name a folder.")
        kept = why_kept(place) if occupied else None
        if kept is None:
            must_not_be_input(path, replaced=True)
        place.parent.mkdir(parents=True, exist_ok=True)
        unfinished = place.with_name(f".{place.name}.partial-{os.getpid()}")
        with CREATING:
            UNFINISHED.add(str(unfinished))
            unfinished.mkdir()
    except OSError as error:
        raise OutputError(f"{path}: it cannot be written ({_why(error)}). Nothing was written.") from None
    try:
        yield unfinished
        if kept is not None:
            if _same_files(unfinished, place, besides):
                return
            raise OutputError(f"{path}: {kept}")
        for file in unfinished.iterdir():
            with file.open("rb") as written:
                os.fsync(written.fileno())
        _folder_to_disk(unfinished)
        _move(unfinished, place, occupied)
        _folder_to_disk(place.parent)
    except OSError as error:
        raise OutputError(f"{path}: it cannot be written ({_why(error)}). Nothing was written.") from None
    finally:
        shutil.rmtree(unfinished, ignore_errors=True)
        UNFINISHED.discard(str(unfinished))


def _same_files(folder: Path, other: Path, besides: Callable[[str], bool]) -> bool:
    """Whether two folders have the same files, to the byte, `besides` some of the other."""
    names = {file.name for file in folder.iterdir()}
    if names != {file.name for file in other.iterdir() if not besides(file.name)}:
        return False
    return all(
        (other / name).is_file() and (folder / name).read_bytes() == (other / name).read_bytes() for name in names
    )


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


def _exchange(first: Path, other: Path) -> bool:
    """Swap two names in one step, as Linux' renameat2 does; False where the system cannot."""
    renameat2 = getattr(ctypes.CDLL(None), "renameat2", None)
    here, exchange = -100, 2  # AT_FDCWD, RENAME_EXCHANGE
    return renameat2 is not None and renameat2(here, os.fsencode(first), here, os.fsencode(other), exchange) == 0


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
