"""Delivery: the update files of a folder, each once and whole, at the other end.

Rule: what may have arrived is never sent again unasked. Where the journal cannot tell, the other end is looked at, and
where that cannot tell either, a person is asked.
"""

from __future__ import annotations

import os
from collections.abc import Iterator, Mapping, Sequence
from pathlib import Path
from typing import Literal

import msgspec
from blake3 import blake3

from neat_delta.core.base.model.manifest import Manifest, OutFile
from neat_delta.core.base.model.rows import Difference, RowChange
from neat_delta.core.base.model.store import Delivery
from neat_delta.core.base.support.errors import FileError, OutputError
from neat_delta.files.journal import ANSWER, Journal, journal, journal_of
from neat_delta.files.manifest import READ_ME
from neat_delta.files.sources.address import WEB, Address, is_address, is_database, parse
from neat_delta.files.sources.base import PassingError, Target, Terms
from neat_delta.files.sources.credentials import credentials_for
from neat_delta.files.sources.fetch import open_source, patiently
from neat_delta.files.sources.transaction import change_rows
from neat_delta.files.whole import digest_of, read_whole, write_whole

__all__ = ["TRANSACTION", "Delivered", "Perhaps", "all_arrived", "deliver_files", "deliver_rows", "spelled"]

Perhaps = Literal["again", "arrived"] | None
"""What to do with what perhaps arrived: send it again, or go on after it; None: ask."""


class Delivered(msgspec.Struct, frozen=True):
    """What became of one file: `arrived` now, or `before`; `refused` with the store's answer."""

    file: str
    outcome: Literal["arrived", "before", "refused"]
    answer: str | None = None
    message: str = ""


def deliver_files(
    folder: str, manifest: Manifest, address: str, delivery: Delivery, terms: Terms, perhaps: Perhaps = None
) -> list[Delivered]:
    """Deliver the update files of a folder, in import order, to a folder, a server of files or an address of the web.
    What arrived before is passed over. OutputError where all of it had arrived already (unless it is to go `again`),
    where nobody can tell whether something arrived, unless `perhaps` says what to go by, and where the other end has
    another file of that name.
    """
    where, to = parse(address) if is_address(address) else None, spelled(address)
    web = where is not None and where.scheme in WEB
    files = [*manifest.update, *(_read_me(folder) if manifest.update and not web else [])]
    with journal(folder, to) as kept:
        must_be_still_to_go(kept, files, again=perhaps == "again")
        contents = {file.file: _content(folder, file) for file in files if kept.last(file) != "arrived"}
        if web and where is not None:
            return _to_web(kept, files, contents, where, manifest.blake3, delivery, terms, perhaps)
        return _to_server(kept, files, contents, address, where, terms, perhaps)


def all_arrived(folder: str, manifest: Manifest, address: str) -> bool:
    """Whether all of a folder arrived at an address, as its journal says."""
    to, where = spelled(address), parse(address) if is_address(address) else None
    last = {entry.file: entry.step for entry in journal_of(folder) if entry.to == to}
    if where is not None and is_database(address):
        return last.get(TRANSACTION) == "arrived"
    web = where is not None and where.scheme in WEB
    files = [*manifest.update, *(_read_me(folder) if manifest.update and not web else [])]
    return all(last.get(file.file) == "arrived" for file in files)


def spelled(address: str) -> str:
    """An address as the journal and the screen have it: without what is secret, a folder by its whole path."""
    return parse(address).masked if is_address(address) else str(Path(address).resolve())


def must_be_still_to_go(kept: Journal, files: Sequence[OutFile], *, again: bool) -> None:
    """OutputError where there is nothing, or all of it arrived before; if it is to be sent `again`, it is noted so."""
    if not files:
        raise OutputError(
            f"{kept.folder}: it has no update files, so there is nothing to deliver. Look at what is held."
        )
    if any(kept.last(file) != "arrived" for file in files):
        return
    if not again:
        when = next(entry.at for entry in reversed(kept.entries) if entry.to == kept.to)
        raise OutputError(
            f"{kept.folder}: all of it was delivered to {kept.to} before ({when[:10]}). ‹again› delivers it once more."
        )
    for file in files:
        kept.write(file, "again")


