"""What may be chosen among, as types that need no tables."""

from __future__ import annotations

from typing import Literal

__all__ = ["ItemOrder", "KeepMargin", "LevelShown", "Verdict"]

Verdict = Literal["changed", "recoded", "new", "gone"]
"""What becomes of an item that is not the same."""

ItemOrder = Literal["file", "key", "name", "size"]
"""The order of items on show: as in live, by key, by name, the largest change in per cent first."""

KeepMargin = Literal["percent", "amount"]
"""What of the margin a new price would keep where a cost rises."""

LevelShown = Literal["stop", "warn", "note"]
"""The levels of checks that have findings."""
