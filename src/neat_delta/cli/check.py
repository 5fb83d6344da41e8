"""`neat-delta check`: what is wrong in a catalogue by itself."""

from __future__ import annotations

from typing import Any

from neat_delta.app.requests import CheckRequest
from neat_delta.cli.common import (
    layout_from_options,
    layout_options,
    must_fit,
    output_options,
    print_json,
    read_store_option,
    screen,
    store_option,
    working,
)
from neat_delta.cli.options import argument, asked, settings_options, verb

__all__ = ["check"]


@verb(epilog="\b\nExample, on the demo's files:\n  neat-delta check live.csv")
@argument("catalogue")
@store_option
@output_options
@settings_options(CheckRequest)
@layout_options(two=False)
def check(catalogue: str, store: str | None, as_json: bool, **settings: Any) -> int:  # noqa: ANN401
    """Find what is wrong in CATALOGUE by itself.

    What a field may hold and how fields stand to each other is what the store file says; without one, kinds are learned
    from the catalogue, and there is little to check. Exit status 1 when more than notes is found.
    """
    from datetime import date

    import neat_delta
    from neat_delta.core.compare.checks import CHECKS
    from neat_delta.report.settings import as_options

    request = asked(CheckRequest, settings)
    store_file = read_store_option(store, catalogue)
    shop, store_path = store_file or (None, None)
    with working(f"Checking {catalogue}"):
        read = neat_delta.read(catalogue, layout_from_options("live", shop.file.layout if shop else None))
        must_fit(store_file, read.fields)
        checked = neat_delta.check(read, shop, request=request, today=date.today().isoformat())
    if as_json:
        from neat_delta.app.outputs import CatalogueFinding, CheckOutput

        print_json(
            CheckOutput(
                store=store_path,
                catalogue=read.source,
                found=[CatalogueFinding(**row) for row in checked.findings.to_dicts()],
                not_run={name: as_options(why) for name, why in checked.idle.items()},
            )
        )
    else:
        from neat_delta.report import terminal as report

        console, says = screen(), {name: (check.does, check.do) for name, check in CHECKS.items()}
        excepted = checked.findings.height - checked.open.height
        report.print_checked(console, read, checked.open, says, excepted=excepted)
        if console.detail != "waiting":
            report.print_idle(console, checked.idle)
    return 1 if checked.open["level"].is_in(["stop", "warn"]).any() else 0
