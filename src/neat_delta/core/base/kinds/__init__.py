"""What sort of value a cell holds, one file a kind (exact_decimals share one); each is registered here, in one line."""

from __future__ import annotations

from neat_delta.core.base.kinds.base import Kind, blank
from neat_delta.core.base.kinds.choice import CHOICE
from neat_delta.core.base.kinds.code import CODE
from neat_delta.core.base.kinds.date import DATE
from neat_delta.core.base.kinds.flag import FLAG
from neat_delta.core.base.kinds.json import JSON
from neat_delta.core.base.kinds.link import IMAGE, LINK
from neat_delta.core.base.kinds.list import LIST
from neat_delta.core.base.kinds.measure import MEASURE
from neat_delta.core.base.kinds.number import DECIMAL, INTEGER, MONEY, exact_decimals
from neat_delta.core.base.kinds.path import PATH
from neat_delta.core.base.kinds.text import TEXT

__all__ = ["KINDS", "Kind", "blank", "exact_decimals"]

KINDS: dict[str, Kind] = {
    kind.name: kind
    for kind in (
        TEXT,
        CODE,
        INTEGER,
        DECIMAL,
        MONEY,
        FLAG,
        DATE,
        CHOICE,
        LIST,
        PATH,
        MEASURE,
        JSON,
        LINK,
        IMAGE,
    )
}
