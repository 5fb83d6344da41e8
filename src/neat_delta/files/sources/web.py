"""Addresses of the web (RFC 9110): conditional requests, ranges, redirects that lead nowhere less safe."""

from __future__ import annotations

import re
import ssl
from collections.abc import Iterator
from contextlib import contextmanager
from datetime import UTC, datetime
from email.utils import parsedate_to_datetime
from typing import TYPE_CHECKING

from neat_delta.core.base.support.errors import FileError
from neat_delta.files.sources.address import Address, parse
from neat_delta.files.sources.base import ChangedError, FileState, Opened, PassingError, Terms
from neat_delta.files.sources.credentials import Credentials

if TYPE_CHECKING:
    import httpx

__all__ = ["Web", "connect"]

MOST_REDIRECTS = 10
PASSES = frozenset({408, 425, 429, 500, 502, 503, 504})
"""The statuses that may be others in a while."""

OK, PARTIAL, UNCHANGED, UNSATISFIABLE = 200, 206, 304, 416
WHY = {
    401: "it wants to know who asks. Say it in the environment, .netrc or the file of credentials "
    "(`neat-delta help addresses`)",
    403: "whoever asks may not have it. Check the user, or ask the shop",
    404: "there is no such file there. Check the address",
    410: "there is no such file there any more. Check the address",
}


def connect(where: Address, known: Credentials, terms: Terms, query: str | None) -> Web:
    """What asks a web server."""
    del query
    import httpx

    seconds = httpx.Timeout(terms.read_seconds, connect=terms.connect_seconds)
    client = httpx.Client(timeout=seconds, headers={"Accept-Encoding": "identity", "User-Agent": "neat-delta"})
    return Web(where, known, client)


