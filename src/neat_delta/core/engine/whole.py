"""The whole run in memory: two catalogues in, change set out. The stages, one after the other."""

from __future__ import annotations

import dataclasses
from collections.abc import Iterable
from dataclasses import dataclass, replace
from functools import cache, partial
from typing import TYPE_CHECKING

import msgspec
import polars as pl

from neat_delta.core.checks import check_changes, value_findings
from neat_delta.core.decide.consequences import settle
from neat_delta.core.decide.decide import accepted, decide, with_decisions
from neat_delta.core.decide.policy import levels_of, standing_exceptions
from neat_delta.core.detect import Detected, DetectInputs, detect
from neat_delta.core.detect.damage import damaged
from neat_delta.core.detect.slips import forms
from neat_delta.core.diff.clashes import against_live, whole_round
from neat_delta.core.diff.equality import sheet_writing
from neat_delta.core.diff.outcomes import Outcomes, outcomes
from neat_delta.core.diff.texts import differing_texts
from neat_delta.core.engine.assemble import Stages, assemble, with_flags
from neat_delta.core.engine.made import problem_findings
from neat_delta.core.engine.options import CompareOptions
from neat_delta.core.engine.rows import Placed, place_rows
from neat_delta.core.infer.learn import known_store
from neat_delta.core.kinds.number import NUMBER_KINDS
from neat_delta.core.match.base import (
    Based,
    align_base,
    base_rows,
    followed_codes,
    key_rows,
    restated,
    with_codes_followed,
    without_followed,
)
from neat_delta.core.match.keys import KeyIndex, stripped
from neat_delta.core.match.prepare import AlignedInputs, align_inputs
from neat_delta.core.model.catalogue import Catalogue, listed
from neat_delta.core.model.changeset import LikelyCode
from neat_delta.core.model.layout import Notation
from neat_delta.core.model.reasons import LEFT_STORE, STALE
from neat_delta.core.model.schemas import TEXTS, empty
from neat_delta.core.model.store import Field, Store
from neat_delta.core.support.background import submit
from neat_delta.core.support.errors import CatalogueError
from neat_delta.core.support.nearest import did_you_mean

if TYPE_CHECKING:
    from neat_delta.core.decide.policy import Policy
    from neat_delta.core.match.rows import Matched
    from neat_delta.core.model.accept import Accept
    from neat_delta.core.model.changeset import ChangeSet
    from neat_delta.core.model.provenance import Provenance

__all__ = ["compare", "recode"]

DEFAULTS = CompareOptions()


def recode(
    live: Catalogue, codes: Catalogue, *, store: Store | None = None, options: CompareOptions = DEFAULTS
) -> ChangeSet:
    """The change set of a list of code changes: the key, and beside it the new code (`NEW_CODE`, or what is for it).

    Every row of the list is accounted for; items that it does not name are the same, but for links that follow a code.
    What cannot be is held with the reason: a code that another item has and keeps, or that two would get. Otherwise as
    `compare`.

    >>> from neat_delta import as_catalogue
    >>> live = as_catalogue({"sku": ["QA-1", "QA-2"], "price": ["9.90", "20.00"]}, "live")
    >>> codes = as_catalogue({"sku": ["QA-1"], "new code": ["QA-9"]}, "codes")
    >>> [item.cells for item in recode(live, codes).iter_items()]
    [{'sku': ('QA-1', 'QA-9')}]
    """
    return _run(live, codes, store, options, None, None, listed_codes=True)


def compare(
    live: Catalogue,
    sheet: Catalogue,
    *,
    store: Store | None = None,
    options: CompareOptions = DEFAULTS,
    codes: Catalogue | None = None,
    base: Catalogue | None = None,
) -> ChangeSet:
    """What the sheet changes in live, keyed by item.

    `store` says what is known of the store; without it, the fields' kinds are learned from a sample of live. `options`
    are what is said besides: which columns, what is let through, how the sheet writes values.
    `base` is the older export that the sheet was cut from, where the store has moved on since: then only what the
    sheet changed is a change, and what both changed clashes. A sheet that remembers its values is its own base.
    An item that live lacks is `new`, one that a whole sheet lacks (`options.whole`) is `gone`; a cell that is emptied,
    damaged, touched by a slip, unreadable or stopped by a check is in the change set, and held where the policy does
    not let it through. The text after is the value as the store writes it. With a mapping that was kept
    (`options.columns.saved`) the sheet is a list in a language of its own: what is one value there is no change. The
    codes that items get stand in the sheet beside the old ones, or in a list (`codes`); with a list, an item is looked
    for in the sheet under its new code, too. Raises CatalogueError when the two cannot be compared.

    >>> from neat_delta import as_catalogue
    >>> live = as_catalogue({"sku": ["QA-1", "QA-2"], "price": ["9.90", "20.00"]}, "live")
    >>> sheet = as_catalogue({"sku": ["QA-2", "QA-1"], "price": ["20.00", "10.50"]}, "sheet")
    >>> [(item.key, item.cells) for item in compare(live, sheet).iter_items()]
    [({'sku': 'QA-1'}, {'price': ('9.90', '10.50')})]
    """
    return _run(live, sheet, store, options, codes, base, listed_codes=False)


