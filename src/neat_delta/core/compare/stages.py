"""The stages of comparing but the one that assembles: each takes a round and gives it with what it adds."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import replace
from functools import cache, partial
from typing import TYPE_CHECKING

import msgspec
import polars as pl

from neat_delta.core.base.infer.learn import known_store
from neat_delta.core.base.kinds import blank
from neat_delta.core.base.kinds.number import NUMBER_KINDS
from neat_delta.core.base.kinds.rewriting import in_notation
from neat_delta.core.base.model.catalogue import listed
from neat_delta.core.base.model.layout import Notation
from neat_delta.core.base.model.reasons import EMPTIED, LEFT_STORE, STALE
from neat_delta.core.base.model.results import message_heading
from neat_delta.core.base.model.schemas import CELL_FINDINGS, conform, empty
from neat_delta.core.base.model.store import Field, Store
from neat_delta.core.base.support.background import submit
from neat_delta.core.base.support.errors import CatalogueError
from neat_delta.core.base.support.nearest import did_you_mean
from neat_delta.core.base.support.series import constant, filtered, gathered, not_null, scattered, true_places
from neat_delta.core.compare.assemble.summaries import with_flags
from neat_delta.core.compare.checks import check_changes, value_findings
from neat_delta.core.compare.decide.consequences import settle
from neat_delta.core.compare.decide.decide import accepted, with_decisions
from neat_delta.core.compare.decide.decide import decide as decide_findings
from neat_delta.core.compare.decide.policy import levels_of, standing_exceptions
from neat_delta.core.compare.detect import DetectInputs
from neat_delta.core.compare.detect import detect as detect_in
from neat_delta.core.compare.detect.damage import damaged
from neat_delta.core.compare.detect.slips import forms, with_twins
from neat_delta.core.compare.diff.clashes import ThreeSides, against_live, whole_round
from neat_delta.core.compare.diff.equality import sheet_writing
from neat_delta.core.compare.diff.outcomes import Outcomes, outcomes
from neat_delta.core.compare.diff.texts import differing_texts
from neat_delta.core.compare.made import problem_findings
from neat_delta.core.compare.rows import place_rows
from neat_delta.core.sheets.match.base import (
    align_base,
    base_rows,
    followed_codes,
    key_rows,
    with_codes_followed,
    without_followed,
)
from neat_delta.core.sheets.match.keys import KeyIndex, stripped
from neat_delta.core.sheets.match.prepare import align_inputs

if TYPE_CHECKING:
    from neat_delta.core.base.model.accept import Accept
    from neat_delta.core.base.model.catalogue import Catalogue
    from neat_delta.core.base.model.provenance import Provenance
    from neat_delta.core.compare.decide.policy import Policy
    from neat_delta.core.compare.round import Round
    from neat_delta.core.sheets.match.prepare import AlignedInputs
    from neat_delta.core.sheets.match.rows import Matched

__all__ = ["check", "decide", "detect", "diff", "judge", "match", "merge", "prepare"]


def prepare(round_: Round) -> Round:
    """Both inputs side by side, under the names of live's fields; and the base, if the sheet remembers it."""
    sheet = round_.sheet
    aligned = align_inputs(
        round_.live, sheet, store=round_.store, columns=round_.options.columns, listed_codes=round_.listed_codes
    )
    _must_remember(round_)
    base, remembered, stale = round_.base, False, _is_stale(sheet, round_.live) and not round_.listed_codes
    if base is None and stale and sheet.memory is not None and _remembers_values(sheet.memory, aligned):
        base, remembered = sheet.memory, True
    if base is not None and sheet.provenance is not None:
        raise CatalogueError(
            f"{sheet.path}: a list with a mapping, and rules, are held against live alone. Leave ‹base› out."
        )
    return replace(round_, aligned=aligned, base=base, remembered=remembered, stale=stale)


def _must_remember(round_: Round) -> None:
    """CatalogueError for a sheet to be mended that has lost what it was cut with: cells in it that somebody changed
    since would be changed back.
    """
    sheet, heading = round_.sheet, message_heading(round_.live.fields)
    if heading in sheet.fields and round_.base is None and sheet.memory is None and sheet.provenance is None:
        raise CatalogueError(
            f'{sheet.path}: it has "{heading}", as a sheet that `confirm` wrote to be mended, and what it was cut with '
            "is not beside it, so that others' work would be reverted. Say with ‹base› where the .base file is that "
            "came with it, or compare the workbook itself; without that column it is a sheet like any other."
        )


