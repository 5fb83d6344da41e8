"""What several commands share: printing facts for a program, and saying that work is going on."""

from __future__ import annotations

import sys
import threading
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from typing import Any

import click

__all__ = ["json_option", "print_json", "working"]

json_option: Callable[[Any], Any] = click.option("--json", "as_json", is_flag=True, help="Print the facts as JSON.")


def print_json(facts: object) -> None:
    """Facts for a program, on standard output alone. Exact decimals are strings."""
    import msgspec

    sys.stdout.write(msgspec.json.format(msgspec.json.encode(facts), indent=2).decode() + "\n")


@contextmanager
def working(what: str) -> Iterator[None]:
    """Say on standard error what is going on, once it has taken a second; silent when that is no terminal."""
    if not sys.stderr.isatty():
        yield
        return
    from rich.console import Console

    status = Console(stderr=True).status(what)
    timer = threading.Timer(1.0, status.start)
    timer.start()
    try:
        yield
    finally:
        timer.cancel()
        timer.join()
        status.stop()
