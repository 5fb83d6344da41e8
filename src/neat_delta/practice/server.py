"""The practice store on loopback: an interface for programs, which describes itself (OpenAPI), and pages for people.

Whoever asks must be on this machine, by a name of this machine, and have the token where one was set.
"""

from __future__ import annotations

import hmac
import json
import os
import secrets
import socket
import sqlite3
import threading
import time
from collections.abc import Awaitable, Callable, Iterator
from contextlib import contextmanager
from importlib.resources import files
from typing import Any
from urllib.parse import quote, urlsplit

import click
import jsonpatch
import msgspec
import polars as pl
import uvicorn
from fastapi import FastAPI, Request, Response
from fastapi.concurrency import run_in_threadpool
from fastapi.exceptions import RequestValidationError
from fastapi.responses import JSONResponse, RedirectResponse
from jinja2 import Environment, StrictUndefined
from polars.exceptions import PanicException
from starlette.datastructures import UploadFile

from neat_delta import __version__
from neat_delta.core.base.kinds.number import NUMBER_KINDS
from neat_delta.core.base.model.layout import Layout
from neat_delta.core.base.model.update import Action
from neat_delta.core.base.support.errors import NeatDeltaError
from neat_delta.files.whole import digest_of
from neat_delta.files.writers.forms import FORMS, UpdateLayout
from neat_delta.practice.shop import BusyError, ConflictError, Report, Shop, TooLargeError, report_csv

__all__ = ["application", "serve", "serving"]

HERE = ("127.0.0.1", "localhost", "[::1]", "::1")
"""The names of this machine."""

MOST_BYTES = 100_000_000
"""The most bytes of a body, where the importer says nothing."""

ACTIONS: tuple[Action, ...] = ("change", "add", "recode", "remove")
PER_PAGE = 50
MOST_PAGES = 10_000_000
WAITING = 8
"""So many files that were tried in the page wait to be imported; older ones are forgotten."""

Answer = Callable[[Request], Awaitable[Response]]


def serve(shop: Shop, port: int, token: str | None = None) -> None:
    """Listen on loopback until it is stopped. NeatDeltaError when the port is taken."""
    listener = socket.socket()
    listener.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
    try:
        listener.bind(("127.0.0.1", port))
    except OSError as error:
        raise NeatDeltaError(
            f"Port {port} cannot be used ({error.strerror}). Name another: --port 0 takes any."
        ) from None
    where = f"http://127.0.0.1:{listener.getsockname()[1]}/"
    click.echo(f"Practice store, a stand-in for the real one: {len(shop.shelf.item_numbers()):,} items at {where}")
    click.echo("Ctrl-C ends it.")
    config = uvicorn.Config(application(shop, token), log_level="warning", access_log=False)
    uvicorn.Server(config).run(sockets=[listener])


@contextmanager
def serving(shop: Shop, port: int) -> Iterator[str]:
    """The store on loopback while the block lasts, as its address; at any port where that one is taken."""
    listener = socket.socket()
    listener.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
    try:
        listener.bind(("127.0.0.1", port))
    except OSError:
        listener.bind(("127.0.0.1", 0))
    server = uvicorn.Server(uvicorn.Config(application(shop), log_level="warning", access_log=False))
    listener.listen()  # who asks before the server runs is answered then
    thread = threading.Thread(target=server.run, kwargs={"sockets": [listener]}, daemon=True)
    thread.start()
    try:
        yield f"http://127.0.0.1:{listener.getsockname()[1]}"
    finally:
        server.should_exit = True
        thread.join(5)


def application(shop: Shop, token: str | None = None) -> FastAPI:
    """The store as an ASGI application, for a server or a test."""
    app = FastAPI(
        title="Neat Delta practice store",
        version=__version__,
        description="A stand-in for a shop, to rehearse imports in. Nothing in it is real.",
        docs_url=None,
        redoc_url=None,
    )
    pages = _Pages(shop)
    _add_guard(app, shop, pages, token)

    @app.exception_handler(RequestValidationError)
    def wrong(request: Request, error: RequestValidationError) -> Response:
        message = "; ".join(f"{error_part['loc'][-1]}: {error_part['msg']}" for error_part in error.errors())
        return _error(request, pages, 422, f"{message}.")

    @app.exception_handler(404)
    def nothing(request: Request, error: Exception) -> Response:
        del error
        return _error(request, pages, 404, f"There is nothing at {request.url.path}.")

    _add_export(app, shop)
    _add_import(app, shop, pages)
    _add_items(app, shop, pages)
    _add_pages(app, shop, pages, token)
    return app


