"""One round of comparing as it goes from stage to stage: what each needs, and what each adds."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import partial
from typing import TYPE_CHECKING, Any

import polars as pl

from neat_delta.core.base.model.schemas import CELL_FINDINGS, TEXTS, empty
from neat_delta.core.base.support.series import gathered
from neat_delta.core.compare.options import CompareOptions
from neat_delta.core.compare.rows import Placed, named_within
from neat_delta.core.sheets.match.base import align_base

if TYPE_CHECKING:
    from neat_delta.core.base.model.catalogue import Catalogue
    from neat_delta.core.base.model.changeset import ChangeSet
    from neat_delta.core.base.model.header import LikelyCode
    from neat_delta.core.base.model.store import Field, Store
    from neat_delta.core.compare.detect import Detected
    from neat_delta.core.compare.diff.clashes import Merged
    from neat_delta.core.compare.diff.outcomes import Outcomes
    from neat_delta.core.sheets.match.base import Based
    from neat_delta.core.sheets.match.prepare import AlignedInputs
    from neat_delta.core.sheets.match.rows import Matched

__all__ = ["Draft", "Round"]


def _later() -> Any:  # noqa: ANN401 - what a stage will put there
    """Nothing yet: a stage puts it there, and those after it may look."""
    return None


@dataclass(frozen=True, slots=True)
class Draft:
    """The change set before anything of it is held; its cells with what their kinds say of them
    (`checks.value_findings`); the findings that are `decided`; and those of cells and items that are not yet.
    """

    changes: ChangeSet
    cells: pl.DataFrame
    decided: pl.DataFrame
    findings: pl.DataFrame


@dataclass(frozen=True, slots=True)
class Round:
    """Items and fields, as it came (`live`, `sheet`, what the `store` file says, the `options`; a list of `codes`, or a
    sheet that only is one: `listed_codes`; the `base` that was given or that the sheet remembers: `remembered`).

    Then, stage by stage: the inputs side by side (`aligned`) and whether the sheet is `stale`; their `rows`, with a
    base its rows (`based`), the code changes that the store made since (`followed`) and the base as it was then read
    (`own_base`); the `texts` that the sheet changed and those that the store did (`by_store`), what is `known` of the
    store, the `fields` that both have, the `outcomes` of the texts; each cell that differs (`deltas`), what was
    `detected` in them, and all `findings`; with a base, what was `merged`; what is `decided` of the findings; the
    `draft`; what the checks found (`checked`); the `changes`.
    """

    live: Catalogue
    sheet: Catalogue
    store: Store | None
    options: CompareOptions
    codes: Catalogue | None = None
    base: Catalogue | None = None
    listed_codes: bool = False
    remembered: bool = False
    stale: bool = False
    aligned: AlignedInputs = field(default_factory=_later)
    rows: Placed = field(default_factory=_later)
    based: Based | None = None
    followed: Sequence[LikelyCode] = ()
    own_base: Catalogue | None = None
    texts: pl.DataFrame = field(default_factory=_later)
    by_store: pl.DataFrame = field(default_factory=partial(empty, TEXTS))
    known: Store = field(default_factory=_later)
    fields: Mapping[str, Field] = field(default_factory=_later)
    outcomes: Outcomes = field(default_factory=_later)
    deltas: pl.DataFrame = field(default_factory=_later)
    detected: Detected = field(default_factory=_later)
    findings: pl.DataFrame = field(default_factory=partial(empty, CELL_FINDINGS))
    merged: Merged | None = None
    decided: pl.DataFrame = field(default_factory=_later)
    draft: Draft = field(default_factory=_later)
    checked: pl.DataFrame = field(default_factory=_later)
    changes: ChangeSet = field(default_factory=_later)

    @property
    def seen_from(self) -> AlignedInputs:
        """The inputs as the sheet's own changes are seen: with the base, if there is one, in live's place."""
        return self.aligned if self.based is None else replace(self.aligned, live=self.based.base)

    @property
    def matched(self) -> Matched:
        """The sheet's rows in live, or in the base."""
        return self.rows.matched if self.based is None else self.based.matched

    @property
    def cut_with(self) -> Catalogue | None:
        """The items that a working sheet was cut with, if it says so."""
        if self.sheet.memory is None:
            return None
        return self.own_base if self.remembered else align_base(self.sheet.memory, self.aligned)

    @property
    def arriving(self) -> pl.Series:
        """Which of the sheet's new rows are items of the change set: all but those that are gone from the store."""
        new_places = pl.int_range(self.rows.matched.new.len(), dtype=pl.UInt32, eager=True)
        if self.merged is None:
            return new_places
        left = self.left_to_store - self.aligned.live.height
        return new_places.filter(~new_places.is_in(self.merged.departed.implode()) & ~new_places.is_in(left.implode()))

    @property
    def leaving(self) -> pl.Series:
        """The places in live of the items that a whole sheet lacks; with a base, of those that it had."""
        gone = self.rows.matched.gone
        if self.options.within and not self.options.whole_sheet:
            gone = named_within(self.aligned.live, self.rows.sheet, gone, self.options.within, self.aligned.key)
        if self.based is None:
            return gone
        return gone.filter(gathered(self.based.at, gone).is_not_null() & ~gone.is_in(self.left_to_store.implode()))

    @property
    def left_to_store(self) -> pl.Series:
        """The items that clash as a whole and stay as the store has them."""
        clash = (pl.col("source") == "clash") & (pl.col("done") == "kept") & pl.col("field").is_null()
        return self.decided.filter(clash)["item"]
