r"""Writes the manual pages, from the help that every command has: `python -m tools.man` writes those of `man/` anew.

The same program gives the same bytes: a page has no date. Form: man(7).
"""

from __future__ import annotations

import re
import sys
from pathlib import Path

import click

from neat_delta import __version__
from neat_delta.cli.main import VERBS, cli
from neat_delta.cli.options import records_in_groups

__all__ = ["pages"]

FOLDER = Path(__file__).parents[1] / "man"
STATUS = (
    ("0", "done"),
    ("1", "done, and something is held or was set aside, or did not land"),
    ("2", "the input or the call cannot be used; nothing was written"),
    ("130", "stopped from the keyboard; nothing is half written"),
)


def pages() -> dict[str, str]:
    r"""The manual pages by the names of their files.

    >>> pages()["neat-delta-write.1"].splitlines()[0]
    '.TH NEAT\\-DELTA\\-WRITE 1 "" "neat\\-delta 0.1.0" "Neat Delta"'
    """
    above = click.Context(cli, info_name="neat-delta")
    made = {"neat-delta.1": _overview(above)}
    for name in VERBS:
        command = cli.get_command(above, name)
        if command is not None:
            with click.Context(command, info_name=name, parent=above) as context:
                made[f"neat-delta-{name}.1"] = _page(context, name)
    return made


def _overview(context: click.Context) -> str:
    commands = [(f"\\fBneat\\-delta\\-{name}\\fR(1)", _text(does)) for name, does in VERBS.items()]
    parts = [
        _head("neat-delta", "what changed in an edited shop catalogue, and the smallest file that imports it"),
        ".SH SYNOPSIS\n\\fBneat\\-delta\\fR \\fICOMMAND\\fR [\\fIOPTIONS\\fR] \\fIFILES\\fR",
        f".SH DESCRIPTION\n{_paragraphs(context.command.help or '')}",
        ".SH COMMANDS\n" + _listed(commands),
        ".SH ENVIRONMENT\n"
        + _listed([("\\fBNEAT_DELTA_STORE\\fR", "the store file, where none is named"),
                   ("\\fBNO_COLOR\\fR", "no colour on the terminal")]),
        ".SH FILES\n" + _listed([("\\fIneat\\-delta.toml\\fR", "the store file, beside the live catalogue or above")]),
        _statuses(),
    ]  # fmt: skip
    return "\n".join(parts) + "\n"


def _page(context: click.Context, name: str) -> str:
    command = context.command
    usage = " ".join(command.collect_usage_pieces(context))
    parts = [
        _head(f"neat-delta-{name}", VERBS[name]),
        f".SH SYNOPSIS\n\\fBneat\\-delta {_text(name)}\\fR {_text(usage)}",
        f".SH DESCRIPTION\n{_paragraphs(command.help or '')}",
    ]
    for group, records in records_in_groups(command, context).items():
        options = [(f"\\fB{_text(words)}\\fR", _text(does)) for words, does in records]
        parts.append(f".SH {group.upper()}\n{_listed(options)}")
    if command.epilog:
        lines = command.epilog.replace("\b", "").strip().splitlines()
        parts.append(".SH EXAMPLES\n.nf\n" + "\n".join(_text(line.strip()) for line in lines[1:]) + "\n.fi")
    parts += [_statuses(), ".SH SEE ALSO\n\\fBneat\\-delta\\fR(1)"]
    return "\n".join(parts) + "\n"


def _head(name: str, does: str) -> str:
    title = _text(name)
    short = does[:1].lower() + does[1:].rstrip(".")
    return f'.TH {title.upper()} 1 "" "neat\\-delta {__version__}" "Neat Delta"\n.SH NAME\n{title} \\- {_text(short)}'


def _statuses() -> str:
    return ".SH EXIT STATUS\n" + _listed([(f"\\fB{status}\\fR", _text(what)) for status, what in STATUS])


def _listed(entries: list[tuple[str, str]]) -> str:
    return "\n".join(f".TP\n{name}\n{what}" for name, what in entries)


def _paragraphs(text: str) -> str:
    paragraphs = [" ".join(part.split()) for part in re.split(r"\n\s*\n", text.strip())]
    return "\n.PP\n".join(map(_text, paragraphs))


def _text(text: str) -> str:
    """A text as man(7) has it: marks that it would take for its own are escaped."""
    escaped = text.replace("\\", "\\e").replace("-", "\\-").replace("'", "\\(aq").replace("`", "\\(ga")
    return re.sub(r"^\.", "\\&.", escaped)


def main() -> None:
    """Write the pages, or with --check only say whether they are as they should be (exit status 1: they are not)."""
    made = pages()
    there = {path.name: path.read_text() for path in sorted(FOLDER.glob("*.1"))}
    if "--check" in sys.argv[1:]:
        sys.exit(0 if made == there else 1)
    FOLDER.mkdir(exist_ok=True)
    for name in there.keys() - made.keys():
        (FOLDER / name).unlink()
    for name, text in made.items():
        (FOLDER / name).write_text(text)


if __name__ == "__main__":
    main()