def _add_guard(app: FastAPI, shop: Shop, pages: _Pages, token: str | None) -> None:
    """Who may ask, what is sold meanwhile, and how an error is answered."""
    began = time.monotonic()

    @app.middleware("http")
    async def guard(request: Request, go_on: Answer) -> Response:
        why = _stranger(request)
        if why is not None:
            return _error(request, pages, 403, why)
        if token is not None and request.url.path != "/sign-in" and not _has_token(request, token):
            if _is_page(request):
                return RedirectResponse("/sign-in", 303)
            answer = _error(request, pages, 401, "This store wants a token: Authorization: Bearer …")
            answer.headers["WWW-Authenticate"] = "Bearer"
            return answer
        try:
            if shop.faults.sold:
                await run_in_threadpool(shop.sell, (time.monotonic() - began) / 60)
            answer = await go_on(request)
        except BusyError as why_not:
            answer = _error(request, pages, 429, str(why_not))
            answer.headers["Retry-After"] = "1"
        except TooLargeError as why_not:
            answer = _error(request, pages, 413, str(why_not))
            answer.headers["Connection"] = "close"  # the rest of it is not wanted
        except ConflictError as why_not:
            answer = _error(request, pages, 412, str(why_not))
        except NeatDeltaError as why_not:
            answer = _error(request, pages, 422, str(why_not))
        except sqlite3.Error as why_not:
            answer = _error(request, pages, 507, f"The store cannot write its file ({why_not}). Make room.")
        except (RecursionError, OverflowError):
            answer = _error(request, pages, 422, "It is nested too deeply, or a number in it is too large.")
        except (Exception, PanicException) as fault:
            if os.environ.get("NEAT_DELTA_TRACEBACK"):
                raise
            answer = _error(
                request, pages, 500, f"a fault in the practice store itself ({type(fault).__name__}: {fault})"
            )
        answer.headers["X-Practice-Store"] = "a stand-in, not the real shop"
        answer.headers["Content-Security-Policy"] = (
            "default-src 'none'; style-src 'self'; form-action 'self'; base-uri 'none'; frame-ancestors 'none'"
        )
        answer.headers["X-Content-Type-Options"] = "nosniff"
        return answer


def _add_export(app: FastAPI, shop: Shop) -> None:
    """The catalogue as files."""

    def exported(request: Request) -> pl.DataFrame:
        fields = [field.strip() for field in request.query_params.get("fields", "").split(",") if field.strip()]
        return shop.table(fields, request.query_params.get("where"))

    def export(form: str) -> Callable[[Request], Response]:
        def answer(request: Request, fields: str = "", where: str = "") -> Response:
            del fields, where  # they are in the request; here they are named for the description
            cells = exported(request)
            if form == "csv":
                content, kind = shop.export_csv(cells), "text/csv"
            else:
                name = "json lines" if form == "jsonl" else "xlsx"
                content = FORMS[name].write(cells, UpdateLayout(Layout(), shop.key, "change", "export"))  # type: ignore[index]
                kind = TYPES[form]
            tag = f'"{digest_of(content)[:32]}"'
            headers = {"Content-Disposition": f'attachment; filename="export.{form}"', "ETag": tag}
            if request.headers.get("if-none-match") == tag:
                return Response(status_code=304, headers={"ETag": tag})
            return Response(content, media_type=kind, headers=headers)

        return answer

    for form in ("csv", "jsonl", "xlsx"):
        app.get(f"/export.{form}", summary=f"The catalogue, or a part of it, as {form}.")(export(form))


