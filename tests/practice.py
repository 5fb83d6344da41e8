"""A practice store's server for tests: real HTTP on loopback, one listener for all, a new shop behind it for each."""

from __future__ import annotations

import socket
import threading
import time
from collections.abc import Iterator
from contextlib import contextmanager

import httpx
import uvicorn
from fastapi import FastAPI

from neat_delta.practice.server import application
from neat_delta.practice.shop import Shop


class Served:
    """A server that answers for whatever shop is open."""

    def __init__(self) -> None:
        self.app: FastAPI | None = None
        listener = socket.socket()
        listener.bind(("127.0.0.1", 0))
        self.url = f"http://127.0.0.1:{listener.getsockname()[1]}"
        config = uvicorn.Config(self._answer, interface="asgi3", log_level="error", lifespan="off")
        self.server = uvicorn.Server(config)
        self.thread = threading.Thread(target=self.server.run, kwargs={"sockets": [listener]}, daemon=True)
        self.thread.start()
        while not self.server.started:
            time.sleep(0.01)
        self.http = httpx.Client(base_url=self.url, timeout=30)

    async def _answer(self, scope, receive, send) -> None:
        assert self.app is not None
        await self.app(scope, receive, send)

    def open(self, shop: Shop, token: str | None = None) -> Shop:
        """Let this shop answer from now on."""
        self.app = application(shop, token)
        return shop

    def close(self) -> None:
        """Stop listening."""
        self.http.close()
        self.server.should_exit = True
        self.thread.join(10)


@contextmanager
def served() -> Iterator[Served]:
    """A server while it is needed."""
    one = Served()
    try:
        yield one
    finally:
        one.close()
