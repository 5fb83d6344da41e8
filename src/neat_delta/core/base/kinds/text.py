"""Text: the same after Unicode's normal form C, with any line end for any other, without outer white space."""

from __future__ import annotations

from neat_delta.core.base.kinds.base import Kind, folded, folded_text

__all__ = ["TEXT", "folded"]

TEXT = Kind("text", folded_text, article="")
