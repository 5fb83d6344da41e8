"""What a database has otherwise than when the changes of a table were planned, as a table on the terminal."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

from rich.text import Text

from neat_delta.report.console import result_table
from neat_delta.report.text import count, display_text, key_text

if TYPE_CHECKING:
    from neat_delta.core.base.model.rows import Difference
    from neat_delta.report.terminal import Screen

__all__ = ["print_differences"]


def print_differences(console: Screen, to: str, differences: Sequence[Difference]) -> None:
    """Say that nothing was changed, and side by side why: what stood there, what is meant, what stands there now."""
    rows = len({tuple(difference.key.items()) for difference in differences})
    stand = "is not as it was" if rows == 1 else "are not as they were"
    console.print(
        f"\n{count(rows, 'row')} of {to} {stand} when this was planned: nothing was changed", style="bold magenta",
        soft_wrap=True,
    )  # fmt: skip
    table = result_table("  item", "field", "stood there", "is meant", "stands there now")
    room = console.room()
    for difference in differences if room is None else differences[:room]:
        now = "no such row" if difference.now is None else display_text(difference.now)
        before, after = difference.before, difference.after
        table.add_row(
            Text(f"  {key_text(dict(difference.key))}"),
            Text(difference.field or "", "dim"),
            Text("" if before is None else display_text(before)),
            Text("" if after is None else display_text(after)),
            Text(now),
        )
    console.print(table)
    console.print_rest(len(differences), room)
    console.print(
        "\nCompare again with the table as it is now, and name the export that the sheet was cut from with --base.",
        soft_wrap=True,
    )
