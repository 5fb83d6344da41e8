"""`neat-delta check`: what is wrong in a catalogue by itself."""

from __future__ import annotations

import click

from neat_delta.cli.common import (
    images_in,
    images_option,
    json_option,
    key_option,
    layout_from_options,
    layout_options,
    must_fit,
    print_json,
    read_store_option,
    store_option,
    working,
)

__all__ = ["check"]


@click.command(epilog="\b\nExample, on the demo's files:\n  neat-delta check live.csv")
@click.argument("catalogue")
@images_option
@store_option
@key_option
@layout_options(two=False)
@json_option
def check(catalogue: str, images: str | None, store: str | None, key: tuple[str, ...], as_json: bool) -> int:
    """Find what is wrong in CATALOGUE by itself.

    What a field may hold and how fields stand to each other is what the store file says; without one, kinds are learned
    from the catalogue, and there is little to check. Exit status 1 when more than notes is found.
    """
    from datetime import date

    import neat_delta
    from neat_delta.core.checks import CHECKS
    from neat_delta.report.settings import as_options

    store_file = read_store_option(store, catalogue)
    shop, store_path = store_file or (None, None)
    with working(f"Checking {catalogue}"):
        read = neat_delta.read(catalogue, layout_from_options("live", shop.file.layout if shop else None))
        must_fit(store_file, read.fields)
        today = date.today().isoformat()
        checked = neat_delta.check(read, shop, key=key, images=images_in(images), today=today)
    if as_json:
        found_ones = checked.findings.to_dicts()
        print_json(
            {
                "store": store_path,
                "catalogue": read.source,
                "found": found_ones,
                "not_run": {name: as_options(why) for name, why in checked.idle.items()},
            }
        )
    else:
        from neat_delta.report import terminal as report

        console, says = report.terminal(), {name: (one.does, one.do) for name, one in CHECKS.items()}
        excepted = checked.findings.height - checked.open.height
        report.print_checked(console, read, checked.open, says, excepted=excepted)
        report.print_idle(console, checked.idle)
    return 1 if checked.open["level"].is_in(["stop", "warn"]).any() else 0
