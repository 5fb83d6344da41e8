"""What is to be said of a change set, gathered once for every form it takes: terminal, page, message, a program."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from neat_delta.core.base.model.catalogue import Catalogue
    from neat_delta.core.base.model.changeset import ChangeSet
    from neat_delta.core.review.figures import FieldFigures
    from neat_delta.core.review.impact import ImpactFacts
    from neat_delta.core.review.records import Records
    from neat_delta.core.review.totals import Total
    from neat_delta.core.review.view import View

__all__ = ["Facts"]


@dataclass(frozen=True, slots=True)
class Facts:
    """A change set and what is told of it. `view` are the items that are looked at, with their names; `by` is the field
    that the impact is grouped by, if one was named; `totals` what items come to over their locations.
    """

    changes: ChangeSet
    view: View
    figures: Sequence[FieldFigures]
    effect: ImpactFacts
    by: str | None = None
    live: Catalogue | None = None
    records: Records | None = None
    totals: Sequence[Total] = ()

    @property
    def category(self) -> str | None:
        """The field that items are put into groups by: the one that was named, or the first path of live."""
        paths = [name for name, field in self.changes.header.settings.items() if field.kind == "path"]
        return self.by or next(iter(paths), None)