def _read_me(folder: str) -> list[OutFile]:
    """What a person reads, as a file to deliver last."""
    path = Path(folder) / READ_ME
    return [OutFile(READ_ME, "change", 0, 0, [], digest_of(path.read_bytes()))] if path.is_file() else []


def _content(folder: str, file: OutFile) -> bytes:
    """The bytes of an update file; OutputError where they are not as they were written."""
    path = str(Path(folder) / file.file)
    try:
        data = read_whole(path)
    except FileError:
        raise OutputError(
            f"{path}: it is not there any more, so it cannot be delivered. Write the files anew."
        ) from None
    if digest_of(data) != file.blake3:
        raise OutputError(f"{path}: it was edited since it was written, and is not delivered. Write the files anew.")
    return data


class _Folder:
    """A folder of this machine as a target."""

    at_once = True

    def __init__(self, folder: str) -> None:
        self.folder = Path(folder)
        if not self.folder.is_dir():
            raise OutputError(f"{folder}: there is no such folder to deliver into. Make it, or check its name.")

    def put(self, path: str, chunks: Iterator[bytes]) -> None:
        """Write a file."""
        write_whole(path, chunks)

    def rename(self, path: str, name: str) -> None:
        """Give a file its name."""
        Path(path).rename(name)

    def remove(self, path: str) -> None:
        """Remove a file."""
        Path(path).unlink(missing_ok=True)

    def read(self, path: str) -> bytes:
        """The bytes of a file."""
        return Path(path).read_bytes()

    def close(self) -> None:
        """Nothing is open."""


class _Server:
    """A server of files as a target."""

    def __init__(self, where: Address, terms: Terms) -> None:
        self.source: Target = open_source(where, terms)  # type: ignore[assignment]
        self.at_once = where.scheme in {"ftp", "ftps", "sftp"}
        self.stat, self.put, self.rename = self.source.stat, self.source.put, self.source.rename
        self.remove, self.close = self.source.remove, self.source.close

    def read(self, path: str) -> bytes:
        """The bytes of a file; FileNotFoundError where there is none, or none any more."""
        self.stat(path)
        try:
            return b"".join(self.source.open(path, 0, None).chunks)
        except FileError:
            self.stat(path)
            raise


def _to_server(
    kept: Journal,
    files: Sequence[OutFile],
    contents: Mapping[str, bytes],
    address: str,
    where: Address | None,
    terms: Terms,
    perhaps: Perhaps,
) -> list[Delivered]:
    """Files to a folder, here or on a server: uploaded under a temporary name, read back, renamed; last what a person
    reads.
    """
    base = str(Path(address)) if where is None else where.path.rstrip("/")
    masked = kept.to
    server = _Folder(address) if where is None else _Server(where, terms)
    out = []
    try:
        for file in files:
            if file.file not in contents:
                out.append(Delivered(file.file, "before"))
                continue
            upload = _Upload(kept, server, base, file, contents[file.file], perhaps)
            terms.note(f"{masked}: {file.file}")
            patiently(upload.go_on, masked, terms)
            out.append(Delivered(file.file, "arrived"))
    except FileNotFoundError:
        raise OutputError(
            f"{masked}: there is no such folder there, or it may not be written. Check the address."
        ) from None
    except OSError as error:
        raise OutputError(f"{masked}: it cannot be written ({error.strerror or error}). See to that.") from None
    finally:
        server.close()
    return out


