"""`neat-delta help`: what one command does, and how files are told to look, said once for all commands."""

from __future__ import annotations

import click

from neat_delta.app.forms import OneOf
from neat_delta.cli.common import LAYOUT, MACHINE, OLDER_THAN
from neat_delta.cli.main import VERBS
from neat_delta.cli.options import argument, verb

__all__ = ["help"]

FILES = """What a file is, is found out from its content: delimited text (CSV) in any encoding, a workbook (.xlsx, .ods,
.xls), JSON, JSON Lines or Parquet, packed or not (gzip, zip, zstd). - is standard input. These options tell it instead.

Where a command reads several files, a value is for all of them, or for one, with live=, sheet=, base= or report= before
it: --encoding sheet=cp1250 --separator live=tab."""


ADDRESSES = """Wherever a file is read, it may be named by an address: https://, http://, ftp://, ftps://, sftp://, s3://
(and what else fsspec opens), or a table of a database: postgresql://HOST/DATABASE#TABLE, mysql://HOST/DATABASE#TABLE,
sqlite:///FILE#TABLE, or what --query asks it. Of a pattern at the end, as in sftp://HOST/out/export-*.csv, the newest
file is taken. http, https, ftp and ftps need nothing more; pip install 'neat-delta[remote,database]' installs what the
others do.

What is fetched comes whole or not at all, once, and is kept in the cache folder ($XDG_CACHE_HOME/neat-delta), so that
later commands have the very bytes that were compared; what is not used for thirty days goes.

User, password and token are best kept outside of an address, which the list of processes shows. They are looked for, by
host, in: the environment (NEAT_DELTA_USER_SHOP_EXAMPLE, NEAT_DELTA_PASSWORD_SHOP_EXAMPLE and
NEAT_DELTA_TOKEN_SHOP_EXAMPLE for the host shop.example); ~/.config/neat-delta/credentials.toml, of mode 600, with
["shop.example"] and user, password, token or key_file under it; ~/.netrc, of mode 600; the system's keyring, where the
package keyring is installed. SSH asks its agent and the keys in ~/.ssh; S3 the environment and files of AWS, with
AWS_ENDPOINT_URL for another server.

TLS is always verified (SSL_CERT_FILE names an authority of your own), and an SSH host must be in ~/.ssh/known_hosts."""

TOPICS = {"files": FILES, "addresses": ADDRESSES}


@verb(
    name="help",
    epilog="\b\nExample:\n  neat-delta help files",
)
@argument("topic", required=False, form=OneOf(*TOPICS, *VERBS))
@click.pass_context
def help(context: click.Context, topic: str | None) -> int:
    """Say what TOPIC is: a command by its name; files: how one is told to look; addresses: where one may be. Without
    one, what there is.
    """
    group = context.find_root().command
    above = context.find_root()
    if topic in TOPICS:
        formatter = above.make_formatter()
        for part in TOPICS[topic].split("\n\n"):
            formatter.write_text(part.replace("\n", " "))
            formatter.write_paragraph()
        if topic == "files":
            options = [(f"--{name} {metavar}", does) for name, metavar, does in LAYOUT]
            options += [(f"{name} {metavar}", does) for name, metavar, does in (OLDER_THAN, *MACHINE)]
            formatter.write_dl(options)
        click.echo(formatter.getvalue().rstrip("\n"))
        return 0
    if topic is None:
        click.echo(above.get_help())
        return 0
    command = group.get_command(above, topic) if isinstance(group, click.Group) else None
    if command is None:
        from neat_delta.core.base.support.nearest import did_you_mean

        names = (*TOPICS, *VERBS)
        known = f"There are: {', '.join(names)}."
        raise click.UsageError(f'There is no help on "{topic}".{did_you_mean(topic, names, known)}')
    with click.Context(command, info_name=topic, parent=above) as inner:
        click.echo(command.get_help(inner))
    return 0