class Web:
    """A web server that is asked for the file at one address."""

    def __init__(self, where: Address, known: Credentials, client: httpx.Client) -> None:
        self.where, self.known, self.client = where, known, client

    def open(self, path: str, start: int, known: FileState | None) -> Opened:
        """The file from `start` on, or all of it where it is another one by now; unchanged where the server says so."""
        del path
        headers = {}
        tag = known.tag if known else None
        strong = tag if tag is not None and not tag.startswith("W/") else None
        if start and strong:
            headers = {"Range": f"bytes={start}-", "If-Range": strong}
        elif start == 0 and known is not None:
            headers = {"If-None-Match": tag} if tag else {}
            if not tag and known.modified is not None:
                headers = {"If-Modified-Since": f"{known.modified.astimezone(UTC):%a, %d %b %Y %H:%M:%S GMT}"}
        answer = self.ask("GET", headers)
        if answer.status_code == UNCHANGED and known is not None:
            answer.close()
            return Opened(known, 0, iter(()), unchanged=True)
        if answer.status_code == UNSATISFIABLE:
            answer.close()
            raise ChangedError
        self.must_be_well(answer)
        ranged = re.fullmatch(r"bytes (\d+)-\d+/(\d+|\*)", answer.headers.get("content-range", ""))
        if answer.status_code == PARTIAL and (ranged is None or int(ranged[1]) != start):
            answer.close()
            raise ChangedError
        begins = start if answer.status_code == PARTIAL else 0
        length = answer.headers.get("content-length", "")
        size = begins + int(length) if length.isdecimal() else None
        state = FileState(size, _time(answer.headers.get("last-modified")), answer.headers.get("etag"))
        return Opened(state, begins, self._chunks(answer))

    def _chunks(self, answer: httpx.Response) -> Iterator[bytes]:
        with self.faults():
            try:
                yield from answer.iter_raw()
            finally:
                answer.close()

    def ask(self, method: str, headers: dict[str, str], content: bytes | None = None) -> httpx.Response:
        """The answer to a request, through redirects; its body has not come yet. Credentials only go to the host that
        they are for, and never from https to http.
        """
        import httpx

        url = httpx.URL(self.where.text).copy_with(userinfo=b"", fragment=None)
        first = url
        for _ in range(MOST_REDIRECTS):
            ours = (url.scheme, url.host, url.port) == (first.scheme, first.host, first.port)
            more = {"Authorization": f"Bearer {self.known.token}"} if ours and self.known.token else {}
            basic = httpx.BasicAuth(self.known.user or "", self.known.password or "")
            auth = basic if ours and self.known.password is not None and not more else None
            with self.faults():
                request = self.client.build_request(method, url, headers={**headers, **more}, content=content)
                answer = self.client.send(request, auth=auth, stream=True)
            target = answer.headers.get("location")
            if not answer.has_redirect_location or target is None:
                return answer
            answer.close()
            url = url.join(target)
            if method != "GET":
                raise FileError(
                    f"{self.where.masked}: it sends what is delivered on to {parse(str(url)).masked}. Name that."
                )
            if url.scheme not in {"http", "https"} or (first.scheme == "https" and url.scheme != "https"):
                raise FileError(
                    f"{self.where.masked}: it leads on to {parse(str(url)).masked}, which is less safe. Ask the shop "
                    "for an address that stays with https."
                )
        raise FileError(f"{self.where.masked}: it leads on more than {MOST_REDIRECTS} times. Check the address.")

    def must_be_well(self, answer: httpx.Response) -> None:
        """PassingError or FileError where an answer is none of success."""
        status, masked = answer.status_code, self.where.masked
        if status in {OK, PARTIAL}:
            return
        answer.close()
        words = f"the server answers {status} ({answer.reason_phrase or 'no reason'})"
        if status in PASSES:
            raise PassingError(words, _wait(answer.headers.get("retry-after")))
        why = WHY.get(status, "See what its owner says of that")
        raise FileError(f"{masked}: {words}: {why}." if status in WHY else f"{masked}: {words}. {why}.")

    @contextmanager
    def faults(self) -> Iterator[None]:
        """Errors of the connection as ours: what may pass, and what a person has to mend."""
        import httpx

        try:
            yield
        except httpx.ConnectError as error:
            if _is_certificate(error):
                raise FileError(
                    f"{self.where.masked}: its certificate is not to be trusted ({_of_certificate(error)}). Nothing "
                    "was sent or fetched. Where it is one of your own, name its authority in SSL_CERT_FILE."
                ) from None
            raise PassingError("it cannot be reached", begun=False) from None
        except (httpx.ConnectTimeout, httpx.PoolTimeout):
            raise PassingError("it does not answer in time", begun=False) from None
        except httpx.TimeoutException:
            raise PassingError("it does not answer in time") from None
        except httpx.TransportError:
            raise PassingError("the connection broke off") from None
        except (httpx.InvalidURL, UnicodeError):
            raise FileError(f"{self.where.masked}: this is no address of the web. Check how it is spelled.") from None

    def stat(self, path: str) -> FileState:
        """The file's state, as the headers say it."""
        del path
        answer = self.ask("HEAD", {})
        answer.close()
        self.must_be_well(answer)
        length = answer.headers.get("content-length", "")
        return FileState(
            int(length) if length.isdecimal() else None, _time(answer.headers.get("last-modified")),
            answer.headers.get("etag"),
        )  # fmt: skip

    def list(self, folder: str) -> list[tuple[str, FileState]]:
        """Web servers list no folders."""
        raise FileError(f"{self.where.masked}: the web has no lists of files. Name one file.")

    def close(self) -> None:
        """Let go of the connection."""
        self.client.close()


def _time(text: str | None) -> datetime | None:
    if text is None:
        return None
    try:
        return parsedate_to_datetime(text).astimezone(UTC)
    except ValueError:
        return None


def _wait(text: str | None) -> float | None:
    """The seconds that Retry-After asks for: a number of them, or a time."""
    if text is None:
        return None
    if text.strip().isdecimal():
        return float(text)
    until = _time(text)
    return None if until is None else max((until - datetime.now(UTC)).total_seconds(), 0.0)


def _is_certificate(error: BaseException) -> bool:
    return "CERTIFICATE_VERIFY_FAILED" in str(error) or isinstance(error.__cause__, ssl.SSLCertVerificationError)


def _of_certificate(error: BaseException) -> str:
    why = re.search(r"verify failed: (.+?)(?: \(_ssl|$)", str(error))
    return why[1] if why else "it cannot be verified"
