"""Real servers on loopback, for tests: HTTP with faults, FTP, SSH, S3, PostgreSQL, MariaDB; each started once."""

from __future__ import annotations

import asyncio
import contextlib
import hashlib
import logging
import os
import re
import shutil
import socket
import ssl
import subprocess
import threading
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field
from email.utils import formatdate
from functools import partial
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from typing import Any

import trustme

USER, PASSWORD = "anna", "h0ney-S3CRET"
"""Who may ask the servers that want to know."""


@dataclass
class Files:
    """What a web server has, and what it does wrong: `faults` are taken one a request, each a word for what to do."""

    content: dict[str, bytes] = field(default_factory=dict)
    faults: list[str] = field(default_factory=list)
    requests: list[tuple[str, str, dict[str, str], bytes]] = field(default_factory=list)
    answers: dict[str, Callable[[bytes], tuple[int, str, bytes]]] = field(default_factory=dict)
    modified: float = 1_790_000_000.0
    secret: str | None = None
    place: str = ""


class _Handler(BaseHTTPRequestHandler):
    protocol_version = "HTTP/1.1"
    files: Files

    def log_message(self, format: str, *args: object) -> None:
        """Nothing."""

    def _fault(self) -> bool:
        """Whether a fault was the answer."""
        fault = self.files.faults.pop(0) if self.files.faults else ""
        if fault.isdecimal():
            self.send_response(int(fault))
            if fault in {"429", "503"}:
                self.send_header("Retry-After", "0")
            self.send_header("Content-Length", "0")
            self.end_headers()
            return True
        if fault == "drop":
            self.connection.close()
            self.close_connection = True
            return True
        if fault.startswith("to "):
            self.send_response(302)
            self.send_header("Location", fault[3:])
            self.send_header("Content-Length", "0")
            self.end_headers()
            return True
        self.cut = int(fault[4:]) if fault.startswith("cut ") else None
        self.slow = fault == "slow"
        return False

    def _allowed(self) -> bool:
        import base64

        if self.files.secret is None:
            return True
        basic = base64.b64encode(f"{USER}:{self.files.secret}".encode()).decode()
        if self.headers.get("Authorization") in {f"Basic {basic}", f"Bearer {self.files.secret}"}:
            return True
        self.send_response(401)
        self.send_header("Content-Length", "0")
        self.end_headers()
        return False

    def do_GET(self) -> None:
        """A file, or a part of it."""
        self.files.requests.append((self.command, self.path, dict(self.headers), b""))
        if self._fault() or not self._allowed():
            return
        data = self.files.content.get(self.path.partition("?")[0])
        if data is None:
            self.send_response(404)
            self.send_header("Content-Length", "0")
            self.end_headers()
            return
        tag = f'"{hashlib.sha256(data).hexdigest()[:16]}"'
        if self.headers.get("If-None-Match") == tag:
            self.send_response(304)
            self.end_headers()
            return
        wanted = re.fullmatch(r"bytes=(\d+)-", self.headers.get("Range", ""))
        start = int(wanted[1]) if wanted and self.headers.get("If-Range") == tag else 0
        self.send_response(206 if start else 200)
        if start:
            self.send_header("Content-Range", f"bytes {start}-{len(data) - 1}/{len(data)}")
        self.send_header("Content-Length", str(len(data) - start))
        self.send_header("ETag", tag)
        self.send_header("Last-Modified", formatdate(self.files.modified, usegmt=True))
        self.end_headers()
        if self.command == "HEAD":
            return
        end = len(data) if self.cut is None else start + self.cut
        if self.slow:
            time.sleep(3)
        with contextlib.suppress(OSError):
            self.wfile.write(data[start:end])
            if end < len(data):
                self.wfile.flush()
                self.connection.shutdown(socket.SHUT_RDWR)
                self.close_connection = True

    do_HEAD = do_GET  # noqa: N815 - as http.server calls it

    def do_POST(self) -> None:
        """A file is delivered: kept as it came, and answered."""
        length = int(self.headers.get("Content-Length", "0"))
        body = self.rfile.read(length)
        if len(body) < length or "Content-Length" not in self.headers:  # it broke off on its way, and is nothing
            self.close_connection = True
            return
        lost = self.files.faults[:1] == ["lost"]  # it arrives, and the answer does not
        if not lost and (self._fault() or not self._allowed()):
            return
        self.files.requests.append((self.command, self.path, dict(self.headers), body))
        if lost:
            self.files.faults.pop(0)
            self.connection.close()
            self.close_connection = True
            return
        answer = self.files.answers.get(self.path.partition("?")[0], lambda body: (200, "text/plain", b"taken\n"))
        status, kind, content = answer(body)
        self.send_response(status)
        self.send_header("Content-Type", kind)
        self.send_header("Content-Length", str(len(content)))
        with contextlib.suppress(OSError):  # who asked is gone
            self.end_headers()
            self.wfile.write(content)

    do_PUT = do_POST  # noqa: N815


