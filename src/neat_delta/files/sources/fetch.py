"""Fetching: an address becomes a file in the cache, whole or not at all, and is fetched once.

Rule: what was fetched is what is compared, written and proven. A dropped connection is taken up where it broke, if the
file there is still the same; what may pass is tried again after a longer wait, or the one that the server asks for.
"""

from __future__ import annotations

import contextlib
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from datetime import UTC, datetime
from fnmatch import fnmatchcase
from importlib import import_module
from pathlib import Path
from typing import IO, TypeVar

from blake3 import blake3

from neat_delta.core.base.support.errors import FileError
from neat_delta.core.base.support.nearest import did_you_mean
from neat_delta.files.sources import AGES, TERMS, cache
from neat_delta.files.sources.address import PATTERN, Address, parse
from neat_delta.files.sources.base import (
    ChangedError,
    FileState,
    PassingError,
    Progress,
    RemoteSource,
    Terms,
    UnreachableError,
)
from neat_delta.files.sources.credentials import Credentials, credentials_for

__all__ = ["SORTS", "Fetched", "fetch", "must_be_fresh", "newest_of", "open_source", "patiently", "terms_now"]

SORTS: dict[str, str] = {
    "http": "web",
    "https": "web",
    "ftp": "ftp",
    "ftps": "ftp",
    "sftp": "sftp",
    "postgresql": "database",
    "mysql": "database",
    "mariadb": "database",
    "sqlite": "database",
}
"""The sorts of addresses, each with the file beside this one that has its `connect`. Others are what fsspec opens
(`remote`), S3 among them.
"""

UNENCRYPTED, HERE = frozenset({"http", "ftp"}), frozenset({"127.0.0.1", "localhost", "::1"})

Connect = Callable[[Address, Credentials, Terms, str | None], RemoteSource]
Result = TypeVar("Result")

LONGEST_WAIT = 60.0
"""Seconds: who is asked to wait longer than this says so, and ends."""


@dataclass(frozen=True, slots=True)
class Fetched:
    """A file that was fetched: its `path` in the cache, its `address` without secrets, the digest of its bytes, its
    state at its server, and whether it is the `same` as the last time.
    """

    path: Path
    address: str
    digest: str
    state: FileState
    same: bool


def fetch(address: str, query: str | None = None, on: Terms | None = None) -> Fetched:
    """Fetch a file; of a pattern the newest, of a database the table that the fragment names, or what a `query` gives.
    FileError says what is wrong, and never what is secret.
    """
    terms, where = on or terms_now(), parse(address)
    if where.password is not None:
        terms.say(
            f"{where.masked}: the password in the address is used; the list of processes and the shell's history may "
            "show it. `neat-delta help addresses` says where it is safe."
        )
    source = open_source(where, terms, query)
    try:
        if where.pattern:
            where = patiently(lambda: _newest(where, source, terms), where.masked, terms)
        return _fetched(where, source, terms, query)
    finally:
        source.close()


def terms_now() -> Terms:
    """The terms of the command at work, or the usual ones."""
    return TERMS[-1]() if TERMS else Terms()


def open_source(where: Address, terms: Terms, query: str | None = None) -> RemoteSource:
    """What knows addresses of this sort, connected; FileError where nothing does."""
    sort = SORTS.get(where.scheme, "remote")
    if query is not None and sort != "database":
        raise FileError(f"{where.masked}: only a database is asked by ‹query›, and this is none. Leave it out.")
    connect: Connect = import_module(f"neat_delta.files.sources.{sort}").connect
    known = credentials_for(where)
    if where.scheme in UNENCRYPTED and known.password is not None and where.host not in HERE:
        terms.say(f"{where.masked}: {where.scheme}:// sends the password unencrypted; ask its owner for a safer way")
    return patiently(lambda: connect(where, known, terms, query), where.masked, terms)


def unknown_scheme(where: Address) -> FileError:
    """The error of an address that nothing opens."""
    sorts = [*SORTS, "s3"]
    more = did_you_mean(where.scheme, sorts, f"There are: {', '.join(sorts)}.")
    return FileError(f'{where.masked}: nothing opens addresses that begin with "{where.scheme}://".{more}')


def patiently(work: Callable[[], Result], masked: str, terms: Terms) -> Result:
    """What some work gives, tried again while what goes wrong may pass; FileError when it does not pass."""
    from tenacity import RetryCallState, Retrying, retry_if_exception_type, stop_after_attempt, wait_exponential

    grows = wait_exponential(terms.wait_seconds, max=LONGEST_WAIT)

    def wait(state: RetryCallState) -> float:
        error = state.outcome.exception() if state.outcome else None
        asked = error.wait if isinstance(error, PassingError) else None
        if asked is not None and asked > LONGEST_WAIT:
            raise UnreachableError(f"{masked}: {error.what}; it asks for {asked:,.0f} seconds. Try again later.")  # type: ignore[union-attr]
        return grows(state) if asked is None else asked

    def announce(state: RetryCallState) -> None:
        error = state.outcome.exception() if state.outcome else None
        terms.say(f"{masked}: {error.what if isinstance(error, PassingError) else CHANGED}; trying again")

    attempts = Retrying(
        stop=stop_after_attempt(terms.attempts), wait=wait, before_sleep=announce, reraise=True,
        retry=retry_if_exception_type((PassingError, ChangedError)),
    )  # fmt: skip
    try:
        return attempts(work)
    except PassingError as error:
        raise UnreachableError(f"{masked}: {error.what}, {terms.attempts} times. Try again later.") from None
    except ChangedError:
        raise FileError(f"{masked}: {CHANGED}, {terms.attempts} times. Fetch it when nobody writes it.") from None


CHANGED = "it was changed while it was being fetched"


