"""What a change set says of its inputs and of how they were compared."""

from __future__ import annotations

from collections import Counter
from dataclasses import replace
from typing import TYPE_CHECKING

import msgspec

from neat_delta.core.base.model.header import FORMAT, VERSION, Counts, Header
from neat_delta.core.base.model.store import Field, KeptRounds, Store
from neat_delta.core.compare.assemble.cells import Changed
from neat_delta.core.sheets.match.likely import likely_codes

if TYPE_CHECKING:
    from neat_delta.core.base.model.catalogue import Source
    from neat_delta.core.base.model.rules import RuleText
    from neat_delta.core.compare.round import Round
    from neat_delta.core.sheets.match.base import Based

__all__ = ["NOTHING", "header_of"]


def header_of(round_: Round, fields: list[str], changed: Changed, rules: list[RuleText]) -> Header:
    """What the change set says of its inputs and of how they were compared; what it holds is counted later."""
    aligned, rows, shop, policy = round_.aligned, round_.rows, round_.known, round_.options.policy
    live, matched, key, provenance, based = aligned.live, rows.matched, aligned.key, rows.sheet.provenance, round_.based
    in_sheet, merged = set(rows.sheet.fields), round_.merged
    truly_new = matched if based is None else replace(matched, new=based.matched.new)
    return Header(
        format=FORMAT,
        version=VERSION,
        store=_store_as_compared(round_),
        fields=fields,
        live=live.source,
        sheet=aligned.sheet.source,
        counts=NOTHING,
        pairs=aligned.columns,
        headings=aligned.headings,
        untouched=[name for name in live.fields if name not in in_sheet and name not in live.unseen],
        rewritten=changed.rewritten,
        sheet_writing=round_.outcomes.writing,
        learned=aligned.store is None,
        near=matched.near,
        set_aside=matched.set_aside,
        accepted=list(policy.accept),
        likely=likely_codes(live, rows.sheet, truly_new, shop.fields, key.name, rows.codes.field),
        new_values=sorted(policy.new_values),
        base=_source_of_base(based) if based else None,
        remembered=round_.remembered,
        two_way=based.two_way if based else [],
        meanwhile=dict(Counter(merged.meanwhile["field"].drop_nulls())) if merged else {},
        followed=list(round_.followed),
        rules=rules,
        matched_by=list(provenance.matched_by) if provenance else [],
        unseen=[name for name in live.unseen if name in fields],
    )


def _store_as_compared(round_: Round) -> Store:
    """What is known of the store, under the names of live's fields, of which those are left out that are plain text."""
    shop, aligned = round_.known, round_.aligned
    fields = {name: shop.fields[name] for name in aligned.live.fields if shop.fields.get(name, Field()) != Field()}
    key = msgspec.structs.replace(aligned.key, fields=round_.rows.matched.key)
    return msgspec.structs.replace(shop, key=key, fields=fields, ledger=KeptRounds())


def _source_of_base(based: Based) -> Source:
    """The base as it was read: what it lacks of live was added since."""
    return msgspec.structs.replace(based.base.source, rows=based.own_rows)


NOTHING = Counts(**dict.fromkeys((count.name for count in msgspec.structs.fields(Counts) if count.required), 0))
"""The counts of a change set that has nothing."""