@contextmanager
def web(authority: trustme.CA | None = None) -> Iterator[Files]:
    """A web server; with an `authority` over TLS, by a certificate of that."""
    files = Files()
    handler = type("Handler", (_Handler,), {"files": files})
    server = ThreadingHTTPServer(("127.0.0.1", 0), handler)
    server.daemon_threads = True
    scheme = "http"
    if authority is not None:
        context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
        authority.issue_cert("127.0.0.1", "localhost").configure_cert(context)
        server.socket = context.wrap_socket(server.socket, server_side=True)
        scheme = "https"
    threading.Thread(target=server.serve_forever, args=(0.01,), daemon=True).start()
    files.place = f"{scheme}://127.0.0.1:{server.server_port}"
    try:
        yield files
    finally:
        server.shutdown()
        server.server_close()


@contextmanager
def ftp(folder: Path, authority: trustme.CA | None = None, cut_after: list[int] | None = None) -> Iterator[str]:
    """An FTP server over a folder, as its address without user; with an `authority` over TLS. Each number in
    `cut_after` breaks one transfer off after so many bytes, whichever way they go.
    """
    from pyftpdlib.authorizers import DummyAuthorizer
    from pyftpdlib.handlers import DTPHandler, FTPHandler, TLS_DTPHandler, TLS_FTPHandler
    from pyftpdlib.servers import ThreadedFTPServer

    logging.getLogger("pyftpdlib").setLevel(logging.CRITICAL)
    users = DummyAuthorizer()
    users.add_user(USER, PASSWORD, str(folder), perm="elradfmwMT")
    base = FTPHandler if authority is None else TLS_FTPHandler
    cuts = cut_after if cut_after is not None else []

    class Transfer(DTPHandler if authority is None else TLS_DTPHandler):  # type: ignore[misc]
        sent = 0

        def send(self, data: bytes) -> int:
            if cuts and self.sent >= cuts[0]:
                cuts.pop(0)
                self.close()
                return 0
            number = int(super().send(data[: cuts[0] - self.sent] if cuts else data))
            self.sent += number
            return number

        def recv(self, buffer_size: int) -> bytes:
            if cuts and self.sent >= cuts[0]:
                cuts.pop(0)
                self._resp = ("426 The transfer was broken off.", None)
                self.close()
                return b""
            data = bytes(super().recv(min(buffer_size, cuts[0] - self.sent) if cuts else buffer_size))
            self.sent += len(data)
            return data

    class Handler(base):  # type: ignore[misc, valid-type]
        authorizer = users
        dtp_handler = Transfer
        banner = "ready"
        auth_failed_timeout = 0
        use_sendfile = False

    if authority is not None:
        Handler.certfile = str(folder.parent / "ftp.pem")
        certificate = authority.issue_cert("127.0.0.1", "localhost")
        certificate.private_key_and_cert_chain_pem.write_to_path(Handler.certfile)
        Handler.tls_control_required = Handler.tls_data_required = True
    server = ThreadedFTPServer(("127.0.0.1", 0), Handler)
    threading.Thread(target=server.serve_forever, kwargs={"handle_exit": False, "timeout": 0.05}, daemon=True).start()
    try:
        yield f"{'ftp' if authority is None else 'ftps'}://{USER}@127.0.0.1:{server.address[1]}"
    finally:
        server.close_all()