class _Upload:
    """One file on its way to a folder."""

    def __init__(
        self, kept: Journal, server: _Folder | _Server, base: str, file: OutFile, data: bytes, perhaps: Perhaps
    ) -> None:
        self.kept, self.server, self.file, self.data = kept, server, file, data
        self.answer = perhaps if kept.last(file) == "uploaded" else None  # to what an earlier delivery left open
        self.name = f"{base}/{file.file}"
        self.partial = f"{base}/.{file.file}.{file.blake3[:8]}.partial"

    def go_on(self) -> None:
        """Do what is still lacking; what was done before is known from the journal, and from what is there."""
        last, final, partial = self.kept.last(self.file), self._content(self.name), self._content(self.partial)
        if final == self.data:
            return self._arrived()
        if last == "uploaded" and final is None:
            if partial is None:
                return self._arrived()  # it had its name, and the store has taken it
            if not self.server.at_once and self.answer == "arrived":
                return self._arrived()
            if not self.server.at_once and self.answer is None:
                raise OutputError(
                    f"{self.kept.to}: nobody can tell whether {self.file.file} arrived and was taken there. Look, and "
                    "if it did not, ‹again› sends it; if it did, ‹arrived› says so."
                )
        if final is not None and self.file.file == READ_ME:
            self.server.remove(self.name)  # of an earlier round, for people
        elif final is not None:
            raise OutputError(
                f"{self.kept.to}: there is another {self.file.file} there, which the store has perhaps not taken yet. "
                "Wait for that, or deliver into another folder."
            )
        if last != "uploaded" or partial != self.data:
            self.kept.write(self.file, "begun")
            self.server.put(self.partial, iter([self.data]))
            if self._content(self.partial) != self.data:
                self.server.remove(self.partial)
                raise PassingError(f"{self.file.file} did not come through whole")
            self.kept.write(self.file, "uploaded")
        self.answer = None  # of what happens from here on, nobody has said anything
        self.server.rename(self.partial, self.name)
        return self._arrived()

    def _arrived(self) -> None:
        self.server.remove(self.partial)
        self.kept.write(self.file, "arrived")

    def _content(self, path: str) -> bytes | None:
        """The bytes of a file there; None where there is none."""
        try:
            return self.server.read(path)
        except FileNotFoundError:
            return None


TYPES = {
    ".csv": "text/csv",
    ".tsv": "text/tab-separated-values",
    ".json": "application/json",
    ".jsonl": "application/jsonl",
    ".xml": "application/xml",
    ".xlsx": "application/vnd.openxmlformats-officedocument.spreadsheetml.sheet",
}
"""Media types by the endings of update files (IANA's registry)."""

ENDINGS = {"application/json": ".json", "text/csv": ".csv", "text/html": ".html", "application/xml": ".xml"}


def _to_web(
    kept: Journal,
    files: Sequence[OutFile],
    contents: Mapping[str, bytes],
    where: Address,
    seal: str,
    delivery: Delivery,
    terms: Terms,
    perhaps: Perhaps,
) -> list[Delivered]:
    """Files to an address of the web, one request each; {file} and {action} in it stand for what they say."""
    out = []
    headers = {name: _from_environment(value, name) for name, value in delivery.headers.items()}
    for file in files:
        if file.file not in contents:
            out.append(Delivered(file.file, "before"))
            continue
        if kept.last(file) == "begun" and perhaps == "arrived":
            kept.write(file, "arrived")
            out.append(Delivered(file.file, "before"))
            continue
        if kept.last(file) == "begun" and not (perhaps or delivery.repeatable):
            raise OutputError(
                f"{kept.to}: {file.file} was sent, and no answer came, so nobody can tell whether it was taken. Look "
                "in the store; if it was not, ‹again› sends it, and if it was, ‹arrived› says so."
            )
        target = parse(_filled(where.text, file))
        kind = delivery.content_type or TYPES.get(Path(file.file).suffix, "application/octet-stream")
        turn = sum(entry.step == "again" for entry in kept.entries if entry.to == kept.to and entry.file == file.file)
        key = blake3(f"{seal}\n{file.file}\n{kept.to}\n{turn}".encode()).hexdigest()[:32]
        sent = {"Content-Type": kind, "Idempotency-Key": key, **headers}
        terms.note(f"{kept.to}: {file.file}")
        answer = _asked(kept, file, target, delivery, sent, contents[file.file], terms)
        out.append(answer)
        if answer.outcome == "refused":
            break
    return out


