"""The whole run in memory: two catalogues in, change set out. The stages, one after the other."""

from __future__ import annotations

from collections.abc import Iterable
from functools import cache, partial
from typing import TYPE_CHECKING

import msgspec
import polars as pl

from neat_delta.core.checks import check_changes, value_findings
from neat_delta.core.decide.consequences import settle
from neat_delta.core.decide.decide import decide, with_decisions
from neat_delta.core.decide.policy import levels_of, standing_exceptions
from neat_delta.core.detect import Detected, DetectInputs, detect
from neat_delta.core.detect.damage import damaged
from neat_delta.core.detect.slips import forms
from neat_delta.core.diff.outcomes import Outcomes, outcomes
from neat_delta.core.diff.texts import differing_texts
from neat_delta.core.engine.assemble import Stages, assemble, with_flags
from neat_delta.core.engine.options import CompareOptions
from neat_delta.core.engine.rows import Placed, place_rows
from neat_delta.core.infer.learn import learn_sample, with_currencies, with_writing
from neat_delta.core.match.keys import KeyIndex, stripped
from neat_delta.core.match.prepare import AlignedInputs, align_inputs
from neat_delta.core.model.catalogue import Catalogue, listed
from neat_delta.core.model.store import Field, Store
from neat_delta.core.support.background import submit
from neat_delta.core.support.errors import CatalogueError
from neat_delta.core.support.nearest import nearest

if TYPE_CHECKING:
    from neat_delta.core.match.rows import Matched
    from neat_delta.core.model.changeset import ChangeSet

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
    return _run(live, codes, store, options, None, listed_codes=True)


def compare(
    live: Catalogue,
    sheet: Catalogue,
    *,
    store: Store | None = None,
    options: CompareOptions = DEFAULTS,
    codes: Catalogue | None = None,
) -> ChangeSet:
    """What the sheet changes in live, keyed by item.

    `store` says what is known of the store; without it, the fields' kinds are learned from a sample of live. `options`
    are what is said besides: which columns, what is let through, how the sheet writes values.
    An item missing in the sheet is `gone`, an item that live lacks is `new`; a cell that is emptied, damaged, touched
    by a slip, unreadable or stopped by a check is in the change set, and held where the policy does not let it through.
    The text after is the value as the store writes it. With a mapping that was kept (`options.columns.saved`) the
    sheet is a list in a language of its own: what is one value there is no change.
    The codes that items get stand in the sheet beside the old ones, or in a list (`codes`); with a list, an item is
    looked for in the sheet under its new code, too.
    Raises CatalogueError when the two cannot be compared.

    >>> from neat_delta import as_catalogue
    >>> live = as_catalogue({"sku": ["QA-1", "QA-2"], "price": ["9.90", "20.00"]}, "live")
    >>> sheet = as_catalogue({"sku": ["QA-2", "QA-1"], "price": ["20.00", "10.50"]}, "sheet")
    >>> [(item.key, item.cells) for item in compare(live, sheet).iter_items()]
    [({'sku': 'QA-1'}, {'price': ('9.90', '10.50')})]
    """
    return _run(live, sheet, store, options, codes, listed_codes=False)


def _run(
    live: Catalogue,
    sheet: Catalogue,
    store: Store | None,
    options: CompareOptions,
    codes: Catalogue | None,
    *,
    listed_codes: bool,
) -> ChangeSet:
    policy = options.policy
    aligned = align_inputs(live, sheet, store=store, columns=options.columns, listed_codes=listed_codes)
    rows = place_rows(aligned, codes, policy, listed_codes=listed_codes)
    texts = differing_texts(aligned.live, rows.sheet, rows.matched)
    shop = _known(aligned, texts, rows.matched, options)
    fields = {name: shop.fields.get(name, Field()) for name in rows.matched.fields}
    of_texts = outcomes(
        texts,
        aligned.live,
        rows.sheet,
        shop,
        fields,
        options.writing,
        learned=store is None,
        of_a_list=aligned.of_a_list,
    )
    deltas, detected = _detected(aligned, rows, texts, of_texts, fields, shop)
    decided = decide(detected.findings, partial(_provisional, aligned, rows), policy)
    draft = assemble(Stages(aligned, rows, of_texts, deltas, detected, decided, shop, options, listed_codes))
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
    return settle(with_flags(changes, checked), pl.concat([so_far, checked]), aligned.live)


def _known(aligned: AlignedInputs, texts: pl.DataFrame, matched: Matched, options: CompareOptions) -> Store:
    """What is known of the store: from its file, or at a glance at the fields that differ. CatalogueError when the
    options name a field that live does not have.
    """
    live, store = aligned.live, aligned.store
    differing = texts["field"].unique(maintain_order=True)
    shop = with_currencies(with_writing(store, live), live) if store else learn_sample(live, matched.key, differing)
    exact = options.columns.exact
    _must_have(live, exact)
    _must_have(live, options.policy.blanks_in)
    named = {name: msgspec.structs.replace(shop.fields.get(name, Field()), same="text") for name in exact}
    return msgspec.structs.replace(shop, fields=shop.fields | named) if named else shop


def _must_have(live: Catalogue, names: Iterable[str]) -> None:
    """CatalogueError when live has no field of one of these names."""
    for name in names:
        if name not in live.fields:
            near = nearest(name, live.fields)
            hint = f'Did you mean "{near}"?' if near else f"It has: {listed(live.fields)}."
            raise CatalogueError(f'{live.path}: it has no field "{name}". {hint}')


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
    changing = of_texts.table.filter(changes).select("field", "before", "after", "raw")
    looking = submit(partial(damaged, changing, fields, shop.writing, live.cells))
    looked = forms(changing, fields, shop.writing)
    damage = pl.repeat(None, of_texts.table.height, dtype=pl.String, eager=True).scatter(changes.arg_true(), looking())
    table = of_texts.table.with_columns(damage=damage, form=changes.cum_sum() - 1)
    deltas = texts.select("pair", "new").hstack(of_texts.distinct.expand(table))
    known_rows = matched.pairs["live"].gather(deltas["pair"]).cast(pl.Int64)
    deltas = deltas.with_columns(item=known_rows.fill_null(deltas["new"].cast(pl.Int64) + live.cells.height))
    columns = {one.field: one.column for one in aligned.columns if one.field is not None}
    inputs = DetectInputs(live, rows.sheet, matched, fields, shop.writing, columns)
    return deltas, detect(deltas, looked, inputs)


def _provisional(aligned: AlignedInputs, rows: Placed) -> KeyIndex:
    """The keys of the items as they are numbered before there is a change set."""
    new = stripped(rows.sheet.cells, aligned.key).gather(rows.matched.new)
    return KeyIndex.of(pl.concat([aligned.live.cells.select(aligned.key.fields), new]), aligned.key)
