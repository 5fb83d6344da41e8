"""The `neat-delta` command: its verbs, and how every error ends (exit status 2, a line or two, no traceback)."""

from __future__ import annotations

import contextlib
import gc
import os
import sys
from importlib import import_module
from typing import TYPE_CHECKING, NoReturn

import click

from neat_delta import __version__
from neat_delta.core.base.support.errors import NeatDeltaError

if TYPE_CHECKING:
    from neat_delta.files.sources.base import Terms

__all__ = ["COMPLETION", "main"]

COMPLETION = "_NEAT_DELTA_COMPLETE"
"""What a shell sets that asks what may stand somewhere; the name is Click's."""

VERBS = {
    "fetch": "Fetch a file from an address, whole or not at all.",
    "learn": "Draft the store file from LIVE, the store's export.",
    "sheet": "Cut a working sheet from LIVE, to be edited offline.",
    "check": "Find what is wrong in CATALOGUE by itself.",
    "match": "Show which heading of SHEET is which field of LIVE.",
    "compare": "Find what SHEET changes in LIVE, item by item.",
    "edit": "Change LIVE by rule: what to set, and in which items.",
    "recode": "Give items of LIVE the new codes of a list.",
    "preview": "Look at CHANGES, before and after.",
    "write": "Write the smallest files that import CHANGES, and undo.",
    "deliver": "Take the files of a folder to where the store gets them.",
    "script": "Write an SQL script that does what the files of a folder do.",
    "run": "Go through a round that FILE sets up, the same every week.",
    "practice": "Rehearse an import in a small shop on this machine.",
    "confirm": "See in the next export, and in the store's report, whether CHANGES landed.",
    "undo": "Write the files that take CHANGES back.",
    "history": "Tell what was changed, when, by which round, and what became of it.",
    "demo": "Go the whole round on a made-up shop, step by step.",
    "completion": "Print what a shell takes to complete what is typed.",
    "help": "Say what a command does, or how files are told to look.",
}
"""In the order of the work, each with what it does, so that none of them is loaded to say that. Each is the function of
that name in the file of that name beside this one.
"""


class _Verbs(click.Group):
    def resolve_command(
        self, ctx: click.Context, args: list[str]
    ) -> tuple[str | None, click.Command | None, list[str]]:
        if args and args[0] not in VERBS and not args[0].startswith("-") and not ctx.resilient_parsing:
            from neat_delta.core.base.support.nearest import did_you_mean

            known = f"There are: {', '.join(VERBS)}."
            raise click.UsageError(f'There is no command "{args[0]}".{did_you_mean(args[0], VERBS, known)}', ctx)
        return super().resolve_command(ctx, args)

    def list_commands(self, ctx: click.Context) -> list[str]:
        del ctx
        return list(VERBS)

    def get_command(self, ctx: click.Context, cmd_name: str) -> click.Command | None:
        del ctx
        if cmd_name not in VERBS:
            return None
        command: click.Command = getattr(import_module(f"neat_delta.cli.{cmd_name}"), cmd_name)
        return command

    def format_commands(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:
        del ctx
        with formatter.section("Commands"):
            formatter.write_dl(list(VERBS.items()))


@click.command(
    cls=_Verbs,
    context_settings={"help_option_names": ["-h", "--help"], "max_content_width": 100},
    epilog="Start with `neat-delta demo`: the whole round on a made-up shop. Exit status: 0 done; "
    "1 done, and something is held or was set aside; 2 the input or the call cannot be used.",
)
@click.version_option(__version__, message="neat-delta %(version)s")
def cli() -> None:
    """What changed in an edited shop catalogue, and the smallest file that imports it.

    Compare the live export with the sheet you edited, look at the changes, write the update file.
    No input is ever modified, and no update file is handed over unproven.
    """


def main() -> NoReturn:
    """Run the command line and exit."""
    gc.disable()  # one command makes no garbage in cycles, and looking for it among millions of cells takes a while
    try:
        from neat_delta.files.inputs import inputs_kept
        from neat_delta.files.sources import fetching

        if COMPLETION in os.environ:  # a shell asks what may stand there
            import_module("neat_delta.cli.completion")
        with inputs_kept(), fetching(_terms):
            status = cli(_words(sys.argv[1:]) or ["--help"], standalone_mode=False)
        sys.stdout.flush()
    except NeatDeltaError as error:
        from neat_delta.report.settings import as_options

        _fail(as_options(str(error)))
    except click.UsageError as error:
        help_line = f" See `{error.ctx.command_path} --help`." if error.ctx else ""
        _fail(error.format_message() + help_line)
    except click.ClickException as error:
        _fail(error.format_message())
    except (click.Abort, KeyboardInterrupt):
        click.echo("Stopped. Nothing is half written, and no input was changed.", err=True)
        _leave(130)
    except BrokenPipeError:  # whoever read the output has seen enough
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
        _leave(0)
    except OSError as error:  # standard output itself cannot be written
        _fail(f"the output cannot be written ({error.strerror}).")
    except MemoryError:
        _fail("there is not enough memory for files of this size. Cut them down to the items and fields you change.")
    except SystemExit:
        raise
    except BaseException as error:  # a panic in Polars is no Exception
        if os.environ.get("NEAT_DELTA_TRACEBACK"):
            raise
        _fail(
            f"a fault in Neat Delta itself ({type(error).__name__}: {error}). Nothing was handed over. "
            "Run it again with NEAT_DELTA_TRACEBACK=1 and report what it prints."
        )
    _leave(status if isinstance(status, int) else 0)


def _words(typed: list[str]) -> list[str]:
    """What was typed, without the secrets of addresses: nothing that is printed or written has them."""
    if not any("://" in word for word in typed):
        return typed
    from neat_delta.files.sources.address import without_secrets

    return without_secrets(typed)


def _terms() -> Terms:
    """How files are fetched, asked for when there is an address."""
    from neat_delta.cli.fetching import terms

    return terms()


def _fail(message: str) -> NoReturn:
    from neat_delta.report.text import UNSAFE

    plain = {
        mark: sign for mark, sign in UNSAFE.items() if mark != ord("\n")
    }  # what is in a file reaches no terminal raw
    click.echo(f"Error: {message.translate(plain)}", err=True)
    _leave(2)


def _leave(status: int) -> NoReturn:
    """End the program at once: giving gigabytes of tables back one by one takes a quarter of a second, which the system
    does for us; and a thread that waits for a pipe is not waited for.
    """
    for stream in (sys.stdout, sys.stderr):
        with contextlib.suppress(OSError, ValueError):
            stream.flush()
    os._exit(status)
