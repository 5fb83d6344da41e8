"""What the site of the docs has besides the pages in `docs/`: the README as its first page, the changelog, and the
reference: the help of every command, and every setting. MkDocs asks for it as a hook; nothing is fetched.
"""

from __future__ import annotations

import re
from pathlib import Path
from typing import TYPE_CHECKING

import click

from neat_delta.app import requests
from neat_delta.app.settings import Request, Setting, settings_of
from neat_delta.cli.main import VERBS, cli
from neat_delta.report.settings import as_options, option_of

if TYPE_CHECKING:
    from mkdocs.config.defaults import MkDocsConfig
    from mkdocs.structure.files import Files

__all__ = ["on_files", "reference"]

ROOT = Path(__file__).parents[1]


def on_files(files: Files, config: MkDocsConfig) -> Files:
    """Add what is made to the files of the site; MkDocs calls this before it builds."""
    from mkdocs.structure.files import File

    for name, text in reference().items():
        files.append(File.generated(config, name, content=text))
    return files


def reference() -> dict[str, str]:
    """The pages that are made, by their paths within the site.

    >>> sorted(reference())
    ['changelog.md', 'contributing.md', 'index.md', 'reference/commands.md', 'reference/settings.md']
    """
    return {
        "index.md": _of_the_root("README.md"),
        "changelog.md": _of_the_root("CHANGELOG.md"),
        "contributing.md": _of_the_root("CONTRIBUTING.md"),
        "reference/commands.md": _commands(),
        "reference/settings.md": _settings(),
    }


PLACES = {"CHANGELOG.md": "changelog.md", "CONTRIBUTING.md": "contributing.md", "README.md": "index.md"}


def _of_the_root(name: str) -> str:
    """A page of the project's root, with its links as they are within the site."""
    text = (ROOT / name).read_text("utf-8")
    text = re.sub(r"\]\((?:docs/)([^)]+)\)", r"](\1)", text)
    for page, place in PLACES.items():
        text = text.replace(f"]({page})", f"]({place})")
    return text.replace("[LICENSE](LICENSE)", "the file LICENSE").replace(
        "[Containerfile](Containerfile)", "Containerfile"
    )


def _commands() -> str:
    """The help of every command, as it prints it."""
    above = click.Context(cli, info_name="neat-delta", max_content_width=100)
    parts = ["# Commands\n\nWhat `neat-delta COMMAND --help` prints.\n"]
    for name in VERBS:
        command = cli.get_command(above, name)
        if command is not None:
            with click.Context(command, info_name=name, parent=above) as context:
                parts.append(f"## {name}\n\n```text\n{command.get_help(context)}\n```\n")
    return "\n".join(parts)


def _settings() -> str:
    """Every setting of every step, as the requests have them."""
    parts = [
        "# Settings\n\nWhat each step can be told: by an option, by a keyword of [the library](../library.md) under "
        "the name in the first column, and for lists in [the mapping file](../formats/mapping.md).\n"
    ]
    steps: dict[str, dict[str, Setting]] = {}
    for kind in vars(requests).values():
        if isinstance(kind, type) and issubclass(kind, Request) and kind is not Request:
            steps[kind.__name__.removesuffix("Request").lower()] = settings_of(kind)
    for step, settings in sorted(steps.items()):
        if settings:
            parts.append(f"## {step}\n\n| setting | option | what it does |\n| --- | --- | --- |")
            parts += [_row(name, setting) for name, setting in settings.items()]
            parts.append("")
    return "\n".join(parts)


def _row(name: str, setting: Setting) -> str:
    option = option_of(name) + (f" {setting.metavar}" if setting.metavar else "")
    cells = (f"`{name}`", f"`{option}`", as_options(setting.does))
    return "| " + " | ".join(cell.replace("|", "\\|") for cell in cells) + " |"
