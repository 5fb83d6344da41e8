"""What may stand where somebody stops typing: files, words of a choice, names of fields, checks.

The names come from the files that stand on the line already, at a glance.
"""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from typing import Any, get_args

import click
from click.shell_completion import CompletionItem

from neat_delta.app.forms import Accepts, Choices, Form, OneOf
from neat_delta.core.base.model.accept import ACCEPTED_SOURCES
from neat_delta.core.base.model.store import CheckName
from neat_delta.files.glance import fields_of_changes, headings_at_a_glance, table_names

__all__ = ["completions"]

FILE_ARGUMENTS = {"live", "sheet", "changes", "catalogue", "after", "codes"}
CHECKS: tuple[str, ...] = get_args(CheckName)
CATALOGUES = ("live", "catalogue")
STORE_FILE = "neat-delta.toml"


def completions(
    context: click.Context, parameter: click.Parameter, form: Form | None, incomplete: str
) -> list[CompletionItem[Any]]:
    """What may stand there for a parameter, and begins as what was typed."""
    stands_for = str(parameter.metavar or "")
    if parameter.name in FILE_ARGUMENTS or stands_for in {"FILE", "REPORT"}:
        return [CompletionItem(incomplete, type="file")]
    if stands_for == "DIR":
        return [CompletionItem(incomplete, type="dir")]
    words = dict.fromkeys(_words(context, form, stands_for, incomplete))
    return [CompletionItem(word) for word in words if word.startswith(incomplete) and word.isprintable()]


def _words(context: click.Context, form: Form | None, stands_for: str, incomplete: str) -> Iterator[str]:
    if isinstance(form, OneOf):
        yield from form.words
    elif isinstance(form, Choices):
        yield from _choices(context, form, incomplete)
    elif isinstance(form, Accepts):
        name, mark, _ = incomplete.partition(":")
        yield from (f"{name}:{field}" for field in _fields(context)) if mark else (*ACCEPTED_SOURCES, *CHECKS)
    elif "|" in stands_for and stands_for.islower():
        yield from stands_for.split("|")
    elif stands_for == "FIELDS":  # several, with commas between
        lead, mark, _ = incomplete.rpartition(",")
        yield from (f"{lead}{mark}{field}" for field in _fields(context))
    elif stands_for.startswith("HEADING"):
        yield from _headings(context, incomplete, pairs="=" in stands_for)
    elif stands_for.startswith("FIELD"):
        mark = next((mark for mark in "=:" if mark in stands_for), "")
        yield from (f"{field}{mark}" for field in _fields(context))


def _choices(context: click.Context, form: Choices, incomplete: str) -> Iterator[str]:
    """The words of a choice, and with a field: after the word, or before it."""
    words = get_args(form.values)
    yield from (word for word in words if word not in form.single)
    if form.mark in incomplete or form.first:
        pairs = ((field, word) for field in _fields(context) for word in words)
        yield from (f"{field}{form.mark}{word}" if form.first else f"{word}{form.mark}{field}" for field, word in pairs)


def _headings(context: click.Context, incomplete: str, *, pairs: bool) -> Iterator[str]:
    """The headings of the sheet and of its mapping; in a pair what each may stand for."""
    mapping = context.params.get("mapping")
    names = [name for name in _files(context, "sheet") for name in headings_at_a_glance(name)]
    names += table_names(mapping, "headings") if isinstance(mapping, str) else []
    heading, mark, _ = incomplete.partition("=")
    if pairs and mark:
        yield from (f"{heading}={field}" for field in _fields(context))
    else:
        yield from (f"{name}=" if pairs else name for name in names)


def _fields(context: click.Context) -> Iterator[str]:
    """The fields of the live catalogue, of the change set, and of the store file."""
    for path in _files(context, *CATALOGUES):
        yield from headings_at_a_glance(path)
    for path in _files(context, "changes"):
        yield from fields_of_changes(path)
    store = context.params.get("store")
    yield from table_names(store if isinstance(store, str) else STORE_FILE, "fields")


def _files(context: click.Context, *names: str) -> list[str]:
    """The files that stand on the line in the place of these arguments."""
    arguments = [parameter.name for parameter in context.command.params if isinstance(parameter, click.Argument)]
    left = dict(zip(arguments, context.args, strict=False))  # an option without its value stops Click's parser
    paths = [context.params.get(name) or left.get(name) for name in names]
    return [path for path in paths if isinstance(path, str) and Path(path).is_file()]
