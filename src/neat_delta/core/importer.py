"""How one store's importer behaves, as far as the update files depend on it."""

from __future__ import annotations

from typing import Literal

import msgspec

__all__ = ["Importer"]


class Importer(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """The importer matches rows by key, adds items it does not know, and leaves missing columns and items alone.

    `blanks` says what it does with a blank cell: `skip` leaves the field as it is, `clear` empties it. Files
    for an importer that clears do no harm with one that skips, so that is the one to take when nobody knows.
    """

    blanks: Literal["skip", "clear"] = "clear"
