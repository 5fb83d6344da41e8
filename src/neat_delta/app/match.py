"""Which heading of a sheet is which field, before anything is compared."""

from __future__ import annotations

from dataclasses import dataclass

from neat_delta.core.match.prepare import ANY_COLUMNS, AlignedInputs, align_inputs
from neat_delta.core.model.catalogue import Catalogue
from neat_delta.core.model.columns import ColumnOptions
from neat_delta.core.model.lists import ListMapping
from neat_delta.core.model.store import Store
from neat_delta.core.review.samples import ColumnSample, mapping_to_keep, samples

__all__ = ["Matches", "match"]

SAMPLES = 3
"""So many values of each heading are shown."""


@dataclass(frozen=True, slots=True)
class Matches:
    """Two catalogues with their columns matched; each heading of the sheet with its field and a few values of both; and
    what is worth keeping for the next such sheet.
    """

    aligned: AlignedInputs
    samples: list[ColumnSample]
    mapping: ListMapping


def match(
    live: Catalogue, sheet: Catalogue, store: Store | None = None, *, columns: ColumnOptions = ANY_COLUMNS
) -> Matches:
    """Match the headings of a sheet with live's fields. CatalogueError when a name in `columns` is none, two headings
    mean one field, or the sheet lacks the key.

    >>> from neat_delta import as_catalogue
    >>> live = as_catalogue({"sku": ["QA-1"], "cost": ["5.00"]}, "live")
    >>> sheet = as_catalogue({"SKU": ["QA-1"], "Trade": ["5.20"]}, "sheet")
    >>> [(one.heading, one.field) for one in match(live, sheet).samples]
    [('SKU', 'sku'), ('Trade', None)]
    """
    aligned = align_inputs(live, sheet, store=store, columns=columns)
    return Matches(aligned, samples(aligned, sheet, SAMPLES), mapping_to_keep(aligned))
