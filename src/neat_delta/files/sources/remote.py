"""S3, and whatever else fsspec opens when its package is there. Each asks for credentials in its own way (S3: the AWS
environment and files; AWS_ENDPOINT_URL for another server).
"""

from __future__ import annotations

import contextlib
from collections.abc import Iterator
from contextlib import contextmanager
from datetime import UTC, datetime
from typing import Any

from neat_delta.core.base.support.errors import FileError
from neat_delta.files.sources.address import Address
from neat_delta.files.sources.base import FileState, PassingError, Terms, needs_package
from neat_delta.files.sources.credentials import Credentials
from neat_delta.files.sources.fetch import unknown_scheme
from neat_delta.files.sources.servers import FileServer

__all__ = ["connect"]

BLOCK = 8 << 20


def connect(where: Address, known: Credentials, terms: Terms, query: str | None) -> FileServer:
    """Fsspec's file system for addresses of this sort."""
    del query, known
    try:
        import fsspec
    except ImportError as error:
        raise needs_package(where.masked, "remote", error) from None
    if where.scheme not in fsspec.available_protocols():
        raise unknown_scheme(where)
    try:
        kind = fsspec.get_filesystem_class(where.scheme)
    except ImportError as error:
        raise needs_package(where.masked, "remote", error) from None
    options = {}
    if where.scheme == "s3":
        seconds = {"connect_timeout": terms.connect_seconds, "read_timeout": terms.read_seconds}
        options = {"config_kwargs": seconds | {"retries": {"max_attempts": 1}}}
    return _Remote(where, kind(skip_instance_cache=True, use_listings_cache=False, **options))


class _Remote(FileServer):
    def __init__(self, where: Address, system: Any) -> None:  # noqa: ANN401 - fsspec has no types
        super().__init__(where)
        self.system = system

    def _path(self, path: str) -> str:
        return f"{self.where.host}{path}"

    @contextmanager
    def faults(self) -> Iterator[None]:
        masked = self.where.masked
        try:
            yield
        except (FileError, PassingError, FileNotFoundError):
            raise
        except PermissionError:
            raise self.wrong_password() from None
        except (TimeoutError, ConnectionError) as error:
            raise PassingError(f"the connection broke off ({type(error).__name__})") from None
        except Exception as error:
            if type(error).__name__ == "NoCredentialsError":
                raise self.wrong_password() from None
            if "Connect" in type(error).__name__ or "Timeout" in type(error).__name__:
                raise PassingError(f"it cannot be reached ({type(error).__name__})") from None
            raise FileError(f"{masked}: it cannot be had ({type(error).__name__}). Check the address.") from None

    def stat(self, path: str) -> FileState:
        with self.faults():
            self.system.invalidate_cache()
            return _state(self.system.info(self._path(path)))

    def read(self, path: str, start: int) -> Iterator[bytes]:
        with self.faults(), self.system.open(self._path(path), "rb", block_size=BLOCK, cache_type="none") as file:
            file.seek(start)
            while chunk := file.read(BLOCK):
                yield chunk

    def list(self, folder: str) -> list[tuple[str, FileState]]:
        with self.faults():
            listed = self.system.ls(self._path(folder), detail=True)
        files = [entry for entry in listed if entry["type"] == "file"]
        return [(entry["name"].rpartition("/")[2], _state(entry)) for entry in files]

    def put(self, path: str, chunks: Iterator[bytes]) -> None:
        with self.faults(), self.system.open(self._path(path), "wb") as file:
            for chunk in chunks:
                file.write(chunk)

    def rename(self, path: str, name: str) -> None:
        with self.faults():
            self.system.mv(self._path(path), self._path(name))

    def remove(self, path: str) -> None:
        with contextlib.suppress(FileNotFoundError), self.faults():
            self.system.rm_file(self._path(path))

    def close(self) -> None:
        pass


def _state(entry: dict[str, Any]) -> FileState:
    """What fsspec knows of a file, under whichever name its sort has for it."""
    modified = next(
        (entry[name] for name in ("LastModified", "mtime", "created", "last_modified") if entry.get(name)), None
    )
    if isinstance(modified, float | int):
        modified = datetime.fromtimestamp(modified, UTC)
    if not isinstance(modified, datetime):
        modified = None
    elif modified.tzinfo is None:
        modified = modified.replace(tzinfo=UTC)
    tag = entry.get("ETag")
    return FileState(entry.get("size"), modified, tag if isinstance(tag, str) else None)
