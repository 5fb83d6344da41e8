"""Columns: which heading of a sheet stands for which field of live. Nothing is guessed."""

from __future__ import annotations

import re
from collections import defaultdict
from collections.abc import Collection, Mapping, Sequence

import msgspec

from neat_delta.core.base.model.catalogue import listed
from neat_delta.core.base.model.columns import ColumnMapping, ColumnMatch
from neat_delta.core.base.model.store import Field
from neat_delta.core.base.support.errors import CatalogueError
from neat_delta.core.base.support.nearest import did_you_mean, nearest

__all__ = ["match_columns"]


def match_columns(
    headings: Sequence[str],
    fields: Sequence[str],
    *,
    field_settings: Mapping[str, Field] | None = None,
    mapping: ColumnMapping | None = None,
    saved: ColumnMapping | None = None,
    only: Collection[str] = (),
    key: Collection[str] = (),
    path: str = "the sheet",
    places: Sequence[int] = (),
) -> list[ColumnMatch]:
    """Pair a sheet's headings with live's fields, in the sheet's order.

    First what `mapping` says, and what was `saved` for such a sheet; then the field of the same name; then of the same
    name but for case, spaces, underscores and hyphens; then the fields whose `field_settings` list the heading. With
    `only`, no other fields are taken but the key's. CatalogueError (naming `path`) when a name in `mapping` is none,
    or two headings stand for one field. A saved heading that this sheet lacks means nothing. `places` are the headings'
    columns in the file.

    >>> [(one.heading, one.field, one.how) for one in match_columns(["SKU", "Trade"], ["sku", "cost"])]
    [('SKU', 'sku', 'same but for case and marks'), ('Trade', None, 'unmatched')]
    """
    mapping, saved = mapping or ColumnMapping(), saved or ColumnMapping()
    settings = {name: field for name, field in (field_settings or {}).items() if name in set(fields)}
    _must_be_known([*mapping.headings], headings, path, "‹map›")
    _must_be_known([*mapping.headings.values(), *saved.headings.values()], fields, "live", "‹map›")
    _must_be_known(mapping.ignore, [*headings, *fields], path, "‹ignore›")
    _must_be_known(only, fields, "live", "‹only›")
    by_name = {field.heading: name for name, field in settings.items() if field.heading is not None}
    by_name |= {name: name for name in fields}
    by_fold, by_other = _by_fold(by_name), {other: name for name, field in settings.items() for other in field.also}
    by_other_fold = _by_fold(by_other)

    def find(heading: str) -> ColumnMatch:
        field, how = None, "unmatched"
        if heading in mapping.headings or heading in saved.headings:
            field, how = mapping.headings.get(heading) or saved.headings[heading], "told"
        elif heading in mapping.ignore or heading in saved.ignore:
            return ColumnMatch(heading, None, "ignored", heading if heading in fields else None)
        elif heading in by_name:
            field, how = by_name[heading], "same name"
        elif len(by_fold[_folded(heading)]) == 1:
            field, how = min(by_fold[_folded(heading)]), "same but for case and marks"
        elif heading in by_other:
            field, how = by_other[heading], "in the store file"
        elif len(by_other_fold[_folded(heading)]) == 1:
            field, how = min(by_other_fold[_folded(heading)]), "in the store file"
        if field is None:
            return ColumnMatch(heading, None, "unmatched", nearest(heading, fields))
        if field in mapping.ignore:
            return ColumnMatch(heading, None, "ignored", field)
        if only and field not in only and field not in key:
            return ColumnMatch(heading, None, "not asked for", field)
        return ColumnMatch(heading, field, how)  # type: ignore[arg-type]

    columns = places or range(1, len(headings) + 1)
    pairs = [
        msgspec.structs.replace(find(heading), column=column) for heading, column in zip(headings, columns, strict=True)
    ]
    taken: dict[str, str] = {}
    for match in pairs:
        if match.field is not None and match.field in taken:
            raise CatalogueError(
                f'{path}: the headings "{taken[match.field]}" and "{match.heading}" both stand for the field '
                f'"{match.field}". Leave one of them out with ‹ignore›, or say what it is with ‹map›.'
            )
        if match.field is not None:
            taken[match.field] = match.heading
    return pairs


def _folded(heading: str) -> str:
    return re.sub(r"[\s_\-]+", "", heading.casefold())


def _by_fold(names: Mapping[str, str]) -> defaultdict[str, set[str]]:
    by_fold: defaultdict[str, set[str]] = defaultdict(set)
    for heading, field in names.items():
        by_fold[_folded(heading)].add(field)
    return by_fold


def _must_be_known(names: Collection[str], known: Sequence[str], where: str, option: str) -> None:
    for name in names:
        if name not in known:
            hint = did_you_mean(name, known, f"It has: {listed(known)}.")
            raise CatalogueError(f'{option} names "{name}", and there is no such heading in {where}.{hint}')
