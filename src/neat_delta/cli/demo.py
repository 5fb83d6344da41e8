"""`neat-delta demo`: a round on the demo store, and a chapter for each thing more, each command run for real."""

from __future__ import annotations

import contextlib
import os
import shlex
import sys
from collections.abc import Iterator
from importlib import import_module
from importlib.resources import files
from pathlib import Path

import click

from neat_delta.app.forms import OneOf
from neat_delta.cli.common import make_folder, screen
from neat_delta.cli.options import argument, option, verb
from neat_delta.demo.chapters import CHAPTERS, ROUND, Chapter, Step

__all__ = ["demo"]

FILES = (
    *("live.csv", "jars.csv", "sheet.csv", "fresh.csv", "supplier.csv", "codes.csv", "quotes.csv", "stock.csv"),
    *("count.csv", "neat-delta.toml", "soderbi.toml", "retail.toml", "stock.toml", "count.toml", "buffer.toml"),
    *("weekly.toml", "sale.toml"),
)
FOLDER = "quillfern-demo"
FOLDERS = ("polled", "handed-over")
"""What files are delivered into."""
STORE = "NEAT_DELTA_STORE"
EVERYTHING = "all"
WIDTH = 88
"""Characters of a line of what is told."""


@verb(epilog="\b\nExamples:\n  neat-delta demo\n  neat-delta demo tuesday --to quillfern-demo")
@argument("chapter", required=False, form=OneOf(*CHAPTERS, EVERYTHING))
@option(
    "--to",
    "folder",
    metavar="DIR",
    default=FOLDER,
    show_default=True,
    help="The folder to work in; it is made if need be.",
)
def demo(chapter: str | None, folder: str) -> int:
    """Go one round on a made-up shop, step by step; or a CHAPTER more, all of them one after the other.

    The folder has the shop's files, and what every command made of them: what can be typed there, you can type, too.
    """
    names = _chapters(chapter)
    _lay_out(Path(folder))
    for name in names:
        _go_through(CHAPTERS.get(name, ROUND), folder)
    if chapter is None:
        into = "" if folder == FOLDER else f" --to {shlex.quote(folder)}"
        click.echo("\nMore, a chapter each, or all of them:")
        calls = {name + into: part.about for name, part in CHAPTERS.items()} | {EVERYTHING + into: "one by one"}
        widest = max(map(len, calls))
        for call, about in calls.items():
            click.echo(f"  neat-delta demo {call:<{widest}}  {about}")
    return 0


def _chapters(chapter: str | None) -> list[str]:
    """The names of the chapters to go through; of the round there is none."""
    if chapter is None:
        return [""]
    if chapter == EVERYTHING:
        return ["", *CHAPTERS]
    if chapter not in CHAPTERS:
        from neat_delta.core.base.support.nearest import did_you_mean

        names = (*CHAPTERS, EVERYTHING)
        known = f"There are: {', '.join(names)}."
        raise click.UsageError(f'There is no chapter "{chapter}".{did_you_mean(chapter, names, known)}')
    return [chapter]


def _go_through(chapter: Chapter, folder: str) -> None:
    """Say what a chapter is about, run its steps in the folder, and say how to go on."""
    _say(f"{chapter.about[0].upper()}{chapter.about[1:]}.", f"{chapter.introduction} The files are in {folder}.")
    with _shop(folder) if chapter.shop else contextlib.nullcontext("") as shop:
        for step in chapter.steps:
            _say(step.title, step.words)
            screen().print(f"\n$ neat-delta {step.command}\n", style="bold", soft_wrap=True)
            sys.stdout.flush()
            with contextlib.chdir(folder), _without_store():
                _type(step)
                _run([word.replace("$SHOP", shop) for word in shlex.split(step.command)])
    if chapter.next:
        click.echo("\n" + chapter.next.replace("{folder}", folder))


@contextlib.contextmanager
def _shop(folder: str) -> Iterator[str]:
    """A practice store with the demo's catalogue, open while a chapter goes; its address."""
    import neat_delta
    from neat_delta.practice.server import serving
    from neat_delta.practice.shop import Shop

    store = neat_delta.read_store(f"{folder}/neat-delta.toml")
    with serving(Shop(neat_delta.read(f"{folder}/live.csv", store.file.layout), store), PORT) as address:
        os.environ["SHOP"] = address
        try:
            yield address
        finally:
            del os.environ["SHOP"]


PORT = 8421
"""Where a practice store listens, if nobody else does."""


@contextlib.contextmanager
def _without_store() -> Iterator[None]:
    """As if the environment named no store file: the demo has its own."""
    store = os.environ.pop(STORE, None)
    try:
        yield
    finally:
        if store is not None:
            os.environ[STORE] = store


def _run(words: list[str]) -> None:
    """Run a command as if it had been typed."""
    from neat_delta.files.inputs import inputs_kept

    name, *arguments = words
    command: click.Command = getattr(import_module(f"neat_delta.cli.{name}"), name)
    with inputs_kept():
        command.main(arguments, standalone_mode=False)


def _type(step: Step) -> None:
    """Change in a file what somebody changes in it before a step."""
    from neat_delta.files.whole import write_whole

    if step.typed is not None:
        name, changes = step.typed
        content = Path(name).read_bytes()
        for old, new in changes:
            content = content.replace(old.encode(), new.encode())
        write_whole(name, [content])


def _lay_out(folder: Path) -> None:
    """Put the demo's files into the folder; those that were edited are never lost."""
    from neat_delta.core.base.support.errors import OutputError
    from neat_delta.files.whole import write_whole

    shipped = {name: files("neat_delta.demo").joinpath(name).read_bytes() for name in FILES}
    edited = [name for name in FILES if (folder / name).exists() and (folder / name).read_bytes() != shipped[name]]
    if edited:
        raise OutputError(
            f"{folder / edited[0]}: this is not the demo's file as it was; you may have edited it. "
            "Choose another folder with --to, or work on in that one: neat-delta compare live.csv jars.csv"
        )
    for name in FOLDERS:
        make_folder(str(folder / name))
    for name, content in shipped.items():
        write_whole(str(folder / name), [content])


def _say(title: str, words: str) -> None:
    from rich.text import Text

    console = screen()
    console.print()
    console.print(Text.assemble((title, "bold"), " ", " ".join(words.split())), width=min(console.width, WIDTH))