def _is_stale(sheet: Catalogue, live: Catalogue) -> bool:
    """Whether the sheet says that it was cut from another export than live."""
    return sheet.origin is not None and sheet.origin.blake3 != live.digest()


def _remembers_values(memory: Catalogue, aligned: AlignedInputs) -> bool:
    """Whether a working sheet remembers more than which items it was cut with."""
    return len(memory.fields) > len(aligned.key.fields)


def match(round_: Round) -> Round:
    """Every row of the inputs in its place; with a base, under the codes that the store has given items since."""
    aligned, codes, policy = round_.aligned, round_.codes, round_.options.policy
    if round_.base is None:
        return replace(round_, rows=place_rows(aligned, codes, policy, listed_codes=round_.listed_codes))
    base = align_base(round_.base, aligned, round_.options.columns)
    by_key = key_rows(base, aligned.live, aligned.key)
    followed = followed_codes(base, aligned, codes, by_key)
    if followed:
        base = with_codes_followed(base, followed, aligned.key)
        aligned = replace(aligned, sheet=with_codes_followed(aligned.sheet, followed, aligned.key))
        codes = None if codes is None else without_followed(codes, followed, aligned)
        by_key = key_rows(base, aligned.live, aligned.key)
    rows = place_rows(aligned, codes, policy, listed_codes=False)
    based = base_rows(base, aligned.live, rows.sheet, rows.matched, aligned.key, by_key)
    return replace(round_, aligned=aligned, rows=rows, based=based, followed=followed, own_base=base)


def diff(round_: Round) -> Round:
    """The texts that the sheet changed, those that the store did since the base, and what their kinds say of each."""
    aligned, rows = round_.aligned, round_.rows
    if round_.based is None:
        texts = differing_texts(aligned.live, rows.sheet, rows.matched)
    else:
        round_ = _by_both(round_)
        texts = round_.texts
    texts = _with_computed(texts, round_.matched, round_.sheet.provenance)
    shop = round_.known or _known(aligned, texts, rows.matched, round_)
    fields = {name: shop.fields.get(name, Field()) for name in rows.matched.fields}
    round_ = replace(round_, texts=texts, known=shop, fields=fields)
    return replace(round_, outcomes=_outcomes(round_, texts, live=round_.seen_from.live))


def _by_both(round_: Round) -> Round:
    """The texts that each side changed since the base, once that is written as live is."""
    aligned, rows, based, base = round_.aligned, round_.rows, round_.based, round_.own_base
    assert based is not None and base is not None
    by_store = differing_texts(base, aligned.live, based.store)
    ours = differing_texts(based.base, rows.sheet, based.matched)
    shop = _known(aligned, pl.concat([ours, by_store]), rows.matched, round_)
    fields = {name: shop.fields.get(name, Field()) for name in rows.matched.fields}
    seems = sheet_writing(by_store.select("field", after="before"), fields, shop.writing, Notation())
    if seems != shop.writing:
        base = replace(base, table=in_notation(base.cells, fields, seems, shop.writing))
        by_key = key_rows(base, aligned.live, aligned.key)
        based = base_rows(base, aligned.live, rows.sheet, rows.matched, aligned.key, by_key)
        by_store = differing_texts(base, aligned.live, based.store)
        ours = differing_texts(based.base, rows.sheet, based.matched)
    return replace(round_, based=based, own_base=base, texts=ours, by_store=by_store, known=shop)


def _outcomes(round_: Round, texts: pl.DataFrame, live: Catalogue) -> Outcomes:
    """What the kinds say of texts that differ from those of this catalogue."""
    return outcomes(
        texts,
        live=live,
        sheet=round_.rows.sheet,
        shop=round_.known,
        fields=dict(round_.fields),
        writing=round_.options.writing,
        learned=round_.store is None,
        of_a_list=round_.aligned.of_a_list,
    )


def _with_computed(texts: pl.DataFrame, matched: Matched, provenance: Provenance | None) -> pl.DataFrame:
    """The texts that differ, and whether each was computed, where some were."""
    if provenance is None or not provenance.computed:
        return texts
    place = gathered(matched.pairs["sheet"], texts["pair"])
    place = place.zip_with(not_null(place), gathered(matched.new, texts["new"]).cast(place.dtype))
    computed = constant(False, texts.height)
    for name, rows in provenance.computed.items():
        at = true_places(texts["field"] == name)
        computed = scattered(computed, at, gathered(rows, gathered(place, at)))
    return texts.with_columns(computed=computed)


