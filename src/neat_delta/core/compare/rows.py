"""The rows of a run: live and the sheet matched, near keys taken where the policy says so, rows pasted again left out,
and the code changes that are asked for.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING

import polars as pl

from neat_delta.core.base.model.catalogue import listed
from neat_delta.core.base.model.columns import ColumnOptions
from neat_delta.core.base.model.header import FindingDone, FindingSummary, NearKey, SetAside
from neat_delta.core.base.model.importer import NEW_CODE
from neat_delta.core.base.model.store import Key, Store
from neat_delta.core.base.support.errors import CatalogueError
from neat_delta.core.base.support.nearest import nearest
from neat_delta.core.base.support.series import gathered
from neat_delta.core.compare.decide.rows import keys_taken, pasted_rows
from neat_delta.core.compare.detect.near_keys import near_keys, with_near_keys
from neat_delta.core.compare.detect.slips import missing, pasted_twice
from neat_delta.core.sheets.match.keys import KeyIndex
from neat_delta.core.sheets.match.prepare import AlignedInputs, align_inputs
from neat_delta.core.sheets.match.rows import REPEATS, SAME_ROW, Matched, match_rows
from neat_delta.core.sheets.rekey.moves import UNKNOWN
from neat_delta.core.sheets.rekey.requests import CodeChanges, moves_in_list, moves_in_sheet, with_sheet_codes

if TYPE_CHECKING:
    from neat_delta.core.base.model.catalogue import Catalogue
    from neat_delta.core.compare.decide.policy import Policy

__all__ = ["Placed", "named_within", "place_rows", "row_findings"]


@dataclass(frozen=True, slots=True)
class Placed:
    """The sheet's rows that are compared, where each stands in live, how many were `pasted` again by what becomes of
    them, and the code changes that are asked for.
    """

    sheet: Catalogue
    matched: Matched
    pasted: Mapping[FindingDone, int]
    codes: CodeChanges


def place_rows(aligned: AlignedInputs, codes: Catalogue | None, policy: Policy, *, listed_codes: bool) -> Placed:
    """Every row of both in its place. `codes` is a list of old and new codes; `listed_codes`: the sheet is one.

    CatalogueError when no item can be matched, or the codes cannot be read.
    """
    live, sheet, key, known_as = aligned.live, aligned.sheet, aligned.key, aligned.live
    if listed_codes:
        _must_have_codes(sheet)
    field = (aligned.store or Store()).importer.code_change.field or key.fields[0]
    asked = CodeChanges(field, [], {})
    if codes is not None:
        code_list = align_inputs(live, codes, columns=ColumnOptions(key.fields), listed_codes=True).sheet
        _must_have_codes(code_list)
        if NEW_CODE in sheet.fields:
            raise CatalogueError(f"{codes.path}: {sheet.path} has new codes, too. Say them in one place.")
        known_as, asked = with_sheet_codes(live, sheet, moves_in_list(live, code_list, key, field), key)
    bare = NEW_CODE in sheet.fields
    matched = _matched(known_as, sheet, key, policy, bare=bare)
    if sheet.provenance is not None:
        aside = sorted([*matched.set_aside, *sheet.provenance.set_aside], key=lambda row: (row.file, row.row))
        matched = replace(matched, set_aside=aside, near=_once(sheet.provenance.near, matched.near))
        if sheet.provenance.nearly is not None:
            also = matched.keys["live"].lookup(sheet.provenance.nearly).drop_nulls().cast(pl.UInt32)
            matched = replace(matched, nearly=pl.concat([matched.nearly, also]))
    index = matched.keys["sheet"]
    twice = pasted_twice(sheet, matched.key, _repeated(sheet, matched))
    done = pasted_rows(twice, lambda: index, policy) if twice.len() else pl.Series(dtype=pl.String)
    left_out = twice.filter(done == "repaired")
    if left_out.len():
        sheet, matched = _without_repeats(known_as, sheet, left_out, key, policy, bare=bare)
    if codes is None:
        asked = moves_in_sheet(live, sheet, matched.pairs, key, field)
    return Placed(sheet, _only_listed(sheet, matched) if listed_codes else matched, Counter(done), asked)


def _once(*parts: Sequence[NearKey]) -> list[NearKey]:
    """The near keys of all, one a row: what is said first of a row counts."""
    once = {near.row: near for part in reversed(parts) for near in part}
    return [once[row] for row in sorted(once)]


def _matched(live: Catalogue, sheet: Catalogue, key: Key, policy: Policy, *, bare: bool) -> Matched:
    """The match, with those near keys that are taken: all, or those that a spreadsheet made of a key of live."""
    matched = match_rows(live, sheet, key, bare=bare)
    near = near_keys(matched)
    if not near.height:
        return matched
    taken = keys_taken(near, lambda: matched.keys["sheet"], policy)
    return with_near_keys(matched, live, sheet, near, taken)


def _must_have_codes(codes: Catalogue) -> None:
    if NEW_CODE not in codes.fields:
        raise CatalogueError(
            f'{codes.path}: no heading stands for the new code. Call it "{NEW_CODE}", or say which does with '
            f'‹map› "HEADING={NEW_CODE}".'
        )


def _repeated(sheet: Catalogue, matched: Matched) -> pl.Series:
    """The places in the sheet of the rows that were set aside because their key repeats there."""
    rows = [row.row for row in matched.set_aside if row.file == "sheet" and row.reason == REPEATS]
    return sheet.place(pl.Series(rows, dtype=pl.Int64)) if rows else pl.Series([], dtype=pl.Int64)


def _without_repeats(
    live: Catalogue, sheet: Catalogue, twice: pl.Series, key: Key, policy: Policy, *, bare: bool
) -> tuple[Catalogue, Matched]:
    """The sheet without the rows that were pasted again, and the match without them; they are set aside."""
    kept = pl.int_range(sheet.height, eager=True).is_in(twice.implode()).not_()
    rows = sheet.row(pl.int_range(sheet.height, eager=True))
    again = [
        SetAside("sheet", row, key_of_row, SAME_ROW)
        for row, key_of_row in zip(
            sheet.row(twice), gathered(sheet.select(key.fields), twice).rows(named=True), strict=True
        )
    ]
    rest = replace(sheet, table=sheet.cells.filter(kept), row_numbers=rows.filter(kept))
    matched = _matched(live, rest, key, policy, bare=bare)
    aside = sorted([*matched.set_aside, *again], key=lambda row: (row.file, row.row))
    return rest, replace(matched, set_aside=aside)


def row_findings(live: Catalogue, rows: Placed, *, is_whole: bool) -> list[FindingSummary]:
    """What is to be said of whole rows and of keys; rows can only be missing where the sheet is meant to
    have all of them (`is_whole`), or did not come back with all that it was cut with.
    """
    matched, findings = rows.matched, []
    damages = Counter(
        (near.damage, near.taken, tuple(near.key)) for near in matched.near if near.damage and near.why is None
    )
    for (name, taken, fields), times in damages.items():
        why = "the key is in no other way near, and no other item comes as near"
        findings.append(FindingSummary("damage", name, list(fields), times, why, "repaired" if taken else "held"))
    for pasted, times in rows.pasted.items():
        are, them = ("1 row is", "it") if times == 1 else (f"{times:,} rows are", "them")
        why = f"{are} the same as one before {them} in every cell"
        findings.append(FindingSummary("slip", "rows pasted twice", [], 0, why, pasted))
    findings += _unknown_parts(live, rows)
    lost = missing(live, rows.sheet, matched, matched.fields) if is_whole or rows.sheet.origin else None
    if lost is not None:
        findings.append(FindingSummary("slip", "rows missing", [], 0, lost, "noted"))
    return findings


def _unknown_parts(live: Catalogue, rows: Placed) -> list[FindingSummary]:
    """Where the key has several fields: values of each, such as a location, that no item of live has at all."""
    matched = rows.matched
    if len(matched.key) == 1 or not matched.new.len():
        return []
    findings = []
    theirs, ours = (matched.keys[name].keys for name in ("live", "sheet"))
    for name in matched.key:
        known = theirs[name].unique(maintain_order=True)
        parts = gathered(ours[name], matched.new)
        unknown = parts.filter(~parts.is_in(known.implode())).alias("value").value_counts(sort=True)
        if not unknown.height:
            continue
        lines = []
        for value, times in unknown.sort("count", "value", descending=[True, False]).head(MOST_NAMED).iter_rows():
            near = nearest(value, known.to_list()) if known.len() <= MOST_KNOWN else None
            rows_said = "1 row" if times == 1 else f"{times:,} rows"
            lines.append(f'"{value}" in {rows_said}' + (f' (the nearest is "{near}")' if near else ""))
        more = f", and {unknown.height - MOST_NAMED:,} others" if unknown.height > MOST_NAMED else ""
        if known.len() <= MOST_NAMED and not all("nearest" in line for line in lines):
            more += f"; live has {listed(known.to_list())}"
        total = int(unknown["count"].sum())
        findings.append(FindingSummary("key", "unknown", [name], total, ", ".join(lines) + more, "noted"))
    return findings


MOST_NAMED, MOST_KNOWN = 5, 20_000
"""So many unknown values are named; among so many known ones the nearest is looked for."""


def named_within(live: Catalogue, sheet: Catalogue, places: pl.Series, within: Sequence[str], key: Key) -> pl.Series:
    """Those of live's places whose values in the fields `within` a row of the sheet has; where a row with them was set
    aside, nobody knows all that the sheet has, so they are left out. CatalogueError when a field is none of the key.
    """
    for name in within:
        if name not in key.fields:
            what = f'The mapping\'s whole_within names "{name}", which is no field of the key'
            raise CatalogueError(f"{what}; the key is {listed(key.fields)}.")
    part = Key(list(within), ignore_case=key.ignore_case)
    index = KeyIndex.of(gathered(live.select(part.fields), places), part)
    named = KeyIndex.of(sheet, part).lookup(index.keys).is_not_null()
    aside = sheet.provenance.set_aside if sheet.provenance else ()
    doubtful = [
        tuple(row.key[name] for name in within) for row in aside if {*within} <= {*row.key} and row.reason != SAME_ROW
    ]
    if doubtful:
        rows = pl.DataFrame(doubtful, schema=dict.fromkeys(part.fields, pl.String), orient="row")
        named &= KeyIndex.of(rows, part).lookup(index.keys).is_null()
    return places.filter(named)


def _only_listed(sheet: Catalogue, matched: Matched) -> Matched:
    """The match where the sheet is nothing but a list of codes: a row of which live has no item is set aside."""
    rows = sheet.row(matched.new)
    keys = gathered(sheet.select(matched.key), matched.new).rows(named=True)
    aside = [SetAside("sheet", row, key, UNKNOWN) for row, key in zip(rows, keys, strict=True)]
    aside = sorted([*matched.set_aside, *aside], key=lambda row: (row.file, row.row))
    return replace(matched, new=matched.new.clear(), set_aside=aside)