def _add_import(app: FastAPI, shop: Shop, pages: _Pages) -> None:
    """Imports, and what they came to."""
    waiting: dict[str, tuple[str, Action | None, bytes]] = {}
    answered: dict[str, tuple[Any, int]] = {}

    @app.post(
        "/import", summary="Import an update file: the body itself, or multipart with `file`.", openapi_extra=UPLOAD
    )
    async def take(request: Request, check: str = "", action: str = "", name: str = "import") -> Response:
        wanted = _action(action)
        body = await _body(request, shop)
        once = request.headers.get("idempotency-key", "")
        if once in answered:
            return _json(*answered[once])
        kind = request.headers.get("content-type", "")
        posted = kind.startswith("application/x-www-form-urlencoded") and body.startswith(b"waiting=")
        if posted or kind.startswith("multipart/form-data"):
            request._body = body
            form = await request.form()
            check, wanted = str(form.get("check") or check), _action(str(form.get("action") or action))
            upload = form.get("file")
            if isinstance(upload, UploadFile):
                name, body = upload.filename or name, await upload.read()
            elif (ticket := str(form.get("waiting") or "")) in waiting:
                name, wanted, body = waiting.pop(ticket)
            else:
                return _error(request, pages, 422, "There is no file in it. Choose one.")
        report = await run_in_threadpool(shop.import_file, body, name, wanted, check=check not in {"", "0"})
        if _is_page(request):
            if not report.checked:
                return RedirectResponse(f"/imports/{report.number}", 303)
            ticket = secrets.token_hex(8)
            waiting[ticket] = (name, wanted, body)
            while len(waiting) > WAITING:
                del waiting[next(iter(waiting))]
            return pages.page("report", report=report, ticket=ticket)
        answer = _facts(report), 500 if report.stopped else 200
        if once and not report.stopped:
            answered[once] = answer
        if "text/csv" in request.headers.get("accept", ""):
            return Response(report_csv([report], shop.store.results), answer[1], media_type="text/csv")
        return _json(*answer)

    @app.get("/import", include_in_schema=False)
    def form_of_import() -> Response:
        return pages.page("import", actions=ACTIONS)

    @app.get("/results/{number}.csv", summary="What an import came to, a line for each row.")
    def results(request: Request, number: int) -> Response:
        report = shop.report(number)
        if report is None:
            return _error(request, pages, 404, f"There is no import {number}.")
        return Response(report_csv([report], shop.store.results), media_type="text/csv")

    @app.get("/imports", include_in_schema=False)
    def imports() -> Response:
        return pages.page("imports", reports=shop.reports())

    @app.get("/imports/{number}", include_in_schema=False)
    def import_page(request: Request, number: int) -> Response:
        report = shop.report(number)
        if report is None:
            return _error(request, pages, 404, f"There is no import {number}.")
        return pages.page("report", report=report, ticket=None)


def _add_items(app: FastAPI, shop: Shop, pages: _Pages) -> None:
    """Single items: as they are, patched, and what was done to them."""

    @app.get("/history", summary="What was done, the latest first.")
    def history(request: Request) -> Response:
        rows = shop.history()
        return pages.page("history", rows=rows) if _is_page(request) else _json(rows)

    @app.get("/items/{key:path}", summary="One item, and its ETag; the parts of a key stand between slashes.")
    def item(request: Request, key: str) -> Response:
        parts = _parts(key)
        known = shop.item(parts)
        if known is None:
            return _error(request, pages, 404, f"There is no item {key}.")
        if _is_page(request):
            return pages.page("item", parts=parts, item=known[0], rows=shop.history(parts))
        return _json(known[0], headers={"ETag": known[1]})

    @app.patch("/items/{key:path}", summary="Patch an item (RFC 7396 or RFC 6902), with If-Match.", openapi_extra=PATCH)
    async def patch(request: Request, key: str) -> Response:
        parts = _parts(key)
        known = shop.item(parts)
        if known is None:
            return _error(request, pages, 404, f"There is no item {key}.")
        body = await _body(request, shop)
        fields = {name: text for name, text in known[0].items() if text}
        try:
            patched = _patched(fields, body, request.headers.get("content-type", ""))
        except (ValueError, TypeError, jsonpatch.JsonPatchException, jsonpatch.JsonPointerException) as error:
            return _error(request, pages, 422, f"It is no patch that fits this item ({error}).")
        if patched is None:
            return _error(
                request,
                pages,
                415,
                "Say which patch it is: application/merge-patch+json or application/json-patch+json.",
            )
        now, tag = shop.patch(parts, patched, request.headers.get("if-match"))
        return _json(now, headers={"ETag": tag})