def _known(aligned: AlignedInputs, texts: pl.DataFrame, matched: Matched, round_: Round) -> Store:
    """What is known of the store: from its file, or at a glance at the fields that differ. CatalogueError when the
    options name a field that live does not have.
    """
    options = round_.options
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


def detect(round_: Round) -> Round:
    """Each cell that differs in its text with its outcome, its damage and the number of its `item` (live's rows, and
    after them the sheet's new ones); and what was found in them: damage, slips, what could not be worked out.
    """
    aligned, matched, fields, shop = round_.seen_from, round_.matched, dict(round_.fields), round_.known
    live, sheet, table = aligned.live, round_.rows.sheet, round_.outcomes.table
    changes = ~table["same"]
    if "computed" in table.columns:  # nobody typed those
        changes &= ~table["computed"]
    changing = filtered(table, changes)[["field", "before", "after", "raw"]]
    looking = submit(partial(damaged, changing, fields, shop.writing, live.table), changing.height)
    looked = forms(changing, fields, shop.writing)
    damage = scattered(constant(None, table.height, pl.String), true_places(changes), looking())
    table = table.hstack([damage.alias("damage"), (changes.cum_sum() - 1).alias("form")])
    outcomes_of_cells = with_twins(table.drop("field", "before"), round_.outcomes.distinct.expand)
    deltas = round_.texts[["pair", "new", "field", "before"]].hstack(outcomes_of_cells)
    places = gathered(matched.pairs["live"], deltas["pair"]).cast(pl.Int64)
    item = places.zip_with(not_null(places), deltas["new"].cast(pl.Int64) + live.height)
    deltas = deltas.hstack([constant(False, deltas.height).alias("apart"), item.alias("item")])
    columns = {match.field: match.column for match in aligned.columns if match.field is not None}
    detected = detect_in(deltas, looked, DetectInputs(live, sheet, matched, fields, shop.writing, columns))
    findings = [detected.findings]
    if round_.sheet.provenance is not None:
        height = round_.aligned.live.height
        findings.append(problem_findings(round_.sheet.provenance, round_.rows.matched, height))
    return replace(round_, deltas=deltas, detected=detected, findings=pl.concat(findings))


def merge(round_: Round) -> Round:
    """With a base, the cells that differ from it as changes of live, and findings of clashes; without, a stale sheet is
    a finding.
    """
    based, rows, policy = round_.based, round_.rows, round_.options.policy
    if based is None:
        more = [whole_round("stale", STALE)] if round_.stale else []
        return replace(round_, findings=pl.concat([round_.findings, *more])) if more else round_
    live, writing = round_.aligned.live, round_.known.writing
    outcomes_of = partial(_outcomes, round_, live=live)
    merged = against_live(
        round_.deltas,
        round_.findings,
        ThreeSides(based, live, rows.sheet, rows.matched, round_.fields, writing, outcomes_of),
        round_.by_store,
        adding=_adding(policy) if round_.aligned.key.shared != "all" else (),
        is_whole=round_.options.whole_sheet,
    )
    return replace(round_, merged=merged, deltas=merged.deltas, findings=merged.findings)


def judge(round_: Round) -> Round:
    """What becomes of what was found in cells and rows, of which the change set is assembled then."""
    findings = pl.concat([round_.findings, _emptied(round_)])
    decided = decide_findings(findings, partial(_provisional, round_), round_.options.policy)
    return replace(round_, findings=findings, decided=decided)


def _emptied(round_: Round) -> pl.DataFrame:
    """The cells that are emptied (`CELL_FINDINGS`). A blank in the sheet may mean "as it is"; the importer's word for
    it does not, and nor does a list of which both sides took the rest. What a rule empties is meant.
    """
    deltas = round_.deltas.with_row_index("cell")
    emptied = deltas.filter(~pl.col("same") & pl.col("before").is_not_null() & blank(pl.col("after")))
    if "computed" in deltas.columns:
        emptied = emptied.filter(~pl.col("computed"))
    if not emptied.height:
        return empty(CELL_FINDINGS)
    left_blank, word = emptied["raw"].str.strip_chars() == "", round_.known.importer.empties
    if word is not None:  # which was read as a blank
        place = gathered(round_.rows.matched.pairs["sheet"], emptied["pair"])
        left_blank &= round_.rows.sheet.texts(emptied["field"], place).str.strip_chars() != word
    finding_columns = {"source": EMPTIED, "rule": EMPTIED, "level": "stop", "reason": EMPTIED}
    columns = [pl.lit(text).alias(name) for name, text in finding_columns.items()]
    return conform(emptied.with_columns(*columns, mendable=left_blank), CELL_FINDINGS)