@contextmanager
def ssh(folder: Path, known_hosts: Path) -> Iterator[tuple[str, str]]:
    """An SSH server over a folder: its address, and the line by which known_hosts knows it, which is written there. It
    takes the key `client` beside that, too.
    """
    import asyncssh

    key, client = (asyncssh.generate_private_key("ssh-ed25519") for _ in range(2))
    client.write_private_key(str(known_hosts.parent / "client"))
    ready, stop, where = threading.Event(), threading.Event(), dict[str, int]()

    class Server(asyncssh.SSHServer):
        def begin_auth(self, username: str) -> bool:
            return True

        def password_auth_supported(self) -> bool:
            return True

        def public_key_auth_supported(self) -> bool:
            return True

        def validate_public_key(self, username: str, key: asyncssh.SSHKey) -> bool:
            return username == USER and key.public_data == client.public_data

        def validate_password(self, username: str, password: str) -> bool:
            return (username, password) == (USER, PASSWORD)

    class Folder(asyncssh.SFTPServer):
        def __init__(self, channel: Any) -> None:
            super().__init__(channel, chroot=os.fsencode(folder))

    async def serve() -> None:
        server = await asyncssh.create_server(
            Server, "127.0.0.1", 0, server_host_keys=[key], sftp_factory=Folder, encoding=None
        )
        where["port"] = server.sockets[0].getsockname()[1]
        ready.set()
        while not stop.is_set():
            await asyncio.sleep(0.05)
        server.close()

    thread = threading.Thread(target=lambda: asyncio.run(serve()), daemon=True)
    thread.start()
    ready.wait(60)
    line = f"[127.0.0.1]:{where['port']} {key.export_public_key().decode().strip()}"
    known_hosts.write_text(line + "\n")
    try:
        yield f"sftp://{USER}@127.0.0.1:{where['port']}", line
    finally:
        stop.set()
        thread.join(10)


@contextmanager
def s3(bucket: str) -> Iterator[str]:
    """An S3 server with an empty bucket; its address is for AWS_ENDPOINT_URL."""
    import boto3
    from moto.server import ThreadedMotoServer

    server = ThreadedMotoServer("127.0.0.1", 0, verbose=False)
    server.start()
    host, port = server.get_host_and_port()
    endpoint = f"http://{host}:{port}"
    client = boto3.client(
        "s3", endpoint_url=endpoint, aws_access_key_id=USER, aws_secret_access_key=PASSWORD, region_name="us-east-1"
    )
    client.create_bucket(Bucket=bucket)
    try:
        yield endpoint
    finally:
        server.stop()


@contextmanager
def cutting(port: int, cuts: list[int], sent: list[int] | None = None) -> Iterator[int]:
    """A way to a server on loopback that breaks off after so many bytes from it, or to it where the number is below 0,
    once for each number; its port. How many bytes each connection had from it, `sent` has afterwards.
    """
    listener = socket.create_server(("127.0.0.1", 0))
    stop = threading.Event()

    def pump(source: socket.socket, target: socket.socket, cut: int | None, *, target_is_ours: bool) -> None:
        passed = 0
        with contextlib.suppress(OSError):
            while data := source.recv(65536):
                passed += len(data)
                if cut is not None and passed > cut:
                    target.sendall(data[: len(data) - (passed - cut)])
                    break
                target.sendall(data)
        if sent is not None and target_is_ours:
            sent.append(passed)
        for end in (source, target):
            with contextlib.suppress(OSError):
                end.shutdown(socket.SHUT_RDWR)

    def accept() -> None:
        while not stop.is_set():
            with contextlib.suppress(OSError):
                inner, _ = listener.accept()
                outer = socket.create_connection(("127.0.0.1", port))
                cut = cuts.pop(0) if cuts else None
                back, forth = (None, -cut) if cut is not None and cut < 0 else (cut, None)
                for source, target, most, ours in ((outer, inner, back, True), (inner, outer, forth, False)):
                    work = partial(pump, source, target, most, target_is_ours=ours)
                    threading.Thread(target=work, daemon=True).start()

    threading.Thread(target=accept, daemon=True).start()
    try:
        yield int(listener.getsockname()[1])
    finally:
        stop.set()
        listener.close()


def _port() -> int:
    with socket.socket() as listener:
        listener.bind(("127.0.0.1", 0))
        return int(listener.getsockname()[1])


