"""Packed files: gzip (RFC 1952), zstd (RFC 8878) and zip archives of one member, unpacked within bounds."""

from __future__ import annotations

import io
import zipfile
import zlib
from collections.abc import Iterator, Sequence
from typing import Literal

from neat_delta.core.base.support.errors import CatalogueError

__all__ = ["Packing", "must_be_bounded", "unpack"]

Packing = Literal["gzip", "zip", "zstd"]

FREE = 64 << 20
"""So many bytes may come out of any file, however small it is."""

TIMES = 100
"""Beyond that, at most so many times the bytes that go in: more is what an archive made to do harm gives."""

MOST = 6 << 30
"""And never more than this."""

PIECE = 1 << 20


def unpack(data: bytes, path: str) -> tuple[bytes, Packing | None]:
    """A file's bytes unpacked, and how they were packed (None when they were not).

    CatalogueError when the archive is cut short, damaged, locked, has several members, or unpacks to far too much.
    """
    head = data[:4]
    if head.startswith(b"\x1f\x8b"):
        return _unpacked(_gunzipped(data, path), path, _limit(len(data))), "gzip"
    if head == b"\x28\xb5\x2f\xfd":
        return _unpacked(_unzstd(data, path), path, _limit(len(data))), "zstd"
    if head == b"PK\x03\x04":
        return _only_member(data, path), "zip"
    return data, None


def must_be_bounded(archive: zipfile.ZipFile, size: int, path: str, keep: Sequence[str] = ()) -> dict[str, bytes]:
    """Unpack a zip archive of `size` bytes once, and give the members to `keep`, as far as they are there.

    CatalogueError when it would unpack to far too much, whatever it says of itself, or is damaged.
    """
    limit, total = _limit(size), 0
    kept = {}
    for member in archive.infolist():
        if member.filename not in keep and size * 1040 < limit:  # deflate makes at most 1032 bytes of one
            continue
        pieces = []
        with _opened(archive, member, path) as stream:
            while piece := _piece(stream, path):
                total += len(piece)
                if total > limit:
                    raise _too_much(path, limit)
                if member.filename in keep:
                    pieces.append(piece)
        if member.filename in keep:
            kept[member.filename] = b"".join(pieces)
    return kept


def _limit(size: int) -> int:
    return min(max(FREE, TIMES * size), MOST)


def _too_much(path: str, limit: int) -> CatalogueError:
    return CatalogueError(
        f"{path}: it unpacks to more than {limit >> 20:,} MB, far more than its size allows for. It was not read. "
        "If it is right, unpack it first."
    )


def _unpacked(pieces: Iterator[bytes], path: str, limit: int) -> bytes:
    out, total = [], 0
    for piece in pieces:
        total += len(piece)
        if total > limit:
            raise _too_much(path, limit)
        out.append(piece)
    return b"".join(out)


def _gunzipped(data: bytes, path: str) -> Iterator[bytes]:
    place = 0
    while data[place : place + 2] == b"\x1f\x8b":  # members may follow one another
        stream = zlib.decompressobj(wbits=31)
        while not stream.eof:
            piece = stream.unconsumed_tail or data[place : place + PIECE]
            if not piece:
                raise CatalogueError(f"{path}: the gzip archive is cut short. Copy or export it again.")
            place += 0 if stream.unconsumed_tail else len(piece)
            try:
                yield stream.decompress(piece, PIECE)
            except zlib.error as error:
                raise CatalogueError(f"{path}: the gzip archive is damaged ({error}). Copy it again.") from None
        place -= len(stream.unused_data)


def _unzstd(data: bytes, path: str) -> Iterator[bytes]:
    import zstandard

    try:
        with zstandard.ZstdDecompressor(max_window_size=1 << 27).stream_reader(
            io.BytesIO(data), read_across_frames=True
        ) as stream:
            yield from iter(lambda: stream.read(PIECE), b"")
        if not _complete(data):
            raise CatalogueError(f"{path}: the zstd archive is cut short. Copy or export it again.")
    except zstandard.ZstdError as error:
        raise CatalogueError(f"{path}: the zstd archive is damaged ({error}). Copy it again.") from None


def _complete(data: bytes) -> bool:
    """Whether the frames of a zstd archive end where the file does: the reader stops without a word at a cut."""
    import zstandard

    rest = data
    while rest:
        frame = zstandard.ZstdDecompressor(max_window_size=1 << 27).decompressobj()
        for place in range(0, len(rest), PIECE):
            frame.decompress(rest[place : place + PIECE])
            if frame.eof:
                break
        if not frame.eof:
            return False
        rest = frame.unused_data + rest[place + PIECE :]
    return True


def _only_member(data: bytes, path: str) -> bytes:
    try:
        archive = zipfile.ZipFile(io.BytesIO(data))
        members = [member for member in archive.infolist() if not member.filename.endswith("/")]
    except (zipfile.BadZipFile, NotImplementedError, ValueError, OSError):
        raise CatalogueError(f"{path}: the zip archive is cut short or damaged. Copy or export it again.") from None
    files = [member for member in members if not member.filename.startswith("__MACOSX/")]
    if len(files) != 1:
        names = ", ".join(member.filename for member in files[:5])
        raise CatalogueError(
            f"{path}: the zip archive holds {len(files)} files{f' ({names})' if names else ''}. "
            "Unpack it, and name the one you mean."
        )
    with _opened(archive, files[0], path) as stream:
        return _unpacked(iter(lambda: _piece(stream, path), b""), path, _limit(len(data)))


def _opened(archive: zipfile.ZipFile, member: zipfile.ZipInfo, path: str) -> zipfile.ZipExtFile:
    if member.flag_bits & 1:
        raise CatalogueError(f"{path}: the zip archive is locked with a password. Unpack it first.")
    try:
        return archive.open(member)  # type: ignore[return-value]
    except (zipfile.BadZipFile, NotImplementedError, ValueError, OSError):
        raise CatalogueError(f"{path}: the zip archive is damaged. Copy or export it again.") from None


def _piece(stream: zipfile.ZipExtFile, path: str) -> bytes:
    try:
        return stream.read(PIECE)
    except (zipfile.BadZipFile, zlib.error, EOFError, ValueError, OSError):
        raise CatalogueError(f"{path}: the zip archive is damaged. Copy or export it again.") from None