def check(round_: Round) -> Round:
    """What the checks find in what would be sent, as far as is decided now."""
    draft, shop, options = round_.draft, round_.known, round_.options
    levels = levels_of(shop, learned=round_.store is None)
    value = value_findings(draft.cells, levels)
    decided = pl.concat([draft.decided, _judged(round_, pl.concat([value, draft.findings]), _index(round_))])
    changes = with_decisions(draft.changes, filtered(decided, not_null(decided["field"])))  # the checks look at cells
    checked = check_changes(
        changes,
        round_.aligned.live,
        shop,
        levels,
        value,
        images=options.images,
        new_values=options.policy.new_values,
        guessed=round_.sheet.guessed,
    )
    return replace(round_, changes=changes, decided=decided, checked=checked)


def decide(round_: Round) -> Round:
    """What is held of all that was found, with what follows from that."""
    changes, policy, index = round_.changes, round_.options.policy, _index(round_)
    checked = _judged(round_, round_.checked, index)
    # An item that is gone from the store is no new one, so that there is nothing to check.
    left = true_places((changes.items["held"] == LEFT_STORE).fill_null(value=False)).cast(pl.Int64)
    checked = checked.filter(~pl.col("item").is_in(left.implode()).fill_null(value=False)) if left.len() else checked
    # What kinds say is among what the checks found.
    so_far = filtered(round_.decided, round_.decided["source"] != "check")
    decided = pl.concat([so_far, checked])
    idle = [acceptance for acceptance in policy.accept if not accepted(decided, index, [acceptance]).any()]
    _must_name(idle, round_.aligned)
    header = msgspec.structs.replace(changes.header, idle_accepts=idle)
    changes = with_flags(replace(changes, header=header), checked)
    return replace(round_, decided=decided, changes=settle(changes, decided, round_.aligned.live))


def _must_name(accept: Iterable[Accept], aligned: AlignedInputs) -> None:
    """CatalogueError where what is let through is said of something that is neither a field nor an item."""
    fields = [*aligned.live.fields, *(match.field for match in aligned.columns if match.field is not None)]
    named = [acceptance for acceptance in accept if acceptance.which is not None and acceptance.which not in fields]
    if not named:
        return
    tables = [catalogue.select(aligned.key.fields) for catalogue in (aligned.live, aligned.sheet)]
    index = KeyIndex.of(pl.concat(tables), aligned.key)
    for acceptance in named:
        which = str(acceptance.which)
        if index.naming([which]).any():
            continue
        keys = pl.concat([index.keys[name] for name in aligned.key.fields]).unique()
        fields_listed = f"The fields are: {listed(aligned.live.fields)}."
        near = did_you_mean(which, fields)
        hint = near or did_you_mean(which, keys if keys.len() <= MOST_KEYS else (), fields_listed)
        raise CatalogueError(f'‹accept› {acceptance}: there is neither a field nor an item "{which}".{hint}')


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


def _judged(round_: Round, findings: pl.DataFrame, index: Callable[[], KeyIndex]) -> pl.DataFrame:
    """What becomes of findings of the change set's items."""
    exceptions = standing_exceptions(round_.known, round_.options.today)
    return decide_findings(findings, index, round_.options.policy, exceptions)


def _index(round_: Round) -> Callable[[], KeyIndex]:
    """The keys of the change set's items, made where somebody asks for them."""
    return cache(lambda: KeyIndex.of(round_.draft.changes.keys, round_.aligned.key))


def _provisional(round_: Round) -> KeyIndex:
    """The keys of the items as they are numbered before there is a change set."""
    aligned, rows = round_.aligned, round_.rows
    new = gathered(stripped(rows.sheet, aligned.key), rows.matched.new)
    return KeyIndex.of(pl.concat([aligned.live.select(aligned.key.fields), new]), aligned.key)