def _run(
    live: Catalogue,
    sheet: Catalogue,
    store: Store | None,
    options: CompareOptions,
    codes: Catalogue | None,
    base: Catalogue | None,
    *,
    listed_codes: bool,
) -> ChangeSet:
    aligned = align_inputs(live, sheet, store=store, columns=options.columns, listed_codes=listed_codes)
    policy = options.policy
    remembered, stale = False, _is_stale(sheet, live) and not listed_codes
    if base is None and stale and sheet.memory is not None and _remembers_values(sheet.memory, aligned):
        base, remembered = sheet.memory, True
    if base is not None and sheet.provenance is not None:
        raise CatalogueError(
            f"{sheet.path}: a list with a mapping, and rules, are held against live alone. Leave ‹base› out."
        )
    if base is not None:
        sides = _three_sides(aligned, base, codes, options)
    else:
        rows = place_rows(aligned, codes, policy, listed_codes=listed_codes)
        sides = _Sides(aligned, rows, differing_texts(aligned.live, rows.sheet, rows.matched))
    aligned, rows = sides.aligned, sides.rows
    origin, texts = sides.as_base, _with_computed(sides.texts, sides.matched, sheet.provenance)
    shop = sides.shop or _known(aligned, texts, rows.matched, options)
    fields = {name: shop.fields.get(name, Field()) for name in rows.matched.fields}
    outcomes_of = partial(
        outcomes, sheet=rows.sheet, shop=shop, fields=fields, writing=options.writing, learned=store is None,
        of_a_list=aligned.of_a_list,
    )  # fmt: skip
    of_texts = outcomes_of(texts, live=origin.live)
    deltas, detected = _detected(origin, replace(rows, matched=sides.matched), texts, of_texts, fields, shop)
    findings, merged = detected.findings, None
    if sheet.provenance is not None:
        findings = pl.concat([findings, problem_findings(sheet.provenance, rows.matched, aligned.live.cells.height)])
    if sides.based is not None:
        merged = against_live(
            deltas, findings, sides.based, rows.matched, aligned.live, rows.sheet, fields, shop.writing,
            partial(outcomes_of, live=aligned.live), sides.changed_by_store,
            adding=_adding(policy) if aligned.key.shared != "all" else (), whole=options.whole,
        )  # fmt: skip
        deltas, findings = merged.deltas, merged.findings
    elif stale:
        findings = pl.concat([findings, whole_round("stale", STALE)])
    decided = decide(findings, partial(_provisional, aligned, rows), policy)
    draft = assemble(
        Stages(
            aligned, rows, of_texts, deltas, detected, decided, shop, options, listed_codes, sides.based, merged,
            sides.followed, remembered, _cut_with(sides, sheet, remembered=remembered),
        )
    )  # fmt: skip
    levels, exceptions = levels_of(shop, learned=store is None), standing_exceptions(shop, options.today)
    index = cache(lambda: KeyIndex.of(draft.changes.keys, aligned.key))
    judged = partial(decide, index=index, policy=policy, exceptions=exceptions)
    value, so_far = judged(value_findings(draft.cells, levels)), pl.concat([draft.decided, judged(draft.findings)])
    of_cells = pl.concat([so_far.filter(pl.col("field").is_not_null()), value])  # the checks look at cells
    changes = with_decisions(draft.changes, of_cells)
    checked = judged(
        check_changes(
            changes,
            aligned.live,
            shop,
            levels,
            value,
            images=options.images,
            new_values=policy.new_values,
            guessed=sheet.guessed,
        )
    )
    # An item that is gone from the store is no new one, so that there is nothing to check.
    left = (changes.items["held"] == LEFT_STORE).fill_null(value=False).arg_true().cast(pl.Int64)
    checked = checked.filter(~pl.col("item").is_in(left.implode()).fill_null(value=False)) if left.len() else checked
    decided = pl.concat([so_far, checked])
    idle = [one for one in policy.accept if not accepted(decided, index, [one]).any()]
    _must_name(idle, aligned)
    header = msgspec.structs.replace(changes.header, idle_accepts=idle)
    return settle(with_flags(replace(changes, header=header), checked), decided, aligned.live)