def _add_pages(app: FastAPI, shop: Shop, pages: _Pages, token: str | None) -> None:
    """The catalogue for people, and the way in where there is a token."""

    @app.get("/sign-in", include_in_schema=False)
    def sign_in() -> Response:
        return pages.page("sign-in", wrong=False)

    @app.post("/sign-in", include_in_schema=False)
    async def signed_in(request: Request) -> Response:
        token_sent = str((await request.form()).get("token") or "")
        if token is None or not hmac.compare_digest(token_sent.encode(), token.encode()):
            return pages.page("sign-in", status=401, wrong=True)
        answer = RedirectResponse("/", 303)
        answer.set_cookie("practice-token", token_sent, httponly=True, samesite="strict")
        return answer

    @app.get("/page.css", include_in_schema=False)
    def style() -> Response:
        return Response(_asset("page.css"), media_type="text/css")

    @app.get("/", include_in_schema=False)
    def catalogue(q: str = "", page: int = 1) -> Response:
        page = min(page, MOST_PAGES)
        items, total = shop.page(q, (max(page, 1) - 1) * PER_PAGE, PER_PAGE)
        last = max(1, -(-total // PER_PAGE))
        return pages.page("catalogue", items=items, total=total, q=q, number=max(page, 1), last=last)


TYPES = {
    "csv": "text/csv",
    "jsonl": "application/jsonl",
    "xlsx": "application/vnd.openxmlformats-officedocument.spreadsheetml.sheet",
}
BINARY = {"schema": {"type": "string", "format": "binary"}}
UPLOAD = {
    "requestBody": {
        "required": True,
        "content": {
            "text/csv": BINARY,
            "application/octet-stream": BINARY,
            "multipart/form-data": {
                "schema": {
                    "type": "object",
                    "required": ["file"],
                    "properties": {
                        "file": {"type": "string", "format": "binary"},
                        "check": {"type": "string", "description": "1 tries it, and changes nothing."},
                        "action": {"type": "string", "enum": list(ACTIONS)},
                    },
                }
            },
        },
    }
}
PATCH = {
    "requestBody": {
        "required": True,
        "content": {
            "application/merge-patch+json": {"schema": {"type": "object"}},
            "application/json-patch+json": {"schema": {"type": "array"}},
        },
    }
}


def _asset(name: str) -> str:
    return files("neat_delta.practice").joinpath("pages", name).read_text("utf-8")


class _Pages:
    """The pages, all in one frame that says what this is."""

    def __init__(self, shop: Shop) -> None:
        self.shop = shop
        self.environment = Environment(autoescape=True, undefined=StrictUndefined, trim_blocks=True, lstrip_blocks=True)
        self.environment.filters["link"] = lambda key: (
            "/items/" + "/".join(quote(_escaped(part), safe="") for part in key)
        )
        self.environment.filters["key_of"] = lambda item: [item[name] for name in shop.key]
        self.environment.filters["parts"] = json.loads
        self.template = self.environment.from_string(_asset("page.html"))

    def page(self, what: str, status: int = 200, **values: object) -> Response:
        """A page as a response."""
        shop = self.shop
        fields = [name for name in (shop.store.key.name, *PLAIN) if name in shop.shelf.fields and name not in shop.key]
        names = list(dict.fromkeys(fields))[:6]
        text = self.template.render(
            what=what,
            key=shop.key,
            shown=names,
            numbers=[name for name in names if shop.kind(name) in NUMBER_KINDS],
            heading=shop.heading,
            faults=_faults_in_words(shop),
            **values,
        )
        return Response(text, status, media_type="text/html; charset=utf-8")


PLAIN = ("name", "price", "sale_price", "stock", "status", "category")
"""What a list of items shows besides the key, where a catalogue has it."""


def _faults_in_words(shop: Shop) -> list[str]:
    """The faults, in words."""
    faults = shop.faults
    sentences = [f"refuses {', '.join(refusal.words for refusal in faults.refuse)}"] if faults.refuse else []
    sentences += [f"rounds {name} to {places} decimals" for name, places in faults.rounded.items()]
    sentences += [f"cuts {name} after {size} characters" for name, size in faults.cut.items()]
    sentences += [f"drops {faults.dropped} % of the rows"] if faults.dropped else []
    sentences += [f"stops once after {faults.fail_after} rows"] if faults.fail_after else []
    sentences += ["puts every import off once"] if faults.busy else []
    sentences += ["is slow"] if faults.slow else []
    return sentences + ([f"sells {faults.sold} a minute"] if faults.sold else [])


def _escaped(part: str) -> str:
    return part.replace("~", "~0").replace("/", "~1")


def _parts(key: str) -> list[str]:
    """The parts of a key in a path: a slash in one of them is ~1, a tilde ~0, as in a JSON Pointer (RFC 6901)."""
    return [part.replace("~1", "/").replace("~0", "~") for part in key.split("/")]


def _stranger(request: Request) -> str | None:
    """Why a request is refused that does not come from this machine, or under another name."""
    host = request.headers.get("host", "")
    name = host.rpartition(":")[0] if host.rpartition(":")[2].isdecimal() and not host.endswith("]") else host
    if request.client is not None and request.client.host not in {*HERE, "testclient"}:
        return "This practice store answers to its own machine only."
    if name not in HERE:
        return f'This practice store is not called "{name}"; it answers to 127.0.0.1 only.'
    origin = request.headers.get("origin")
    if origin is not None and _host_of(origin) != host:
        return f"A page of {origin} asked; this practice store answers to its own pages only."
    return None


def _host_of(origin: str) -> str:
    """The host that an Origin names (RFC 6454); "" where it names none, as a page does that hides where it is from."""
    try:
        return urlsplit(origin).netloc
    except ValueError:
        return ""


def _has_token(request: Request, token: str) -> bool:
    token_sent = request.headers.get("authorization", "").removeprefix("Bearer ") or request.cookies.get(
        "practice-token", ""
    )
    return hmac.compare_digest(token_sent.encode(), token.encode())


def _is_page(request: Request) -> bool:
    """Whether a browser asks, for a person."""
    return "text/html" in request.headers.get("accept", "")


async def _body(request: Request, shop: Shop) -> bytes:
    """The body, if it is not larger than the store takes; TooLargeError says so before all of it has come."""
    most = (shop.store.importer.most_bytes or MOST_BYTES) + (
        10_000 if "multipart" in request.headers.get("content-type", "") else 0
    )
    length = request.headers.get("content-length", "0")
    content = bytearray()
    if length.isdecimal() and int(length) > most:
        raise TooLargeError(f"The body has {int(length):,} bytes, and the store takes {most:,}.")
    async for chunk in request.stream():
        content += chunk
        if len(content) > most:
            raise TooLargeError(f"The body has more than {most:,} bytes, which is what the store takes.")
    return bytes(content)


def _action(word: str) -> Action | None:
    if not word:
        return None
    for action in ACTIONS:
        if word == action:
            return action
    raise NeatDeltaError(f'action: "{word}" is none of {", ".join(ACTIONS)}.')


def _patched(fields: dict[str, str], body: bytes, kind: str) -> dict[str, Any] | None:
    """An item as a patch leaves it; None when nobody says which patch it is."""
    patch = msgspec.json.decode(body)
    if kind.startswith("application/json-patch+json"):
        after = jsonpatch.JsonPatch(patch).apply(fields)
    elif kind.startswith("application/merge-patch+json"):
        if not isinstance(patch, dict):
            raise ValueError("a merge patch of an item is an object")
        after = {name: value for name, value in (fields | patch).items() if value is not None}
    else:
        return None
    if not isinstance(after, dict):
        raise ValueError("it leaves no object")
    return after


def _facts(report: Report) -> dict[str, Any]:
    """A report for a program; each row has its key under its headings."""
    rows = [
        {
            "row": row.row,
            **dict(zip(report.key, row.key, strict=True)),
            "status": row.status,
            "message": row.message,
            "item": row.item,
        }
        for row in report.rows
    ]
    plain = {"import": report.number, "file": report.file, "checked": report.checked, "stopped": report.stopped}
    return plain | {"counts": report.counts, "results": f"/results/{report.number}.csv", "rows": rows}


def _json(value: Any, status: int = 200, headers: dict[str, str] | None = None) -> Response:  # noqa: ANN401 - any facts
    return Response(msgspec.json.encode(value), status, media_type="application/json", headers=headers)


def _error(request: Request, pages: _Pages, status: int, message: str) -> Response:
    if _is_page(request):
        return pages.page("error", status=status, message=message)
    return JSONResponse({"error": message}, status)
