"""The terminal itself: a console of 80 columns or more, and the tables and lines that all output is made of."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal

from rich.cells import cell_len
from rich.console import Console, ConsoleOptions, ConsoleRenderable, RenderHook, RenderResult
from rich.segment import Segment
from rich.table import Table
from rich.text import Text

__all__ = [
    "LISTED",
    "STYLES",
    "Detail",
    "Screen",
    "print_entries",
    "print_fact",
    "print_some",
    "result_table",
    "terminal",
]


WIDEST = 110
"""On a wider terminal a line would tear before and after apart from the difference."""


LISTED = 10
"""How many of a list's entries are shown before the rest is only counted."""


Detail = Literal["waiting", "usual", "all"]
"""How much is printed: only what waits for a person, what is usually wanted, or every entry of every list."""


class Screen(Console):
    """A console for reports, which knows how much is to be printed.

    Rich finds the width, and leaves colour out without a terminal or with NO_COLOR.
    """

    def __init__(self, detail: Detail = "usual") -> None:
        super().__init__(highlight=False, markup=False, emoji=False, soft_wrap=False)
        self.detail = detail
        self.width = min(self.width, WIDEST)
        self.push_render_hook(_Trimming())

    def room(self, entries: int = LISTED) -> int | None:
        """How many of a list's entries are printed; None where all are."""
        return None if self.detail == "all" else entries

    def print_rest(self, entries: int, room: int | None, *, hint: str = "-v lists them", indent: str = "  ") -> None:
        """Say how many entries of a list were not printed, where only some of them were."""
        if room is not None and entries > room:
            self.print(f"{indent}and {entries - room:,} more; {hint}")


def terminal(detail: Detail = "usual") -> Screen:
    """A console for reports in so much detail."""
    return Screen(detail)


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


def print_fact(console: Screen, name: str, text: str, style: str = "") -> None:
    """A fact under its name, on as many lines as it takes."""
    table = Table.grid(padding=(0, 1, 0, 0))
    table.add_column(width=6, no_wrap=True)
    table.add_column(overflow="fold")
    table.add_row(Text(name, "bold"), Text(text, style))
    console.print(table)


STYLES = {"held": "magenta", "repaired": "green", "accepted": "yellow", "warned": "yellow", "noted": "dim"}
"""The colour of what was done about a finding; the word itself stands there, too."""


def print_some(
    console: Screen,
    title: str,
    lines: Sequence[Text],
    *,
    everything: bool = False,
    of: int | None = None,
    hint: str = "-v lists them",
) -> None:
    """Lines under a title, the first of them or all, and how many there are."""
    if not lines:
        return
    console.print(f"\n{title}", style="bold")
    print_entries(console, lines, None if everything else console.room(), of=of, hint=hint)


def print_entries(
    console: Screen, lines: Sequence[Text], room: int | None, *, of: int | None = None, hint: str = "-v lists them"
) -> None:
    """The entries of a list, the first so many of them or all (None): each in full, on as many lines as it takes."""
    for line in lines[:room]:
        first, *rest = line.wrap(console, console.width - 4) if cell_len(line.plain) > console.width else [line]
        console.print(first)
        for continued in rest:
            console.print(Text("    ").append_text(continued))
    console.print_rest(of or len(lines), room, hint=hint)


def result_table(*headings: str, right: Sequence[int] = ()) -> Table:
    """A plain table: no frame, a line under the headings, numbers to the right."""
    table = Table(box=None, pad_edge=False, padding=(0, 2, 0, 0), show_edge=False, header_style="bold")
    for number, heading in enumerate(headings):
        justify: Literal["right", "left"] = "right" if number in right else "left"
        table.add_column(heading, justify=justify, no_wrap=True)
    return table