def _with_computed(texts: pl.DataFrame, matched: Matched, made: Provenance | None) -> pl.DataFrame:
    """The texts that differ, and whether each was computed, where some were."""
    if made is None or not made.computed:
        return texts
    place = matched.pairs["sheet"].gather(texts["pair"])
    place = place.zip_with(place.is_not_null(), matched.new.gather(texts["new"]).cast(place.dtype))
    computed = pl.repeat(False, texts.height, eager=True)
    for name, rows in made.computed.items():
        at = (texts["field"] == name).arg_true()
        computed = computed.scatter(at, rows.gather(place.gather(at)))
    return texts.with_columns(computed=computed)


@dataclass(frozen=True, slots=True)
class _Sides:
    """The inputs, their rows, and the `texts` that the sheet changed; with a base, the sheet's rows in it, what is
    known of the store, the texts in which it and live differ, the code changes that the store made since, and the base
    as it came (`own_base`).
    """

    aligned: AlignedInputs
    rows: Placed
    texts: pl.DataFrame
    based: Based | None = None
    shop: Store | None = None
    changed_by_store: pl.DataFrame = dataclasses.field(default_factory=partial(empty, TEXTS))
    followed: list[LikelyCode] = dataclasses.field(default_factory=list)
    own_base: Catalogue | None = None

    @property
    def as_base(self) -> AlignedInputs:
        """The inputs with the base in live's place: what is the sheet's own change is seen against it."""
        return self.aligned if self.based is None else replace(self.aligned, live=self.based.base)

    @property
    def matched(self) -> Matched:
        """The sheet's rows in live, or in the base."""
        return self.rows.matched if self.based is None else self.based.matched


def _is_stale(sheet: Catalogue, live: Catalogue) -> bool:
    """Whether the sheet says that it was cut from another export than live."""
    return sheet.origin is not None and sheet.origin.blake3 != live.digest()


def _remembers_values(memory: Catalogue, aligned: AlignedInputs) -> bool:
    """Whether a working sheet remembers more than which items it was cut with."""
    return len(memory.fields) > len(aligned.key.fields)


def _three_sides(aligned: AlignedInputs, base: Catalogue, codes: Catalogue | None, options: CompareOptions) -> _Sides:
    """The three inputs side by side, under live's names, codes and writing."""
    base = align_base(base, aligned, options.columns)
    by_key = key_rows(base, aligned.live, aligned.key)
    followed = followed_codes(base, aligned, codes, by_key)
    if followed:
        base = with_codes_followed(base, followed, aligned.key)
        aligned = replace(aligned, sheet=with_codes_followed(aligned.sheet, followed, aligned.key))
        codes = None if codes is None else without_followed(codes, followed, aligned)
        by_key = key_rows(base, aligned.live, aligned.key)
    rows = place_rows(aligned, codes, options.policy, listed_codes=False)
    based = base_rows(base, aligned.live, rows.sheet, rows.matched, aligned.key, by_key)
    by_store = differing_texts(base, aligned.live, based.store)
    ours = differing_texts(based.base, rows.sheet, based.matched)
    shop = _known(aligned, pl.concat([ours, by_store]), rows.matched, options)
    fields = {name: shop.fields.get(name, Field()) for name in rows.matched.fields}
    seems = sheet_writing(by_store.select("field", after="before"), fields, shop.writing, Notation())
    if seems != shop.writing:
        base = replace(base, cells=restated(base.cells, fields, seems, shop.writing))
        based = base_rows(base, aligned.live, rows.sheet, rows.matched, aligned.key, by_key)
        by_store = differing_texts(base, aligned.live, based.store)
        ours = differing_texts(based.base, rows.sheet, based.matched)
    return _Sides(aligned, rows, ours, based, shop, by_store, followed, base)


def _cut_with(sides: _Sides, sheet: Catalogue, *, remembered: bool) -> Catalogue | None:
    """The items that a working sheet was cut with, if it says so."""
    if sheet.memory is None:
        return None
    return sides.own_base if remembered else align_base(sheet.memory, sides.aligned)


