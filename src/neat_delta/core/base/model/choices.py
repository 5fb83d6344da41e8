"""What may be chosen among, as types that need no tables."""

from __future__ import annotations

from typing import Literal

__all__ = ["ItemOrder", "KeepMargin", "LevelShown", "LooksAt", "Verdict"]

Verdict = Literal["changed", "recoded", "new", "gone"]
"""What becomes of an item that is not the same."""

ItemOrder = Literal["file", "key", "name", "size"]
"""The order of items on show: as in live, by key, by name, the largest change in per cent first."""

KeepMargin = Literal["percent", "amount"]
"""What of the margin a new price would keep where a cost rises."""

LevelShown = Literal["stop", "warn", "note"]
"""The levels of checks that have findings."""

LooksAt = Literal["cell", "item", "column", "neighbours", "round"]
"""What a check, a damage or a slip has to see to judge: a cell before and after, with its field's settings; the cells
of one item; all of a column, live's or the sheet's; other columns too, or the rows above and below; or the round as a
whole. What needs no more than an item comes out the same in every part of a catalogue.
"""