def lacking(*programs: str) -> str | None:
    """What has to be installed for a test, in words; None where all of it is there."""
    places = [*os.environ.get("PATH", "").split(":"), "/usr/sbin", *map(str, Path("/usr/lib/postgresql").glob("*/bin"))]
    missing = [name for name in programs if shutil.which(name, path=":".join(places)) is None]
    return f"not installed: {', '.join(missing)} (Debian: postgresql, mariadb-server)" if missing else None


def _program(name: str) -> str:
    places = ["/usr/sbin", "/usr/bin", *map(str, Path("/usr/lib/postgresql").glob("*/bin"))]
    found = shutil.which(name, path=":".join(places))
    assert found is not None
    return found


def _user(name: str) -> dict[str, Any]:
    """Servers of databases run as no root."""
    return {"user": name} if os.geteuid() == 0 else {}


@contextmanager
def postgresql(folder: Path) -> Iterator[str]:
    """A PostgreSQL server with an empty database `shop`, as its address."""
    owner = _user("postgres")
    if owner:
        shutil.chown(folder, "postgres")
    secret, data = folder / "secret", folder / "data"
    secret.write_text(PASSWORD)
    secret.chmod(0o644)
    quiet: dict[str, Any] = {"stdout": subprocess.DEVNULL, "stderr": subprocess.DEVNULL, "cwd": "/"}
    call = [_program("initdb"), "-D", str(data), "-U", USER, "-A", "scram-sha-256", "--pwfile", str(secret), "-N"]
    subprocess.run([*call, "-E", "UTF8", "--locale", "C.UTF-8"], check=True, **quiet, **owner)
    control = [_program("pg_ctl"), "-D", str(data), "-w", "-l", str(data / "log")]
    for port in (_port() for _ in range(3)):  # somebody else may take it meanwhile
        settings = f"-p {port} -c listen_addresses=127.0.0.1 -c unix_socket_directories='' -c fsync=off"
        if not subprocess.run([*control, "-o", settings, "start"], check=False, **quiet, **owner).returncode:
            break
    try:
        import psycopg

        with psycopg.connect(
            host="127.0.0.1", port=port, user=USER, password=PASSWORD, dbname="postgres", autocommit=True
        ) as connection:
            connection.execute("CREATE DATABASE shop")
        yield f"postgresql://{USER}@127.0.0.1:{port}/shop"
    finally:
        subprocess.run([*control, "-m", "immediate", "stop"], check=True, **quiet, **owner)


@contextmanager
def mariadb(folder: Path) -> Iterator[str]:
    """A MariaDB server with an empty database `shop`, as its address."""
    import pymysql

    port, data = _port(), folder / "data"
    install = [_program("mariadb-install-db"), f"--datadir={data}", "--auth-root-authentication-method=normal"]
    owner = [f"--user={'mysql' if os.geteuid() == 0 else os.environ.get('USER', 'mysql')}"]
    if os.geteuid() == 0:
        shutil.chown(folder, "mysql")
    subprocess.run([*install, *owner], stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, check=True)
    call = [
        _program("mariadbd"), "--no-defaults", f"--datadir={data}", f"--port={port}", "--bind-address=127.0.0.1",
        f"--socket={folder / 'socket'}", f"--pid-file={folder / 'pid'}", "--innodb-flush-log-at-trx-commit=0", *owner,
    ]  # fmt: skip
    server = subprocess.Popen(call, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
    try:
        for _ in range(900):
            try:
                connection = pymysql.connect(unix_socket=str(folder / "socket"), user="root", autocommit=True)
                break
            except pymysql.err.OperationalError:
                time.sleep(0.1)
        with connection, connection.cursor() as cursor:
            cursor.execute("CREATE DATABASE shop CHARACTER SET utf8mb4")
            cursor.execute(f"CREATE USER '{USER}'@'127.0.0.1' IDENTIFIED BY '{PASSWORD}'")
            cursor.execute(f"GRANT ALL ON shop.* TO '{USER}'@'127.0.0.1'")
        yield f"mysql://{USER}@127.0.0.1:{port}/shop"
    finally:
        server.kill()
        server.wait()
