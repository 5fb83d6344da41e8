"""`neat-delta undo`: the files that take a change set back, made later."""

from __future__ import annotations

import click

from neat_delta.cli.common import (
    json_option,
    layout_from_options,
    layout_options,
    print_json,
    print_live,
    read_store_option,
    store_option,
    working,
)

__all__ = ["undo"]


@click.command(
    short_help="Write the files that take CHANGES back.",
    epilog="\b\nExample, on the demo's files:\n  neat-delta undo changes.jsonl --to back",
)
@click.argument("changes")
@click.option("--to", "folder", required=True, metavar="DIR", help="The folder to make for the files.")
@click.option(
    "--now",
    metavar="FILE",
    help="A fresh export: only what still stands as it was set is taken back.  [default: as if all of it landed]",
)
@click.option(
    "--files",
    metavar="DIR",
    help="The folder that `write` made: what was held there, or not signed off, was never sent and is not taken back.",
)
@click.option("--live", metavar="FILE", help="Where the live catalogue is now.  [default: where compare found it]")
@click.option("--replace", is_flag=True, help="Replace DIR if everything in it came from Neat Delta.")
@store_option
@layout_options(two=False)
@json_option
def undo(
    changes: str,
    folder: str,
    now: str | None,
    files: str | None,
    live: str | None,
    replace: bool,
    store: str | None,
    as_json: bool,
) -> int:
    """Write the files that take CHANGES back, under the same importer's rules, and prove them.

    With a fresh export, what somebody changed since is left alone and listed. Exit status 1 when something is.
    """
    import neat_delta
    from neat_delta.core.outcome.unsent import as_sent
    from neat_delta.files.changeset import read_with_live
    from neat_delta.files.updates import read_manifest

    store_file = read_store_option(store)
    told = store_file[0] if store_file else None
    importer = told.importer if told else neat_delta.Importer()
    with working(f"Reading {changes} and its live catalogue"):
        change_set, before = read_with_live(changes, live)
        if files is not None:
            change_set = as_sent(change_set, read_manifest(files))
        layout = layout_from_options("live", told.file.layout if told else change_set.header.live.layout)
        fresh = None if now is None else neat_delta.read(now, layout, like=before)
        back, base, left = neat_delta.undo(change_set, before, fresh, told)
    with working("Writing and replaying"):
        manifest = neat_delta.write_updates(back, base, importer, folder, replace=replace)
    if as_json:
        print_json({"folder": folder, "manifest": manifest, "left": left})
    else:
        from neat_delta.cli.write import said_form
        from neat_delta.files.updates import layout_of
        from neat_delta.report import terminal as report
        from neat_delta.report.outcome import print_left

        print_live(changes, live, before.path)
        console = report.terminal()
        print_left(console, left)
        report.print_written(console, folder, manifest, said_form(importer, layout_of(base, importer)))
    return 1 if left or manifest.held else 0
