"""`neat-delta confirm`: whether what was sent stands in the next export."""

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

__all__ = ["confirm"]


@click.command(
    short_help="See in the next export whether CHANGES landed.",
    epilog="\b\nExample, on the demo's files (nothing has landed in the catalogue as it was):\n"
    "  neat-delta confirm changes.jsonl live.csv",
)
@click.argument("changes")
@click.argument("after")
@click.option("--files", "folder", metavar="DIR", help="What `write` made: what it held back is not looked for.")
@click.option("--retry", metavar="DIR", help="Write update files of what did not land into this new folder.")
@click.option("--live", metavar="FILE", help="Where the live catalogue is now.  [default: where compare found it]")
@click.option("--all", "everything", is_flag=True, help="Show all that did not land, and all that moved.")
@store_option
@layout_options(two=False)
@json_option
def confirm(
    changes: str,
    after: str,
    folder: str | None,
    retry: str | None,
    live: str | None,
    everything: bool,
    store: str | None,
    as_json: bool,
) -> int:
    """Look in AFTER, the export made after the import, whether CHANGES landed.

    Item by item: landed, not landed, or landed differently (rounded, cut, in other case). Items that AFTER has
    twice, and what else moved meanwhile, are listed apart. Exit status 0 only when all of it landed, and nothing stands
    there twice.
    """
    import neat_delta
    from neat_delta.core.outcome.unsent import as_sent
    from neat_delta.files.changeset import read_with_live
    from neat_delta.files.updates import read_manifest

    store_file = read_store_option(store)
    told = store_file[0] if store_file else None
    importer = told.importer if told else neat_delta.Importer()
    with working(f"Reading {changes} and {after}"):
        change_set, before = read_with_live(changes, live)
        now = neat_delta.read(
            after, layout_from_options("live", told.file.layout if told else change_set.header.live.layout), like=before
        )
        if folder is not None:
            change_set = as_sent(change_set, read_manifest(folder))
        result = neat_delta.confirm(change_set, before, now, told)
    written = None
    if retry is not None and result.trouble:
        with working("Writing and replaying"):
            written = neat_delta.write_updates(*neat_delta.retry(change_set, now, result, told), importer, retry)
    if as_json:
        moved = result.moved.to_dicts()
        facts = {"counts": result.counts, "trouble": result.trouble, "moved": moved}
        print_json(facts | {"came": result.came, "went": result.went, "twice": result.twice, "retry": written})
    else:
        from neat_delta.report import terminal as report
        from neat_delta.report.text import count

        print_live(changes, live, before.path)
        console = report.terminal()
        report.print_confirmed(console, result, change_set.header.key, after, everything=everything)
        if written is not None:
            left = sum(one.now is None and one.field is not None for one in result.trouble)
            rest = f" Not in them: {left:,} changes of items that are there no more." if left else ""
            console.print(f"\nWrote {count(len(written.update), 'update file')} to {retry}.{rest}", soft_wrap=True)
    return 0 if result.all_landed else 1
