"""Headings: which heading of a sheet means which field of live, and which are plain in themselves. Nothing is
guessed.
"""

from __future__ import annotations

import re
from collections import defaultdict
from collections.abc import Collection, Mapping, Sequence
from typing import Literal

import msgspec

from neat_delta.core.catalogue import listed
from neat_delta.core.errors import CatalogueError
from neat_delta.core.nearest import nearest
from neat_delta.core.store import Field

__all__ = ["NAME_HEADINGS", "SKU_HEADINGS", "How", "Pair", "Pairing", "pair", "plain_heading"]

SKU_HEADINGS = (
    "sku",
    "skucode",
    "skunumber",
    "productsku",
    "itemsku",
    "variantsku",
    "itemnumber",
    "itemno",
    "itemcode",
    "articlenumber",
    "articleno",
    "artno",
    "productcode",
    "productnumber",
    "stockcode",
)
"""Headings that plainly mean the code an item is known by, without case, spaces and marks; the plainest first."""

NAME_HEADINGS = ("name", "productname", "itemname", "title", "producttitle", "itemtitle")
"""Headings under which a person knows an item, likewise."""

How = Literal[
    "told", "same name", "same but for case and marks", "in the store file", "ignored", "not asked for", "unmatched"
]


class Pairing(msgspec.Struct, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """What a person says of a sheet's headings: the field that each stands for, and those to ignore.

    One that is kept for the next such sheet also says which fields are its key.
    """

    headings: dict[str, str] = {}
    ignore: list[str] = []
    key: list[str] = []


class Pair(msgspec.Struct, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """A heading of the sheet, the field it stands for (None where it is left out), and why.

    `nearest` is the field whose name comes nearest to an unmatched heading: a suggestion for a person, used for
    nothing; or the one that a heading would stand for that was left out as somebody said. `column` is where it stands
    in the file, from 1.
    """

    heading: str
    field: str | None
    how: How
    nearest: str | None = None
    column: int = 0


def plain_heading(fields: Sequence[str], wanted: Sequence[str]) -> str | None:
    """The field whose heading, without case, spaces and marks, is the first of `wanted` that any field has."""
    plain = {"".join(c for c in name.casefold() if c.isalnum()): name for name in reversed(fields)}
    return next((plain[heading] for heading in wanted if heading in plain), None)


def pair(
    headings: Sequence[str],
    fields: Sequence[str],
    *,
    known: Mapping[str, Field] | None = None,
    told: Pairing | None = None,
    saved: Pairing | None = None,
    only: Collection[str] = (),
    key: Collection[str] = (),
    path: str = "the sheet",
    places: Sequence[int] = (),
) -> list[Pair]:
    """Pair a sheet's headings with live's fields, in the sheet's order.

    First what was `told`, and what was `saved` for such a sheet; then the field of the same name; then of the same
    name but for case, spaces, underscores and hyphens; then the fields that `known` lists the heading for. With
    `only`, no other fields are taken but the key's. CatalogueError (naming `path`) when a name that was told is none,
    or two headings stand for one field. A saved heading that this sheet lacks means nothing. `places` are the headings'
    columns in the file.
    """
    told, saved = told or Pairing(), saved or Pairing()
    settings = {name: field for name, field in (known or {}).items() if name in set(fields)}
    _must_be_known([*told.headings], headings, path, "--map")
    _must_be_known([*told.headings.values(), *saved.headings.values()], fields, "live", "--map")
    _must_be_known(told.ignore, [*headings, *fields], path, "--ignore")
    _must_be_known(only, fields, "live", "--only")
    by_name = {field.heading: name for name, field in settings.items() if field.heading is not None}
    by_name |= {name: name for name in fields}
    by_fold, by_other = _by_fold(by_name), {other: name for name, field in settings.items() for other in field.also}
    by_other_fold = _by_fold(by_other)

    def find(heading: str) -> Pair:
        field, how = None, "unmatched"
        if heading in told.headings or heading in saved.headings:
            field, how = told.headings.get(heading) or saved.headings[heading], "told"
        elif heading in told.ignore or heading in saved.ignore:
            return Pair(heading, None, "ignored", heading if heading in fields else None)
        elif heading in by_name:
            field, how = by_name[heading], "same name"
        elif len(by_fold[_folded(heading)]) == 1:
            field, how = min(by_fold[_folded(heading)]), "same but for case and marks"
        elif heading in by_other:
            field, how = by_other[heading], "in the store file"
        elif len(by_other_fold[_folded(heading)]) == 1:
            field, how = min(by_other_fold[_folded(heading)]), "in the store file"
        if field is None:
            return Pair(heading, None, "unmatched", nearest(heading, fields))
        if field in told.ignore:
            return Pair(heading, None, "ignored", field)
        if only and field not in only and field not in key:
            return Pair(heading, None, "not asked for", field)
        return Pair(heading, field, how)  # type: ignore[arg-type]

    columns = places or range(1, len(headings) + 1)
    pairs = [
        msgspec.structs.replace(find(heading), column=column) for heading, column in zip(headings, columns, strict=True)
    ]
    taken: dict[str, str] = {}
    for one in pairs:
        if one.field is not None and one.field in taken:
            raise CatalogueError(
                f'{path}: the headings "{taken[one.field]}" and "{one.heading}" both stand for the field '
                f'"{one.field}". Leave one of them out with --ignore, or say what it is with --map.'
            )
        if one.field is not None:
            taken[one.field] = one.heading
    return pairs


def _folded(heading: str) -> str:
    return re.sub(r"[\s_\-]+", "", heading.casefold())


def _by_fold(names: Mapping[str, str]) -> defaultdict[str, set[str]]:
    found: defaultdict[str, set[str]] = defaultdict(set)
    for heading, field in names.items():
        found[_folded(heading)].add(field)
    return found


def _must_be_known(names: Collection[str], known: Sequence[str], where: str, option: str) -> None:
    for name in names:
        if name not in known:
            near = nearest(name, known)
            hint = f'Did you mean "{near}"?' if near else f"It has: {listed(known)}."
            raise CatalogueError(f'{option} names "{name}", and there is no such heading in {where}. {hint}')
