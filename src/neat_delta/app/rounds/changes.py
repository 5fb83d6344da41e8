"""The change set of a round: of its one sheet, or of all of them together."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import TYPE_CHECKING

import msgspec
import polars as pl

from neat_delta.app.compare import compare
from neat_delta.app.edit import edit
from neat_delta.app.inputs import as_compare, read_inputs, translated
from neat_delta.app.requests import CompareRequest, EditRequest
from neat_delta.app.rounds.file import RoundFile, RoundSheet
from neat_delta.app.settings import settings_of
from neat_delta.core.compare.combine import Part, combine
from neat_delta.core.sheets.match.prepare import with_unseen
from neat_delta.files.changeset import as_live
from neat_delta.files.ledger.folder import RoundFolder
from neat_delta.files.whole import digest_of, write_whole

if TYPE_CHECKING:
    from neat_delta.app.changes import Changes
    from neat_delta.app.rounds.sources import RoundInputs
    from neat_delta.core.base.model.catalogue import Catalogue
    from neat_delta.core.base.model.store import Store

__all__ = ["COMBINED", "changes_of_round"]

COMBINED = "combined.csv"
"""The file in a round's folder that has what all of its sheets change, as one sheet."""


def changes_of_round(
    file: RoundFile, folder: RoundFolder, inputs: RoundInputs, store: Store | None, today: str | None
) -> Changes:
    """What the sheets of a round change in live. Of several each is compared by itself, as its own sort of file; then
    what all of them say is checked together.
    """
    parts = [
        _part(file, sheet, inputs, number, store, today)
        for number, sheet in enumerate(file.sheets)
    ]  # fmt: skip
    if len(parts) == 1:
        return parts[0][0]
    unseen = dict.fromkeys(name for changes, _ in parts for name in changes.header.unseen)
    live = with_unseen(as_live(inputs.live, parts[0][0].header, "the round"), list(unseen))
    named = [Part(sheet.name, changes, stated) for sheet, (changes, stated) in zip(file.sheets, parts, strict=True)]
    combined = combine(live, named, file.at.overlap)
    content = combined.cells.write_csv().encode()
    write_whole(folder.place(COMBINED), [content])
    layouts = [part.layout for part in inputs.sheets if part is not None]
    sheet = replace(
        combined, path=COMBINED, digest=lambda: digest_of(content), layout=layouts[0] if layouts else combined.layout
    )
    codes = _codes(file) if all(part_of.at.file is None for part_of in file.sheets) else None  # else it has them
    return compare(
        inputs.live,
        sheet,
        store=store,
        codes=codes,
        request=_together(file, [part for part, _ in parts]),
        today=today,
    )


def _part(
    file: RoundFile, sheet: RoundSheet, inputs: RoundInputs, number: int, store: Store | None, today: str | None
) -> tuple[Changes, pl.DataFrame | None]:
    """What one sheet changes by itself; and of a list, among others, what it says of each item."""
    rules = None if sheet.at.rules is None else file.place(sheet.at.rules)
    catalogue, base = inputs.sheets[number], inputs.bases[number]
    if catalogue is None:
        request = _as_edit(sheet.asked, file.compare)
        return edit(inputs.live, rules, store=store, request=request, today=today), None
    assert isinstance(sheet.asked, CompareRequest)
    asked = sheet.asked.over(file.compare)
    mapping = None if sheet.at.mapping is None else file.place(sheet.at.mapping)
    listed = mapping is not None or rules is not None or bool(asked.match_by or asked.constant or asked.prefer)
    if listed and len(file.sheets) > 1:
        read = read_inputs(inputs.live, catalogue, asked, store=store, mapping=mapping, of_a_list=rules is not None)
        of_list = translated(read, rules).sheet
        once = msgspec.structs.replace(read.asked, match_by=(), constant={}, prefer=None, let={})
        changes = compare(inputs.live, of_list, store=store, base=base, codes=_codes(file), request=once, today=today)
        return changes, _stated(of_list)
    changes = compare(
        inputs.live, catalogue, store=store, base=base, codes=_codes(file), mapping=mapping, rules=rules, request=asked,
        today=today,
    )  # fmt: skip
    return changes, None


def _stated(sheet: Catalogue) -> pl.DataFrame:
    """What a list says of its items by itself, without what was worked out from it."""
    computed = sheet.provenance.computed if sheet.provenance else {}
    kept = [
        sheet.column(name).set(computed[name], "") if name in computed else sheet.column(name)
        for name in sheet.cells.columns
    ]
    return pl.DataFrame(kept)


def _as_edit(asked: CompareRequest | EditRequest, every: CompareRequest) -> EditRequest:
    """What is asked of rules on live, over what is said for the whole round."""
    assert isinstance(asked, EditRequest)
    shared = settings_of(EditRequest).keys() & settings_of(CompareRequest).keys()
    return asked.over(EditRequest(**{name: getattr(every, name) for name in shared}))


def _together(file: RoundFile, parts: Sequence[Changes]) -> CompareRequest:
    """What is asked where all sheets are looked at together: what was let through in one of them is let through, and
    what was held in one of them is held by the combined sheet itself.
    """
    asked = [_as_compare(sheet.asked).over(file.compare) for sheet in file.sheets]
    accepted = {each for request in asked for each in request.accept} | {
        each for part in parts for each in part.header.accepted
    }
    new_values = {name for part in parts for name in part.header.new_values}
    return CompareRequest(
        key=tuple(parts[0].header.key) if any(request.key for request in asked) else (),
        accept=tuple(sorted((each for each in accepted if each.check not in {"list", "rule"}), key=str)),
        blanks={"": "clear"},
        with_new=True,
        with_new_values=tuple(sorted(new_values)),
        exact=tuple(dict.fromkeys(name for request in asked for name in request.exact)),
        add_field=tuple(dict.fromkeys(name for request in asked for name in request.add_field)),
        images=next((request.images for request in asked if request.images), None),
    )


def _as_compare(asked: CompareRequest | EditRequest) -> CompareRequest:
    return asked if isinstance(asked, CompareRequest) else as_compare(asked)


def _codes(file: RoundFile) -> str | None:
    return None if file.at.codes is None else file.place(file.at.codes)
