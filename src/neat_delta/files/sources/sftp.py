"""Files over SSH, by fsspec. A host is known by its key in known_hosts, and one that is not known is refused."""

from __future__ import annotations

import base64
import contextlib
import hashlib
import os
from collections.abc import Iterator
from contextlib import contextmanager
from datetime import UTC, datetime
from pathlib import Path
from typing import TYPE_CHECKING, Any

from neat_delta.core.base.support.errors import FileError
from neat_delta.files.sources.address import Address
from neat_delta.files.sources.base import FileState, PassingError, Terms, needs_package
from neat_delta.files.sources.credentials import Credentials
from neat_delta.files.sources.servers import BYTES_AT_ONCE, FileServer, why

if TYPE_CHECKING:
    import paramiko

__all__ = ["connect"]

REQUESTS_AHEAD = 64
"""So many blocks are asked for before the first has come: memory is bounded by it."""


def connect(where: Address, known: Credentials, terms: Terms, query: str | None) -> FileServer:
    """A connection to an SSH server whose key is known."""
    del query
    try:
        import paramiko  # noqa: F401
        from fsspec.implementations import sftp  # noqa: F401
    except ImportError as error:
        raise needs_package(where.masked, "remote", error) from None
    return _Sftp(where, known, terms)


class _Sftp(FileServer):
    def __init__(self, where: Address, known: Credentials, terms: Terms) -> None:
        super().__init__(where)
        self.known, self.terms = known, terms
        self.system: Any = None
        self._connected()

    def _connected(self) -> Any:  # noqa: ANN401 - fsspec has no types
        """Fsspec's file system over the connection, made anew where it broke."""
        if self.system is None:
            with self.faults():
                self.system = _system()(self.where, self.known, self.terms)
        return self.system

    @contextmanager
    def faults(self) -> Iterator[None]:
        import paramiko

        masked = self.where.masked
        try:
            yield
        except (FileError, PassingError, FileNotFoundError):
            raise
        except paramiko.BadHostKeyException as error:
            raise FileError(
                f"{masked}: the server's key is another one than in known_hosts ({fingerprint(error.key)}). Somebody "
                "may be in between: nothing was sent or fetched. Ask its owner before you take the old key out."
            ) from None
        except paramiko.AuthenticationException as error:
            if any(word in str(error) for word in ("EOF", "timeout")):  # it broke off before the server had answered
                self.system = None
                raise PassingError("the connection broke off") from None
            raise self.wrong_password() from None
        except PermissionError:
            raise FileError(
                f"{masked}: the server does not allow it. Ask its owner, or choose another place."
            ) from None
        except (paramiko.SSHException, EOFError, OSError) as error:
            if "No authentication methods" in str(error):
                raise self.wrong_password() from None
            begun, self.system = self.system is not None, None
            if begun:
                raise PassingError("the connection broke off") from None
            raise PassingError(f"it cannot be reached ({why(error)})") from None

    def stat(self, path: str) -> FileState:
        system = self._connected()
        with self.faults():
            state = system.ftp.stat(path)
        return FileState(state.st_size, None if state.st_mtime is None else datetime.fromtimestamp(state.st_mtime, UTC))

    def read(self, path: str, start: int) -> Iterator[bytes]:
        system = self._connected()
        with self.faults(), system.ftp.open(path, "rb") as file:
            file.seek(start)
            file.prefetch(file.stat().st_size, max_concurrent_requests=REQUESTS_AHEAD)
            while chunk := file.read(BYTES_AT_ONCE):
                yield chunk

    def list(self, folder: str) -> list[tuple[str, FileState]]:
        system = self._connected()
        with self.faults():
            listed = system.ls(folder, detail=True)
        return [
            (entry["name"].rpartition("/")[2], FileState(entry["size"], entry["mtime"]))
            for entry in listed
            if entry["type"] == "file"
        ]

    def put(self, path: str, chunks: Iterator[bytes]) -> None:
        system = self._connected()
        with self.faults(), system.ftp.open(path, "wb") as file:
            file.set_pipelined(True)
            for chunk in chunks:
                file.write(chunk)

    def rename(self, path: str, name: str) -> None:
        system = self._connected()
        with self.faults():
            try:
                system.ftp.posix_rename(path, name)  # in one step, also over what is there
            except OSError:
                system.ftp.rename(path, name)

    def remove(self, path: str) -> None:
        system = self._connected()
        with contextlib.suppress(FileNotFoundError), self.faults():
            system.ftp.remove(path)

    def close(self) -> None:
        if self.system is not None:
            with contextlib.suppress(Exception):
                self.system.client.close()


def _system() -> Any:  # noqa: ANN401 - fsspec has no types
    """Fsspec's file system over SSH, with hosts that must be known."""
    import paramiko
    from fsspec.implementations.sftp import SFTPFileSystem

    class Refused(paramiko.MissingHostKeyPolicy):
        def missing_host_key(self, client: object, hostname: str, key: paramiko.PKey) -> None:
            del client
            line = f"{hostname} {key.get_name()} {key.get_base64()}"
            raise FileError(
                f"{hostname}: the server's key is not in known_hosts: {key.get_name()} {fingerprint(key)}. Ask its "
                f"owner whether this is it, and then accept it: echo '{line}' >> {_known_hosts()}"
            )

    class System(SFTPFileSystem):  # type: ignore[misc]
        cachable = False

        def __init__(self, where: Address, known: Credentials, terms: Terms) -> None:
            self.terms, self.where = terms, where
            keys = {"key_filename": str(Path(known.key_file).expanduser())} if known.key_file else {}
            super().__init__(
                where.host, port=where.port or 22, username=known.user, password=known.password, **keys,
                timeout=terms.connect_seconds, banner_timeout=terms.connect_seconds,
            )  # fmt: skip

        def _connect(self) -> None:
            self.client = paramiko.SSHClient()
            with contextlib.suppress(FileNotFoundError):
                self.client.load_system_host_keys(str(_known_hosts()))
            self.client.set_missing_host_key_policy(Refused())
            self.client.connect(self.host, **self.ssh_kwargs)
            self.ftp = self.client.open_sftp()
            channel = self.ftp.get_channel()
            if channel is not None:
                channel.settimeout(self.terms.read_seconds)

    return System


def _known_hosts() -> Path:
    return Path(os.environ.get("NEAT_DELTA_KNOWN_HOSTS") or "~/.ssh/known_hosts").expanduser()


def fingerprint(key: paramiko.PKey) -> str:
    """A key's fingerprint as OpenSSH prints it."""
    digest = base64.b64encode(hashlib.sha256(key.asbytes()).digest()).decode().rstrip("=")
    return f"SHA256:{digest}"
