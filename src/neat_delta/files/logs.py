"""The log of rounds, by Python's own logging: a line of JSON a step, appended to a file."""

from __future__ import annotations

import json
import logging
from collections.abc import Iterator
from contextlib import contextmanager
from datetime import UTC, datetime

from neat_delta.core.base.support.errors import OutputError

__all__ = ["LOG", "JsonLines", "logged", "say"]

LOG = logging.getLogger("neat_delta.rounds")
"""Where the steps of rounds are logged, at the level INFO; each record has `step`, and figures by name in `counts`."""


class JsonLines(logging.Formatter):
    """A record as a line of JSON: time (UTC), level, step, message, and its figures."""

    def format(self, record: logging.LogRecord) -> str:
        """The line."""
        at = datetime.fromtimestamp(record.created, UTC).isoformat(timespec="milliseconds").replace("+00:00", "Z")
        facts = {"at": at, "level": record.levelname.lower(), "step": getattr(record, "step", "")}
        return json.dumps(facts | {"message": record.getMessage(), **getattr(record, "counts", {})}, ensure_ascii=False)


def say(step: str, message: str, **counts: int) -> None:
    """Log a step that is done, with its figures."""
    LOG.info("%s", message, extra={"step": step, "counts": counts})


@contextmanager
def logged(path: str) -> Iterator[None]:
    """While it lasts, what is logged is appended to this file, too; OutputError where it cannot be written."""
    try:
        handler = logging.FileHandler(path, encoding="utf-8")
    except OSError as error:
        raise OutputError(f"{path}: the log cannot be written there ({error.strerror}). Name another file.") from None
    handler.setFormatter(JsonLines())
    level = LOG.level
    LOG.addHandler(handler)
    LOG.setLevel(logging.INFO)
    try:
        yield
    finally:
        LOG.removeHandler(handler)
        LOG.setLevel(level)
        handler.close()