def _newest(pattern: Address, source: RemoteSource, terms: Terms) -> Address:
    """The newest file that a pattern fits, by when it was changed, then by name; what was passed over is said."""
    folder, _, name = pattern.path.rpartition("/")
    fits = [(state.modified, file) for file, state in source.list(folder or "/") if fnmatchcase(file, name)]
    if any(modified is None for modified, _ in fits) and len(fits) > 1:
        raise FileError(f"{pattern.masked}: the server does not say which of them is the newest. Name one.")
    return pattern.with_path(f"{folder}/{_latest(fits, name, pattern.masked, terms)}")


def _latest(fits: Sequence[tuple[datetime | None, str]], name: str, where: str, terms: Terms) -> str:
    """The latest of the files that a name fits; what was passed over is said."""
    if not fits:
        raise FileError(f'{where}: no file there is called like "{name}". Check the pattern.')
    *others, newest = [file for _, file in sorted(fits, key=lambda fit: (fit[0] is not None and fit[0], fit[1]))]
    passed_over = ", ".join(others[-3:][::-1]) + (f" and {len(others) - 3:,} more" if len(others) > 3 else "")
    terms.say(f"{newest} is the newest that fits {name}" + (f"; passed over: {passed_over}" if others else ""))
    return newest


def newest_of(path: str) -> str:
    """Of a path whose last part is a pattern, and no file's name, the newest file that it fits, by when it was changed,
    then by name; what was passed over is said. FileError where there is none. Another path stays what it is.

    >>> newest_of("prices.csv")
    'prices.csv'
    """
    place = Path(path)
    if PATTERN.search(place.name) is None or place.exists():
        return path
    fits = []
    with contextlib.suppress(OSError):
        for file in place.parent.iterdir():
            if file.is_file() and fnmatchcase(file.name, place.name):
                fits.append((datetime.fromtimestamp(file.stat().st_mtime, UTC), file.name))
    return str(place.with_name(_latest(fits, place.name, path, terms_now())))


def _fetched(where: Address, source: RemoteSource, terms: Terms, query: str | None) -> Fetched:
    """Fetch what is at an address into the cache."""
    name = f"{where.text}\n{query or ''}"
    before = cache.known(name)
    with cache.unfinished() as file, terms.progress(where.masked) as progress:
        transfer = _Transfer(where, source, terms, file, progress)
        state = patiently(lambda: transfer.go_on(before.state if before else None), where.masked, terms)
        if state is None and before is not None:
            must_be_fresh(where.masked, before.modified)
            terms.note(f"{where.masked}: not changed since it was fetched last")
            return Fetched(cache.place(before.digest), where.masked, before.digest, before.state, same=True)
        assert state is not None
        size, path = file.tell(), cache.keep(file, name, state, transfer.hashed.hexdigest())
        same = before is not None and before.digest == path.name
        terms.note(f"{where.masked}: fetched, {size:,} bytes" + (", the same as the last time" if same else ""))
        return Fetched(path, where.masked, path.name, state, same)


@dataclass
class _Transfer:
    """A file on its way: what has come of it stands in `file`, which was `begun` in this state, and is `hashed`."""

    where: Address
    source: RemoteSource
    terms: Terms
    file: IO[bytes]
    progress: Progress
    begun: FileState | None = None
    hashed: blake3 = field(default_factory=blake3)

    def go_on(self, before: FileState | None) -> FileState | None:
        """Fetch what is still lacking; the file's state, or None where it is as it was `before`."""
        got, masked, most = self.file.tell(), self.where.masked, self.terms.most_bytes
        opened = self.source.open(self.where.path, got, self.begun if got else before)
        if opened.unchanged:
            return None
        self.begun, size = opened.state, opened.state.size
        must_be_fresh(masked, opened.state.modified)
        if size is not None and size > most:
            raise FileError(f"{masked}: it has {size:,} bytes, and at most {most:,} are fetched. Is it the right file?")
        self._go_back(opened.start)
        done = opened.start
        try:
            for chunk in opened.chunks:
                done += len(chunk)
                if done > most:
                    raise FileError(
                        f"{masked}: it has more than {most:,} bytes, which are the most that are fetched. Is it the "
                        "right file?"
                    )
                self.file.write(chunk)
                self.hashed.update(chunk)
                self.progress(done, size)
            self.file.flush()
        except ChangedError:
            self._go_back(0)
            raise
        except OSError as error:
            raise FileError(f"{masked}: it cannot be kept in the cache ({error.strerror}). Make room there.") from None
        if size is not None and done != size:
            if done > size:
                self._go_back(0)
            raise PassingError(f"{done:,} bytes came, of {size:,}")
        return opened.state

    def _go_back(self, place: int) -> None:
        """Forget what came after this byte."""
        if self.file.tell() != place:
            self.file.seek(0)
            self.hashed = blake3()
            for block in iter(lambda: self.file.read(min(BYTES_AT_ONCE, place - self.file.tell())), b""):
                self.hashed.update(block)
        self.file.truncate()


BYTES_AT_ONCE = 1 << 20


def must_be_fresh(name: str, modified: datetime | None) -> None:
    """FileError where a file is older than is allowed now (`not_older_than`), or nobody knows how old it is."""
    if not AGES:
        return
    if modified is None:
        raise FileError(
            f"{name}: its server does not say when it was changed, so nobody knows how old it is. Leave ‹older_than› "
            "out."
        )
    age = (datetime.now(UTC) - modified).total_seconds()
    if age > AGES[-1]:
        raise FileError(
            f"{name}: it was changed on {modified:%Y-%m-%d at %H:%M} UTC, and is older than ‹older_than› allows. "
            "Ask for a new one, or leave that out."
        )
