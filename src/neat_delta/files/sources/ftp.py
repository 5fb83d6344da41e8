"""FTP (RFC 959, 3659) and FTP over TLS (RFC 4217; implicit at port 990)."""

from __future__ import annotations

import contextlib
import ftplib
import ssl
from collections.abc import Iterator
from contextlib import contextmanager
from datetime import UTC, datetime
from socket import socket
from typing import Any

from neat_delta.core.base.support.errors import FileError
from neat_delta.files.sources.address import Address
from neat_delta.files.sources.base import FileState, PassingError, Terms
from neat_delta.files.sources.credentials import Credentials
from neat_delta.files.sources.servers import BYTES_AT_ONCE, FileServer, why

__all__ = ["connect"]

IMPLICIT = 990
NOT_LOGGED_IN, NO_SUCH_FILE = "530", "550"


def connect(where: Address, known: Credentials, terms: Terms, query: str | None) -> FileServer:
    """A connection to an FTP server; TLS is verified."""
    del query
    return _Ftp(where, known, terms)


class _Tls(ftplib.FTP_TLS):
    """FTP over TLS; each data connection goes on with the session of the first, as many servers ask."""

    implicit = False

    def ntransfercmd(self, cmd: str, rest: int | str | None = None) -> tuple[socket, int | None]:
        connection, size = ftplib.FTP.ntransfercmd(self, cmd, rest)
        if self._prot_p:  # type: ignore[attr-defined]
            session = getattr(self.sock, "session", None)
            connection = self.context.wrap_socket(connection, server_hostname=self.host, session=session)
        return connection, size

    def connect(self, host: str = "", port: int = 0, timeout: float = -999, source_address: Any = None) -> str:  # noqa: ANN401 - as ftplib
        if port != IMPLICIT:
            return super().connect(host, port, timeout, source_address)
        import socket as sockets

        self.host, self.port, self.timeout = host, port, timeout
        plain = sockets.create_connection((host, port), timeout)
        self.af = plain.family
        self.sock = self.context.wrap_socket(plain, server_hostname=host)
        self.file = self.sock.makefile("r", encoding=self.encoding)
        self.welcome = self.getresp()
        return self.welcome


class _Ftp(FileServer):
    def __init__(self, where: Address, known: Credentials, terms: Terms) -> None:
        super().__init__(where)
        self.known, self.terms = known, terms
        self.server: ftplib.FTP | None = None
        self._connected()

    def _connected(self) -> ftplib.FTP:
        """The connection, made anew where it broke."""
        if self.server is None:
            tls = self.where.scheme == "ftps"
            server = (
                _Tls(context=ssl.create_default_context(), encoding="utf-8") if tls else ftplib.FTP(encoding="utf-8")
            )
            with self.faults():
                server.connect(self.where.host, self.where.port or ftplib.FTP_PORT, self.terms.connect_seconds)
                server.timeout = self.terms.read_seconds
                if server.sock is not None:
                    server.sock.settimeout(self.terms.read_seconds)
                try:
                    server.login(self.known.user or "", self.known.password or "")
                except ftplib.error_perm:
                    raise self.wrong_password() from None
                if isinstance(server, _Tls):
                    server.prot_p()
            self.server = server
        return self.server

    @contextmanager
    def faults(self) -> Iterator[None]:
        try:
            yield
        except (FileError, PassingError, FileNotFoundError):
            raise
        except ftplib.error_perm as error:
            text = str(error)
            if text.startswith(NO_SUCH_FILE):
                raise FileNotFoundError(text) from None
            raise FileError(
                f"{self.where.masked}: the server says {text!r}. See what its owner says of that."
            ) from None
        except ssl.SSLCertVerificationError as error:
            raise FileError(
                f"{self.where.masked}: its certificate is not to be trusted ({error.verify_message}). Nothing was sent "
                "or fetched. Where it is one of your own, name its authority in SSL_CERT_FILE."
            ) from None
        except TimeoutError:
            self._broken()
            raise PassingError("it does not answer in time") from None
        except (ftplib.error_temp, ftplib.error_proto, ftplib.error_reply, EOFError, OSError) as error:
            begun = self.server is not None
            self._broken()
            raise PassingError(
                "the connection broke off" if begun else f"it cannot be reached ({why(error)})"
            ) from None

    def _broken(self) -> None:
        server, self.server = self.server, None
        if server is not None:
            with contextlib.suppress(Exception):
                server.close()

    def stat(self, path: str) -> FileState:
        server = self._connected()
        with self.faults():
            server.voidcmd("TYPE I")  # a list of files turns it to text
            size = server.size(path)
            modified = None
            with contextlib.suppress(ftplib.error_perm, ValueError):
                modified = _time(server.sendcmd(f"MDTM {path}").partition(" ")[2])
        return FileState(size, modified)

    def read(self, path: str, start: int) -> Iterator[bytes]:
        server = self._connected()
        with self.faults():
            server.voidcmd("TYPE I")
            finished = False
            try:
                with server.transfercmd(f"RETR {path}", start or None) as connection:
                    while chunk := connection.recv(BYTES_AT_ONCE):
                        yield chunk
                server.voidresp()
                finished = True
            finally:
                if not finished:  # what the server says of it is still to come
                    self._broken()

    def list(self, folder: str) -> list[tuple[str, FileState]]:
        server = self._connected()
        with self.faults():
            try:
                listed = list(server.mlsd(folder, ["type", "size", "modify"]))
            except ftplib.error_perm:  # an older server: names alone, and each asked for
                names = [name.rpartition("/")[2] for name in server.nlst(folder)]
                return [(name, self.stat(f"{folder}/{name}")) for name in names]
        files = [(name, facts) for name, facts in listed if facts.get("type") == "file"]
        return [
            (name, FileState(int(facts["size"]) if "size" in facts else None, _time(facts.get("modify", ""))))
            for name, facts in files
        ]

    def put(self, path: str, chunks: Iterator[bytes]) -> None:
        server = self._connected()
        with self.faults():
            server.voidcmd("TYPE I")
            with server.transfercmd(f"STOR {path}") as connection:
                for chunk in chunks:
                    connection.sendall(chunk)
                if isinstance(connection, ssl.SSLSocket):
                    connection.unwrap()
            server.voidresp()

    def rename(self, path: str, name: str) -> None:
        server = self._connected()
        with self.faults():
            server.rename(path, name)

    def remove(self, path: str) -> None:
        server = self._connected()
        with contextlib.suppress(FileNotFoundError), self.faults():
            server.delete(path)

    def close(self) -> None:
        if self.server is not None:
            with contextlib.suppress(Exception):
                self.server.quit()
            self._broken()


def _time(text: str) -> datetime | None:
    """A time of RFC 3659: digits, in UTC."""
    try:
        return datetime.strptime(text[:14], "%Y%m%d%H%M%S").replace(tzinfo=UTC)
    except ValueError:
        return None