def _known(aligned: AlignedInputs, texts: pl.DataFrame, matched: Matched, options: CompareOptions) -> Store:
    """What is known of the store: from its file, or at a glance at the fields that differ. CatalogueError when the
    options name a field that live does not have.
    """
    live, store, policy = aligned.live, aligned.store, options.policy
    _must_have(live, policy.clash_in)
    adding = _adding(policy)
    differing = list(dict.fromkeys([*texts["field"].unique(maintain_order=True), *adding]))
    shop = known_store(live, store, matched.key, differing)
    exact = options.columns.exact
    _must_have(live, exact)
    _must_have(live, policy.blanks_in)
    _must_have(live, [name for name in policy.new_values if store is None or name not in store.fields])
    for name in adding:
        if shop.fields.get(name, Field()).kind not in NUMBER_KINDS:
            raise CatalogueError(
                f'{live.path}: "{name}" is no number, so no difference can be added. Say sheet, live or hold of it '
                "with ‹clash›."
            )
    named = {name: msgspec.structs.replace(shop.fields.get(name, Field()), same="text") for name in exact}
    return msgspec.structs.replace(shop, fields=shop.fields | named) if named else shop


def _must_name(accept: Iterable[Accept], aligned: AlignedInputs) -> None:
    """CatalogueError where what is let through is said of something that is neither a field nor an item."""
    fields = [*aligned.live.fields, *(one.field for one in aligned.columns if one.field is not None)]
    named = [one for one in accept if one.which is not None and one.which not in fields]
    if not named:
        return
    tables = [one.cells.select(aligned.key.fields) for one in (aligned.live, aligned.sheet)]
    index = KeyIndex.of(pl.concat(tables), aligned.key)
    for one in named:
        which = str(one.which)
        if index.naming([which]).any():
            continue
        keys = pl.concat([index.keys[name] for name in aligned.key.fields]).unique()
        there = f"The fields are: {listed(aligned.live.fields)}."
        near = did_you_mean(which, fields)
        hint = near or did_you_mean(which, keys if keys.len() <= MOST_KEYS else (), there)
        raise CatalogueError(f'‹accept› {one}: there is neither a field nor an item "{which}".{hint}')


MOST_KEYS = 20_000
"""Among so many keys the nearest is looked for."""


def _adding(policy: Policy) -> list[str]:
    """The fields in which the sheet's difference is added to the store's value."""
    return [name for name, choice in policy.clash_in.items() if choice == "add"]


def _must_have(live: Catalogue, names: Iterable[str]) -> None:
    """CatalogueError when live has no field of one of these names."""
    for name in names:
        if name not in live.fields:
            hint = did_you_mean(name, live.fields, f"It has: {listed(live.fields)}.")
            raise CatalogueError(f'{live.path}: it has no field "{name}".{hint}')


def _detected(
    aligned: AlignedInputs,
    rows: Placed,
    texts: pl.DataFrame,
    of_texts: Outcomes,
    fields: dict[str, Field],
    shop: Store,
) -> tuple[pl.DataFrame, Detected]:
    """The cells that differ in their text, each with its outcome, its damage and the number of its `item`: live's rows,
    and after them the sheet's new ones. And what was detected in them.
    """
    matched, live = rows.matched, aligned.live
    changes = ~of_texts.table["same"]
    if "computed" in of_texts.table.columns:  # nobody typed those
        changes &= ~of_texts.table["computed"]
    changing = of_texts.table.filter(changes).select("field", "before", "after", "raw")
    looking = submit(partial(damaged, changing, fields, shop.writing, live.cells))
    looked = forms(changing, fields, shop.writing)
    damage = pl.repeat(None, of_texts.table.height, dtype=pl.String, eager=True).scatter(changes.arg_true(), looking())
    table = of_texts.table.with_columns(damage=damage, form=changes.cum_sum() - 1)
    deltas = texts.select("pair", "new").hstack(of_texts.distinct.expand(table))
    known_rows = matched.pairs["live"].gather(deltas["pair"]).cast(pl.Int64)
    deltas = deltas.with_columns(
        apart=pl.lit(value=False), item=known_rows.fill_null(deltas["new"].cast(pl.Int64) + live.cells.height)
    )
    columns = {one.field: one.column for one in aligned.columns if one.field is not None}
    inputs = DetectInputs(live, rows.sheet, matched, fields, shop.writing, columns)
    return deltas, detect(deltas, looked, inputs)


def _provisional(aligned: AlignedInputs, rows: Placed) -> KeyIndex:
    """The keys of the items as they are numbered before there is a change set."""
    new = stripped(rows.sheet.cells, aligned.key).gather(rows.matched.new)
    return KeyIndex.of(pl.concat([aligned.live.cells.select(aligned.key.fields), new]), aligned.key)
