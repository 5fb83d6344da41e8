"""`neat-delta help`: what one command does, and how files are told to look, said once for all commands."""

from __future__ import annotations

import click

from neat_delta.app.forms import OneOf
from neat_delta.cli.common import LAYOUT
from neat_delta.cli.main import VERBS
from neat_delta.cli.options import argument, verb

__all__ = ["help"]

FILES = """What a file is, is found out from its content: delimited text (CSV) in any encoding, a workbook (.xlsx, .ods,
.xls), JSON, JSON Lines or Parquet, packed or not (gzip, zip, zstd). - is standard input. These options tell it instead.

Where a command reads several files, a value is for all of them, or for one, with live=, sheet=, base= or report= before
it: --encoding sheet=cp1250 --separator live=tab."""


@verb(
    name="help",
    epilog="\b\nExample:\n  neat-delta help files",
)
@argument("topic", required=False, form=OneOf("files", *VERBS))
@click.pass_context
def help(context: click.Context, topic: str | None) -> int:
    """Say what TOPIC is: a command by its name, or files: how one is told to look. Without one, what there is."""
    group = context.find_root().command
    above = context.find_root()
    if topic == "files":
        formatter = above.make_formatter()
        for part in FILES.split("\n\n"):
            formatter.write_text(part.replace("\n", " "))
            formatter.write_paragraph()
        formatter.write_dl([(f"--{name} {metavar}", does) for name, metavar, does in LAYOUT])
        click.echo(formatter.getvalue().rstrip("\n"))
        return 0
    if topic is None:
        click.echo(above.get_help())
        return 0
    command = group.get_command(above, topic) if isinstance(group, click.Group) else None
    if command is None:
        from neat_delta.core.base.support.nearest import did_you_mean

        names = ("files", *VERBS)
        known = f"There are: {', '.join(names)}."
        raise click.UsageError(f'There is no help on "{topic}".{did_you_mean(topic, names, known)}')
    with click.Context(command, info_name=topic, parent=above) as inner:
        click.echo(command.get_help(inner))
    return 0
