"""What is let through although it was found, as a plain value."""

from __future__ import annotations

import msgspec

__all__ = ["ACCEPTED_SOURCES", "Accept"]

ACCEPTED_SOURCES = ("damage", "slip", "emptied", "near", "stale", "swapped", "rule", "list")
"""The sources of findings that can be let through by their name; of checks, it is the check's own."""


class Accept(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """What is let through although it was found: a check, or only its findings in one field or of one item."""

    check: str
    which: str | None = None

    def __str__(self) -> str:
        """As it is said on the command line."""
        return self.check if self.which is None else f"{self.check}:{self.which}"
