"""`neat-delta fetch`: a file from an address, whole or not at all."""

from __future__ import annotations

import click

from neat_delta.cli.common import (
    detail,
    layout_from_options,
    layout_options,
    must_be_one_output,
    output_options,
    print_json,
    working,
)
from neat_delta.cli.options import argument, option, verb

__all__ = ["fetch"]


@verb(
    epilog="\b\nExample:\n  neat-delta fetch sftp://anna@files.quillfern.example/out/export-*.csv -o live.csv",
)
@argument("address")
@option("-o", "output", metavar="FILE", help="Write it to FILE; - is standard output.  [default: as it is called]")
@option("--replace", is_flag=True, help="Replace FILE if it is there.")
@layout_options(two=False)
@output_options
def fetch(address: str, output: str | None, replace: bool, as_json: bool) -> int:
    """Fetch what is at ADDRESS: a file of the web, of an FTP, SSH or S3 server (the newest, of a pattern), or a
    table of a database as CSV.

    Every command takes an address wherever it takes a file; this is for looking at it first, or for keeping it.
    `neat-delta help addresses` says which there are, and where passwords are kept.
    """
    from neat_delta.files.sources.address import is_address, parse
    from neat_delta.files.sources.fetch import fetch as fetch_file
    from neat_delta.files.whole import copy_new, print_whole

    if not is_address(address):
        raise click.UsageError(f"{address}: this is no address. One begins with https://, sftp://, postgresql:// …")
    must_be_one_output(output, as_json=as_json)
    query = layout_from_options("live").query
    with working(f"Fetching {parse(address).masked}"):
        fetched = fetch_file(address, query)
    where = parse(fetched.address)
    name = output or (f"{where.fragment}.csv" if where.fragment else where.path.rpartition("/")[2])
    if not name:
        raise click.UsageError("The address names no file. Say with -o how it is to be called.")
    if name == "-":
        print_whole(fetched.path)
        return 0
    copy_new(fetched.path, name, replace=replace)
    size = fetched.path.stat().st_size
    if as_json:
        from neat_delta.app.outputs import FetchOutput

        modified = fetched.state.modified
        print_json(
            FetchOutput(
                output=name, address=fetched.address, blake3=fetched.digest, bytes=size, same=fetched.same,
                modified=None if modified is None else modified.isoformat(),
            )
        )  # fmt: skip
    elif detail() != "waiting":
        click.echo(f"Wrote {name}: {size:,} bytes, as they are at {fetched.address}.")
    return 0
