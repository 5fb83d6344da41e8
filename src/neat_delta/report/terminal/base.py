"""The terminal itself: a console of 80 columns or more, and the tables and lines that all output is made of."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Literal

from rich.console import Console, ConsoleOptions, ConsoleRenderable, RenderHook, RenderResult
from rich.segment import Segment
from rich.table import Table
from rich.text import Text

if TYPE_CHECKING:
    pass


__all__ = ["LISTED", "STYLES", "print_fact", "print_some", "result_table", "terminal"]


WIDEST = 110
"""On a wider terminal a line would tear before and after apart from the difference."""


LISTED = 10
"""How many of a list's entries are shown before the rest is only counted."""


def terminal() -> Console:
    """A console for reports. Rich finds the width, and leaves colour out without a terminal or with NO_COLOR."""
    console = Console(highlight=False, markup=False, emoji=False, soft_wrap=False)
    console.width = min(console.width, WIDEST)
    console.push_render_hook(_Trimming())
    return console


class _Trimming(RenderHook):
    """Ends every line where its last letter stands: tables and indents are padded with spaces otherwise."""

    def process_renderables(self, renderables: list[ConsoleRenderable]) -> list[ConsoleRenderable]:
        return [_Trimmed(renderable) for renderable in renderables]


@dataclass(frozen=True, slots=True)
class _Trimmed:
    printed: ConsoleRenderable

    def __rich_console__(self, console: Console, options: ConsoleOptions) -> RenderResult:
        for line in Segment.split_lines(console.render(self.printed, options)):
            while line and not line[-1].text.strip(" "):
                line.pop()
            if line:
                line[-1] = Segment(line[-1].text.rstrip(" "), line[-1].style, line[-1].control)
            yield from line
            yield Segment.line()


def print_fact(console: Console, name: str, text: str, style: str = "") -> None:
    """A fact under its name, on as many lines as it takes."""
    table = Table.grid(padding=(0, 1, 0, 0))
    table.add_column(width=6, no_wrap=True)
    table.add_column(overflow="fold")
    table.add_row(Text(name, "bold"), Text(text, style))
    console.print(table)


STYLES = {"held": "magenta", "repaired": "green", "accepted": "yellow", "noted": "yellow"}
"""The colour of what was done about a finding; the word itself stands there, too."""


def print_some(
    console: Console,
    title: str,
    lines: Sequence[Text],
    *,
    everything: bool,
    of: int | None = None,
    hint: str = "--all shows them",
) -> None:
    """Lines under a title, the first of them or all, and how many there are."""
    if not lines:
        return
    console.print(f"\n{title}", style="bold")
    total = of or len(lines)
    for line in lines if everything else lines[:LISTED]:
        line.truncate(console.width, overflow="ellipsis")
        console.print(line)
    if not everything and total > LISTED:
        console.print(f"  and {total - LISTED:,} more; {hint}")


def result_table(*headings: str, right: Sequence[int] = ()) -> Table:
    """A plain table: no frame, a line under the headings, numbers to the right."""
    table = Table(box=None, pad_edge=False, padding=(0, 2, 0, 0), show_edge=False, header_style="bold")
    for number, heading in enumerate(headings):
        justify: Literal["right", "left"] = "right" if number in right else "left"
        table.add_column(heading, justify=justify, no_wrap=True)
    return table
