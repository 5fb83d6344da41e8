"""What a run is told besides its inputs, as small values."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from dataclasses import dataclass, field

from neat_delta.core.base.model.columns import ColumnOptions
from neat_delta.core.base.model.layout import Notation
from neat_delta.core.compare.decide.policy import Policy

__all__ = ["CompareOptions"]


@dataclass(frozen=True, slots=True)
class CompareOptions:
    """What `compare` is told: of columns, what is let through (`policy`), how the sheet writes values (`writing`; what
    it does not say, the cells show), the names of the image files there are (None: nobody said), today's date (ISO
    8601), by which standing exceptions end (None: none has ended), and whether the sheet is meant to have every item of
    live (`whole_sheet`), or every item `within` one value of these fields of the key, such as the price steps of one
    SKU, so that those that it lacks are gone.

    >>> CompareOptions(policy=Policy(with_new=True)).columns.key
    ()
    """

    columns: ColumnOptions = field(default_factory=ColumnOptions)
    policy: Policy = field(default_factory=Policy)
    writing: Notation = field(default_factory=Notation)
    images: Collection[str] | None = None
    today: str | None = None
    whole_sheet: bool = False
    within: Sequence[str] = ()

    @property
    def drops(self) -> bool:
        """Whether items that the sheet lacks may be gone."""
        return self.whole_sheet or bool(self.within)
