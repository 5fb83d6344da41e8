"""`neat-delta script`: what the files of a folder do, as SQL for people who run it themselves."""

from __future__ import annotations

import sys
from typing import get_args

import click

from neat_delta.cli.common import working
from neat_delta.cli.options import argument, option, verb
from neat_delta.core.base.model.rows import Dialect

__all__ = ["script"]


@verb(
    epilog="\b\nExample, on the demo's files:\n  neat-delta script out --table items --dialect mysql -o update.sql",
)
@argument("folder")
@option("--table", required=True, metavar="NAME", help="The table to change; SCHEMA.NAME where it has a schema.")
@option(
    "--dialect",
    type=click.Choice(get_args(Dialect)),
    default="postgresql",
    show_default=True,
    help="Whose SQL it is; mysql is MariaDB's, too.",
)
@option("-o", "output", metavar="FILE", help="Write it to FILE.  [default: standard output]")
@option("--replace", is_flag=True, help="Replace FILE if it is there.")
@option("--changes", metavar="FILE", help="Where the change set is now.  [default: beside FOLDER, or here]")
@option("--live", metavar="FILE", help="Where the live catalogue is now.  [default: where compare found it]")
def script(
    folder: str,
    table: str,
    dialect: Dialect,
    output: str | None,
    replace: bool,
    changes: str | None,
    live: str | None,
) -> int:
    """Write the SQL script that makes the changes of FOLDER, which `write` or `undo` made, in a table.

    One transaction: every row is changed if each stands as it did when the change was planned, and none otherwise.
    The script is first run on the live catalogue in SQLite, and has to give exactly the target; otherwise it is not
    handed over. `deliver` does the same by itself, where it may reach the database.
    """
    from neat_delta.app.script import script as sql_of
    from neat_delta.files.whole import write_new

    with working(f"Writing and running the script of {folder}"):
        text = sql_of(folder, table, dialect=dialect, changes=changes, live=live)
    if output in {None, "-"}:
        sys.stdout.write(text)
        return 0
    write_new({str(output): text.encode()}, replace=replace)
    click.echo(f"Wrote {output}: proven in SQLite on live. It changes {table} if all of it is as it was, or nothing.")
    return 0
