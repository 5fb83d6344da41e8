"""Every message of an error that a person sees, as it stands in the code: what is wrong, where, what to do next."""

from __future__ import annotations

import ast
import re
from pathlib import Path

import neat_delta
from neat_delta.app import requests
from neat_delta.app.settings import Request, settings_of
from neat_delta.core.base.support import errors
from neat_delta.report.settings import NAMED

SOURCE = Path(neat_delta.__file__).parent
ERRORS = {name for name, kind in vars(errors).items() if isinstance(kind, type) and issubclass(kind, Exception)}
ERRORS |= {"UsageError", "BadParameter"}
ERRORS -= {"ProofError", "SettingError"}  # a proof that fails is ours to mend; a setting is named by its option

OTHERS = {"practice": "the store's own words, as a store has them", "core/updates/prove": "what a proof found"}
"""Folders whose messages are no advice to a person."""

NEXT = re.compile(
    r"[;,] (?:and )?(?:name|say|choose|write|give|leave|make|put|see|mend|use|save|call|take|look|the key is)\b|"
    r"such as |goe?s? with |is none of|(?:it|there|It|There) (?:has|are|is): |counted from|Only one of|is to be|"
    r"^Name |^Say |are never modified"
)
"""What a message of one sentence has that says what is right: an example, a list, what goes with what."""


def text(node: ast.expr) -> str | None:
    """A message with its values as {}, if it is written out."""
    if isinstance(node, ast.Constant) and isinstance(node.value, str):
        return node.value
    if isinstance(node, ast.JoinedStr):
        return "".join(str(part.value) if isinstance(part, ast.Constant) else "{}" for part in node.values)
    if isinstance(node, ast.BinOp) and isinstance(node.op, ast.Add):
        return (text(node.left) or "{}") + (text(node.right) or "{}")
    return None


def messages() -> list[tuple[str, str, str]]:
    """Every message with the file and the error that it stands in."""
    listed = []
    for path in sorted(SOURCE.rglob("*.py")):
        home = path.relative_to(SOURCE).as_posix()
        if home.startswith(tuple(OTHERS)):
            continue
        for node in ast.walk(ast.parse(path.read_text())):
            call = node.exc if isinstance(node, ast.Raise) else None
            if isinstance(call, ast.Call) and call.args:
                name = call.func.attr if isinstance(call.func, ast.Attribute) else getattr(call.func, "id", "")
                message = text(call.args[0])
                if name in ERRORS and message is not None:
                    listed.append((home, name, message))
    return listed


def test_every_message_is_a_sentence_that_ends():
    """Or ends in what is filled in, an example or the nearest name, or after a colon in what is to be typed."""
    assert len(messages()) > 200
    wrong = [one for one in messages() if not re.search(r"[.?]$|\{\}$|: \S.*$", one[2].strip())]
    assert [one for one in wrong if one[0] not in UNFINISHED] == []


UNFINISHED = {"core/review/explain.py", "core/compare/lists/reshape.py", "core/sheets/rules/run.py"}
"""Their messages are completed by whoever knows the file."""


def test_every_message_says_what_to_do_next():
    """In a second sentence, or what is right in the first; or what to do is filled in at its end."""
    silent = []
    for home, _, message in messages():
        sentences = [part for part in re.split(r"(?<=[.?])\s+", message.strip()) if part]
        if len(sentences) < 2 and not message.rstrip(".").endswith("{}") and not NEXT.search(message[:-1]):
            silent.append((home, message))
    assert silent == []


def test_a_message_of_a_file_names_it_first():
    """What is read and written: the place stands before what is wrong, or the message begins with a capital."""
    wrong = [
        (home, message)
        for home, name, message in messages()
        if name in {"FileError", "OutputError", "ChangeSetError"} and home.startswith(("files/", "cli/"))
        if not re.match(r"\{\}|[A-Z‹-]", message)
    ]
    assert wrong == []


def test_what_a_message_calls_a_setting_is_one():
    """‹name› becomes an option on the command line: one that there is."""
    kinds = [kind for kind in vars(requests).values() if isinstance(kind, type) and issubclass(kind, Request)]
    names = {name for kind in kinds for name in settings_of(kind)}
    called = {name for path in SOURCE.rglob("*.py") for name in NAMED.findall(path.read_text())}
    options = called - names - {"with_new"}
    help_texts = "".join(page.read_text() for page in MANUAL)
    assert [name for name in options if f"\\-\\-{name.replace('_', chr(92) + '-')}" not in help_texts] == []


MANUAL = sorted((Path(__file__).parents[1] / "man").glob("*.1"))


def test_a_message_quotes_any_text_on_one_line():
    """Line breaks and tabs are told from what must not reach a terminal raw."""
    controls = "".join(map(chr, [0, 7, 27, 0x7F, 0x85, 0x9B, 0x2028, 0x2029]))
    quoted = str(errors.NeatDeltaError(f"a\tb\nc\r\nd\re{controls}f"))
    assert quoted == f"a b↵c↵d↵e{'�' * len(controls)}f"
