"""Texts and numbers as they are shown to a person: safe for a terminal, cut to fit, signed."""

from __future__ import annotations

import shlex
from decimal import Decimal
from typing import TYPE_CHECKING

from rich.cells import cell_len, set_cell_size

if TYPE_CHECKING:
    from neat_delta.core.base.model.header import FindingSummary

__all__ = ["command", "count", "cut", "display_text", "finding_count", "key_text", "quoted", "signed"]

BLANK = "(blank)"
# What could move the cursor, change colours or turn the direction of writing must not reach the terminal as it is.
UNSAFE = {number: chr(0x2400 + number) for number in range(32)} | {127: "␡", 10: "↵", 13: "↵", 9: "⇥"}
UNSAFE |= dict.fromkeys(
    [*range(0x80, 0xA0), 0x200B, 0x200E, 0x200F, *range(0x2028, 0x202F), *range(0x2060, 0x2070), 0xFEFF], "�"
)


def display_text(text: str) -> str:
    """A cell's text on one line, with marks for line breaks and control characters; "(blank)" for a blank one."""
    return text.replace("\r\n", "\n").translate(UNSAFE) if text.strip() else BLANK


def cut(text: str, width: int) -> str:
    """A text that is no wider than `width` columns of the terminal, with … where it was cut."""
    return text if cell_len(text) <= width else set_cell_size(text, max(width - 1, 0)).rstrip() + "…"


def quoted(word: str) -> str:
    """A word as a person would quote it for a shell."""
    return f'"{word}"' if "'" in word and not set(word) & set('"$`\\!') else shlex.quote(word)


def command(*words: str) -> str:
    """A call of the program, to be typed as it stands."""
    return " ".join(["neat-delta", *map(quoted, words)])


def key_text(key: dict[str, str]) -> str:
    """A key on one line."""
    return " / ".join(display_text(part) for part in key.values())


def count(number: int, singular: str, plural: str | None = None) -> str:
    """`1 item`, `1,204 items`."""
    return f"{number:,} {singular if number == 1 else plural or singular + 's'}"


def finding_count(finding: FindingSummary) -> str:
    """How much a finding is about: cells of a field, or items and rounds as a whole."""
    return count(finding.cells, "cell" if finding.fields else "finding")


def signed(number: Decimal | None, unit: str = "") -> str:
    """A difference with its sign, and a real minus; empty when there is none."""
    return "" if number is None else f"{number:+,f}{unit}".replace("-", "−")