def _filled(address: str, file: OutFile) -> str:
    return address.replace("{file}", file.file).replace("{action}", file.action)


def _from_environment(value: str, name: str) -> str:
    if not value.startswith("$"):
        return value
    text = os.environ.get(value[1:])
    if not text:
        raise OutputError(f"The header {name} is taken from {value[1:]}, which is not in the environment. Set it.")
    return text


def _asked(
    kept: Journal, file: OutFile, where: Address, delivery: Delivery, headers: dict[str, str], data: bytes, terms: Terms
) -> Delivered:
    """Send one file, and keep the answer. Where the store says that it did nothing yet (429, 503), it is asked again;
    where no answer came only if it takes a request once.
    """
    from neat_delta.files.sources.web import Web

    web = open_source(where, terms)
    assert isinstance(web, Web)

    def send() -> tuple[int, str, bytes]:
        kept.write(file, "begun")
        try:
            with web.faults():
                answer = web.ask(delivery.method, headers, data)
                content = answer.read()
        except FileError:  # it leads elsewhere, or is not to be trusted
            kept.write(file, "unsent")
            raise
        except PassingError as error:
            if not error.begun:
                kept.write(file, "unsent")
            if not error.begun or delivery.repeatable:
                raise
            raise OutputError(
                f"{kept.to}: {file.file} was sent, and no answer came, so nobody can tell whether it was taken. Look "
                "in the store; if it was not, ‹again› sends it, and if it was, ‹arrived› says so."
            ) from None
        if answer.status_code in BUSY:
            kept.write(file, "unsent", answer.status_code)
            web.must_be_well(answer)
        return answer.status_code, answer.headers.get("content-type", "").partition(";")[0].strip(), content

    try:
        status, kind, content = patiently(send, kept.to, terms)
    finally:
        web.close()
    name = None
    if content:
        name = f"{ANSWER}{Path(file.file).stem}{ENDINGS.get(kind, '.txt')}"
        write_whole(str(Path(kept.folder) / name), [content])
    well = 200 <= status < 300
    kept.write(file, "arrived" if well else "refused", status, name)
    message = "" if well else f"the store answers {status}" + (f"; what it says is in {name}" if name else "")
    return Delivered(file.file, "arrived" if well else "refused", name, message)


BUSY = frozenset({429, 503})
"""The statuses by which a store says that it did nothing, and may be asked again (RFC 6585, RFC 9110)."""


def deliver_rows(
    folder: str, manifest: Manifest, address: str, rows: Sequence[RowChange], terms: Terms, *, again: bool = False
) -> tuple[list[Delivered], list[Difference]]:
    """Make the changes of a folder in a table, in one transaction, and note it in the journal; what stands there
    otherwise than it was planned, and then nothing was done. OutputError as `deliver_files`.
    """
    where = parse(address)
    if not where.fragment:
        raise OutputError(f"{where.masked}: which table? Name it behind the address, as #items.")
    change = OutFile(TRANSACTION, "change", len(rows), 0, [], manifest.blake3)
    with journal(folder, where.masked) as kept:
        must_be_still_to_go(kept, [change] if rows else [], again=again)
        terms.note(f"{where.masked}: {len(rows):,} rows, in one transaction")

        def change_all() -> list[Difference]:
            begun = kept.last(change) == "begun"  # and nobody knows how it ended
            kept.write(change, "begun")
            return change_rows(where, credentials_for(where), rows, terms, begun=begun)

        differences = patiently(change_all, where.masked, terms)
        kept.write(change, "unsent" if differences else "arrived")
    return [Delivered(TRANSACTION, "refused" if differences else "arrived")], differences


TRANSACTION = "transaction"
"""What the journal calls the changes of a table, which are no file."""
